"""The world: forces, deformers, surfaces and what takes particles away. The engine side of each kind is one file in
`isbjorn.core.simulate.forces`."""

from __future__ import annotations

import zlib
from typing import TYPE_CHECKING, Annotated, ClassVar, Literal, Self

from pydantic import Field

from isbjorn.core.document.fields.base import LARGEST_SEED, Gripped, Part, RefTo, ShownAs, ShownIf, new_id
from isbjorn.core.document.fields.kinds import FORCES, shown
from isbjorn.core.document.fields.placed import FAR, PathPoint, Placed
from isbjorn.core.document.fields.values import Number, Spec, timed_spec
from isbjorn.core.document.parts.solids import ModelSize, Solid, TurnX, TurnY


def strength_spec(unit: str, low: float, high: float, help: str, step: float = 1.0) -> Spec:
    """A strength: keyed in shot time, varied per particle by its spread, and scaled over life."""
    measures = ("speed", "distance", "number", "since touch", "since caught")
    return Spec(unit=unit, low=low, high=high, clock="shot", step=step, life=True, help=help, sources=measures)  # type: ignore[arg-type]


Way = Spec(
    unit="°", low=-36000, high=36000, clock="shot", help="Angle in degrees, counter-clockwise; 0 is right, 90 is up."
)
Tilt = timed_spec("°", -180, 180, "Tilt out of the picture toward the viewer, in degrees.")
Length = timed_spec("px", 0, FAR, "Size of the surface, in px.")


class Acting(Placed):
    """What all things of the world have: a name, a switch, a place, and an optional zone that limits them.

    Class attributes describe a kind to the engine: `stage` (look: it shifts only what is drawn; interaction: it acts between
    particles), `calm` (motion under it is smooth between two steps), `goes_abreast` (the batched integrator supports it), `carries`
    (it moves places directly), `solid` (particles touch it), `pushes` (bodies collide by their sizes), `catching` (particles catch
    a state), `has_field` (its effect can be drawn as arrows), `mirrored` (numbers that change sign in a mirror), `starts` (it can
    move a particle that is at rest).
    """

    stage: ClassVar[Literal["motion", "look", "interaction"]] = "motion"
    calm: ClassVar[bool] = False
    goes_abreast: ClassVar[bool] = False
    carries: ClassVar[bool] = False
    solid: ClassVar[bool] = False
    pushes: ClassVar[bool] = False
    catching: ClassVar[bool] = False
    has_field: ClassVar[bool] = True
    starts: ClassVar[bool] = True
    mirrored: ClassVar[tuple[str, ...]] = ()
    if TYPE_CHECKING:
        kind: str

    id: str = Field(default_factory=lambda: new_id("force"), min_length=1, max_length=60)
    name: str = Field(default="Force", min_length=1, max_length=80)
    on: bool = True
    zone: Annotated[str | None, RefTo(("zones",))] = Field(
        default=None, max_length=60, description="Id of the zone that the force acts in."
    )
    draws: int | None = Field(
        default=None, ge=0, le=2**32 - 1,
        description="Name from which particles draw their variation; empty: the force's own id. A copied "
            "force keeps it, and so acts in the same way.",
    )  # fmt: skip
    frame: Literal["shot", "emitter"] = Field(
        default="shot",
        title="Space",
        description="Space of the force. emitter: position and rotation are relative to the emitter, and follow it.",
    )

    @property
    def own_draws(self) -> int:
        """The number of its draws."""
        return zlib.crc32(self.id.encode()) if self.draws is None else self.draws

    @property
    def takes_away(self) -> bool:
        """Whether particles may end by it."""
        return False

    @property
    def reads_plate(self) -> bool:
        """Whether what it does depends on the plate."""
        return False

    @property
    def evolving(self) -> bool:
        """Whether it changes with time without a key."""
        return False

    @property
    def weight(self) -> float:
        """Cost of a step of a particle, as a multiple of a plain one. Faces of a model that it meets come on top."""
        return 0.3

    @property
    def differs_by_emitter(self) -> bool:
        """Whether it acts differently on an emitter by its position in the cast."""
        return False

    @property
    def closed_form(self) -> Literal["", "acceleration", "resistance"]:
        """How the closed form integrates it as it is set now: as a constant acceleration, as a resistance proportional to speed,
        or, if empty, not at all. Its kernel (`integrators/steps`) knows these two forces; those of extensions are stepped."""
        return ""

    def placed_new(self, height: int) -> tuple[Self, tuple[Part, ...]]:  # noqa: ARG002
        """It as it begins in a shot of a height in px, and the zones that come with it."""
        return self, ()


