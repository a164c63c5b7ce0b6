"""A package from elsewhere that brings a force, a body and a step of the finish: what an extension of Isbjorn looks like.

It is named in `ISBJORN_EXTENSIONS`; nothing else is changed for it.
"""

from __future__ import annotations

from typing import Annotated, Literal

from isbjorn.core.document.base import Gripped, ShownIf
from isbjorn.core.document.bodies import OneBody
from isbjorn.core.document.effects import OneStep
from isbjorn.core.document.forces import Acting, strength_spec
from isbjorn.core.document.kinds import BODIES, FORCES, STEPS, shown
from isbjorn.core.document.values import Number, Spec, timed_spec


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
