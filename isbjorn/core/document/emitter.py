"""An emitter: how its particles are born, live and end."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator
from pydantic_core import PydanticCustomError

from isbjorn.core.document.base import LARGEST_SEED, Looks, Part, RefTo, ShownIf, new_id
from isbjorn.core.document.bodies import Heads, Lines, Round, Skin, Trail
from isbjorn.core.document.compositing import Blend, Use
from isbjorn.core.document.curves import ColourStop, Gradient
from isbjorn.core.document.placed import Placed, place_spec
from isbjorn.core.document.recording import Recording
from isbjorn.core.document.ripples import Ripples
from isbjorn.core.document.shapes import Disc
from isbjorn.core.document.strands import Strand
from isbjorn.core.document.unions import Body, Deformers, Finish, Shape
from isbjorn.core.document.values import LONGEST_S, Moment, Number, Spec, timed_spec

LOOK = Looks()
_MEASURED = ("speed", "distance", "since touch", "since caught")
Angle = Spec(unit="°", low=-36000, high=36000, step=1, help="Counter-clockwise; 0 is right, 90 is up.")


def _white() -> Gradient:
    return Gradient(colours=(ColourStop(at=0, colour="#ffffff"),))


class Burst(Part):
    """Many births at once, or within a short while, and again."""

    at_s: Moment = Field(default=0, description="Shot time of the first one.")
    count: int = Field(default=100, ge=1, le=1_000_000, description="Births in one burst.")
    fill: float = Field(
        default=0, ge=0, le=100,
        description="%: as many as cover so much of the source's shape with bodies of the sizes drawn; 0: as many as said.",
    )  # fmt: skip
    over_s: float = Field(default=0, ge=0, le=600, description="The while over which they come; 0: all at once.")
    times: int = Field(default=1, ge=1, le=4096, description="How often.")
    every_s: float = Field(default=1, gt=0, le=3600, description="From one to the next.")
    sound: Annotated[str | None, RefTo(("sounds",), whole=True)] = Field(
        default=None,
        max_length=60,
        description="The id of a sound: one burst at each of its onsets or beats, in place of times.",
    )
    on: Literal["onsets", "beats"] = Field(default="onsets", title="At its")
    threshold_db: float = Field(
        default=-90, ge=-90, le=0, title="Threshold", description="dB: softer onsets bear none."
    )


class BirthTint(Part):
    """A colour that the particle's own is multiplied by, as it is at the moment of birth."""

    at_s: Moment
    colour: Annotated[str, Field(pattern=r"^#[0-9a-fA-F]{6}$")]


def _light(name: str) -> Spec:
    return Spec(unit="%", low=0, high=1000, clock="age", life=True, help=f"Of the colour's {name}, in linear light.")


def _share(title: str, help: str) -> Spec:
    return Spec(unit="%", low=0, high=1000, clock="birth", help=help, title=title)


def _taken_after(what: str) -> Spec:
    help = f"How much of its {what} is that of who bears it, as it was then."
    return timed_spec("%", 0, 100, help, title=f"Inherited {what}")


