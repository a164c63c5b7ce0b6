"""Gravity: a constant acceleration, given in m/s² and turned to px/s² by the shot's px per metre."""

from __future__ import annotations

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Gravity
from isbjorn.core.jit import inline_kernel
from isbjorn.core.simulate.forces.accumulators import ACCELERATION
from isbjorn.core.simulate.forces.force_layout import ForceSetting, aim, base, place, way_of

CODE = 1


def pack(force: Gravity, setting: ForceSetting) -> Doubles:
    """Rows of a gravity."""
    rows = base(force, CODE, setting, setting.shot.px_per_metre)
    turn, _ = place(force, setting, rows)
    aim(force, turn, setting, rows)
    return rows


@inline_kernel("void(f8[:,:,::1], i8, i8, u8, i8, f8, f8[::1])", cache=True, forceinline=True)
def pull(rows: Doubles, s: int, r: int, key: np.uint64, birth: int, strength: float, sums: Doubles) -> None:
    """Add the acceleration of a strength in px/s²."""
    x, y, z = way_of(rows, s, r, key, birth)
    sums[ACCELERATION] += strength * x
    sums[ACCELERATION + 1] += strength * y
    sums[ACCELERATION + 2] += strength * z


@inline_kernel(
    "void(f8[:,:,::1], i8, i8, f8[:,::1], u8, i8, f8[::1], f8, f8, f8, f8[::1])", cache=True, forceinline=True
)
def feel(
    rows: Doubles, s: int, r: int, paths: Doubles, key: np.uint64, birth: int, at: Doubles, strength: float, share: float,
    mass: float, sums: Doubles,
) -> None:  # fmt: skip
    """Mass does not change it."""
    pull(rows, s, r, key, birth, strength * share, sums)
