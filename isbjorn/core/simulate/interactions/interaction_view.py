"""The particles of a group at one step, as interactions see them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import prange

from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.emit.shapes.base import Light
from isbjorn.core.jit import njit
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate import state_layout
from isbjorn.core.simulate.forces import zones
from isbjorn.core.simulate.forces.force_layout import ZONE, strength
from isbjorn.core.simulate.state_layout import CAUGHT, TOUCHED
from isbjorn.core.simulate.table_types import ZONES, Solids, Zones

Read = Callable[[Any], float]


@dataclass(frozen=True)
class EmitterPart:
    """The particles of one emitter in a group, columns `first` to `last`, with the surfaces that it knows."""

    first: int
    last: int
    rows: Doubles
    paths: Doubles
    solids: Solids
    solid: bool


@dataclass(frozen=True)
class InteractionView:
    """The particles of a group, in the order of emitters and births: structure of arrays (k, n).

    before, started: places px and velocities px/s (3, n) when the step began; place, velocity: now, and once the step is done, as
    if nothing were touched; radius px, mass; fixed: which do not move, because they stick; age s, at the end of the step. h: the
    step in s.
    """

    before: Floats
    started: Floats
    place: Floats
    velocity: Floats
    radius: Floats
    mass: Floats
    fixed: Floats
    age: Floats
    parts: tuple[EmitterPart, ...]
    h: float


@dataclass(frozen=True)
class Own:
    """The particles of one emitter among kin, columns `first` to `last`: the key of its draws, and the plate that it sees."""

    first: int
    last: int
    key: int
    light: Light | None


# Rows of a state with the events of a particle, as they are in `Kin.values`.
PARTICLE_ROWS = (state_layout.HOW, state_layout.GONE_AT, state_layout.CAUGHT, state_layout.NEAR_SINCE)
K_HOW, K_GONE_AT, K_CAUGHT, K_NEAR_SINCE = range(4)


@dataclass(frozen=True)
class InteractingParticles:
    """Interacting particles, in the order of emitters and births.

    place px (3, n) in the shot; values: the rows `OF_KIN` of states, to be changed; births, moments (n,); now: when the step began,
    of h s; zone: the zone with an id at its end, as zones of one row, or None.
    """

    place: Floats
    values: Floats
    births: Longs
    moments: Doubles
    parts: tuple[Own, ...]
    now: float
    h: float
    zone: Callable[[str | None], Zones | None]


@njit(
    f"void(f8[:,:,::1], {ZONES}, f4[:,::1], i8, u8, i8[::1], f8[::1], f8, f4[:,::1], f4[::1])",
    parallel=True,
    cache=True,
)
def _shares(
    rows: Doubles, zoned: Zones, curves: Floats, r: int, key: np.uint64, births: Longs, moments: Doubles, t: float,
    values: Floats, out: Floats,
) -> None:  # fmt: skip
    for i in prange(len(births)):
        x, y, z = float(values[0, i]), float(values[1, i]), float(values[2, i])
        zone, share = int(rows[0, r, ZONE]), 1.0
        if zone >= 0:
            share = zones.weight(zoned, 0, zone, x, y, z)
        if share > 0:
            age01 = min(max((t - moments[i]) / values[6, i], 0.0), 1.0)
            age, touch, caught = t - moments[i], -1.0, -1.0
            if 0 <= values[TOUCHED, i] <= age:
                touch = age - values[TOUCHED, i]
            if values.shape[0] > CAUGHT and 0 <= values[CAUGHT, i] <= age:
                caught = age - values[CAUGHT, i]
            share *= strength(
                rows, 0, r, curves, key, births[i], age01, x, y, z, float(values[3, i]), float(values[4, i]),
                float(values[5, i]), touch, caught,
            )  # fmt: skip
        out[i] = share


@kernel_lock
def shares(
    rows: Doubles, zoned: Zones, curves: Floats, r: int, key: int, births: Longs, moments: Doubles, t: float, values: Floats
) -> Floats:  # fmt: skip
    """The strength for each particle of the interaction in row `r`, with its zone, float32 (n,). values: as in `State`."""
    out = np.empty(len(births), np.float32)
    _shares(rows, zoned, curves, r, np.uint64(key), births, moments, t, values, out)
    return out
