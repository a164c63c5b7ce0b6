"""What a particle is drawn as. The engine side of each kind is one entry in `isbjorn.core.render.scene.bodies`."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.fields.base import MediaName, Part, ShownAs, ShownIf
from isbjorn.core.document.fields.kinds import BODIES, shown
from isbjorn.core.document.fields.outlines import Outlines
from isbjorn.core.document.fields.values import Number, Spec, timed_spec
from isbjorn.core.document.parts.effects import Hex


def _set(unit: str, low: float, high: float, help: str, step: float = 1.0, title: str = "") -> Spec:
    """A number that shapes a body: one setting for all of them."""
    return Spec(unit=unit, low=low, high=high, clock="none", step=step, spread=False, help=help, title=title)


# A herring, until another drawing is chosen.
_FISH = "M50 0C30-22-10-22-30-4L-50-18V18L-30 4C-10 22 30 22 50 0Z"

Softness = _set("%", 0, 100, "Share of the body over which its edge fades out, in per cent.")


class OneBody(Part):
    """What every body has."""

    weight: Annotated[float, ShownAs()] = Field(
        default=1.0, ge=0, le=1000, description="Weight of this body when several bodies are mixed."
    )

    @property
    def disc(self) -> tuple[bool, float] | None:
        """Of a disc: whether its edge is hard, and the part of its radius that is fully covered, from 0 to 1."""
        return None

    @property
    def pictures(self) -> tuple[str, ...]:
        """The picture files that are read to draw it."""
        return ()


@BODIES.register("isbjorn.core.render.scene.bodies:round_mask")
class Round(OneBody):
    """A disc: soft, with an inner radius that is full, or hard."""

    model_config = shown("Disc")
    kind: Literal["soft disc", "hard disc"] = "soft disc"
    softness: Annotated[
        Number,
        _set("%", 0, 100, "Share of the radius over which the edge fades out, in per cent."),
        ShownIf("kind", "soft disc"),
    ] = Number(value=100)

    @property
    def disc(self) -> tuple[bool, float] | None:
        return (True, 1.0) if self.kind == "hard disc" else (False, 1.0 - self.softness.value / 100)


# What is drawn in place of a body that is missing, or that is drawn in another way.
STAND_IN = Round()


@BODIES.register("isbjorn.core.render.scene.bodies:ring")
class Ring(OneBody):
    """A ring."""

    model_config = shown("Ring")
    kind: Literal["ring"] = "ring"
    width: Annotated[Number, _set("%", 1, 100, "Thickness of the line, in per cent of the radius.")] = Number(value=22)
    softness: Annotated[Number, Softness] = Number(value=30)


@BODIES.register("isbjorn.core.render.scene.bodies:star")
class Star(OneBody):
    """A star with points, or a regular polygon where its points are as flat as can be."""

    model_config = shown("Star")
    kind: Literal["star"] = "star"
    points: int = Field(default=5, ge=3, le=24)
    inner: Annotated[
        Number,
        _set(
            "%",
            5,
            100,
            "Distance of the inner corners from the centre, in per cent of the outer radius.",
            title="Inner corners",
        ),
    ] = Number(value=42)
    softness: Annotated[Number, Softness] = Number(value=8)


@BODIES.register("isbjorn.core.render.scene.bodies:spark")
class Spark(OneBody):
    """A bright core with rays."""

    model_config = shown("Spark")
    kind: Literal["spark"] = "spark"
    rays: int = Field(default=4, ge=2, le=16)
    core: Annotated[Number, _set("%", 2, 80, "Radius of the glowing core, in per cent of the whole radius.")] = Number(
        value=22
    )
    thin: Annotated[
        Number, _set("%", 1, 100, "How thin the rays are; higher values make them thinner.", title="Thin rays")
    ] = Number(value=70)


@BODIES.register("isbjorn.core.render.scene.bodies:puff")
class Puff(OneBody):
    """A soft cloud with a fractal edge; each particle takes one of several."""

    model_config = shown("Puff")
    kind: Literal["puff"] = "puff"
    rough: Annotated[
        Number, _set("%", 0, 100, "How deeply the edge is eaten away, in per cent.", title="Rough edge")
    ] = Number(value=55)
    detail: int = Field(default=4, ge=1, le=7, description="Number of noise octaves in the rough edge.")
    softness: Annotated[Number, Softness] = Number(value=70)
    variants: int = Field(default=6, ge=1, le=16, description="Number of different shapes that particles choose from.")
    seed: int = Field(default=1, ge=0, le=2**31)


@BODIES.register("isbjorn.core.render.scene.bodies:drop")
class Drop(OneBody):
    """A drop, its point away from where it faces."""

    model_config = shown("Drop")
    kind: Literal["drop"] = "drop"
    slender: Annotated[
        Number, _set("%", 0, 90, "Width of the drop compared with a circle: higher values make it narrower.")
    ] = Number(value=45)
    softness: Annotated[Number, Softness] = Number(value=25)


@BODIES.register("isbjorn.core.render.scene.bodies:square")
class Square(OneBody):
    """A square or a rectangle."""

    model_config = shown("Square")
    kind: Literal["square"] = "square"
    aspect: Annotated[Number, _set("%", 1, 100, "Height in per cent of the width.")] = Number(value=100)
    rounded: Annotated[Number, _set("%", 0, 100, "Rounding of the corners, in per cent.")] = Number(value=0)
    softness: Annotated[Number, Softness] = Number(value=4)


@BODIES.register("isbjorn.core.render.scene.bodies:shard")
class Shard(OneBody):
    """A splinter with straight edges; each particle takes one of several."""

    model_config = shown("Shard")
    kind: Literal["shard"] = "shard"
    corners: int = Field(default=5, ge=3, le=10)
    slender: Annotated[Number, _set("%", 0, 90, "How much narrower than round the shard is, in per cent.")] = Number(
        value=40
    )
    softness: Annotated[Number, Softness] = Number(value=4)
    variants: int = Field(default=8, ge=1, le=16, description="Number of different shapes that particles choose from.")
    seed: int = Field(default=1, ge=0, le=2**31)


@BODIES.register("isbjorn.core.render.scene.bodies:streak")
class Streak(OneBody):
    """A line of light, brightest in its middle or at its head."""

    model_config = shown("Streak")
    kind: Literal["streak"] = "streak"
    width: Annotated[Number, _set("%", 1, 100, "Width of the streak in per cent of its length.")] = Number(value=16)
    head: Annotated[
        Number,
        _set("%", 0, 100, "How far the light is shifted toward the head, in per cent.", title="Light toward head"),
    ] = Number(value=50)
    softness: Annotated[Number, Softness] = Number(value=80)


@BODIES.register("isbjorn.core.render.scene.bodies:arrow")
class Arrow(OneBody):
    """An arrow that points where it faces."""

    model_config = shown("Arrow")
    kind: Literal["arrow"] = "arrow"
    shaft: Annotated[Number, _set("%", 1, 100, "Thickness of the shaft in per cent of the arrow's length.")] = Number(
        value=16
    )
    head: Annotated[
        Number, _set("%", 5, 100, "Length of the head in per cent of the arrow's length.", title="Head length")
    ] = Number(value=45)
    wide: Annotated[
        Number, _set("%", 2, 100, "Width of the head in per cent of the arrow's length.", title="Head width")
    ] = Number(value=56)
    softness: Annotated[Number, Softness] = Number(value=4)


@BODIES.register("isbjorn.core.render.scene.bodies:artwork")
class ArtworkBody(OneBody):
    """The filled outlines of an SVG drawing, which faces to the right."""

    model_config = shown("SVG artwork")
    kind: Literal["artwork"] = "artwork"
    paths: Annotated[Outlines, ShownAs("drawing")] = Field(
        default=(_FISH,), min_length=1, max_length=2000, description="SVG path data; y points down."
    )
    name: Annotated[str, ShownAs()] = Field(
        default="", max_length=200, description="Name of the file that the outlines came from."
    )


_MOVES = ShownIf("plays", "together", "from birth", "by age")


@BODIES.register("isbjorn.core.render.scene.atlas:FromFile")
class PictureBody(OneBody):
    """A picture, a numbered sequence or a movie."""

    model_config = shown("Sprite", "M4 5h16v14H4zM4 15l5-4 4 3 3-2 4 3", needs="media")
    kind: Literal["picture"] = "picture"
    media: Annotated[MediaName, ShownAs("picture")] = Field(
        default="", title="File", description="Picture file, or a numbered sequence such as `leaf.###.png`."
    )
    plays: Literal["together", "from birth", "by age", "one of them"] = Field(
        default="together",
        description="How the frames are played. together: all particles show the shot's current frame; "
        "from birth: each particle starts at the first frame when it is born; by age: the "
        "sequence plays once over the particle's life; one of them: each particle keeps one "
        "frame.",
    )
    random_start: Annotated[bool, _MOVES] = Field(default=False, description="Starts each particle at a random frame.")
    speed: Annotated[Number, _set("%", -1000, 1000, "Playback speed; negative values play backward."), _MOVES] = Number(
        value=100
    )
    rate: Annotated[
        Number,
        _set("/s", 0, 240, "Frames per second of the sequence; 0 uses the file's own rate, or the shot's."),
        _MOVES,
    ] = Number(value=0)
    tinted: bool = Field(
        default=True, title="Tint", description="Multiplies the picture's colours by the particle's colour."
    )

    @property
    def pictures(self) -> tuple[str, ...]:
        return (self.media,) if self.media else ()


@BODIES.register("isbjorn.core.render.scene.atlas:FromText")
class Words(OneBody):
    """Letters or words of a text, one to each particle."""

    model_config = shown("Text")
    kind: Literal["words"] = "words"
    text: str = Field(default="Isbjorn", min_length=1, max_length=2000)
    split: Literal["letters", "words"] = Field(
        default="letters", title="Split by", description="What each particle shows: a letter, a word or the whole text."
    )
    deal: Literal["readable", "as born", "random"] = Field(
        default="readable",
        title="Order",
        description="Which part of the text each particle gets. readable: the text reads in order "
        "whichever way the particles fly; as born: in order of birth; random: any part.",
    )
    font: Annotated[MediaName, ShownAs("font")] = Field(
        default="", description="Font file from the library; empty for the built-in font."
    )


class Trail(Part):
    """Each particle draws its path as a line behind it."""

    on: bool = True
    by: Literal["frames", "px"] = "frames"
    length: Annotated[Number, _set("", 0.1, 10_000, "Length of the trail, in frames or px.")] = Number(value=12)
    width: Annotated[
        Number, _set("%", 0, 1000, "Width of the trail at the particle, in per cent of the particle's size.")
    ] = Number(value=60)
    tail: Annotated[
        Number,
        _set(
            "%", 0, 1000, "Width of the trail at its end, in per cent of its width at the particle.", title="Tail width"
        ),
    ] = Number(value=0)
    opacity: Annotated[
        Number, _set("%", 0, 100, "Opacity of the trail at the particle, in per cent of the particle's opacity.")
    ] = Number(value=100)
    fade: Annotated[
        Number, _set("%", 0, 100, "How much of its opacity the trail has lost at its end, in per cent.")
    ] = Number(value=100)
    glow: Annotated[Number, _set("%", 0, 1000, "Strength of a wider, softer line around the trail, in per cent.")] = (
        Number(value=0)
    )
    softness: Annotated[Number, Softness] = Number(value=60)
    colours: Literal["of its head", "of each age"] = Field(
        default="of its head",
        description="Colour of the trail. of each age: every point keeps the colour that the particle had there.",
    )
    after_death: Literal["ends with it", "is caught up"] = Field(
        default="is caught up",
        title="Trail after death",
        description="What happens to the trail when its particle dies. is caught up: it shortens toward "
        "the place of death.",
    )
    head_waits: bool = Field(
        default=False,
        title="Head waits for trail",
        description="Keeps the body in place after death until the trail has caught up.",
    )
    head_shown: bool = True


class Heads(Part):
    """More heads along the same way, offset in time."""

    on: bool = True
    count: int = Field(default=3, ge=1, le=24, title="Repeats")
    gap_s: float = Field(
        default=0.08, gt=0, le=60, title="Time offset", description="Time between one repeat and the next, in seconds."
    )
    size: Annotated[Number, _set("%", 0, 200, "Size of each repeat, in per cent of the previous one.")] = Number(
        value=85
    )
    opacity: Annotated[Number, _set("%", 0, 200, "Opacity of each repeat, in per cent of the previous one.")] = Number(
        value=75
    )


class Skin(Part):
    """One smooth surface over all of them, in place of their bodies: drops that join to a liquid."""

    on: bool = True
    material: Literal["milk", "metal", "water", "glass"] = Field(
        default="milk",
        description="Material of the surface. Milk and metal are opaque; water and glass show and bend "
        "what lies below.",
    )
    girth: Annotated[
        Number,
        timed_spec(
            "%",
            5,
            1000,
            "Radius of the ball that each particle contributes, as a multiple of the particle's size.",
            5,
            "Radius factor",
        ),
    ] = Number(value=100)
    level: Annotated[
        Number,
        timed_spec(
            "%", 5, 95, "Density at which the surface lies; lower values join particles that are farther apart.", 1
        ),
    ] = Number(value=35)
    smoothing: Annotated[
        Number, timed_spec("px", 0, 400, "Distance over which the surface is smoothed, in px.", 0.5)
    ] = Number(value=3)
    detail: Annotated[
        Number,
        timed_spec(
            "%",
            10,
            100,
            "Resolution of the surface, in per cent of the picture's; lower values are faster and softer.",
            5,
            "Resolution",
        ),
    ] = Number(value=100)
    bulge: Annotated[Number, timed_spec("%", 0, 400, "How far the surface bulges toward the viewer.", 5)] = Number(
        value=100
    )
    depth: Annotated[
        Number,
        timed_spec(
            "%",
            0,
            400,
            "How much the depth of the particles shapes the surface, in addition to its thickness.",
            5,
            "Shaped by depth",
        ),
    ] = Number(value=0)
    light_from: Annotated[
        Number,
        timed_spec("°", -36_000, 36_000, "Direction that the light comes from, in degrees; 90 is from above.", 5),
    ] = Number(value=120)
    light_height: Annotated[
        Number,
        timed_spec("°", 0, 90, "Height of the light above the picture plane, in degrees; 90 is from the viewer.", 5),
    ] = Number(value=40)
    light_colour: Hex = "#ffffff"
    shade: Annotated[Number, timed_spec("%", 0, 100, "How dark the side away from the light is, in per cent.", 5)] = (
        Number(value=60)
    )
    shade_colour: Hex = "#26303c"
    highlight: Annotated[Number, timed_spec("%", 0, 1000, "Strength of the highlight, in per cent.", 5)] = Number(
        value=60
    )
    gloss: Annotated[
        Number, timed_spec("", 1, 400, "Sharpness of the highlight; higher values make it smaller.", 4)
    ] = Number(value=48)
    surroundings: Annotated[
        Number,
        timed_spec(
            "%",
            0,
            400,
            "How strongly sky and ground are reflected: all over for metal, at the rim for the other materials.",
            5,
        ),
    ] = Number(value=0)
    sky_colour: Hex = "#bcd3e6"
    ground_colour: Hex = "#2a2622"
    colours: Literal["of the particles", "by thickness"] = Field(
        default="of the particles",
        description="Colour of the surface. by thickness: from thin to thick, whatever colours the particles have.",
    )
    thin_colour: Annotated[Hex, ShownIf("colours", "by thickness")] = "#fff1d6"
    thick_colour: Annotated[Hex, ShownIf("colours", "by thickness")] = "#8a3c12"
    thick_at: Annotated[
        Number,
        timed_spec(
            "×", 0.4, 100, "Thickness, in multiples of one ball's middle, at which the second colour is reached.", 0.1
        ),
        ShownIf("colours", "by thickness"),
    ] = Number(value=2)
    clarity: Annotated[
        Number,
        timed_spec("%", 0, 100, "How much of what lies below shows through, in per cent.", 5),
        ShownIf("material", "water", "glass"),
    ] = Number(value=80)
    refraction: Annotated[
        Number,
        timed_spec("px", 0, 400, "How far the surface bends what lies below, in px.", 1),
        ShownIf("material", "water", "glass"),
    ] = Number(value=18)


class Lines(Part):
    """Lines between neighbours."""

    on: bool = True
    distance: Annotated[Number, _set("px", 0, 10_000, "Maximum distance between two connected particles, in px.")] = (
        Number(value=90)
    )
    most: int = Field(
        default=4, ge=1, le=32, title="Maximum lines", description="Maximum number of lines per particle."
    )
    width: Annotated[Number, _set("px", 0, 200, "Width of the lines, in px.", 0.1)] = Number(value=1.2)
    opacity: Annotated[
        Number, _set("%", 0, 100, "Opacity of lines between close neighbours, in per cent of the particles' opacity.")
    ] = Number(value=70)
    fade: Annotated[
        Number, _set("%", 0, 100, "How much of its opacity a line has lost at the maximum distance, in per cent.")
    ] = Number(value=100)
    softness: Annotated[Number, Softness] = Number(value=50)
    bodies: bool = Field(default=True, title="Bodies shown", description="Draws the bodies as well as the lines.")
