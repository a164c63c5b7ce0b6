"""What particles touch, what takes them away, and where forces act."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal, Self

from pydantic import Field

from isbjorn.core.document.fields.base import Gripped, Part, ShownAs, ShownIf, new_id
from isbjorn.core.document.fields.kinds import FORCES, shown
from isbjorn.core.document.fields.placed import FAR, PathPoint, Placed, curved_way
from isbjorn.core.document.fields.values import Number, Spec, timed_spec
from isbjorn.core.document.parts.forces import Acting
from isbjorn.core.document.parts.solids import ModelSize, Solid, TurnX, TurnY

Length = timed_spec("px", 0, FAR, "Size of the surface, in px.")


@FORCES.register("isbjorn.core.simulate.forces.remove")
class Remove(Acting):
    """Takes particles away inside a zone, or outside it."""

    model_config = shown(
        "Kill zone", "M5 5h14v14H5zM9 9l6 6M15 9l-6 6",
        "Removes particles inside its zone, or outside it.",
        "Surfaces",
        located=False,
        framed=False,
    )  # fmt: skip
    has_field: ClassVar[bool] = False
    kind: Literal["remove"] = "remove"
    name: str = Field(default="Kill zone", min_length=1, max_length=80)
    side: Literal["inside", "outside"] = "inside"

    @property
    def takes_away(self) -> bool:
        return True

    def placed_new(self, height: int) -> tuple[Self, tuple[Part, ...]]:  # noqa: ARG002
        """With the zone that it empties."""
        zone = Zone(name="Emptied region")
        return self.model_copy(update={"zone": zone.id}), (zone,)


@FORCES.register("isbjorn.core.simulate.forces.surface")
class Surface(Acting):
    """Something to touch, swept against each particle's radius so that nothing gets through."""

    model_config = shown(
        "Surface", "M3 16h18M6 16l-2 4M11 16l-2 4M16 16l-2 4M21 16l-2 4M7 5l5 7 5-7",
        "A surface to collide with. Nothing passes through it, however fast and small.",
        "Surfaces",
    )  # fmt: skip
    solid: ClassVar[bool] = True
    has_field: ClassVar[bool] = False
    kind: Literal["surface"] = "surface"
    name: str = Field(default="Surface", min_length=1, max_length=80)
    shape: Literal["plane", "rectangle", "box", "sphere", "path", "matte", "model"] = Field(
        default="plane",
        description="Shape of the surface. plane: lies across the picture, free above; matte: taken from the plate; "
        "model: a model in depth.",
    )
    side: Annotated[Literal["outside", "inside"], ShownIf("shape", "box", "sphere", "model")] = Field(
        default="outside",
        description="On which side of a box, sphere or closed model particles can move. An open model stops them on "
        "both sides.",
    )
    model: Annotated[Solid, ShownIf("shape", "model"), ShownAs("part")] = Field(
        default=Solid(), description="Form of the surface."
    )
    size: Annotated[ModelSize, ShownIf("shape", "model"), Gripped(factor=2.0)] = Number(value=300)
    turn_x: Annotated[TurnX, ShownIf("shape", "model")] = Number(value=0)
    turn_y: Annotated[TurnY, ShownIf("shape", "model")] = Number(value=0)
    width: Annotated[Number, Length, ShownIf("shape", "rectangle", "box"), Gripped(factor=2.0)] = Number(value=400)
    height: Annotated[Number, Length, ShownIf("shape", "box"), Gripped((0.0, 1.0), 2.0)] = Number(value=200)
    deep: Annotated[
        Number,
        timed_spec("px", 0, FAR, "Depth of the surface, in px.", title="Depth extent"),
        ShownIf("shape", "rectangle", "box"),
    ] = Number(value=400)
    radius: Annotated[Number, Length, ShownIf("shape", "sphere"), Gripped()] = Number(value=120)
    points: Annotated[tuple[PathPoint, ...], ShownIf("shape", "path"), ShownAs("points")] = Field(
        default_factory=curved_way, min_length=2, max_length=512
    )
    closed: Annotated[bool, ShownIf("shape", "path")] = False
    above: Annotated[
        Number,
        timed_spec("%", 0, 100, "Brightness above which the plate is solid, in per cent.", title="Threshold"),
        ShownIf("shape", "matte"),
    ] = Number(value=50)
    outcome: Literal["bounce", "stick", "slide", "die", "mark"] = Field(
        default="bounce",
        description=(
            "What happens when a particle touches the surface. mark: it moves on unchanged, and the contact is "
            "recorded."
        ),
    )
    restitution: Annotated[
        Number,
        Spec(
            unit="%",
            low=0,
            high=100,
            clock="shot",
            help="Share of its speed that a particle keeps when it bounces, in per cent.",
            title="Bounce",
        ),
        ShownIf("outcome", "bounce"),
    ] = Number(value=60)
    friction: Annotated[
        Number,
        timed_spec(
            "×",
            0,
            100,
            "Friction: the share of the speed along the surface that a touch takes away, by how "
            "hard the particle hits.",
            0.05,
        ),
        ShownIf("outcome", "bounce", "slide"),
    ] = Number(value=0.1)

    @property
    def weight(self) -> float:
        return {"model": 4.0, "path": 0.5 * len(self.points)}.get(self.shape, 1.0)

    @property
    def modelled(self) -> tuple[Solid, Number] | None:
        return (self.model, self.size) if self.shape == "model" else None

    @property
    def takes_away(self) -> bool:
        return self.outcome == "die"

    @property
    def reads_plate(self) -> bool:
        return self.shape == "matte"

    def placed_new(self, height: int) -> tuple[Self, tuple[Part, ...]]:
        """Under everything, where it does no harm yet."""
        return self.model_copy(update={"up": self.up.model_copy(update={"value": -0.4 * height})}), ()


