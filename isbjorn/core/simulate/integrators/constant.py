"""The mover of particles that feel the same all their life: each step is one multiplication and one addition a number."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Floats
from isbjorn.core.document import Emitter, Shot
from isbjorn.core.emit.newborn import BirthSource
from isbjorn.core.evaluate.geometry.placed_models import ModelRows
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.simulate.forces import pack
from isbjorn.core.simulate.forces.force_layout import WIDTH, ForceSetting
from isbjorn.core.simulate.state import State
from isbjorn.core.simulate.state_layout import ROWS
from isbjorn.core.simulate.steps import advance, between, settle

_SEEN = 7


def is_steady(shot: Shot, emitter: Emitter, readings: Readings) -> bool:
    """Whether only constant gravity and linear drag act on an emitter's particles, without interactions (nothing at all where they
    arrive at a place); or they are recorded."""
    if emitter.recording is not None:
        return True
    if emitter.strand is not None:
        return False
    arrives = emitter.pieces is not None and emitter.pieces.assemble is not None
    for force in shot.reaching(emitter):
        if arrives and force.stage == "motion":
            return False
        calm = bool(force.closed_form) or force.stage == "look"
        framed = force.frame == "shot" or readings.still(emitter)
        if not calm or (force.zone is not None and force.stage == "motion") or not framed or not readings.still(force):
            return False
    e = emitter
    # An acceleration is the same for any mass.
    dragged = any(force.closed_form == "resistance" for force in shot.reaching(emitter))
    heavy = dragged and (e.mass.value != 1 or e.mass.spread > 0 or e.mass.timed)
    limited = e.speed_limit.value > 0 or e.speed_limit.timed
    along = e.stays == "along" and not readings.still(e)
    return not (heavy or limited or along or e.speed.over_life is not None)


class ConstantIntegrator:
    """Particles under constant gravity and drag, integrated exactly. values rows 7 on: what a step does (see `settle`)."""

    state_rows = ROWS

    def __init__(self, shot: Shot, source: BirthSource, readings: Readings) -> None:
        self.source, self.key, self.hz = source, source.key, shot.simulation_rate
        setting = ForceSetting(shot, source.emitter, readings, np.zeros(1), None, [], [], [], ModelRows(), {})
        rows = [pack(f, setting) for f in shot.reaching(source.emitter) if f.stage == "motion"]
        # In one order whatever the cast's, so that sums round alike.
        rows.sort(key=lambda row: row.tobytes())
        self.rows = np.ascontiguousarray(np.stack(rows, axis=1) if rows else np.zeros((1, 0, WIDTH)))

    def begin(self, births: npt.NDArray[np.int64], moments: npt.NDArray[np.float64], lives: Floats) -> State:
        """Births by their number, each as it is at its birth moment."""
        values = np.empty((self.state_rows, len(births)), np.float32)
        values[0:3], values[3:6], _ = self.source.leave(births, moments)
        values[6] = lives
        settle(births, self.rows, self.key, self.hz, values[7:])
        return State(births, moments, values)

    def advance(self, state: State, index: int, until: int) -> None:
        """Step in place from lattice step `index` to `until`."""
        advance(state.values, state.births, state.moments, self.rows, self.key, index, until, self.hz)

    def alive(self, state: State, t: float) -> npt.NDArray[np.int64]:
        """The columns of the particles that live beyond shot time t."""
        return np.flatnonzero(state.moments + state.lives > t)

    def between(self, state: State, newborn: State, index: int, t: float) -> State:
        """The living particles at a moment after lattice step `index`: between lattice states by cubic Hermite."""
        kept, every = self.alive(state, t), np.arange(newborn.count)
        values = np.empty((_SEEN, len(kept) + newborn.count), np.float32)
        for part, columns, offset in ((state, kept, 0), (newborn, every, len(kept))):
            between(
                part.values, part.births, part.moments, self.rows, self.key, index, self.hz, t, columns, offset, values
            )
        births = np.concatenate([state.births[kept], newborn.births])
        return State(births, np.concatenate([state.moments[kept], newborn.moments]), values)

    def seen(self, state: State, index: int) -> State:  # noqa: ARG002
        """A lattice state as it is looked at."""
        return state
