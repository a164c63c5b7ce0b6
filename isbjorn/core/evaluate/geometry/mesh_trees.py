"""Meshes in a tree of boxes, in which kernels find what is near a place; `mesh_casts` finds what a ball meets on its way.

A tree is one row of float32: a header (number of levels and of triangles, 1 if the mesh has an inside, cells of a grid along x, y
and z, its low corner, and a cell's side); the distances of the middles of the cells, below 0 inside; the boxes (low corner, high
corner) of a complete binary tree, the root first; then the triangles, each with its corners, the normals of its corners and those
of its edges. Normals are means of the faces around, by angle, so that they tell inside from outside at corners, too (Bærentzen and
Aanæs 2005, "Signed distance computation using the angle weighted pseudonormal"). Both are of length 0 at an open edge.

The grid says at once of most places that they are far from the mesh: from cell to place, a distance changes by no more than the
way. A tree is walked without a stack: a bit for each level says whether the other half is still to be looked at (Laine 2010,
"Restart trail for stackless BVH traversal").
"""

from __future__ import annotations

import math

import numpy as np
from numba import prange

from isbjorn.core.arrays import Doubles, Floats, Ints
from isbjorn.core.evaluate.geometry.meshes import Mesh, corner_angles, face_normals, summed
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.runtime.memory import Cache
from isbjorn.core.runtime.parallel import kernel_lock

# Rows of the table of models in which a thing has one: where its tree begins, px in its unit, and its rotation matrix, by rows.
TREE, UNIT, TURN = 0, 1, 2
PLACED_WIDTH = 11
LEVELS, TRIANGLES, _CLOSED, _CELLS, _LOW, _SIDE = 0, 1, 2, 3, 6, 9
_HEADER, BOX, TRIANGLE = 10, 6, 27
# Cells along the longest side of the box around a mesh.
_GRID = 32
_PER_LEAF = 4
_NOTHING = np.zeros(1, np.float32)
# Triangles that are looked at for a distance at most. More are about as far as the nearest only at the middle of a fine hollow,
# where the distance is then known to a facet.
MOST_LOOKED = 1024

_trees: Cache[Floats] = Cache("models", 0.2, what="Search trees of models", depends_on="the mesh")


def tree_of(mesh: Mesh) -> Floats:
    """The tree of a mesh, made once."""
    return _trees.get((mesh,), lambda: _build(mesh))


def tree_bytes(mesh: Mesh) -> int:
    """About how much memory the tree of a mesh takes, before it is made."""
    return 4 * len(mesh.triangles) * (TRIANGLE + BOX)


def trees_of(meshes: list[Mesh]) -> Floats:
    """The trees of several meshes in a row; each begins where the ones before it end."""
    if not meshes:
        return _NOTHING
    if len(meshes) == 1:
        return tree_of(meshes[0])
    return _trees.get(tuple(meshes), lambda: np.concatenate([tree_of(mesh) for mesh in meshes]))


def _build(mesh: Mesh) -> Floats:
    points = mesh.points.astype(np.float64)
    triangles = mesh.triangles
    if mesh.volume < 0:
        # Its faces point inward.
        triangles = triangles[:, ::-1]
    corners = points[triangles]
    across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    # Faces without area have no outside.
    triangles = triangles[np.linalg.norm(across, axis=1) > 1e-14]
    if len(triangles) == 0:
        triangles = np.zeros((1, 3), np.int32)
    normals = _normals(points, triangles)
    corners = points[triangles]
    levels = max(0, math.ceil(math.log2(len(triangles) / _PER_LEAF)))
    order = in_leaves(corners.mean(axis=1), levels)
    low, high = corners[order].min(axis=1), corners[order].max(axis=1)
    first = (np.arange(1 << levels) * len(order)) >> levels
    boxes = [np.concatenate([np.minimum.reduceat(low, first), np.maximum.reduceat(high, first)], axis=1)]
    for _ in range(levels):
        a, b = boxes[0][::2], boxes[0][1::2]
        boxes.insert(0, np.concatenate([np.minimum(a[:, :3], b[:, :3]), np.maximum(a[:, 3:], b[:, 3:])], axis=1))
    extent = boxes[0][0, 3:] - boxes[0][0, :3]
    side = float(extent.max()) / _GRID
    cells = np.maximum(1, np.ceil(extent / side - 1e-6)).astype(np.int64)
    header = [levels, len(triangles), mesh.has_inside, *cells, *boxes[0][0, :3], side]
    faces = np.concatenate([corners, normals], axis=1)[order]
    parts = (header, np.zeros(cells.prod()), np.concatenate(boxes).reshape(-1), faces.reshape(-1))
    tree = np.concatenate(parts).astype(np.float32)
    _measure(tree)
    return tree