@FORCES.register("isbjorn.core.simulate.forces.gravity")
class Gravity(Acting):
    """A constant acceleration in one direction. Mass does not change it."""

    model_config = shown(
        "Gravity", "M12 4v14m0 0-4-4m4 4 4-4M5 21h14",
        "Pulls everything it reaches the same way, light or heavy. 9.81 m/s² is the Earth’s; point it up for rising heat.",
        "Forces",
        located=False,
    )  # fmt: skip
    calm: ClassVar[bool] = True
    goes_abreast: ClassVar[bool] = True
    kind: Literal["gravity"] = "gravity"
    name: str = Field(default="Gravity", min_length=1, max_length=80)
    strength: Annotated[
        Number,
        strength_spec(
            "m/s²", -1e4, 1e4, "Acceleration in m/s², converted by the shot's px per metre; the Earth's is 9.81.", 0.1
        ),
    ] = Number(value=9.81)
    direction: Annotated[Number, Way, Gripped(turns=True)] = Number(value=270)
    tilt: Annotated[Number, Tilt] = Number(value=0)

    @property
    def closed_form(self) -> Literal["", "acceleration", "resistance"]:
        return "acceleration" if self.strength.same_for_life and not (self.direction.timed or self.tilt.timed) else ""


@FORCES.register("isbjorn.core.simulate.forces.drag")
class Drag(Acting):
    """Resistance of the air: after 1/strength seconds a free particle keeps 37 % of its speed."""

    model_config = shown(
        "Drag", "M3 9h11a3 3 0 1 0-3-3M3 13h15a3 3 0 1 1-3 3M3 17h7",
        "Reduces speed, and is stable at any strength. Quadratic drag grows with speed.",
        "Forces",
        located=False,
        framed=False,
    )  # fmt: skip
    calm: ClassVar[bool] = True
    goes_abreast: ClassVar[bool] = True
    has_field: ClassVar[bool] = False
    starts: ClassVar[bool] = False
    kind: Literal["drag"] = "drag"
    name: str = Field(default="Drag", min_length=1, max_length=80)
    strength: Annotated[Number, strength_spec("1/s", 0, 1e6, "Rate at which speed is lost, per second.", 0.1)] = Number(
        value=0.5
    )
    law: Literal["linear", "quadratic"] = Field(
        default="linear",
        title="Drag law",
        description="How drag grows with speed. quadratic: the rate is proportional to speed, and has the "
        "given value at 100 px/s.",
    )

    @property
    def closed_form(self) -> Literal["", "acceleration", "resistance"]:
        return "resistance" if self.strength.same_for_life and self.law == "linear" else ""


@FORCES.register("isbjorn.core.simulate.forces.wind")
class Wind(Acting):
    """Moving air: particles approach its velocity."""

    model_config = shown(
        "Wind", "M3 8h10a2.6 2.6 0 1 0-2.6-2.6M3 13h16M3 18h8a2.4 2.4 0 1 1-2.4 2.4",
        "Moving air: particles take on its speed, the lighter the sooner.",
        "Forces",
        located=False,
    )  # fmt: skip
    calm: ClassVar[bool] = True
    goes_abreast: ClassVar[bool] = True
    kind: Literal["wind"] = "wind"
    name: str = Field(default="Wind", min_length=1, max_length=80)
    strength: Annotated[Number, strength_spec("px/s", -1e5, 1e5, "Speed of the air, in px/s.", 5)] = Number(value=120)
    direction: Annotated[Number, Way, Gripped(turns=True)] = Number(value=0)
    tilt: Annotated[Number, Tilt] = Number(value=0)
    grip: Annotated[
        Number,
        timed_spec("1/s", 0, 1e6, "How quickly particles take on the wind's speed, per second.", 0.1, title="Response"),
    ] = Number(value=1)


