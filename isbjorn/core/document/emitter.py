"""An emitter: how its particles are born, live and end."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.base import LARGEST_SEED, Part, new_id
from isbjorn.core.document.curves import ColourStop, Gradient
from isbjorn.core.document.shapes import FAR, Disc, Shape
from isbjorn.core.document.values import Number, Spec

LONGEST_S = 86_400.0


def place_spec(help: str) -> Spec:
    return Spec(unit="px", low=-FAR, high=FAR, clock="birth", help=help)


Angle = Spec(unit="°", low=-36000, high=36000, step=1, help="Counter-clockwise; 0 is right, 90 is up.")


class Body(Part):
    """What a particle is drawn as."""

    kind: Literal["soft disc", "hard disc"] = "soft disc"
    softness: Annotated[
        Number,
        Spec(
            unit="%",
            low=0,
            high=100,
            clock="none",
            spread=False,
            help="How much of the radius is edge. Soft disc only.",
        ),
    ] = Number(value=100)


def _white() -> Gradient:
    return Gradient(colours=(ColourStop(at=0, colour="#ffffff"),))


class Emitter(Part):
    """One emitter of the cast."""

    id: str = Field(default_factory=lambda: new_id("emitter"), min_length=1, max_length=60)
    name: str = Field(default="Emitter", min_length=1, max_length=80)
    on: bool = True
    seed: int = Field(default=1, ge=0, le=LARGEST_SEED, description="Its own random numbers.")

    shape: Shape = Field(default_factory=Disc)
    across: Annotated[Number, place_spec("Place from the picture's centre, to the right.")] = Number(value=0)
    up: Annotated[Number, place_spec("Place from the picture's centre, upward.")] = Number(value=0)
    depth: Annotated[Number, place_spec("Place toward the viewer.")] = Number(value=0)

    rate: Annotated[
        Number,
        Spec(
            unit="/s",
            low=0,
            high=1e6,
            clock="shot",
            step=10,
            spread=False,
            help="Births per second of shot time.",
        ),
    ] = Number(value=100)
    cadence: Literal["jittered", "even", "random"] = Field(
        default="jittered",
        description="Even: same gaps; jittered: anywhere in its own gap; random: a Poisson stream.",
    )
    start_s: float = Field(
        default=0.0, ge=-LONGEST_S, le=LONGEST_S, description="First birth, in seconds of shot time."
    )
    end_s: float | None = Field(
        default=None, ge=-LONGEST_S, le=LONGEST_S, description="Last birth; empty: never stops."
    )
    pre_roll_s: float = Field(default=0.0, ge=0, le=600, description="Seconds of births before the start.")
    limit: int = Field(default=200_000, ge=0, le=5_000_000, description="Alive at the same time, at most.")

    lifespan: Annotated[
        Number,
        Spec(unit="s", low=0, high=LONGEST_S, step=0.1, help="From birth to death; 0 lives without end."),
    ] = Number(value=3, spread=0.5)
    direction: Annotated[Number, Angle] = Number(value=90)
    spread: Annotated[
        Number,
        Spec(
            unit="°",
            low=0,
            high=360,
            spread=False,
            help="Full angle of the fan: 360 is all round, 180 is half.",
        ),
    ] = Number(value=60)
    in_depth: bool = Field(default=False, description="Fan out in depth too: even over a cone, not over an arc.")
    speed: Annotated[Number, Spec(unit="px/s", low=0, high=1e5, step=5, help="At birth.")] = Number(
        value=120, spread=40
    )

    body: Body = Field(default_factory=Body)
    size: Annotated[Number, Spec(unit="px", low=0, high=10_000, clock="age", step=0.5, life=True, help="Diameter.")] = (
        Number(value=8, spread=3)
    )
    opacity: Annotated[
        Number, Spec(unit="%", low=0, high=100, clock="age", life=True, help="How much it covers or adds.")
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
    ] = Number(value=1)
    colour: Gradient = Field(default_factory=_white)
    blend: Literal["normal", "add"] = "normal"
    order: Literal["oldest first", "youngest first", "farthest first"] = "oldest first"
    fade_last: Annotated[
        Number,
        Spec(
            unit="%",
            low=0,
            high=100,
            clock="age",
            spread=False,
            help="Of its life, over which it fades to nothing.",
        ),
    ] = Number(value=0)
