"""What is done to a drawn layer. The engine side of each kind is one entry in `isbjorn.core.render.composite.effects`."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.fields.base import LARGEST_SEED, Part, ShownAs
from isbjorn.core.document.fields.curves import Curve
from isbjorn.core.document.fields.kinds import STEPS, shown
from isbjorn.core.document.fields.values import Number, timed_spec

Hex = Annotated[str, Field(pattern=r"^#[0-9a-fA-F]{6}$")]


Amount = timed_spec("%", 0, 1000, "Strength of the effect, in per cent.")


class OneStep(Part):
    """What every step has."""

    on: Annotated[bool, ShownAs()] = True


@STEPS.register("isbjorn.core.render.composite.effects:BLUR")
class Blur(OneStep):
    """A Gaussian blur."""

    model_config = shown("Blur")
    kind: Literal["blur"] = "blur"
    sigma: Annotated[
        Number,
        timed_spec(
            "px", 0, 1000, "Standard deviation of the blur, in px; about half of the visible softness.", 0.5, "Blur"
        ),
    ] = Number(value=4)


@STEPS.register("isbjorn.core.render.composite.effects:DIRECTIONAL")
class DirectionalBlur(OneStep):
    """A blur along one direction."""

    model_config = shown("Directional blur")
    kind: Literal["directional blur"] = "directional blur"
    length: Annotated[Number, timed_spec("px", 0, 4000, "Length of the blur from end to end, in px.")] = Number(
        value=40
    )
    angle: Annotated[
        Number, timed_spec("°", -36_000, 36_000, "Direction of the blur, counter-clockwise; 0 is horizontal.")
    ] = Number(value=0)


@STEPS.register("isbjorn.core.render.composite.effects:GLOW")
class Glow(OneStep):
    """Light that spreads from what is bright."""

    model_config = shown("Glow")
    kind: Literal["glow"] = "glow"
    amount: Annotated[Number, Amount] = Number(value=60)
    radius: Annotated[Number, timed_spec("px", 0, 1000, "Distance that the glow reaches, in px.")] = Number(value=24)
    above: Annotated[
        Number,
        timed_spec(
            "%", 0, 1000, "Brightness above which the picture glows, in per cent; 100 is white.", title="Threshold"
        ),
    ] = Number(value=20)
    colour: Hex = "#ffffff"


@STEPS.register("isbjorn.core.render.composite.effects:TINT")
class Tint(OneStep):
    """Shades of one colour."""

    model_config = shown("Tint")
    kind: Literal["tint"] = "tint"
    amount: Annotated[Number, timed_spec("%", 0, 100, "How much of the original colours is replaced, in per cent.")] = (
        Number(value=100)
    )
    dark: Hex = "#0b1a2a"
    light: Hex = "#d8f2ff"


@STEPS.register("isbjorn.core.render.composite.effects:GRADE")
class Grade(OneStep):
    """Exposure, contrast, saturation, and a curve over the encoded values."""

    model_config = shown("Grade and curve")
    kind: Literal["grade"] = "grade"
    exposure: Annotated[
        Number, timed_spec("stops", -20, 20, "Exposure in stops; each stop doubles the light.", 0.1)
    ] = Number(value=0)
    contrast: Annotated[Number, timed_spec("%", 0, 400, "Contrast around middle grey, in per cent.")] = Number(
        value=100
    )
    saturation: Annotated[Number, timed_spec("%", 0, 400, "Saturation in per cent; 0 is grey.")] = Number(value=100)
    opacity: Annotated[Number, timed_spec("%", 0, 400, "Opacity of the whole layer, in per cent.")] = Number(value=100)
    curve: Annotated[Curve | None, ShownAs("tone curve")] = Field(
        default=None, description="Tone curve from encoded input to encoded output, both from 0 to 1."
    )


@STEPS.register("isbjorn.core.render.composite.effects:SHARPEN")
class Sharpen(OneStep):
    """Edges lifted out: an unsharp mask."""

    model_config = shown("Sharpen")
    kind: Literal["sharpen"] = "sharpen"
    amount: Annotated[Number, Amount] = Number(value=60)
    radius: Annotated[
        Number, timed_spec("px", 0.1, 100, "Standard deviation of the detail that is sharpened, in px.", 0.1)
    ] = Number(value=1.2)


@STEPS.register("isbjorn.core.render.composite.effects:GRAIN")
class Grain(OneStep):
    """Grain over the particles, as the plate has it."""

    model_config = shown("Grain", tool="grain of the plate")
    kind: Literal["grain"] = "grain"
    amount: Annotated[
        Number, timed_spec("%", 0, 100, "Standard deviation of the grain, in per cent of encoded white.", 0.1)
    ] = Number(value=2)
    size: Annotated[Number, timed_spec("px", 0.5, 20, "Size of one grain, in px.", 0.1)] = Number(value=1)
    coloured: Annotated[
        Number, timed_spec("%", 0, 100, "How much the grain differs between red, green and blue, in per cent.")
    ] = Number(value=30)
    seed: int = Field(default=1, ge=0, le=LARGEST_SEED)
