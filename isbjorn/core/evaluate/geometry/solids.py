"""Built-in models: box, ball, capsule, cone, torus, drop, gem and card, as meshes."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from isbjorn.core.arrays import Doubles, Floats, Ints
from isbjorn.core.document import Number
from isbjorn.core.document.parts.solids import Solid
from isbjorn.core.evaluate.geometry.meshes import Mesh, mesh_of, welded
from isbjorn.core.evaluate.geometry.model_files import model_of
from isbjorn.core.runtime.memory import cached

# Faces around a body of revolution, and along its profile.
_AROUND, _ALONG = 32, 16


def _faces(rows: Sequence[tuple[int, ...]]) -> Ints:
    """Faces of three or more corners; those of more than four as triangles."""
    found: list[tuple[int, ...]] = []
    for row in rows:
        if len(row) <= 4:
            found.append((*row, -1)[:4])
        else:
            found += [(row[0], row[k], row[k + 1], -1) for k in range(1, len(row) - 1)]
    return np.array(found, np.int32)


def box(width: float, height: float, deep: float, bevel: float) -> tuple[Floats, Ints]:
    """A box of three sides; bevel: share of half its shortest side that its edges are cut by."""
    half = np.array([width, height, deep], np.float64) / 2
    cut = bevel * float(half.min())
    if cut <= 0:
        corners = np.array(list(itertools.product((-1, 1), repeat=3)), np.float64) * half
        rows = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]
        return corners.astype(np.float32), _faces(rows)
    # Each corner of the box becomes three, each pulled in along two axes.
    points: list[Doubles] = []
    index: dict[tuple[int, ...], int] = {}
    for signs in itertools.product((-1, 1), repeat=3):
        for axis in range(3):
            point = np.array(signs, np.float64) * (half - cut)
            point[axis] = signs[axis] * half[axis]
            index[(*signs, axis)] = len(points)
            points.append(point)

    def corner(axis: int, along: int, a: int, b: int, face: int) -> int:
        signs = [0, 0, 0]
        signs[axis], signs[(axis + 1) % 3], signs[(axis + 2) % 3] = along, a, b
        return index[(*signs, face)]

    cut_rows: list[tuple[int, ...]] = [
        tuple(index[(*signs, k)] for k in range(3)) for signs in itertools.product((-1, 1), repeat=3)
    ]
    for axis in range(3):
        u, v = (axis + 1) % 3, (axis + 2) % 3
        around = ((-1, -1), (1, -1), (1, 1), (-1, 1))
        cut_rows += [(*(corner(axis, side, a, b, axis) for a, b in around),) for side in (-1, 1)]
        cut_rows += [(*(corner(axis, k, a, b, f) for k, f in ((-1, u), (-1, v), (1, v), (1, u))),) for a, b in around]
    return np.array(points, np.float32), _outward(np.array(points), cut_rows)


def _outward(points: Doubles, rows: Sequence[tuple[int, ...]]) -> Ints:
    """Faces of a convex body about the origin, each counter-clockwise from outside."""
    turned = []
    for row in rows:
        a, b, c = (points[row[k]] for k in range(3))
        turned.append(row if float(np.dot(np.cross(b - a, c - a), a)) > 0 else row[::-1])
    return _faces(turned)


def ball(detail: int) -> tuple[Floats, Ints]:
    """A geodesic ball: an icosahedron whose faces are divided in four, `detail` times."""
    g = (1 + math.sqrt(5)) / 2
    nothing, ones, golden = (0.0,), (-1.0, 1.0), (-g, g)
    cycles = ((nothing, ones, golden), (ones, golden, nothing), (golden, nothing, ones))
    points = [np.array(p) for axes in cycles for p in itertools.product(*axes)]
    unit = [p / np.linalg.norm(p) for p in points]
    side = min(float(np.linalg.norm(a - b)) for a, b in itertools.combinations(unit, 2)) * 1.01

    def near(a: int, b: int) -> bool:
        return float(np.linalg.norm(unit[a] - unit[b])) < side

    triangles: list[tuple[int, ...]] = []
    for a, b, c in itertools.combinations(range(12), 3):
        if near(a, b) and near(b, c) and near(a, c):
            outward = float(np.dot(np.cross(unit[b] - unit[a], unit[c] - unit[a]), unit[a])) > 0
            triangles.append((a, b, c) if outward else (a, c, b))
    for _ in range(detail):
        middle: dict[tuple[int, int], int] = {}

        def between(a: int, b: int, middle: dict[tuple[int, int], int] = middle) -> int:
            key = (min(a, b), max(a, b))
            if key not in middle:
                point = unit[a] + unit[b]
                middle[key] = len(unit)
                unit.append(point / np.linalg.norm(point))
            return middle[key]

        finer: list[tuple[int, ...]] = []
        for a, b, c in triangles:
            ab, bc, ca = between(a, b), between(b, c), between(c, a)
            finer += [(a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca)]
        triangles = finer
    return np.array(unit, np.float32), _faces([tuple(t) for t in triangles])


def revolved(profile: Doubles, around: int = _AROUND) -> tuple[Floats, Ints]:
    """The body of a profile (m, 2) of x and radius, from its end at low x to its end at high x, turned about the x axis."""
    turn = 2 * np.pi * np.arange(around) / around
    points = np.stack(np.broadcast_arrays(
        profile[:, None, 0], profile[:, None, 1] * np.cos(turn), profile[:, None, 1] * np.sin(turn)
    ), axis=2).reshape(-1, 3)  # fmt: skip
    rows = []
    for k in range(len(profile) - 1):
        for i in range(around):
            j = (i + 1) % around
            a, b, c, d = k * around + i, k * around + j, (k + 1) * around + j, (k + 1) * around + i
            # Two triangles: the four corners are in one plane only by chance.
            rows += [(a, c, d), (a, b, c)]
    return welded(points.astype(np.float32), _faces(rows))[:2]


def _ends(profile: Doubles) -> Doubles:
    """A profile that is closed by flat ends where it does not begin or end on the axis."""
    first = [] if profile[0, 1] < 1e-9 else [[profile[0, 0], 0.0]]
    last = [] if profile[-1, 1] < 1e-9 else [[profile[-1, 0], 0.0]]
    return np.array([*first, *profile.tolist(), *last])


def capsule(length: float) -> tuple[Floats, Ints]:
    """A ball drawn out along x: length of its straight part, as a multiple of its diameter."""
    angle = np.linspace(0, np.pi / 2, _ALONG // 2 + 1)
    half = np.stack([np.sin(angle), np.cos(angle)], axis=1)
    right = half + np.array([length, 0.0])
    left = (half * [-1, 1])[::-1] - np.array([length, 0.0])
    return revolved(np.concatenate([left, right] if length > 0 else [left, right[1:]]))


def cone(length: float, top: float) -> tuple[Floats, Ints]:
    """A cone that points along x: length as a multiple of the diameter of its base; top: radius there, as a share of the base's."""
    return revolved(_ends(np.array([[-length, 1.0], [length, top]])))


