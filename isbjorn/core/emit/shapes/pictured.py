"""The rectangle of a picture, or of a part of the plate."""

from __future__ import annotations

from isbjorn.core.arrays import Doubles
from isbjorn.core.document.parts.shapes import PartOfPlate, PictureShape, Rectangle
from isbjorn.core.emit.shapes.base import Lines, Painted, Scattered, ShapeEngine, ShapeSetting
from isbjorn.core.emit.shapes.flat import rectangle, rectangle_measure, rectangle_outline


def _rectangle(shape: PictureShape | PartOfPlate) -> Rectangle:
    return Rectangle(width=shape.width, height=shape.height)


def _scatter(shape: PictureShape | PartOfPlate, u: Doubles, setting: ShapeSetting) -> Scattered:
    return rectangle(_rectangle(shape), u, setting)


def _outline(shape: PictureShape | PartOfPlate, setting: ShapeSetting) -> Lines:
    return rectangle_outline(_rectangle(shape), setting)


def _measure(shape: PictureShape | PartOfPlate, setting: ShapeSetting) -> tuple[float, int]:
    return rectangle_measure(_rectangle(shape), setting)


def _picture(shape: PictureShape) -> Painted | None:
    return Painted(shape.media, None if shape.plays else shape.frame) if shape.media else None


PICTURE = ShapeEngine(_scatter, _outline, lambda _: 2, _measure, flat=True, painted=_picture)
PART_OF_PLATE = ShapeEngine(_scatter, _outline, lambda _: 2, _measure, flat=True, painted=lambda _: Painted("", None))