def in_leaves(centres: Doubles, levels: int) -> Ints:
    """Places (n, 3) in the order of a tree's leaves: each box is halved across its longest side, by number. No more leaves than
    places."""
    n = len(centres)
    order = np.arange(n)
    for level in range(levels):
        first = (np.arange(1 << level) * n) >> level
        count = np.diff(np.append(first, n))
        here = centres[order]
        low, high = np.minimum.reduceat(here, first), np.maximum.reduceat(here, first)
        axis = np.repeat(np.argmax(high - low, axis=1), count)
        extent = np.repeat((high - low).max(axis=1), count)
        along = here[np.arange(n), axis] - np.repeat(low, count, axis=0)[np.arange(n), axis]
        share = np.clip(along / np.maximum(extent, 1e-30), 0, 1) * (1 - 1e-9)
        order = order[np.argsort(np.repeat(np.arange(1 << level), count) + share, kind="stable")]
    return order.astype(np.int32)


def _normals(points: Doubles, triangles: Ints) -> Doubles:
    """Normals of the corners and then of the edges ab, bc, ca of triangles, (t, 6, 3); 0 at open edges and at their corners."""
    faces = np.concatenate([triangles, np.full((len(triangles), 1), -1, np.int32)], axis=1)
    flat = face_normals(points, faces)
    # The angle at a corner weighs its face.
    weighted = corner_angles(points, faces)[:, :3, None] * flat[:, None, :]
    at_corner = summed(triangles.reshape(-1), weighted.reshape(-1, 3), len(points))
    ends = np.sort(np.stack([triangles, np.roll(triangles, -1, axis=1)], axis=2), axis=2).astype(np.int64)
    _, edge, count = np.unique(ends[..., 0] * len(points) + ends[..., 1], return_inverse=True, return_counts=True)
    edge = edge.reshape(triangles.shape)
    at_edge = summed(edge.reshape(-1), np.repeat(flat, 3, axis=0), len(count))
    is_open = count < 2
    at_edge[is_open] = 0
    at_corner[np.unique(ends[is_open[edge]])] = 0
    out = np.concatenate([at_corner[triangles], at_edge[edge]], axis=1)
    length = np.linalg.norm(out, axis=2, keepdims=True)
    return np.asarray(np.where(length > 1e-9, out / np.maximum(length, 1e-9), 0.0))


