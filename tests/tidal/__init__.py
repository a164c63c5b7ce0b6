"""A package from elsewhere that brings one of each sort of thing: what an extension of Isbjorn looks like.

It is named in `ISBJORN_EXTENSIONS`; nothing else is changed for it.
"""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from isbjorn.core.document.fields.base import Gripped, ShownIf
from isbjorn.core.document.fields.kinds import BODIES, CHECKS, DEFORMERS, FORCES, SHAPES, STEPS, shown
from isbjorn.core.document.fields.values import Number, Spec, timed_spec
from isbjorn.core.document.parts.bodies import OneBody
from isbjorn.core.document.parts.deformers import OneDeformer
from isbjorn.core.document.parts.effects import OneStep
from isbjorn.core.document.parts.forces import Acting, strength_spec
from isbjorn.core.document.parts.interactions import Interaction
from isbjorn.core.document.parts.shapes import OneShape, extent_spec
from isbjorn.core.media.write.formats import FORMATS, Format


@FORCES.register("tests.tidal.tide")
class Tide(Acting):
    """An acceleration along x that grows with the distance above its place."""

    model_config = shown("Tide", "M3 8c6-5 12 5 18 0", "Draws sideways, the more the higher.", "Of the sea")
    calm = True
    kind: Literal["tide"] = "tide"
    name: str = "Tide"
    strength: Annotated[Number, strength_spec("px/s²", -1e5, 1e5, "At its height.")] = Number(value=100)
    reach: Annotated[Number, timed_spec("px", 1, 1e4, "Where it is as strong as given.", title="Height of it")] = (
        Number(value=50)
    )
    ring: Annotated[Number, timed_spec("px", 1, 1e4, "Only drawn."), Gripped()] = Number(value=70)
    turned: bool = False

    @property
    def weight(self) -> float:
        return 7.5


@FORCES.register("tests.tidal.shoal")
class Shoal(Interaction):
    """All come to the middle of all."""

    model_config = shown("Shoal", "M3 12h18", "Gathers particles at their common centre.", "Of the sea", located=False)
    kind: Literal["shoal"] = "shoal"
    name: str = "Shoal"
    strength: Annotated[Number, strength_spec("1/s", 0, 100, "Rate at which they gather, per second.")] = Number(
        value=1
    )


@SHAPES.register("tests.tidal.glitter:GLITTER")
class Glitter(OneShape):
    """On a line at the height of the plate's brightness."""

    model_config = shown("Glitter")
    reads_plate: ClassVar[bool] = True
    kind: Literal["glitter"] = "glitter"
    width: Annotated[Number, extent_spec("From side to side.", title="Breadth of it"), Gripped(factor=2.0)] = Number(
        value=100
    )


@DEFORMERS.register("tests.tidal.heel:heel")
class Heel(OneDeformer):
    """Leans over, the more the farther along."""

    model_config = shown("Heel over")
    kind: Literal["heel"] = "heel"
    by: Annotated[Number, timed_spec("%", -1000, 1000, "Sideways per px along, in per cent.", title="Lean by")] = (
        Number(value=50)
    )


@BODIES.register("tests.tidal.lozenge:lozenge")
class Lozenge(OneBody):
    """A square on its corner."""

    model_config = shown("Lozenge")
    kind: Literal["lozenge"] = "lozenge"
    lean: Annotated[Number, Spec(unit="%", low=0, high=100, clock="none", spread=False, title="Leaning")] = Number(
        value=0
    )


@STEPS.register("tests.tidal.dim:DIM")
class Dim(OneStep):
    """Less light."""

    model_config = shown("Dimmer")
    kind: Literal["dim"] = "dim"
    share: Annotated[Number, timed_spec("%", 0, 100, "What is left.", title="Left over")] = Number(value=25)
    soft: bool = False
    slope: Annotated[int, ShownIf("soft", True)] = 3


FORMATS.register(Format("tides", "Heights as text", ".txt", writer="tests.tidal.heights:write_heights"))
CHECKS.append("tests.tidal.heights:ebbing")