class Noise(Acting):
    """What turbulence and displacement share: noise of several octaves."""

    noise: Literal["gradient", "cellular"] = "gradient"
    size: Annotated[Number, timed_spec("px", 1, FAR, "Size of the largest eddies, in px.", 5)] = Number(value=220)
    octaves: int = Field(default=1, ge=1, le=8)
    lacunarity: Annotated[
        Number,
        timed_spec("×", 1, 8, "How much finer each octave is than the previous one.", 0.1, title="Frequency ratio"),
    ] = Number(value=2)
    gain: Annotated[
        Number,
        timed_spec("×", 0, 2, "Strength of each octave compared with the previous one.", 0.05, title="Amplitude ratio"),
    ] = Number(value=0.5)
    evolve: Annotated[
        Number, timed_spec("/s", 0, 100, "How often the turbulence changes completely, per second.", 0.05)
    ] = Number(value=0.3)
    along_x: Annotated[
        Number, timed_spec("%", 0, 1000, "Stretches the eddies along x; 0 switches this axis off.", 5)
    ] = Number(value=100)
    along_y: Annotated[
        Number, timed_spec("%", 0, 1000, "Stretches the eddies along y; 0 switches this axis off.", 5)
    ] = Number(value=100)
    along_z: Annotated[
        Number, timed_spec("%", 0, 1000, "Stretches the eddies along z; 0 switches this axis off.", 5)
    ] = Number(value=0)
    apart: Annotated[
        Number,
        timed_spec(
            "px",
            0,
            FAR,
            "Shifts the turbulence between one emitter and the next, in px.",
            10,
            title="Offset per emitter",
        ),
    ] = Number(value=0)
    seed: int = Field(default=1, ge=0, le=LARGEST_SEED)

    @property
    def evolving(self) -> bool:
        return self.evolve.value != 0

    @property
    def weight(self) -> float:
        deep = all(n.value > 0 or n.timed for n in (self.along_x, self.along_y, self.along_z))
        return float(self.octaves * (4 if deep else 1) * (2 if self.noise == "cellular" else 1))

    @property
    def differs_by_emitter(self) -> bool:
        return self.apart.value != 0 or self.apart.timed


@FORCES.register("isbjorn.core.simulate.forces.turbulence")
class Turbulence(Noise):
    """Eddies of moving air without sources or sinks: curl of noise (Bridson, Hourihan, Nordenstam 2007)."""

    model_config = shown(
        "Turbulence", "M3 7c4-4 6 4 10 0s5-1 8 0M3 13c4-4 6 4 10 0s5-1 8 0M3 19c4-4 6 4 10 0s5-1 8 0",
        "Eddies of air that neither gather nor scatter. The lane of its strength says when in life it sets in.",
        "Forces",
    )  # fmt: skip
    calm: ClassVar[bool] = True
    goes_abreast: ClassVar[bool] = True
    kind: Literal["turbulence"] = "turbulence"
    name: str = Field(default="Turbulence", min_length=1, max_length=80)
    strength: Annotated[
        Number, strength_spec("px/s", 0, 1e5, "Typical speed of the air in the eddies, in px/s.", 5)
    ] = Number(value=80)
    grip: Annotated[
        Number,
        timed_spec(
            "1/s", 0, 1e6, "How quickly particles take on the turbulence's speed, per second.", 0.1, title="Response"
        ),
    ] = Number(value=2)


@FORCES.register("isbjorn.core.simulate.forces.displacement")
class Displacement(Noise):
    """Shifts what is seen of place and size by noise, and does not add up: taken away, all is as it was."""

    model_config = shown(
        "Displacement", "M4 5v14M4 12h5M20 5c-4 3-4 11 0 14M12 5c-3 3-3 11 0 14",
        "Shifts what is seen, and leaves the motion alone: at 0 everything is where it was.",
        "Forces",
    )  # fmt: skip
    stage: ClassVar[Literal["motion", "look", "interaction"]] = "look"
    calm: ClassVar[bool] = True
    kind: Literal["displacement"] = "displacement"
    name: str = Field(default="Displacement", min_length=1, max_length=80)
    strength: Annotated[Number, strength_spec("px", 0, FAR, "Typical distance of the displacement, in px.", 5)] = (
        Number(value=40)
    )
    swell: Annotated[
        Number,
        timed_spec(
            "%", 0, 1000, "How much the displacement changes the particles' size, in per cent.", 5, title="Size amount"
        ),
    ] = Number(value=0)


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


def _way() -> tuple[PathPoint, ...]:
    return (
        PathPoint(x=-220, y=-40, leave=(110.0, 120.0)),
        PathPoint(x=220, y=40, arrive=(-110.0, -120.0)),
    )


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
        default_factory=_way, min_length=2, max_length=512
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
        default_factory=_way, min_length=2, max_length=512
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
