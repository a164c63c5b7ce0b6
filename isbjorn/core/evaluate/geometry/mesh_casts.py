"""What a ball meets on a straight way past a mesh: a walk through its tree (see `mesh_trees`), and Newton's method on the distance
to each triangle near the way (Bergen 2004, "Ray casting against general convex objects")."""

from __future__ import annotations

import math

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.evaluate.geometry.mesh_trees import (
    BOX,
    LEVELS,
    TREE,
    TRIANGLE,
    TRIANGLES,
    UNIT,
    boxes_of,
    by_grid,
    face_normal,
    on_triangle,
    to_box,
    within,
    without,
)
from isbjorn.core.jit import inline_kernel

# The sine of an angle below which a way goes along a face, not toward it; strides toward a triangle at most.
_GRAZING, _MOST_STRIDES = 1e-6, 64


@inline_kernel("f8(f4[::1], i8, f8, f8, f8, f8, f8, f8, f8, f8, f8, f8, f8)", cache=True)
def _enters(
    trees: Floats, at: int, x: float, y: float, z: float, ux: float, uy: float, uz: float, ix: float, iy: float, iz: float,
    radius: float, far: float,
) -> float:  # fmt: skip
    """How far along a way (u, unit; i: 1 / u) a ball comes near a box; 1e300 if it does not before `far`, or leaves it behind."""
    ahead = max(ux * (trees[at] - x), ux * (trees[at + 3] - x)) + max(
        uy * (trees[at + 1] - y), uy * (trees[at + 4] - y)
    )
    ahead += max(uz * (trees[at + 2] - z), uz * (trees[at + 5] - z))
    reach = radius + far
    if ahead <= 0 or to_box(trees, at, x, y, z) > reach * reach:
        return 1e300
    a, b = (trees[at] - radius - x) * ix, (trees[at + 3] + radius - x) * ix
    low, high = min(a, b), max(a, b)
    a, b = (trees[at + 1] - radius - y) * iy, (trees[at + 4] + radius - y) * iy
    low, high = max(low, min(a, b)), min(high, max(a, b))
    a, b = (trees[at + 2] - radius - z) * iz, (trees[at + 5] + radius - z) * iz
    low, high = max(max(low, min(a, b)), 0.0), min(high, max(a, b))
    return low if low <= high and low < far else 1e300


@inline_kernel("UniTuple(f8,4)(f4[::1], i8, f8, f8, f8, f8, f8, f8, f8, f8, f8)", cache=True, error_model="numpy")
def _meets(
    trees: Floats, at: int, x: float, y: float, z: float, ux: float, uy: float, uz: float, radius: float, near: float,
    far: float,
) -> tuple[float, float, float, float]:  # fmt: skip
    """How far along a way (u, unit) a ball is free of a triangle, and the unit vector away from it there; 1e300 if it is so for
    `far`. By Newton's method on the distance, which is convex along a way.

    Where a face next to it is nearer than its edge, that face's normal counts: on a flat mesh, no edge is felt.
    """
    gone = 0.0
    for stride in range(_MOST_STRIDES):
        px, py, pz = x + ux * gone, y + uy * gone, z + uz * gone
        qx, qy, qz, part = on_triangle(trees, at, px, py, pz)
        ex, ey, ez = px - qx, py - qy, pz - qz
        d = math.sqrt(ex * ex + ey * ey + ez * ez)
        if stride == 0 and d > far + radius + near:
            return 1e300, 0.0, 0.0, 0.0
        if d > 1e-9:
            ex, ey, ez = ex / d, ey / d, ez / d
        else:
            # On the face, either side is met.
            ex, ey, ez = face_normal(trees, at)
            if ux * ex + uy * ey + uz * ez > 0:
                ex, ey, ez = -ex, -ey, -ez
        toward = -(ux * ex + uy * ey + uz * ez)
        if toward <= _GRAZING:
            return 1e300, 0.0, 0.0, 0.0
        if d - radius >= near:
            gone += (d - radius - 0.5 * near) / toward
            if gone >= far:
                return 1e300, 0.0, 0.0, 0.0
            continue
        if part == 0:
            return gone, ex, ey, ez
        # Over which of the faces beside this part it is most.
        nx, ny, nz = face_normal(trees, at)
        over, ox, oy, oz, tx, ty, tz = 1e-9, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        for edge in range(3):
            if part - 4 != edge and part - 1 != edge and part - 1 != (edge + 1) % 3:
                continue
            m = at + 18 + 3 * edge
            mx, my, mz = float(trees[m]), float(trees[m + 1]), float(trees[m + 2])
            if mx == 0 and my == 0 and mz == 0:
                continue
            # The other face's normal is this one's, mirrored at that of the edge.
            f = 2 * (nx * mx + ny * my + nz * mz)
            mx, my, mz = f * mx - nx, f * my - ny, f * mz - nz
            a, b = at + 3 * edge, at + 3 * ((edge + 1) % 3)
            kx, ky, kz = (
                float(trees[b] - trees[a]),
                float(trees[b + 1] - trees[a + 1]),
                float(trees[b + 2] - trees[a + 2]),
            )
            vx, vy, vz = ky * mz - kz * my, kz * mx - kx * mz, kx * my - ky * mx
            length = max(math.sqrt(vx * vx + vy * vy + vz * vz), 1e-300)
            vx, vy, vz = vx / length, vy / length, vz / length
            along = ex * vx + ey * vy + ez * vz
            if along > over:
                over, ox, oy, oz, tx, ty, tz = along, mx, my, mz, vx, vy, vz
        if ox == 0 and oy == 0 and oz == 0:
            return gone, ex, ey, ez
        if ex * ox + ey * oy + ez * oz < 0:
            ox, oy, oz = -ox, -oy, -oz
        if ux * ox + uy * oy + uz * oz < -_GRAZING:
            return gone, ox, oy, oz
        # It goes along the other face, up to the edge.
        closing = -(ux * tx + uy * ty + uz * tz)
        if closing <= _GRAZING:
            return 1e300, 0.0, 0.0, 0.0
        gone += max(over * d / closing, 0.1 * near)
        if gone >= far:
            return 1e300, 0.0, 0.0, 0.0
    return gone, ex, ey, ez


