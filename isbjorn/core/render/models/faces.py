"""Faces of instances as they are seen: transformed, projected, and those that face away left out.

An instance is a mesh at a place, with a matrix. Depth is stored as nearness, which is linear over a face on the picture: the
reciprocal of the distance from the camera under a lens, the third coordinate where the picture is flat.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numba import f4, f8, i4, i8, prange, types, void

from isbjorn.core.arrays import Bytes, Doubles, Floats, Ints, Longs
from isbjorn.core.evaluate.geometry.meshes import Mesh
from isbjorn.core.evaluate.geometry.paint import LEVELS, Paint
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.records import Records, records
from isbjorn.core.render.scene.camera import VIEW, Projection
from isbjorn.core.runtime.memory import Cache

# Columns of a visible face: place and reach for the tiles; number of corners, and their pixels; nearness at the origin of the
# picture and per pixel to the right and down; its instance; its number in the mesh; colour and opacity; its normal in the camera's
# axes.
X, Y, REACH, COUNT, CORNERS, NEAR, NEAR_X, NEAR_Y, INSTANCE, FACE, RED, GREEN, BLUE, OPACITY, NORMAL, FACE_COLUMNS = (
    0, 1, 2, 3, 4, 12, 13, 14, 15, 16, 17, 18, 19, 20, 21, 24,
)  # fmt: skip
# Columns of an instance: its matrix into the camera's axes, row by row; its place from the camera; colour and opacity; the first
# face of its mesh and the one after the last; the first point of its mesh, how many it has, and where they are among those that are
# projected; its radius in px of the shot; how much rougher it is than its material.
MATRIX, PLACE, TINT, ALPHA, FIRST, LAST, POINT, POINTS, PROJECTED, RADIUS, ROUGHER, INSTANCE_COLUMNS = (
    0, 9, 12, 15, 16, 17, 18, 19, 20, 21, 22, 23,
)  # fmt: skip

# Faces of one instance that are worked on in a row.
_BLOCK = 512
_NEAREST_PX = 1.0
_HALVES = ([0, 1, 2], [0, 2, 3])
_THREE: Any = types.UniTuple(f8, 3)  # type: ignore[no-untyped-call]


@dataclass(frozen=True)
class Geometry:
    """Meshes behind each other: points (v, 3), faces (f, 4), normals (f, 4, 3), as in `Mesh`; ranges (m, 4): the first face of each
    and the one after its last, its first point, and how many it has; paint (f, 4, 3), pages (f,), texels (n, 3), levels (m, 3): as
    in `Paint`, of all meshes, or of no faces where no mesh has colours."""

    points: Floats
    faces: Ints
    normals: Floats
    ranges: Longs
    is_smooth: bool
    paint: Floats
    pages: Ints
    texels: Bytes
    levels: Longs

    @property
    def bare(self) -> Geometry:
        """The same without its colours."""
        return replace(self, paint=np.zeros((0, 4, 3), np.float32), pages=np.zeros(0, np.int32))


def instance_of(view: Projection, geometry: Geometry, place: Doubles, turn: Doubles, half: float) -> Doubles:
    """The first mesh of a geometry as an instance (1, `INSTANCE_COLUMNS`) at a place (3,), turned by a matrix (3, 3), with `half`
    px for its unit. It has no colour yet."""
    rows = np.zeros((1, INSTANCE_COLUMNS))
    rows[0, MATRIX : MATRIX + 9] = (view.axes @ turn * half).reshape(-1)
    rows[0, PLACE : PLACE + 3] = (place - view.eye) @ view.axes.T
    rows[0, [FIRST, LAST, POINT, POINTS]] = geometry.ranges[0]
    return rows


_joined: Cache[Geometry] = Cache("models", 0.2, what="Geometry of models", depends_on="the meshes")


def joined(meshes: Sequence[Mesh]) -> Geometry:
    """Meshes as one geometry, made once."""
    return _joined.get(tuple(meshes), lambda: _join(meshes))


def _join(meshes: Sequence[Mesh]) -> Geometry:
    """Meshes as one geometry. Faces with four different normals or colours become triangles, over which these are linear."""
    parts: list[tuple[Floats, Ints, Floats]] = []
    paints: list[tuple[Floats, Ints]] = []
    texels, levels = [np.zeros((1, 3), np.uint8)], [np.zeros((0, 3), np.int64)]
    faces: list[Any]
    normals: list[Any]
    for mesh in meshes:
        bent = (mesh.faces[:, 3] >= 0) & (np.ptp(mesh.normals, axis=1).max(axis=1) > 1e-5)
        paint, start = mesh.paint or _white(mesh), sum(map(len, texels))
        bent |= (mesh.faces[:, 3] >= 0) & (np.ptp(paint.values, axis=1).max(axis=1) > 1e-5)
        faces = [mesh.faces[~bent]] + [
            np.append(mesh.faces[bent][:, c], np.full((bent.sum(), 1), -1), axis=1) for c in _HALVES
        ]
        normals, values = (
            [of[~bent]] + [of[bent][:, [*c, c[0]]] for c in _HALVES] for of in (mesh.normals, paint.values)
        )
        pages = np.concatenate([paint.pages[~bent], *[paint.pages[bent]] * 2])
        pages = np.where(pages >= 0, pages + sum(map(len, levels)) // LEVELS, -1)
        paints.append((np.concatenate(values), pages.astype(np.int32)))
        if paint.pictures:
            texels.append(paint.texels[0])
            levels.append(paint.texels[1] + np.array([start, 0, 0]))
        parts.append((mesh.points, np.concatenate(faces).astype(np.int32), np.concatenate(normals)))
    painted = any(mesh.paint is not None for mesh in meshes)
    points: Longs = np.cumsum([0, *(len(p) for p, _, _ in parts)])
    faces_to: Longs = np.cumsum([0, *(len(f) for _, f, _ in parts)])
    moved = [np.where(f >= 0, f + start, -1) for (_, f, _), start in zip(parts, points, strict=False)]
    every = np.concatenate([n for _, _, n in parts])
    return Geometry(
        np.ascontiguousarray(np.concatenate([p for p, _, _ in parts]), np.float32),
        np.ascontiguousarray(np.concatenate(moved), np.int32),
        np.ascontiguousarray(every, np.float32),
        np.stack([faces_to[:-1], faces_to[1:], points[:-1], np.diff(points)], axis=1),
        bool((np.ptp(every[:, :3], axis=1).max(initial=0.0)) > 1e-5),
        np.concatenate([v for v, _ in paints]) if painted else np.zeros((0, 4, 3), np.float32),
        np.concatenate([p for _, p in paints]) if painted else np.zeros(0, np.int32),
        np.concatenate(texels),
        np.concatenate(levels),
    )


def _white(mesh: Mesh) -> Paint:
    return Paint(np.ones((len(mesh.faces), 4, 3), np.float32), np.full(len(mesh.faces), -1, np.int32))


@njit(
    void(records(VIEW), f8[:, ::1], f4[:, ::1], i8[:, ::1], f4[:, ::1]), parallel=True, cache=True, error_model="numpy"
)
def _project(views: Records, instances: Doubles, points: Floats, items: Longs, out: Floats) -> None:
    """Project points: pixels and nearness, out (n, 3); nearness 0 or less under a lens: behind the camera. items (m, 3): an
    instance, and its points from one to another."""
    for n in prange(len(items)):
        view, one, first = views[0], instances[items[n, 0]], items[n, 1]
        at = int(one[PROJECTED]) - int(one[POINT])
        for p in range(first, items[n, 2]):
            x, y, z = points[p, 0], points[p, 1], points[p, 2]
            right = one[0] * x + one[1] * y + one[2] * z + one[PLACE]
            up = one[3] * x + one[4] * y + one[5] * z + one[PLACE + 1]
            near = one[6] * x + one[7] * y + one[8] * z + one[PLACE + 2]
            times, depth = 1.0, near
            if view.lens > 0:
                depth = 1.0 / -near if -near > _NEAREST_PX else -1.0
                times = view.lens * depth
            out[at + p, 0] = view.width / 2 + right * times * view.scale_x
            out[at + p, 1] = view.height / 2 - up * times * view.scale_y
            out[at + p, 2] = depth


@inline_kernel(i8(records(VIEW), i8, f4[:, ::1], i4[:, ::1], i8, i8), cache=True)
def _is_seen(views: Records, k: int, pixels: Floats, faces: Ints, face: int, shift: int) -> int:
    """How many corners a face has, if it looks to the viewer and touches the picture; otherwise 0. shift: from points to pixels."""
    view, count = views[k], 3 if faces[face, 3] < 0 else 4
    low_x, high_x, low_y, high_y, twice = math.inf, -math.inf, math.inf, -math.inf, 0.0
    for c in range(count):
        a, b = faces[face, c] + shift, faces[face, c + 1 if c + 1 < count else 0] + shift
        if view.lens > 0 and pixels[a, 2] <= 0:
            return 0
        x, y = float(pixels[a, 0]), float(pixels[a, 1])
        twice += x * pixels[b, 1] - pixels[b, 0] * y
        low_x, high_x, low_y, high_y = min(low_x, x), max(high_x, x), min(low_y, y), max(high_y, y)
    # y points down on the picture, so a face that is counter-clockwise from outside is clockwise there.
    return count if twice < 0 and high_x > 0 and low_x < view.width and high_y > 0 and low_y < view.height else 0


@njit(i8[::1](records(VIEW), f8[:, ::1], f4[:, ::1], i4[:, ::1], i8[:, ::1]), parallel=True, cache=True)
def _count(views: Records, instances: Doubles, pixels: Floats, faces: Ints, items: Longs) -> Longs:
    """How many faces of each work item are seen, (n,); items (n, 3): an instance, and its faces from one to another."""
    counts = np.zeros(len(items), np.int64)
    for n in prange(len(items)):
        shift, found = int(instances[items[n, 0], PROJECTED]) - int(instances[items[n, 0], POINT]), 0
        for face in range(items[n, 1], items[n, 2]):
            if _is_seen(views, 0, pixels, faces, face, shift) > 0:
                found += 1
        counts[n] = found
    return counts


@inline_kernel(void(f4[:, ::1], i8, f4[:, ::1], i4[:, ::1], i8, i8, i8), cache=True)
def _outline(out: Floats, at: int, pixels: Floats, faces: Ints, face: int, count: int, shift: int) -> None:
    """Write where a face is, and the plane of nearness through its corners."""
    row = out[at]
    low_x, high_x, low_y, high_y = math.inf, -math.inf, math.inf, -math.inf
    for c in range(4):
        a = faces[face, min(c, count - 1)] + shift
        row[CORNERS + 2 * c], row[CORNERS + 2 * c + 1] = pixels[a, 0], pixels[a, 1]
        low_x, high_x = min(low_x, pixels[a, 0]), max(high_x, pixels[a, 0])
        low_y, high_y = min(low_y, pixels[a, 1]), max(high_y, pixels[a, 1])
    row[X], row[Y] = 0.5 * (low_x + high_x), 0.5 * (low_y + high_y)
    row[REACH], row[COUNT] = 0.5 * max(high_x - low_x, high_y - low_y) + 0.01, count
    a, b, c = faces[face, 0] + shift, faces[face, 1] + shift, faces[face, count - 1] + shift
    x, y, q = float(pixels[a, 0]), float(pixels[a, 1]), float(pixels[a, 2])
    row[NEAR], row[NEAR_X], row[NEAR_Y] = _plane(
        x,
        y,
        q,
        pixels[b, 0] - x,
        pixels[b, 1] - y,
        pixels[b, 2] - q,
        pixels[c, 0] - x,
        pixels[c, 1] - y,
        pixels[c, 2] - q,
    )


@inline_kernel(_THREE(f8, f8, f8, f8, f8, f8, f8, f8, f8), cache=True)
def _plane(
    x: float, y: float, v: float, ax: float, ay: float, av: float, bx: float, by: float, bv: float
) -> tuple[float, float, float]:
    """A value that is linear over the picture, v at x, y and more by av and bv at two places from there: at the origin, and per
    pixel to the right and down."""
    det = ax * by - ay * bx
    if abs(det) < 1e-12:
        return v, 0.0, 0.0
    dx, dy = (av * by - bv * ay) / det, (bv * ax - av * bx) / det
    return v - dx * x - dy * y, dx, dy


@inline_kernel(void(f8[:, ::1], f4[::1]), cache=True)
def _planes(corner: Doubles, out: Floats) -> None:
    """The planes of three values at three places: corner (3, 5), a place and its values each; out (9,) or more."""
    x, y = corner[0, 0], corner[0, 1]
    for j in range(3):
        v = corner[0, 2 + j]
        out[3 * j], out[3 * j + 1], out[3 * j + 2] = _plane(
            x, y, v, corner[1, 0] - x, corner[1, 1] - y, corner[1, 2 + j] - v,
            corner[2, 0] - x, corner[2, 1] - y, corner[2, 2 + j] - v,
        )  # fmt: skip


@njit(
    void(
        records(VIEW), f8[:, ::1], f4[:, ::1], i4[:, ::1], f4[:, :, ::1], f4[:, :, ::1], i4[::1], i8[:, ::1], i8[::1], f4[:, ::1],
        f4[:, ::1], f4[:, ::1],
    ), parallel=True, cache=True, error_model="numpy",
)  # fmt: skip
def _write(
    views: Records, instances: Doubles, pixels: Floats, faces: Ints, normals: Floats, paint: Floats, pages: Ints, items: Longs,
    starts: Longs, out: Floats, smooth: Floats, painted: Floats,
) -> None:  # fmt: skip
    """Write the faces that are seen, each work item from its start on. smooth (m, 9), or none: the planes of their normals, times
    nearness under a lens; painted (m, 10), or none: those of the values of their paint, likewise, and their pages."""
    for n in prange(len(items)):
        at, i = starts[n], items[n, 0]
        one, corner = instances[i], np.empty((3, 5))
        shift = int(one[PROJECTED]) - int(one[POINT])
        for face in range(items[n, 1], items[n, 2]):
            count = _is_seen(views, 0, pixels, faces, face, shift)
            if count == 0:
                continue
            _outline(out, at, pixels, faces, face, count, shift)
            row = out[at]
            row[INSTANCE], row[FACE] = i, face
            row[RED], row[GREEN], row[BLUE], row[OPACITY] = one[TINT], one[TINT + 1], one[TINT + 2], one[ALPHA]
            for c in range(3):
                k = c if c < 2 else count - 1
                a, x, y, z = faces[face, k] + shift, normals[face, k, 0], normals[face, k, 1], normals[face, k, 2]
                corner[c, 0], corner[c, 1] = pixels[a, 0], pixels[a, 1]
                share = pixels[a, 2] if views[0].lens > 0 else 1.0
                for j in range(3):
                    corner[c, 2 + j] = share * (one[3 * j] * x + one[3 * j + 1] * y + one[3 * j + 2] * z)
            for j in range(3):
                row[NORMAL + j] = corner[0, 2 + j]
            if len(smooth) > 0:
                _planes(corner, smooth[at])
            if len(painted) > 0:
                for c in range(3):
                    k = c if c < 2 else count - 1
                    share = pixels[faces[face, k] + shift, 2] if views[0].lens > 0 else 1.0
                    for j in range(3):
                        corner[c, 2 + j] = share * paint[face, k, j]
                _planes(corner, painted[at])
                painted[at, 9] = pages[face]
            at += 1


def _items(instances: Doubles, first: Longs, last: Longs) -> Longs:
    """Ranges of each instance in blocks: the instance, and from where to where, (n, 3)."""
    blocks = -(-(last - first) // _BLOCK)
    of = np.repeat(np.arange(len(instances)), blocks)
    begin = first[of] + (np.arange(len(of)) - np.repeat(np.cumsum(blocks) - blocks, blocks)) * _BLOCK
    return np.stack([of, begin, np.minimum(begin + _BLOCK, last[of])], axis=1)


def seen_faces(view: Records, instances: Doubles, geometry: Geometry) -> tuple[Floats, Floats, Floats]:
    """The visible faces of instances (n, `INSTANCE_COLUMNS`), in their order, float32 (m, `FACE_COLUMNS`); the planes of their
    normals, (m, 9) where a mesh is smooth, otherwise (0, 9); and those of their paint with its pages, (m, 10), or (0, 10) where no
    mesh has any. To be called while holding the kernel lock."""
    counts = instances[:, POINTS].astype(np.int64)
    instances[:, PROJECTED] = np.cumsum(counts) - counts
    first = instances[:, POINT].astype(np.int64)
    pixels = np.empty((int(counts.sum()), 3), np.float32)
    _project(view, instances, geometry.points, _items(instances, first, first + counts), pixels)
    items = _items(instances, instances[:, FIRST].astype(np.int64), instances[:, LAST].astype(np.int64))
    seen = _count(view, instances, pixels, geometry.faces, items)
    ends = np.cumsum(seen)
    count = int(ends[-1]) if len(ends) else 0
    out = np.empty((count, FACE_COLUMNS), np.float32)
    smooth = np.empty((count if geometry.is_smooth else 0, 9), np.float32)
    painted = np.empty((count if len(geometry.paint) else 0, 10), np.float32)
    _write(
        view, instances, pixels, geometry.faces, geometry.normals, geometry.paint, geometry.pages, items, ends - seen, out,
        smooth, painted,
    )  # fmt: skip
    return out, smooth, painted


@inline_kernel(
    types.UniTuple(f8, 10)(f4[:, ::1], f4[:, ::1], records(VIEW), i8, f8, f8),  # type: ignore[no-untyped-call]
    cache=True, error_model="numpy", forceinline=True,
)  # fmt: skip
def place_on(faces: Floats, smooth: Floats, views: Records, f: int, x: float, y: float) -> tuple[float, ...]:
    """A face at a pixel, in the camera's axes: how far away it is under a lens (1 in a flat picture), its place, its normal, and
    the direction to the viewer. A smooth normal may look away where its face does not: it is turned until it does not."""
    face, view = faces[f], views[0]
    near = face[NEAR] + face[NEAR_X] * x + face[NEAR_Y] * y
    away = 1.0 / max(near, 1e-12) if view.lens > 0 else 1.0
    across = away / view.lens if view.lens > 0 else 1.0
    px, py = (x - view.width / 2) / view.scale_x * across, (view.height / 2 - y) / view.scale_y * across
    pz = -away if view.lens > 0 else near
    vx, vy, vz = 0.0, 0.0, 1.0
    if view.lens > 0:
        length = math.sqrt(px * px + py * py + pz * pz)
        vx, vy, vz = -px / length, -py / length, -pz / length
    if len(smooth) > 0:
        plane = smooth[f]
        nx, ny, nz = (
            plane[0] + plane[1] * x + plane[2] * y,
            plane[3] + plane[4] * x + plane[5] * y,
            plane[6] + plane[7] * x + plane[8] * y,
        )
    else:
        nx, ny, nz = float(face[NORMAL]), float(face[NORMAL + 1]), float(face[NORMAL + 2])
    length = max(math.sqrt(nx * nx + ny * ny + nz * nz), 1e-12)
    nx, ny, nz = nx / length, ny / length, nz / length
    mu = nx * vx + ny * vy + nz * vz
    if mu < 0.02:
        nx, ny, nz = nx + (0.02 - mu) * vx, ny + (0.02 - mu) * vy, nz + (0.02 - mu) * vz
        length = math.sqrt(nx * nx + ny * ny + nz * nz)
        nx, ny, nz = nx / length, ny / length, nz / length
    return away, px, py, pz, nx, ny, nz, vx, vy, vz


@inline_kernel("f8(f4[:, ::1], i8, i8, f8, f8)", cache=True)
def agreement(smooth: Floats, f: int, g: int, x: float, y: float) -> float:
    """The cosine between the normals of two faces with smooth normals at a pixel."""
    a, b = smooth[f], smooth[g]
    dot, one, two = 0.0, 1e-30, 1e-30
    for c in range(3):
        p, q = a[3 * c] + a[3 * c + 1] * x + a[3 * c + 2] * y, b[3 * c] + b[3 * c + 1] * x + b[3 * c + 2] * y
        dot, one, two = dot + p * q, one + p * p, two + q * q
    return dot / math.sqrt(one * two)
