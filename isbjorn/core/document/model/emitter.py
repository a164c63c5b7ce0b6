"""An emitter: how its particles are born, live and die."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator
from pydantic_core import PydanticCustomError

from isbjorn.core.document.emitter_parts.lines import Heads, Lines, Trail
from isbjorn.core.document.emitter_parts.recording import Recording
from isbjorn.core.document.emitter_parts.ripples import Ripples
from isbjorn.core.document.emitter_parts.skin import Skin
from isbjorn.core.document.emitter_parts.strands import Strand
from isbjorn.core.document.fields.base import (
    LARGEST_SEED,
    AffectsLooks,
    ChoiceLabels,
    InPanel,
    Part,
    RefTo,
    ShownAs,
    ShownIf,
    new_id,
)
from isbjorn.core.document.fields.curves import ColourStop, Gradient
from isbjorn.core.document.fields.kinds import is_lettered
from isbjorn.core.document.fields.placed import Placed, place_spec
from isbjorn.core.document.fields.values import LONGEST_S, Moment, Number, Spec, timed_spec
from isbjorn.core.document.model.compositing import Blend, Use
from isbjorn.core.document.model.pieces import Pieces
from isbjorn.core.document.model.unions import Body, Deformers, Finish, Shape
from isbjorn.core.document.parts.bodies import Round
from isbjorn.core.document.parts.shapes import Disc

LOOK = AffectsLooks()
_MEASURED = ("speed", "distance", "since touch", "since caught")
Angle = Spec(
    unit="°", low=-36000, high=36000, step=1, help="Angle in degrees, counter-clockwise; 0 is right, 90 is up."
)


def _white() -> Gradient:
    return Gradient(colours=(ColourStop(at=0, colour="#ffffff"),))


class Burst(Part):
    """Many births at once, or within a short while, and again."""

    at_s: Moment = Field(default=0, title="Time", description="Shot time of the first burst, in seconds.")
    count: int = Field(default=100, ge=1, le=1_000_000, description="Number of births in each burst.")
    fill: float = Field(
        default=0, ge=0, le=100, title="Fill shape",
        description="Share of the source's shape that each burst covers with bodies, in per cent; 0 uses "
            "the number instead.",
    )  # fmt: skip
    over_s: float = Field(
        default=0,
        ge=0,
        le=600,
        title="Spread over",
        description="Time over which a burst's births are spread, in seconds; 0 is all at once.",
    )
    times: int = Field(default=1, ge=1, le=4096, title="Repeats", description="Number of bursts.")
    every_s: float = Field(
        default=1, gt=0, le=3600, title="Interval", description="Time from one burst to the next, in seconds."
    )
    sound: Annotated[str | None, RefTo(("sounds",), whole=True)] = Field(
        default=None,
        max_length=60,
        description="Id of a sound: one burst at each of its onsets or beats, instead of fixed times.",
    )
    on: Literal["onsets", "beats"] = Field(default="onsets", title="Trigger")
    threshold_db: float = Field(
        default=-90, ge=-90, le=0, title="Threshold", description="Onsets softer than this cause no burst, in dB."
    )


class BirthTint(Part):
    """A colour that the particle's own is multiplied by, as it is at the moment of birth."""

    at_s: Moment
    colour: Annotated[str, Field(pattern=r"^#[0-9a-fA-F]{6}$")]


def _light(name: str) -> Spec:
    return Spec(
        unit="%",
        low=0,
        high=1000,
        clock="age",
        life=True,
        help=f"Amount of {name}, in per cent of the colour's own, in linear light.",
    )


def _share(title: str, help: str) -> Spec:
    return Spec(unit="%", low=0, high=1000, clock="birth", help=help, title=title)


def _taken_after(what: str) -> Spec:
    help = f"How much of its parent's {what} at birth a particle inherits, in per cent."
    return timed_spec("%", 0, 100, help, title=f"Inherited {what}")


