"""The world: forces, deformers, surfaces and what takes particles away. The engine side of each kind is one file in
`isbjorn.core.motion.forces`."""

from __future__ import annotations

import zlib
from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.base import LARGEST_SEED, new_id
from isbjorn.core.document.placed import FAR, PathPoint, Placed
from isbjorn.core.document.values import Number, Spec


def timed_spec(unit: str, low: float, high: float, help: str, step: float = 1.0, spread: bool = False) -> Spec:
    """A number of the world, read by shot time."""
    return Spec(unit=unit, low=low, high=high, clock="shot", step=step, spread=spread, help=help)


def strength_spec(unit: str, low: float, high: float, help: str, step: float = 1.0) -> Spec:
    """A strength: read by shot time, each particle with its own spread, and over its life."""
    measures = ("speed", "distance", "number")
    return Spec(unit=unit, low=low, high=high, clock="shot", step=step, life=True, help=help, sources=measures)  # type: ignore[arg-type]


Way = Spec(unit="°", low=-36000, high=36000, clock="shot", help="Counter-clockwise; 0 is right, 90 is up.")
Tilt = timed_spec("°", -180, 180, "Out of the picture, toward the viewer.")
Length = timed_spec("px", 0, FAR, "")


class Acting(Placed):
    """What every thing of the world has: a name, a switch, a place, and the zone in which alone it acts."""

    id: str = Field(default_factory=lambda: new_id("force"), min_length=1, max_length=60)
    name: str = Field(default="Force", min_length=1, max_length=80)
    on: bool = True
    zone: str | None = Field(default=None, max_length=60, description="The id of the zone in which it acts.")
    draws: int | None = Field(
        default=None, ge=0, le=2**32 - 1,
        description="What its particles draw of its spreads; empty: by its id. A copy keeps it, so that it acts alike.",
    )  # fmt: skip
    frame: Literal["shot", "emitter"] = Field(
        default="shot", description="emitter: its place and turn are meant from the emitter, which it follows."
    )

    @property
    def own_draws(self) -> int:
        """The number of its draws."""
        return zlib.crc32(self.id.encode()) if self.draws is None else self.draws


class Gravity(Acting):
    """A constant acceleration in one direction. Mass does not change it."""

    kind: Literal["gravity"] = "gravity"
    name: str = Field(default="Gravity", min_length=1, max_length=80)
    strength: Annotated[
        Number, strength_spec("m/s²", -1e4, 1e4, "9.81 is the Earth's, through the shot's px per metre.", 0.1)
    ] = Number(value=9.81)
    direction: Annotated[Number, Way] = Number(value=270)
    tilt: Annotated[Number, Tilt] = Number(value=0)


class Drag(Acting):
    """Resistance of the air: after 1/strength seconds a free particle keeps 37 % of its speed."""

    kind: Literal["drag"] = "drag"
    name: str = Field(default="Drag", min_length=1, max_length=80)
    strength: Annotated[
        Number, strength_spec("1/s", 0, 1e6, "Rate at which speed is lost; any value is safe.", 0.1)
    ] = Number(value=0.5)
    law: Literal["linear", "quadratic"] = Field(
        default="linear", description="quadratic: the rate grows with speed, and is as given at 100 px/s."
    )


class Wind(Acting):
    """Air that moves: it draws particles to its own velocity."""

    kind: Literal["wind"] = "wind"
    name: str = Field(default="Wind", min_length=1, max_length=80)
    strength: Annotated[Number, strength_spec("px/s", -1e5, 1e5, "Speed of the air.", 5)] = Number(value=120)
    direction: Annotated[Number, Way] = Number(value=0)
    tilt: Annotated[Number, Tilt] = Number(value=0)
    grip: Annotated[Number, timed_spec("1/s", 0, 1e6, "How fast particles take its speed.", 0.1)] = Number(value=1)


