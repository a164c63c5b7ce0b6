"""Ripples: waves on a face of water, set off by births. The engine sides are `isbjorn.core.simulate.waves` and
`isbjorn.core.render.ripples`."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.base import Gripped, Part, RefTo
from isbjorn.core.document.effects import Hex
from isbjorn.core.document.placed import FAR
from isbjorn.core.document.values import Number, timed_spec


class Ripples(Part):
    """Each birth is a stone that falls into water: rings run out of it over a face, bend what lies below, and catch light.

    Any births will do: those where drops touch a surface, those along the way of something that moves, or a burst.
    """

    on: bool = True
    also: Annotated[tuple[str, ...], RefTo(("emitters",), none="No others")] = Field(
        default=(), max_length=16, title="With births of",
        description="Other emitters whose births fall into the same water.",
    )  # fmt: skip
    across: Annotated[Number, timed_spec("px", -FAR, FAR, "Of the face's middle.", title="Face X")] = Number(value=0)
    up: Annotated[Number, timed_spec("px", -FAR, FAR, "Of the face's middle.", title="Face Y")] = Number(value=0)
    depth: Annotated[Number, timed_spec("px", -FAR, FAR, "Of the face's middle.", title="Face Z")] = Number(value=0)
    shape: Literal["rectangle", "ellipse"] = "rectangle"
    width: Annotated[Number, timed_spec("px", 8, 20_000, "Of the face.", 10), Gripped(factor=2.0)] = Number(value=800)
    length: Annotated[
        Number, timed_spec("px", 8, 20_000, "From its near edge to its far one, as it would be seen from above.", 10)
    ] = Number(value=500)
    tilt: Annotated[
        Number,
        timed_spec("°", 0, 90, "Away from the viewer; 0: seen from above; 90: level, seen by a camera in depth.", 1),
    ] = Number(value=70)
    edge: Annotated[Number, timed_spec("px", 0, FAR, "Over which the face begins.", 2, "Soft edge")] = Number(value=24)
    walls: bool = Field(
        default=True, title="Walls", description="Waves come back from its edges; off: they run out over them."
    )
    speed: float = Field(default=120, ge=1, le=5000, title="Wave speed", description="px/s.")
    damping: float = Field(
        default=1.2, ge=0.05, le=100, title="Damping", description="1/s: how fast all waves die away."
    )
    smooth: float = Field(
        default=30, ge=0, le=10_000, title="Smoothing", description="px²/s: how much faster the small ones do."
    )
    drop: float = Field(default=9, ge=1, le=1000, title="Drop size", description="px: how wide what falls in is.")
    height: Annotated[
        Number,
        timed_spec("px", 0, 1000, "How deep a birth of the emitter's size pushes the water, as it is then.", 0.5),
    ] = Number(value=5)
    refraction: Annotated[Number, timed_spec("px", 0, 400, "How far a slope of 1 bends what lies below.", 2)] = Number(
        value=30
    )
    shade: Annotated[Number, timed_spec("%", 0, 400, "How much darker what faces away from the light is.", 5)] = Number(
        value=60
    )
    highlight: Annotated[Number, timed_spec("%", 0, 1000, "Of the light that it mirrors.", 5)] = Number(value=80)
    gloss: Annotated[Number, timed_spec("", 1, 400, "The higher, the smaller the highlight.", 4)] = Number(value=40)
    light_from: Annotated[
        Number, timed_spec("°", -36_000, 36_000, "Where the light comes from; 90 is from behind.", 5)
    ] = Number(value=80)
    light_height: Annotated[Number, timed_spec("°", 0, 90, "Over the water.", 5)] = Number(value=35)
    light_colour: Hex = "#ffffff"
    bodies: bool = Field(default=False, title="Bodies shown", description="Show the bodies too.")
