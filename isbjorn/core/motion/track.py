"""One emitter's motion through the shot: its state at any lattice step, stepped on from the nearest one kept."""

from __future__ import annotations

import hashlib
import math
from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
import numpy.typing as npt

from isbjorn.core.birth.admission import Admission, fair_shares, most_alive
from isbjorn.core.birth.newborn import leave, source_of
from isbjorn.core.birth.when import births_of
from isbjorn.core.document import Emitter, Shot
from isbjorn.core.errors import Stale
from isbjorn.core.life.draws import stream_key
from isbjorn.core.motion.cache import StateCache
from isbjorn.core.motion.forces import pack_forces
from isbjorn.core.motion.step import advance, between
from isbjorn.core.time import lattice_index

Floats = npt.NDArray[np.float32]
_STEPS_AT_ONCE = 40_000_000

MOTION_FIELDS = {
    "seed", "shape", "across", "up", "depth", "rate", "cadence", "start_s", "pre_roll_s", "lifespan",
    "direction", "spread", "in_depth", "speed",
}


@dataclass(frozen=True)
class State:
    """Particles of one emitter at one moment, in order of birth: structure of arrays, 44 bytes a particle.

    births (n,) int64, moments (n,) float64 s, lives (n,) float32 s, place and velocity (3, n) float32 px, px/s.
    """

    births: npt.NDArray[np.int64]
    moments: npt.NDArray[np.float64]
    lives: Floats
    place: Floats
    velocity: Floats

    @property
    def count(self) -> int:
        return len(self.births)

    @property
    def nbytes(self) -> int:
        arrays = (self.births, self.moments, self.lives, self.place, self.velocity)
        return sum(a.nbytes for a in arrays)

    def only(self, chosen: npt.NDArray[np.bool_]) -> State:
        """The chosen particles, copied."""
        return State(
            self.births[chosen], self.moments[chosen], self.lives[chosen],
            np.ascontiguousarray(self.place[:, chosen]), np.ascontiguousarray(self.velocity[:, chosen]),
        )


def joined(a: State, b: State) -> State:
    """Two states as one; b's particles are younger. Always a copy that may be stepped in place."""
    return State(
        np.concatenate([a.births, b.births]), np.concatenate([a.moments, b.moments]),
        np.concatenate([a.lives, b.lives]), np.concatenate([a.place, b.place], axis=1),
        np.concatenate([a.velocity, b.velocity], axis=1),
    )


def shares_of(shot: Shot) -> dict[str, int]:
    """Each emitter's limit, once the shot's limit is divided among those that are on."""
    on = [e for e in shot.emitters if e.on]
    demands = []
    for emitter in on:
        key = int(stream_key(shot.seed, emitter.seed))
        demands.append(most_alive(births_of(emitter, key), source_of(emitter, key)))
    shares = fair_shares(demands, [e.limit for e in on], shot.limit)
    return {e.id: min(share, e.limit) for e, share in zip(on, shares, strict=True)}


class Track:
    """The motion of one emitter. Its states are shared through a cache by every track of the same motion."""

    def __init__(self, shot: Shot, emitter: Emitter, limit: int, cache: StateCache) -> None:
        self.emitter, self.hz, self.cache = emitter, shot.simulation_rate, cache
        self.key = int(stream_key(shot.seed, emitter.seed))
        self.births = births_of(emitter, self.key)
        self.source = source_of(emitter, self.key)
        self.forces = pack_forces(shot.reaching(emitter), shot)
        self.demand = most_alive(self.births, self.source)
        binds = self.demand > limit
        identity = (
            shot.seed, self.hz, limit if binds else None, self.forces.tobytes(),
            emitter.model_dump_json(include=MOTION_FIELDS),
        )
        self.motion = hashlib.sha256(repr(identity).encode()).hexdigest()
        self.admission = cache.admission((self.motion, emitter.end_s), lambda: Admission(self.births, self.source, limit))
        self.first_index = math.floor(self.births.begin_s * self.hz)

    def state(self, index: int, stale: Callable[[], bool] | None = None) -> State:
        """The state at a lattice step; raises Stale if `stale` says that nobody waits for it."""
        known, base = self.cache.nearest(self.motion, self.births.end_s, index, self.hz)
        if base is not None and known == index:
            return base
        if base is None:
            known = min(self.first_index, index) - 1
            none = np.empty((3, 0), np.float32)
            base = State(np.empty(0, np.int64), np.empty(0), np.empty(0, np.float32), none, none)
        now = index / self.hz
        numbers, moments, lives = self.admission.between(known / self.hz, now, stale)
        survivors = base.only(base.moments + base.lives > now)
        state = joined(survivors, State(numbers, moments, lives, *leave(self.source, numbers)))
        at = known
        while at < index:
            if stale is not None and stale():
                raise Stale
            until = min(index, at + max(1, _STEPS_AT_ONCE // max(1, state.count)))
            advance(state.place, state.velocity, state.births, state.moments, self.forces, self.key, at, until, self.hz)
            at = until
        self.cache.keep(self.motion, self.births.end_s, index, state)
        return state

    def at(self, seconds: Fraction, stale: Callable[[], bool] | None = None) -> State:
        """The living particles at any moment of shot time, between lattice states by cubic Hermite."""
        index = lattice_index(seconds, self.hz)
        state = self.state(index, stale)
        if seconds * self.hz == index:
            return state
        t, left, right = float(seconds), index / self.hz, (index + 1) / self.hz
        numbers, moments, lives = self.admission.between(left, t, stale)
        newborn = State(numbers, moments, lives, *leave(self.source, numbers))
        start = joined(state.only(state.moments + state.lives > t), newborn)
        place, velocity = start.place.copy(), start.velocity.copy()
        advance(place, velocity, start.births, start.moments, self.forces, self.key, index, index + 1, self.hz)
        place, velocity = between(start.place, start.velocity, place, velocity, start.moments, left, right, t)
        return State(start.births, start.moments, start.lives, place, velocity)