class Noise(Acting):
    """What turbulence and displacement share: noise of several octaves."""

    noise: Literal["gradient", "cellular"] = "gradient"
    size: Annotated[Number, timed_spec("px", 1, FAR, "Of the largest eddies.", 5)] = Number(value=220)
    octaves: int = Field(default=1, ge=1, le=8)
    lacunarity: Annotated[Number, timed_spec("×", 1, 8, "How much finer each octave is than the one before.", 0.1)] = (
        Number(value=2)
    )
    gain: Annotated[Number, timed_spec("×", 0, 2, "How much weaker each octave is.", 0.05)] = Number(value=0.5)
    evolve: Annotated[Number, timed_spec("/s", 0, 100, "How often in a second it becomes another.", 0.05)] = Number(
        value=0.3
    )
    along_x: Annotated[Number, timed_spec("%", 0, 1000, "Stretched along x; 0 switches the axis off.", 5)] = Number(
        value=100
    )
    along_y: Annotated[Number, timed_spec("%", 0, 1000, "Stretched along y; 0 switches the axis off.", 5)] = Number(
        value=100
    )
    along_z: Annotated[Number, timed_spec("%", 0, 1000, "Stretched along z; 0 switches the axis off.", 5)] = Number(
        value=0
    )
    apart: Annotated[Number, timed_spec("px", 0, FAR, "Between what one emitter and the next feel of it.", 10)] = (
        Number(value=0)
    )
    seed: int = Field(default=1, ge=0, le=LARGEST_SEED)


class Turbulence(Noise):
    """Eddies of moving air without sources or sinks: curl of noise (Bridson, Hourihan, Nordenstam 2007)."""

    kind: Literal["turbulence"] = "turbulence"
    name: str = Field(default="Turbulence", min_length=1, max_length=80)
    strength: Annotated[Number, strength_spec("px/s", 0, 1e5, "Usual speed of the air in its eddies.", 5)] = Number(
        value=80
    )
    grip: Annotated[Number, timed_spec("1/s", 0, 1e6, "How fast particles take its speed.", 0.1)] = Number(value=2)


class Displacement(Noise):
    """Shifts what is seen of place and size by noise, and does not add up: taken away, all is as it was."""

    kind: Literal["displacement"] = "displacement"
    name: str = Field(default="Displacement", min_length=1, max_length=80)
    strength: Annotated[Number, strength_spec("px", 0, FAR, "How far, as a rule.", 5)] = Number(value=40)
    swell: Annotated[Number, timed_spec("%", 0, 1000, "How much it changes size.", 5)] = Number(value=0)


class Vortex(Acting):
    """Turns places about an axis: as a solid within its radius, ever slower outside it (Rankine's vortex)."""

    kind: Literal["vortex"] = "vortex"
    name: str = Field(default="Vortex", min_length=1, max_length=80)
    strength: Annotated[Number, strength_spec("px/s", -1e5, 1e5, "Speed round the axis at its radius.", 5)] = Number(
        value=150
    )
    radius: Annotated[Number, timed_spec("px", 1, FAR, "Where it turns fastest.", 5)] = Number(value=120)
    pull: Annotated[Number, timed_spec("1/s", -100, 100, "Rate at which the distance from its axis shrinks.", 0.05)] = (
        Number(value=0)
    )
    lift: Annotated[Number, timed_spec("px/s", -1e5, 1e5, "Along its axis.", 5)] = Number(value=0)
    direction: Annotated[Number, Way] = Number(value=90)
    tilt: Annotated[
        Number, Spec(unit="°", low=-180, high=180, clock="shot", help="Of the axis; 90 is to the viewer.")
    ] = Number(value=90)


class Attractor(Acting):
    """Pulls to a place; a strength below zero pushes away."""

    kind: Literal["attractor"] = "attractor"
    name: str = Field(default="Attractor", min_length=1, max_length=80)
    strength: Annotated[Number, strength_spec("px/s²", -1e7, 1e7, "Acceleration at its radius.", 10)] = Number(
        value=200
    )
    radius: Annotated[Number, timed_spec("px", 1, FAR, "The distance at which it is as strong as given.", 5)] = Number(
        value=100
    )
    power: Annotated[
        Number, timed_spec("", -2, 4, "Of distance by which it weakens: 2 as gravity does, 0 nowhere.", 0.1)
    ] = Number(value=1)
    softness: Annotated[Number, timed_spec("px", 0.1, FAR, "Blunts it near the centre.", 1)] = Number(value=20)
    speed_limit: Annotated[Number, timed_spec("px/s", 0, 1e6, "It speeds nobody up beyond this; 0: none.", 10)] = (
        Number(value=0)
    )


