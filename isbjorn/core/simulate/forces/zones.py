"""Zones: how much of a force acts at a place."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Zone
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.jit import leaf

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


@leaf("f8(f8[:,:,::1], i8, i8, f8, f8, f8)", cache=True, forceinline=True)
def depth(zones: Doubles, s: int, r: int, x: float, y: float, z: float) -> float:
    """How deep inside a zone's shape a place is, in px; below 0 outside."""
    dx, dy, dz = x - zones[s, r, PLACE], y - zones[s, r, PLACE + 1], z - zones[s, r, PLACE + 2]
    shape = int(zones[s, r, SHAPE])
    if shape == SPHERE:
        return zones[s, r, RADIUS] - math.sqrt(dx * dx + dy * dy + dz * dz)
    lx = dx * zones[s, r, COS] + dy * zones[s, r, SIN]
    ly = -dx * zones[s, r, SIN] + dy * zones[s, r, COS]
    if shape == HALF:
        return -ly
    qx, qy, qz = (
        abs(lx) - zones[s, r, HALF_SIZE],
        abs(ly) - zones[s, r, HALF_SIZE + 1],
        abs(dz) - zones[s, r, HALF_SIZE + 2],
    )
    outside = math.sqrt(max(qx, 0.0) ** 2 + max(qy, 0.0) ** 2 + max(qz, 0.0) ** 2)
    return -(outside + min(max(qx, max(qy, qz)), 0.0))


@leaf("f8(f8[:,:,::1], i8, i8, f8, f8, f8)", cache=True, forceinline=True)
def weight(zones: Doubles, s: int, r: int, x: float, y: float, z: float) -> float:
    """The share in [0, 1] of a force that acts at a place: smooth from the edge to `falloff` px inside."""
    d, falloff = depth(zones, s, r, x, y, z), zones[s, r, FALLOFF]
    if falloff > 0:
        u = min(max(d / falloff, 0.0), 1.0)
        share = u * u * (3.0 - 2.0 * u)
    else:
        share = 1.0 if d >= 0 else 0.0
    return 1.0 - share if zones[s, r, INVERTED] > 0 else share
