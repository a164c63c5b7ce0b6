"""Vortex: turns places about an axis exactly, so that without pull every distance from it stays.

Rankine's vortex: as a solid within the radius, with 1/r outside of it.
"""

from __future__ import annotations

import math

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Vortex
from isbjorn.core.evaluate.lines import Read, circle
from isbjorn.core.jit import inline_kernel
from isbjorn.core.simulate.forces.force_layout import OWN, PLACE, ForceSetting, aim, base, place, way_of

CODE = 6
# Columns.
RADIUS, PULL, LIFT = range(OWN, OWN + 3)


def pack(force: Vortex, setting: ForceSetting) -> Doubles:
    """Rows of a vortex."""
    rows = base(force, CODE, setting)
    turn, size = place(force, setting, rows)
    aim(force, turn, setting, rows)
    rows[:, RADIUS] = np.maximum(1e-3, setting.read(force.radius) * size)
    rows[:, PULL], rows[:, LIFT] = setting.read(force.pull), setting.read(force.lift)
    return rows


def lines(force: Vortex, read: Read, _: float) -> list[Doubles]:
    """A ring where it turns fastest."""
    return [circle(read(force.radius))]


@inline_kernel("UniTuple(f8,3)(f8[:,:,::1], i8, i8, u8, i8, f8, f8, f8, f8, f8, f8, f8)", cache=True, forceinline=True)
def carry(
    rows: Doubles, s: int, r: int, key: np.uint64, birth: int, x: float, y: float, z: float, strength: float,
    share: float, mass: float, h: float,
) -> tuple[float, float, float]:  # fmt: skip
    """Where the vortex carries a place in h seconds."""
    ax, ay, az = way_of(rows, s, r, key, birth)
    cx, cy, cz = rows[s, r, PLACE], rows[s, r, PLACE + 1], rows[s, r, PLACE + 2]
    rx, ry, rz = x - cx, y - cy, z - cz
    up = rx * ax + ry * ay + rz * az
    px, py, pz = rx - up * ax, ry - up * ay, rz - up * az
    radius, r0 = math.sqrt(px * px + py * py + pz * pz), rows[s, r, RADIUS]
    omega = strength / r0 if radius <= r0 else strength * r0 / (radius * radius)
    turn = omega * h * share / mass
    c, sn = math.cos(turn), math.sin(turn)
    shrink = math.exp(-max(-100.0, rows[s, r, PULL]) * h * share / mass)
    qx, qy, qz = ay * pz - az * py, az * px - ax * pz, ax * py - ay * px
    up += rows[s, r, LIFT] * h * share / mass
    return (
        cx + (px * c + qx * sn) * shrink + up * ax,
        cy + (py * c + qy * sn) * shrink + up * ay,
        cz + (pz * c + qz * sn) * shrink + up * az,
    )
