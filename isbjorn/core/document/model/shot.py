"""A shot: picture, time, plate and cast."""

from __future__ import annotations

from collections import Counter
from fractions import Fraction
from typing import Annotated, Any, Literal, Self

from pydantic import Field, field_validator, model_validator
from pydantic_core import PydanticCustomError

from isbjorn.core.document.fields.base import LARGEST_SEED, Part, RefTo
from isbjorn.core.document.fields.placed import Marker, place_spec
from isbjorn.core.document.fields.references import check_ties
from isbjorn.core.document.fields.sounds import Sound
from isbjorn.core.document.fields.values import Number, Spec
from isbjorn.core.document.model.compositing import Group, Lamp, Matte
from isbjorn.core.document.model.controls import Control
from isbjorn.core.document.model.emitter import Emitter
from isbjorn.core.document.model.plate import Plate
from isbjorn.core.document.model.spawn_rules import check_bearing
from isbjorn.core.document.model.takes import Take
from isbjorn.core.document.model.unions import Finish, Force
from isbjorn.core.document.parts.surfaces import Zone
from isbjorn.core.time import LONGEST_RATE, frame_rate, known_rate, lasting, rate_text, seconds_of_frame

VERSION = 1
LONGEST_FRAMES = 1_000_000
MOST_LINKS = 64 * 64


def _turned(help: str) -> Spec:
    return Spec(unit="°", low=-3600, high=3600, clock="shot", spread=False, help=help)


class Camera(Part):
    """Flat: depth is not seen. Perspective: at rest the picture plane (z = 0) keeps its scale."""

    sorting: Literal["as in the cast", "by depth"] = Field(
        default="as in the cast",
        description="Drawing order of emitters and groups. by depth: farthest first, and particle by "
        "particle where all bodies are discs.",
    )
    kind: Literal["flat", "perspective"] = "flat"
    focal_mm: Annotated[
        Number,
        Spec(
            unit="mm",
            low=1,
            high=2000,
            clock="shot",
            spread=False,
            help="Focal length of the lens, in mm.",
            title="Focal length",
        ),
    ] = Number(value=35)
    filmback_mm: Annotated[
        Number,
        Spec(
            unit="mm",
            low=1,
            high=500,
            clock="none",
            spread=False,
            help="Width of the camera's sensor or film gate, in mm.",
            title="Film back",
        ),
    ] = Number(value=36)
    across: Annotated[Number, place_spec("Position X", "From its place at rest, to the right.")] = Number(value=0)
    up: Annotated[Number, place_spec("Position Y", "From its place at rest, upward.")] = Number(value=0)
    forward: Annotated[Number, place_spec("Forward", "From its place at rest, into the picture.")] = Number(value=0)
    pan: Annotated[Number, _turned("Camera rotation to the left, in degrees.")] = Number(value=0)
    pitch: Annotated[Number, _turned("Camera rotation upward, in degrees.")] = Number(value=0)
    roll: Annotated[Number, _turned("Camera rotation about the view axis, in degrees, counter-clockwise.")] = Number(
        value=0
    )
    shutter: Annotated[
        Number,
        Spec(
            unit="°",
            low=0,
            high=720,
            clock="shot",
            step=10,
            spread=False,
            help="Shutter angle in degrees: 180 is open for half of each frame, 0 for no motion blur.",
        ),
    ] = Number(value=0)
    shutter_phase: Annotated[
        Number,
        Spec(
            unit="°",
            low=-720,
            high=720,
            clock="shot",
            step=10,
            spread=False,
            help="When the shutter opens, in degrees after the frame's own moment; 0 is at that moment.",
        ),
    ] = Number(value=0)
    focus: Annotated[
        Number,
        Spec(
            unit="px",
            low=-1e5,
            high=1e5,
            clock="shot",
            spread=False,
            help="Depth that is in focus, in px; 0 is the picture plane.",
        ),
    ] = Number(value=0)
    aperture: Annotated[
        Number,
        Spec(
            unit="px",
            low=0,
            high=1e4,
            clock="shot",
            spread=False,
            help="Diameter of the lens opening, in px; 0 keeps everything sharp.",
        ),
    ] = Number(value=0)


class Link(Part):
    """Says that a force reaches an emitter, or every emitter of a group."""

    force: Annotated[str, RefTo(("forces",), whole=True)] = Field(max_length=60)
    emitter: Annotated[str, RefTo(("emitters", "groups"), whole=True)] = Field(
        max_length=60, description="Id of an emitter or group."
    )


