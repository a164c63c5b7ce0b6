"""Births on a model: from its faces, edges and corners, or inside it."""

from __future__ import annotations

import functools
import math
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numba import f4, f8, i4, i8, prange, u1, void

from isbjorn.core.arrays import Bools, Bytes, Doubles, Floats, Ints, Longs
from isbjorn.core.caching import IdentityCache
from isbjorn.core.document.parts.models import ModelShape
from isbjorn.core.emit.shapes.base import Lines, Scattered, ShapeEngine, ShapeSetting, unit
from isbjorn.core.evaluate.geometry.meshes import Mesh, summed
from isbjorn.core.evaluate.geometry.placed_models import edges_of, turned
from isbjorn.core.evaluate.geometry.solids import mesh_of_solid
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.runtime.parallel import kernel_lock

# Places inside a model that births are dealt, and the grid of lines along which they are found.
_PLACES, _GRID = 1 << 15, 48
# A single k-d tree of FLANN, searched to the end.
_EXACT_TREE = 4
_STEPS = [1.2207440846057596 ** -(j + 1) for j in range(3)]


@dataclass(frozen=True)
class _Source:
    """Pieces of which one is drawn by its share: ends (n,), where each ends in [0, 1]; whole: their length or area together."""

    ends: Doubles
    whole: float


def _source(weights: Doubles) -> _Source:
    total = float(weights.sum())
    return _Source(np.cumsum(weights) / total if total > 0 else np.linspace(0, 1, len(weights) + 1)[1:], total)


def _drawn(source: _Source, u: Doubles) -> tuple[Longs, Doubles]:
    """Which piece each draw u (n,) falls on, and where in it, in [0, 1): what is even over u is even over the pieces."""
    index = np.minimum(np.searchsorted(source.ends, u, side="right"), len(source.ends) - 1)
    start = np.where(index > 0, source.ends[index - 1], 0.0)
    return index, np.clip((u - start) / np.maximum(source.ends[index] - start, 1e-300), 0, 1 - 1e-12)


class _Places:
    """A mesh as a source, in its own unit."""

    def __init__(self, mesh: Mesh, sharp: float) -> None:
        self.mesh, self.points, self._least = mesh, mesh.points.astype(np.float64), sharp

    @functools.cached_property
    def sharp(self) -> Longs:
        """The numbers of the edges of which births are."""
        return np.flatnonzero(self.mesh.edges[1] <= math.cos(math.radians(self._least)) + 1e-6)

    @functools.cached_property
    def faces(self) -> _Source:
        a, b, c = (self.points[self.mesh.triangles[:, k]] for k in range(3))
        return _source(0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1))

    @functools.cached_property
    def edges(self) -> _Source:
        return _source(_lengths(self.mesh.points, self.mesh.edges[0], self.sharp))

    @functools.cached_property
    def inside(self) -> Doubles:
        """Even places inside a closed mesh, (n, 3); on its faces where none is found."""
        found: list[Doubles] = []
        low, high = self.points.min(axis=0), self.points.max(axis=0)
        for block in range(64):
            k = np.arange(block * _PLACES, (block + 1) * _PLACES)[:, None]
            candidates = low + (high - low) * ((0.5 + (k + 1) * np.array(_STEPS)) % 1.0)
            found.append(candidates[_is_inside(candidates, self.points, self.mesh.triangles)])
            if sum(map(len, found)) >= _PLACES:
                break
        places = np.concatenate(found)[:_PLACES]
        return places if len(places) else self.points

    def colours(self, births: str, u: Doubles, v: Doubles) -> Floats:
        """Linear colours (n, 3) of the mesh where the draws u and v (n,) fall; inside it, those of the nearest corner."""
        paint = self.mesh.paint
        if paint is None:
            return np.ones((len(u), 3), np.float32)
        if births == "corners" or births == "inside":
            index = _one_of(self.points if births == "corners" else self.inside, u)
            return self.corner_colours[index if births == "corners" else self.nearest[index]]
        if births == "edges" and len(self.sharp):
            index, at = _drawn(self.edges, u)
            of, corners = (part[self.sharp[index]] for part in self.mesh.edge_corners)
            # The third corner has no share.
            return paint.at(of, corners[:, [0, 1, 1]], np.stack([1 - at, at, np.zeros_like(at)], axis=1))
        index, at = _drawn(self.faces, u)
        of, corners = (part[index] for part in self.mesh.triangle_corners)
        return paint.at(of, corners, _shares(at, v))

    @functools.cached_property
    def corner_colours(self) -> Floats:
        """Linear colours of the points: the mean of those of their faces, (v, 3)."""
        at, corner = np.nonzero(self.mesh.faces >= 0)
        whole = np.broadcast_to([1.0, 0.0, 0.0], (len(at), 3))
        assert self.mesh.paint is not None
        found = self.mesh.paint.at(at, np.repeat(corner[:, None], 3, axis=1), whole).astype(np.float64)
        of = self.mesh.faces[at, corner]
        count = np.maximum(1, np.bincount(of, minlength=len(self.points)))[:, None]
        return (summed(of, found, len(self.points)) / count).astype(np.float32)

    @functools.cached_property
    def nearest(self) -> Longs:
        """The nearest corner of each of the places inside, (n,)."""
        flann: Any = cv2
        tree = flann.flann_Index(self.points.astype(np.float32), {"algorithm": _EXACT_TREE})
        found, _ = tree.knnSearch(self.inside.astype(np.float32), 1, params={"checks": -1})
        return found[:, 0].astype(np.int64)

    def scatter(self, births: str, u: Doubles, v: Doubles) -> tuple[Doubles, Doubles, Doubles]:
        """Places, normals and directions along, (n, 3), of draws u and v (n,)."""
        if births == "corners":
            index = _one_of(self.points, u)
            normal = self.mesh.corner_normals[index].astype(np.float64)
            return self.points[index], normal, _across(normal)
        if births == "inside":
            place = self.inside[_one_of(self.inside, u)]
            return place, unit(place), _across(unit(place))
        if births == "edges" and len(self.sharp):
            index, at = _drawn(self.edges, u)
            a, b = (self.points[self.mesh.edges[0][self.sharp[index], k]] for k in range(2))
            normal = self.mesh.edge_normals(self.sharp[index]).astype(np.float64)
            return a + at[:, None] * (b - a), normal, unit(b - a)
        index, at = _drawn(self.faces, u)
        a, b, c = (self.points[self.mesh.triangles[index, k]] for k in range(3))
        place = np.einsum("nk,knc->nc", _shares(at, v), np.stack([a, b, c]))
        return place, unit(np.cross(b - a, c - a)), unit(b - a)


