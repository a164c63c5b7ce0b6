"""Births out of another emitter's particles: while they fly, or when something happens to them.

Each lattice step of the parents is read once: which of them spawn in it, at which moments, and where each was then. A birth
number is a hash of the parent's number and of the child's index, so that it depends on nothing else.
"""

from __future__ import annotations

import math
import time
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Bools, Doubles, Longs
from isbjorn.core.caching import RecentCache
from isbjorn.core.document import Emitter
from isbjorn.core.emit.births import NOW_S, Births
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.jit import njit
from isbjorn.core.random import BORN, GOLDEN, draws01, mix
from isbjorn.core.simulate.shared_states import is_worth
from isbjorn.core.simulate.spawning.spawners import Living, Step, happened, origin_of, step_of, where
from isbjorn.core.simulate.state import BORN_STEPS

if TYPE_CHECKING:
    from isbjorn.core.simulate.track import Track

# Numbers below those of bursts; two of a hundred thousand at once may share one.
_NUMBERS = np.uint64((1 << 36) - 1)
_STEPS_KEPT = 512
# Of more children in one step some are left out, evenly.
MOST_IN_A_STEP = 100_000
_LONGEST_S = 600.0
# The speed in px/s that forces are assumed to add.
_USUAL_PX_S = 100.0
# Steps that are asked for together, and handed on together.
_BLOCK = BORN_STEPS


@dataclass(frozen=True)
class Born:
    """The births of a step, by moment: numbers (n,), moments s (n,); place px and velocity px/s of the parent then, (n, 3); and the
    parents: birth numbers, moments of birth s and lifespans s, (n,)."""

    numbers: Longs
    moments: Doubles
    place: Doubles
    velocity: Doubles
    spawners: Longs
    born_at: Doubles
    lives: Doubles


_NONE = np.empty(0, np.int64)
NOBODY_BORN = Born(_NONE, np.empty(0), np.empty((0, 3)), np.empty((0, 3)), _NONE, np.empty(0), np.empty(0))


def _packed(steps: list[Born]) -> list[Longs | Doubles]:
    """Births of a block of steps as arrays, to be read again by `_unpacked`."""
    counts = np.array([len(born.numbers) for born in steps], np.int64)
    names = ("numbers", "spawners", "moments", "born_at", "lives", "place", "velocity")
    return [counts, *(np.concatenate([getattr(born, name) for born in steps]) for name in names)]


def _unpacked(there: npt.NDArray[np.uint8]) -> list[Born] | None:
    """Births of a block of steps from the bytes of `_packed`; None if they are not what they should be."""
    if len(there) < 8 * _BLOCK or len(there) % 8:
        return None
    counts, rest = there[: 8 * _BLOCK].view(np.int64), there[8 * _BLOCK :]
    total = int(counts.sum())
    if counts.min() < 0 or len(rest) != 8 * 11 * total:
        return None
    numbers, spawners = rest[: 16 * total].view(np.int64).reshape(2, total)
    moments, born_at, lives = rest[16 * total : 40 * total].view(np.float64).reshape(3, total)
    place, velocity = rest[40 * total :].view(np.float64).reshape(2, total, 3)
    ends = np.cumsum(counts).tolist()
    slices = [slice(end - n, end) for n, end in zip(counts.tolist(), ends, strict=True)]
    return [
        Born(numbers[own], moments[own], place[own], velocity[own], spawners[own], born_at[own], lives[own])
        for own in slices
    ]


def _looked_up(known: tuple[Longs, Doubles], parents: Longs) -> Doubles:
    """What is known of particles by their birth numbers, which are sorted, (n,); 0 of those that are not known."""
    numbers, values = known
    if not len(numbers):
        return np.zeros(len(parents))
    at = np.minimum(np.searchsorted(numbers, parents), len(numbers) - 1)
    return np.where(numbers[at] == parents, values[at], 0.0)


@njit("i8[::1](u8, i8[::1], i8[::1])", cache=True)
def _numbered(key: np.uint64, spawners: Longs, which: Longs) -> Longs:
    out = np.empty(len(spawners), np.int64)
    for i in range(len(spawners)):
        z = mix(key + np.uint64(spawners[i]) * GOLDEN)
        out[i] = np.int64(mix(z ^ (np.uint64(which[i]) + GOLDEN)) & _NUMBERS)
    return out


