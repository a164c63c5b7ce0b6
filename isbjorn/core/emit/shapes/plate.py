"""From the plate: where it is bright, has edges, or moves."""

from __future__ import annotations

import numpy as np

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document import FromPlate
from isbjorn.core.emit.shapes.base import Light, Lines, Scattered, ShapeEngine, ShapeSetting, unit, vectors

_NOWHERE_PX = 1e7


def _slope(sheet: Floats) -> Floats:
    y, x = np.gradient(sheet)
    found = np.hypot(x, y)
    return np.asarray(found / max(float(found.max()), 1e-6), np.float32)


def strength(shape: FromPlate, light: Light, number: int, sheet: Floats) -> Floats:
    """How strongly each cell of the plate answers to the shape, float32 in [0, 1]."""
    match shape.by:
        case "bright":
            return sheet
        case "dark":
            return np.asarray(1 - sheet, np.float32)
        case "edges":
            return _slope(sheet)
        case _:
            moved = np.abs(sheet - light.sheet(max(0, number - 1)))
            return np.asarray(np.minimum(1, moved * 4), np.float32)


def plate(shape: FromPlate, u: Doubles, setting: ShapeSetting) -> Scattered:
    """Cells drawn in proportion to how far they are above the threshold. Births that find none are put out of sight."""
    n, light = u.shape[1], setting.light
    x, y = np.full(n, _NOWHERE_PX), np.full(n, _NOWHERE_PX)
    if light is not None:
        above = setting.read(shape.above) / 100
        numbers = light.numbers(setting.t)
        for number in np.unique(numbers):
            here = np.flatnonzero(numbers == number)
            sheet = light.sheet(int(number))
            weight = strength(shape, light, int(number), sheet).astype(np.float64) - above[here[0]]
            run = np.cumsum(np.maximum(0, weight))
            if run[-1] <= 0:
                continue
            cell = np.minimum(np.searchsorted(run, u[0][here] * run[-1], side="right"), run.size - 1)
            row, column = np.divmod(cell, sheet.shape[1])
            x[here] = ((column + u[1][here]) / sheet.shape[1] - 0.5) * light.width
            y[here] = (0.5 - (row + u[2][here]) / sheet.shape[0]) * light.height
    place = vectors(x, y)
    return Scattered(place, unit(place), np.tile([1.0, 0.0, 0.0], (n, 1)))


def plate_outline(shape: FromPlate, setting: ShapeSetting) -> Lines:  # noqa: ARG001
    """The whole plate."""
    light = setting.light
    if light is None:
        return []
    x, y = light.width / 2, light.height / 2
    return [np.array([[-x, y, 0], [x, y, 0], [x, -y, 0], [-x, -y, 0], [-x, y, 0]], np.float64)]


PLATE = ShapeEngine(plate, plate_outline, lambda _: 3)
