"""One emitter's motion through the shot: its state at any lattice step, stepped on from the nearest one kept."""

from __future__ import annotations

import copy
import functools
import hashlib
import math
import time
from collections.abc import Callable
from fractions import Fraction
from typing import Protocol

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.caching import RecentCache
from isbjorn.core.document import Emitter, Shot
from isbjorn.core.document.parts.forces import Acting
from isbjorn.core.document.parts.interactions import Interaction
from isbjorn.core.emit.admission import Admission, fair_shares, most_alive
from isbjorn.core.emit.births import Births
from isbjorn.core.emit.newborn import BirthSource
from isbjorn.core.emit.pieces.flights import PieceSource
from isbjorn.core.emit.shapes.base import Light
from isbjorn.core.emit.sources import own_births, source_of
from isbjorn.core.errors import Stale
from isbjorn.core.evaluate.geometry.mesh_trees import MOST_LOOKED
from isbjorn.core.evaluate.geometry.solids import mesh_of_solid
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.random import stream_key
from isbjorn.core.simulate import state_layout
from isbjorn.core.simulate.checkpoints import StateCache
from isbjorn.core.simulate.fingerprint import Identity
from isbjorn.core.simulate.integrators.arriving import ArrivingIntegrator
from isbjorn.core.simulate.integrators.constant import ConstantIntegrator, is_steady
from isbjorn.core.simulate.integrators.recorded import RecordedIntegrator
from isbjorn.core.simulate.integrators.stepped import SteppedIntegrator
from isbjorn.core.simulate.integrators.strands import StrandIntegrator
from isbjorn.core.simulate.spawning.spawned import Offspring
from isbjorn.core.simulate.spawning.spawners import Step, steps_read
from isbjorn.core.simulate.state import BORN_STEPS, State, empty_state, joined, merged
from isbjorn.core.simulate.strands.joints import joints_of
from isbjorn.core.time import lattice_index

# Steps of all particles of an emitter from birth to the moment: some seconds to half a minute of a plain machine.
_MOST_STEPS, _MOST_ALIVE = 5e8, 5_000_000
# Costs of a face of a model that a body meets: a step looks at it a few times.
_PER_FACE_MET = 8.0
_MANY_STEPS, _FEWEST = 12_000, 20
# As many, where each step is only a few multiplications.
_MOST_EXACT_STEPS = 2.5e9
# Births of this many steps are computed together, if they are no more than that; and this many ranges are cached.
_BORN_TOGETHER, _BORN_KEPT = 20_000, 12
# What a joint takes to be held to its neighbours in a step, as a multiple of a plain one.
HELD = 5.0
_STEPS_AT_ONCE = {True: 40_000_000, False: 600_000}


def key_of(shot: Shot, emitter: Emitter) -> int:
    """The key of an emitter's stream of random numbers."""
    return int(stream_key(np.uint64(shot.seed), np.uint64(emitter.seed)))


def affordable_alive(shot: Shot, emitter: Emitter, births: Births, source: BirthSource, readings: Readings) -> int:
    """Largest number alive so that stepping all of them through their lives stays within bounds."""
    begin = max(births.begin_s, -source.longest_life) if math.isinf(births.begin_s) else births.begin_s
    run = max(1.0, float(shot.length_s) - begin)
    reaching = shot.reaching(emitter)
    # Interacting emitters are simulated from their first birth on.
    lived = run if any(isinstance(force, Interaction) for force in reaching) else min(source.longest_life, run)
    if is_steady(shot, emitter, readings):
        return int(min(_MOST_ALIVE, max(_FEWEST, _MOST_EXACT_STEPS / max(1.0, lived * shot.simulation_rate))))
    weight = (
        1.0 + sum(weight_of(force, emitter) for force in reaching) + (HELD if emitter.strand is not None else 0)
    ) * joints_of(emitter)
    steps = lived * shot.simulation_rate
    # A jump far ahead steps all particles with very long lives at once: fewer of them are affordable.
    most = _MOST_STEPS / math.sqrt(max(1.0, steps / _MANY_STEPS))
    return max(_FEWEST, int(most / max(1.0, steps * weight)))


