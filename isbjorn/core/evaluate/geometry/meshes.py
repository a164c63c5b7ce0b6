"""Meshes: corners and faces of a model, with its normals, edges, area and volume.

A face has three or four corners, counter-clockwise seen from outside; four are in one plane. Models fit a ball of radius 1 by their
largest measure: the longest side of the box around them is 2, and its middle is the origin. x points to where a body faces, y up, z
toward the viewer.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numba import prange

from isbjorn.core.arrays import Bools, Doubles, Floats, Ints, Longs
from isbjorn.core.evaluate.geometry.paint import Paint
from isbjorn.core.jit import njit
from isbjorn.core.runtime.parallel import kernel_lock

# Corners nearer than this, as a share of the largest measure, are one when a mesh is welded.
_WELDED = 1e-6
# Faces at one point that are compared for smooth normals, at most.
_MOST_AROUND = 2048


@dataclass(frozen=True, eq=False)
class Mesh:
    """points (v, 3) float32; faces (f, 4) int32, the last -1 for a triangle; normals (f, 4, 3) float32, one per corner; paint: the
    colours of the faces, or None."""

    points: Floats
    faces: Ints
    normals: Floats
    paint: Paint | None = None

    @cached_property
    def triangles(self) -> Ints:
        """All faces as triangles, int32 (t, 3)."""
        fours = self.faces[self.faces[:, 3] >= 0]
        return np.ascontiguousarray(np.concatenate([self.faces[:, :3], fours[:, [0, 2, 3]]]), np.int32)

    @cached_property
    def area(self) -> float:
        """Area of all faces, in squares of the unit."""
        a, b, c = (self.points[self.triangles[:, k]].astype(np.float64) for k in range(3))
        return float(0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1).sum())

    @cached_property
    def volume(self) -> float:
        """Enclosed volume of a closed mesh, by the divergence theorem; negative if its faces point inward."""
        a, b, c = (self.points[self.triangles[:, k]].astype(np.float64) for k in range(3))
        return float(np.einsum("ij,ij->", a, np.cross(b, c)) / 6)

    @cached_property
    def triangle_corners(self) -> tuple[Longs, Longs]:
        """The face of each of the `triangles`, (t,), and which three of its corners they have, (t, 3)."""
        fours = np.flatnonzero(self.faces[:, 3] >= 0)
        of = np.concatenate([np.arange(len(self.faces)), fours])
        corners = np.tile([0, 1, 2], (len(of), 1))
        corners[len(self.faces) :] = [0, 2, 3]
        return of, corners

    @cached_property
    def face_normals(self) -> Doubles:
        """Unit normals of the faces, float64 (f, 3)."""
        return face_normals(self.points, self.faces)

    @cached_property
    def _sides(self) -> tuple[Ints, Floats, Longs, Longs]:
        """The edges (e, 2) and their cosines (e,), as `edges`; and the faces at them, (h,), those of each from where it begins,
        (e + 1,)."""
        return _by_edges(self.faces, self.face_normals, len(self.points))

    @cached_property
    def edges(self) -> tuple[Ints, Floats]:
        """Edges between corners, int32 (e, 2), the lower first, and the cosine of the angle between the normals of their two faces,
        float32 (e,); -2 where an edge has one face only. Diagonals of faces are not among them."""
        return self._sides[:2]

    @cached_property
    def edge_corners(self) -> tuple[Longs, Longs]:
        """One of the faces of each of the `edges`, (e,), and which of its corners their ends are, (e, 2)."""
        edges, _, faces, first = self._sides
        of = faces[first[:-1]]
        return of, np.argmax(self.faces[of][:, None, :] == edges[:, :, None], axis=2)

    def edge_normals(self, edges: Longs) -> Floats:
        """Unit normals of some of the edges, by their numbers (n,): the mean of those of their faces, float32 (n, 3)."""
        _, _, faces, first = self._sides
        count = np.diff(first)[edges]
        total = np.zeros((len(edges), 3))
        for k in range(int(count.max(initial=0))):
            there = count > k
            total[there] += self.face_normals[faces[first[edges[there]] + k]]
        return _units(total)

    @cached_property
    def corner_normals(self) -> Floats:
        """Unit normals of the points: the mean of those of their faces by the angles there, float32 (v, 3)."""
        at, corner = np.nonzero(self.faces >= 0)
        weight = corner_angles(self.points, self.faces)[at, corner]
        weighted = weight[:, None] * self.face_normals[at]
        return _units(summed(self.faces[at, corner], weighted, len(self.points)))

    @cached_property
    def is_closed(self) -> bool:
        """Whether every edge has two faces, which pass it in opposite directions."""
        ends, _ = _half_edges(self.faces)
        a, b = ends.T
        there = np.sort(a * len(self.points) + b)
        return bool((np.diff(there) > 0).all()) and np.array_equal(there, np.sort(b * len(self.points) + a))

    @cached_property
    def has_inside(self) -> bool:
        """Whether it is closed, and not only a sheet with two sides."""
        return self.is_closed and abs(self.volume) > 1e-6


def _units(vectors: Doubles) -> Floats:
    """Vectors (n, 3) of length 1; those of no length point up."""
    length = np.sqrt(np.einsum("ni,ni->n", vectors, vectors))[:, None]
    return np.where(length > 1e-12, vectors / np.maximum(length, 1e-12), [0.0, 1.0, 0.0]).astype(np.float32)


def summed(of: Longs | Ints, vectors: Doubles, count: int) -> Doubles:
    """The sums (count, 3) of vectors (n, 3) by the number (n,) that each belongs to."""
    return np.stack([np.bincount(of, weights=vectors[:, k], minlength=count) for k in range(3)], axis=1)


@njit("Tuple((i8[:, ::1], i8[::1]))(i4[:, ::1])", cache=True)
def _half_edges(faces: Ints) -> tuple[Longs, Longs]:
    """The sides of every face in its direction, their ends (h, 2), and the face of each, (h,)."""
    total = 0
    for f in range(len(faces)):
        total += 3 if faces[f, 3] < 0 else 4
    ends, of, at = np.empty((total, 2), np.int64), np.empty(total, np.int64), 0
    for f in range(len(faces)):
        count = 3 if faces[f, 3] < 0 else 4
        for k in range(count):
            ends[at, 0], ends[at, 1], of[at] = faces[f, k], faces[f, k + 1 if k + 1 < count else 0], f
            at += 1
    return ends, of


@njit("void(f4[:, ::1], i4[:, ::1], f8[:, ::1], f8[:, ::1])", parallel=True, cache=True)
def _measure(points: Floats, faces: Ints, normals: Doubles, angles: Doubles) -> None:
    """Unit normals (f, 3) of faces, 0 where they have no area, and their angles at their corners, radians (f, 4)."""
    for f in prange(len(faces)):
        count = 3 if faces[f, 3] < 0 else 4
        a, b, c = points[faces[f, 0]], points[faces[f, 1]], points[faces[f, 2]]
        d = points[faces[f, count - 1]]
        # Half the cross product of the diagonals is the area of a plane four-sided face, and of a triangle whose last corner
        # repeats.
        ux, uy, uz = float(c[0]) - a[0], float(c[1]) - a[1], float(c[2]) - a[2]
        wx, wy, wz = float(d[0]) - b[0], float(d[1]) - b[1], float(d[2]) - b[2]
        x, y, z = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
        length = math.sqrt(x * x + y * y + z * z)
        share = 1 / length if length > 0 else 0.0
        normals[f, 0], normals[f, 1], normals[f, 2] = x * share, y * share, z * share
        for k in range(count):
            here, after = points[faces[f, k]], points[faces[f, k + 1 if k + 1 < count else 0]]
            before = points[faces[f, k - 1 if k > 0 else count - 1]]
            dot, one, two = 0.0, 0.0, 0.0
            for i in range(3):
                p, q = float(after[i]) - here[i], float(before[i]) - here[i]
                dot, one, two = dot + p * q, one + p * p, two + q * q
            angles[f, k] = math.acos(min(1.0, max(-1.0, dot / max(math.sqrt(one * two), 1e-300))))


_measure_all: Callable[..., None] = kernel_lock(_measure)


def _measured(points: Floats | Doubles, faces: Ints) -> tuple[Doubles, Doubles]:
    normals, angles = np.empty((len(faces), 3)), np.zeros((len(faces), 4))
    _measure_all(np.ascontiguousarray(points, np.float32), np.ascontiguousarray(faces), normals, angles)
    return normals, angles


def face_normals(points: Floats | Doubles, faces: Ints) -> Doubles:
    """Unit normals of faces, float64 (f, 3); 0 for faces without area."""
    return _measured(points, faces)[0]


@njit("Tuple((i8[::1], i8[::1]))(i4[:, ::1], i8)", cache=True)
def _around(faces: Ints, count: int) -> tuple[Longs, Longs]:
    """The corners of faces, by the points there: where those of each begin, (count + 1,), and the corners, (m,), as four times
    their face and their place in it."""
    starts = np.zeros(count + 1, np.int64)
    for f in range(len(faces)):
        for k in range(4):
            if faces[f, k] >= 0:
                starts[faces[f, k] + 1] += 1
    for v in range(count):
        starts[v + 1] += starts[v]
    corners, filled = np.empty(starts[count], np.int64), starts[:count].copy()
    for f in range(len(faces)):
        for k in range(4):
            if faces[f, k] >= 0:
                corners[filled[faces[f, k]]] = 4 * f + k
                filled[faces[f, k]] += 1
    return starts, corners


@njit("void(i8[::1], i8[::1], f8[:, ::1], f8[:, ::1], f8, f4[:, :, ::1])", parallel=True, cache=True)
def _smooth(starts: Longs, corners: Longs, flat: Doubles, angles: Doubles, least: float, out: Floats) -> None:
    """Normals of corners: the mean of those around whose cosine with their own is no less than the least."""
    for v in prange(len(starts) - 1):
        # Where more faces meet than a model has on purpose, they stay flat.
        last = starts[v + 1] if starts[v + 1] - starts[v] <= _MOST_AROUND else starts[v]
        for i in range(starts[v], last):
            face, corner = corners[i] // 4, corners[i] % 4
            x, y, z = 0.0, 0.0, 0.0
            for j in range(starts[v], starts[v + 1]):
                other = corners[j] // 4
                alike = flat[face, 0] * flat[other, 0] + flat[face, 1] * flat[other, 1] + flat[face, 2] * flat[other, 2]
                if alike >= least:
                    share = angles[other, corners[j] % 4]
                    x, y, z = x + share * flat[other, 0], y + share * flat[other, 1], z + share * flat[other, 2]
            length = math.sqrt(x * x + y * y + z * z)
            if length > 1e-12:
                out[face, corner, 0], out[face, corner, 1], out[face, corner, 2] = x / length, y / length, z / length


_smooth_all: Callable[..., None] = kernel_lock(_smooth)


def smooth_normals(points: Floats, faces: Ints, degrees: float) -> Floats:
    """Normals at the corners of faces, float32 (f, 4, 3): the mean of the faces around the corner that turn from it by less than
    some degrees, weighted by their angles at the corner (Thürmer and Wüthrich 1998, "Computing vertex normals from polygonal
    facets")."""
    flat, angles = _measured(points, faces)
    out = np.repeat(flat.astype(np.float32)[:, None, :], 4, axis=1)
    if degrees > 0:
        starts, corners = _around(np.ascontiguousarray(faces), len(points))
        least = math.cos(math.radians(degrees)) - 1e-9
        _smooth_all(starts, corners, flat, angles, least, out)
    return out


def corner_angles(points: Floats | Doubles, faces: Ints) -> Doubles:
    """The angle of each face at each of its corners, radians (f, 4); 0 where it has none."""
    return _measured(points, faces)[1]


@njit("Tuple((i4[:, ::1], f4[::1], i8[::1], i8[::1]))(i4[:, ::1], f8[:, ::1], i8)", cache=True)
def _by_edges(faces: Ints, normals: Doubles, count: int) -> tuple[Ints, Floats, Longs, Longs]:
    """See `Mesh._sides`; count: of points. Sides are sorted by their lower end by counting; those of one
    point by their other end, then by their face, in gaps that become smaller (Shell 1959)."""
    ends, of = _half_edges(faces)
    starts = np.zeros(count + 1, np.int64)
    for h in range(len(ends)):
        starts[min(ends[h, 0], ends[h, 1]) + 1] += 1
    for v in range(count):
        starts[v + 1] += starts[v]
    high, sides, filled = np.empty(len(ends), np.int32), np.empty(len(ends), np.int64), starts[:count].copy()
    for h in range(len(ends)):
        v = min(ends[h, 0], ends[h, 1])
        high[filled[v]], sides[filled[v]] = max(ends[h, 0], ends[h, 1]), of[h]
        filled[v] += 1
    edges, cosine = np.empty((len(ends), 2), np.int32), np.empty(len(ends), np.float32)
    first, total = np.empty(len(ends) + 1, np.int64), 0
    for v in range(count):
        begin, end = starts[v], starts[v + 1]
        gap = 1
        while 3 * gap + 1 < end - begin:
            gap = 3 * gap + 1
        while gap > 0:
            for h in range(begin + gap, end):
                other, face, k = high[h], sides[h], h
                while k >= begin + gap and (high[k - gap], sides[k - gap]) > (other, face):
                    high[k], sides[k] = high[k - gap], sides[k - gap]
                    k -= gap
                high[k], sides[k] = other, face
            gap //= 3
        for h in range(begin, end):
            if h > begin and high[h] == high[h - 1]:
                if h - first[total - 1] == 1:
                    a, b = normals[sides[h - 1]], normals[sides[h]]
                    cosine[total - 1] = a[0] * b[0] + a[1] * b[1] + a[2] * b[2]
                continue
            edges[total, 0], edges[total, 1], cosine[total], first[total] = v, high[h], -2.0, h
            total += 1
    first[total] = len(ends)
    return edges[:total].copy(), cosine[:total].copy(), sides, first[: total + 1].copy()


def welded(points: Floats, faces: Ints) -> tuple[Floats, Ints, Bools]:
    """Points without doubles, faces that refer to them, and which of the former faces these are; those that lose their area go."""
    across = max(float(np.ptp(points, axis=0).max(initial=0.0)), 1e-30)
    grid = np.round(points.astype(np.float64) / (across * _WELDED)).astype(np.int64)
    _, first, of = np.unique(grid, axis=0, return_index=True, return_inverse=True)
    order = np.argsort(first)
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order))
    joined = np.where(faces >= 0, rank[of.reshape(-1)[np.maximum(faces, 0)]], -1)
    three = joined[:, 3] < 0
    alike = (joined[:, 0] == joined[:, 1]) | (joined[:, 1] == joined[:, 2])
    alike |= np.where(
        three, joined[:, 2] == joined[:, 0], (joined[:, 2] == joined[:, 3]) | (joined[:, 3] == joined[:, 0])
    )
    return points[first[order]], np.ascontiguousarray(joined[~alike], np.int32), ~alike


