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
from isbjorn.core.motion.step import advance, between, gather, settle
from isbjorn.core.time import lattice_index

Floats = npt.NDArray[np.float32]
_STEPS_AT_ONCE = 40_000_000
_SEEN_ROWS, _ROWS = 7, 15

MOTION_FIELDS = {
    "seed",
    "shape",
    "across",
    "up",
    "depth",
    "rate",
    "cadence",
    "start_s",
    "pre_roll_s",
    "lifespan",
    "direction",
    "spread",
    "in_depth",
    "speed",
}


@dataclass(frozen=True)
class State:
    """Particles of one emitter at one moment, in order of birth: structure of arrays, 76 bytes a particle.

    births (n,) int64, moments (n,) float64 s; values (15, n) float32: place px (3), velocity px/s (3), lifespan s, and
    what a whole step does to it (8, see `settle`). A state between lattice steps lacks the last 8: it is only looked at.
    """

    births: npt.NDArray[np.int64]
    moments: npt.NDArray[np.float64]
    values: Floats

    @property
    def count(self) -> int:
        return len(self.births)

    @property
    def place(self) -> Floats:
        return self.values[0:3]

    @property
    def velocity(self) -> Floats:
        return self.values[3:6]

    @property
    def lives(self) -> Floats:
        return self.values[6]

    @property
    def nbytes(self) -> int:
        return self.births.nbytes + self.moments.nbytes + self.values.nbytes

    def alive_at(self, t: float) -> npt.NDArray[np.int64]:
        """The columns of those that live beyond shot time t."""
        return np.flatnonzero(self.moments + self.lives > t)


def _nobody() -> State:
    return State(np.empty(0, np.int64), np.empty(0), np.empty((_ROWS, 0), np.float32))


def shares_of(shot: Shot) -> dict[str, int]:
    """Each emitter's limit, once the shot's limit is divided among those that are on."""
    on = [e for e in shot.emitters if e.on]
    demands = []
    for emitter in on:
        key = int(stream_key(np.uint64(shot.seed), np.uint64(emitter.seed)))
        demands.append(most_alive(births_of(emitter, key), source_of(emitter, key)))
    shares = fair_shares(demands, [e.limit for e in on], shot.limit)
    return {e.id: min(share, e.limit) for e, share in zip(on, shares, strict=True)}


class Track:
    """The motion of one emitter. Its states are shared through a cache by every track of the same motion."""

    def __init__(self, shot: Shot, emitter: Emitter, limit: int, cache: StateCache) -> None:
        self.emitter, self.hz, self.cache = emitter, shot.simulation_rate, cache
        self.key = int(stream_key(np.uint64(shot.seed), np.uint64(emitter.seed)))
        self.births = births_of(emitter, self.key)
        self.source = source_of(emitter, self.key)
        self.forces = pack_forces(shot.reaching(emitter), shot)
        binds = most_alive(self.births, self.source) > limit
        identity = (
            shot.seed,
            self.hz,
            limit if binds else None,
            self.forces.tobytes(),
            emitter.model_dump_json(include=MOTION_FIELDS),
        )
        self.motion = hashlib.sha256(repr(identity).encode()).hexdigest()
        self.admission = cache.admission(
            (self.motion, emitter.end_s), lambda: Admission(self.births, self.source, limit)
        )
        self.first_index = math.floor(self.births.begin_s * self.hz)

    def state(self, index: int, stale: Callable[[], bool] | None = None) -> State:
        """The state at a lattice step; raises Stale if `stale` says that nobody waits for it."""
        known, base = self.cache.nearest(self.motion, self.births.end_s, index, self.hz)
        if base is not None and known == index:
            return base
        if base is None:
            known, base = min(self.first_index, index) - 1, _nobody()
        now = index / self.hz
        newborn = self._newborn(known / self.hz, now, stale)
        kept = base.alive_at(now)
        values = np.empty((_ROWS, len(kept) + newborn.count), np.float32)
        gather(base.values, kept, values)
        values[:, len(kept) :] = newborn.values
        births = np.concatenate([base.births[kept], newborn.births])
        moments = np.concatenate([base.moments[kept], newborn.moments])
        at = known
        while at < index:
            if stale is not None and stale():
                raise Stale
            until = min(index, at + max(1, _STEPS_AT_ONCE // max(1, len(births))))
            advance(values, births, moments, self.forces, self.key, at, until, self.hz)
            at = until
        state = State(births, moments, values)
        self.cache.keep(self.motion, self.births.end_s, index, state)
        return state

    def _newborn(self, after: float, until: float, stale: Callable[[], bool] | None) -> State:
        """Those born in (after, until] that live beyond it, each as it was at its birth."""
        numbers, moments, lives = self.admission.between(after, until, stale)
        return self.begin(numbers, moments, lives)

    def begin(self, births: npt.NDArray[np.int64], moments: npt.NDArray[np.float64], lives: Floats) -> State:
        """Births by their number, each as it is at its birth moment."""
        values = np.empty((_ROWS, len(births)), np.float32)
        values[0:3], values[3:6] = leave(self.source, births)
        values[6] = lives
        settle(births, self.forces, self.key, self.hz, values[7:])
        return State(births, moments, values)

    def at(self, seconds: Fraction, stale: Callable[[], bool] | None = None) -> State:
        """The living particles at any moment of shot time, between lattice states by cubic Hermite."""
        index = lattice_index(seconds, self.hz)
        state = self.state(index, stale)
        if seconds * self.hz == index:
            return state
        t = float(seconds)
        newborn = self._newborn(index / self.hz, t, stale)
        kept, every = state.alive_at(t), np.arange(newborn.count)
        values = np.empty((_SEEN_ROWS, len(kept) + newborn.count), np.float32)
        for source, columns, offset in ((state, kept, 0), (newborn, every, len(kept))):
            between(
                source.values,
                source.births,
                source.moments,
                self.forces,
                self.key,
                index,
                self.hz,
                t,
                columns,
                offset,
                values,
            )
        births = np.concatenate([state.births[kept], newborn.births])
        return State(births, np.concatenate([state.moments[kept], newborn.moments]), values)
