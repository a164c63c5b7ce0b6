"""Forces about a place or along a path."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from isbjorn.core.document.fields.base import Gripped, ShownAs
from isbjorn.core.document.fields.kinds import FORCES, shown
from isbjorn.core.document.fields.placed import FAR, PathPoint, curved_way
from isbjorn.core.document.fields.values import Number, Spec, timed_spec
from isbjorn.core.document.parts.forces import Acting, Way, strength_spec


@FORCES.register("isbjorn.core.simulate.forces.vortex")
class Vortex(Acting):
    """Turns places about an axis: as a solid within its radius, ever slower outside it (Rankine's vortex)."""

    model_config = shown(
        "Vortex", "M12 12a2 2 0 1 1 2 2 5 5 0 1 1 2-8M12 12a9 9 0 0 0 8 7M8 14a5 5 0 0 1-3-8",
        "Turns places about its axis; without pull every distance stays as it is.",
        "Forces",
    )  # fmt: skip
    carries: ClassVar[bool] = True
    mirrored: ClassVar[tuple[str, ...]] = ("strength",)
    kind: Literal["vortex"] = "vortex"
    name: str = Field(default="Vortex", min_length=1, max_length=80)
    strength: Annotated[
        Number, strength_spec("px/s", -1e5, 1e5, "Speed around the axis at the radius, in px/s.", 5)
    ] = Number(value=150)
    radius: Annotated[
        Number,
        timed_spec("px", 1, FAR, "Distance from the axis at which the vortex turns fastest, in px.", 5),
        Gripped(),
    ] = Number(value=120)
    pull: Annotated[
        Number, timed_spec("1/s", -100, 100, "Rate at which particles approach the axis, per second.", 0.05)
    ] = Number(value=0)
    lift: Annotated[Number, timed_spec("px/s", -1e5, 1e5, "Speed along the axis, in px/s.", 5)] = Number(value=0)
    direction: Annotated[Number, Way] = Number(value=90)
    tilt: Annotated[
        Number,
        Spec(unit="°", low=-180, high=180, clock="shot", help="Tilt of the axis, in degrees; 90 points to the viewer."),
    ] = Number(value=90)


@FORCES.register("isbjorn.core.simulate.forces.attractor")
class Attractor(Acting):
    """Pulls to a place; a strength below zero pushes away."""

    model_config = shown(
        "Attractor", "M12 10a2 2 0 1 0 0 4 2 2 0 0 0 0-4M4 4l4 4M20 4l-4 4M4 20l4-4M20 20l-4-4",
        "Draws to its place, or pushes away with a strength below 0.",
        "Forces",
    )  # fmt: skip
    goes_abreast: ClassVar[bool] = True
    kind: Literal["attractor"] = "attractor"
    name: str = Field(default="Attractor", min_length=1, max_length=80)
    strength: Annotated[Number, strength_spec("px/s²", -1e7, 1e7, "Acceleration at the radius, in px/s².", 10)] = (
        Number(value=200)
    )
    radius: Annotated[
        Number,
        timed_spec("px", 1, FAR, "Distance at which the attraction has the given strength, in px.", 5),
        Gripped(),
    ] = Number(value=100)
    power: Annotated[
        Number,
        timed_spec(
            "",
            -2,
            4,
            "How quickly the attraction weakens with distance: 2 as gravity does, 0 not at all.",
            0.1,
            title="Falloff exponent",
        ),
    ] = Number(value=1)
    softness: Annotated[
        Number, timed_spec("px", 0.1, FAR, "Radius within which the attraction is softened, in px.", 1)
    ] = Number(value=20)
    speed_limit: Annotated[
        Number,
        timed_spec(
            "px/s", 0, 1e6, "Speed above which the attraction accelerates no further, in px/s; 0 means no limit.", 10
        ),
    ] = Number(value=0)


@FORCES.register("isbjorn.core.simulate.forces.follow")
class Follow(Acting):
    """Leads along a path: with its direction, and toward it."""

    model_config = shown(
        "Path to follow", "M4 19C4 9 12 15 13 9s4-5 7-4m0 0-3-2m3 2-2 3",
        "Leads along its path, and toward it. Drag its points on the picture.",
        "Forces",
    )  # fmt: skip
    calm: ClassVar[bool] = True
    kind: Literal["follow"] = "follow"
    name: str = Field(default="Path to follow", min_length=1, max_length=80)
    points: Annotated[tuple[PathPoint, ...], ShownAs("points")] = Field(
        default_factory=curved_way, min_length=2, max_length=512
    )
    closed: bool = False
    strength: Annotated[Number, strength_spec("px/s", -1e5, 1e5, "Speed along the path, in px/s.", 5)] = Number(
        value=150
    )
    pull: Annotated[
        Number, timed_spec("1/s", 0, 1000, "Rate at which particles approach the path, per second.", 0.1)
    ] = Number(value=1)
    grip: Annotated[
        Number,
        timed_spec(
            "1/s", 0, 1e6, "How quickly particles take on the speed along the path, per second.", 0.1, title="Response"
        ),
    ] = Number(value=3)

    @property
    def weight(self) -> float:
        return 0.5 * len(self.points)
