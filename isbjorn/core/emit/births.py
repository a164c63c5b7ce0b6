"""Birth moments. N(t) is the integral of the rate; birth k happens when N passes k, plus a jitter of its own.

A rate without drivers is integrated in closed form, any other in a table whose cells do not depend on the query. Bursts have
separate birth numbers, so that a changed rate never disturbs them.
"""

from __future__ import annotations

import functools
import math

import numpy as np
from numba import types

from isbjorn.core.arrays import Doubles, Longs
from isbjorn.core.document import Burst, Emitter, Hearing, Number, Shot
from isbjorn.core.emit.fill import count_of
from isbjorn.core.emit.streams import Driven, Performed, Steady
from isbjorn.core.evaluate.hearing import begins, struck
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.jit import njit
from isbjorn.core.random import BURST, SLOT, draw01, draws01
from isbjorn.core.runtime.memory import Cache

EVEN, JITTERED, RANDOM = 0, 1, 2
CADENCE = {"even": EVEN, "jittered": JITTERED, "random": RANDOM}
_JUST = 1e-9
_BURST_FLAG, _BURST_BITS, _REPEAT_BITS = 1 << 36, 32, 20
_MOST_REPEATS = 1 << (_BURST_BITS - _REPEAT_BITS)
NOW_S = 1e-7
# Of one emitter over a whole shot, that can be looked at one by one: a matter of a second.
MOST_BIRTHS = 20_000_000


@njit("f8[:](u8, i8, i8, i8, i8)", cache=True)
def _slots(key: np.uint64, first: int, count: int, cadence: int, each: int) -> Doubles:
    """Where every `each`th birth from the number first · each on falls on the axis of N; ascending if even or jittered."""
    out = np.empty(count, np.float64)
    for i in range(count):
        number = (first + i) * each
        out[i] = number
        if cadence == JITTERED:
            out[i] += each * draw01(key, number, SLOT)
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


_arrivals: Cache[Doubles] = Cache(
    "arrivals", 0.7, what="Birth moments", depends_on="the emitter's births, and the range of births"
)


def _poisson(key: int, count: int) -> Doubles:
    return _arrivals.get((key, count), lambda: _poisson_arrivals(np.uint64(key), count))


def _moments_of(burst: Burst, readings: Readings) -> Doubles:
    """When bursts begin, in shot time without the emitter's delay, (n,): at even gaps, or at what is struck in a sound."""
    sound = readings.things.get(burst.sound or "")
    if sound is None or not sound.on:
        return (
            np.zeros(0) if burst.sound else np.asarray(burst.at_s + np.arange(burst.times) * burst.every_s, np.float64)
        )
    moments, _ = struck(sound, Hearing(what=burst.on, threshold_db=burst.threshold_db))
    return (moments + begins(sound, readings.plate_s))[:_MOST_REPEATS]


def places_in_line(numbers: Longs) -> Longs:
    """Which of its burst, or of the stream, each birth is, from 0 on; of birth numbers (n,)."""
    return np.where(numbers >= _BURST_FLAG, numbers & ((1 << _REPEAT_BITS) - 1), numbers)


