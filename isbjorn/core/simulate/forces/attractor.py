"""Attractor: a pull to a place by a power of distance, a = S (R/d)^p, softened as Plummer's: d² = r² + ε²."""

from __future__ import annotations

import math

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Attractor
from isbjorn.core.evaluate.lines import Read, circle
from isbjorn.core.jit import inline_kernel
from isbjorn.core.simulate.forces.accumulators import ACCELERATION, LIMIT
from isbjorn.core.simulate.forces.force_layout import OWN, PLACE, ForceSetting, base, place

CODE = 5
# Columns.
RADIUS, POWER, SOFTNESS, SPEED_LIMIT = range(OWN, OWN + 4)


def pack(force: Attractor, setting: ForceSetting) -> Doubles:
    """Rows of an attractor."""
    rows = base(force, CODE, setting)
    _, size = place(force, setting, rows)
    rows[:, RADIUS] = setting.read(force.radius) * size
    rows[:, POWER], rows[:, SOFTNESS] = setting.read(force.power), setting.read(force.softness) * size
    rows[:, SPEED_LIMIT] = setting.read(force.speed_limit)
    return rows


def lines(force: Attractor, read: Read, _: float) -> list[Doubles]:
    """A ring where it is as strong as given."""
    return [circle(read(force.radius))]


@inline_kernel("f8(f8[:,:,::1], i8, i8, f8, f8, f8)", cache=True, forceinline=True)
def fall(rows: Doubles, s: int, r: int, dx: float, dy: float, dz: float) -> float:
    """What a strength and a distance vector are multiplied by."""
    soft, power = max(1e-3, rows[s, r, SOFTNESS]), rows[s, r, POWER]
    d = math.sqrt(dx * dx + dy * dy + dz * dz + soft * soft)
    ratio = rows[s, r, RADIUS] / d
    # The usual powers without a call.
    if power == 1.0:
        weak = ratio
    elif power == 2.0:
        weak = ratio * ratio
    elif power == 0.0:
        weak = 1.0
    else:
        weak = ratio**power
    return weak / d


@inline_kernel(
    "void(f8[:,:,::1], i8, i8, f8[:,::1], u8, i8, f8[::1], f8, f8, f8, f8[::1])", cache=True, forceinline=True
)
def feel(
    rows: Doubles, s: int, r: int, paths: Doubles, key: np.uint64, birth: int, at: Doubles, strength: float, share: float,
    mass: float, sums: Doubles,
) -> None:  # fmt: skip
    """Finite everywhere; zero at the exact centre."""
    x, y, z = at[0], at[1], at[2]
    dx, dy, dz = rows[s, r, PLACE] - x, rows[s, r, PLACE + 1] - y, rows[s, r, PLACE + 2] - z
    a = strength * share / mass * fall(rows, s, r, dx, dy, dz)
    sums[ACCELERATION] += a * dx
    sums[ACCELERATION + 1] += a * dy
    sums[ACCELERATION + 2] += a * dz
    limit = rows[s, r, SPEED_LIMIT]
    if limit > 0 and share > 0 and (sums[LIMIT] == 0 or limit < sums[LIMIT]):
        sums[LIMIT] = limit
