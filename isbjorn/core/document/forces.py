"""Forces of the world. The engine side of each is one file in `isbjorn.core.motion.forces`."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.base import Part, new_id
from isbjorn.core.document.emitter import Angle
from isbjorn.core.document.values import Number, Spec


class Gravity(Part):
    """A constant acceleration in one direction. Mass does not change it."""

    kind: Literal["gravity"] = "gravity"
    id: str = Field(default_factory=lambda: new_id("force"), min_length=1, max_length=60)
    name: str = Field(default="Gravity", min_length=1, max_length=80)
    on: bool = True
    strength: Annotated[
        Number,
        Spec(
            unit="m/s²",
            low=-1e4,
            high=1e4,
            step=0.1,
            help="9.81 is the Earth's, through the shot's px per metre.",
        ),
    ] = Number(value=9.81)
    direction: Annotated[Number, Angle] = Number(value=270)


class Drag(Part):
    """Resistance in proportion to speed: after 1/strength seconds a free particle keeps 37 % of its speed."""

    kind: Literal["drag"] = "drag"
    id: str = Field(default_factory=lambda: new_id("force"), min_length=1, max_length=60)
    name: str = Field(default="Drag", min_length=1, max_length=80)
    on: bool = True
    strength: Annotated[
        Number,
        Spec(unit="1/s", low=0, high=1e6, step=0.1, help="Rate at which speed is lost; any value is safe."),
    ] = Number(value=0.5)


Force = Annotated[Gravity | Drag, Field(discriminator="kind")]
