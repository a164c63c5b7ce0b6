"""A group of emitters whose particles interact, simulated together on the lattice from their first birth on.

In a step, the velocity passes of the interactions change velocities by the state at its start. Then the particles of each emitter
are stepped in the world as if alone, the newborn for the rest of the step. Then follow the position passes and the state passes.
One state in some steps is stored, and states are thinned when they take too much memory: a jump runs through a few steps only.
"""

from __future__ import annotations

import functools
import hashlib
import json
import math
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from isbjorn.core.arrays import Bools, Doubles, Floats, Longs
from isbjorn.core.document import Number, Shot
from isbjorn.core.document.editing.diff import changes_between
from isbjorn.core.document.editing.effective_shot import effective_shot
from isbjorn.core.document.fields.kinds import FORCES
from isbjorn.core.document.parts.interactions import Interaction
from isbjorn.core.emit.newborn import share_of_life
from isbjorn.core.errors import Stale
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.random import SIZE
from isbjorn.core.simulate import contact, state_layout
from isbjorn.core.simulate.forces import zones
from isbjorn.core.simulate.integrators.stepped import SteppedIntegrator, pack_world
from isbjorn.core.simulate.interactions.interaction_view import (
    PARTICLE_ROWS,
    EmitterPart,
    InteractingParticles,
    InteractionView,
    Own,
    shares,
)
from isbjorn.core.simulate.interactions.static_contagion import caught_at_rest, still_contagion
from isbjorn.core.simulate.state import State, merged
from isbjorn.core.simulate.table_types import Zones
from isbjorn.core.simulate.track import Track

# Births from eternity are run up to for no longer.
_LONGEST_RUN_UP_S = 30.0
_LOOK_UP_S, _WORTH_A_WORD_S = 0.05, 0.3
_HINDERED_PX = 1e-3


@dataclass(frozen=True)
class GroupState:
    """The states of the group's emitters at a lattice step, in the order of the cast."""

    states: tuple[State, ...]

    @property
    def nbytes(self) -> int:
        return sum(state.nbytes for state in self.states)


@dataclass(frozen=True)
class Running:
    """How far a run is: shot time that is reached, and seconds that are left, about."""

    reached_s: float
    left_s: float


def interaction_groups(shot: Shot) -> list[tuple[tuple[int, ...], tuple[Interaction, ...]]]:
    """Which emitters are stepped together, by their places in the cast, and what ties them."""
    groups: list[tuple[set[int], set[str]]] = []
    interactions = {f.id: f for f in shot.forces if f.on and isinstance(f, Interaction)}
    for number, emitter in enumerate(shot.emitters):
        mine = {f.id for f in shot.reaching(emitter) if f.id in interactions} if emitter.on else set()
        if not mine:
            continue
        found = ({number}, mine)
        for other in [g for g in groups if g[1] & mine]:
            groups.remove(other)
            found = (found[0] | other[0], found[1] | other[1])
        groups.append(found)
    return [(tuple(sorted(numbers)), tuple(interactions[name] for name in sorted(names))) for numbers, names in groups]


def _say_what_moved(state: State, before: State, free: State, took_s: Doubles) -> None:
    """Write into a state by which velocities particles moved in a step of took_s (n,), and which did not move as if they were
    alone: before, free: as they were when it began, and as they would be then."""
    hindered = (np.abs(state.place - free.place).max(axis=0) > _HINDERED_PX) & (took_s > 1e-4)
    state.values[state_layout.HINDERED] = hindered
    state.values[state_layout.MOVED : state_layout.MOVED + 3] = (state.place - before.place) / np.maximum(took_s, 1e-4)


def moves_differently(before: Shot | None, after: Shot) -> bool:
    """Whether interacting emitters move differently than before an edit; None: nothing is known of the previous shot."""
    after = effective_shot(after)
    interacting = interaction_groups(after)
    edit = changes_between(effective_shot(before), after) if interacting and before is not None else None
    return bool(interacting) and (
        edit is None or any(after.emitters[n].id in edit.moved for of, _ in interacting for n in of)
    )


