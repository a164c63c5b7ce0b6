"""How a page is followed during a drag: whether something is being moved, and how coarse its pictures are meanwhile."""

from __future__ import annotations

import time
from collections import deque

from isbjorn.core.frame import Rough

SLOW_MS, FLOWING_MS = 120.0, 50.0
# While things change without a pause, pictures come coarse where a full one takes longer: so wide that they take about so long.
_COARSE_MS = (18.0, 50.0)
# Shares of the width; the coarsest as if the shutter were closed, and then with fewer particles.
_COARSER: tuple[tuple[float, Rough], ...] = (
    (1 / 5, 2),
    (1 / 5, 1),
    (1 / 5, 0),
    (1 / 4, 0),
    (1 / 3, 0),
    (1 / 2, 0),
    (2 / 3, 0),
)
# Changes within this many seconds are one drag, and the next one is waited for this long.
_FLOWS_S, PAUSE_S = 0.3, 0.15


class Pace:
    """What the last changes and pictures of one viewer were like. full_ms: what the last picture in full took."""

    def __init__(self) -> None:
        self.full_ms = 0.0
        self._changes: deque[float] = deque(maxlen=3)
        self._outrun = False
        self._coarse, self._agreed = _COARSER.index((1 / 3, 0)), 0

    def changed(self) -> None:
        """Something has changed just now."""
        self._changes.append(time.monotonic())
        self._outrun &= self.flowing()

    def outrun(self) -> None:
        """A picture in full was not there before the next change: beside those it takes longer than alone."""
        self._outrun = True

    def flowing(self) -> bool:
        """Whether a hand moves something: changes follow each other without a pause."""
        times = self._changes
        return len(times) == times.maxlen and time.monotonic() - times[0] < len(times) * _FLOWS_S

    def follows_in_full(self) -> bool:
        """Whether pictures in full are quick enough to follow a hand."""
        return self.full_ms <= FLOWING_MS

    def wants_coarse(self) -> bool:
        """Whether a picture in full would come too late to be the first."""
        return self._outrun or not self.follows_in_full() if self.flowing() else self.full_ms > SLOW_MS

    def coarse(self, width: int) -> tuple[int, Rough]:
        """The width of a coarse picture instead of the given px, and what is left out of it."""
        share, rough = _COARSER[self._coarse]
        return max(16, round(width * share)), rough

    def fit(self, ms: float) -> None:
        """Make coarse pictures coarser or finer, if two of them say so."""
        least, most = _COARSE_MS
        step = (ms < least) - (ms > most)
        self._agreed = 0 if step == 0 or step * self._agreed < 0 else self._agreed + step
        if abs(self._agreed) >= 2:
            self._coarse, self._agreed = min(max(self._coarse + step, 0), len(_COARSER) - 1), 0
