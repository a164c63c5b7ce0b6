"""The rectangle of a picture, or of a part of the plate."""

from __future__ import annotations

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document.parts.shapes import PartOfPlate, PictureShape
from isbjorn.core.emit.shapes.base import Lines, Painted, Scattered, ShapeEngine, ShapeSetting, unit, vectors
from isbjorn.core.evaluate import lines

Pictured = PictureShape | PartOfPlate


def _scatter(shape: Pictured, u: Doubles, setting: ShapeSetting) -> Scattered:
    """Even by area."""
    place = vectors((u[0] - 0.5) * setting.read(shape.width), (u[1] - 0.5) * setting.read(shape.height))
    return Scattered(place, unit(place), np.tile([1.0, 0.0, 0.0], (len(place), 1)))


def _outline(shape: Pictured, setting: ShapeSetting) -> Lines:
    return [lines.rectangle(float(setting.read(shape.width)[0]) / 2, float(setting.read(shape.height)[0]) / 2)]


def _measure(shape: Pictured, setting: ShapeSetting) -> tuple[float, int]:
    return float(setting.read(shape.width)[0] * setting.read(shape.height)[0]), 2


def _picture(shape: PictureShape) -> Painted | None:
    return Painted(shape.media, None if shape.plays else shape.frame) if shape.media else None


PICTURE = ShapeEngine(_scatter, _outline, lambda _: 2, _measure, flat=True, painted=_picture)
PART_OF_PLATE = ShapeEngine(_scatter, _outline, lambda _: 2, _measure, flat=True, painted=lambda _: Painted("", None))