class Held:
    """Tracks shown in the states of another group: that of the shot before an edit, while there is no time to simulate their
    own from its first birth on."""

    def __init__(self, interaction_group: InteractionGroup, theirs: dict[str, Track]) -> None:
        self.interaction_group, self.theirs = interaction_group, theirs
        self.straight = interaction_group.straight

    @classmethod
    def of_before(cls, tracks: Sequence[Track], before: Sequence[Track]) -> Held | None:
        """For tracks of an edited shot, by all those of the shot before; None if they did not interact."""
        theirs = {track.emitter.id: track for track in before}
        own = [theirs.get(track.emitter.id) for track in tracks]
        interacting = {id(track.interaction_group): track.interaction_group for track in own if track is not None}
        interaction_group = next(iter(interacting.values()), None)
        return (
            cls(interaction_group, theirs)
            if len(interacting) == 1 and None not in own and isinstance(interaction_group, InteractionGroup)
            else None
        )

    def of(self, track: Track, index: int, stale: Callable[[], bool] | None = None) -> State:
        return self.interaction_group.of(self.theirs[track.emitter.id], index, stale)

    def depends_on(self, t: float) -> tuple[str, str]:
        return self.interaction_group.depends_on(t)

    def at_rest(self, track: Track, t: float, stale: Callable[[], bool] | None = None) -> State | None:
        return self.interaction_group.at_rest(self.theirs[track.emitter.id], t, stale)


