"""Path to follow: air that flows along a path and toward it."""

from __future__ import annotations

import math

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Follow
from isbjorn.core.evaluate import bezier
from isbjorn.core.evaluate.lines import Read
from isbjorn.core.jit import inline_kernel
from isbjorn.core.simulate.forces.accumulators import AIR, GRIP
from isbjorn.core.simulate.forces.force_layout import OWN, PLACE, ForceSetting, base, place

CODE = 7
# Columns: the relaxation rate, the pull toward the path, its points, its turn and its scale.
RESPONSE, TOWARD, FIRST, COUNT, COSINE, SINE, SCALE = range(OWN, OWN + 7)


def pack(force: Follow, setting: ForceSetting) -> Doubles:
    """Rows of a path to follow."""
    rows = base(force, CODE, setting)
    turn, size = place(force, setting, rows)
    rows[:, RESPONSE], rows[:, TOWARD] = setting.read(force.grip), setting.read(force.pull)
    rows[:, FIRST], rows[:, COUNT] = setting.path(force.points, force.closed)
    rows[:, COSINE], rows[:, SINE] = np.cos(np.radians(turn)), np.sin(np.radians(turn))
    rows[:, SCALE] = np.maximum(1e-6, size)
    return rows


def lines(force: Follow, _read: Read, _: float) -> list[Doubles]:
    """Its path."""
    return [bezier.flat(force.points, force.closed)]


@inline_kernel("UniTuple(f8,6)(f8[:,::1], i8, i8, f8, f8, f8)", cache=True)
def nearest(
    paths: Doubles, first: int, count: int, x: float, y: float, z: float
) -> tuple[float, float, float, float, float, float]:
    """The nearest place on a polyline, and its unit direction there."""
    best, fx, fy, fz, wx, wy, wz = 1e300, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0
    for i in range(first, first + count - 1):
        ax, ay, az = paths[i, 0], paths[i, 1], paths[i, 2]
        bx, by, bz = paths[i + 1, 0] - ax, paths[i + 1, 1] - ay, paths[i + 1, 2] - az
        length = bx * bx + by * by + bz * bz
        if length < 1e-18:
            continue
        u = min(max(((x - ax) * bx + (y - ay) * by + (z - az) * bz) / length, 0.0), 1.0)
        px, py, pz = ax + u * bx, ay + u * by, az + u * bz
        d = (x - px) ** 2 + (y - py) ** 2 + (z - pz) ** 2
        if d < best:
            root = math.sqrt(length)
            best, fx, fy, fz, wx, wy, wz = d, px, py, pz, bx / root, by / root, bz / root
    return fx, fy, fz, wx, wy, wz


@inline_kernel(
    "void(f8[:,:,::1], i8, i8, f8[:,::1], u8, i8, f8[::1], f8, f8, f8, f8[::1])", cache=True, forceinline=True
)
def feel(
    rows: Doubles, s: int, r: int, paths: Doubles, key: np.uint64, birth: int, at: Doubles, strength: float, share: float,
    mass: float, sums: Doubles,
) -> None:  # fmt: skip
    """The air's velocity: along the path, and toward it in proportion to the distance."""
    x, y, z = at[0], at[1], at[2]
    c, sn, size = rows[s, r, COSINE], rows[s, r, SINE], rows[s, r, SCALE]
    lx, ly, lz = (x - rows[s, r, PLACE]) / size, (y - rows[s, r, PLACE + 1]) / size, (z - rows[s, r, PLACE + 2]) / size
    lx, ly = lx * c + ly * sn, -lx * sn + ly * c
    px, py, pz, wx, wy, wz = nearest(paths, int(rows[s, r, FIRST]), int(rows[s, r, COUNT]), lx, ly, lz)
    pull, grip = rows[s, r, TOWARD] * size, max(0.0, rows[s, r, RESPONSE]) * share / mass
    vx, vy, vz = strength * wx + pull * (px - lx), strength * wy + pull * (py - ly), strength * wz + pull * (pz - lz)
    sums[GRIP] += grip
    sums[AIR] += grip * (vx * c - vy * sn)
    sums[AIR + 1] += grip * (vx * sn + vy * c)
    sums[AIR + 2] += grip * vz
