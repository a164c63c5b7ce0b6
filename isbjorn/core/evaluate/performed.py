"""Performances: values of controls by lattice step, straight between two. One that is played now grows; one that was is a file.

A file is text: a first line `# isbjorn take, N steps a second`, a second with the names of its lanes, then one line for each step
from second 0 on, with a value in [0, 1] for each lane.
"""

from __future__ import annotations

import io
import math
import re
import threading
import warnings
from collections.abc import Sequence
from pathlib import Path
from weakref import WeakValueDictionary

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Control, Take
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.external_files import path_of
from isbjorn.core.runtime.memory import Cache

# As near to a step, in steps, a moment is that step: what is rounded never reads what comes after.
_AT_A_STEP = 1e-4
MOST_LANES, LONGEST_S, MOST_VALUES = 32, 7200.0, 1 << 24
_LARGEST_FILE, _FASTEST = 1 << 28, 1000
_HEAD = re.compile(r"# isbjorn take, ([0-9]{1,4}) steps a second")


class Performance:
    """Values of some controls from second 0 on. It grows by a step at a time; any thread may read it meanwhile.

    hz: lattice steps a second. lanes: the names of the controls. until_s: how far it may be played at most, if it is played now.
    comes_round_s: keys and swings come round after so long while it is played.
    """

    def __init__(
        self, hz: int, lanes: Sequence[str], until_s: float | None = None, comes_round_s: float | None = None
    ) -> None:
        self.hz, self.lanes = hz, tuple(lanes)
        self.until_s, self.comes_round_s = until_s, comes_round_s
        self.count = 0
        self._values = np.zeros((len(self.lanes), 1024))
        self._rows = {name: row for row, name in enumerate(self.lanes)}

    @property
    def live(self) -> bool:
        """Whether it is played now, and grows."""
        return self.until_s is not None

    @property
    def end_s(self) -> float:
        """The moment of its last step."""
        return (self.count - 1) / self.hz

    @property
    def values(self) -> Doubles:
        """All values so far, (lanes, steps)."""
        return self._values[:, : self.count]

    @property
    def nbytes(self) -> int:
        return self._values.nbytes

    def append(self, values: npt.ArrayLike) -> None:
        """The values of all lanes at the next step."""
        self.extend(np.reshape(np.asarray(values, np.float64), (-1, 1)))

    def extend(self, values: Doubles) -> None:
        """The values of all lanes at many steps, (lanes, steps)."""
        held = self._values
        while self.count + values.shape[1] > held.shape[1]:
            held = np.concatenate([held, np.zeros_like(held)], axis=1)
        held[:, self.count : self.count + values.shape[1]] = np.clip(values, 0, 1)
        self._values = held
        self.count += values.shape[1]

    def knows(self, lane: str) -> bool:
        """Whether there is such a lane."""
        return lane in self._rows

    def read(self, lane: str, seconds: npt.ArrayLike) -> Doubles:
        """A lane's values at own seconds (n,), straight between two steps; level before the first and after the last."""
        values, count = self._values[self._rows[lane]], self.count
        at = np.atleast_1d(np.asarray(seconds, np.float64)) * self.hz
        near = np.round(at)
        at = np.clip(np.where(np.abs(at - near) < _AT_A_STEP, near, at), 0, max(0, count - 1))
        step = np.minimum(at.astype(np.int64), max(0, count - 2))
        first = values[step]
        share = at - step
        # The step itself is that very number, whether or not the next is known.
        return np.where(share == 0, first, first + (values[np.minimum(step + 1, max(0, count - 1))] - first) * share)

    def text(self) -> str:
        """The performance as a file; reading it back gives the same numbers."""
        out = io.StringIO()
        out.write(f"# isbjorn take, {self.hz} steps a second\n{','.join(self.lanes)}\n")
        for column in self.values.T.tolist():
            out.write(",".join(map(repr, column)) + "\n")
        return out.getvalue()