@inline_kernel("Tuple((f8, f8, f8, i8))(f4[::1], i8, f8, f8, f8)", cache=True, error_model="numpy")
def on_triangle(trees: Floats, at: int, x: float, y: float, z: float) -> tuple[float, float, float, int]:
    """The place of a triangle that is nearest, and its part: 0 face, 1 to 3 corner, 4 to 6 edge ab, bc, ca (Ericson 2005,
    "Real-time collision detection", 5.1.5)."""
    ax, ay, az = float(trees[at]), float(trees[at + 1]), float(trees[at + 2])
    bx, by, bz = float(trees[at + 3]), float(trees[at + 4]), float(trees[at + 5])
    cx, cy, cz = float(trees[at + 6]), float(trees[at + 7]), float(trees[at + 8])
    ux, uy, uz, wx, wy, wz = bx - ax, by - ay, bz - az, cx - ax, cy - ay, cz - az
    px, py, pz = x - ax, y - ay, z - az
    d1, d2 = ux * px + uy * py + uz * pz, wx * px + wy * py + wz * pz
    if d1 <= 0 and d2 <= 0:
        return ax, ay, az, 1
    px, py, pz = x - bx, y - by, z - bz
    d3, d4 = ux * px + uy * py + uz * pz, wx * px + wy * py + wz * pz
    if d3 >= 0 and d4 <= d3:
        return bx, by, bz, 2
    vc = d1 * d4 - d3 * d2
    if vc <= 0 and d1 >= 0 and d3 <= 0:
        v = d1 / max(d1 - d3, 1e-300)
        return ax + v * ux, ay + v * uy, az + v * uz, 4
    px, py, pz = x - cx, y - cy, z - cz
    d5, d6 = ux * px + uy * py + uz * pz, wx * px + wy * py + wz * pz
    if d6 >= 0 and d5 <= d6:
        return cx, cy, cz, 3
    vb = d5 * d2 - d1 * d6
    if vb <= 0 and d2 >= 0 and d6 <= 0:
        v = d2 / max(d2 - d6, 1e-300)
        return ax + v * wx, ay + v * wy, az + v * wz, 6
    va = d3 * d6 - d5 * d4
    if va <= 0 and d4 >= d3 and d5 >= d6:
        v = (d4 - d3) / max(d4 - d3 + d5 - d6, 1e-300)
        return bx + v * (cx - bx), by + v * (cy - by), bz + v * (cz - bz), 5
    whole = max(va + vb + vc, 1e-300)
    v, w = vb / whole, vc / whole
    return ax + v * ux + w * wx, ay + v * uy + w * wy, az + v * uz + w * wz, 0


@inline_kernel("UniTuple(f8,3)(f4[::1], i8)", cache=True, error_model="numpy")
def face_normal(trees: Floats, at: int) -> tuple[float, float, float]:
    ux, uy, uz = trees[at + 3] - trees[at], trees[at + 4] - trees[at + 1], trees[at + 5] - trees[at + 2]
    wx, wy, wz = trees[at + 6] - trees[at], trees[at + 7] - trees[at + 1], trees[at + 8] - trees[at + 2]
    nx, ny, nz = float(uy * wz - uz * wy), float(uz * wx - ux * wz), float(ux * wy - uy * wx)
    length = max(math.sqrt(nx * nx + ny * ny + nz * nz), 1e-300)
    return nx / length, ny / length, nz / length


@inline_kernel("f8(f4[::1], i8, f8, f8, f8)", cache=True)
def to_box(trees: Floats, at: int, x: float, y: float, z: float) -> float:
    """The square of the distance to a box."""
    dx = max(max(trees[at] - x, x - trees[at + 3]), 0.0)
    dy = max(max(trees[at + 1] - y, y - trees[at + 4]), 0.0)
    dz = max(max(trees[at + 2] - z, z - trees[at + 5]), 0.0)
    return dx * dx + dy * dy + dz * dz


@inline_kernel("i8(f4[::1], i8)", cache=True)
def boxes_of(trees: Floats, first: int) -> int:
    """Where the boxes of a tree are in the row, as if there were one before the root."""
    cells = int(trees[first + _CELLS]) * int(trees[first + _CELLS + 1]) * int(trees[first + _CELLS + 2])
    return first + _HEADER + cells - BOX


