"""Meshes: corners and faces of a model, with its normals, edges, area and volume.

A face has three or four corners, counter-clockwise seen from outside; four are in one plane. Models fit a ball of radius 1 by their
largest measure: the longest side of the box around them is 2, and its middle is the origin. x points to where a body faces, y up, z
toward the viewer.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from isbjorn.core.arrays import Bools, Doubles, Floats, Ints, Longs
from isbjorn.core.evaluate.paint import Paint

# Corners nearer than this, as a share of the largest measure, are one when a mesh is welded.
_WELDED = 1e-6
# Pairs of corners that are compared at once for smooth normals.
_MOST_PAIRS = 4_000_000


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
    def _sides(self) -> tuple[Longs, Ints, Longs, Longs]:
        """The sides of all faces: their ends (h, 2), the lower first, and faces (h,); and those in which edges begin and how many
        each has, (e,), in the order (h,) that comes with them."""
        ends, faces = _half_edges(self.faces)
        low = np.sort(ends, axis=1).astype(np.int64)
        key = low[:, 0] * len(self.points) + low[:, 1]
        order = np.argsort(key, kind="stable")
        first = np.flatnonzero(np.diff(key[order], prepend=-1))
        return low[order], faces[order], first, np.diff(np.append(first, len(key)))

    @cached_property
    def edges(self) -> tuple[Ints, Floats]:
        """Edges between corners, int32 (e, 2), and the cosine of the angle between the normals of their two faces, float32 (e,); -2
        where an edge has one face only. Diagonals of faces are not among them."""
        ends, faces, first, count = self._sides
        normals = face_normals(self.points, self.faces)
        cosine = np.full(len(first), -2.0, np.float32)
        two = count >= 2
        a, b = normals[faces[first[two]]], normals[faces[first[two] + 1]]
        cosine[two] = np.einsum("ij,ij->i", a, b)
        return np.ascontiguousarray(ends[first], np.int32), cosine

    @cached_property
    def edge_corners(self) -> tuple[Longs, Longs]:
        """One of the faces of each of the `edges`, (e,), and which of its corners their ends are, (e, 2)."""
        ends, faces, first, _ = self._sides
        of, found = faces[first].astype(np.int64), ends[first]
        return of, np.argmax(self.faces[of][:, None, :] == found[:, :, None], axis=2)

    @cached_property
    def edge_normals(self) -> Floats:
        """Unit normals of the edges: the mean of those of their faces, float32 (e, 3)."""
        _, faces, first, count = self._sides
        of = np.repeat(np.arange(len(first)), count)
        return _units(summed(of, face_normals(self.points, self.faces)[faces], len(first)))

    @cached_property
    def corner_normals(self) -> Floats:
        """Unit normals of the points: the mean of those of their faces by the angles there, float32 (v, 3)."""
        at, corner = np.nonzero(self.faces >= 0)
        weight = corner_angles(self.points, self.faces)[at, corner]
        weighted = weight[:, None] * face_normals(self.points, self.faces)[at]
        return _units(summed(self.faces[at, corner], weighted, len(self.points)))

    @cached_property
    def is_closed(self) -> bool:
        """Whether every edge has two faces, which pass it in opposite directions."""
        ends, _ = _half_edges(self.faces)
        a, b = ends.astype(np.int64).T
        there = np.sort(a * len(self.points) + b)
        return bool((np.diff(there) > 0).all()) and np.array_equal(there, np.sort(b * len(self.points) + a))

    @cached_property
    def has_inside(self) -> bool:
        """Whether it is closed, and not only a sheet with two sides."""
        return self.is_closed and abs(self.volume) > 1e-6


def _units(vectors: Doubles) -> Floats:
    """Vectors (n, 3) of length 1; those of no length point up."""
    length = np.linalg.norm(vectors, axis=1, keepdims=True)
    return np.where(length > 1e-12, vectors / np.maximum(length, 1e-12), [0.0, 1.0, 0.0]).astype(np.float32)


def summed(of: Longs | Ints, vectors: Doubles, count: int) -> Doubles:
    """The sums (count, 3) of vectors (n, 3) by the number (n,) that each belongs to."""
    return np.stack([np.bincount(of, weights=vectors[:, k], minlength=count) for k in range(3)], axis=1)


def _half_edges(faces: Ints) -> tuple[Ints, Ints]:
    """The edges of every face in its direction, (h, 2), and the face of each, (h,)."""
    following = np.roll(faces, -1, axis=1)
    three = faces[:, 3] < 0
    following[three, 2] = faces[three, 0]
    ends = np.stack([faces, following], axis=2).reshape(-1, 2)
    of = np.repeat(np.arange(len(faces), dtype=np.int32), 4)
    there = ends[:, 0] >= 0
    return ends[there], of[there]


def face_normals(points: Floats | Doubles, faces: Ints) -> Doubles:
    """Unit normals of faces, float64 (f, 3); 0 for faces without area."""
    p = points.astype(np.float64)
    a, b, c = (p[faces[:, k]] for k in range(3))
    d = p[np.where(faces[:, 3] >= 0, faces[:, 3], faces[:, 2])]
    # Half the cross product of the diagonals is the area of a plane four-sided face, and of a triangle whose last corner repeats.
    normal = np.cross(c - a, d - b)
    length = np.linalg.norm(normal, axis=1, keepdims=True)
    return np.asarray(normal / np.maximum(length, 1e-300) * (length > 0))


def smooth_normals(points: Floats, faces: Ints, degrees: float) -> Floats:
    """Normals at the corners of faces, float32 (f, 4, 3): the mean of the faces around the corner that turn from it by less than
    some degrees, weighted by their angles at the corner (Thürmer and Wüthrich 1998, "Computing vertex normals from polygonal
    facets")."""
    flat = face_normals(points, faces)
    out = np.repeat(flat[:, None, :], 4, axis=1)
    if degrees > 0:
        at, corner = np.nonzero(faces >= 0)
        weight = corner_angles(points, faces)[at, corner]
        order = np.argsort(faces[at, corner], kind="stable")
        at, corner, weight = at[order], corner[order], weight[order]
        first = np.flatnonzero(np.diff(faces[at, corner], prepend=-1))
        count = np.diff(np.append(first, len(at)))
        start, many = np.repeat(first, count), np.repeat(count, count)
        least, block = math.cos(math.radians(degrees)), max(1, int(many.max(initial=1)))
        step = max(1, _MOST_PAIRS // block)
        for begin in range(0, len(at), step):
            mine = np.arange(begin, min(begin + step, len(at)))
            one = np.repeat(mine, many[mine])
            within = np.arange(len(one)) - np.repeat(np.cumsum(many[mine]) - many[mine], many[mine])
            other = start[one] + within
            near = np.einsum("ij,ij->i", flat[at[one]], flat[at[other]]) >= least - 1e-9
            share = np.where(near, weight[other], 0.0)[:, None] * flat[at[other]]
            total = summed(one - begin, share, len(mine))
            length = np.linalg.norm(total, axis=1, keepdims=True)
            out[at[mine], corner[mine]] = np.where(length > 1e-12, total / np.maximum(length, 1e-12), flat[at[mine]])
    return np.ascontiguousarray(out, np.float32)


def corner_angles(points: Floats | Doubles, faces: Ints) -> Doubles:
    """The angle of each face at each of its corners, radians (f, 4)."""
    p, three = points.astype(np.float64), faces[:, 3] < 0
    after, before = np.roll(faces, -1, axis=1), np.roll(faces, 1, axis=1)
    after[three, 2], before[three, 0] = faces[three, 0], faces[three, 2]
    to, back = p[after] - p[faces], p[before] - p[faces]
    length = np.linalg.norm(to, axis=2) * np.linalg.norm(back, axis=2)
    cosine = np.einsum("ijk,ijk->ij", to, back) / np.maximum(length, 1e-300)
    return np.asarray(np.arccos(np.clip(cosine, -1, 1)))


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
