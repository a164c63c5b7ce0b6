"""Zones: how much of a force acts at a place."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Zone
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.jit import inline_kernel

# Columns of a row.
SHAPE, PLACE, COS, SIN, HALF_SIZE, RADIUS, FALLOFF, INVERTED = 0, 1, 4, 5, 6, 9, 10, 11
WIDTH = 12
SPHERE, BOX, HALF = 0, 1, 2
_SHAPES = {"sphere": SPHERE, "box": BOX, "half": HALF}


def pack(zone: Zone, readings: Readings, t: Doubles) -> Doubles:
    """A zone at moments (n,) as rows (n, `WIDTH`): shape, place (3), cosine and sine of its turn, half sizes (3),
    radius, falloff, inverted."""
    frames = readings.frames(zone, t)

    def read(number: Any) -> Doubles:
        return np.maximum(0.0, readings.number(number, t)) * frames.size

    turn = np.radians(frames.turn)
    columns = (
        np.full(len(t), float(_SHAPES[zone.shape])), *frames.place.T, np.cos(turn), np.sin(turn), read(zone.width) / 2,
        read(zone.height) / 2, read(zone.deep) / 2, read(zone.radius), read(zone.falloff),
        np.full(len(t), float(zone.inverted)),
    )  # fmt: skip
    return np.stack(columns, axis=1)


@inline_kernel("f8(i8, f8, f8, f8, f8, f8, f8, f8, f8, f8)", cache=True, forceinline=True)
def _deep(
    shape: int, dx: float, dy: float, dz: float, cos: float, sin: float, half_x: float, half_y: float, half_z: float, radius: float
) -> float:  # fmt: skip
    """Depth inside a shape of a point at the offset (dx, dy, dz) from its place."""
    if shape == SPHERE:
        return radius - math.sqrt(dx * dx + dy * dy + dz * dz)
    lx, ly = dx * cos + dy * sin, -dx * sin + dy * cos
    if shape == HALF:
        return -ly
    qx, qy, qz = abs(lx) - half_x, abs(ly) - half_y, abs(dz) - half_z
    outside = math.sqrt(max(qx, 0.0) ** 2 + max(qy, 0.0) ** 2 + max(qz, 0.0) ** 2)
    return -(outside + min(max(qx, max(qy, qz)), 0.0))


@inline_kernel("f8(f8, f8, f8)", cache=True, forceinline=True)
def _share(deep: float, falloff: float, inverted: float) -> float:
    if falloff > 0:
        u = min(max(deep / falloff, 0.0), 1.0)
        share = u * u * (3.0 - 2.0 * u)
    else:
        share = 1.0 if deep >= 0 else 0.0
    return 1.0 - share if inverted > 0 else share


@inline_kernel("f8(f8[:,:,::1], i8, i8, f8, f8, f8)", cache=True, forceinline=True)
def depth(zones: Doubles, s: int, r: int, x: float, y: float, z: float) -> float:
    """How deep inside a zone's shape a place is, in px; below 0 outside."""
    return _deep(
        int(zones[s, r, SHAPE]), x - zones[s, r, PLACE], y - zones[s, r, PLACE + 1], z - zones[s, r, PLACE + 2],
        zones[s, r, COS], zones[s, r, SIN], zones[s, r, HALF_SIZE], zones[s, r, HALF_SIZE + 1], zones[s, r, HALF_SIZE + 2],
        zones[s, r, RADIUS],
    )  # fmt: skip


@inline_kernel("f8(f8[:,:,::1], i8, i8, f8, f8, f8)", cache=True, forceinline=True)
def weight(zones: Doubles, s: int, r: int, x: float, y: float, z: float) -> float:
    """The share in [0, 1] of a force that acts at a place: smooth from the edge to `falloff` px inside."""
    return _share(depth(zones, s, r, x, y, z), zones[s, r, FALLOFF], zones[s, r, INVERTED])


@inline_kernel("void(f8[:,:,::1], i8, i8, f8[::1], f8[::1], f8[::1], f8[::1])", cache=True)
def weights(zones: Doubles, s: int, r: int, x: Doubles, y: Doubles, z: Doubles, shares: Doubles) -> None:
    """`weight` at each of several places."""
    shape, falloff, inverted, radius = (
        int(zones[s, r, SHAPE]),
        zones[s, r, FALLOFF],
        zones[s, r, INVERTED],
        zones[s, r, RADIUS],
    )
    px, py, pz, cos, sin = (
        zones[s, r, PLACE],
        zones[s, r, PLACE + 1],
        zones[s, r, PLACE + 2],
        zones[s, r, COS],
        zones[s, r, SIN],
    )
    hx, hy, hz = zones[s, r, HALF_SIZE], zones[s, r, HALF_SIZE + 1], zones[s, r, HALF_SIZE + 2]
    for i in range(np.uint32(len(shares))):
        deep = _deep(shape, x[i] - px, y[i] - py, z[i] - pz, cos, sin, hx, hy, hz, radius)
        shares[i] = _share(deep, falloff, inverted)
