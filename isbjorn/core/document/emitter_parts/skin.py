"""One skin over all particles of an emitter."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.fields.base import Part, ShownIf
from isbjorn.core.document.fields.values import Number, timed_spec
from isbjorn.core.document.parts.effects import Hex


class Skin(Part):
    """One smooth surface over all of them, in place of their bodies: drops that join to a liquid."""

    on: bool = True
    material: Literal["milk", "metal", "water", "glass"] = Field(
        default="milk",
        description="Material of the surface. Milk and metal are opaque; water and glass show and bend "
        "what lies below.",
    )
    girth: Annotated[
        Number,
        timed_spec(
            "%",
            5,
            1000,
            "Radius of the ball that each particle contributes, as a multiple of the particle's size.",
            5,
            "Radius factor",
        ),
    ] = Number(value=100)
    level: Annotated[
        Number,
        timed_spec(
            "%", 5, 95, "Density at which the surface lies; lower values join particles that are farther apart.", 1
        ),
    ] = Number(value=35)
    smoothing: Annotated[
        Number, timed_spec("px", 0, 400, "Distance over which the surface is smoothed, in px.", 0.5)
    ] = Number(value=3)
    detail: Annotated[
        Number,
        timed_spec(
            "%",
            10,
            100,
            "Resolution of the surface, in per cent of the picture's; lower values are faster and softer.",
            5,
            "Resolution",
        ),
    ] = Number(value=100)
    bulge: Annotated[Number, timed_spec("%", 0, 400, "How far the surface bulges toward the viewer.", 5)] = Number(
        value=100
    )
    depth: Annotated[
        Number,
        timed_spec(
            "%",
            0,
            400,
            "How much the depth of the particles shapes the surface, in addition to its thickness.",
            5,
            "Shaped by depth",
        ),
    ] = Number(value=0)
    light_from: Annotated[
        Number,
        timed_spec("°", -36_000, 36_000, "Direction that the light comes from, in degrees; 90 is from above.", 5),
    ] = Number(value=120)
    light_height: Annotated[
        Number,
        timed_spec("°", 0, 90, "Height of the light above the picture plane, in degrees; 90 is from the viewer.", 5),
    ] = Number(value=40)
    light_colour: Hex = "#ffffff"
    shade: Annotated[Number, timed_spec("%", 0, 100, "How dark the side away from the light is, in per cent.", 5)] = (
        Number(value=60)
    )
    shade_colour: Hex = "#26303c"
    highlight: Annotated[Number, timed_spec("%", 0, 1000, "Strength of the highlight, in per cent.", 5)] = Number(
        value=60
    )
    gloss: Annotated[
        Number, timed_spec("", 1, 400, "Sharpness of the highlight; higher values make it smaller.", 4)
    ] = Number(value=48)
    surroundings: Annotated[
        Number,
        timed_spec(
            "%",
            0,
            400,
            "How strongly sky and ground are reflected: all over for metal, at the rim for the other materials.",
            5,
        ),
    ] = Number(value=0)
    sky_colour: Hex = "#bcd3e6"
    ground_colour: Hex = "#2a2622"
    colours: Literal["of the particles", "by thickness"] = Field(
        default="of the particles",
        description="Colour of the surface. by thickness: from thin to thick, whatever colours the particles have.",
    )
    thin_colour: Annotated[Hex, ShownIf("colours", "by thickness")] = "#fff1d6"
    thick_colour: Annotated[Hex, ShownIf("colours", "by thickness")] = "#8a3c12"
    thick_at: Annotated[
        Number,
        timed_spec(
            "×", 0.4, 100, "Thickness, in multiples of one ball's middle, at which the second colour is reached.", 0.1
        ),
        ShownIf("colours", "by thickness"),
    ] = Number(value=2)
    clarity: Annotated[
        Number,
        timed_spec("%", 0, 100, "How much of what lies below shows through, in per cent.", 5),
        ShownIf("material", "water", "glass"),
    ] = Number(value=80)
    refraction: Annotated[
        Number,
        timed_spec("px", 0, 400, "How far the surface bends what lies below, in px.", 1),
        ShownIf("material", "water", "glass"),
    ] = Number(value=18)
