"""The state of a whole shot at any frame."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np
import numpy.typing as npt

from isbjorn.core.appearance.deform import is_deformed, moment_of, seen_through
from isbjorn.core.appearance.in_pieces import Standing, standing_at
from isbjorn.core.appearance.looks import Looks, dress, shape_of
from isbjorn.core.arrays import Floats
from isbjorn.core.caching import RecentCache
from isbjorn.core.document import Shot
from isbjorn.core.document.editing.diff import changes_between
from isbjorn.core.document.editing.effective_shot import effective_shot
from isbjorn.core.emit.pieces.flights import PieceSource
from isbjorn.core.emit.shapes.base import Light
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.simulate.checkpoints import StateCache
from isbjorn.core.simulate.displaced import Displaced
from isbjorn.core.simulate.integrators.arriving import arrivals_of
from isbjorn.core.simulate.interactions.group import Held, InteractionGroup, Running, interaction_groups
from isbjorn.core.simulate.spawning.spawned import Offspring
from isbjorn.core.simulate.state import State
from isbjorn.core.simulate.state_layout import LIFE, ROWS
from isbjorn.core.simulate.strands.joints import joint_numbers
from isbjorn.core.simulate.track import Track, shares_of

# This number of states between lattice steps is cached for a moment, if they are small.
_LATELY, _LATELY_BYTES = 16, 64 << 20
_ID_STRIDE, _ROUND_BITS, _BIRTH_BITS, _JOINT_BITS = 1 << 48, 0x3FF, 37, 54


@dataclass(frozen=True)
class Particles:
    """The living particles of a shot at one moment, in drawing order of emitters, oldest first within each.

    id (n,) int64; emitter (n,) int32, its place in the cast; position (n, 3) px; velocity (n, 3) px/s; age and life (n,) s
    (life is infinite without end); age01 (n,) in [0, 1]; size (n,) px, a diameter; opacity (n,) in [0, 1];
    colour (n, 3) linear, not premultiplied; angle (n,) degrees; touched (n,) s of age at which a surface was first touched,
    -1: never; caught the same of a state that it caught. All float32 but the first two. refused: births that found no room, by
    emitter id.
    """

    id: npt.NDArray[np.int64]
    emitter: npt.NDArray[np.int32]
    position: Floats
    velocity: Floats
    age: Floats
    life: Floats
    age01: Floats
    size: Floats
    opacity: Floats
    colour: Floats
    angle: Floats
    touched: Floats
    caught: Floats
    refused: dict[str, int]

    def __len__(self) -> int:
        return len(self.id)

    def __getitem__(self, name: str) -> npt.NDArray[np.generic]:
        """An array by its name."""
        array: npt.NDArray[np.generic] = getattr(self, name)
        return array

    def between(self, first: int, last: int) -> Particles:
        """Some of them, by their places."""
        return Particles(**{name: self[name][first:last] for name in self.names()}, refused={})  # type: ignore[arg-type]

    def where(self, which: npt.NDArray[np.bool_]) -> Particles:
        """Some of them, by a mask (n,)."""
        return Particles(**{name: self[name][which] for name in self.names()}, refused=self.refused)  # type: ignore[arg-type]

    @staticmethod
    def names() -> tuple[str, ...]:
        """The names of the arrays."""
        return tuple(Particles.__dataclass_fields__)[:-1]


@dataclass(frozen=True)
class Shapes:
    """ids (n,) int64; size px and angle degrees, float32 (n,)."""

    id: npt.NDArray[np.int64]
    size: Floats
    angle: Floats


class ParticleSolver:
    """Gives the particles of a shot at any frame, in any order, always the same.

    cache: kept states, to be shared between solvers of edited versions of a shot. light: the plate's brightness, for what
    reads it; without it the plate is black. before: of the shot before an edit, from which all is taken that the edit does not
    touch. held: interacting particles are shown where they were before the edit.
    """

    shot: Shot
    light: Light | None
    readings: Readings

    def __init__(
        self, shot: Shot, cache: StateCache | None = None, light: Light | None = None, before: ParticleSolver | None = None,
        held: bool = False,
    ) -> None:  # fmt: skip
        shot = effective_shot(shot)
        known = changes_between(before.shot, shot) if before is not None and before.light is light else None
        shot = known.shot if known else shot
        self.shot, self.light = shot, light
        self.readings = Readings(
            shot, before.readings if before and known else None, known.moved if known else frozenset()
        )
        self.readings.light = light
        self.cache = cache if cache is not None else StateCache()
        # By the place in the cast, the moment, and of one in how many of its births.
        self._recent: RecentCache[tuple[int, Fraction, int], State] = RecentCache(_LATELY)
        self._thinned: dict[tuple[int, int], Track] = {}
        self._seen_recent: RecentCache[tuple[int, Fraction], tuple[State, tuple[State, Floats | float]]] = RecentCache(
            _LATELY
        )
        self._shares = shares_of(shot, self.readings)
        self.tracks: dict[int, Track] = {}
        self._displaced: dict[int, Displaced] = {}
        groups = interaction_groups(shot)
        taken: set[int] = set()
        if before and known:
            taken = {
                n for n, e in enumerate(shot.emitters) if e.on and e.id not in known.touched and self._same(before, n)
            }
        taken = _taken_whole(shot, taken, [numbers for numbers, _ in groups])
        for number, emitter in enumerate(shot.emitters):
            if not emitter.on:
                continue
            if before and number in taken:
                self._take(before, number)
                continue
            share = self._shares[emitter.id]
            track = self.tracks[number] = Track(shot, emitter, share, self.cache, self.readings, light)
            if (displaced := Displaced(shot, track.source, self.readings)).any:
                self._displaced[number] = displaced

        places = {e.id: number for number, e in enumerate(shot.emitters)}
        for track in self.tracks.values():
            parent_number = places.get(track.emitter.born_of or "", -1)
            if parent_number in self.tracks:
                track.bear(self.tracks[parent_number])
        for numbers, interactions in groups:
            if not taken.issuperset(numbers):
                tracks = [self.tracks[number] for number in numbers]
                seen = Held.of_before(tracks, [*before.tracks.values()]) if held and before else None
                interaction_group = seen or InteractionGroup(shot, tracks, interactions, self.readings)
                for track in tracks:
                    track.interaction_group = interaction_group

    def _same(self, before: ParticleSolver, number: int) -> bool:
        """Whether an emitter's particles can be reused: its limit is the same, and so are those that are cached."""
        name, track = self.shot.emitters[number].id, before.tracks.get(number)
        return track is not None and track.cache is self.cache and before._shares[name] == self._shares[name]

    def _take(self, before: ParticleSolver, number: int) -> None:
        """Take an emitter that an edit does not touch as it was."""
        self.tracks[number] = before.tracks[number]
        if number in before._displaced:
            self._displaced[number] = before._displaced[number]
        for key in before._recent:
            if key[0] == number and (state := before._recent.peek(key)) is not None:
                self._recent.put(key, state)

    def _groups(self) -> list[InteractionGroup]:
        """The interaction group of every track that has one."""
        groups = [track.interaction_group for track in self.tracks.values()]
        return [group for group in groups if isinstance(group, InteractionGroup)]

    @property
    def running(self) -> Running | None:
        """Progress of the longest simulation of interacting emitters under way, or None."""
        runs = [group.running for group in self._groups()]
        return max((one for one in runs if one is not None), key=lambda one: one.left_s, default=None)

    @property
    def reach_s(self) -> float | None:
        """Shot time up to which the states of all interacting emitters are stored; None without interactions."""
        found = [group.reach_s for group in self._groups()]
        return min((one for one in found if one is not None), default=None)

    def at(self, frame: int | Fraction, stale: Callable[[], bool] | None = None) -> Particles:
        """The particles at a frame number (sub-frames as fractions)."""
        return self.at_seconds(self.shot.seconds(frame), stale)

    def at_seconds(self, seconds: Fraction, stale: Callable[[], bool] | None = None) -> Particles:
        """The particles at a moment of shot time. Raises Stale when `stale` reports that the result is no longer wanted."""
        if self.shot.loop:
            seconds %= self.shot.length_s
        return gathered([self.every(number, seconds, stale) for number in self.tracks])

    def state(
        self, number: int, seconds: Fraction, stale: Callable[[], bool] | None = None, every: int = 1
    ) -> tuple[State, npt.NDArray[np.int64], float]:
        """One emitter's state at any moment, by its place in the cast; the ids; and the moment within the shot. every: return only
        one in this many births, where that saves work.

        In a loop, a moment before the start belongs to the previous round, and particles alive then have the ids that they have
        now. For interacting emitters whose ends cross-fade, it is the state before the start.
        """
        track, rounds = self.tracks[number], 0
        every = every if self._flies_alone(track) else 1
        if every > 1:
            if (number, every) not in self._thinned:
                self._thinned[number, every] = track.thinned(every)
            track = self._thinned[number, every]
        if self.shot.loop and not (seconds < 0 and self._crosses(track)):
            rounds = math.floor(seconds / self.shot.length_s)
            seconds -= rounds * self.shot.length_s
        state = self._recent.peek((number, seconds, every))
        if state is None:
            state = track.at(seconds, stale)
            if state.nbytes <= _LATELY_BYTES // _LATELY:
                self._recent.put((number, seconds, every), state)
        return state, self._ids(number, state, rounds), float(seconds)

    def _flies_alone(self, track: Track) -> bool:
        """Whether no other emitter depends on which particles of this one exist, nor this one on others."""
        emitter = track.emitter
        return (
            track.interaction_group is None and track.parent is None and emitter.trail is None and emitter.strand is None
            and not any(emitter.id in (e.born_of, *(e.ripples.also if e.ripples else ())) for e in self.shot.emitters)
        )  # fmt: skip

    def _crosses(self, track: Track) -> bool:
        """Whether the two ends of an emitter's loop cross over."""
        return self.shot.loop and self.shot.crossover_s > 0 and isinstance(track.interaction_group, InteractionGroup)

    def crossing(self, number: int, seconds: Fraction) -> float:
        """How far the particles from before the start of a loop are faded in, in [0, 1], near the end of an interacting emitter's
        loop; 0 without a cross-fade. Their states are a loop's length earlier, at moments below 0."""
        shot = self.shot
        if not self._crosses(self.tracks[number]):
            return 0.0
        lasts = min(Fraction(shot.crossover_s).limit_denominator(10**6), shot.length_s)
        share = max(0.0, float((seconds - (shot.length_s - lasts)) / lasts))
        return share * share * (3 - 2 * share)

    def place(
        self, number: int, seconds: Fraction, stale: Callable[[], bool] | None = None
    ) -> tuple[npt.NDArray[np.int64], Floats, Floats, Floats, npt.NDArray[np.float64]]:
        """Where one emitter's particles are: ids, places (n, 3) px, velocities (n, 3), lives (n,) s, moments of birth (n,) s."""
        state, ids, t = self.state(number, seconds, stale)
        moments = state.moments + (float(seconds) - t)
        state, _ = self._seen(number, seconds, state, t)
        return ids, state.place.T, state.velocity.T, state.lives, moments

    def _seen(self, number: int, seconds: Fraction, state: State, t: float) -> tuple[State, Floats | float]:
        """A state as it is seen through displacements and the emitter's deformers, and what sizes grow by."""
        emitter, readings = self.tracks[number].emitter, self.tracks[number].readings
        displaced, deformed = self._displaced.get(number), is_deformed(emitter)
        if state.count == 0 or (displaced is None and not deformed):
            return state, 1.0
        # The moments of a shutter are asked for by places and by looks.
        known = self._seen_recent.peek((number, seconds))
        if known is not None and known[0] is state:
            return known[1]
        seen: State = state
        grown: Floats | float = 1.0
        if displaced is not None:
            age01 = np.clip((t - state.moments).astype(np.float32) / state.lives, 0, 1).astype(np.float32)
            seen, grown = displaced.shifted(state, age01, t)
        if deformed:
            seen = seen_through(emitter, moment_of(readings, t), seen)
        seen = _led_home(self.tracks[number], state, seen, t)
        if state.nbytes <= _LATELY_BYTES // _LATELY:
            self._seen_recent.put((number, seconds), (state, (seen, grown)))
        return seen, grown

    def _inherited(self, track: Track, state: State, looks: Looks, t: float) -> Looks:
        """Looks, with what particles inherit from their parents."""
        e, births = track.emitter, track.births
        if track.parent is None or not isinstance(births, Offspring) or state.count == 0:
            return looks
        size, colour = (track.readings.now(n, t) / 100 for n in (e.inherit_size, e.inherit_colour))
        if size <= 0 and colour <= 0:
            return looks
        parents, born_at, lives, known = births.spawners(state.births, state.moments)
        values = np.zeros((ROWS, state.count), np.float32)
        values[LIFE] = lives
        age01 = np.clip((state.moments - born_at) / lives, 0, 1).astype(np.float32)
        theirs = dress(track.parent.source, State(parents, born_at, values), age01, t, float(self.shot.length_s))
        share_of_size = np.where(known, np.float32(size), np.float32(0))
        share_of_colour = np.where(known, np.float32(colour), np.float32(0))[:, None]
        return replace(
            looks, size=looks.size + share_of_size * (theirs.size - looks.size),
            colour=looks.colour + share_of_colour * (theirs.colour - looks.colour),
        )  # fmt: skip

    def falling_into(self, number: int) -> list[Track]:
        """The tracks of the emitters whose births fall into the water of an emitter, by place in the cast: its own track first."""
        falling = self.shot.falling_into(self.shot.emitters[number])
        return [self.tracks[n] for n in (self.shot.place_of(e) for e in falling) if n in self.tracks]

    def none(self) -> Particles:
        """No particles."""
        return Particles(**{name: _nothing(name) for name in Particles.names()}, refused={})  # type: ignore[arg-type]

    def of(
        self, number: int, seconds: Fraction, stale: Callable[[], bool] | None = None,
        only: npt.NDArray[np.bool_] | None = None, most: int | None = None,
    ) -> Particles:  # fmt: skip
        """The particles of one emitter, by its place in the cast, at any moment. only (n,): some of them; most: no more, evenly
        over the births."""
        track, every = self.tracks[number], 1
        if most is not None and (alive := min(track.limit, track.demand)) > most:
            # The same ones from moment to moment.
            every = 1 << math.ceil(math.log2(alive / most))
        state, ids, t = self.state(number, seconds, stale, every)
        if every > 1:
            only = state.births % every == 0
        state, grown = self._seen(number, seconds, state, t)
        if only is not None:
            which = np.flatnonzero(only)
            state, ids = state.only(which), ids[which]
            grown = grown if isinstance(grown, float) else grown[which]
        age, age01 = _ages01(state, t)
        looks = self._inherited(track, state, dress(track.source, state, age01, t, float(self.shot.length_s)), t)
        missed = track.admission.refused(t)
        return Particles(
            id=ids,
            emitter=np.full(state.count, number, np.int32),
            position=state.place.T,
            velocity=state.velocity.T,
            age=age,
            life=state.lives,
            age01=age01,
            size=looks.size * grown if number in self._displaced else looks.size,
            opacity=looks.opacity,
            colour=looks.colour,
            angle=looks.angle,
            touched=np.full(state.count, -1, np.float32) if state.touched is None else state.touched,
            caught=_ages(state, t),
            refused={track.emitter.id: missed} if missed else {},
        )

    def every(
        self, number: int, seconds: Fraction, stale: Callable[[], bool] | None = None, most: int | None = None
    ) -> Particles:
        """The particles of one emitter as `of` gives them, and before them its pieces that stand."""
        flying = self.of(number, seconds, stale, most=most)
        if self.tracks[number].emitter.pieces is None:
            return flying
        return gathered([*(p for p, _ in self.standing(number, seconds)), flying])

    def standing(
        self, number: int, seconds: Fraction, opened: tuple[Fraction, Fraction] | None = None
    ) -> list[tuple[Particles, Standing]]:
        """The pieces of an emitter that have not left yet, or have arrived: as particles at rest, and which they are. opened:
        when the shutter opens and closes, if it is open for a while; opacities are then less for those that stand for a part of
        that time."""
        track = self.tracks[number]
        if not isinstance(track.source, PieceSource):
            return []
        t = float(seconds % self.shot.length_s if self.shot.loop else seconds)
        shift = float(seconds) - t
        found = standing_at(
            track.source, t, None if opened is None else (float(opened[0]) - shift, float(opened[1]) - shift)
        )
        return [(self._at_rest(number, track, one, t), one) for one in found if len(one.piece)]

    def _at_rest(self, number: int, track: Track, one: Standing, t: float) -> Particles:
        state = one.early or one.late
        assert state is not None
        length_s, n = float(self.shot.length_s), state.count
        looks = [
            None if part is None else dress(track.source, part, np.full(n, age01, np.float32), t, length_s)
            for part, age01 in ((one.early, 0.0), (one.late, 1.0))
        ]
        early, late = looks[0] or looks[1], looks[1] or looks[0]
        assert early is not None
        assert late is not None
        share = one.share
        none = np.zeros(n, np.float32)
        frame = track.readings.frames(track.emitter, np.array([t]))
        size, turn = one.cut.sizes[one.piece] * frame.size, np.repeat(frame.turn, n)
        points, moving = one.cut.sheet is None, track.readings.velocity(track.emitter, np.array([t]))
        return Particles(
            id=self._ids(number, state, 0), emitter=np.full(n, number, np.int32), position=state.place.T,
            velocity=np.repeat(moving, n, axis=0).astype(np.float32), age=none, life=state.lives, age01=none,
            size=late.size + share * (early.size - late.size) if points else size.astype(np.float32),
            opacity=(late.opacity + share * (early.opacity - late.opacity)) * one.weight,
            colour=late.colour + share[:, None] * (early.colour - late.colour),
            angle=late.angle + share * (early.angle - late.angle) if points else turn.astype(np.float32),
            touched=none - 1, caught=none - 1, refused={},
        )  # fmt: skip

    def shapes(self, number: int, seconds: Fraction, stale: Callable[[], bool] | None = None) -> Shapes:
        """What `of` gives of ids, sizes and angles alone."""
        track = self.tracks[number]
        if track.parent is not None:
            # Sizes may be inherited from the parents.
            every = self.of(number, seconds, stale)
            return Shapes(every.id, every.size, every.angle)
        state, ids, t = self.state(number, seconds, stale)
        state, grown = self._seen(number, seconds, state, t)
        _, age01 = _ages01(state, t)
        size, angle = shape_of(track.source, state, age01, t)
        return Shapes(ids, size * grown if number in self._displaced else size, angle)

    def _ids(self, number: int, state: State, turn: int) -> npt.NDArray[np.int64]:
        """Ids: of strands the joint, the emitter's place in the cast, in a loop the round of birth, and the birth's number."""
        ids = state.births + number * _ID_STRIDE
        if self.shot.loop:
            rounds = -np.floor(state.moments / float(self.shot.length_s)).astype(np.int64) - turn
            ids = ids + ((rounds & _ROUND_BITS) << _BIRTH_BITS)
        emitter = self.shot.emitters[number]
        return ids if emitter.strand is None else ids + (joint_numbers(emitter, state.count) << _JOINT_BITS)


