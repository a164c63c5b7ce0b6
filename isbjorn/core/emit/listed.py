"""Births that are all known beforehand, one by one."""

from __future__ import annotations

import functools
import math

import numpy as np

from isbjorn.core.arrays import Doubles, Longs
from isbjorn.core.document import Emitter
from isbjorn.core.emit.births import NOW_S, Births
from isbjorn.core.evaluate.readings import Readings


class ListedBirths(Births):
    """Births with numbers (n,) at moments (n,) in s, which rise. looped: they come round in a loop, else once."""

    def __init__(
        self, emitter: Emitter, key: int, readings: Readings, frame_rate: float, last_s: float, numbers: Longs, moments: Doubles,
        looped: bool,
    ) -> None:  # fmt: skip
        super().__init__(emitter, key, readings, frame_rate, last_s)
        self.numbers, self.at = numbers, moments
        self.each, self.steady = 1, True
        self.bursts, self._burst_moments = (), []
        if not looped:
            self.period_s = None
        if self.period_s is None:
            self.begin_s = float(moments[0]) if len(moments) else 0.0
            self.end_s = float(moments[-1]) + 1e-3 if len(moments) else 0.0

    def thin(self) -> None:
        """They are there already."""

    def begin_of(self, numbers: Longs) -> Doubles:
        return np.full(len(numbers), self.begin_s)

    def expected(self, t: float) -> float:
        if self.period_s is None:
            return float(np.searchsorted(self.at, t, "right"))
        rounds = math.floor(t / self.period_s)
        return rounds * len(self.at) + float(np.searchsorted(self._one_round[1], t - rounds * self.period_s, "right"))

    @functools.cached_property
    def _one_round(self) -> tuple[Longs, Doubles]:
        assert self.period_s is not None
        moments = self.at % self.period_s
        order = np.lexsort((self.numbers, moments))
        return self.numbers[order], moments[order]

    def between(self, after: float, until: float) -> tuple[Longs, Doubles]:
        if self.period_s is not None:
            return super().between(after, until)
        first, last = np.searchsorted(self.at, [after + NOW_S, until + NOW_S], "right")
        if after < self.begin_s:
            first = 0
        some = slice(first, max(first, last))
        return self.numbers[some], self.at[some]

    @property
    def stream_counts(self) -> bool:
        return False

    def at_most(self, window: float, until: float) -> float:
        if self.period_s is not None:
            return super().at_most(window, until)
        before = self.at[: np.searchsorted(self.at, until, "right")]
        if len(before) == 0 or window <= 0:
            return 0.0
        since = np.searchsorted(before, before - window, "left")
        return float((np.arange(1, len(before) + 1) - since).max())

    def about(self, after: float, until: float) -> float:
        return max(0.0, self.expected(until) - self.expected(after))

    def per_second(self, after: float, until: float) -> float:
        return self.about(after, until) / max(until - after, 1e-6)
