"""What bends the stream that is seen, once it has been simulated. The engine side of each kind is one entry in
`isbjorn.core.appearance.deform`."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.fields.base import LARGEST_SEED, Gripped, Part, ShownAs
from isbjorn.core.document.fields.kinds import DEFORMERS, shown
from isbjorn.core.document.fields.placed import FAR, PathPoint
from isbjorn.core.document.fields.values import Number, timed_spec


class OneDeformer(Part):
    """What every deformer has: the stretch along the stream that it works on, from its beginning in a direction."""

    on: Annotated[bool, ShownAs()] = True
    from_x: Annotated[
        Number, timed_spec("px", -FAR, FAR, "X position of the start of the section, in px.", title="Start X")
    ] = Number(value=0)
    from_y: Annotated[
        Number, timed_spec("px", -FAR, FAR, "Y position of the start of the section, in px.", title="Start Y")
    ] = Number(value=0)
    length: Annotated[Number, timed_spec("px", 1, FAR, "Length of the section, in px.", 5)] = Number(value=400)
    direction: Annotated[
        Number,
        timed_spec("°", -36_000, 36_000, "Direction of the section along the stream, in degrees; 90 is up."),
        Gripped(turns=True, with_length="length"),
    ] = Number(value=90)


def _way() -> tuple[PathPoint, ...]:
    return (
        PathPoint(x=0, y=0, leave=(0.0, 130.0)),
        PathPoint(x=150, y=230, arrive=(-20.0, -110.0), leave=(20.0, 110.0)),
        PathPoint(x=40, y=430, arrive=(110.0, -20.0)),
    )


class PathDeformer(OneDeformer):
    """What deformers with a path share: its points, and its place."""

    points: Annotated[tuple[PathPoint, ...], ShownAs("points")] = Field(
        default_factory=_way, min_length=2, max_length=128
    )
    across: Annotated[Number, timed_spec("px", -FAR, FAR, "X position of the path, in px.", title="Position X")] = (
        Number(value=0)
    )
    up: Annotated[Number, timed_spec("px", -FAR, FAR, "Y position of the path, in px.", title="Position Y")] = Number(
        value=0
    )
    turn: Annotated[Number, timed_spec("°", -36_000, 36_000, "Rotation of the path, in degrees.", title="Rotation")] = (
        Number(value=0)
    )
    scale: Annotated[Number, timed_spec("%", 1, 10_000, "Scale of the path, in per cent.", 5)] = Number(value=100)


@DEFORMERS.register("isbjorn.core.appearance.deform:bend")
class Bend(PathDeformer):
    """Lays the stream along a path: what is so far along the stretch comes so far along the path, as far beside it as it was."""

    model_config = shown("Bend along a path")
    kind: Literal["bend"] = "bend"
    fitted: bool = Field(
        default=False,
        title="Fit to the path",
        description="Stretches the section to the length of the path; otherwise it keeps its own length.",
    )


@DEFORMERS.register("isbjorn.core.appearance.deform:twist")
class Twist(OneDeformer):
    """Twists the stream about its axis, proportionally to the distance along it."""

    model_config = shown("Twist")
    kind: Literal["twist"] = "twist"
    turns: Annotated[
        Number,
        timed_spec("°", -36_000, 36_000, "Angle of the twist at the end of the section, in degrees.", 15, "Twist"),
    ] = Number(value=360)


@DEFORMERS.register("isbjorn.core.appearance.deform:taper")
class Taper(OneDeformer):
    """Makes the stream narrower or wider along its stretch."""

    model_config = shown("Taper")
    kind: Literal["taper"] = "taper"
    width: Annotated[
        Number, timed_spec("%", 0, 1000, "Width of the stream at the end of the section, in per cent.", 5)
    ] = Number(value=20)


@DEFORMERS.register("isbjorn.core.appearance.deform:displace")
class Displace(OneDeformer):
    """Shifts the stream by noise, after the deformers above it in the list; growing along its stretch, or everywhere alike."""

    model_config = shown("Displace by noise")
    kind: Literal["displace"] = "displace"
    amount: Annotated[Number, timed_spec("px", 0, FAR, "Typical distance that particles are displaced, in px.", 5)] = (
        Number(value=30)
    )
    size: Annotated[Number, timed_spec("px", 1, FAR, "Size of the largest waves, in px.", 5)] = Number(value=160)
    octaves: int = Field(default=2, ge=1, le=8)
    evolve: float = Field(
        default=0.3,
        ge=0,
        le=100,
        title="Evolve speed",
        description="How often the noise changes completely, per second.",
    )
    grows: bool = Field(
        default=True,
        title="Grows along it",
        description="Increases the effect from nothing at the start of the section to full at its end.",
    )
    flat: bool = Field(
        default=True,
        title="In the picture plane",
        description="Limits the effect to the picture plane; off also moves particles toward and away from the viewer.",
    )
    seed: int = Field(default=1, ge=0, le=LARGEST_SEED)