def fitted(points: Floats) -> tuple[Floats, float]:
    """Points about the middle of the box around them, with 2 as its longest side; and how long that was."""
    low, high = points.min(axis=0).astype(np.float64), points.max(axis=0).astype(np.float64)
    longest = float((high - low).max())
    return ((points - 0.5 * (low + high)) * (2 / max(longest, 1e-30))).astype(np.float32), longest


def mesh_of(points: Floats, faces: Ints, smooth_degrees: float, paint: Paint | None = None) -> Mesh:
    """A mesh that fits its unit, with smooth normals."""
    points = fitted(points)[0]
    return Mesh(points, faces, smooth_normals(points, faces, smooth_degrees), paint)


def rotations(about_z: Doubles, deep: Doubles | None, heading: Floats | None) -> Doubles:
    """Rotation matrices (n, 3, 3): about the upright axis, then the level one, then the one of sight, all in radians; then, where
    there is a heading (n, 3), such that x points along it."""
    n = len(about_z)
    c, s = np.cos(about_z), np.sin(about_z)
    out = np.zeros((n, 3, 3))
    out[:, 0, 0], out[:, 0, 1], out[:, 1, 0], out[:, 1, 1], out[:, 2, 2] = c, -s, s, c, 1
    if deep is not None:
        about_x, about_y = np.zeros((n, 3, 3)), np.zeros((n, 3, 3))
        c, s = np.cos(deep[:, 0]), np.sin(deep[:, 0])
        about_x[:, 0, 0], about_x[:, 1, 1], about_x[:, 1, 2], about_x[:, 2, 1], about_x[:, 2, 2] = 1, c, -s, s, c
        c, s = np.cos(deep[:, 1]), np.sin(deep[:, 1])
        about_y[:, 1, 1], about_y[:, 0, 0], about_y[:, 0, 2], about_y[:, 2, 0], about_y[:, 2, 2] = 1, c, s, -s, c
        out = out @ about_x @ about_y
    if heading is not None:
        d = heading.astype(np.float64)
        flat = np.hypot(d[:, 0], d[:, 1])
        turn, rise = np.arctan2(d[:, 1], d[:, 0]), np.arctan2(d[:, 2], flat)
        c, s, e, f = np.cos(turn), np.sin(turn), np.cos(rise), np.sin(rise)
        toward = np.zeros((n, 3, 3))
        toward[:, 0, 0], toward[:, 0, 1], toward[:, 0, 2] = c * e, -s, -c * f
        toward[:, 1, 0], toward[:, 1, 1], toward[:, 1, 2] = s * e, c, -s * f
        toward[:, 2, 0], toward[:, 2, 2] = f, e
        out = toward @ out
    return out
