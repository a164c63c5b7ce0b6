"""Bézier paths."""

from __future__ import annotations

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import PathPoint, PathShape
from isbjorn.core.emit.shapes.base import Lines, Scattered, ShapeEngine, ShapeSetting, by_area, unit, vectors
from isbjorn.core.emit.shapes.regions import Drawing, in_shell, scatter_region, trapezoids, turning
from isbjorn.core.evaluate.bezier import at_length, flat
from isbjorn.core.runtime.memory import cached


@cached("outlines", "Closed paths", "the points", 0.2)
def _cut(points: tuple[PathPoint, ...]) -> Drawing:
    lines = [flat(points, True)]
    return Drawing(lines, trapezoids(lines))


def path(shape: PathShape, u: Doubles, setting: ShapeSetting) -> Scattered:
    """Even by length along it, even by area inside it."""
    line = flat(shape.points, shape.closed or shape.fill == "inside")
    if shape.fill == "inside":
        return scatter_region(_cut(shape.points), "inside", u, None, "")
    place, way = at_length(line, u[0])
    # Outward is to the right of a path that runs counter-clockwise, as the outside of a closed one.
    sign = -1.0 if shape.closed and turning(line) < 0 else 1.0
    outward = unit(vectors(way[:, 1] * sign, -way[:, 0] * sign))
    if shape.fill == "shell":
        low, high = {"inward": (-1.0, 0.0), "outward": (0.0, 1.0), "both": (-0.5, 0.5)}[shape.shell_side]
        xy, flat_way = in_shell([line], [shape.closed], sign, u, setting.read(shape.thickness), low, high)
        place, way = vectors(*xy.T), vectors(*flat_way.T)
        outward = unit(vectors(way[:, 1] * sign, -way[:, 0] * sign))
    return Scattered(place, outward, way)


def path_outline(shape: PathShape, setting: ShapeSetting) -> Lines:  # noqa: ARG001
    """The path itself."""
    return [np.array(flat(shape.points, shape.closed or shape.fill == "inside"))]


def _measure(shape: PathShape, setting: ShapeSetting) -> tuple[float, int]:
    if shape.fill == "inside":
        return _cut(shape.points).measure(shape, 1.0, setting)
    return Drawing([flat(shape.points, shape.closed)], _cut(shape.points).cut).measure(shape, 1.0, setting)


PATH = ShapeEngine(path, path_outline, by_area, _measure, flat=True)