def torus(thickness: float) -> tuple[Floats, Ints]:
    """A ring about the z axis; thickness: radius of its tube as a share of its outer radius."""
    tube, middle = thickness, 1.0 - thickness
    count, around = _ALONG, _AROUND
    a, b = 2 * np.pi * np.arange(around) / around, 2 * np.pi * np.arange(count) / count
    far = middle + tube * np.cos(b)
    points = np.stack(np.broadcast_arrays(
        far[None, :] * np.cos(a)[:, None], far[None, :] * np.sin(a)[:, None], tube * np.sin(b)[None, :]
    ), axis=2).reshape(-1, 3)  # fmt: skip
    rows = []
    for i, j in itertools.product(range(around), range(count)):
        i2, j2 = (i + 1) % around, (j + 1) % count
        p, q, r, s = i * count + j, i2 * count + j, i2 * count + j2, i * count + j2
        rows += [(p, q, r), (p, r, s)]
    return points.astype(np.float32), _faces(rows)


def drop(slender: float) -> tuple[Floats, Ints]:
    """A drop with its point away from where it faces: the teardrop curve x = -cos t, r = sin t sin^m(t / 2), turned about x."""
    t = np.linspace(0, np.pi, 11)
    power = 1.0 + 4.0 * slender
    radius = np.sin(t) * np.sin(t / 2) ** power
    radius[[0, -1]] = 0
    return revolved(np.stack([-np.cos(t), radius], axis=1), 16)


def gem(facets: int, height: float) -> tuple[Floats, Ints]:
    """A cut stone that faces along y: a table, a crown, a girdle and a pavilion that ends in a point."""
    turn = 2 * np.pi * np.arange(facets) / facets
    half = np.pi / facets

    def ring(radius: float, y: float, offset: float) -> Doubles:
        return np.stack([radius * np.cos(turn + offset), np.full(facets, y), radius * np.sin(turn + offset)], axis=1)

    points = np.concatenate(
        [ring(0.56, 0.42 * height, half), ring(1.0, 0.06 * height, 0), ring(1.0, -0.06 * height, 0), [[0, -height, 0]]]
    )
    rows: list[tuple[int, ...]] = [tuple(range(facets))[::-1]]
    for i in range(facets):
        j = (i + 1) % facets
        rows.append((i, j, facets + j))
        rows.append((i, facets + j, facets + i))
        rows.append((facets + i, facets + j, 2 * facets + j, 2 * facets + i))
        rows.append((2 * facets + i, 2 * facets + j, 3 * facets))
    return points.astype(np.float32), _faces(rows)


def card(width: float, height: float) -> tuple[Floats, Ints]:
    """A flat sheet with two sides."""
    w, h = width / 2, height / 2
    points = np.array([[-w, -h, 0], [w, -h, 0], [w, h, 0], [-w, h, 0]], np.float32)
    return points, _faces([(0, 1, 2, 3), (3, 2, 1, 0)])


@cached("models", "Built-in models", "the form and its measures", 0.1)
def solid(form: str, smooth_degrees: float, *measures: float) -> Mesh:
    """The mesh of a built-in form with its measures."""
    made: dict[str, Any] = {
        "box": box, "ball": lambda detail: ball(int(detail)), "capsule": capsule, "cone": cone, "torus": torus, "drop": drop,
        "gem": lambda facets, height: gem(int(facets), height), "card": card,
    }  # fmt: skip
    points, faces = made[form](*measures)
    return mesh_of(points, faces, smooth_degrees)


def mesh_of_solid(body: Solid) -> Mesh:
    """The mesh of a form."""

    def share(number: Number) -> float:
        return number.value / 100

    measures: dict[str, tuple[float, ...]] = {
        "box": (share(body.width), share(body.height), share(body.deep), share(body.bevel)),
        "ball": (float(body.detail),), "capsule": (share(body.length),), "cone": (share(body.length), share(body.top)),
        "torus": (share(body.thickness),), "drop": (share(body.slender),), "gem": (float(body.facets), share(body.height)),
        "card": (share(body.width), share(body.height)),
    }  # fmt: skip
    if body.form == "file" and body.media:
        return model_of(body.media, body.digest, body.smooth.value)
    # A box as long as no file is selected.
    form = "box" if body.form == "file" else body.form
    return solid(form, body.smooth.value, *measures[form])
