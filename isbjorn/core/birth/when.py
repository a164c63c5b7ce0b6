"""Birth moments. N(t) is the integral of the rate; birth k happens when N passes k, plus its own jitter."""

from __future__ import annotations

import functools
import math
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from numba import njit, types

from isbjorn.core.document import Emitter
from isbjorn.core.life.draws import SLOT, draw01

EVEN, JITTERED, RANDOM = 0, 1, 2
CADENCE = {"even": EVEN, "jittered": JITTERED, "random": RANDOM}
Doubles = npt.NDArray[np.float64]


@njit("f8[:](u8, i8, i8, i8)", cache=True)
def _slots(key: np.uint64, first: int, count: int, cadence: int) -> Doubles:
    """Where births first … first+count-1 fall on the axis of N, ascending for even and jittered cadence."""
    out = np.empty(count, np.float64)
    for i in range(count):
        out[i] = first + i
        if cadence == JITTERED:
            out[i] += draw01(key, first + i, SLOT)
    return out


@njit(types.float64[:](types.uint64, types.int64), cache=True)
def _poisson_arrivals(key: np.uint64, count: int) -> Doubles:
    """Arrivals of a Poisson process of unit rate: running sums of exponential gaps."""
    out = np.empty(count, np.float64)
    total = 0.0
    for i in range(count):
        total += -math.log(1.0 - draw01(key, i, SLOT))
        out[i] = total
    return out


@functools.lru_cache(maxsize=16)
def _poisson(key: int, count: int) -> Doubles:
    return _poisson_arrivals(np.uint64(key), count)


@dataclass(frozen=True)
class Births:
    """The births of one emitter: a pure function of its document and stream key.

    begin_s: shot time of the first possible birth. end_s: none from then on. rate: births per second.
    """

    key: int
    begin_s: float
    end_s: float
    rate: float
    cadence: int

    def expected(self, t: float) -> float:
        """N(t): how many births the rate asks for up to shot time t."""
        return self.rate * max(0.0, min(t, self.end_s) - self.begin_s)

    def between(self, after: float, until: float) -> tuple[int, Doubles]:
        """Births in (after, until], as the first birth number and the moments in shot seconds, ascending.

        The very first moment of the emitter belongs to its births.
        """
        last_n, first_n = self.expected(until), self.expected(after)
        if self.rate <= 0 or until < self.begin_s or after >= self.end_s:
            return 0, np.empty(0)
        if self.cadence == RANDOM:
            count = 1 << max(8, math.ceil(math.log2(last_n + 8 * math.sqrt(last_n + 1) + 16)))
            slots, first = _poisson(self.key, count), 0
        else:
            first = max(0, math.floor(first_n) - 1)
            slots = _slots(np.uint64(self.key), first, math.floor(last_n) + 2 - first, self.cadence)
        moments = self.begin_s + slots / self.rate
        inside = (moments <= until) & (moments < self.end_s) & ((moments > after) | (after < self.begin_s))
        low = int(np.argmax(inside)) if inside.any() else 0
        return first + low, moments[inside]


def births_of(emitter: Emitter, key: int) -> Births:
    """The births of an emitter whose stream key is `key`."""
    return Births(
        key=key,
        begin_s=emitter.start_s - emitter.pre_roll_s,
        end_s=math.inf if emitter.end_s is None else emitter.end_s,
        rate=emitter.rate.value,
        cadence=CADENCE[emitter.cadence],
    )