def weight_of(force: Acting, emitter: Emitter) -> float:
    """What a force costs in a step of an emitter's particle, as a multiple of a plain one."""
    if force.modelled is None:
        return force.weight
    # A body that is large beside the model meets many of its faces, as far as they are looked at.
    model, size = force.modelled
    large = min(1.0, (emitter.size.value + emitter.size.spread) / max(1.0, size.value))
    met = min(MOST_LOOKED, large * large * len(mesh_of_solid(model).faces) / 4)
    return force.weight + _PER_FACE_MET * large * met


def known_births(shot: Shot, emitter: Emitter, readings: Readings) -> Births:
    """An emitter's births, with tables that are shared by all users of the same readings. They may not be thinned."""
    known: Births | None = readings.kept.get(("births", emitter.id))
    if known is None:
        known = _births(shot, emitter, readings)
        readings.kept["births", emitter.id] = known
    return known


def parent_emitter_of(shot: Shot, emitter: Emitter) -> Emitter | None:
    """The parent emitter of another."""
    return next((e for e in shot.emitters if e.id == emitter.born_of), None)


def _births(shot: Shot, emitter: Emitter, readings: Readings) -> Births:
    parent_emitter = parent_emitter_of(shot, emitter)
    key = key_of(shot, emitter)
    if parent_emitter is None:
        return own_births(shot, emitter, key, readings)
    longest = source_of(parent_emitter, key_of(shot, parent_emitter), readings).longest_life
    parent_births = known_births(shot, parent_emitter, readings)
    return Offspring(emitter, key, readings, float(shot.frame_rate), float(shot.length_s), parent_births, longest)


def demand_of(shot: Shot, emitter: Emitter, readings: Readings) -> float:
    """How many of an emitter's particles would be alive at once without limits, at most."""
    births = known_births(shot, emitter, readings)
    known: tuple[Births, float] | None = readings.kept.get(("demand", emitter.id))
    if known is None or known[0] is not births:
        known = births, most_alive(births, source_of(emitter, key_of(shot, emitter), readings), readings.until_s)
        readings.kept["demand", emitter.id] = known
    return known[1]


def shares_of(shot: Shot, readings: Readings) -> dict[str, int]:
    """Each emitter's limit, once the shot's limit is divided among those that are on."""
    on = [e for e in shot.emitters if e.on]
    demands = [demand_of(shot, e, readings) for e in on]
    limits = [min(e.limit, _affordable(shot, e, readings)) for e in on]
    shares = fair_shares(demands, limits, shot.limit)
    return {e.id: min(share, limit) for e, share, limit in zip(on, shares, limits, strict=True)}


def _affordable(shot: Shot, emitter: Emitter, readings: Readings) -> int:
    key = key_of(shot, emitter)
    births = known_births(shot, emitter, readings)
    return affordable_alive(shot, emitter, births, source_of(emitter, key, readings), readings)


class SteppedTogether(Protocol):
    """The tracks that an emitter is simulated with."""

    straight: bool

    def of(self, track: Track, index: int, stale: Callable[[], bool] | None = None) -> State:
        """The state of a track at a lattice step."""
        ...

    def depends_on(self, t: float) -> tuple[str, str]:
        """As `Track.depends_on`, of all of them."""
        ...

    def at_rest(self, track: Track, t: float, stale: Callable[[], bool] | None = None) -> State | None:
        """The state of a track at any moment, if none of its particles ever moves."""
        ...