class InteractionGroup:
    """Tracks that are stepped together."""

    def __init__(
        self, shot: Shot, tracks: list[Track], interactions: tuple[Interaction, ...], readings: Readings
    ) -> None:
        self.shot, self.tracks, self.interactions, self.readings = shot, tracks, interactions, readings
        self.hz, self.cache, self.checkpoints = shot.simulation_rate, tracks[0].cache, tracks[0].cache.checkpoints
        # Bodies that are turned round between two steps go straight between them: a curve would bring them into what holds them.
        self.straight = any(hasattr(FORCES.of(m).made, "position_pass") for m in interactions)
        # One thread at a time computes further states; others that ask meanwhile find them.
        self._running = threading.Lock()
        self.running: Running | None = None
        # Caches of interactions from step to step, which never change a result.
        self._kept: dict[str, dict[str, Any]] = {}
        # Particles that never move have only one state, which is known at once.
        self.still = still_contagion(self)

    @functools.cached_property
    def motion(self) -> str:
        """What all states depend on."""
        parts = [[track.emitter.id, track.motion] for track in self.tracks]
        return hashlib.sha256(json.dumps(parts).encode()).hexdigest()

    def depends_on(self, t: float) -> tuple[str, str]:
        """What states at a moment depend on: the motion, and the keys that matter up to then."""
        return self.motion, "|".join(track.tag(t) for track in self.tracks)

    def tag(self, index: int) -> str:
        """What the state at a lattice step depends on besides the motion."""
        return self.depends_on(index / self.hz)[1]

    def first_index(self) -> int:
        """The lattice step before the first birth."""
        begins = []
        for track in self.tracks:
            begin = track.births.begin_s
            if begin == -math.inf:
                begin = -min(track.source.longest_life, _LONGEST_RUN_UP_S)
            begins.append(begin)
        return math.floor(min(begins) * self.hz) - 1

    def known(self, index: int) -> tuple[int, GroupState | None]:
        """The latest kept state at or before a step."""
        return self.checkpoints.nearest(self.motion, self.tag, index)

    def _handed(self, index: int) -> tuple[int, GroupState | None]:
        """As `known`; what other processes have is looked for too, and kept."""
        at, state = self.known(index)
        if state is None or at < index:
            found = self.cache.from_other_processes(self.motion, self.tag, index, None if state is None else at, None)
            if found is not None:
                at, state = found[0], GroupState(found[1])
                self.checkpoints.keep(self.motion, self.tag(at), at, state, asked=at == index)
        return at, state

    @property
    def reach_s(self) -> float | None:
        """Shot time up to which states are stored, so that any earlier moment is available quickly; None if all are, or none."""
        if self.still is not None:
            return None
        index = self.checkpoints.furthest(self.motion, self.tag)
        return None if index is None else index / self.hz

    def state(self, index: int, stale: Callable[[], bool] | None = None) -> GroupState:
        """The states at a lattice step; raises Stale if `stale` reports that they are no longer wanted."""
        at, state = self.known(index)
        if state is not None and at == index:
            return state
        while not self._running.acquire(timeout=_LOOK_UP_S):
            if stale is not None and stale():
                raise Stale
        try:
            at, state = self._handed(index)
            if state is None:
                at, state = (
                    min(index, self.first_index()),
                    GroupState(tuple(track.empty_state() for track in self.tracks)),
                )
            begun, shared_at = (at, time.monotonic()), time.perf_counter()
            while at < index:
                if stale is not None and stale():
                    raise Stale
                state, at = self._step(state, at, stale), at + 1
                checkpoint = self.checkpoints.keep(self.motion, self.tag(at), at, state, asked=at == index)
                if checkpoint or at == index:
                    before, shared_at = shared_at, time.perf_counter()
                    self.cache.share(self.motion, self.tag(at), at, state.states, shared_at - before, checkpoint)
                self._report(at, index, begun)
            return state
        finally:
            self.running = None
            self._running.release()

    def _report(self, at: int, index: int, begun: tuple[int, float]) -> None:
        """Say how far it is, and how many seconds are left, once they are worth a word."""
        first, started = begun
        taken = time.monotonic() - started
        if taken > _WORTH_A_WORD_S and at < index:
            self.running = Running(at / self.hz, taken / (at - first) * (index - at))

    def at_rest(self, track: Track, t: float, stale: Callable[[], bool] | None = None) -> State | None:
        """One emitter's state at any moment, if no particle of the group ever moves."""
        if self.still is None:
            return None
        found = caught_at_rest(self, self.still, stale)
        return found.state(self.tracks.index(track), t) if found.moments else None

    def of(self, track: Track, index: int, stale: Callable[[], bool] | None = None) -> State:
        """One emitter's state at a lattice step."""
        still = self.at_rest(track, index / self.hz, stale)
        return self.state(index, stale).states[self.tracks.index(track)] if still is None else still

    def _step(self, interaction_group: GroupState, index: int, stale: Callable[[], bool] | None) -> GroupState:
        t, until = index / self.hz, (index + 1) / self.hz
        velocity_passes = [m for m in self.interactions if hasattr(FORCES.of(m).made, "velocity_pass")]
        position_passes = [m for m in self.interactions if hasattr(FORCES.of(m).made, "position_pass")]
        states = interaction_group.states
        if velocity_passes and sum(s.count for s in states) > 0:
            states = self._swayed(states, velocity_passes, index, t)
        parts, free, before = [], [], []
        for track, state in zip(self.tracks, states, strict=True):
            moved = merged(state, track.integrator.alive(state, until), track.newborn(t, until, stale))
            if position_passes:
                before.append(State(moved.births, moved.moments, moved.values.copy()))
                free.append(State(moved.births, moved.moments, moved.values.copy()))
                assert isinstance(track.integrator, SteppedIntegrator)
                track.integrator.fly(free[-1], index, index + 1)
            track.integrator.advance(moved, index, index + 1)
            parts.append(moved)
        if position_passes and sum(s.count for s in parts) > 0:
            together = self._together(parts, index, until, (before, free))
            moved_on = np.zeros(together.place.shape[1], np.bool_)
            for interaction in position_passes:
                share = self._share(interaction, parts, until)
                moved_on |= FORCES.of(interaction).made.position_pass(interaction, self.reader(until), together, share)
            self._put(parts, together, moved_on, until)
            for state, began, alone in zip(parts, before, free, strict=True):
                if len(state.values) > state_layout.HINDERED:
                    _say_what_moved(state, began, alone, np.minimum(1 / self.hz, until - state.moments))
        state_passes = [m for m in self.interactions if hasattr(FORCES.of(m).made, "state_pass")]
        if state_passes and sum(s.count for s in parts) > 0:
            for interaction in state_passes:
                self._turn(interaction, parts, t)
        return GroupState(tuple(parts))

    def _turn(self, interaction: Interaction, states: list[State], t: float) -> None:
        """What happens between particles in a step from shot time t on: written into the rows of the states, which are new."""
        reached = [
            (track, state)
            for track, state in zip(self.tracks, states, strict=True)
            if len(state.values) > state_layout.CAUGHT and state.count
        ]
        if not reached:
            return
        until = t + 1 / self.hz
        particles, ends = self.particles(reached, t, 1 / self.hz)
        share = np.concatenate([self.strengths(interaction, track, state, until) for track, state in reached])
        FORCES.of(interaction).made.state_pass(
            interaction, self.reader(until), particles, share, self._kept.setdefault(interaction.id, {})
        )
        for (_, state), first, last in zip(reached, ends, ends[1:], strict=False):
            for row, values in zip(PARTICLE_ROWS, particles.values, strict=True):
                state.values[row] = values[first:last]

    def particles(self, reached: list[tuple[Track, State]], t: float, h: float) -> tuple[InteractingParticles, Longs]:
        """What something happens to in a step of h s from shot time t on, and where each emitter's begin and the last end."""
        ends = np.cumsum([0, *(state.count for _, state in reached)])
        until = t + h
        particles = InteractingParticles(
            np.ascontiguousarray(np.concatenate([s.place + self._origin(track, until) for track, s in reached], axis=1)),
            np.concatenate([s.values[list(PARTICLE_ROWS)] for _, s in reached], axis=1),
            np.concatenate([s.births for _, s in reached]), np.concatenate([s.moments for _, s in reached]),
            tuple(
                Own(int(first), int(last), track.key, track.source.light)
                for (track, _), first, last in zip(reached, ends, ends[1:], strict=False)
            ),
            t, h, lambda name: self._zone(name, until),
        )  # fmt: skip
        return particles, ends

    def _zone(self, name: str | None, t: float) -> Zones | None:
        """A zone at a moment; None if no zone has the id."""
        zone = next((z for z in self.shot.zones if z.id == name), None)
        return None if zone is None else zones.packed([zone], self.readings, np.array([t]))

    def reader(self, t: float) -> Callable[[Number], float]:
        """Reads numbers at a moment."""
        return lambda number: self.readings.now(number, t)

    def _swayed(
        self, states: tuple[State, ...], velocity_passes: list[Interaction], index: int, t: float
    ) -> tuple[State, ...]:
        """States after the interactions of a step changed their velocities."""
        together = self._together(list(states), index, t, None)
        added = np.zeros_like(together.velocity)
        for interaction in velocity_passes:
            share = self._share(interaction, states, t)
            added += FORCES.of(interaction).made.velocity_pass(
                interaction, self.reader(t + 0.5 / self.hz), together, share
            )
        added[:, together.fixed > 0] = 0
        found = []
        for part, state in zip(together.parts, states, strict=True):
            values = state.values.copy()
            values[3:6] += added[:, part.first : part.last]
            found.append(State(state.births, state.moments, values))
        return tuple(found)

    def _together(
        self, states: list[State], index: int, t: float, ends_of: tuple[list[State], list[State]] | None
    ) -> InteractionView:  # fmt: skip
        """What is seen of states at a moment. ends_of: as they were when the step began, and as they are if they touch nothing."""
        ends = np.cumsum([0, *(s.count for s in states)])
        parts, origins = [], []
        for number, (track, state) in enumerate(zip(self.tracks, states, strict=True)):
            assert isinstance(track.integrator, SteppedIntegrator)
            tables, _ = track.integrator.tables(index)
            solid = track.integrator.solid
            parts.append(
                EmitterPart(int(ends[number]), int(ends[number + 1]), tables.rows, tables.paths, tables.solids, solid)
            )
            origins.append(np.repeat(self._origin(track, t), state.count, axis=1))
        origin = np.concatenate(origins, axis=1)
        values = np.concatenate([s.values[: state_layout.ROWS] for s in states], axis=1)
        first, last = ends_of or (states, states)
        (before, started), (place, velocity) = (
            (
                np.ascontiguousarray(np.concatenate([s.place for s in some], axis=1) + origin),
                np.concatenate([s.velocity for s in some], axis=1),
            )
            for some in (first, last)
        )
        radius = [self._radius(track, state, t) for track, state in zip(self.tracks, states, strict=True)]
        return InteractionView(
            before, started, place, velocity, np.concatenate(radius),
            np.ascontiguousarray(np.maximum(values[state_layout.MASS], 1e-6)),
            (values[state_layout.HOW] != contact.FREE).astype(np.float32),
            np.concatenate([t - s.moments for s in states]).astype(np.float32), tuple(parts), 1 / self.hz,
        )  # fmt: skip

    def _origin(self, track: Track, t: float) -> Floats:
        """The origin of an emitter's places, (3, 1)."""
        if track.emitter.stays != "along":
            return np.zeros((3, 1), np.float32)
        return np.asarray(self.readings.frames(track.emitter, np.array([t])).place.T, np.float32)

    def _radius(self, track: Track, state: State, t: float) -> Floats:
        """Radii of particles as they are seen at a moment, px (n,)."""
        size = track.emitter.size
        drawn = state.values[state_layout.SIZE]
        if size.timed and size.reads == "life":
            drawn = np.maximum(0, drawn + self.reader(t)(size))
        age01 = np.clip((t - state.moments) / state.lives, 0, 1)
        share = share_of_life(size, track.key, state.births, SIZE, age01)
        return np.asarray(0.5 * drawn * np.maximum(share, 0), np.float32)

    def _share(self, interaction: Interaction, states: Sequence[State], t: float) -> Floats:
        """The strength of an interaction for each particle of the group, (n,); 0 where it does not reach."""
        return np.concatenate(
            [self.strengths(interaction, track, state, t) for track, state in zip(self.tracks, states, strict=True)]
        )

    def strengths(self, interaction: Interaction, track: Track, state: State, t: float) -> Floats:
        """The strength of an interaction for each of an emitter's particles, (n,)."""
        names = sorted(f.id for f in self.shot.reaching(track.emitter) if f.stage == "interaction")
        # Joints of strands are held to each other: they are not pushed besides.
        strands = track.emitter.strand is not None and hasattr(FORCES.of(interaction).made, "position_pass")
        if interaction.id not in names or state.count == 0 or strands:
            return np.zeros(state.count, np.float32)
        tables = pack_world(self.shot, track.source, self.readings, "interaction", np.array([t]), 0.0)
        values = state.values
        if track.emitter.stays == "along":
            values = values.copy()
            values[0:3] += self._origin(track, t)
        strengths = shares(
            tables.rows, tables.zoned, tables.curves, names.index(interaction.id), track.key, state.births, state.moments, t, values
        )  # fmt: skip
        return np.where(state.values[state_layout.HOW] == contact.GONE, 0, strengths).astype(np.float32)

    def _put(self, states: list[State], together: InteractionView, moved_on: Bools, t: float) -> None:
        """Write positions and velocities of moved particles back into states; the world has moved all others."""
        for track, part, state in zip(self.tracks, together.parts, states, strict=True):
            own = slice(part.first, part.last)
            free = moved_on[own]
            state.values[0:3] = np.where(free, together.place[:, own] - self._origin(track, t), state.values[0:3])
            state.values[3:6] = np.where(free, together.velocity[:, own], state.values[3:6])
