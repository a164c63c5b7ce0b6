"""What a particle is drawn as. The engine side of each kind is one entry in `isbjorn.core.picture.bodies`."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field

from isbjorn.core.document.base import MediaName, Part
from isbjorn.core.document.values import Number, Spec


def _set(unit: str, low: float, high: float, help: str, step: float = 1.0) -> Spec:
    """A number that shapes a body: one setting for all of them."""
    return Spec(unit=unit, low=low, high=high, clock="none", step=step, spread=False, help=help)


Softness = _set("%", 0, 100, "How much of it is edge.")


class OneBody(Part):
    """What every body has."""

    weight: float = Field(default=1.0, ge=0, le=1000, description="Its share, where several are mixed.")


class Round(OneBody):
    """A disc: soft, with an inner radius that is full, or hard."""

    kind: Literal["soft disc", "hard disc"] = "soft disc"
    softness: Annotated[Number, _set("%", 0, 100, "How much of the radius is edge. Soft disc only.")] = Number(
        value=100
    )


class Ring(OneBody):
    """A ring."""

    kind: Literal["ring"] = "ring"
    width: Annotated[Number, _set("%", 1, 100, "Of the line, of the radius.")] = Number(value=22)
    softness: Annotated[Number, Softness] = Number(value=30)


class Star(OneBody):
    """A star with points, or a regular polygon where its points are as flat as can be."""

    kind: Literal["star"] = "star"
    points: int = Field(default=5, ge=3, le=24)
    inner: Annotated[Number, _set("%", 5, 100, "How far its inner corners reach, of its points.")] = Number(value=42)
    softness: Annotated[Number, Softness] = Number(value=8)


class Spark(OneBody):
    """A bright core with rays."""

    kind: Literal["spark"] = "spark"
    rays: int = Field(default=4, ge=2, le=16)
    core: Annotated[Number, _set("%", 2, 80, "Of the radius.")] = Number(value=22)
    thin: Annotated[Number, _set("%", 1, 100, "How thin the rays are.")] = Number(value=70)


class Puff(OneBody):
    """A soft cloud with a fractal edge; each particle takes one of several."""

    kind: Literal["puff"] = "puff"
    rough: Annotated[Number, _set("%", 0, 100, "How far its edge is eaten away.")] = Number(value=55)
    detail: int = Field(default=4, ge=1, le=7, description="Octaves of the edge.")
    softness: Annotated[Number, Softness] = Number(value=70)
    variants: int = Field(default=6, ge=1, le=16, description="How many different ones.")
    seed: int = Field(default=1, ge=0, le=2**31)


class Drop(OneBody):
    """A drop, its point away from where it faces."""

    kind: Literal["drop"] = "drop"
    slender: Annotated[Number, _set("%", 0, 90, "How much narrower than round.")] = Number(value=45)
    softness: Annotated[Number, Softness] = Number(value=25)


class Square(OneBody):
    """A square or a rectangle."""

    kind: Literal["square"] = "square"
    aspect: Annotated[Number, _set("%", 1, 100, "Height of width.")] = Number(value=100)
    rounded: Annotated[Number, _set("%", 0, 100, "Its corners.")] = Number(value=0)
    softness: Annotated[Number, Softness] = Number(value=4)


class Shard(OneBody):
    """A splinter with straight edges; each particle takes one of several."""

    kind: Literal["shard"] = "shard"
    corners: int = Field(default=5, ge=3, le=10)
    slender: Annotated[Number, _set("%", 0, 90, "How much narrower than round.")] = Number(value=40)
    softness: Annotated[Number, Softness] = Number(value=4)
    variants: int = Field(default=8, ge=1, le=16, description="How many different ones.")
    seed: int = Field(default=1, ge=0, le=2**31)


class Streak(OneBody):
    """A line of light, brightest in its middle or at its head."""

    kind: Literal["streak"] = "streak"
    width: Annotated[Number, _set("%", 1, 100, "Of its length.")] = Number(value=16)
    head: Annotated[Number, _set("%", 0, 100, "How far its light has gone to the head.")] = Number(value=50)
    softness: Annotated[Number, Softness] = Number(value=80)


class PictureBody(OneBody):
    """A picture, a numbered sequence or a movie."""

    kind: Literal["picture"] = "picture"
    media: MediaName = Field(default="", description="File, or a numbered pattern such as `leaf.###.png`.")
    plays: Literal["together", "from birth", "by age", "one of them"] = Field(
        default="together",
        description="together: all show the shot's frame; from birth: each from its own first; by age: once through its life; "
        "one of them: each keeps one.",
    )
    random_start: bool = Field(default=False, description="Each begins at a frame of its own.")
    speed: Annotated[Number, _set("%", -1000, 1000, "How fast it plays; below 0: backward.")] = Number(value=100)
    rate: Annotated[Number, _set("/s", 0, 240, "Frames per second; 0: the file's own, or the shot's.")] = Number(
        value=0
    )
    tinted: bool = Field(default=True, description="Its colours are multiplied by the particle's.")


class Words(OneBody):
    """Letters or words of a text, one to each particle."""

    kind: Literal["words"] = "words"
    text: str = Field(default="Isbjorn", min_length=1, max_length=2000)
    split: Literal["letters", "words"] = Field(default="letters", description="What one particle gets.")
    deal: Literal["readable", "as born", "random"] = Field(
        default="readable",
        description="readable: the text reads in order whichever way they fly; as born: first letter first; random: any.",
    )
    font: MediaName = Field(default="", description="A font file of the library; empty: the one that ships.")


def _kind_known(given: Any) -> Any:
    return {"kind": "soft disc", **given} if isinstance(given, dict) else given


Body = Annotated[
    Annotated[
        Round | Ring | Star | Spark | Puff | Drop | Square | Shard | Streak | PictureBody | Words,
        Field(discriminator="kind"),
    ],
    BeforeValidator(_kind_known),
]


class Trail(Part):
    """Each particle draws its own path behind it."""

    on: bool = True
    by: Literal["frames", "px"] = "frames"
    length: Annotated[Number, _set("", 0.1, 10_000, "So many frames, or px, long.")] = Number(value=12)
    width: Annotated[Number, _set("%", 0, 1000, "At its head, of the particle's size.")] = Number(value=60)
    tail: Annotated[Number, _set("%", 0, 1000, "Width at its end, of that at the head.")] = Number(value=0)
    opacity: Annotated[Number, _set("%", 0, 100, "At its head, of the particle's.")] = Number(value=100)
    fade: Annotated[Number, _set("%", 0, 100, "How much of its opacity is gone at its end.")] = Number(value=100)
    glow: Annotated[Number, _set("%", 0, 1000, "Light of a wider, softer line around it.")] = Number(value=0)
    softness: Annotated[Number, Softness] = Number(value=60)
    colours: Literal["of its head", "of each age"] = Field(
        default="of its head", description="of each age: each place of it has the colour that the particle had there."
    )
    after_death: Literal["ends with it", "is caught up"] = Field(
        default="is caught up", description="is caught up: the line shortens into the place where the particle died."
    )
    head_waits: bool = Field(default=False, description="The head stays until its trail has caught up.")
    head_shown: bool = True


class Heads(Part):
    """More heads along the same way, offset in time."""

    on: bool = True
    count: int = Field(default=3, ge=1, le=24)
    gap_s: float = Field(default=0.08, gt=0, le=60, description="Seconds from one to the next.")
    size: Annotated[Number, _set("%", 0, 200, "Of the one before it.")] = Number(value=85)
    opacity: Annotated[Number, _set("%", 0, 200, "Of the one before it.")] = Number(value=75)


class Lines(Part):
    """Lines between neighbours."""

    on: bool = True
    distance: Annotated[Number, _set("px", 0, 10_000, "At most from one to the other.")] = Number(value=90)
    most: int = Field(default=4, ge=1, le=32, description="Lines of one particle, at most.")
    width: Annotated[Number, _set("px", 0, 200, "", 0.1)] = Number(value=1.2)
    opacity: Annotated[Number, _set("%", 0, 100, "Of the particles' own, between close neighbours.")] = Number(value=70)
    fade: Annotated[Number, _set("%", 0, 100, "How much of it is gone at the distance.")] = Number(value=100)
    softness: Annotated[Number, Softness] = Number(value=50)
    bodies: bool = Field(default=True, description="Show the bodies too.")