@inline_kernel("Tuple((f8, i8))(f4[::1], i8, f8, f8, f8, f8)", cache=True)
def _nearest(trees: Floats, first: int, x: float, y: float, z: float, best: float) -> tuple[float, int]:
    """The square of the distance to a mesh, and where its nearest triangle is in the row. best: a square that is above it."""
    levels, count = int(trees[first + LEVELS]), int(trees[first + TRIANGLES])
    leaves, boxes = 1 << levels, boxes_of(trees, first)
    triangles = boxes + BOX * 2 * leaves
    which, looked = -1, 0
    node, trail = 1, 0
    while True:
        goes_down = False
        if node < leaves:
            near, far = 2 * node, 2 * node + 1
            to_near, to_far = to_box(trees, boxes + BOX * near, x, y, z), to_box(trees, boxes + BOX * far, x, y, z)
            if to_far < to_near:
                near, far, to_near, to_far = far, near, to_far, to_near
            if to_near < best:
                node, trail, goes_down = near, 2 * trail + (1 if to_far < best else 0), True
        else:
            for k in range(((node - leaves) * count) >> levels, ((node - leaves + 1) * count) >> levels):
                looked += 1
                qx, qy, qz, _ = on_triangle(trees, triangles + TRIANGLE * k, x, y, z)
                d = (x - qx) ** 2 + (y - qy) ** 2 + (z - qz) ** 2
                if d < best:
                    best, which = d, triangles + TRIANGLE * k
        while not goes_down:
            if trail == 0 or (looked > MOST_LOOKED and which >= 0):
                return best, which
            while trail % 2 == 0:
                node, trail = node >> 1, trail >> 1
            node, trail = node ^ 1, trail - 1
            goes_down = to_box(trees, boxes + BOX * node, x, y, z) < best


@inline_kernel("UniTuple(f8,4)(f4[::1], i8, f8, f8, f8, f8)", cache=True)
def _signed(trees: Floats, first: int, x: float, y: float, z: float, most: float) -> tuple[float, float, float, float]:
    """As `distance`, in the unit of a mesh. most: what the distance is at most."""
    d, which = _nearest(trees, first, x, y, z, most * most * (1.0 + 1e-6) + 1e-12)
    d = math.sqrt(d)
    qx, qy, qz, part = on_triangle(trees, which, x, y, z)
    nx, ny, nz = face_normal(trees, which)
    sx, sy, sz = nx, ny, nz
    if part > 0:
        normal = which + 6 + 3 * part
        sx, sy, sz = float(trees[normal]), float(trees[normal + 1]), float(trees[normal + 2])
    side = 1.0
    if trees[first + _CLOSED] > 0 and (x - qx) * sx + (y - qy) * sy + (z - qz) * sz < 0:
        side = -1.0
    if d > 1e-9:
        nx, ny, nz = side * (x - qx) / d, side * (y - qy) / d, side * (z - qz) / d
    return side * d, nx, ny, nz


@inline_kernel("UniTuple(f8,2)(f4[::1], i8, f8, f8, f8)", cache=True)
def by_grid(trees: Floats, first: int, x: float, y: float, z: float) -> tuple[float, float]:
    """The distance of the middle of the cell that is nearest to a place, and how far away that is."""
    side = float(trees[first + _SIDE])
    nx, ny, nz = int(trees[first + _CELLS]), int(trees[first + _CELLS + 1]), int(trees[first + _CELLS + 2])
    u, v, w = (
        (x - trees[first + _LOW]) / side,
        (y - trees[first + _LOW + 1]) / side,
        (z - trees[first + _LOW + 2]) / side,
    )
    i, j, k = min(max(int(u), 0), nx - 1), min(max(int(v), 0), ny - 1), min(max(int(w), 0), nz - 1)
    off = math.sqrt((u - i - 0.5) ** 2 + (v - j - 0.5) ** 2 + (w - k - 0.5) ** 2)
    return float(trees[first + _HEADER + (i * ny + j) * nz + k]), off * side


