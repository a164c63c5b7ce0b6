"""Curves and gradients as data. How they are read is in `isbjorn.core.evaluate`."""

from __future__ import annotations

import itertools
from typing import Annotated, Literal, Protocol, TypeVar

from pydantic import Field
from pydantic.functional_validators import AfterValidator
from pydantic_core import PydanticCustomError

from isbjorn.core.document.fields.base import Part

Joint = Literal["smooth", "straight", "hold"]
Unit01 = Annotated[float, Field(ge=0, le=1)]
Ease = tuple[Unit01, float, Unit01, float]


class _Placed(Protocol):
    @property
    def at(self) -> float: ...


Point = TypeVar("Point", bound=_Placed)


def in_order(points: tuple[Point, ...]) -> tuple[Point, ...]:
    """The points, or a PydanticCustomError if they are out of order."""
    if any(b.at < a.at for a, b in itertools.pairwise(points)):
        raise PydanticCustomError("points_out_of_order", "points must be in order along their axis")
    return points


class CurvePoint(Part):
    """A point of a curve: at an age in [0, 1], a value, and how the curve passes through it."""

    at: Unit01
    value: float = Field(ge=-1e6, le=1e6)
    joint: Joint = Field(
        default="smooth",
        description="Shape of the curve at the point. smooth: one tangent on both sides; straight: aims at "
        "the neighbouring points; hold: keeps its value up to the next point.",
    )
    ease: Ease | None = Field(
        default=None,
        description="Exact shape of the segment to the next point, as in CSS cubic-bezier.",
    )


class Curve(Part):
    """A value over age, from birth (0) to death (1); level before its first and after its last point."""

    points: Annotated[tuple[CurvePoint, ...], AfterValidator(in_order)] = Field(min_length=1, max_length=64)


class ColourStop(Part):
    """A colour of a gradient, encoded sRGB as `#rrggbb`."""

    at: Unit01
    colour: Annotated[str, Field(pattern=r"^#[0-9a-fA-F]{6}$")]
    weight: float = Field(
        default=1.0, ge=0, le=1000, description="Weight of the colour when colours are chosen at random."
    )


class OpacityStop(Part):
    """An opacity of a gradient in [0, 1], on a separate track from the colours."""

    at: Unit01
    opacity: Unit01


def _colours_sorted(stops: tuple[ColourStop, ...]) -> tuple[ColourStop, ...]:
    return tuple(sorted(stops, key=lambda stop: stop.at))


def _opacities_sorted(stops: tuple[OpacityStop, ...]) -> tuple[OpacityStop, ...]:
    return tuple(sorted(stops, key=lambda stop: stop.at))


class Gradient(Part):
    """Colour and opacity over life, as two separate tracks."""

    colours: Annotated[tuple[ColourStop, ...], AfterValidator(_colours_sorted)] = Field(min_length=1, max_length=32)
    opacities: Annotated[tuple[OpacityStop, ...], AfterValidator(_opacities_sorted)] = Field(default=(), max_length=32)
    mix: Literal["oklab", "linear", "stepped"] = Field(
        default="oklab",
        description="Colour space in which neighbouring colours are mixed. stepped: not mixed; each colour "
        "lasts to the next, and random colours are chosen by weight.",
    )
