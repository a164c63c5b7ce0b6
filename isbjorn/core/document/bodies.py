"""What a particle is drawn as. The engine side of each kind is one entry in `isbjorn.core.render.bodies`."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.base import MediaName, Part, ShownIf
from isbjorn.core.document.effects import Hex
from isbjorn.core.document.kinds import BODIES, shown
from isbjorn.core.document.outlines import Outlines
from isbjorn.core.document.values import Number, Spec, timed_spec


def _set(unit: str, low: float, high: float, help: str, step: float = 1.0, title: str = "") -> Spec:
    """A number that shapes a body: one setting for all of them."""
    return Spec(unit=unit, low=low, high=high, clock="none", step=step, spread=False, help=help, title=title)


# A herring, until another drawing is chosen.
_FISH = "M50 0C30-22-10-22-30-4L-50-18V18L-30 4C-10 22 30 22 50 0Z"

Softness = _set("%", 0, 100, "How much of it is edge.")


class OneBody(Part):
    """What every body has."""

    weight: float = Field(default=1.0, ge=0, le=1000, description="Its share, where several are mixed.")


@BODIES.register("isbjorn.core.render.bodies:round_mask")
class Round(OneBody):
    """A disc: soft, with an inner radius that is full, or hard."""

    model_config = shown("Disc")
    kind: Literal["soft disc", "hard disc"] = "soft disc"
    softness: Annotated[Number, _set("%", 0, 100, "How much of the radius is edge."), ShownIf("kind", "soft disc")] = (
        Number(value=100)
    )


@BODIES.register("isbjorn.core.render.bodies:ring")
class Ring(OneBody):
    """A ring."""

    model_config = shown("Ring")
    kind: Literal["ring"] = "ring"
    width: Annotated[Number, _set("%", 1, 100, "Of the line, of the radius.")] = Number(value=22)
    softness: Annotated[Number, Softness] = Number(value=30)


@BODIES.register("isbjorn.core.render.bodies:star")
class Star(OneBody):
    """A star with points, or a regular polygon where its points are as flat as can be."""

    model_config = shown("Star")
    kind: Literal["star"] = "star"
    points: int = Field(default=5, ge=3, le=24)
    inner: Annotated[
        Number, _set("%", 5, 100, "How far its inner corners reach, of its points.", title="Inner corners")
    ] = Number(value=42)
    softness: Annotated[Number, Softness] = Number(value=8)


@BODIES.register("isbjorn.core.render.bodies:spark")
class Spark(OneBody):
    """A bright core with rays."""

    model_config = shown("Spark")
    kind: Literal["spark"] = "spark"
    rays: int = Field(default=4, ge=2, le=16)
    core: Annotated[Number, _set("%", 2, 80, "Of the radius.")] = Number(value=22)
    thin: Annotated[Number, _set("%", 1, 100, "How thin the rays are.", title="Thin rays")] = Number(value=70)


@BODIES.register("isbjorn.core.render.bodies:puff")
class Puff(OneBody):
    """A soft cloud with a fractal edge; each particle takes one of several."""

    model_config = shown("Puff")
    kind: Literal["puff"] = "puff"
    rough: Annotated[Number, _set("%", 0, 100, "How far its edge is eaten away.", title="Rough edge")] = Number(
        value=55
    )
    detail: int = Field(default=4, ge=1, le=7, description="Octaves of the edge.")
    softness: Annotated[Number, Softness] = Number(value=70)
    variants: int = Field(default=6, ge=1, le=16, description="How many different ones.")
    seed: int = Field(default=1, ge=0, le=2**31)


@BODIES.register("isbjorn.core.render.bodies:drop")
class Drop(OneBody):
    """A drop, its point away from where it faces."""

    model_config = shown("Drop")
    kind: Literal["drop"] = "drop"
    slender: Annotated[Number, _set("%", 0, 90, "How much narrower than round.")] = Number(value=45)
    softness: Annotated[Number, Softness] = Number(value=25)


@BODIES.register("isbjorn.core.render.bodies:square")
class Square(OneBody):
    """A square or a rectangle."""

    model_config = shown("Square")
    kind: Literal["square"] = "square"
    aspect: Annotated[Number, _set("%", 1, 100, "Height of width.")] = Number(value=100)
    rounded: Annotated[Number, _set("%", 0, 100, "Its corners.")] = Number(value=0)
    softness: Annotated[Number, Softness] = Number(value=4)


@BODIES.register("isbjorn.core.render.bodies:shard")
class Shard(OneBody):
    """A splinter with straight edges; each particle takes one of several."""

    model_config = shown("Shard")
    kind: Literal["shard"] = "shard"
    corners: int = Field(default=5, ge=3, le=10)
    slender: Annotated[Number, _set("%", 0, 90, "How much narrower than round.")] = Number(value=40)
    softness: Annotated[Number, Softness] = Number(value=4)
    variants: int = Field(default=8, ge=1, le=16, description="How many different ones.")
    seed: int = Field(default=1, ge=0, le=2**31)


@BODIES.register("isbjorn.core.render.bodies:streak")
class Streak(OneBody):
    """A line of light, brightest in its middle or at its head."""

    model_config = shown("Streak")
    kind: Literal["streak"] = "streak"
    width: Annotated[Number, _set("%", 1, 100, "Of its length.")] = Number(value=16)
    head: Annotated[Number, _set("%", 0, 100, "How far its light has gone to the head.", title="Light toward head")] = (
        Number(value=50)
    )
    softness: Annotated[Number, Softness] = Number(value=80)


@BODIES.register("isbjorn.core.render.bodies:arrow")
class Arrow(OneBody):
    """An arrow that points where it faces."""

    model_config = shown("Arrow")
    kind: Literal["arrow"] = "arrow"
    shaft: Annotated[Number, _set("%", 1, 100, "Thickness of the shaft, of the length.")] = Number(value=16)
    head: Annotated[Number, _set("%", 5, 100, "Length of the head, of the whole.", title="Head length")] = Number(
        value=45
    )
    wide: Annotated[Number, _set("%", 2, 100, "Width of the head, of the length.", title="Head width")] = Number(
        value=56
    )
    softness: Annotated[Number, Softness] = Number(value=4)


@BODIES.register("isbjorn.core.render.bodies:artwork")
class ArtworkBody(OneBody):
    """The filled outlines of an SVG drawing; what lies to the right in it is what it faces with."""

    model_config = shown("SVG artwork")
    kind: Literal["artwork"] = "artwork"
    paths: Outlines = Field(default=(_FISH,), min_length=1, max_length=2000, description="SVG path data, y down.")
    name: str = Field(default="", max_length=200, description="The file that the outlines were read from.")


_MOVES = ShownIf("plays", "together", "from birth", "by age")


@BODIES.register("isbjorn.core.render.atlas:FromFile")
class PictureBody(OneBody):
    """A picture, a numbered sequence or a movie."""

    model_config = shown("Sprite")
    kind: Literal["picture"] = "picture"
    media: MediaName = Field(default="", description="File, or a numbered pattern such as `leaf.###.png`.")
    plays: Literal["together", "from birth", "by age", "one of them"] = Field(
        default="together",
        description="together: all show the shot's frame; from birth: each from its own first; by age: once through its life; "
        "one of them: each keeps one.",
    )
    random_start: Annotated[bool, _MOVES] = Field(default=False, description="Each begins at a frame of its own.")
    speed: Annotated[Number, _set("%", -1000, 1000, "How fast it plays; below 0: backward."), _MOVES] = Number(
        value=100
    )
    rate: Annotated[Number, _set("/s", 0, 240, "Frames per second; 0: the file's own, or the shot's."), _MOVES] = (
        Number(value=0)
    )
    tinted: bool = Field(default=True, title="Tint", description="Its colours are multiplied by the particle's.")


@BODIES.register("isbjorn.core.render.atlas:FromText")
class Words(OneBody):
    """Letters or words of a text, one to each particle."""

    model_config = shown("Text")
    kind: Literal["words"] = "words"
    text: str = Field(default="Isbjorn", min_length=1, max_length=2000)
    split: Literal["letters", "words"] = Field(
        default="letters", title="Split by", description="What one particle gets."
    )
    deal: Literal["readable", "as born", "random"] = Field(
        default="readable",
        title="Order",
        description="readable: the text reads in order whichever way they fly; as born: first letter first; random: any.",
    )
    font: MediaName = Field(default="", description="A font file of the library; empty: the one that ships.")


class Trail(Part):
    """Each particle draws its own path behind it."""

    on: bool = True
    by: Literal["frames", "px"] = "frames"
    length: Annotated[Number, _set("", 0.1, 10_000, "So many frames, or px, long.")] = Number(value=12)
    width: Annotated[Number, _set("%", 0, 1000, "At its head, of the particle's size.")] = Number(value=60)
    tail: Annotated[Number, _set("%", 0, 1000, "Width at its end, of that at the head.", title="Tail width")] = Number(
        value=0
    )
    opacity: Annotated[Number, _set("%", 0, 100, "At its head, of the particle's.")] = Number(value=100)
    fade: Annotated[Number, _set("%", 0, 100, "How much of its opacity is gone at its end.")] = Number(value=100)
    glow: Annotated[Number, _set("%", 0, 1000, "Light of a wider, softer line around it.")] = Number(value=0)
    softness: Annotated[Number, Softness] = Number(value=60)
    colours: Literal["of its head", "of each age"] = Field(
        default="of its head", description="of each age: each place of it has the colour that the particle had there."
    )
    after_death: Literal["ends with it", "is caught up"] = Field(
        default="is caught up",
        title="Trail after death",
        description="is caught up: the line shortens into the place where the particle died.",
    )
    head_waits: bool = Field(
        default=False, title="Head waits for it", description="The head stays until its trail has caught up."
    )
    head_shown: bool = True


class Heads(Part):
    """More heads along the same way, offset in time."""

    on: bool = True
    count: int = Field(default=3, ge=1, le=24, title="Repeats")
    gap_s: float = Field(default=0.08, gt=0, le=60, title="Time offset", description="Seconds from one to the next.")
    size: Annotated[Number, _set("%", 0, 200, "Of the one before it.")] = Number(value=85)
    opacity: Annotated[Number, _set("%", 0, 200, "Of the one before it.")] = Number(value=75)


class Skin(Part):
    """One smooth surface over all of them, in place of their bodies: drops that join to a liquid."""

    on: bool = True
    material: Literal["milk", "metal", "water", "glass"] = Field(
        default="milk",
        description="What it is of: milk and metal are full; water and glass let through, and bend, what lies below.",
    )
    girth: Annotated[
        Number, timed_spec("%", 5, 1000, "Of a particle's size: how large a ball it is by itself.", 5, "Radius factor")
    ] = Number(value=100)
    level: Annotated[Number, timed_spec("%", 5, 95, "The lower, the farther apart two may be and still join.", 1)] = (
        Number(value=35)
    )
    smoothing: Annotated[Number, timed_spec("px", 0, 400, "Over so much of the picture it is smoothed.", 0.5)] = Number(
        value=3
    )
    detail: Annotated[
        Number, timed_spec("%", 10, 100, "Of the picture's pixels: less is faster, and softer.", 5, "Resolution")
    ] = Number(value=100)
    bulge: Annotated[Number, timed_spec("%", 0, 400, "How round it stands out.", 5)] = Number(value=100)
    depth: Annotated[
        Number,
        timed_spec(
            "%",
            0,
            400,
            "How much it is shaped by how near its particles are, besides how thick it is.",
            5,
            "Shaped by depth",
        ),
    ] = Number(value=0)
    light_from: Annotated[Number, timed_spec("°", -36_000, 36_000, "Where the light comes from; 90 is up.", 5)] = (
        Number(value=120)
    )
    light_height: Annotated[Number, timed_spec("°", 0, 90, "Over the picture; 90: from the viewer.", 5)] = Number(
        value=40
    )
    light_colour: Hex = "#ffffff"
    shade: Annotated[Number, timed_spec("%", 0, 100, "How dark it is where it faces away.", 5)] = Number(value=60)
    shade_colour: Hex = "#26303c"
    highlight: Annotated[Number, timed_spec("%", 0, 1000, "Of the light that it mirrors.", 5)] = Number(value=60)
    gloss: Annotated[Number, timed_spec("", 1, 400, "The higher, the smaller the highlight.", 4)] = Number(value=48)
    surroundings: Annotated[
        Number, timed_spec("%", 0, 400, "How much it mirrors sky and ground: metal all over, all else at its rim.", 5)
    ] = Number(value=0)
    sky_colour: Hex = "#bcd3e6"
    ground_colour: Hex = "#2a2622"
    colours: Literal["of the particles", "by thickness"] = Field(
        default="of the particles", description="by thickness: from thin to thick, whatever colour the particles have."
    )
    thin_colour: Annotated[Hex, ShownIf("colours", "by thickness")] = "#fff1d6"
    thick_colour: Annotated[Hex, ShownIf("colours", "by thickness")] = "#8a3c12"
    thick_at: Annotated[
        Number,
        timed_spec("×", 0.4, 100, "How many of a ball's middle it is thick, where it has the second colour.", 0.1),
        ShownIf("colours", "by thickness"),
    ] = Number(value=2)
    clarity: Annotated[
        Number,
        timed_spec("%", 0, 100, "How much of what lies below is seen.", 5),
        ShownIf("material", "water", "glass"),
    ] = Number(value=80)
    refraction: Annotated[
        Number, timed_spec("px", 0, 400, "How far what lies below is bent.", 1), ShownIf("material", "water", "glass")
    ] = Number(value=18)


class Lines(Part):
    """Lines between neighbours."""

    on: bool = True
    distance: Annotated[Number, _set("px", 0, 10_000, "At most from one to the other.")] = Number(value=90)
    most: int = Field(default=4, ge=1, le=32, title="Maximum lines", description="Lines of one particle, at most.")
    width: Annotated[Number, _set("px", 0, 200, "", 0.1)] = Number(value=1.2)
    opacity: Annotated[Number, _set("%", 0, 100, "Of the particles' own, between close neighbours.")] = Number(value=70)
    fade: Annotated[Number, _set("%", 0, 100, "How much of it is gone at the distance.")] = Number(value=100)
    softness: Annotated[Number, Softness] = Number(value=50)
    bodies: bool = Field(default=True, title="Bodies shown", description="Show the bodies too.")