_played: WeakValueDictionary[str, Performance] = WeakValueDictionary()
_kept: Cache[Performance] = Cache("heard", 0.3, what="Takes", depends_on="the take's digest")
_lock = threading.Lock()


def play(digest: str, performance: Performance) -> None:
    """Let takes with this digest be a performance that is being played, as long as the performance is in use."""
    with _lock:
        _played[digest] = performance


def performance_of(take: Take) -> Performance:
    """The lanes that a take plays. Raises IsbjornError where its file is missing or invalid."""
    with _lock:
        found = _played.get(take.digest)
    if found is not None:
        return found
    known = _kept.peek(take.digest)
    return known if known is not None else _kept.add(take.digest, read_take(path_of(take.media, take.digest)))


def read_take(path: Path) -> Performance:
    """The performance in a file. Raises IsbjornError, which says what is wrong with it."""
    remedy = "Select a take file that Isbjorn wrote."
    if path.stat().st_size > _LARGEST_FILE:
        raise IsbjornError("this file is too large for a take.", path.name, remedy)
    with path.open(encoding="utf-8", errors="replace") as file:
        head = _HEAD.fullmatch(file.readline(200).rstrip("\r\n"))
        lanes = file.readline(8192).rstrip("\r\n").split(",")
        if head is None or not 1 <= int(head[1]) <= _FASTEST:
            raise IsbjornError("this is not a take: its first line is different.", path.name, remedy)
        if not 1 <= len(lanes) <= MOST_LANES or len(set(lanes)) < len(lanes):
            raise IsbjornError(f"a take has 1 to {MOST_LANES} lanes with different names.", path.name, remedy)
        most = min(int(LONGEST_S * int(head[1])) + 1, MOST_VALUES // len(lanes))
        try:
            with warnings.catch_warnings():
                # A take without lines is reported below.
                warnings.simplefilter("ignore", UserWarning)
                values = np.loadtxt(file, delimiter=",", ndmin=2, comments=None, max_rows=most + 1)
        except ValueError as error:
            raise IsbjornError(f"a line of this take is wrong: {str(error)[:120]}.", path.name, remedy) from None
    hz = int(head[1])
    if values.shape[0] == 0 or values.shape[1] != len(lanes) or values.shape[0] > most:
        raise IsbjornError(
            f"each line must hold one value per lane, and a take of {len(lanes)} lanes has at most {most:,} lines.",
            path.name,
            remedy,
        )
    if not np.isfinite(values).all() or values.min() < 0 or values.max() > 1:
        raise IsbjornError("the values of a take must be between 0 and 1.", path.name, remedy)
    made = Performance(hz, lanes)
    made.extend(values.T)
    return made


class Played:
    """A control's lane of a take, in shot time."""

    def __init__(self, take: Take, lane: str, performance: Performance) -> None:
        self.take, self.lane, self.performance = take, lane, performance
        last = math.inf if performance.live else performance.end_s
        self.span = (take.from_s, last if take.to_s is None else min(last, take.to_s))

    def over(self, t: Doubles, own: Doubles) -> Doubles:
        """The lane at moments t (n,) of shot time; outside it, the control's own values, (n,)."""
        seconds = t - self.take.at_s
        inside = (seconds >= self.span[0] - 1e-9) & (seconds <= self.span[1] + 1e-9)
        return np.where(inside, self.performance.read(self.lane, seconds), own)


def lanes_of(takes: Sequence[Take], controls: Sequence[Control]) -> dict[int, Played]:
    """The lanes that controls play, by the identity of their `value`. Raises IsbjornError for a take without its file."""
    found: dict[int, Played] = {}
    known = {take.id: take for take in takes}
    for control in controls:
        take = known.get(control.take or "")
        if take is None:
            continue
        performance = performance_of(take)
        lane = control.lane or control.id
        if performance.knows(lane):
            found[id(control.value)] = Played(take, lane, performance)
    return found
