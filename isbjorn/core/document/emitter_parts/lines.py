"""What is drawn besides bodies: trails, repeats, and lines between neighbours."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.fields.base import Part
from isbjorn.core.document.fields.values import Number, setting_spec
from isbjorn.core.document.parts.bodies import Softness


class Trail(Part):
    """Each particle draws its path as a line behind it."""

    on: bool = True
    by: Literal["frames", "px"] = "frames"
    length: Annotated[Number, setting_spec("", 0.1, 10_000, "Length of the trail, in frames or px.")] = Number(value=12)
    width: Annotated[
        Number, setting_spec("%", 0, 1000, "Width of the trail at the particle, in per cent of the particle's size.")
    ] = Number(value=60)
    tail: Annotated[
        Number,
        setting_spec(
            "%", 0, 1000, "Width of the trail at its end, in per cent of its width at the particle.", title="Tail width"
        ),
    ] = Number(value=0)
    opacity: Annotated[
        Number,
        setting_spec("%", 0, 100, "Opacity of the trail at the particle, in per cent of the particle's opacity."),
    ] = Number(value=100)
    fade: Annotated[
        Number, setting_spec("%", 0, 100, "How much of its opacity the trail has lost at its end, in per cent.")
    ] = Number(value=100)
    glow: Annotated[
        Number, setting_spec("%", 0, 1000, "Strength of a wider, softer line around the trail, in per cent.")
    ] = Number(value=0)
    softness: Annotated[Number, Softness] = Number(value=60)
    colours: Literal["of its head", "of each age"] = Field(
        default="of its head",
        description="Colour of the trail. of each age: every point keeps the colour that the particle had there.",
    )
    after_death: Literal["ends with it", "is caught up"] = Field(
        default="is caught up",
        title="Trail after death",
        description="What happens to the trail when its particle dies. is caught up: it shortens toward "
        "the place of death.",
    )
    head_waits: bool = Field(
        default=False,
        title="Head waits for trail",
        description="Keeps the body in place after death until the trail has caught up.",
    )
    head_shown: bool = True


class Heads(Part):
    """More heads along the same way, offset in time."""

    on: bool = True
    count: int = Field(default=3, ge=1, le=24, title="Repeats")
    gap_s: float = Field(
        default=0.08, gt=0, le=60, title="Time offset", description="Time between one repeat and the next, in seconds."
    )
    size: Annotated[Number, setting_spec("%", 0, 200, "Size of each repeat, in per cent of the previous one.")] = (
        Number(value=85)
    )
    opacity: Annotated[
        Number, setting_spec("%", 0, 200, "Opacity of each repeat, in per cent of the previous one.")
    ] = Number(value=75)


class Lines(Part):
    """Lines between neighbours."""

    on: bool = True
    distance: Annotated[
        Number, setting_spec("px", 0, 10_000, "Maximum distance between two connected particles, in px.")
    ] = Number(value=90)
    most: int = Field(
        default=4, ge=1, le=32, title="Maximum lines", description="Maximum number of lines per particle."
    )
    width: Annotated[Number, setting_spec("px", 0, 200, "Width of the lines, in px.", 0.1)] = Number(value=1.2)
    opacity: Annotated[
        Number,
        setting_spec("%", 0, 100, "Opacity of lines between close neighbours, in per cent of the particles' opacity."),
    ] = Number(value=70)
    fade: Annotated[
        Number,
        setting_spec("%", 0, 100, "How much of its opacity a line has lost at the maximum distance, in per cent."),
    ] = Number(value=100)
    softness: Annotated[Number, Softness] = Number(value=50)
    bodies: bool = Field(default=True, title="Bodies shown", description="Draws the bodies as well as the lines.")
