"""Where particles can be born. The engine side of each is one file in `isbjorn.core.emit.shapes`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, ClassVar, Literal

from pydantic import Field

from isbjorn.core.document.fields.base import Gripped, MediaName, Part, RefTo, ShownAs, ShownIf
from isbjorn.core.document.fields.kinds import SHAPES, shown
from isbjorn.core.document.fields.outlines import Outlines
from isbjorn.core.document.fields.placed import FAR, PathPoint
from isbjorn.core.document.fields.values import Number, Spec

Fill = Literal["inside", "edge", "shell"]
Half = Literal["whole", "right", "left", "upper", "lower", "near", "far"]


def extent_spec(help: str, title: str = "") -> Spec:
    """A length in px, read at the moment of birth."""
    return Spec(
        unit="px", low=0, high=FAR, clock="birth", spread=False, help=help, sources=("number", "sound"), title=title
    )


def angle_spec(help: str, title: str = "") -> Spec:
    """An angle in degrees, read at the moment of birth."""
    return Spec(
        unit="°", low=-36000, high=36000, clock="birth", spread=False, help=help, title=title, sources=("number", "sound")
    )  # fmt: skip


class OneShape(Part):
    """What every shape has. `reads_plate`: where births happen depends on the plate."""

    reads_plate: ClassVar[bool] = False

    @property
    def pictures(self) -> tuple[str, ...]:
        """The picture files whose parts its pieces show."""
        return ()

    @property
    def shows_plate(self) -> bool:
        """Whether its pieces show parts of the plate, and leave holes in it."""
        return False

    if TYPE_CHECKING:
        kind: str


class Area(OneShape):
    """What shapes with an inside share: filled, along the edge or surface, or in a shell along it."""

    fill: Fill = Field(
        default="inside",
        title="Fill",
        description="Where particles are born: throughout the shape, on its edge or surface, or in a shell "
        "of the given thickness.",
    )
    thickness: Annotated[Number, extent_spec("How thick the shell is."), ShownIf("fill", "shell")] = Number(value=10)
    shell_side: Annotated[Literal["inward", "outward", "both"], ShownIf("fill", "shell")] = Field(
        default="inward", description="Position of the shell relative to the edge."
    )


@SHAPES.register("isbjorn.core.emit.shapes.flat:POINT")
class Point(OneShape):
    """All from one place."""

    model_config = shown("Point", sized=False)
    kind: Literal["point"] = "point"


@SHAPES.register("isbjorn.core.emit.shapes.flat:LINE")
class Line(OneShape):
    """Along a line, even by length."""

    model_config = shown("Line")
    kind: Literal["line"] = "line"
    length: Annotated[Number, extent_spec("From end to end.")] = Number(value=200)
    angle: Annotated[
        Number, angle_spec("0 lies flat, counter-clockwise."), Gripped(turns=True, with_length="length", factor=2.0)
    ] = Number(value=0)


@SHAPES.register("isbjorn.core.emit.shapes.flat:DISC")
class Disc(Area):
    """In a disc, even by area, or along its edge, even by length."""

    model_config = shown("Disc or ring")
    kind: Literal["disc"] = "disc"
    radius: Annotated[Number, extent_spec("From the centre to the edge."), Gripped()] = Number(value=60)
    half: Half = "whole"


@SHAPES.register("isbjorn.core.emit.shapes.flat:RECTANGLE")
class Rectangle(Area):
    """In a rectangle, even by area, or along its edge, even by length."""

    model_config = shown("Rectangle")
    kind: Literal["rectangle"] = "rectangle"
    width: Annotated[Number, extent_spec("Side to side."), Gripped(factor=2.0)] = Number(value=200)
    height: Annotated[Number, extent_spec("Top to bottom."), Gripped((0.0, 1.0), 2.0)] = Number(value=100)
    angle: Annotated[Number, angle_spec("Rotation in degrees, counter-clockwise.")] = Number(value=0)
    half: Half = "whole"


@SHAPES.register("isbjorn.core.emit.shapes.solid:BOX")
class Box(Area):
    """In a box, even by volume, or on its faces, even by area."""

    model_config = shown("Box")
    kind: Literal["box"] = "box"
    width: Annotated[Number, extent_spec("Side to side."), Gripped(factor=2.0)] = Number(value=200)
    height: Annotated[Number, extent_spec("Top to bottom."), Gripped((0.0, 1.0), 2.0)] = Number(value=100)
    deep: Annotated[Number, extent_spec("Front to back.", "Depth extent")] = Number(value=100)
    half: Half = "whole"


@SHAPES.register("isbjorn.core.emit.shapes.solid:BALL")
class Ball(Area):
    """In a sphere, even by volume, or on its surface, even by area."""

    model_config = shown("Sphere")
    kind: Literal["sphere"] = "sphere"
    radius: Annotated[Number, extent_spec("From the centre to the surface."), Gripped()] = Number(value=80)
    half: Half = "whole"


def _arc() -> tuple[PathPoint, ...]:
    return (
        PathPoint(x=-140, y=-30, leave=(60.0, 80.0)),
        PathPoint(x=140, y=-30, arrive=(-60.0, 80.0)),
    )


@SHAPES.register("isbjorn.core.emit.shapes.curves:PATH")
class PathShape(Area):
    """Along a Bézier path, even by length; inside it, even by area, if it is closed."""

    model_config = shown("Path")
    kind: Literal["path"] = "path"
    points: Annotated[tuple[PathPoint, ...], ShownAs("points")] = Field(
        default_factory=_arc, min_length=2, max_length=512
    )
    closed: bool = False
    fill: Fill = "edge"


@SHAPES.register("isbjorn.core.emit.shapes.artwork:LETTERS")
class Letters(Area):
    """From letters: inside them, even by area, or along their edge, even by length."""

    model_config = shown("Letters", lettered=True)
    kind: Literal["letters"] = "letters"
    text: str = Field(default="Isbjorn", min_length=1, max_length=200, title="Text")
    height: Annotated[Number, extent_spec("Of a line, in px."), Gripped((0.0, 1.0), 2.0)] = Number(value=160)


@SHAPES.register("isbjorn.core.emit.shapes.artwork:ARTWORK")
class Artwork(Area):
    """From the outlines of an SVG file: inside them, even by area, or along their edge, even by length."""

    model_config = shown("Artwork")
    kind: Literal["artwork"] = "artwork"
    paths: Annotated[Outlines, ShownAs("drawing")] = Field(
        default=("M-50-50H50V50H-50Z",), min_length=1, max_length=2000, description="SVG path data; y points down."
    )
    name: Annotated[str, ShownAs()] = Field(
        default="", max_length=200, description="Name of the file that the outlines came from."
    )
    width: Annotated[Number, extent_spec("To which the drawing is brought, in px."), Gripped(factor=2.0)] = Number(
        value=300
    )


@SHAPES.register("isbjorn.core.emit.shapes.pictured:PICTURE")
class PictureShape(OneShape):
    """In the rectangle of a picture; its pieces show their own parts of the picture."""

    model_config = shown("Picture")
    kind: Literal["picture"] = "picture"
    media: Annotated[MediaName, ShownAs("picture")] = Field(
        default="", title="Picture file", description="Picture, sequence or movie that the pieces show."
    )
    width: Annotated[Number, extent_spec("Width of the picture."), Gripped(factor=2.0)] = Number(value=480)
    height: Annotated[Number, extent_spec("Height of the picture."), Gripped((0.0, 1.0), 2.0)] = Number(value=270)
    plays: bool = Field(
        default=True, description="Plays a movie or sequence with the shot; off: shows one frame of it."
    )
    frame: Annotated[int, ShownIf("plays", False)] = Field(
        default=0, ge=0, le=10_000_000, title="Frame", description="Number of the frame that is shown, from 0."
    )

    @property
    def pictures(self) -> tuple[str, ...]:
        return (self.media,) if self.media else ()


@SHAPES.register("isbjorn.core.emit.shapes.pictured:PART_OF_PLATE")
class PartOfPlate(OneShape):
    """In a rectangle of the plate; its pieces show their own parts of the plate, and leave holes in it."""

    model_config = shown("Part of the plate")
    kind: Literal["part of plate"] = "part of plate"
    width: Annotated[Number, extent_spec("Side to side."), Gripped(factor=2.0)] = Number(value=480)
    height: Annotated[Number, extent_spec("Top to bottom."), Gripped((0.0, 1.0), 2.0)] = Number(value=270)

    @property
    def shows_plate(self) -> bool:
        return True


@SHAPES.register("isbjorn.core.emit.shapes.borrowed:BORROWED")
class BorrowedShape(OneShape):
    """The shape of another emitter, at this one's own place: an edit of that one changes both."""

    model_config = shown("Shape of an emitter")
    kind: Literal["borrowed"] = "borrowed"
    emitter: Annotated[str | None, RefTo(("emitters",), none="No emitter")] = Field(
        default=None, max_length=60, title="Shape of", description="Id of the emitter whose shape it is."
    )


@SHAPES.register("isbjorn.core.emit.shapes.plate:PLATE")
class FromPlate(OneShape):
    """From the plate: where it is bright, where it has edges, or where it moves."""

    model_config = shown("Plate")
    reads_plate: ClassVar[bool] = True
    kind: Literal["plate"] = "plate"
    by: Literal["bright", "dark", "edges", "moving"] = Field(default="bright", title="Sample by")
    above: Annotated[
        Number,
        Spec(
            unit="%",
            low=0,
            high=100,
            clock="birth",
            spread=False,
            help="Births happen only where the measure exceeds this threshold, in per cent.",
            title="Threshold",
        ),
    ] = Number(value=50)
