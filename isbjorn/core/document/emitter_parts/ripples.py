"""Ripples: waves on a face of water, set off by births. The engine sides are `isbjorn.core.simulate.waves` and
`isbjorn.core.render.draw.ripples`."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.fields.base import Gripped, Part, RefTo
from isbjorn.core.document.fields.placed import FAR
from isbjorn.core.document.fields.values import Number, timed_spec
from isbjorn.core.document.parts.effects import Hex


class Ripples(Part):
    """Each birth is a stone that falls into water: rings spread from it over a surface, refract the layers below, and catch light.

    Any births will do: drops that touch a surface, births along the path of something that moves, or a burst.
    """

    on: bool = True
    also: Annotated[tuple[str, ...], RefTo(("emitters",), none="No others")] = Field(
        default=(), max_length=16, title="Also births of",
        description="Other emitters whose births fall into the same water.",
    )  # fmt: skip
    across: Annotated[
        Number, timed_spec("px", -FAR, FAR, "X position of the middle of the water surface, in px.", title="Face X")
    ] = Number(value=0)
    up: Annotated[
        Number, timed_spec("px", -FAR, FAR, "Y position of the middle of the water surface, in px.", title="Face Y")
    ] = Number(value=0)
    depth: Annotated[
        Number, timed_spec("px", -FAR, FAR, "Depth of the middle of the water surface, in px.", title="Face Z")
    ] = Number(value=0)
    shape: Literal["rectangle", "ellipse"] = "rectangle"
    width: Annotated[
        Number, timed_spec("px", 8, 20_000, "Width of the water surface, in px.", 10), Gripped(factor=2.0)
    ] = Number(value=800)
    length: Annotated[
        Number, timed_spec("px", 8, 20_000, "Length of the water surface from its near to its far edge, in px.", 10)
    ] = Number(value=500)
    tilt: Annotated[
        Number,
        timed_spec(
            "°",
            0,
            90,
            "Tilt away from the viewer, in degrees; 0 is seen from above, 90 is level and needs a camera in depth.",
            1,
        ),
    ] = Number(value=70)
    edge: Annotated[
        Number, timed_spec("px", 0, FAR, "Distance over which the water fades in at its edges, in px.", 2, "Soft edge")
    ] = Number(value=24)
    walls: bool = Field(
        default=True, title="Walls", description="Reflects waves at the edges of the surface; off: they run out."
    )
    speed: float = Field(default=120, ge=1, le=5000, title="Wave speed", description="Speed of the waves, in px/s.")
    damping: float = Field(
        default=1.2, ge=0.05, le=100, title="Damping", description="How quickly all waves die away, per second."
    )
    smooth: float = Field(
        default=30, ge=0, le=10_000, title="Smoothing", description="How much faster small waves die away, in px²/s."
    )
    drop: float = Field(
        default=9, ge=1, le=1000, title="Drop size", description="Width of the drop that falls in, in px."
    )
    height: Annotated[
        Number,
        timed_spec("px", 0, 1000, "How deeply a birth pushes the water, for a particle of the emitter's size.", 0.5),
    ] = Number(value=5)
    refraction: Annotated[Number, timed_spec("px", 0, 400, "How far a slope of 1 bends what lies below, in px.", 2)] = (
        Number(value=30)
    )
    shade: Annotated[
        Number, timed_spec("%", 0, 400, "How much darker the slopes away from the light are, in per cent.", 5)
    ] = Number(value=60)
    highlight: Annotated[Number, timed_spec("%", 0, 1000, "Strength of the highlight, in per cent.", 5)] = Number(
        value=80
    )
    gloss: Annotated[
        Number, timed_spec("", 1, 400, "Sharpness of the highlight; higher values make it smaller.", 4)
    ] = Number(value=40)
    light_from: Annotated[
        Number,
        timed_spec("°", -36_000, 36_000, "Direction that the light comes from, in degrees; 90 is from behind.", 5),
    ] = Number(value=80)
    light_height: Annotated[Number, timed_spec("°", 0, 90, "Height of the light above the water, in degrees.", 5)] = (
        Number(value=35)
    )
    light_colour: Hex = "#ffffff"
    bodies: bool = Field(default=False, title="Bodies shown", description="Draws the bodies as well as the water.")