class Zone(Placed):
    """A region with a soft edge, in which forces act."""

    id: str = Field(default_factory=lambda: new_id("zone"), min_length=1, max_length=60)
    name: str = Field(default="Zone", min_length=1, max_length=80)
    shape: Literal["sphere", "box", "half", "model"] = Field(
        default="sphere",
        description="Shape of the zone. half: everything below its position, turned by its rotation; model: the inside "
        "of a closed model.",
    )
    model: Annotated[Solid, ShownIf("shape", "model"), ShownAs("part")] = Field(
        default=Solid(), description="Form of the zone."
    )
    size: Annotated[ModelSize, ShownIf("shape", "model"), Gripped(factor=2.0)] = Number(value=300)
    turn_x: Annotated[TurnX, ShownIf("shape", "model")] = Number(value=0)
    turn_y: Annotated[TurnY, ShownIf("shape", "model")] = Number(value=0)
    radius: Annotated[
        Number, timed_spec("px", 0, FAR, "Radius of a sphere, in px.", 5), ShownIf("shape", "sphere"), Gripped()
    ] = Number(value=150)
    width: Annotated[
        Number, timed_spec("px", 0, FAR, "Width of a box, in px.", 5), ShownIf("shape", "box"), Gripped(factor=2.0)
    ] = Number(value=300)
    height: Annotated[
        Number,
        timed_spec("px", 0, FAR, "Height of a box, in px.", 5),
        ShownIf("shape", "box"),
        Gripped((0.0, 1.0), 2.0),
    ] = Number(value=200)
    deep: Annotated[
        Number, timed_spec("px", 0, FAR, "Depth of a box, in px.", 5, title="Depth extent"), ShownIf("shape", "box")
    ] = Number(value=2000)
    falloff: Annotated[
        Number,
        timed_spec(
            "px", 0, FAR, "Depth below the zone's edge over which the effect fades in from nothing to full, in px.", 5
        ),
    ] = Number(value=60)
    inverted: bool = Field(default=False, description="Inverts the zone: outside instead of inside.")

    @property
    def modelled(self) -> tuple[Solid, Number] | None:
        return (self.model, self.size) if self.shape == "model" else None
