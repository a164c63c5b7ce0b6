"""Models: bodies in depth, with a form, a material and surroundings. The engine side is `isbjorn.core.render.models`."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.fields.base import Gripped, ShownIf
from isbjorn.core.document.fields.kinds import BODIES, SHAPES, shown
from isbjorn.core.document.fields.values import Number
from isbjorn.core.document.parts.bodies import OneBody
from isbjorn.core.document.parts.materials import GLOSSY, Material, roughness_spec
from isbjorn.core.document.parts.shapes import OneShape, angle_spec, extent_spec
from isbjorn.core.document.parts.solids import Solid, measure_spec


@SHAPES.register("isbjorn.core.emit.shapes.model:MODEL")
class ModelShape(OneShape, Solid):
    """On a model: from its faces, even by area, its edges, even by length, its corners, or inside it, even by volume."""

    model_config = shown("Model")
    kind: Literal["model"] = "model"
    births: Literal["faces", "edges", "corners", "inside"] = Field(
        default="faces",
        title="Births from",
        description="Where particles are born on the model. edges: along the edges that are sharper than an angle.",
    )
    sharp: Annotated[
        Number,
        measure_spec("°", 0, 180, "Smallest angle between two faces at whose edge particles are born.", "Sharper than"),
        ShownIf("births", "edges"),
    ] = Number(value=20)
    size: Annotated[Number, extent_spec("Largest measure of the model, in px."), Gripped(factor=2.0)] = Number(
        value=200
    )
    angle: Annotated[Number, angle_spec("Rotation in the picture plane, in degrees, counter-clockwise.")] = Number(
        value=0
    )
    turn_x: Annotated[Number, angle_spec("Rotation about the horizontal axis, in degrees.", "Angle X")] = Number(
        value=0
    )
    turn_y: Annotated[Number, angle_spec("Rotation about the vertical axis, in degrees.", "Angle Y")] = Number(value=0)


@BODIES.register("isbjorn.core.render.models.bodies:ModelPages")
class ModelBody(OneBody, Material, Solid):
    """A body in depth, which turns about three axes and hides what is behind it."""

    model_config = shown("Model")
    kind: Literal["model"] = "model"
    roughness: Annotated[Number, roughness_spec(life=True), GLOSSY] = Number(value=25)

    @property
    def pictures(self) -> tuple[str, ...]:
        return (self.sky,) if self.sky else ()
