"""Things with a place: moved by keys, along a path, or carried by another thing."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

from pydantic import Field

from isbjorn.core.document.fields.base import Part, RefTo, new_id
from isbjorn.core.document.fields.values import Clock, Number, Spec

if TYPE_CHECKING:
    from isbjorn.core.document.parts.solids import Solid

FAR = 1e5
Coordinate = Annotated[float, Field(ge=-FAR, le=FAR)]


def place_spec(title: str, help: str, spread: bool = False) -> Spec:
    """A coordinate in px; only a source's births have a spread of it."""
    clock: Clock = "birth" if spread else "shot"
    return Spec(
        unit="px", low=-FAR, high=FAR, clock=clock, spread=spread, help=help, sources=("number", "sound"), title=title
    )


def turn_spec(help: str) -> Spec:
    """An angle in degrees, read by shot time."""
    return Spec(unit="°", low=-36_000, high=36_000, clock="shot", spread=False, help=help, title="Rotation")


class PathPoint(Part):
    """A point of a Bézier path in px, with its handles relative to it; handles of no length make a corner."""

    x: Coordinate
    y: Coordinate
    z: Coordinate = 0.0
    arrive: tuple[Coordinate, Coordinate] = (0.0, 0.0)
    leave: tuple[Coordinate, Coordinate] = (0.0, 0.0)


def curved_way() -> tuple[PathPoint, ...]:
    """A path of two points, in a gentle curve."""
    return (
        PathPoint(x=-220, y=-40, leave=(110.0, 120.0)),
        PathPoint(x=220, y=40, arrive=(-110.0, -120.0)),
    )


class MotionPath(Part):
    """A Bézier path in px from the thing's place, and how far along it the thing is: its keys are its speed."""

    points: tuple[PathPoint, ...] = Field(min_length=2, max_length=512)
    closed: bool = False
    along: Annotated[
        Number,
        Spec(
            unit="%",
            low=-10_000,
            high=10_000,
            clock="shot",
            spread=False,
            help="Position along the path, in per cent of its length from the start.",
            title="Along the path",
        ),
    ] = Number(value=0)
    turns: bool = Field(
        default=False, title="Turns along the path", description="Turns the thing with the direction of the path."
    )


class Placed(Part):
    """A thing with a place, a turn and a size, which may ride on a path or on another thing."""

    across: Annotated[Number, place_spec("Position X", "From the picture's centre, to the right.")] = Number(value=0)
    up: Annotated[Number, place_spec("Position Y", "From the picture's centre, upward.")] = Number(value=0)
    depth: Annotated[Number, place_spec("Position Z", "Toward the viewer.")] = Number(value=0)
    turn: Annotated[Number, turn_spec("Rotation in degrees, counter-clockwise.")] = Number(value=0)
    scale: Annotated[
        Number,
        Spec(
            unit="%",
            low=0,
            high=10_000,
            clock="shot",
            spread=False,
            help="Scale, in per cent of the thing's own size.",
            title="Scale",
        ),
    ] = Number(value=100)
    path: MotionPath | None = Field(default=None, description="Motion path, added to the position.")
    carried_by: Annotated[str | None, RefTo(("placed",))] = Field(
        default=None, max_length=60, title="Attached to", description="Id of the thing that carries this one."
    )
    carry_place: bool = Field(default=True, title="Follow position", description="Follows the position of the carrier.")
    carry_turn: bool = Field(
        default=True, title="Follow rotation", description="Follows the rotation of the carrier, and swings around it."
    )
    carry_size: bool = Field(
        default=False,
        title="Follow scale",
        description="Follows the scale of the carrier, which also scales the distance to it.",
    )

    @property
    def modelled(self) -> tuple[Solid, Number] | None:
        """The model that gives the thing its form, and its size in px, if there is one."""
        return None


class Marker(Placed):
    """A place with a name: to carry things, to measure distance to, to be followed."""

    id: str = Field(default_factory=lambda: new_id("marker"), min_length=1, max_length=60)
    name: str = Field(default="Marker", min_length=1, max_length=80)
