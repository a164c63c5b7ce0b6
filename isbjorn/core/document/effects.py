"""What is done to a drawn layer. The engine side of each kind is one entry in `isbjorn.core.render.effects`."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.base import LARGEST_SEED, Part
from isbjorn.core.document.curves import Curve
from isbjorn.core.document.kinds import STEPS, shown
from isbjorn.core.document.values import Number, timed_spec

Hex = Annotated[str, Field(pattern=r"^#[0-9a-fA-F]{6}$")]


Amount = timed_spec("%", 0, 1000, "How much of it.")


class OneStep(Part):
    """What every step has."""

    on: bool = True


@STEPS.register("isbjorn.core.render.effects:BLUR")
class Blur(OneStep):
    """A Gaussian blur."""

    model_config = shown("Blur")
    kind: Literal["blur"] = "blur"
    sigma: Annotated[
        Number, timed_spec("px", 0, 1000, "Standard deviation: half of the softness that is seen.", 0.5, "Blur")
    ] = Number(value=4)


@STEPS.register("isbjorn.core.render.effects:DIRECTIONAL")
class DirectionalBlur(OneStep):
    """A blur along one direction."""

    model_config = shown("Directional blur")
    kind: Literal["directional blur"] = "directional blur"
    length: Annotated[Number, timed_spec("px", 0, 4000, "From end to end.")] = Number(value=40)
    angle: Annotated[Number, timed_spec("°", -36_000, 36_000, "0 lies flat, counter-clockwise.")] = Number(value=0)


@STEPS.register("isbjorn.core.render.effects:GLOW")
class Glow(OneStep):
    """Light that spreads from what is bright."""

    model_config = shown("Glow")
    kind: Literal["glow"] = "glow"
    amount: Annotated[Number, Amount] = Number(value=60)
    radius: Annotated[Number, timed_spec("px", 0, 1000, "How far it reaches.")] = Number(value=24)
    above: Annotated[
        Number, timed_spec("%", 0, 1000, "Only what is brighter glows; 100: white.", title="Threshold")
    ] = Number(value=20)
    colour: Hex = "#ffffff"


@STEPS.register("isbjorn.core.render.effects:TINT")
class Tint(OneStep):
    """Shades of one colour."""

    model_config = shown("Tint")
    kind: Literal["tint"] = "tint"
    amount: Annotated[Number, timed_spec("%", 0, 100, "How much of its own colours is lost.")] = Number(value=100)
    dark: Hex = "#0b1a2a"
    light: Hex = "#d8f2ff"


@STEPS.register("isbjorn.core.render.effects:GRADE")
class Grade(OneStep):
    """Exposure, contrast, saturation, and a curve over the encoded values."""

    model_config = shown("Grade and curve")
    kind: Literal["grade"] = "grade"
    exposure: Annotated[Number, timed_spec("stops", -20, 20, "Doubles the light.", 0.1)] = Number(value=0)
    contrast: Annotated[Number, timed_spec("%", 0, 400, "About middle grey.")] = Number(value=100)
    saturation: Annotated[Number, timed_spec("%", 0, 400, "0: grey.")] = Number(value=100)
    opacity: Annotated[Number, timed_spec("%", 0, 400, "Of the whole layer.")] = Number(value=100)
    curve: Curve | None = Field(default=None, description="From encoded value to encoded value, 0 to 1.")


@STEPS.register("isbjorn.core.render.effects:SHARPEN")
class Sharpen(OneStep):
    """Edges lifted out: an unsharp mask."""

    model_config = shown("Sharpen")
    kind: Literal["sharpen"] = "sharpen"
    amount: Annotated[Number, Amount] = Number(value=60)
    radius: Annotated[Number, timed_spec("px", 0.1, 100, "Standard deviation of what is taken for soft.", 0.1)] = (
        Number(value=1.2)
    )


@STEPS.register("isbjorn.core.render.effects:GRAIN")
class Grain(OneStep):
    """Grain over the particles, as the plate has it."""

    model_config = shown("Grain")
    kind: Literal["grain"] = "grain"
    amount: Annotated[Number, timed_spec("%", 0, 100, "Standard deviation, of white as encoded.", 0.1)] = Number(
        value=2
    )
    size: Annotated[Number, timed_spec("px", 0.5, 20, "Of one grain.", 0.1)] = Number(value=1)
    coloured: Annotated[Number, timed_spec("%", 0, 100, "How far the channels differ.")] = Number(value=30)
    seed: int = Field(default=1, ge=0, le=LARGEST_SEED)