class Shot(Part):
    """A whole shot. Lengths are px of its design size; the origin is the picture's centre, x right, y up, z near."""

    format: Literal["isbjorn-shot"] = "isbjorn-shot"
    version: Literal[1] = 1
    name: str = Field(default="Untitled", min_length=1, max_length=120)
    width: int = Field(default=1280, ge=16, le=16_384, description="Width of the picture, in px.")
    height: int = Field(default=720, ge=16, le=16_384, description="Height of the picture, in px.")
    rate: str = Field(
        default="25",
        max_length=LONGEST_RATE,
        title="Frame rate",
        description="Exact frame rate in frames per second, such as 25 or 30000/1001.",
    )
    first_frame: int = Field(default=0, ge=-LONGEST_FRAMES, le=LONGEST_FRAMES)
    last_frame: int = Field(default=249, ge=-LONGEST_FRAMES, le=LONGEST_FRAMES)
    simulation_rate: int = Field(
        default=60, ge=1, le=1000, title="Simulation rate", description="Simulation steps per second."
    )
    seed: int = Field(default=1, ge=0, le=LARGEST_SEED)
    loop: bool = Field(
        default=False,
        title="Loop without a seam",
        description="Loops the shot without a seam: births, keys, flutter and turbulence repeat with it.",
    )
    crossover_s: float = Field(
        default=0, ge=0, le=600, title="Cross-fade",
        description="Time before the end of a loop over which interacting particles fade to those of its "
            "start, in seconds; 0: they jump.",
    )  # fmt: skip
    px_per_metre: float = Field(default=100.0, gt=0, le=1e6)
    limit: int = Field(
        default=1_000_000,
        ge=0,
        le=5_000_000,
        title="Particle limit",
        description="Maximum number of particles alive at the same time in all emitters.",
    )
    background: Annotated[str, Field(pattern=r"^#[0-9a-fA-F]{6}$")] | None = Field(
        default=None, description="Colour behind everything where there is no plate; empty: transparent."
    )
    camera: Camera = Field(default_factory=Camera)
    plate: Plate | None = None
    emitters: tuple[Emitter, ...] = Field(default=(), max_length=64)
    forces: tuple[Force, ...] = Field(default=(), max_length=64)
    zones: tuple[Zone, ...] = Field(default=(), max_length=64)
    markers: tuple[Marker, ...] = Field(default=(), max_length=64)
    lights: tuple[Lamp, ...] = Field(default=(), max_length=32)
    mattes: tuple[Matte, ...] = Field(default=(), max_length=32)
    groups: tuple[Group, ...] = Field(default=(), max_length=32)
    sounds: tuple[Sound, ...] = Field(default=(), max_length=8)
    controls: tuple[Control, ...] = Field(default=(), max_length=32)
    takes: tuple[Take, ...] = Field(
        default=(), max_length=32, description="Recorded performances that controls can play."
    )
    links: tuple[Link, ...] = Field(default=(), max_length=MOST_LINKS, description="Which force acts on which emitter.")
    finish: Finish = Field(default=(), description="Effects applied to all particles together.")

    @field_validator("rate", mode="before")
    @classmethod
    def _rate(cls, given: Any) -> str:
        return rate_text(frame_rate(given))

    @model_validator(mode="after")
    def _whole(self) -> Self:
        if self.last_frame < self.first_frame:
            raise PydanticCustomError(
                "empty_shot",
                "last_frame {b} is before first_frame {a}; a shot has at least one frame",
                {"a": self.first_frame, "b": self.last_frame},
            )
        things = self.things
        for name, times in Counter(thing.id for thing in things).items():
            if times > 1:
                raise PydanticCustomError("same_id", "two things in the cast have the id {i}", {"i": name})
        emitters, forces = {e.id for e in self.emitters} | {g.id for g in self.groups}, {f.id for f in self.forces}
        for number, link in enumerate(self.links):
            if link.emitter not in emitters or link.force not in forces:
                raise PydanticCustomError(
                    "loose_link",
                    "links[{n}] joins {f} to {e}, and one of them is not in the cast",
                    {"n": number, "f": link.force, "e": link.emitter},
                )
        if self.loop:
            for emitter in self.emitters:
                if emitter.on and emitter.lifespan.value == 0 and not emitter.lifespan.keys:
                    raise PydanticCustomError(
                        "endless_loop",
                        "a loop cannot hold lives without end; give {e} a lifespan first, or switch it off",
                        {"e": emitter.name},
                    )
        check_ties(self)
        check_bearing(self)
        return self

    @property
    def things(self) -> tuple[Emitter | Force | Zone | Marker | Lamp | Matte | Group | Sound | Control | Take, ...]:
        """Everything with an id."""
        return (*self.placed, *self.groups, *self.sounds, *self.controls, *self.takes)

    @property
    def placed(self) -> tuple[Emitter | Force | Zone | Marker | Lamp | Matte, ...]:
        """Everything with an id and a place."""
        return (*self.emitters, *self.forces, *self.zones, *self.markers, *self.lights, *self.mattes)

    @property
    def frame_rate(self) -> Fraction:
        """Frames per second."""
        return known_rate(self.rate)

    @property
    def frame_count(self) -> int:
        return self.last_frame - self.first_frame + 1

    @property
    def length_s(self) -> Fraction:
        return lasting(self.frame_count, self.rate)

    def nearest_frame(self, frame: int) -> int:
        """The frame of the shot that is nearest to a frame: itself, the first or the last."""
        return min(max(frame, self.first_frame), self.last_frame)

    def seconds(self, frame: int | Fraction) -> Fraction:
        """Shot time of a frame number."""
        return seconds_of_frame(frame, self.first_frame, self.frame_rate)

    def place_of(self, emitter: Emitter) -> int:
        """The place of an emitter in the cast."""
        return next(number for number, one in enumerate(self.emitters) if one.id == emitter.id)

    def falling_into(self, emitter: Emitter) -> list[Emitter]:
        """The emitters whose births fall into the water of an emitter: itself, and others that are on."""
        also = emitter.ripples.also if emitter.ripples is not None else ()
        return [emitter, *(e for e in self.emitters if e.on and e is not emitter and e.id in also)]

    def reaching(self, emitter: Emitter) -> tuple[Force, ...]:
        """The forces that are on and reach an emitter; for one with recorded motion, only those that change how it is drawn."""
        reach = {link.force for link in self.links if link.emitter in (emitter.id, emitter.group)}
        free = emitter.recording is None
        return tuple(f for f in self.forces if f.on and f.id in reach and (free or f.stage == "look"))