def _led_home(track: Track, state: State, seen: State, t: float) -> State:
    """Particles that arrive at a place are displaced no more than forces act on them by then."""
    arrivals = arrivals_of(track.source)
    if arrivals is None or seen is state:
        return seen
    share = arrivals.acting(_ages01(state, t)[1])
    share = np.where(arrivals.of(state)[1], share, np.float32(1))
    values = seen.values.copy()
    values[0:6] = state.values[0:6] + share * (seen.values[0:6] - state.values[0:6])
    return replace(seen, values=values)


def _taken_whole(shot: Shot, taken: set[int], groups: list[tuple[int, ...]]) -> set[int]:
    """Which tracks can be reused, by their positions: those that are simulated together, or spawned by another, go with these."""
    while True:
        bearers = {e.id: number in taken for number, e in enumerate(shot.emitters)}
        left = {n for n in taken if bearers.get(shot.emitters[n].born_of or "", True)}
        for numbers in groups:
            left -= set() if left.issuperset(numbers) else set(numbers)
        if left == taken:
            return left
        taken = left


def _ages01(state: State, t: float) -> tuple[Floats, Floats]:
    """Ages in s at shot time t, and as shares of the lifespans, float32 (n,)."""
    age = (t - state.moments).astype(np.float32)
    return age, np.clip(age / state.lives, 0, 1).astype(np.float32)


def _ages(state: State, t: float) -> Floats:
    """The ages at which particles caught a state, -1: not yet."""
    never = np.full(state.count, -1, np.float32)
    return never if state.caught is None else np.where(state.measured("since caught", t) < 0, never, state.caught)


def births_of(ids: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
    """The birth numbers within ids (n,)."""
    return ids & ((1 << _BIRTH_BITS) - 1)


def gathered(parts: list[Particles]) -> Particles:
    """Particles of several emitters as one."""
    arrays = {name: _joined(name, [part[name] for part in parts]) for name in Particles.names()}
    return Particles(**arrays, refused={k: v for part in parts for k, v in part.refused.items()})  # type: ignore[arg-type]


def _joined(name: str, parts: list[npt.NDArray[np.generic]]) -> npt.NDArray[np.generic]:
    if len(parts) == 1:
        return parts[0]
    return np.concatenate(parts) if parts else _nothing(name)


def _nothing(name: str) -> npt.NDArray[np.generic]:
    if name in ("id", "emitter"):
        return np.empty(0, np.int64 if name == "id" else np.int32)
    return np.empty((0, 3) if name in ("position", "velocity", "colour") else 0, np.float32)
