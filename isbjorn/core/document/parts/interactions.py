"""What particles do to each other. Emitters that one of these reaches are stepped together. The engine side of each kind is one
file in `isbjorn.core.simulate.interactions`."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from isbjorn.core.document.fields.base import RefTo, ShownIf
from isbjorn.core.document.fields.kinds import FORCES, shown
from isbjorn.core.document.fields.placed import FAR
from isbjorn.core.document.fields.values import Moment, Number, Spec, timed_spec
from isbjorn.core.document.parts.forces import Acting, strength_spec

_MENU = "Between particles"


def _of_each(unit: str, high: float, step: float, help: str, title: str = "") -> Spec:
    """A number keyed in shot time that varies from particle to particle."""
    return Spec(
        unit=unit, low=0, high=high, clock="shot", step=step, help=help, sources=("number", "sound"), title=title
    )


class Interaction(Acting):
    """Something that happens between neighbours: of one emitter, and of all emitters that it reaches."""

    stage: ClassVar[Literal["motion", "look", "interaction"]] = "interaction"
    has_field: ClassVar[bool] = False

    @property
    def weight(self) -> float:
        """Assumed cost of a step of a particle, as a multiple of a plain one. It is lower than the true cost, because a run of
        interacting emitters can be interrupted at any step, and the steps reached stay cached."""
        return 20.0


@FORCES.register("isbjorn.core.simulate.interactions.flock")
class Flock(Interaction):
    """Each keeps apart from its neighbours, goes their way, and stays with them (Reynolds 1987)."""

    model_config = shown(
        "Flock", "M3 8l5 2-5 2 1.2-2zM10 4l5 2-5 2 1.2-2zM10 12l5 2-5 2 1.2-2zM16 8l5 2-5 2 1.2-2zM4 17l5 2-5 2 1.2-2z",
        "Neighbours keep their distance, align and stay together. Other forces lead them.",
        _MENU,
        located=False,
        framed=False,
    )  # fmt: skip
    kind: Literal["flock"] = "flock"
    name: str = Field(default="Flock", min_length=1, max_length=80)
    strength: Annotated[
        Number, strength_spec("%", 0, 1000, "Strength of all parts of the flock together, in per cent.", 5)
    ] = Number(value=100)
    radius: Annotated[Number, timed_spec("px", 1, FAR, "Particles within this distance are neighbours, in px.", 5)] = (
        Number(value=80)
    )
    view: Annotated[
        Number,
        timed_spec(
            "°",
            10,
            360,
            "Full angle within which a particle sees its neighbours, in degrees; 360 is all round.",
            5,
            "Field of view",
        ),
    ] = Number(value=300)
    separation: Annotated[
        Number,
        timed_spec("px/s²", 0, 1e6, "Maximum acceleration away from neighbours that are too close, in px/s².", 20),
    ] = Number(value=400)
    apart: Annotated[
        Number, timed_spec("px", 0.1, FAR, "Minimum distance between particles, in px.", 1, "Minimum distance")
    ] = Number(value=28)
    alignment: Annotated[
        Number, timed_spec("1/s", 0, 1e4, "How quickly a particle takes on its neighbours' direction, per second.", 0.1)
    ] = Number(value=3)
    cohesion: Annotated[
        Number, timed_spec("px/s²", 0, 1e6, "Acceleration toward the middle of the neighbours, in px/s².", 10)
    ] = Number(value=120)
    least_speed: Annotated[Number, timed_spec("px/s", 0, 1e6, "Minimum speed, in px/s.", 5, "Minimum speed")] = Number(
        value=60
    )
    top_speed: Annotated[Number, timed_spec("px/s", 0, 1e6, "Maximum speed, in px/s; 0 means no limit.", 5)] = Number(
        value=260
    )
    shy: Annotated[
        Number,
        timed_spec(
            "px", 0, FAR, "Distance from surfaces at which particles start to turn away, in px.", 5, "Surface distance"
        ),
    ] = Number(value=60)
    avoidance: Annotated[Number, timed_spec("px/s²", 0, 1e6, "Acceleration away from surfaces, in px/s².", 20)] = (
        Number(value=900)
    )


@FORCES.register("isbjorn.core.simulate.interactions.cohere")
class Cohesion(Interaction):
    """Neighbours hold on to each other as a liquid's surface does (Akinci, Akinci and Teschner 2013), and drag each other along
    (XSPH viscosity; Schechter and Bridson 2012)."""

    model_config = shown(
        "Cohesion", "M8 5a4 4 0 0 1 4 4c0 3 0 3 3 4a4 4 0 1 1-5 5c-1-3-1-3-4-4A4.6 4.6 0 0 1 8 5z",
        "Neighbours hold on to each other: streams, drops and tendrils that glue and part.",
        _MENU,
        located=False,
        framed=False,
    )  # fmt: skip
    kind: Literal["cohesion"] = "cohesion"
    name: str = Field(default="Cohesion", min_length=1, max_length=80)
    strength: Annotated[
        Number,
        strength_spec(
            "px/s²", 0, 1e6, "Maximum acceleration with which two particles attract each other, in px/s².", 20
        ),
    ] = Number(value=500)
    radius: Annotated[Number, timed_spec("px", 1, FAR, "Particles within this distance are neighbours, in px.", 2)] = (
        Number(value=36)
    )
    firmness: Annotated[
        Number,
        timed_spec("%", 0, 1000, "How strongly crowded particles push apart, compared with their attraction.", 5),
    ] = Number(value=100)
    viscosity: Annotated[
        Number, timed_spec("1/s", 0, 1e4, "How quickly neighbours take on each other's velocity, per second.", 0.5)
    ] = Number(value=4)


@FORCES.register("isbjorn.core.simulate.interactions.push")
class Push(Interaction):
    """Bodies that do not overlap: they push each other away, and rub (Macklin et al. 2014, "Unified particle physics")."""

    model_config = shown(
        "Push", "M7 9a4 4 0 1 0 0 8 4 4 0 0 0 0-8M17 5a5.5 5.5 0 1 0 0 11 5.5 5.5 0 0 0 0-11",
        "Bodies push each other away and rub. They fill what holds them, and never leave it.",
        _MENU,
        located=False,
        framed=False,
    )  # fmt: skip
    pushes: ClassVar[bool] = True
    kind: Literal["push"] = "push"
    name: str = Field(default="Push", min_length=1, max_length=80)
    strength: Annotated[
        Number, strength_spec("%", 0, 100, "Share of each overlap that is removed, in per cent.", 5)
    ] = Number(value=100)
    girth: Annotated[
        Number,
        timed_spec(
            "%", 1, 1000, "Size of the body that others touch, in per cent of its visible size.", 5, "Body size"
        ),
    ] = Number(value=100)
    friction: Annotated[Number, timed_spec("", 0, 10, "Friction between bodies; 0 means none.", 0.05)] = Number(
        value=0.3
    )
    rounds: int = Field(
        default=10, ge=1, le=60, title="Rounds", description="Number of passes per step; tall heaps need more."
    )

    @property
    def weight(self) -> float:
        return 1.5 * self.rounds


@FORCES.register("isbjorn.core.simulate.interactions.contagion")
class Contagion(Interaction):
    """A state that spreads from neighbour to neighbour: an infected particle passes it on after a delay, at a speed."""

    model_config = shown(
        "Contagion", "M12 9.5a2.5 2.5 0 1 0 0 5 2.5 2.5 0 0 0 0-5M12 4a8 8 0 0 1 8 8M12 20a8 8 0 0 1-8-8M5 5l2 2M19 19l-2-2",
        (
"Light, fire or frost that spreads from neighbour to neighbour, starting at seeds. The time since "
"infection can drive any number."
),
        _MENU,
        located=False,
        framed=False,
    )  # fmt: skip
    catching: ClassVar[bool] = True
    calm: ClassVar[bool] = True
    kind: Literal["contagion"] = "contagion"
    name: str = Field(default="Contagion", min_length=1, max_length=80)
    strength: Annotated[
        Number, strength_spec("%", 0, 1000, "Speed of the infection compared with its own, in per cent.", 5)
    ] = Number(value=100)
    seeds: Annotated[str | None, RefTo(("zones",), none="None")] = Field(
        default=None,
        max_length=60,
        title="Seed zone",
        description="Particles inside this zone are infected immediately.",
    )
    seed_first: int = Field(
        default=1,
        ge=0,
        le=1_000_000,
        title="First infected",
        description="Number of particles, first in the stream and in every burst, that start infected.",
    )
    seed_share: Annotated[
        Number,
        timed_spec(
            "%",
            0,
            100,
            "Share of all births, chosen at random, that start infected, in per cent.",
            0.1,
            "Infected births",
        ),
    ] = Number(value=0)
    begin_s: Moment = Field(
        default=0, title="Begins", description="Shot time from which seeds are infected, in seconds."
    )
    radius: Annotated[
        Number, timed_spec("px", 0.1, FAR, "Particles within this distance can infect each other, in px.", 1)
    ] = Number(value=24)
    nearest: int = Field(
        default=0,
        ge=0,
        le=16,
        title="Nearest neighbours",
        description="Each particle can be infected only by its nearest N neighbours; 0 means by any within the radius.",
    )
    pace: Annotated[
        Number,
        _of_each(
            "px/s",
            1e6,
            10,
            "Speed at which the infection crosses the distance between two particles, in px/s.",
            "Speed",
        ),
    ] = Number(value=160)
    wait: Annotated[
        Number,
        _of_each("s", 3600, 0.05, "Additional time before a particle is infected, in seconds.", "Infection delay"),
    ] = Number(value=0)
    lasts: Annotated[
        Number, _of_each("s", 3600, 0.1, "Time for which a particle stays infectious, in seconds; 0 means for ever.")
    ] = Number(value=0)
    then: Literal["is immune", "can catch it again", "dies"] = Field(
        default="is immune",
        title="After infection",
        description="What happens to a particle after its infectious time.",
    )
    rest_s: Annotated[float, ShownIf("then", "can catch it again")] = Field(
        default=1,
        ge=0,
        le=3600,
        title="Immune time",
        description="Time before a particle can be infected again, in seconds.",
    )
    slows: Annotated[Literal["nothing", "where it is dark", "where it is bright"], Field(title="Slowed by plate")] = (
        "nothing"
    )
    slowed: Annotated[
        Number, timed_spec("%", 0, 100, "Share of its speed that the infection loses there, in per cent.", 5, "Slowed by"),
        ShownIf("slows", "where it is dark", "where it is bright"),
    ] = Number(value=80)  # fmt: skip

    @property
    def weight(self) -> float:
        return 1.5

    @property
    def reads_plate(self) -> bool:
        return self.slows != "nothing"

    @property
    def takes_away(self) -> bool:
        return self.then == "dies"