class Emitter(Placed):
    """One emitter of the cast."""

    id: Annotated[str, LOOK] = Field(default_factory=lambda: new_id("emitter"), min_length=1, max_length=60)
    name: Annotated[str, LOOK] = Field(default="Emitter", min_length=1, max_length=80)
    on: Annotated[bool, LOOK] = True
    seed: int = Field(default=1, ge=0, le=LARGEST_SEED, description="Its own random numbers.")

    shape: Shape = Field(default_factory=Disc)
    shape_on: bool = Field(default=True, description="Off: all are born at its centre, to see what the shape does.")
    spacing: Literal["random", "even"] = Field(
        default="random", description="random: each place drawn alone; even: spread out, one as far from all as can be."
    )
    across: Annotated[Number, place_spec("Position X", "Place from the picture's centre, to the right.", True)] = (
        Number(value=0)
    )
    up: Annotated[Number, place_spec("Position Y", "Place from the picture's centre, upward.", True)] = Number(value=0)
    depth: Annotated[Number, place_spec("Position Z", "Place toward the viewer.", True)] = Number(value=0)

    rate: Annotated[
        Number,
        Spec(
            unit="/s",
            low=0,
            high=1e6,
            clock="shot",
            step=10,
            spread=False,
            help="Births per second of shot time, per frame, or per px that the source travels.",
            sources=("emitter speed", "number", "sound"),
            title="Birth rate",
        ),
    ] = Number(value=100)
    rate_per: Literal["second", "frame", "px"] = Field(
        title="Rate unit", default="second", description="px: as dense at any speed of the source; none while it rests."
    )
    bursts: tuple[Burst, ...] = Field(default=(), max_length=16)
    born_of: Annotated[str | None, RefTo(("emitters",), none="Its own source")] = Field(
        default=None, max_length=60, title="Born of",
        description="An emitter whose particles bear these: its place is then meant from each of them.",
    )  # fmt: skip
    born_when: Literal["in flight", "at death", "at touch", "at catching"] = Field(
        title="When", default="in flight",
        description="in flight: each bears at the birth rate; else each bears once, when it dies, first touches a surface, or "
        "catches a state.",
    )  # fmt: skip
    born_count: int = Field(default=1, ge=1, le=1000, title="Count", description="So many at once.")
    cadence: Literal["jittered", "even", "random"] = Field(
        default="jittered",
        description="Even: same gaps; jittered: anywhere in its own gap; random: a Poisson stream.",
    )
    start_s: Moment = Field(title="Start", default=0.0, description="First birth, in seconds of shot time.")
    end_s: Moment | None = Field(title="Stop", default=None, description="Last birth; empty: never stops.")
    delay_s: float = Field(
        title="Delay", default=0.0, ge=0, le=LONGEST_S, description="All births and bursts come later by this."
    )
    pre_roll_s: float = Field(
        title="Pre-roll", default=0.0, ge=0, le=600, description="Seconds of births before the start."
    )
    recording: Recording | None = Field(
        default=None,
        title="Recorded motion",
        description="Particles out of a file, in place of births and motion of its own.",
    )
    inherit_size: Annotated[Number, _taken_after("size"), LOOK] = Number(value=0)
    inherit_colour: Annotated[Number, _taken_after("colour"), LOOK] = Number(value=0)
    limit: Annotated[int, LOOK] = Field(
        title="Particle limit", default=200_000, ge=0, le=5_000_000, description="Alive at the same time, at most."
    )

    lifespan: Annotated[
        Number,
        Spec(unit="s", low=0, high=LONGEST_S, step=0.1, help="From birth to death; 0 lives without end."),
    ] = Number(value=3, spread=0.5)
    toward: Literal["direction", "outward", "along", "travel", "anywhere"] = Field(
        title="Direction mode",
        default="direction",
        description="The middle of the fan. outward: away from the shape; along: along its line; travel: the way the "
        "source goes; each turned by the direction. anywhere: all round.",
    )
    direction: Annotated[Number, Angle] = Number(value=90)
    tilt: Annotated[
        Number, Spec(unit="°", low=-180, high=180, help="Of the fan out of the picture, toward the viewer.")
    ] = Number(value=0)
    spread: Annotated[
        Number,
        Spec(
            unit="°",
            low=0,
            high=360,
            spread=False,
            help="Full angle of the fan: 360 is all round, 180 is half.",
            title="Spread angle",
        ),
    ] = Number(value=60)
    in_depth: bool = Field(
        title="Cone in depth", default=False, description="Fan out in depth too: even over a cone, not over an arc."
    )
    speed: Annotated[
        Number,
        Spec(
            unit="px/s",
            low=0,
            high=1e5,
            step=5,
            life=True,
            help="At birth; over life, what is left of it. What forces add is not touched.",
        ),
    ] = Number(value=120, spread=40)
    inherit: Annotated[
        Number,
        _share("Inherited velocity", "Of the velocity of its source, or of who bears it, that a newborn takes along."),
    ] = Number(value=0)
    stays: Literal["behind", "along"] = Field(
        title="Space", default="behind", description="behind: left in the world; along: carried on with the source."
    )
    mass: Annotated[Number, Spec(unit="×", low=0.001, high=1e6, step=0.1, help="Divides every force but gravity.")] = (
        Number(value=1)
    )
    speed_limit: Annotated[Number, Spec(unit="px/s", low=0, high=1e6, clock="shot", spread=False, help="0: none.")] = (
        Number(value=0)
    )
    angle: Annotated[Number, Angle, LOOK] = Number(value=0)
    spin: Annotated[
        Number, Spec(unit="°/s", low=-36_000, high=36_000, step=5, life=True, help="Counter-clockwise."), LOOK
    ] = Number(value=0)

    turn_x: Annotated[
        Number,
        Spec(
            unit="°",
            low=-36_000,
            high=36_000,
            step=5,
            help="About the level axis: it is seen foreshortened.",
            title="Angle X",
        ),
        LOOK,
    ] = Number(value=0)
    turn_y: Annotated[
        Number,
        Spec(
            unit="°",
            low=-36_000,
            high=36_000,
            step=5,
            help="About the upright axis: it is seen foreshortened.",
            title="Angle Y",
        ),
        LOOK,
    ] = Number(value=0)
    spin_x: Annotated[
        Number, Spec(unit="°/s", low=-36_000, high=36_000, step=5, help="About the level axis.", title="Spin X"), LOOK
    ] = Number(value=0)
    spin_y: Annotated[
        Number, Spec(unit="°/s", low=-36_000, high=36_000, step=5, help="About the upright axis.", title="Spin Y"), LOOK
    ] = Number(value=0)

    body: Annotated[Body, LOOK] = Field(default_factory=Round)
    mixed: Annotated[tuple[Body, ...], LOOK] = Field(
        title="Mixed bodies", default=(), max_length=15, description="More bodies, dealt out by their weights."
    )
    mixed_by: Annotated[Literal["weight", "since touch", "since caught"], LOOK] = Field(
        title="Dealt by",
        default="weight",
        description="weight: each has one for life; else the first body until it touches or catches something, then the others.",
    )
    facing: Annotated[Literal["angle", "motion", "surface"], LOOK] = Field(
        title="Orientation",
        default="angle",
        description="angle: as its angle and spin say; motion: along its way, turned by them; surface: it lies on the nearest "
        "surface, its own or that of who bears it, foreshortened with it; Angle X raises it.",
    )
    stretch: Annotated[
        Number,
        Spec(unit="%", low=0, high=10_000, clock="age", life=True, help="Longer along its way, by each 100 px/s."),
        LOOK,
    ] = Number(value=0)
    size: Annotated[
        Number,
        Spec(unit="px", low=0, high=10_000, clock="age", step=0.5, life=True, help="Diameter."),
        Looks(unless=("solid", "pushes")),
    ] = Number(value=8, spread=3)
    opacity: Annotated[
        Number, Spec(unit="%", low=0, high=100, clock="age", life=True, help="How much it covers or adds."), LOOK
    ] = Number(value=100)
    brightness: Annotated[
        Number,
        Spec(
            unit="×",
            low=0,
            high=1000,
            clock="age",
            step=0.1,
            life=True,
            help="Multiplies the colour, in linear light.",
        ),
        LOOK,
    ] = Number(value=1)
    colour: Annotated[Gradient, LOOK] = Field(default_factory=_white)
    colour_by: Annotated[
        Literal["age", "birth moment", "random", "speed", "distance", "plate", "since touch", "since caught", "strand"],
        LOOK,
    ] = Field(
        default="age",
        description="Where on the gradient a particle is: by its age, by when it was born over the shot, at random, by its "
        "speed or distance now, by the seconds since it touched something or caught a state; by its place on its strand, from root "
        "to foot; or its colour is the plate's, where and when it was born.",
    )
    colour_from: Annotated[float, LOOK, ShownIf("colour_by", *_MEASURED)] = Field(
        title="Gradient from",
        default=0,
        ge=0,
        le=1e6,
        description="Speed, distance or seconds at the gradient's start.",
    )
    colour_to: Annotated[float, LOOK, ShownIf("colour_by", *_MEASURED)] = Field(
        title="Gradient to", default=300, ge=0, le=1e6, description="Speed, distance or seconds at its end."
    )
    colour_of: Annotated[str | None, LOOK, RefTo(("placed",)), ShownIf("colour_by", "distance")] = Field(
        title="Distance to", default=None, max_length=60, description="The id of the thing to which distance is."
    )
    hue: Annotated[
        Number, Spec(unit="°", low=-360, high=360, clock="birth", help="Turned round the colour wheel."), LOOK
    ] = Number(value=0)
    saturation: Annotated[Number, Spec(unit="%", low=0, high=400, clock="birth", help="0: grey."), LOOK] = Number(
        value=100
    )
    lightness: Annotated[
        Number, Spec(unit="%", low=0, high=400, clock="birth", help="Of its encoded value.", title="Value"), LOOK
    ] = Number(value=100)
    tint: Annotated[tuple[BirthTint, ...], LOOK] = Field(
        default=(), max_length=256, description="Keys of a colour at birth: those born then keep it. Mixed in Oklab."
    )
    red: Annotated[Number, _light("red"), LOOK] = Number(value=100)
    green: Annotated[Number, _light("green"), LOOK] = Number(value=100)
    blue: Annotated[Number, _light("blue"), LOOK] = Number(value=100)
    blend: Annotated[Blend, LOOK] = "normal"
    order: Annotated[
        Literal["oldest first", "youngest first", "farthest first", "nearest first", "largest first", "smallest first"],
        LOOK,
    ] = "oldest first"
    trail: Annotated[Trail | None, LOOK] = None
    heads: Annotated[Heads | None, LOOK] = Field(default=None, title="Repeats")
    lines: Annotated[Lines | None, LOOK] = None
    skin: Annotated[Skin | None, LOOK] = Field(
        default=None, description="One smooth surface over all of them, in place of their bodies; without motion blur."
    )
    ripples: Annotated[Ripples | None, LOOK] = Field(
        default=None, description="Each birth sets off waves on a face of water, in place of its body."
    )
    strand: Strand | None = Field(
        default=None, description="Each birth is the root of a strand: a chain of joints that all forces act on."
    )
    motion_blur: Annotated[bool, LOOK] = Field(
        default=True, description="Blurred by the camera's shutter, if that is open."
    )
    lit: Annotated[
        Number,
        Spec(
            unit="%", low=0, high=100, clock="shot", spread=False,
            help="How much of it waits for the shot's lights; 0: it shines by itself.", title="Lit by lights",
        ),
        LOOK,
    ] = Number(value=0)  # fmt: skip
    hidden_by: Annotated[tuple[str, ...], LOOK, RefTo(("mattes",))] = Field(
        default=(), max_length=32, description="Ids of the mattes behind which it lies."
    )
    group: Annotated[str | None, LOOK, RefTo(("groups",))] = Field(
        default=None, max_length=60, description="The id of the group that it is finished with."
    )
    use: Annotated[Use, LOOK] = Field(title="Role", default_factory=Use)
    deformers: Annotated[Deformers, LOOK] = Field(
        title="Deformers",
        default=(),
        description="What bends the stream that is seen, in this order; its motion stays as it is.",
    )
    finish: Annotated[Finish, LOOK] = Field(
        title="Effects", default=(), description="What is done to its layer, in this order."
    )
    fade_last: Annotated[
        Number,
        Spec(
            unit="%",
            low=0,
            high=100,
            clock="age",
            spread=False,
            help="Of its life, over which it fades to nothing.",
            title="Fade over last",
        ),
        LOOK,
    ] = Number(value=0)

    @model_validator(mode="after")
    def _recorded_alone(self) -> Self:
        if self.recording is not None and (self.strand is not None or self.born_of):
            what = "strands" if self.strand is not None else "births of another's particles"
            raise PydanticCustomError(
                "recorded",
                "{name} has its motion from a file, so it has no {what}: take one of the two away",
                {"name": self.name, "what": what},
            )
        return self