class Track:
    """The motion of one emitter. Its states are shared through a cache by every track of the same motion."""

    def __init__(
        self,
        shot: Shot,
        emitter: Emitter,
        limit: int,
        cache: StateCache,
        readings: Readings,
        light: Light | None = None,
    ) -> None:
        self.emitter, self.hz, self.cache, self.readings = emitter, shot.simulation_rate, cache, readings
        self.key = key_of(shot, emitter)
        self.births = known_births(shot, emitter, readings)
        self.source = source_of(emitter, self.key, readings, light)
        self.demand = demand_of(shot, emitter, readings)
        self.steady = is_steady(shot, emitter, readings)
        # The group that it is simulated with; set by the owner of all tracks.
        self.interaction_group: SteppedTogether | None = None
        together = any(f.stage == "interaction" for f in shot.reaching(emitter))
        self.integrator: ConstantIntegrator | RecordedIntegrator | ArrivingIntegrator | SteppedIntegrator = (
            RecordedIntegrator
            if emitter.recording is not None
            else StrandIntegrator
            if emitter.strand is not None
            else ArrivingIntegrator
            if self.steady and not together and isinstance(self.source, PieceSource) and self.source.flights.arrives
            else ConstantIntegrator
            if self.steady and not together
            else SteppedIntegrator
        )(shot, self.source, readings)
        binds = self.demand > limit
        if binds:
            self.births = _births(shot, emitter, readings)
            self.births.thin()
        self._born: RecentCache[int, State] = RecentCache(_BORN_KEPT)
        self._many = self.births.at_most(BORN_STEPS / self.hz, float(shot.length_s)) > _BORN_TOGETHER
        self.identity = Identity(shot, emitter, limit if binds else None)
        self.limit, self.binds = limit, binds
        # One in this many of its births is stepped; another track steps all of them (see `thinned`).
        self.every = 1
        self.whole: Track | None = None
        # The track of its parents.
        self.parent: Track | None = None
        # Steps that were read for births in them (see `Offspring`).
        self.looked_at: RecentCache[tuple[int, bool], Step] = steps_read()
        # What a step takes, about; None until one was measured.
        self._step_s: float | None = None

    def bear(self, parent: Track) -> None:
        """Whether its particles are spawned by another emitter's."""
        self.parent = parent
        if isinstance(self.births, Offspring):
            self.births.parent, self.births.own = parent, self
            self.source.spawners = self.births

    def thinned(self, every: int) -> Track:
        """The motion of one in this many of its births: particles fly independently, so they fly as in the full track. Not for
        interacting or spawned particles."""
        assert self.interaction_group is None
        assert self.parent is None
        few = copy.copy(self)
        few.every, few.whole, few._born, few._step_s = every, self, RecentCache(_BORN_KEPT), None
        few.__dict__["admission"] = self.admission
        few.__dict__["motion"] = hashlib.sha256(f"{self.motion} one in {every}".encode()).hexdigest()
        return few

    @property
    def moved_alone(self) -> bool:
        """Whether it flies as if there were nothing to touch, to catch, or to be taken by."""
        return not isinstance(self.integrator, SteppedIntegrator)

    @functools.cached_property
    def motion(self) -> str:
        """What all its states depend on; known once all tracks that it is simulated with, and its parents, are."""
        if self.parent is None:
            return self.identity.motion
        parts = f"{self.identity.motion} {self.parent.depends_on(0)[0]}"
        return hashlib.sha256(parts.encode()).hexdigest()

    @functools.cached_property
    def admission(self) -> Admission:
        """The births that are admitted."""
        return self.cache.admission(
            (self.motion, self.tag(math.inf)), lambda: Admission(self.births, self.source, self.limit, self.binds)
        )

    def tag(self, t: float) -> str:
        """The keys that matter to its state at a moment, and to its parents."""
        own = self.identity.at(t)
        return own if self.parent is None else f"{own}|{self.parent.depends_on(t + 1 / self.hz)[1]}"

    def depends_on(self, t: float) -> tuple[str, str]:
        """What its state at a moment depends on: the motion, and the keys that matter until then; of all stepped together."""
        return (self.motion, self.tag(t)) if self.interaction_group is None else self.interaction_group.depends_on(t)

    def _first_index(self, index: int) -> int:
        """The first lattice step in which a particle that is alive at step `index` can have been born."""
        begin = self.births.begin_s
        if begin == -math.inf:
            begin = index / self.hz - self.source.longest_life - 2 / self.hz
        return min(math.floor(begin * self.hz), index) - 1

    def state(self, index: int, stale: Callable[[], bool] | None = None) -> State:
        """The state at a lattice step; raises Stale if `stale` reports that it is no longer wanted."""
        if self.interaction_group is not None:
            return self.interaction_group.of(self, index, stale)
        known, base = self._known(index)
        if base is None or known < index:
            first = self._first_index(index)
            begin = first if base is None else max(known, first)
            saves = None if self._step_s is None else self._step_s * (index - begin)
            known, base = self._handed(index, begin, saves) or (known, base)
        if base is not None and known == index:
            return base
        began = time.perf_counter()
        if base is None or known < first:
            known, base = first, self.empty_state()
        now = index / self.hz
        newborn = self.newborn(known / self.hz, now, stale)
        state = merged(base, self.integrator.alive(base, now), newborn)
        at = known
        while at < index:
            if stale is not None and stale():
                raise Stale
            until = min(index, at + max(1, _STEPS_AT_ONCE[self.steady] // max(1, state.count)))
            self.integrator.advance(state, at, until)
            at = until
        self.cache.keep(self.motion, self.tag(now), index, state)
        took = time.perf_counter() - began
        self._step_s = took / max(1, index - known)
        self.cache.share(self.motion, self.tag(now), index, (state,), took)
        return state

    def _known(self, index: int) -> tuple[int, State | None]:
        """The latest cached state at or before a step."""
        known, base = self.cache.nearest(self.motion, self._tag_at, index)
        if self.whole is not None and (base is None or known < index):
            at, among_all = self.cache.nearest(self.whole.motion, self._tag_at, index)
            if among_all is not None and (base is None or at > known):
                return at, self._few(at, among_all)
        return known, base

    def _handed(self, index: int, after: int, saves_s: float | None) -> tuple[int, State] | None:
        """The latest state at or before a step, and later than another, that other processes have."""
        found = self.cache.from_other_processes(self.motion, self._tag_at, index, after, saves_s)
        if found is not None:
            at, (state,) = found
            if at == index:
                self.cache.keep(self.motion, self._tag_at(at), at, state)
            return at, state
        if self.whole is None:
            return None
        found = self.cache.from_other_processes(self.whole.motion, self._tag_at, index, after, saves_s)
        return None if found is None else (found[0], self._few(found[0], found[1][0]))

    def _few(self, index: int, among_all: State) -> State:
        """The particles of a thinned track out of a full state: they fly independently, so each is where it would be without the
        others."""
        state = among_all.only(np.flatnonzero(among_all.births % self.every == 0))
        self.cache.keep(self.motion, self._tag_at(index), index, state)
        return state

    def _tag_at(self, index: int) -> str:
        return self.tag(index / self.hz)

    def newborn(self, after: float, until: float, stale: Callable[[], bool] | None) -> State:
        """Particles born in (after, until] that live beyond it, each in its state at birth.

        Frames, and the moments of a shutter, request a few at a time: those of some steps are computed together, and cached.
        """
        long = BORN_STEPS / self.hz
        if until - after > 2 * long or self._many or self.readings.live:
            return self._begun(*self.admission.between(after, until, stale))
        numbers = range(math.floor(after / long + 1e-9), math.ceil(until / long - 1e-9))
        parts = [self._born_in(number, stale) for number in numbers]
        inside = [
            np.flatnonzero(
                (part.moments <= until + self.births.now_s)
                & (part.moments + part.lives > until)
                & ((part.moments > after + self.births.now_s) | (after < self.births.begin_of(part.births)))
            )
            for part in parts
        ]
        some = [part.only(which) for part, which in zip(parts, inside, strict=True) if len(which)]
        if len(some) == 1:
            return some[0]
        return joined(some) if some else self.empty_state()

    def empty_state(self) -> State:
        """A state of this emitter without particles."""
        return empty_state(self.integrator.state_rows)

    def _begun(self, births: npt.NDArray[np.int64], moments: Doubles, lives: Floats) -> State:
        if self.every > 1:
            some = np.flatnonzero(births % self.every == 0)
            births, moments, lives = births[some], moments[some], lives[some]
        return self.integrator.begin(births, moments, lives)

    def _born_in(self, number: int, stale: Callable[[], bool] | None) -> State:
        """All births in a range of lattice steps, in order."""
        known = self._born.peek(number)
        if known is None:
            ends = (number * BORN_STEPS / self.hz, (number + 1) * BORN_STEPS / self.hz)
            known = self._begun(*self.admission.between(*ends, stale, living=False))
            self._born.put(number, known)
        return known

    def at(self, seconds: Fraction, stale: Callable[[], bool] | None = None) -> State:
        """The living particles at any moment of shot time."""
        index = lattice_index(seconds, self.hz)
        still = None if self.interaction_group is None else self.interaction_group.at_rest(self, float(seconds), stale)
        if still is not None and isinstance(self.integrator, SteppedIntegrator):
            return self.integrator.shown(still, index, float(seconds))
        state = self.state(index, stale)
        if seconds * self.hz == index:
            return self.integrator.seen(state, index)
        t = float(seconds)
        if isinstance(self.integrator, SteppedIntegrator) and (
            self.integrator.smooth or self.interaction_group is not None
        ):
            after = self.state(index + 1, stale)
            # What carries places is not in the velocities that a curve would follow.
            straight = self.interaction_group is not None and (
                self.interaction_group.straight or self.integrator.stirred
            )
            return self.integrator.blended(state, after, self.newborn(index / self.hz, t, stale), index, t, straight)
        return self.integrator.between(state, self.newborn(index / self.hz, t, stale), index, t)

    def flight(
        self, births: npt.NDArray[np.int64], moment: float, lives: Floats, stride: int, samples: int
    ) -> tuple[npt.NDArray[np.float32], npt.NDArray[np.float32]]:
        """Places of births that leave together at a moment, as they fly on: float32 (samples + 1, 3, n); ages at which
        each was taken away, infinite if it was not, (n,)."""
        places, taken, _ = self.flight_met(births, moment, lives, stride, samples)
        return places, taken

    def flight_met(
        self, births: npt.NDArray[np.int64], moment: float, lives: Floats, stride: int, samples: int
    ) -> tuple[npt.NDArray[np.float32], npt.NDArray[np.float32], npt.NDArray[np.float32]]:
        """As `flight`; and the ages at which each first touched a surface, infinite if it did not."""
        index = math.floor(moment * self.hz)
        state = self.integrator.begin(births, np.full(len(births), moment), lives)
        touched = np.full(len(births), np.inf, np.float32)
        # Of strands, their feet.
        joints = joints_of(self.emitter)
        own = slice(joints - 1, None, joints)
        places = [self.source.leave(births, state.moments[own])[0] if joints == 1 else state.place[:, own].copy()]
        taken = np.full(len(births), np.inf, np.float32)
        for _ in range(samples):
            self.integrator.advance(state, index, index + stride)
            index += stride
            if isinstance(self.integrator, SteppedIntegrator):
                here, gone = self.integrator.placed(state, index / self.hz)
                gone = gone[own]
                taken[gone] = np.minimum(taken[gone], index / self.hz - moment)
                places.append(here[:, own])
            else:
                places.append(state.place.copy())
        if isinstance(self.integrator, SteppedIntegrator):
            first = state.values[state_layout.TOUCHED, own]
            touched[first >= 0] = first[first >= 0]
        return np.stack(places), taken, touched