class Births:
    """The births of one emitter: a pure function of its document and stream key.

    begin_s: shot time of the first possible birth. end_s: none from then on. period_s: they come round, in a loop.
    """

    def __init__(
        self, emitter: Emitter, key: int, readings: Readings, frame_rate: float = 25.0, last_s: float = 600.0
    ) -> None:
        self.emitter, self.key, self.cadence = emitter, key, CADENCE[emitter.cadence]
        self.bursts: tuple[Burst, ...] = tuple(
            b if b.fill <= 0 else b.model_copy(update={"count": count_of(emitter, b, readings)}) for b in emitter.bursts
        )
        self.delay = emitter.delay_s
        self._burst_moments = [_moments_of(burst, readings) + self.delay for burst in self.bursts]
        self.start_s = emitter.start_s + emitter.delay_s
        self.end_s = math.inf if emitter.end_s is None else emitter.end_s + emitter.delay_s
        self.period_s = readings.loop_s
        begin = self.start_s - emitter.pre_roll_s
        if self.period_s is not None:
            begin = max(0.0, self.start_s)
        rate: Number = emitter.rate
        self.steady = not rate.timed and emitter.rate_per != "px"
        # Led by what was performed: what comes of it does not depend on what is performed later.
        self.performed = not self.steady and self.period_s is None and readings.led(emitter)
        # A birth so little later than a moment is in it; where nothing later is known, none is.
        self.now_s = 0.0 if self.performed else NOW_S
        self.stream: Steady | Driven
        if self.steady:
            self.stream = Steady(rate.value * (frame_rate if emitter.rate_per == "frame" else 1.0), begin)
        elif self.performed:
            self.stream = Performed(readings, emitter, frame_rate, begin, readings.hz)
        else:
            self.stream = Driven(readings, emitter, frame_rate, begin, max(begin, last_s) + 1.0)
        self.stream_begin = begin
        first_burst = min((float(m[0]) for m in self._burst_moments if len(m)), default=math.inf)
        self.begin_s = -math.inf if self.period_s is not None else min(begin, first_burst)
        self.each, self.last_s = 1, last_s
        if self.cadence == RANDOM or self.period_s is not None:
            # All of these are computed from the first one on.
            self.thin()

    def thin(self) -> None:
        """Consider only every nth birth, where there are more over the whole shot than can be considered one by one.

        To be called before births are asked for, where a limit lets in only a few of them, or where each depends on those before.
        """
        until = self.last_s if self.period_s is None else self.period_s
        total = self.stream.most(min(until, self.end_s)) + sum(
            b.count * len(m) for b, m in zip(self.bursts, self._burst_moments, strict=True)
        )
        most = MOST_BIRTHS if self.cadence != RANDOM else MOST_BIRTHS // 4
        if total > most:
            self.each = max(1, math.ceil(total / most))

    @functools.cached_property
    def per_period(self) -> int:
        """Births of the stream in one round of a loop: the integral, rounded so that the rounds are alike."""
        assert self.period_s is not None
        return round(self.stream.up_to(min(self.period_s, self.end_s)))

    def expected(self, t: float) -> float:
        """N(t): how many births the rate asks for up to shot time t, without bursts."""
        if self.period_s is not None:
            rounds = math.floor(t / self.period_s)
            return rounds * self.per_period + self.stream.up_to(min(t - rounds * self.period_s, self.end_s))
        return self.stream.up_to(min(t, self.end_s))

    def between(self, after: float, until: float) -> tuple[Longs, Doubles]:
        """Births in (after, until]: their numbers and their moments in shot seconds, by moment.

        The first moment of the emitter is included.
        """
        # One tolerance at both ends: a birth at a frame is in it whatever its moment is rounded to, and in one window only.
        after, until = after + self.now_s, until + self.now_s
        if until < self.begin_s or (self.period_s is None and after >= self.end_s):
            return np.empty(0, np.int64), np.empty(0)
        if self.period_s is not None:
            parts = [self._round(number, after, until) for number in self._rounds(after, until)]
        else:
            parts = [self._stream(after, until), self._in_bursts(after, until)]
        parts = [p for p in parts if len(p[0])]
        if len(parts) == 1:
            return parts[0]
        if not parts:
            return np.empty(0, np.int64), np.empty(0)
        numbers, moments = np.concatenate([p[0] for p in parts]), np.concatenate([p[1] for p in parts])
        order = np.lexsort((numbers, moments))
        return numbers[order], moments[order]

    def begin_of(self, numbers: Longs) -> Doubles:
        """The first moment of births, (n,): of the stream, or of the bursts; a loop has none."""
        if self.period_s is not None:
            return np.full(len(numbers), -math.inf)
        return np.where(numbers >= _BURST_FLAG, self.begin_s, self.stream_begin)

    def _stream(self, after: float, until: float) -> tuple[Longs, Doubles]:
        last_n, first_n = self.expected(until), self.expected(after)
        if until < self.stream_begin:
            return np.empty(0, np.int64), np.empty(0)
        last_n, first_n = last_n / self.each, first_n / self.each
        if self.cadence == RANDOM:
            count = 1 << max(8, math.ceil(math.log2(last_n + 8 * math.sqrt(last_n + 1) + 16)))
            arrivals = _poisson(self.key, count)
            first, after_last = (int(i) for i in np.searchsorted(arrivals, [first_n - 1, last_n + 1]))
            slots = arrivals[first:after_last] * self.each
        else:
            first = max(0, math.floor(first_n) - 1)
            slots = _slots(np.uint64(self.key), first, math.floor(last_n) + 2 - first, self.cadence, self.each)
        moments = self.stream.moments(slots, until)
        inside = (
            (moments <= until)
            & (moments < self.end_s - NOW_S)
            & ((moments > after) | (after < self.stream_begin + NOW_S))
        )
        low = int(np.argmax(inside)) if inside.any() else 0
        found = moments[inside]
        return np.arange(first + low, first + low + len(found), dtype=np.int64) * self.each, found

    def _in_bursts(self, after: float, until: float) -> tuple[Longs, Doubles]:
        numbers, moments = [np.empty(0, np.int64)], [np.empty(0)]
        for index, (burst, moments_of) in enumerate(zip(self.bursts, self._burst_moments, strict=True)):
            low = int(np.searchsorted(moments_of, after - burst.over_s - _JUST)) if after > -math.inf else 0
            high = int(np.searchsorted(moments_of, until, "right"))
            for repeat in range(low, high):
                own = (
                    _BURST_FLAG
                    + (index << _BURST_BITS)
                    + (repeat << _REPEAT_BITS)
                    + np.arange(0, burst.count, self.each)
                )
                moment = moments_of[repeat] + burst.over_s * self._shares(own, burst)
                inside = (
                    (moment <= until)
                    & (moment < self.end_s - NOW_S)
                    & ((moment > after) | (after < self.begin_s + NOW_S))
                )
                numbers.append(own[inside])
                moments.append(moment[inside])
        return np.concatenate(numbers), np.concatenate(moments)

    def _shares(self, numbers: Longs, burst: Burst) -> Doubles:
        if burst.over_s == 0:
            return np.zeros(len(numbers))
        if self.cadence == RANDOM:
            return draws01(self.key, numbers, BURST)
        jitter = draws01(self.key, numbers, BURST) if self.cadence == JITTERED else 0.0
        return np.asarray((np.arange(len(numbers)) + jitter) / max(1, len(numbers)))

    # In a loop

    def _rounds(self, after: float, until: float) -> range:
        assert self.period_s is not None
        return range(math.floor(after / self.period_s), math.floor(until / self.period_s) + 1)

    @functools.cached_property
    def _one_round(self) -> tuple[Longs, Doubles]:
        """Numbers and moments of the births of the round from 0, those of bursts that outlast it folded back."""
        assert self.period_s is not None
        total, count = self.stream.up_to(min(self.period_s, self.end_s)), self.per_period
        numbers = np.arange(0, count, self.each, dtype=np.int64)
        if self.cadence == RANDOM:
            slots = draws01(self.key, numbers, SLOT) * count
        elif self.each > 1:
            slots = _slots(np.uint64(self.key), 0, len(numbers), self.cadence, self.each)
        else:
            slots = _slots(np.uint64(self.key), 0, count, self.cadence, 1)
        moments = self.stream.moments(slots * (total / max(count, 1)), self.period_s)
        burst_numbers, burst_moments = self._in_bursts(-math.inf, self.period_s)
        burst_moments = burst_moments % self.period_s
        numbers, moments = np.concatenate([numbers, burst_numbers]), np.concatenate([moments, burst_moments])
        order = np.lexsort((numbers, moments))
        return numbers[order], moments[order]

    def _round(self, number: int, after: float, until: float) -> tuple[Longs, Doubles]:
        assert self.period_s is not None
        numbers, moments = self._one_round
        moments = moments + number * self.period_s
        inside = (moments > after) & (moments <= until)
        return numbers[inside], moments[inside]

    # Result

    @property
    def stream_counts(self) -> bool:
        """Whether the bound of `at_most` has two births of slack for where a window begins and ends."""
        return self.period_s is None and self.cadence != RANDOM and self.stream.up_to(self.stream_begin + 1) > 0

    def at_most(self, window: float, until: float) -> float:
        """An upper bound of the births in any window of this many seconds that ends by `until`."""
        if self.period_s is not None:
            numbers, _ = self._one_round
            rounds = math.floor(window / self.period_s) + 1
            return float(len(numbers) * rounds)
        window = min(window, min(until, self.end_s) - self.begin_s)
        bound = self._bursts_at_most(window)
        if window > 0 and (not self.steady or self.stream.most(self.stream_begin + 1) > 0):
            count = self.stream.most_in(window, min(until, self.end_s))
            bound += count + self._slack(count)
        return bound

    def _slack(self, count: float) -> float:
        return 8 * math.sqrt(count + 1) + 16 if self.cadence == RANDOM else 2

    def _bursts_at_most(self, window: float) -> float:
        if not self.bursts or window <= 0:
            return 0.0
        at = np.concatenate(self._burst_moments)
        count = np.concatenate(
            [np.full(len(m), b.count) for b, m in zip(self.bursts, self._burst_moments, strict=True)]
        )
        if len(at) == 0:
            return 0.0
        over = max(b.over_s for b in self.bursts)
        order = np.argsort(at)
        run = np.concatenate([[0], np.cumsum(count[order])])
        first = np.searchsorted(at[order], at[order] - window - over, side="left")
        return float((run[1:] - run[first]).max())

    def about(self, after: float, until: float) -> float:
        """About how many births there are in (after, until]: estimated, not listed."""
        found = 0.0
        for burst, begin in zip(self.bursts, self._burst_moments, strict=True):
            if burst.over_s > 0:
                share = (np.minimum(begin + burst.over_s, until) - np.maximum(begin, after)) / burst.over_s
                found += burst.count * float(np.clip(share, 0, 1).sum())
            else:
                found += burst.count * int(((begin > after) & (begin <= until)).sum())
        return found + max(0.0, self.expected(until) - self.expected(after))

    def per_second(self, after: float, until: float) -> float:
        """Births per second over a while, as a mean."""
        if until <= after:
            return 0.0
        bursts = len(self._in_bursts(after, until)[0]) if self.period_s is None else 0
        if self.period_s is not None:
            return len(self._one_round[0]) / self.period_s
        return (self.expected(until) - self.expected(after) + bursts) / (until - after)


def births_of(shot: Shot, emitter: Emitter, key: int, readings: Readings) -> Births:
    """The births of an emitter whose stream key is `key`."""
    return Births(emitter, key, readings, float(shot.frame_rate), float(shot.length_s))
