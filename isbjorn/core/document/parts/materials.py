"""Materials of models: how their surfaces answer to light. The engine side is `isbjorn.core.render.models`."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.fields.base import MediaName, Part, ShownAs, ShownIf
from isbjorn.core.document.fields.values import Number, Spec, timed_spec
from isbjorn.core.document.parts.effects import Hex

_LIT = ShownIf("material", "matte", "plastic", "metal", "glass", "rim")
GLOSSY = ShownIf("material", "plastic", "metal", "glass")


def roughness_spec(life: bool = False) -> Spec:
    """Roughness of a surface; life: of a particle, over whose life it may change."""
    return timed_spec("%", 0, 100, "How blurred reflections are, in per cent.", 5, life=life)


class Material(Part):
    """How a surface answers to light, and what surrounds it."""

    material: Literal["glowing", "matte", "plastic", "metal", "glass", "rim"] = Field(
        default="matte",
        description="How the surface answers to light. glowing: its own colour, without shading; rim: matte with a "
        "glowing edge; glass: bends the picture behind it.",
    )
    roughness: Annotated[Number, roughness_spec(), GLOSSY] = Number(value=25)
    index: Annotated[
        Number,
        timed_spec(
            "", 1, 3, "How strongly glass bends light: 1.33 is water, 1.5 is window glass.", 0.01, "Refractive index"
        ),
        ShownIf("material", "glass"),
    ] = Number(value=1.45)
    behind: Annotated[
        Number,
        timed_spec(
            "px",
            0,
            20_000,
            "Distance from the body to the picture that glass shows, in px.",
            10,
            "Backdrop depth",
        ),
        ShownIf("material", "glass"),
    ] = Number(value=200)
    rim_colour: Annotated[Hex, ShownIf("material", "rim")] = "#ffb347"
    rim: Annotated[
        Number,
        timed_spec("%", 0, 2000, "Brightness of the glowing edge, in per cent.", 5, "Rim brightness"),
        ShownIf("material", "rim"),
    ] = Number(value=150)
    rim_width: Annotated[
        Number,
        timed_spec("%", 1, 100, "How far the glow reaches from the edge to the middle, in per cent.", 5),
        ShownIf("material", "rim"),
    ] = Number(value=35)
    surroundings: Annotated[Literal["none", "studio", "day", "dusk", "night", "plate", "picture"], _LIT] = Field(
        default="studio",
        description="What lights the model from all sides and is reflected in it: a built-in sky, the plate, or an "
        "equirectangular picture of all directions.",
    )
    sky: Annotated[MediaName, ShownIf("surroundings", "picture"), ShownAs("picture")] = Field(
        default="", title="Picture of the surroundings", description="Equirectangular picture that surrounds the model."
    )
    ambient: Annotated[
        Number,
        timed_spec("%", 0, 1000, "Brightness of the surroundings, in per cent.", 5, "Ambient light"),
        _LIT,
    ] = Number(value=100)
