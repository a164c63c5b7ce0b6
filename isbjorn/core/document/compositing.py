"""What makes particles sit in the picture: groups with a finish of their own, lights, and what hides them."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.base import Gripped, MediaName, Part, RefTo, ShownIf, new_id
from isbjorn.core.document.bodies import Skin
from isbjorn.core.document.effects import Hex
from isbjorn.core.document.placed import FAR, PathPoint, Placed
from isbjorn.core.document.unions import Finish
from isbjorn.core.document.values import Number, timed_spec

Blend = Literal[
    "normal", "add", "screen", "multiply", "darken", "lighten", "overlay", "hard light", "soft light", "dodge", "burn",
    "difference", "exclusion", "hue", "saturation", "colour", "luminosity",
]  # fmt: skip


class Use(Part):
    """What a layer of particles does to what lies below it, or to one thing of the cast."""

    kind: Literal["picture", "glass", "matte", "cut", "displacement"] = Field(
        default="picture",
        description="picture: it is seen; glass: it bends what lies below; matte: only under it is seen what it is for; "
        "cut: it takes away; displacement: its red and green push to the right and upward.",
    )
    of: Annotated[str | None, RefTo(("emitters", "groups"), words=("plate",))] = Field(
        default=None, max_length=60, title="Applies to", description="An emitter, a group or `plate`; empty: all below."
    )
    amount: Annotated[
        Number,
        timed_spec("px", -4000, 4000, "How far glass and displacement push."),
        ShownIf("kind", "glass", "displacement"),
    ] = Number(value=24)


class Group(Part):
    """Emitters that are finished together. They are drawn where the first of them stands in the cast."""

    id: str = Field(default_factory=lambda: new_id("group"), min_length=1, max_length=60)
    name: str = Field(default="Group", min_length=1, max_length=80)
    on: bool = True
    blend: Blend = "normal"
    use: Use = Field(default_factory=Use)
    skin: Skin | None = Field(
        default=None, description="One smooth surface over the particles of all its members, in place of their bodies."
    )
    finish: Finish = ()


class Lamp(Placed):
    """A light: particles that wait for light are seen where it falls."""

    id: str = Field(default_factory=lambda: new_id("light"), min_length=1, max_length=60)
    name: str = Field(default="Light", min_length=1, max_length=80)
    on: bool = True
    strength: Annotated[Number, timed_spec("%", 0, 10_000, "At its centre.")] = Number(value=100)
    radius: Annotated[Number, timed_spec("px", 0, FAR, "As far as it is full."), Gripped()] = Number(value=40)
    falloff: Annotated[Number, timed_spec("px", 0, FAR, "From there to nothing.")] = Number(value=200)
    power: Annotated[
        Number, timed_spec("", 0.1, 8, "How fast it falls: 1 evenly, 2 as light does.", 0.1, "Falloff exponent")
    ] = Number(value=2)
    colour: Hex = "#ffffff"


class Matte(Placed):
    """What hides particles: where it is full, they lie behind."""

    id: str = Field(default_factory=lambda: new_id("matte"), min_length=1, max_length=60)
    name: str = Field(default="Matte", min_length=1, max_length=80)
    on: bool = True
    kind: Literal["shape", "bright", "dark", "colour", "file"] = Field(
        default="shape", description="A drawn shape; the plate where it is bright, dark or of a colour; a file."
    )
    form: Annotated[Literal["rectangle", "ellipse", "path"], ShownIf("kind", "shape")] = Field(
        default="rectangle", description="Of a drawn shape."
    )
    width: Annotated[
        Number,
        timed_spec("px", 0, FAR, "Side to side."),
        ShownIf("kind", "shape"),
        ShownIf("form", "rectangle", "ellipse"),
        Gripped(factor=2.0),
    ] = Number(value=300)
    height: Annotated[
        Number,
        timed_spec("px", 0, FAR, "Top to bottom."),
        ShownIf("kind", "shape"),
        ShownIf("form", "rectangle", "ellipse"),
        Gripped((0.0, 1.0), 2.0),
    ] = Number(value=200)
    points: Annotated[tuple[PathPoint, ...], ShownIf("kind", "shape"), ShownIf("form", "path")] = Field(
        default=(PathPoint(x=-150, y=-100), PathPoint(x=0, y=120), PathPoint(x=150, y=-100)),
        min_length=3, max_length=512, description="Of a path, closed.",
    )  # fmt: skip
    feather: Annotated[Number, timed_spec("px", 0, 4000, "Softness of its edge.")] = Number(value=4)
    low: Annotated[
        Number,
        timed_spec("%", 0, 100, "Below: not at all. Of the plate's brightness as encoded.", title="From brightness"),
        ShownIf("kind", "bright", "dark"),
    ] = Number(value=45)
    high: Annotated[
        Number, timed_spec("%", 0, 100, "Above: in full.", title="To brightness"), ShownIf("kind", "bright", "dark")
    ] = Number(value=60)
    colour: Annotated[Hex, ShownIf("kind", "colour")] = "#2b3a2a"
    near: Annotated[
        Number,
        timed_spec("%", 0, 100, "Colours so near to it count in full.", 0.5, "Tolerance"),
        ShownIf("kind", "colour"),
    ] = Number(value=6)
    soft: Annotated[
        Number, timed_spec("%", 0, 100, "From there to not at all.", 0.5, "Softness"), ShownIf("kind", "colour")
    ] = Number(value=6)
    media: MediaName = Field(default="", description="A picture, sequence or movie.")
    channel: Annotated[Literal["alpha", "brightness"], ShownIf("kind", "file")] = Field(
        default="brightness", description="Of the file."
    )
    inverted: bool = False
