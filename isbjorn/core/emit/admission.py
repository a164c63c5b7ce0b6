"""The limit of particles alive: of an emitter, and its fair share of the shot's."""

from __future__ import annotations

import heapq
import math
import threading

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles, Longs
from isbjorn.core.emit.births import Births
from isbjorn.core.emit.newborn import BirthSource
from isbjorn.core.errors import Stale
from isbjorn.core.jit import njit

_CHUNK_S = 600.0


def most_alive(births: Births, source: BirthSource, until: float) -> float:
    """An upper bound on how many are alive at once, without a limit, up to shot time `until`."""
    return births.at_most(source.longest_life, until)


def fair_shares(demands: list[float], limits: list[int], total: int) -> list[int]:
    """Divide a shot's limit: small demands are met in full, the rest share evenly what is left (max-min fairness)."""
    wanted = [min(d, m) for d, m in zip(demands, limits, strict=True)]
    shares, left = [0] * len(wanted), total
    for done, i in enumerate(sorted(range(len(wanted)), key=lambda i: wanted[i])):
        shares[i] = int(min(math.ceil(min(wanted[i], 1e15)), left // (len(wanted) - done)))
        left -= shares[i]
    return shares


@njit("b1[:](f8[:], f4[:], f8[:], i8[:], i8)", cache=True)
def _admit(
    moments: Doubles, lives: npt.NDArray[np.float32], ends: Doubles, size: Longs, limit: int
) -> npt.NDArray[np.bool_]:
    """Let births in while fewer than `limit` are alive. `ends` is a heap of deaths of `size[0]` entries, kept between calls."""
    heap = [x for x in ends[: size[0]]]
    heap.append(np.inf)
    heapq.heapify(heap)
    admitted = np.zeros(len(moments), np.bool_)
    for i in range(len(moments)):
        while heap[0] <= moments[i]:
            heapq.heappop(heap)
        if len(heap) - 1 < limit:
            admitted[i] = True
            heapq.heappush(heap, moments[i] + lives[i])
    size[0] = 0
    skipped = False
    for x in heap:
        if x == np.inf and not skipped:
            skipped = True
            continue
        ends[size[0]] = x
        size[0] += 1
    return admitted


class Admission:
    """The births of an emitter that are admitted, computed from its beginning and cached."""

    def __init__(self, births: Births, source: BirthSource, limit: int, binds: bool) -> None:
        self.births, self.source, self.limit, self.binds = births, source, limit, binds
        self._covered, self._lock = -math.inf, threading.RLock()
        self._ends, self._size = np.empty(limit + 1), np.zeros(1, np.int64)
        self._parts: list[tuple[Longs, Doubles, npt.NDArray[np.float32]]] = []
        self._asked: list[tuple[float, int]] = []
        # Births that were refused in sections that are forgotten.
        self._gone = 0
        # Some hundred thousand births at once.
        busy = births.per_second(max(births.begin_s, -1e6), max(births.begin_s, -1e6) + 10.0) if binds else 0.0
        self._chunk_s = min(_CHUNK_S, max(0.02, 4e5 * births.each / max(busy, 1.0)))

    def between(
        self, after: float, until: float, stale: object = None, living: bool = True
    ) -> tuple[Longs, Doubles, npt.NDArray[np.float32]]:
        """Admitted births in (after, until]: numbers, moments in s, lifespans in s. living: only those that live beyond `until`."""
        if living:
            after = max(after, until - self.source.longest_life - 1e-3)
        if self.binds:
            with self._lock:
                self._cover(until, stale)
                known = list(self._parts)
            low, high = after + self.births.now_s, until + self.births.now_s
            parts = [p for p in known if len(p[1]) and p[1][-1] > low and p[1][0] <= high]
            if not parts:
                return np.empty(0, np.int64), np.empty(0), np.empty(0, np.float32)
            numbers, moments, lives = (np.concatenate([p[c] for p in parts]) for c in range(3))
            inside = (moments > low) & (moments <= high)
        else:
            numbers, moments = self.births.between(after, until)
            lives = self.source.lifespans(numbers, moments)
            inside = np.ones(len(moments), bool)
        if living:
            inside &= moments + lives > until
        return numbers[inside], moments[inside], lives[inside]

    def refused(self, until: float) -> int:
        """How many births found no room up to shot time `until`."""
        if not self.binds:
            return 0
        with self._lock:
            self._cover(until)
        asked = sum(count for _, count in self._asked)
        admitted = sum(len(numbers) for numbers, _, _ in self._parts)
        later = sum(int(np.sum(moments > until + self.births.now_s)) for _, moments, _ in self._parts)
        return max(0, self._gone + asked - admitted - self._later_asked(until) + later)

    def forget(self, before: float) -> None:
        """Forget what is not needed for moments from this shot time on."""
        with self._lock:
            long = self.source.longest_life
            while self._parts and len(self._asked) > 1 and self._asked[0][0] < before - long - 1:
                numbers, _, _ = self._parts.pop(0)
                self._gone += self._asked.pop(0)[1] - len(numbers)

    def _later_asked(self, until: float) -> int:
        return len(self.births.between(until, self._covered)[0]) if self._covered > until else 0

    def _cover(self, until: float, stale: object = None) -> None:
        while self._covered < until:
            if callable(stale) and stale():
                raise Stale
            begin = self.births.begin_s
            if begin == -math.inf:
                # In a loop: long enough before it that no refused birth is missed.
                begin = -2 * (self.births.period_s or 0.0) - self.source.longest_life
            start = max(self._covered, begin - 1.0)
            end = min(until, max(start, begin) + self._chunk_s)
            numbers, moments = self.births.between(start if self._covered > -math.inf else begin - 1.0, end)
            lives = self.source.lifespans(numbers, moments)
            admitted = _admit(moments, lives, self._ends, self._size, self.limit)
            self._parts.append((numbers[admitted], moments[admitted], lives[admitted]))
            self._asked.append((end, len(moments) * self.births.each))
            self._covered = end
