"""Zones: how much of a force acts at a place."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
from numba import prange

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Zone
from isbjorn.core.evaluate.geometry import mesh_trees
from isbjorn.core.evaluate.geometry.mesh_trees import PLACED_WIDTH
from isbjorn.core.evaluate.geometry.placed_models import ModelRows
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate.table_types import ZONES, Zones

# Columns of a row.
SHAPE, PLACE, COS, SIN, HALF_SIZE, RADIUS, FALLOFF, INVERTED = 0, 1, 4, 5, 6, 9, 10, 11
MODEL_COLUMNS = 12
WIDTH = MODEL_COLUMNS + PLACED_WIDTH
SPHERE, BOX, HALF, MODEL = 0, 1, 2, 3
_SHAPES = {"sphere": SPHERE, "box": BOX, "half": HALF, "model": MODEL}


def packed(zones: Sequence[Zone], readings: Readings, t: Doubles) -> Zones:
    """Zones at moments (n,), as kernels read them: rows (n, zones, `WIDTH`), and the trees of those that are models."""
    models = ModelRows()
    rows = [_pack(zone, readings, t, models) for zone in zones]
    return np.ascontiguousarray(np.stack(rows, axis=1) if rows else np.zeros((len(t), 0, WIDTH))), models.trees


def _pack(zone: Zone, readings: Readings, t: Doubles, models: ModelRows) -> Doubles:
    """A zone at moments (n,) as rows (n, `WIDTH`): shape, place (3), cosine and sine of its turn, half sizes (3),
    radius, falloff, inverted, and the columns of its model."""
    frames = readings.frames(zone, t)

    def read(number: Any) -> Doubles:
        return np.maximum(0.0, readings.number(number, t)) * frames.size

    turn = np.radians(frames.turn)
    columns = (
        np.full(len(t), float(_SHAPES[zone.shape])), *frames.place.T, np.cos(turn), np.sin(turn), read(zone.width) / 2,
        read(zone.height) / 2, read(zone.deep) / 2, read(zone.radius), read(zone.falloff),
        np.full(len(t), float(zone.inverted)),
    )  # fmt: skip
    rows = np.zeros((len(t), WIDTH))
    rows[:, :MODEL_COLUMNS] = np.stack(columns, axis=1)
    if zone.shape == "model":
        rows[:, MODEL_COLUMNS:] = models.add(zone, readings, t, frames.turn, frames.size)
    return rows


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


@inline_kernel(f"f8({ZONES}, i8, i8, f8, f8, f8)", cache=True)
def _in_model(zones: Zones, s: int, r: int, x: float, y: float, z: float) -> float:
    """Depth inside the model of a zone, exact up to the falloff; outside, the distance may be larger."""
    rows, trees = zones
    dx, dy, dz = x - rows[s, r, PLACE], y - rows[s, r, PLACE + 1], z - rows[s, r, PLACE + 2]
    away = mesh_trees.least_distance(trees, rows, s, r, MODEL_COLUMNS, dx, dy, dz)
    if away <= 0 and -away <= rows[s, r, FALLOFF]:
        away, _, _, _ = mesh_trees.distance(trees, rows, s, r, MODEL_COLUMNS, dx, dy, dz)
    return -away


@inline_kernel(f"f8({ZONES}, i8, i8, f8, f8, f8)", cache=True, forceinline=True)
def depth(zones: Zones, s: int, r: int, x: float, y: float, z: float) -> float:
    """How deep inside a zone's shape a place is, in px; below 0 outside."""
    rows = zones[0]
    if int(rows[s, r, SHAPE]) == MODEL:
        return _in_model(zones, s, r, x, y, z)
    return _deep(
        int(rows[s, r, SHAPE]), x - rows[s, r, PLACE], y - rows[s, r, PLACE + 1], z - rows[s, r, PLACE + 2],
        rows[s, r, COS], rows[s, r, SIN], rows[s, r, HALF_SIZE], rows[s, r, HALF_SIZE + 1], rows[s, r, HALF_SIZE + 2],
        rows[s, r, RADIUS],
    )  # fmt: skip


@inline_kernel(f"f8({ZONES}, i8, i8, f8, f8, f8)", cache=True, forceinline=True)
def weight(zones: Zones, s: int, r: int, x: float, y: float, z: float) -> float:
    """The share in [0, 1] of a force that acts at a place: smooth from the edge to `falloff` px inside."""
    return _share(depth(zones, s, r, x, y, z), zones[0][s, r, FALLOFF], zones[0][s, r, INVERTED])


@inline_kernel(f"void({ZONES}, i8, i8, f8[::1], f8[::1], f8[::1], f8[::1])", cache=True)
def weights(zones: Zones, s: int, r: int, x: Doubles, y: Doubles, z: Doubles, shares: Doubles) -> None:
    """`weight` at each of several places."""
    rows = zones[0]
    shape, falloff, inverted, radius = (
        int(rows[s, r, SHAPE]),
        rows[s, r, FALLOFF],
        rows[s, r, INVERTED],
        rows[s, r, RADIUS],
    )
    if shape == MODEL:
        for i in range(len(shares)):
            shares[i] = _share(_in_model(zones, s, r, x[i], y[i], z[i]), falloff, inverted)
        return
    px, py, pz, cos, sin = (
        rows[s, r, PLACE],
        rows[s, r, PLACE + 1],
        rows[s, r, PLACE + 2],
        rows[s, r, COS],
        rows[s, r, SIN],
    )
    hx, hy, hz = rows[s, r, HALF_SIZE], rows[s, r, HALF_SIZE + 1], rows[s, r, HALF_SIZE + 2]
    for i in range(np.uint32(len(shares))):
        deep = _deep(shape, x[i] - px, y[i] - py, z[i] - pz, cos, sin, hx, hy, hz, radius)
        shares[i] = _share(deep, falloff, inverted)


@njit(f"void({ZONES}, f8[:,::1])", parallel=True, cache=True)
def _put_within(zones: Zones, place: Doubles) -> None:
    rows, trees = zones
    for i in prange(len(place)):
        d, nx, ny, nz = mesh_trees.distance(
            trees, rows, i, 0, MODEL_COLUMNS, place[i, 0] - rows[i, 0, PLACE], place[i, 1] - rows[i, 0, PLACE + 1],
            place[i, 2] - rows[i, 0, PLACE + 2],
        )  # fmt: skip
        if d > 0:
            place[i, 0], place[i, 1], place[i, 2] = place[i, 0] - d * nx, place[i, 1] - d * ny, place[i, 2] - d * nz


_bring_within = kernel_lock(_put_within)


def within_model(zones: Zones, place: Doubles) -> Doubles:
    """The places (n, 3) in the model of a zone, at its n moments, that are nearest to others."""
    out = np.array(place, np.float64, order="C")
    _bring_within(zones, out)
    return out