@inline_kernel("void(f4[:, ::1], i4[:, ::1], i8[::1], f8[::1])", cache=True)
def _measure_edges(points: Floats, edges: Ints, of: Longs, lengths: Doubles) -> None:
    for n in range(len(of)):
        a, b = edges[of[n], 0], edges[of[n], 1]
        x, y, z = (
            float(points[b, 0]) - points[a, 0],
            float(points[b, 1]) - points[a, 1],
            float(points[b, 2]) - points[a, 2],
        )
        lengths[n] = math.sqrt(x * x + y * y + z * z)


def _lengths(points: Floats, edges: Ints, of: Longs) -> Doubles:
    """Lengths (n,) of some of the edges (e, 2) between points (v, 3), by their numbers (n,)."""
    lengths = np.empty(len(of))
    _measure_edges(np.ascontiguousarray(points), edges, of, lengths)
    return lengths


def _one_of(places: Doubles, u: Doubles) -> Longs:
    """Which of some places (m, 3) each draw u (n,) falls on."""
    return np.minimum((u * len(places)).astype(np.int64), len(places) - 1)


def _shares(u: Doubles, v: Doubles) -> Doubles:
    """Even places in a triangle of draws (n,), as shares of its corners, (n, 3) (Turk 1990, "Generating random points in
    triangles")."""
    root = np.sqrt(u)
    return np.stack([1 - root, root * (1 - v), root * v], axis=1)


def _across(normal: Doubles) -> Doubles:
    """A direction at right angles to each normal, level where it can be."""
    return unit(np.cross([0.0, 1.0, 0.0], normal) + 1e-9 * np.array([1.0, 0.0, 0.0]))


