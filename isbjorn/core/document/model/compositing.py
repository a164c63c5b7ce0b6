"""What makes particles sit in the picture: groups with a finish of their own, lights, and what hides them."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.emitter_parts.skin import Skin
from isbjorn.core.document.fields.base import Gripped, MediaName, Part, RefTo, ShownAs, ShownIf, new_id
from isbjorn.core.document.fields.placed import FAR, PathPoint, Placed
from isbjorn.core.document.fields.values import Number, timed_spec
from isbjorn.core.document.model.unions import Finish
from isbjorn.core.document.parts.effects import Hex
from isbjorn.core.document.parts.materials import Material
from isbjorn.core.document.parts.solids import ModelSize, Solid, TurnX, TurnY

Blend = Literal[
    "normal", "add", "screen", "multiply", "darken", "lighten", "overlay", "hard light", "soft light", "dodge", "burn",
    "difference", "exclusion", "hue", "saturation", "colour", "luminosity",
]  # fmt: skip


class Use(Part):
    """How a layer of particles changes the layers below it, or one thing of the cast."""

    kind: Literal["picture", "glass", "matte", "cut", "displacement"] = Field(
        default="picture",
        description="How the layer is used. picture: it is seen; glass: it bends what lies below; matte: "
        "what it is applied to is seen only where the layer is; cut: it removes what it is "
        "applied to; displacement: its red and green push to the right and upward.",
    )
    of: Annotated[str | None, RefTo(("emitters", "groups"), words=("plate",))] = Field(
        default=None,
        max_length=60,
        title="Applies to",
        description="The emitter, group or `plate` that it is applied to; empty for everything below.",
    )
    amount: Annotated[
        Number,
        timed_spec("px", -4000, 4000, "How far glass and displacement push, in px."),
        ShownIf("kind", "glass", "displacement"),
    ] = Number(value=24)


class Group(Part):
    """Emitters that are finished together, drawn at the place of the first of them in the cast."""

    id: str = Field(default_factory=lambda: new_id("group"), min_length=1, max_length=60)
    name: str = Field(default="Group", min_length=1, max_length=80)
    on: bool = True
    blend: Blend = "normal"
    use: Use = Field(default_factory=Use)
    skin: Skin | None = Field(
        default=None, description="Draws one smooth surface over the particles of all members, instead of their bodies."
    )
    finish: Finish = ()


class Lamp(Placed):
    """A light: particles that wait for light are seen where it falls."""

    id: str = Field(default_factory=lambda: new_id("light"), min_length=1, max_length=60)
    name: str = Field(default="Light", min_length=1, max_length=80)
    on: bool = True
    strength: Annotated[Number, timed_spec("%", 0, 10_000, "Brightness at the centre of the light, in per cent.")] = (
        Number(value=100)
    )
    radius: Annotated[
        Number, timed_spec("px", 0, FAR, "Radius within which the light has its full brightness, in px."), Gripped()
    ] = Number(value=40)
    falloff: Annotated[
        Number, timed_spec("px", 0, FAR, "Distance beyond the radius at which the light has faded to nothing, in px.")
    ] = Number(value=200)
    power: Annotated[
        Number,
        timed_spec(
            "",
            0.1,
            8,
            "How quickly the light fades: 1 is linear, 2 is the square law of real light.",
            0.1,
            "Falloff exponent",
        ),
    ] = Number(value=2)
    colour: Hex = "#ffffff"


class Matte(Placed):
    """Hides the particles that are behind it, where it is opaque."""

    id: str = Field(default_factory=lambda: new_id("matte"), min_length=1, max_length=60)
    name: str = Field(default="Matte", min_length=1, max_length=80)
    on: bool = True
    kind: Literal["shape", "bright", "dark", "colour", "file", "depth", "model"] = Field(
        default="shape",
        description="What the matte is made from: a drawn shape, the plate where it is bright, dark or of "
        "a colour, a file, the depth of the plate, or a model in depth. The last two hide only what is behind them.",
    )
    media: Annotated[MediaName, ShownIf("kind", "file", "depth"), ShownAs("picture")] = Field(
        default="", title="Matte file", description="Picture, sequence or movie that the matte is read from."
    )
    model: Annotated[Solid, ShownIf("kind", "model"), ShownAs("part")] = Field(
        default=Solid(), description="Form of the matte."
    )
    size: Annotated[ModelSize, ShownIf("kind", "model"), Gripped(factor=2.0)] = Number(value=300)
    turn_x: Annotated[TurnX, ShownIf("kind", "model")] = Number(value=0)
    turn_y: Annotated[TurnY, ShownIf("kind", "model")] = Number(value=0)
    visible: Annotated[bool, ShownIf("kind", "model")] = Field(
        default=False,
        title="Show the model",
        description="Draws the model itself, under all particles. Without it, the model stands for something in the plate.",
    )
    tint: Annotated[Hex, ShownIf("kind", "model")] = Field(
        default="#b4b4b4", title="Surface colour", description="Colour of the model, and of the light that falls on it."
    )
    catches: Annotated[
        Number,
        timed_spec("%", 0, 10_000, "Light of the particles that falls on the model, in per cent.", 10, "Caught light"),
        ShownIf("kind", "model"),
    ] = Number(value=0)
    lit_by: Annotated[tuple[str, ...], RefTo(("emitters",), none="Those that it hides"), ShownIf("kind", "model")] = (
        Field(
            title="Lit by", default=(), max_length=64,
            description="Emitters whose light falls on the model; without any, those that it hides.",
        )
    )  # fmt: skip
    look: Annotated[Material, ShownIf("kind", "model"), ShownIf("visible", True), ShownAs("part")] = Field(
        default=Material(), description="Material of the model, if it is shown."
    )
    margin: Annotated[
        Number,
        timed_spec(
            "px",
            0,
            FAR,
            "How far behind the surface a particle has to be to be hidden, in px: lights on the surface stay.",
            title="Depth margin",
        ),
        ShownIf("kind", "model", "depth"),
    ] = Number(value=0)
    values: Annotated[Literal["grey", "distance"], ShownIf("kind", "depth")] = Field(
        default="grey",
        title="Depth values",
        description="What the file holds. grey: white is near, and black is infinitely far; distance: the distance from the "
        "camera, as in the channel Z of an EXR.",
    )
    white: Annotated[
        Number, timed_spec("px", -FAR, FAR, "Position Z of what is white, in px.", 10, "Z of white"), ShownIf("kind", "depth"),
        ShownIf("values", "grey"),
    ] = Number(value=300)  # fmt: skip
    black: Annotated[
        Number, timed_spec("px", -FAR, FAR, "Position Z of what is almost black, in px.", 10, "Z of black"),
        ShownIf("kind", "depth"), ShownIf("values", "grey"),
    ] = Number(value=-1500)  # fmt: skip
    unit: Annotated[
        Number, timed_spec("px", 0, FAR, "Size of the file's unit of distance, in px: 100 for metres at 100 px per metre."),
        ShownIf("kind", "depth"), ShownIf("values", "distance"),
    ] = Number(value=100)  # fmt: skip
    fade: Annotated[
        Number,
        timed_spec("px", 0, FAR, "Depth over which particles fade out as they pass behind something, in px.", title="Depth fade"),
        ShownIf("kind", "depth"),
    ] = Number(value=20)  # fmt: skip
    form: Annotated[Literal["rectangle", "ellipse", "path"], ShownIf("kind", "shape")] = Field(
        default="rectangle", description="Outline of a drawn matte."
    )
    width: Annotated[
        Number,
        timed_spec("px", 0, FAR, "Width of the shape, in px."),
        ShownIf("kind", "shape"),
        ShownIf("form", "rectangle", "ellipse"),
        Gripped(factor=2.0),
    ] = Number(value=300)
    height: Annotated[
        Number,
        timed_spec("px", 0, FAR, "Height of the shape, in px."),
        ShownIf("kind", "shape"),
        ShownIf("form", "rectangle", "ellipse"),
        Gripped((0.0, 1.0), 2.0),
    ] = Number(value=200)
    points: Annotated[tuple[PathPoint, ...], ShownIf("kind", "shape"), ShownIf("form", "path"), ShownAs("points")] = Field(
        default=(PathPoint(x=-150, y=-100), PathPoint(x=0, y=120), PathPoint(x=150, y=-100)),
        min_length=3, max_length=512, description="Points of a closed path.",
    )  # fmt: skip
    feather: Annotated[Number, timed_spec("px", 0, 4000, "Softness of the edge, in px.")] = Number(value=4)
    low: Annotated[
        Number,
        timed_spec(
            "%",
            0,
            100,
            "Brightness of the plate, as encoded, below which the matte is empty, in per cent.",
            title="From brightness",
        ),
        ShownIf("kind", "bright", "dark"),
    ] = Number(value=45)
    high: Annotated[
        Number,
        timed_spec(
            "%",
            0,
            100,
            "Brightness of the plate, as encoded, above which the matte is full, in per cent.",
            title="To brightness",
        ),
        ShownIf("kind", "bright", "dark"),
    ] = Number(value=60)
    colour: Annotated[Hex, ShownIf("kind", "colour")] = "#2b3a2a"
    near: Annotated[
        Number,
        timed_spec(
            "%", 0, 100, "Colours within this distance of the chosen colour are fully selected.", 0.5, "Tolerance"
        ),
        ShownIf("kind", "colour"),
    ] = Number(value=6)
    soft: Annotated[
        Number,
        timed_spec("%", 0, 100, "Colour distance over which the selection fades out.", 0.5, "Softness"),
        ShownIf("kind", "colour"),
    ] = Number(value=6)
    channel: Annotated[Literal["alpha", "brightness"], ShownIf("kind", "file")] = Field(
        default="brightness", description="Channel of the file that is read."
    )
    inverted: bool = False

    @property
    def modelled(self) -> tuple[Solid, Number] | None:
        return (self.model, self.size) if self.kind == "model" else None