@njit("void(f4[::1])", parallel=True, cache=True)
def _fill_grid(tree: Floats) -> None:
    nx, ny, nz, side = int(tree[_CELLS]), int(tree[_CELLS + 1]), int(tree[_CELLS + 2]), float(tree[_SIDE])
    for i in prange(nx):
        # Each is at most a cell farther than the one before it.
        known = 1e3
        for j in range(ny):
            for k in range(nz):
                x, y, z = (
                    tree[_LOW] + (i + 0.5) * side,
                    tree[_LOW + 1] + (j + 0.5) * side,
                    tree[_LOW + 2] + (k + 0.5) * side,
                )
                most = abs(known) + side if k > 0 else 1e3
                known, _, _, _ = _signed(tree, 0, x, y, z, most)
                tree[_HEADER + (i * ny + j) * nz + k] = known


_measure = kernel_lock(_fill_grid)


@inline_kernel("UniTuple(f8,3)(f8[:,:,::1], i8, i8, i8, f8, f8, f8)", cache=True)
def within(rows: Doubles, s: int, r: int, at: int, x: float, y: float, z: float) -> tuple[float, float, float]:
    """A direction of the shot, as the model turns it."""
    m = at + TURN
    return (
        rows[s, r, m] * x + rows[s, r, m + 3] * y + rows[s, r, m + 6] * z,
        rows[s, r, m + 1] * x + rows[s, r, m + 4] * y + rows[s, r, m + 7] * z,
        rows[s, r, m + 2] * x + rows[s, r, m + 5] * y + rows[s, r, m + 8] * z,
    )


@inline_kernel("UniTuple(f8,3)(f8[:,:,::1], i8, i8, i8, f8, f8, f8)", cache=True)
def without(rows: Doubles, s: int, r: int, at: int, x: float, y: float, z: float) -> tuple[float, float, float]:
    """A direction of the model, in the shot."""
    m = at + TURN
    return (
        rows[s, r, m] * x + rows[s, r, m + 1] * y + rows[s, r, m + 2] * z,
        rows[s, r, m + 3] * x + rows[s, r, m + 4] * y + rows[s, r, m + 5] * z,
        rows[s, r, m + 6] * x + rows[s, r, m + 7] * y + rows[s, r, m + 8] * z,
    )


@inline_kernel("UniTuple(f8,4)(f4[::1], f8[:,:,::1], i8, i8, i8, f8, f8, f8)", cache=True)
def distance(
    trees: Floats, rows: Doubles, s: int, r: int, at: int, dx: float, dy: float, dz: float
) -> tuple[float, float, float, float]:
    """Distance in px to a model that is `PLACED_WIDTH` columns of a row from `at` on, at an offset from its place, and the unit
    vector away from it: below 0 inside a closed one, where that points outward."""
    unit, first = rows[s, r, at + UNIT], int(rows[s, r, at + TREE])
    x, y, z = within(rows, s, r, at, dx / unit, dy / unit, dz / unit)
    known, off = by_grid(trees, first, x, y, z)
    d, nx, ny, nz = _signed(trees, first, x, y, z, abs(known) + off)
    nx, ny, nz = without(rows, s, r, at, nx, ny, nz)
    return d * unit, nx, ny, nz


@inline_kernel("f8(f4[::1], f8[:,:,::1], i8, i8, i8, f8, f8, f8)", cache=True)
def least_distance(trees: Floats, rows: Doubles, s: int, r: int, at: int, dx: float, dy: float, dz: float) -> float:
    """What the distance to a model is at least, in px, at once: of its sign, and no larger; 0 near the model. Arguments as those of
    `distance`."""
    unit, first = rows[s, r, at + UNIT], int(rows[s, r, at + TREE])
    x, y, z = within(rows, s, r, at, dx / unit, dy / unit, dz / unit)
    known, off = by_grid(trees, first, x, y, z)
    box = math.sqrt(to_box(trees, boxes_of(trees, first) + BOX, x, y, z))
    if known < 0:
        return -unit * max(0.0, -known - off)
    return unit * max(known - off, box)
