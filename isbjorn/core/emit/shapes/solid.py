"""Box and sphere."""

from __future__ import annotations

import itertools

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Ball, Box
from isbjorn.core.emit.shapes.base import (
    Lines,
    Scattered,
    ShapeEngine,
    ShapeSetting,
    by_volume,
    half_of,
    halved,
    kept_half,
    shell,
    unit,
    vectors,
)
from isbjorn.core.emit.shapes.flat import circle


def ball(shape: Ball, u: Doubles, setting: ShapeSetting) -> Scattered:
    """Even by volume, or by area on the surface (Archimedes: the height on a sphere is uniform)."""
    near, far = shell(shape, setting.read(shape.radius), setting)
    radius = np.cbrt(near**3 + u[2] * (far**3 - near**3))
    z, turn = 2 * u[1] - 1, 2 * np.pi * u[0]
    flat = np.sqrt(np.maximum(0, 1 - z * z))
    way = vectors(flat * np.cos(turn), flat * np.sin(turn), z)
    along = vectors(-np.sin(turn), np.cos(turn))
    return halved(Scattered(way * radius[:, None], way, along), shape.half)


def ball_outline(shape: Ball, setting: ShapeSetting) -> Lines:
    """Three great circles; of both surfaces of a shell."""
    near, far = shell(shape, setting.read(shape.radius), setting)
    radii = {float(far[0])} | ({float(near[0])} if near[0] > 0 else set())
    return kept_half([circle(r, axes) for r in sorted(radii) for axes in ((0, 1), (0, 2), (1, 2))], shape.half)


def _extents(shape: Box, setting: ShapeSetting) -> tuple[Doubles, Doubles]:
    """Half sizes (3, n) of the inner and of the outer box."""
    ends = [shell(shape, setting.read(n) / 2, setting) for n in (shape.width, shape.height, shape.deep)]
    return np.stack([e[0] for e in ends]), np.stack([e[1] for e in ends])


def box(shape: Box, u: Doubles, setting: ShapeSetting) -> Scattered:
    """Even by volume, or by area on the faces."""
    near, far = _extents(shape, setting)
    n = u.shape[1]
    if shape.fill == "inside":
        place = ((2 * u[:3] - 1) * far).T
        return halved(Scattered(place, unit(place), np.tile([1.0, 0.0, 0.0], (n, 1))), shape.half)
    # Three pairs of slabs that do not overlap: across y all of it, across x what is left of y, across z what is left of both.
    edge = shape.fill == "edge"
    spans = [far, np.stack([far[0], far[1] if edge else near[1], far[2]])]
    spans.append(far if edge else np.stack([near[0], near[1], far[2]]))
    axes = (1, 0, 2)
    weight = []
    for axis, span in zip(axes, spans, strict=True):
        thick = np.ones(n) if edge else far[axis] - near[axis]
        weight.append(np.prod([2 * span[a] for a in range(3) if a != axis], axis=0) * thick)
    ends = np.cumsum(weight, axis=0) / np.maximum(np.sum(weight, axis=0), 1e-12)
    pair = (u[0] >= ends[0]).astype(int) + (u[0] >= ends[1]).astype(int)
    low = np.where(pair == 0, 0.0, np.where(pair == 1, ends[0], ends[1]))
    width = np.choose(pair, [ends[0], ends[1] - ends[0], ends[2] - ends[1]])
    first = np.clip((u[0] - low) / np.maximum(width, 1e-12), 0, 1 - 1e-12)
    place, outward = np.zeros((3, n)), np.zeros((3, n))
    sign = np.where(first < 0.5, -1.0, 1.0)
    first = (first * 2) % 1.0
    for number, (axis, span) in enumerate(zip(axes, spans, strict=True)):
        here = pair == number
        others = [a for a in range(3) if a != axis]
        place[others[0]] = np.where(here, (2 * first - 1) * span[others[0]], place[others[0]])
        place[others[1]] = np.where(here, (2 * u[1] - 1) * span[others[1]], place[others[1]])
        deep = near[axis] + u[2] * (far[axis] - near[axis])
        place[axis] = np.where(here, sign * deep, place[axis])
        outward[axis] = np.where(here, sign, outward[axis])
    along = np.where((np.abs(outward[1]) > 0)[:, None], [1.0, 0.0, 0.0], [0.0, 1.0, 0.0])
    return halved(Scattered(place.T.copy(), outward.T.copy(), along), shape.half)


def box_outline(shape: Box, setting: ShapeSetting) -> Lines:
    """The twelve edges; of both boxes of a shell."""
    near, far = _extents(shape, setting)
    sizes = [far[:, 0]] + ([near[:, 0]] if shape.fill == "shell" and near[:, 0].min() > 0 else [])
    lines = []
    for size in sizes:
        for axis in range(3):
            others = [a for a in range(3) if a != axis]
            for signs in itertools.product((-1, 1), repeat=2):
                ends = np.zeros((2, 3))
                ends[:, axis] = (-size[axis], size[axis])
                ends[:, others[0]], ends[:, others[1]] = signs[0] * size[others[0]], signs[1] * size[others[1]]
                lines.append(ends)
    return kept_half(lines, shape.half)


def _ball_measure(shape: Ball, setting: ShapeSetting) -> tuple[float, int]:
    near, far = (float(r[0]) for r in shell(shape, setting.read(shape.radius), setting))
    if shape.fill == "edge":
        return 4 * np.pi * far**2 * half_of(shape.half), 2
    return 4 / 3 * np.pi * (far**3 - near**3) * half_of(shape.half), 3


def _box_measure(shape: Box, setting: ShapeSetting) -> tuple[float, int]:
    near, far = (e[:, 0] for e in _extents(shape, setting))
    if shape.fill == "edge":
        a, b, c = (float(v) for v in far)
        return 8 * (a * b + b * c + c * a) * half_of(shape.half), 2
    return 8 * float(far.prod() - (near.prod() if shape.fill == "shell" else 0.0)) * half_of(shape.half), 3


BOX = ShapeEngine(box, box_outline, by_volume, _box_measure)
BALL = ShapeEngine(ball, ball_outline, by_volume, _ball_measure)
