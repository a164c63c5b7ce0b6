"""Wind: air that moves in one direction and draws particles to its velocity, v' = g (w - v)."""

from __future__ import annotations

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Wind
from isbjorn.core.jit import inline_kernel
from isbjorn.core.simulate.forces.accumulators import AIR, GRIP
from isbjorn.core.simulate.forces.force_layout import OWN, ForceSetting, aim, base, place, way_of

CODE = 3
RESPONSE = OWN


def pack(force: Wind, setting: ForceSetting) -> Doubles:
    """Rows of a wind."""
    rows = base(force, CODE, setting)
    turn, _ = place(force, setting, rows)
    aim(force, turn, setting, rows)
    rows[:, RESPONSE] = setting.read(force.grip)
    return rows


@inline_kernel(
    "void(f8[:,:,::1], i8, i8, f8[:,::1], u8, i8, f8[::1], f8, f8, f8, f8[::1])", cache=True, forceinline=True
)
def feel(
    rows: Doubles, s: int, r: int, paths: Doubles, key: np.uint64, birth: int, at: Doubles, strength: float, share: float,
    mass: float, sums: Doubles,
) -> None:  # fmt: skip
    """The zone weakens its grip, not its speed."""
    x, y, z = way_of(rows, s, r, key, birth)
    grip = max(0.0, rows[s, r, RESPONSE]) * share / mass
    sums[GRIP] += grip
    sums[AIR] += grip * strength * x
    sums[AIR + 1] += grip * strength * y
    sums[AIR + 2] += grip * strength * z