def _way() -> tuple[PathPoint, ...]:
    return (
        PathPoint(x=-220, y=-40, leave=(110.0, 120.0)),
        PathPoint(x=220, y=40, arrive=(-110.0, -120.0)),
    )


class Follow(Acting):
    """Leads along a path: with its direction, and toward it."""

    kind: Literal["follow"] = "follow"
    name: str = Field(default="Path to follow", min_length=1, max_length=80)
    points: tuple[PathPoint, ...] = Field(default_factory=_way, min_length=2, max_length=512)
    closed: bool = False
    strength: Annotated[Number, strength_spec("px/s", -1e5, 1e5, "Speed along the path.", 5)] = Number(value=150)
    pull: Annotated[Number, timed_spec("1/s", 0, 1000, "Rate at which the distance to the path shrinks.", 0.1)] = (
        Number(value=1)
    )
    grip: Annotated[Number, timed_spec("1/s", 0, 1e6, "How fast particles take its speed.", 0.1)] = Number(value=3)


class Remove(Acting):
    """Takes particles away inside a zone, or outside it."""

    kind: Literal["remove"] = "remove"
    name: str = Field(default="Kill zone", min_length=1, max_length=80)
    side: Literal["inside", "outside"] = "inside"


class Surface(Acting):
    """Something to touch, swept against each particle's radius so that nothing gets through."""

    kind: Literal["surface"] = "surface"
    name: str = Field(default="Surface", min_length=1, max_length=80)
    shape: Literal["plane", "rectangle", "box", "sphere", "path", "matte"] = Field(
        default="plane", description="plane: lies across the picture, its upper side is free; matte: of the plate."
    )
    side: Literal["outside", "inside"] = Field(
        default="outside", description="Where particles are free; box and sphere."
    )
    width: Annotated[Number, Length] = Number(value=400)
    height: Annotated[Number, Length] = Number(value=200)
    deep: Annotated[Number, Length] = Number(value=400)
    radius: Annotated[Number, Length] = Number(value=120)
    points: tuple[PathPoint, ...] = Field(default_factory=_way, min_length=2, max_length=512)
    closed: bool = False
    above: Annotated[Number, timed_spec("%", 0, 100, "Of brightness, from which the plate is solid.")] = Number(
        value=50
    )
    outcome: Literal["bounce", "stick", "slide", "die", "mark"] = Field(
        default="bounce", description="mark: goes on as it was, and the touch is remembered."
    )
    restitution: Annotated[
        Number, Spec(unit="%", low=0, high=100, clock="shot", help="Of the speed that a bounce keeps.")
    ] = Number(value=60)
    friction: Annotated[
        Number, timed_spec("×", 0, 100, "Of the speed along it that a touch takes, by the blow.", 0.05)
    ] = Number(value=0.1)


Force = Annotated[
    Gravity | Wind | Drag | Turbulence | Displacement | Vortex | Attractor | Follow | Surface | Remove,
    Field(discriminator="kind"),
]


class Zone(Placed):
    """A region with a soft edge, in which forces act."""

    id: str = Field(default_factory=lambda: new_id("zone"), min_length=1, max_length=60)
    name: str = Field(default="Zone", min_length=1, max_length=80)
    shape: Literal["sphere", "box", "half"] = Field(
        default="sphere", description="half: all below its place, as turned."
    )
    radius: Annotated[Number, timed_spec("px", 0, FAR, "Of a sphere.", 5)] = Number(value=150)
    width: Annotated[Number, timed_spec("px", 0, FAR, "Of a box.", 5)] = Number(value=300)
    height: Annotated[Number, timed_spec("px", 0, FAR, "Of a box.", 5)] = Number(value=200)
    deep: Annotated[Number, timed_spec("px", 0, FAR, "Of a box.", 5)] = Number(value=2000)
    falloff: Annotated[
        Number,
        timed_spec("px", 0, FAR, "Over which it falls from full at this depth inside to nothing at its edge.", 5),
    ] = Number(value=60)
    inverted: bool = Field(default=False, description="Outside instead of inside.")
