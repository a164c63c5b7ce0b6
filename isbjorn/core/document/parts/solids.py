"""Forms in depth: what a body, a source or a matte is shaped like. The engine side is `isbjorn.core.evaluate.geometry.solids`."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.fields.base import MediaName, Part, ShownAs, ShownIf
from isbjorn.core.document.fields.placed import FAR
from isbjorn.core.document.fields.values import Number, Spec, setting_spec, timed_spec

Form = Literal["box", "ball", "capsule", "cone", "torus", "drop", "gem", "card", "file"]


# Numbers of a thing in the shot that has the form of a model.
ModelSize = Annotated[Number, timed_spec("px", 0, FAR, "Largest measure of the model, in px.")]
TurnX = Annotated[
    Number, timed_spec("°", -36_000, 36_000, "Rotation about the horizontal axis, in degrees.", 5, "Rotation X")
]
TurnY = Annotated[
    Number, timed_spec("°", -36_000, 36_000, "Rotation about the vertical axis, in degrees.", 5, "Rotation Y")
]


def measure_spec(unit: str, low: float, high: float, help: str, title: str = "", step: float = 1.0) -> Spec:
    """A setting of a form."""
    return setting_spec(unit, low, high, help, step, title)


class Solid(Part):
    """A form in depth with its measures. Its largest measure is the size of what uses it."""

    form: Form = Field(default="box", description="The form of the model.")
    width: Annotated[
        Number, measure_spec("%", 1, 100, "Width compared with the largest side."), ShownIf("form", "box", "card")
    ] = Number(value=100)
    height: Annotated[
        Number,
        measure_spec("%", 1, 100, "Height compared with the largest side."),
        ShownIf("form", "box", "card", "gem"),
    ] = Number(value=100)
    deep: Annotated[
        Number, measure_spec("%", 1, 100, "Depth compared with the largest side.", "Depth"), ShownIf("form", "box")
    ] = Number(value=100)
    bevel: Annotated[
        Number,
        measure_spec("%", 0, 90, "How far the edges are cut, in per cent of half the shortest side."),
        ShownIf("form", "box"),
    ] = Number(value=0)
    length: Annotated[
        Number,
        measure_spec("%", 0, 1000, "Length of the straight part, in per cent of the diameter."),
        ShownIf("form", "capsule", "cone"),
    ] = Number(value=100)
    top: Annotated[
        Number,
        measure_spec("%", 0, 100, "Radius of the tip in per cent of the base: 0 is a cone, 100 a cylinder.", "Tip"),
        ShownIf("form", "cone"),
    ] = Number(value=0)
    thickness: Annotated[
        Number,
        measure_spec("%", 2, 49, "Radius of the tube in per cent of the outer radius."),
        ShownIf("form", "torus"),
    ] = Number(value=28)
    slender: Annotated[
        Number,
        measure_spec("%", 0, 100, "How narrow the drop is; higher values make it narrower."),
        ShownIf("form", "drop"),
    ] = Number(value=30)
    facets: Annotated[int, ShownIf("form", "gem")] = Field(
        default=8, ge=4, le=32, description="Number of facets around the stone."
    )
    detail: Annotated[int, ShownIf("form", "ball")] = Field(
        default=3, ge=0, le=5, description="Fineness of the ball: each step has four times as many faces."
    )
    media: Annotated[MediaName, ShownIf("form", "file"), ShownAs("model")] = Field(
        default="", description="Model that was read from a file; used when the form is `file`."
    )
    digest: Annotated[str, ShownAs()] = Field(default="", max_length=64, description="SHA-256 of the model.")
    name: Annotated[str, ShownAs()] = Field(
        default="", max_length=200, description="Name of the file that the model came from."
    )
    smooth: Annotated[
        Number,
        measure_spec(
            "°", 0, 180, "Edges between faces that turn by less than this angle look rounded.", "Smooth below"
        ),
    ] = Number(value=40)
