"""Particles as displacements show them: places and sizes shifted by noise when they are looked at."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from isbjorn.core.arrays import Floats
from isbjorn.core.document import Shot
from isbjorn.core.document.fields.values import SINCE
from isbjorn.core.emit.newborn import BirthSource
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.simulate.forces.displacement import displace
from isbjorn.core.simulate.integrators.stepped import pack_world
from isbjorn.core.simulate.state import State


class Displaced:
    """The displacements that reach an emitter."""

    def __init__(self, shot: Shot, source: BirthSource, readings: Readings) -> None:
        self.shot, self.source, self.readings = shot, source, readings
        self.any = any(f.stage == "look" for f in shot.reaching(source.emitter))

    def shifted(self, state: State, age01: Floats, t: float) -> tuple[State, Floats]:
        """The state with its places shifted, and what sizes grow by, (n,)."""
        tables = pack_world(self.shot, self.source, self.readings, "look", np.array([t]), 0.0)
        values = state.values.copy()
        touch, caught = (state.measured(measure, t) for measure in SINCE)
        grown = displace(
            tables.rows, tables.zoned, tables.curves, self.source.key, state.births, age01, touch, caught, values
        )
        return replace(state, values=values), grown
