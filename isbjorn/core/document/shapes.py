"""Where particles can be born. The engine side of each is in `isbjorn.core.birth.where`."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.base import Part
from isbjorn.core.document.values import Number, Spec

FAR = 1e5


def extent_spec(help: str) -> Spec:
    return Spec(unit="px", low=0, high=FAR, clock="none", spread=False, help=help)


def angle_spec(help: str) -> Spec:
    return Spec(unit="°", low=-36000, high=36000, clock="none", spread=False, help=help)


class Point(Part):
    """All from one place."""

    kind: Literal["point"] = "point"


class Line(Part):
    """Along a line, even by length."""

    kind: Literal["line"] = "line"
    length: Annotated[Number, extent_spec("From end to end.")] = Number(value=200)
    angle: Annotated[Number, angle_spec("0 lies flat, counter-clockwise.")] = Number(value=0)


class Disc(Part):
    """In a disc, even by area, or along its edge, even by length."""

    kind: Literal["disc"] = "disc"
    radius: Annotated[Number, extent_spec("From the centre to the edge.")] = Number(value=60)
    fill: Literal["inside", "edge"] = "inside"


class Rectangle(Part):
    """In a rectangle, even by area, or along its edge, even by length."""

    kind: Literal["rectangle"] = "rectangle"
    width: Annotated[Number, extent_spec("Side to side.")] = Number(value=200)
    height: Annotated[Number, extent_spec("Top to bottom.")] = Number(value=100)
    angle: Annotated[Number, angle_spec("Turned counter-clockwise.")] = Number(value=0)
    fill: Literal["inside", "edge"] = "inside"


Shape = Annotated[Point | Line | Disc | Rectangle, Field(discriminator="kind")]