class Emitter(Placed):
    """One emitter of the cast."""

    id: Annotated[str, LOOK] = Field(default_factory=lambda: new_id("emitter"), min_length=1, max_length=60)
    name: Annotated[str, LOOK] = Field(default="Emitter", min_length=1, max_length=80)
    on: Annotated[bool, LOOK] = True

    shape: Shape = Field(default_factory=Disc)
    shape_on: Annotated[bool, InPanel("birth")] = Field(
        default=True,
        description="Uses the shape; off: all particles are born at its centre, to show what the shape does.",
    )
    spacing: Annotated[Literal["random", "even"], InPanel("birth")] = Field(
        default="random",
        description="How places of birth are distributed. random: independently; even: spread out as far "
        "from each other as possible.",
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
            help="Births per second, per frame, or per px that the source travels.",
            sources=("emitter speed", "number", "sound"),
            title="Birth rate",
        ),
    ] = Number(value=100)
    rate_per: Literal["second", "frame", "px"] = Field(
        title="Rate unit",
        default="second",
        description="What the birth rate counts. px: births per px of travel, equally dense at any speed; "
        "none while the source rests.",
    )
    bursts: tuple[Burst, ...] = Field(default=(), max_length=16)
    born_of: Annotated[str | None, RefTo(("emitters",), none="Its own source"), InPanel("birth")] = Field(
        default=None, max_length=60, title="Parent emitter",
        description="Emitter whose particles spawn these; the position is then relative to each parent.",
    )  # fmt: skip
    born_when: Literal["in flight", "at death", "at touch", "at catching"] = Field(
        title="When", default="in flight",
        description=(
"When a particle spawns others. in flight: continuously, at the birth rate; otherwise once: when it "
"dies, first touches a surface, or is infected."
),
    )  # fmt: skip
    born_count: int = Field(default=1, ge=1, le=1000, title="Count", description="Number of particles born at once.")
    cadence: Annotated[Literal["jittered", "even", "random"], InPanel("birth")] = Field(
        default="jittered",
        description="Timing of births. Even: equal gaps; jittered: at random within equal gaps; random: a "
        "Poisson process.",
    )
    start_s: Annotated[Moment, ShownAs("moment"), InPanel("birth")] = Field(
        title="Start", default=0.0, description="Shot time of the first birth, in seconds."
    )
    end_s: Annotated[Moment | None, ShownAs("moment"), InPanel("birth")] = Field(
        title="Stop", default=None, description="Shot time of the last birth, in seconds; empty: births never stop."
    )
    delay_s: Annotated[float, ShownAs("seconds"), InPanel("birth")] = Field(
        title="Delay", default=0.0, ge=0, le=LONGEST_S, description="Delays all births and bursts, in seconds."
    )
    pre_roll_s: Annotated[float, ShownAs("seconds"), InPanel("birth")] = Field(
        title="Pre-roll",
        default=0.0,
        ge=0,
        le=600,
        description="Length of births before the start, in seconds, so that particles are already there.",
    )
    recording: Recording | None = Field(
        default=None,
        title="Recorded motion",
        description="Plays particles from a file, instead of the emitter's own births and motion.",
    )
    pieces: Pieces | None = Field(
        default=None,
        description="Cuts the emitter's shape into pieces that leave it along a front or assemble it, instead of births at a rate.",
    )
    lifespan: Annotated[
        Number,
        Spec(
            unit="s",
            low=0,
            high=LONGEST_S,
            step=0.1,
            help="Time from birth to death, in seconds; 0 means particles never die.",
        ),
    ] = Number(value=3, spread=0.5)
    toward: Literal["direction", "outward", "along", "travel", "anywhere"] = Field(
        title="Direction mode",
        default="direction",
        description="Middle of the fan of directions. outward: away from the shape; along: along the "
        "shape's line; travel: the direction in which the source moves; anywhere: all "
        "directions. The direction turns each of them.",
    )
    direction: Annotated[Number, Angle] = Number(value=90)
    tilt: Annotated[
        Number,
        Spec(unit="°", low=-180, high=180, help="Tilt of the fan out of the picture toward the viewer, in degrees."),
        InPanel("birth"),
    ] = Number(value=0)
    spread: Annotated[
        Number,
        Spec(
            unit="°",
            low=0,
            high=360,
            spread=False,
            help="Full angle of the fan of directions, in degrees; 360 is all round.",
            title="Spread angle",
        ),
    ] = Number(value=60)
    in_depth: Annotated[bool, InPanel("birth")] = Field(
        title="Cone in depth",
        default=False,
        description="Spreads directions over a cone in depth, instead of an arc in the picture plane.",
    )
    speed: Annotated[
        Number,
        Spec(
            unit="px/s",
            low=0,
            high=1e5,
            step=5,
            life=True,
            help="Speed at birth, in px/s; the curve over life scales this speed, but not what forces add.",
        ),
    ] = Number(value=120, spread=40)
    inherit: Annotated[
        Number,
        _share(
            "Inherited velocity",
            "Share of the velocity of the source, or of the parent particle, that a newborn inherits, in per cent.",
        ),
        InPanel("birth"),
    ] = Number(value=0)
    limit: Annotated[int, LOOK, InPanel("birth")] = Field(
        title="Particle limit",
        default=200_000,
        ge=0,
        le=5_000_000,
        description="Maximum number of particles alive at the same time.",
    )
    mass: Annotated[
        Number,
        Spec(unit="×", low=0.001, high=1e6, step=0.1, help="Divides every force except gravity."),
        InPanel("motion"),
    ] = Number(value=1)
    speed_limit: Annotated[
        Number,
        Spec(
            unit="px/s", low=0, high=1e6, clock="shot", spread=False, help="Maximum speed, in px/s; 0 means no limit."
        ),
        InPanel("motion"),
    ] = Number(value=0)
    stays: Annotated[
        Literal["behind", "along"], ChoiceLabels(behind="World space", along="Local space"), InPanel("motion")
    ] = Field(
        title="Space",
        default="behind",
        description="What particles move with. behind: they stay in the world; along: they move with the source.",
    )
    seed: Annotated[int, InPanel("motion")] = Field(
        default=1, ge=0, le=LARGEST_SEED, description="Random seed of this emitter."
    )
    body: Annotated[Body, LOOK] = Field(default_factory=Round)
    mixed: Annotated[tuple[Body, ...], LOOK] = Field(
        title="Mixed bodies", default=(), max_length=15, description="More bodies, chosen by their weights."
    )
    mixed_by: Annotated[Literal["weight", "since touch", "since caught"], LOOK] = Field(
        title="Body choice",
        default="weight",
        description="How bodies are assigned. weight: each particle keeps one for life; otherwise the "
        "first body until the particle touches or catches something, then one of the others.",
    )
    facing: Annotated[Literal["angle", "motion", "surface"], LOOK, InPanel("body")] = Field(
        title="Orientation",
        default="angle",
        description="How the body is turned. angle: by its angle and spin; motion: along its path, then by "
        "angle and spin; surface: flat on the nearest surface, its own or its parent's, tilted "
        "up by Angle X.",
    )
    stretch: Annotated[
        Number,
        Spec(
            unit="%",
            low=0,
            high=10_000,
            clock="age",
            life=True,
            help="Stretch along the direction of motion, in per cent for each 100 px/s of speed.",
        ),
        LOOK,
        InPanel("body"),
    ] = Number(value=0)
    size: Annotated[
        Number,
        Spec(unit="px", low=0, high=10_000, clock="age", step=0.5, life=True, help="Diameter of the body, in px."),
        AffectsLooks(unless=("solid", "pushes")),
        InPanel("look"),
    ] = Number(value=8, spread=3)
    inherit_size: Annotated[Number, _taken_after("size"), LOOK, InPanel("look")] = Number(value=0)
    opacity: Annotated[
        Number,
        Spec(unit="%", low=0, high=100, clock="age", life=True, help="How much the body covers, or adds, in per cent."),
        LOOK,
        InPanel("look"),
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
            help="Multiplies the colour in linear light.",
        ),
        LOOK,
        InPanel("look"),
    ] = Number(value=1)
    angle: Annotated[Number, Angle, LOOK, InPanel("look")] = Number(value=0)
    spin: Annotated[
        Number,
        Spec(
            unit="°/s",
            low=-36_000,
            high=36_000,
            step=5,
            life=True,
            help="Rotation speed in degrees per second, counter-clockwise.",
        ),
        LOOK,
        InPanel("look"),
    ] = Number(value=0)
    turn_x: Annotated[
        Number,
        Spec(
            unit="°",
            low=-36_000,
            high=36_000,
            step=5,
            help="Rotation about the horizontal axis, in degrees; foreshortens the body.",
            title="Angle X",
        ),
        LOOK,
        InPanel("look"),
    ] = Number(value=0)
    turn_y: Annotated[
        Number,
        Spec(
            unit="°",
            low=-36_000,
            high=36_000,
            step=5,
            help="Rotation about the vertical axis, in degrees; foreshortens the body.",
            title="Angle Y",
        ),
        LOOK,
        InPanel("look"),
    ] = Number(value=0)
    spin_x: Annotated[
        Number,
        Spec(
            unit="°/s",
            low=-36_000,
            high=36_000,
            step=5,
            help="Rotation speed about the horizontal axis, in degrees per second.",
            title="Spin X",
        ),
        LOOK,
        InPanel("look"),
    ] = Number(value=0)
    spin_y: Annotated[
        Number,
        Spec(
            unit="°/s",
            low=-36_000,
            high=36_000,
            step=5,
            help="Rotation speed about the vertical axis, in degrees per second.",
            title="Spin Y",
        ),
        LOOK,
        InPanel("look"),
    ] = Number(value=0)
    colour: Annotated[Gradient, LOOK] = Field(default_factory=_white)
    colour_by: Annotated[
        Literal[
            "age",
            "birth moment",
            "random",
            "speed",
            "distance",
            "plate",
            "source",
            "since touch",
            "since caught",
            "strand",
        ],
        LOOK,
    ] = Field(
        default="age",
        description="What chooses a particle's colour on the gradient: its age, its time of birth, chance, "
        "its speed, a distance, the time since a touch or a caught state, or its place on its "
        "strand; or the plate's colour where and when it was born, or that of the model it was born on.",
    )
    colour_from: Annotated[float, LOOK, ShownIf("colour_by", *_MEASURED)] = Field(
        title="Gradient from",
        default=0,
        ge=0,
        le=1e6,
        description="Speed, distance or seconds at the start of the gradient.",
    )
    colour_to: Annotated[float, LOOK, ShownIf("colour_by", *_MEASURED)] = Field(
        title="Gradient to",
        default=300,
        ge=0,
        le=1e6,
        description="Speed, distance or seconds at the end of the gradient.",
    )
    colour_of: Annotated[str | None, LOOK, RefTo(("placed",)), ShownIf("colour_by", "distance")] = Field(
        title="Distance to", default=None, max_length=60, description="Id of the thing that distance is measured to."
    )
    inherit_colour: Annotated[Number, _taken_after("colour"), LOOK] = Number(value=0)
    hue: Annotated[
        Number,
        Spec(unit="°", low=-360, high=360, clock="birth", help="Rotates the hue around the colour wheel, in degrees."),
        LOOK,
    ] = Number(value=0)
    saturation: Annotated[
        Number, Spec(unit="%", low=0, high=400, clock="birth", help="Saturation in per cent; 0 is grey."), LOOK
    ] = Number(value=100)
    lightness: Annotated[
        Number,
        Spec(
            unit="%",
            low=0,
            high=400,
            clock="birth",
            help="Brightness of the encoded colour, in per cent.",
            title="Value",
        ),
        LOOK,
    ] = Number(value=100)
    tint: Annotated[tuple[BirthTint, ...], LOOK] = Field(
        default=(), max_length=256, description="Keys of the colour at birth, which particles keep; mixed in Oklab."
    )
    red: Annotated[Number, _light("red"), LOOK] = Number(value=100)
    green: Annotated[Number, _light("green"), LOOK] = Number(value=100)
    blue: Annotated[Number, _light("blue"), LOOK] = Number(value=100)
    blend: Annotated[Blend, LOOK, InPanel("compositing")] = "normal"
    order: Annotated[
        Literal["oldest first", "youngest first", "farthest first", "nearest first", "largest first", "smallest first"],
        LOOK,
        InPanel("compositing"),
    ] = "oldest first"
    trail: Annotated[Trail | None, LOOK] = None
    heads: Annotated[Heads | None, LOOK] = Field(default=None, title="Repeats")
    lines: Annotated[Lines | None, LOOK] = None
    skin: Annotated[Skin | None, LOOK] = Field(
        default=None,
        description="Draws one smooth surface over all particles, instead of their bodies; without motion blur.",
    )
    ripples: Annotated[Ripples | None, LOOK] = Field(
        default=None, description="Each birth makes waves on a water surface, instead of drawing a body."
    )
    strand: Strand | None = Field(
        default=None, description="Each birth is the root of a strand: a chain of joints that all forces act on."
    )
    motion_blur: Annotated[bool, LOOK, InPanel("compositing")] = Field(
        default=True, description="Applies the camera's motion blur, if its shutter is open."
    )
    lit: Annotated[
        Number,
        Spec(
            unit="%", low=0, high=100, clock="shot", spread=False,
            help="Share of the emitter that is lit by the shot's lights, in per cent; 0 makes it glow "
                "by itself.", title="Lit by lights",
        ),
        LOOK, InPanel("compositing")] = Number(value=0)  # fmt: skip
    hidden_by: Annotated[tuple[str, ...], LOOK, RefTo(("mattes",))] = Field(
        default=(), max_length=32, description="Ids of the mattes that hide the emitter."
    )
    group: Annotated[str | None, LOOK, RefTo(("groups",))] = Field(
        default=None, max_length=60, description="Id of the group that the emitter is composited with."
    )
    use: Annotated[Use, LOOK] = Field(title="Role", default_factory=Use)
    deformers: Annotated[Deformers, LOOK] = Field(
        title="Deformers",
        default=(),
        description="Deformers that bend the visible stream, in this order; the motion itself does not change.",
    )
    finish: Annotated[Finish, LOOK] = Field(
        title="Effects", default=(), description="Effects applied to the emitter's layer, in this order."
    )
    fade_last: Annotated[
        Number,
        Spec(
            unit="%",
            low=0,
            high=100,
            clock="age",
            spread=False,
            help="Last part of its life over which a particle fades out, in per cent.",
            title="Fade over last",
        ),
        LOOK,
        InPanel("end"),
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

    @model_validator(mode="after")
    def _in_pieces_alone(self) -> Self:
        if self.pieces is None:
            return self
        for there, what in (
            (self.recording is not None, "recorded motion"), (self.strand is not None, "strands"),
            (bool(self.born_of), "births of another's particles"), (self.stays == "along", "local space"),
        ):  # fmt: skip
            if there:
                raise PydanticCustomError(
                    "pieces", "{name} is in pieces, so it cannot have {what}: take one of the two away",
                    {"name": self.name, "what": what},
                )  # fmt: skip
        if self.pieces.cut in ("letters", "words") and not is_lettered(type(self.shape)):
            raise PydanticCustomError(
                "pieces",
                "this shape has no letters, so it cannot be cut into {cut}: choose another form of pieces",
                {"cut": self.pieces.cut},
            )
        return self