@njit(
    void(f8[:, ::1], f4[:, ::1], i4[:, ::1], i8[::1], i4[::1], f8[::1], f8[::1], i8, u1[::1]), parallel=True, cache=True
)
def _crossed(
    places: Doubles,
    points: Floats,
    triangles: Ints,
    starts: Longs,
    order: Ints,
    low: Doubles,
    cell: Doubles,
    side: int,
    odd: Bytes,
) -> None:
    """Whether a ray from each place to the right passes an odd number of triangles. starts, order: the triangles over each cell of
    a grid across the rays."""
    for n in prange(len(places)):
        x, y, z = places[n, 0], places[n, 1], places[n, 2]
        j = min(side - 1, max(0, int((y - low[1]) / cell[0])))
        k = min(side - 1, max(0, int((z - low[2]) / cell[1])))
        count = 0
        for at in range(starts[j * side + k], starts[j * side + k + 1]):
            t = triangles[order[at]]
            ay, az = points[t[0], 1] - y, points[t[0], 2] - z
            by, bz = points[t[1], 1] - y, points[t[1], 2] - z
            cy, cz = points[t[2], 1] - y, points[t[2], 2] - z
            u, v, w = by * cz - bz * cy, cy * az - cz * ay, ay * bz - az * by
            if (u < 0 or v < 0 or w < 0) and (u > 0 or v > 0 or w > 0):
                continue
            whole = u + v + w
            if whole == 0:
                continue
            if (u * points[t[0], 0] + v * points[t[1], 0] + w * points[t[2], 0]) / whole > x:
                count += 1
        odd[n] = count % 2


_cross = kernel_lock(_crossed)


def _is_inside(places: Doubles, points: Doubles, triangles: Ints) -> Bools:
    """Which places (n, 3) are inside a closed mesh, by the even-odd rule."""
    low, high = points.min(axis=0), points.max(axis=0)
    cell = np.maximum((high - low)[1:] / _GRID, 1e-12)
    corners = points[triangles][:, :, 1:]
    first = np.clip(((corners.min(axis=1) - low[1:]) / cell).astype(np.int64), 0, _GRID - 1)
    last = np.clip(((corners.max(axis=1) - low[1:]) / cell).astype(np.int64), 0, _GRID - 1)
    wide = last - first + 1
    counts = wide[:, 0] * wide[:, 1]
    of = np.repeat(np.arange(len(triangles)), counts)
    within = np.arange(len(of)) - np.repeat(np.cumsum(counts) - counts, counts)
    cells = (first[of, 0] + within // wide[of, 1]) * _GRID + first[of, 1] + within % wide[of, 1]
    order = np.argsort(cells, kind="stable")
    starts = np.searchsorted(cells[order], np.arange(_GRID * _GRID + 1))
    odd = np.zeros(len(places), np.uint8)
    _cross(
        np.ascontiguousarray(places), np.ascontiguousarray(points, np.float32), np.ascontiguousarray(triangles),
        starts.astype(np.int64), of[order].astype(np.int32), low, cell, _GRID, odd,
    )  # fmt: skip
    return odd > 0


_places: IdentityCache[_Places] = IdentityCache(
    lambda shape: _Places(mesh_of_solid(shape), shape.sharp.value), what="Places on models"
)


def _turns(shape: ModelShape, setting: ShapeSetting) -> Doubles:
    """Rotation matrices at the setting's moments, (n, 3, 3): about the upright axis, the level one, and the one of sight."""
    return turned(shape, setting.readings, setting.t, setting.read(shape.angle))


def _scatter(shape: ModelShape, draws: Doubles, setting: ShapeSetting) -> Scattered:
    place, outward, along = _places(shape).scatter(shape.births, draws[0], draws[1])
    turn = _turns(shape, setting)
    half = 0.5 * setting.read(shape.size)[:, None]
    place, outward, along = (np.einsum("nij,nj->ni", turn, part) for part in (place, outward, along))
    return Scattered(place * half, outward, along)


def _outline(shape: ModelShape, setting: ShapeSetting) -> Lines:
    return edges_of(mesh_of_solid(shape), _turns(shape, setting)[0], 0.5 * float(setting.read(shape.size)[0]))


def _measure(shape: ModelShape, setting: ShapeSetting) -> tuple[float, int]:
    half, places = 0.5 * float(setting.read(shape.size)[0]), _places(shape)
    match shape.births:
        case "faces":
            return places.faces.whole * half**2, 2
        case "edges":
            return places.edges.whole * half, 1
        case "inside":
            return abs(places.mesh.volume) * half**3, 3
        case _:
            # Corners have no extent: as if each filled a px.
            return float(len(places.points)), 1


def _colours(shape: ModelShape, draws: Doubles) -> Floats:
    return _places(shape).colours(shape.births, draws[0], draws[1])


MODEL = ShapeEngine(_scatter, _outline, lambda shape: 2 if shape.births == "faces" else 1, _measure, _colours)
