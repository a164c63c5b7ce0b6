"""What a particle is drawn as. The engine side of each kind is one entry in `isbjorn.core.render.scene.bodies`."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.fields.base import MediaName, Part, ShownAs, ShownIf
from isbjorn.core.document.fields.kinds import BODIES, shown
from isbjorn.core.document.fields.outlines import Outlines
from isbjorn.core.document.fields.values import Number, setting_spec

# A herring, until another drawing is chosen.
_FISH = "M50 0C30-22-10-22-30-4L-50-18V18L-30 4C-10 22 30 22 50 0Z"

Softness = setting_spec("%", 0, 100, "Share of the body over which its edge fades out, in per cent.")


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
        setting_spec("%", 0, 100, "Share of the radius over which the edge fades out, in per cent."),
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
    width: Annotated[Number, setting_spec("%", 1, 100, "Thickness of the line, in per cent of the radius.")] = Number(
        value=22
    )
    softness: Annotated[Number, Softness] = Number(value=30)


@BODIES.register("isbjorn.core.render.scene.bodies:star")
class Star(OneBody):
    """A star with points, or a regular polygon where its points are as flat as can be."""

    model_config = shown("Star")
    kind: Literal["star"] = "star"
    points: int = Field(default=5, ge=3, le=24)
    inner: Annotated[
        Number,
        setting_spec(
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
    core: Annotated[
        Number, setting_spec("%", 2, 80, "Radius of the glowing core, in per cent of the whole radius.")
    ] = Number(value=22)
    thin: Annotated[
        Number, setting_spec("%", 1, 100, "How thin the rays are; higher values make them thinner.", title="Thin rays")
    ] = Number(value=70)


@BODIES.register("isbjorn.core.render.scene.bodies:puff")
class Puff(OneBody):
    """A soft cloud with a fractal edge; each particle takes one of several."""

    model_config = shown("Puff")
    kind: Literal["puff"] = "puff"
    rough: Annotated[
        Number, setting_spec("%", 0, 100, "How deeply the edge is eaten away, in per cent.", title="Rough edge")
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
        Number, setting_spec("%", 0, 90, "Width of the drop compared with a circle: higher values make it narrower.")
    ] = Number(value=45)
    softness: Annotated[Number, Softness] = Number(value=25)


@BODIES.register("isbjorn.core.render.scene.bodies:square")
class Square(OneBody):
    """A square or a rectangle."""

    model_config = shown("Square")
    kind: Literal["square"] = "square"
    aspect: Annotated[Number, setting_spec("%", 1, 100, "Height in per cent of the width.")] = Number(value=100)
    rounded: Annotated[Number, setting_spec("%", 0, 100, "Rounding of the corners, in per cent.")] = Number(value=0)
    softness: Annotated[Number, Softness] = Number(value=4)


@BODIES.register("isbjorn.core.render.scene.bodies:shard")
class Shard(OneBody):
    """A splinter with straight edges; each particle takes one of several."""

    model_config = shown("Shard")
    kind: Literal["shard"] = "shard"
    corners: int = Field(default=5, ge=3, le=10)
    slender: Annotated[Number, setting_spec("%", 0, 90, "How much narrower than round the shard is, in per cent.")] = (
        Number(value=40)
    )
    softness: Annotated[Number, Softness] = Number(value=4)
    variants: int = Field(default=8, ge=1, le=16, description="Number of different shapes that particles choose from.")
    seed: int = Field(default=1, ge=0, le=2**31)


@BODIES.register("isbjorn.core.render.scene.bodies:streak")
class Streak(OneBody):
    """A line of light, brightest in its middle or at its head."""

    model_config = shown("Streak")
    kind: Literal["streak"] = "streak"
    width: Annotated[Number, setting_spec("%", 1, 100, "Width of the streak in per cent of its length.")] = Number(
        value=16
    )
    head: Annotated[
        Number,
        setting_spec(
            "%", 0, 100, "How far the light is shifted toward the head, in per cent.", title="Light toward head"
        ),
    ] = Number(value=50)
    softness: Annotated[Number, Softness] = Number(value=80)


@BODIES.register("isbjorn.core.render.scene.bodies:arrow")
class Arrow(OneBody):
    """An arrow that points where it faces."""

    model_config = shown("Arrow")
    kind: Literal["arrow"] = "arrow"
    shaft: Annotated[Number, setting_spec("%", 1, 100, "Thickness of the shaft in per cent of the arrow's length.")] = (
        Number(value=16)
    )
    head: Annotated[
        Number, setting_spec("%", 5, 100, "Length of the head in per cent of the arrow's length.", title="Head length")
    ] = Number(value=45)
    wide: Annotated[
        Number, setting_spec("%", 2, 100, "Width of the head in per cent of the arrow's length.", title="Head width")
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
        default="", title="Sprite file", description="Picture file, or a numbered sequence such as `leaf.###.png`."
    )
    plays: Literal["together", "from birth", "by age", "one of them"] = Field(
        default="together",
        description="How the frames are played. together: all particles show the shot's current frame; "
        "from birth: each particle starts at the first frame when it is born; by age: the "
        "sequence plays once over the particle's life; one of them: each particle keeps one "
        "frame.",
    )
    random_start: Annotated[bool, _MOVES] = Field(default=False, description="Starts each particle at a random frame.")
    speed: Annotated[
        Number, setting_spec("%", -1000, 1000, "Playback speed; negative values play backward."), _MOVES
    ] = Number(value=100)
    rate: Annotated[
        Number,
        setting_spec("/s", 0, 240, "Frames per second of the sequence; 0 uses the file's own rate, or the shot's."),
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
