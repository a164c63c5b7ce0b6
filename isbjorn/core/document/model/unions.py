"""The fields that hold one of the registered kinds. Whatever registers one has done so before this is read."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

from pydantic import BeforeValidator, Field

from isbjorn.core.document.fields.kinds import BODIES, DEFORMERS, FORCES, SHAPES, STEPS, load_extensions

# isort: off
from isbjorn.core.document.parts import air, attraction, surfaces, interactions
from isbjorn.core.document.parts import bodies, deformers, effects, forces, models, shapes
# isort: on

# All of them, whether they are named below or not: they register their kinds, in the order in which menus show them.
PARTS = (air, attraction, surfaces, interactions, shapes, bodies, models, effects, deformers)


def _kind_known(given: Any) -> Any:
    return {"kind": "soft disc", **given} if isinstance(given, dict) else given


if TYPE_CHECKING:
    Force = forces.Acting
    Shape = shapes.OneShape
    Body = bodies.OneBody
    Step = effects.OneStep
    Deformer = deformers.OneDeformer
else:
    load_extensions()
    Force, Shape, Step = FORCES.union(), SHAPES.union(), STEPS.union()
    Deformer = DEFORMERS.union()
    Body = Annotated[BODIES.union(), BeforeValidator(_kind_known)]
Finish = Annotated[tuple[Step, ...], Field(max_length=16)]
Deformers = Annotated[tuple[Deformer, ...], Field(max_length=8)]