@inline_kernel(
    "UniTuple(f8,4)(f4[::1], f8[:,:,::1], i8, i8, i8, f8, f8, f8, f8, f8, f8, f8, f8, f8)",
    cache=True,
    error_model="numpy",
)
def cast(
    trees: Floats, rows: Doubles, s: int, r: int, at: int, dx: float, dy: float, dz: float, ux: float, uy: float,
    uz: float, length: float, radius: float, near: float,
) -> tuple[float, float, float, float]:  # fmt: skip
    """How far along a way (u, unit) of some px a ball is free of a model, and the unit vector away from what it meets there; 1e300
    if it meets nothing. near: the gap in px at which it touches. Other arguments as those of `distance`."""
    unit, first = rows[s, r, at + UNIT], int(rows[s, r, at + TREE])
    x, y, z = within(rows, s, r, at, dx / unit, dy / unit, dz / unit)
    vx, vy, vz = within(rows, s, r, at, ux, uy, uz)
    best, radius, near = length / unit, radius / unit, near / unit
    known, off = by_grid(trees, first, x, y, z)
    if abs(known) - off > best + radius + near:
        return 1e300, 0.0, 0.0, 0.0
    ix = 1.0 / vx if abs(vx) > 1e-30 else math.copysign(1e30, vx)
    iy = 1.0 / vy if abs(vy) > 1e-30 else math.copysign(1e30, vy)
    iz = 1.0 / vz if abs(vz) > 1e-30 else math.copysign(1e30, vz)
    levels, count = int(trees[first + LEVELS]), int(trees[first + TRIANGLES])
    leaves, boxes = 1 << levels, boxes_of(trees, first)
    triangles, wide = boxes + BOX * 2 * leaves, radius + near
    nx, ny, nz = 0.0, 0.0, 0.0
    met, node, trail = False, 1, 0
    while True:
        goes_down = False
        if node < leaves:
            one, other = 2 * node, 2 * node + 1
            to_one = _enters(trees, boxes + BOX * one, x, y, z, vx, vy, vz, ix, iy, iz, wide, best)
            to_other = _enters(trees, boxes + BOX * other, x, y, z, vx, vy, vz, ix, iy, iz, wide, best)
            if to_other < to_one:
                one, other, to_one, to_other = other, one, to_other, to_one
            if to_one < 1e300:
                node, trail, goes_down = one, 2 * trail + (1 if to_other < 1e300 else 0), True
        else:
            for k in range(((node - leaves) * count) >> levels, ((node - leaves + 1) * count) >> levels):
                gone, ex, ey, ez = _meets(trees, triangles + TRIANGLE * k, x, y, z, vx, vy, vz, radius, near, best)
                if gone < best:
                    met, best, nx, ny, nz = True, gone, ex, ey, ez
        while not goes_down:
            if trail == 0:
                if not met:
                    return 1e300, 0.0, 0.0, 0.0
                nx, ny, nz = without(rows, s, r, at, nx, ny, nz)
                return best * unit, nx, ny, nz
            while trail % 2 == 0:
                node, trail = node >> 1, trail >> 1
            node, trail = node ^ 1, trail - 1
            goes_down = _enters(trees, boxes + BOX * node, x, y, z, vx, vy, vz, ix, iy, iz, wide, best) < 1e300
