"""Displacement: shifts what is seen of place and size by noise. It does not add up, and touches no state."""

from __future__ import annotations

import numpy as np
from numba import prange

from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.document import Displacement
from isbjorn.core.jit import njit
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate.forces.force_layout import (
    CURVE,
    PLACE,
    VALUE,
    ZONE,
    ForceSetting,
    base,
    read_curve,
    strength,
)
from isbjorn.core.simulate.forces.turbulence import NOISE, OFFSET, RESPONSE, pack_noise
from isbjorn.core.simulate.forces.zones import weight
from isbjorn.core.simulate.noise import flow
from isbjorn.core.simulate.table_types import ZONES, Zones

CODE = 10
# Where a turbulence has its relaxation rate, a displacement has how much size swells, as a share.
SWELL = RESPONSE


def pack(force: Displacement, setting: ForceSetting) -> Doubles:
    """Rows of a displacement."""
    rows = base(force, CODE, setting)
    rows[:, SWELL] = setting.read(force.swell) / 100
    pack_noise(force, setting, rows)
    return rows


@njit(
    f"void(f8[:,:,::1], {ZONES}, f4[:,::1], u8, i8[::1], f4[::1], f4[::1], f4[::1], f4[:,::1], f4[::1])",
    parallel=True,
    cache=True,
)
def _displace(
    rows: Doubles, zones: Zones, curves: Floats, key: np.uint64, births: Longs, age01: Floats, touch: Floats,
    caught: Floats, values: Floats, grown: Floats,
) -> None:  # fmt: skip
    for i in prange(len(births)):
        for r in range(rows.shape[1]):
            x, y, z = float(values[0, i]), float(values[1, i]), float(values[2, i])
            amount = strength(
                rows, 0, r, curves, key, births[i], age01[i], x, y, z, float(values[3, i]),
                float(values[4, i]), float(values[5, i]), float(touch[i]), float(caught[i]),
            )  # fmt: skip
            zone, within = int(rows[0, r, ZONE]), 1.0
            if zone >= 0:
                within = weight(zones, 0, zone, x, y, z)
                amount *= within
            off = rows[0, r, OFFSET]
            qx, qy, qz = x - rows[0, r, PLACE] + off, y - rows[0, r, PLACE + 1] + 0.7 * off, z - rows[0, r, PLACE + 2]
            vx, vy, vz = flow(rows, 0, r, NOISE, qx, qy, qz)
            values[0, i] += amount * vx
            values[1, i] += amount * vy
            values[2, i] += amount * vz
            if rows[0, r, SWELL] > 0:
                # Another place of the same noise: size does not go with place.
                sx, sy, _ = flow(rows, 0, r, NOISE, qx + 7919.0, qy + 104729.0, qz)
                # Proportional to the strength; without a strength, size grows over life as the strength would.
                share = amount / rows[0, r, VALUE] if rows[0, r, VALUE] != 0 else within
                if rows[0, r, VALUE] == 0 and rows[0, r, CURVE] >= 0:
                    share *= read_curve(curves, int(rows[0, r, CURVE]), age01[i])
                grown[i] *= max(0.0, 1.0 + share * rows[0, r, SWELL] * 0.7 * (sx + sy))


@kernel_lock
def displace(
    rows: Doubles, zones: Zones, curves: Floats, key: int, births: Longs, age01: Floats, touch: Floats, caught: Floats,
    values: Floats,
) -> Floats:  # fmt: skip
    """Shift places in values (k, n) by the displacements in rows (1, m, `WIDTH`), in their order; what sizes grow by, (n,).

    touch, caught: seconds since it touched something, or caught a state, (n,); -1: not yet.
    """
    grown = np.ones(len(births), np.float32)
    _displace(rows, zones, curves, np.uint64(key), births, age01, touch, caught, values, grown)
    return grown