class Offspring(Births):
    """The births of an emitter that another emitter's particles spawn. parent: its motion, once that is known."""

    def __init__(
        self,
        emitter: Emitter,
        key: int,
        readings: Readings,
        frame_rate: float,
        last_s: float,
        bearing: Births,
        longest_life: float,
    ) -> None:
        super().__init__(emitter, key, readings, frame_rate, last_s)
        self.readings, self.bearing, self.longest_life = readings, bearing, min(longest_life, _LONGEST_S)
        self.parent: Track | None = None
        # The parents.
        self.own: Track | None = None
        self.begin_s = bearing.begin_s
        self._steps: RecentCache[int, Born] = RecentCache(_STEPS_KEPT)
        # Of births per px: by lattice step, how many births the way of each particle that is alive asked for up to then.
        self._asked: RecentCache[int, tuple[Longs, Doubles]] = RecentCache(_STEPS_KEPT)

    def thin(self) -> None:
        """They are looked at step by step; nothing is left out but what is too much for one."""

    def begin_of(self, numbers: Longs) -> Doubles:
        return np.full(len(numbers), self.begin_s)

    def between(self, after: float, until: float) -> tuple[Longs, Doubles]:
        empty = np.empty(0, np.int64), np.empty(0)
        if self.parent is None or until < self.begin_s or after >= self.end_s:
            return empty
        hz = self.parent.hz
        first = math.floor(max(after, self.begin_s - 1) * hz + 1e-6)
        last = math.ceil(until * hz - 1e-6)
        for block in range(first // _BLOCK * _BLOCK, last, _BLOCK):
            self._take_block(block, whole=first <= block and block + _BLOCK <= last)
        born = [self._in_step(index) for index in range(first, last)]
        if not born:
            return empty
        numbers, moments = np.concatenate([b.numbers for b in born]), np.concatenate([b.moments for b in born])
        inside = (moments > after + NOW_S) & (moments <= until + NOW_S)
        return numbers[inside], moments[inside]

    def origins(self, numbers: Longs, moments: Doubles) -> tuple[Doubles, Doubles]:
        """Where the parent of each birth is at that moment, px (n, 3), and how it moves, px/s (n, 3); of others, their emitter."""
        place, velocity = np.zeros((len(numbers), 3)), np.zeros((len(numbers), 3))
        if self.parent is None:
            return place, velocity
        found = np.zeros(len(numbers), bool)
        for born, mine, theirs in self._found(numbers, moments):
            found[mine] = True
            place[mine], velocity[mine] = born.place[theirs], born.velocity[theirs]
        if not found.all():
            others = np.flatnonzero(~found)
            place[others] = self.readings.frames(self.parent.emitter, moments[others]).place
        return place, velocity

    def spawners(self, numbers: Longs, moments: Doubles) -> tuple[Longs, Doubles, Doubles, Bools]:
        """The parents of births: their numbers, moments of birth s and lifespans s, (n,); and which of them are known."""
        parents, born_at, lives = np.zeros(len(numbers), np.int64), np.zeros(len(numbers)), np.ones(len(numbers))
        known = np.zeros(len(numbers), bool)
        if self.parent is not None:
            for born, mine, theirs in self._found(numbers, moments):
                known[mine] = True
                parents[mine], born_at[mine], lives[mine] = (
                    born.spawners[theirs],
                    born.born_at[theirs],
                    born.lives[theirs],
                )
        return parents, born_at, lives, known

    def _found(self, numbers: Longs, moments: Doubles) -> Iterator[tuple[Born, Longs, Longs]]:
        """The steps with births, the births in each, and their index in it."""
        assert self.parent is not None
        steps = np.ceil(moments * self.parent.hz - 1e-6).astype(np.int64) - 1
        for index in np.unique(steps):
            mine = np.flatnonzero(steps == index)
            born = self._in_step(int(index))
            if not len(born.numbers):
                continue
            order = np.argsort(born.numbers, kind="stable")
            at = order[np.clip(np.searchsorted(born.numbers[order], numbers[mine]), 0, len(order) - 1)]
            same = born.numbers[at] == numbers[mine]
            yield born, mine[same], at[same]

    def _take_block(self, first: int, whole: bool) -> None:
        """Load the births of a block of steps from the cache; if all of the block is needed, compute and store them otherwise."""
        parent, own = self.parent, self.own
        shared_caches = None if parent is None else parent.cache.shared_caches
        indices = range(first, first + _BLOCK)
        if shared_caches is None or own is None or parent is None or all(index in self._steps for index in indices):
            return
        at = own.motion, own.tag((first + _BLOCK) / parent.hz), first
        there = shared_caches.more("born", *at)
        known = None if there is None else _unpacked(there)
        if known is not None:
            for index, born in zip(indices, known, strict=True):
                self._steps.put(index, born)
        if known is not None or not whole:
            return
        began = time.perf_counter()
        made = [self._in_step(index) for index in indices]
        if is_worth(time.perf_counter() - began):
            shared_caches.put_more("born", *at, _packed(made))

    # A step

    def _in_step(self, index: int) -> Born:
        return self._steps.get(index, lambda: self._made(index))

    def _made(self, index: int) -> Born:
        parent = self.parent
        assert parent is not None
        left, right = index / parent.hz, (index + 1) / parent.hz
        step = step_of(parent, index, right > self.begin_s)
        parents, born_at, lives, _ = step.living
        if self.by_way:
            which, j, moments = self._on_the_way(index, step)
        else:
            which, j, moments = self._events(step, left, right)
        keep = (moments >= self.start_s - NOW_S) & (moments < self.end_s - NOW_S)
        which, j, moments = which[keep], j[keep], moments[keep]
        if not len(which):
            return NOBODY_BORN
        if len(which) > MOST_IN_A_STEP:
            every = np.arange(0, len(which), math.ceil(len(which) / MOST_IN_A_STEP))
            which, j, moments = which[every], j[every], moments[every]
        numbers = _numbered(np.uint64(self.key), parents[which], j)
        place, velocity = where(parent, step, self.emitter.born_when, which, moments, left, right)
        order = np.lexsort((numbers, moments))
        theirs = which[order]
        return Born(
            numbers[order],
            moments[order],
            place[order],
            velocity[order],
            parents[theirs],
            born_at[theirs],
            lives[theirs],
        )

    @property
    def by_way(self) -> bool:
        """Whether births are counted per px that the parents move."""
        return self.emitter.rate_per == "px" and self.emitter.born_when == "in flight"

    def _on_the_way(self, index: int, step: Step) -> tuple[Longs, Longs, Doubles]:
        """As `_events`, for births per px: a birth happens when the integral of the rate over the path of a parent since its own
        birth passes a whole number, or a draw within it."""
        living = step.living
        parents = living[0]
        begin, until, asked = self._asked_in(index, step)
        before = self._asked_before(index, living)
        low, high = np.floor(before).astype(np.int64), np.floor(before + asked).astype(np.int64)
        count = np.clip(high - low + 1, 0, MOST_IN_A_STEP)
        total = int(count.sum())
        if total > 20 * MOST_IN_A_STEP:
            count = count // math.ceil(total / (20 * MOST_IN_A_STEP))
        which = np.repeat(np.arange(len(parents)), count)
        j = np.arange(len(which)) - np.repeat(np.cumsum(count) - count, count) + low[which]
        slots = j.astype(np.float64)
        if self.emitter.cadence != "even":
            slots += draws01(self.key, _numbered(np.uint64(self.key), parents[which], j), BORN)
        # The same sums as in the steps before and after, so that each birth falls into one of them.
        born = (slots > before[which]) & (slots <= (before + asked)[which])
        which, j, slots = which[born], j[born], slots[born]
        share = np.clip((slots - before[which]) / np.maximum(asked[which], 1e-12), 0, 1)
        return which, j, begin[which] + share * np.maximum(0, until - begin)[which]

    def _asked_in(self, index: int, step: Step) -> tuple[Doubles, Doubles, Doubles]:
        """From when to when each parent is alive in a step, s (n,); and the number of births that its path in the step asks for,
        (n,)."""
        parent = self.parent
        assert parent is not None
        state, after, (parents, born_at, lives, columns) = step.state, step.after, step.living
        left, right = index / parent.hz, (index + 1) / parent.hz
        begin, until = np.maximum(left, born_at), np.minimum(right, born_at + lives)
        way = np.zeros(len(parents))
        (here, there), both = columns, (columns[0] >= 0) & (columns[1] >= 0)
        way[both] = np.linalg.norm(
            after.place[:, there[both]].T
            + origin_of(parent, right)
            - state.place[:, here[both]].T
            - origin_of(parent, left),
            axis=1,
        )
        for one, some in ((there, after), (here, state)):
            alone = ~both & (one >= 0)
            speed = np.linalg.norm(some.velocity[:, one[alone]], axis=0)
            way[alone] = speed * np.maximum(0, until - begin)[alone]
        rate = max(0.0, float(self.readings.number(self.emitter.rate, np.array([(left + right) / 2]))[0]))
        return begin, until, rate * way

    def _asked_before(self, index: int, living: Living) -> Doubles:
        """The births that the path of each living parent asked for, from its own birth to the beginning of a step, (n,)."""
        parent = self.parent
        assert parent is not None
        at = max((known for known in self._asked if known <= index), default=None)
        # Every particle that is alive in the step was born no earlier than the longest life ago.
        first = math.floor((self.begin_s if self.begin_s > -math.inf else -_LONGEST_S) * parent.hz) - 1
        if self.longest_life < _LONGEST_S:
            first = max(first, index - math.ceil(self.longest_life * parent.hz) - 2)
        known: tuple[Longs, Doubles] = (_NONE, np.empty(0))
        there = None if at is None or at < first else self._asked.peek(at)
        if at is not None and there is not None:
            known, first = there, at
        for n in range(first, index):
            step = step_of(parent, n, (n + 1) / parent.hz > self.begin_s)
            asked = _looked_up(known, step.living[0]) + self._asked_in(n, step)[2]
            lasting = step.living[3][1] >= 0
            known = step.living[0][lasting], asked[lasting]
            self._asked.put(n + 1, known)
        return _looked_up(known, living[0])

    def _events(self, step: Step, left: float, right: float) -> tuple[Longs, Longs, Doubles]:
        """Which parent spawns, which of its children each birth is, and when."""
        e, (parents, born_at, lives, _) = self.emitter, step.living
        stepped = self.parent is not None and not self.parent.moved_alone
        moments, gone = happened(step, e.born_when, stepped)
        if e.born_when != "in flight":
            bears = np.flatnonzero((moments > left + NOW_S) & (moments <= right + NOW_S))
            which = np.repeat(bears, e.born_count)
            return which, np.tile(np.arange(e.born_count), len(bears)), moments[which]
        # A parent spawns one whenever the integral of the rate over its life passes a whole number, starting at its own fraction.
        phase = draws01(self.key, parents, BORN) if e.cadence != "even" else np.zeros(len(parents))
        begin, until = np.maximum(left, born_at), np.minimum(np.minimum(right, born_at + lives), gone)
        first = self.stream.counts(born_at)
        low = np.floor(self.stream.counts(begin) - first + phase).astype(np.int64)
        high = np.floor(self.stream.counts(until) - first + phase).astype(np.int64)
        count = np.clip(high - low, 0, MOST_IN_A_STEP)
        total = int(count.sum())
        if total > 20 * MOST_IN_A_STEP:
            count = count // math.ceil(total / (20 * MOST_IN_A_STEP))
        which = np.repeat(np.arange(len(parents)), count)
        j = np.arange(len(which)) - np.repeat(np.cumsum(count) - count, count) + low[which]
        slots = first[which] + (j + 1) - phase[which]
        order = np.argsort(slots, kind="stable")
        at = np.empty(len(which))
        at[order] = self.stream.moments(slots[order], right)
        return which, j, np.clip(at, begin[which], until[which])

    # Result

    def at_most(self, window: float, until: float) -> float:
        around = self.bearing.at_most(min(self.longest_life, _LONGEST_S) + window, until)
        if self.emitter.born_when == "in flight":
            return float(around * self._each_at_most(min(window, self.longest_life), until))
        return float(around * self.emitter.born_count)

    def _each_at_most(self, window: float, until: float) -> float:
        """Children of one in a window, at most."""
        if self.by_way:
            return self._each_second() * window + 1
        if self.steady:
            return self.stream.up_to(self.stream_begin + max(0.0, window)) + 1
        t = np.linspace(self.stream_begin, max(self.stream_begin + 1e-3, min(until, self.end_s)), 400)
        n = self.stream.counts(t)
        return float((n - np.interp(t - window, t, n, left=0.0)).max()) + 1

    def about(self, after: float, until: float) -> float:
        if until <= after or self.begin_s > until:
            return 0.0
        before = self.bearing.about(max(after - self.longest_life, self.begin_s - 1e-6), until)
        if self.emitter.born_when != "in flight":
            return self.emitter.born_count * self.bearing.about(after, until)
        lived = min(self.longest_life, until - max(after - self.longest_life, self.begin_s))
        alive = before * min(1.0, self.longest_life / max(lived + until - after, 1e-6))
        if self.by_way:
            return alive * self._each_second() * (until - after)
        return alive * (self.stream.up_to(until) - self.stream.up_to(after))

    def _each_second(self) -> float:
        """Births per px that a parent spawns per second, about: by the speed at which parents are born."""
        rate, speed = self.emitter.rate, self.bearing.emitter.speed
        most = max([rate.value, *(k.value for k in rate.keys)])
        return max(0.0, most) * (max([speed.value, *(k.value for k in speed.keys)]) + speed.spread + _USUAL_PX_S)

    def per_second(self, after: float, until: float) -> float:
        return self.about(after, until) / max(until - after, 1e-6)
