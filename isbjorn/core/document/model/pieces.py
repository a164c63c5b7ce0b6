"""Pieces: the emitter's shape is whole, comes apart along a front, and is assembled again.

The engine sides are `isbjorn.core.emit.pieces`, `isbjorn.core.simulate.integrators.arriving` and `isbjorn.core.render.draw.pieces`.
"""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator
from pydantic_core import PydanticCustomError

from isbjorn.core.document.fields.base import Gripped, MediaName, Part, RefTo, ShownAs, ShownIf
from isbjorn.core.document.fields.curves import Curve, CurvePoint
from isbjorn.core.document.fields.placed import FAR, PathPoint, curved_way
from isbjorn.core.document.fields.values import LONGEST_S, Moment, Number, setting_spec, timed_spec
from isbjorn.core.document.model.unions import Shape
from isbjorn.core.document.parts.shapes import Disc

Cut = Literal["squares", "hexagons", "shards", "strips", "letters", "words", "points"]
_SEEN_CUTS = ("squares", "hexagons", "shards", "strips", "points")


def _even() -> Curve:
    return Curve(points=(CurvePoint(at=0, value=0, joint="straight"), CurvePoint(at=1, value=1, joint="straight")))


def _fading() -> Curve:
    return Curve(points=(CurvePoint(at=0, value=1), CurvePoint(at=1, value=0)))


class Front(Part):
    """What decides when each piece leaves or arrives: a front that passes over them."""

    by: Literal[
        "direction", "point", "path", "reading order", "noise", "chance", "neighbours", "brightness", "picture",
        "matte", "onsets",
    ] = Field(
        default="direction", title="Front",
        description="Order of the pieces. direction: a straight front crosses them; point: it spreads from a point; path: along a "
        "path; reading order: from left to right, line by line; noise: in patches; chance: in random order; neighbours: each "
        "piece sets off those beside it; brightness: the brightest part of the plate first; picture: the brightest part of a grey "
        "picture first, which fills the shot's frame; matte: white at the beginning, black at the end, grey in between; onsets: "
        "at the onsets of a sound.",
    )  # fmt: skip
    at_s: Annotated[Moment, ShownAs("moment")] = Field(
        default=1.0, title="Begins", description="Shot time at which the front reaches the first piece, in seconds."
    )
    duration: Annotated[
        Number, timed_spec("s", 0, LONGEST_S, "Time that the front takes from the first piece to the last, in seconds.", 0.1)
    ] = Number(value=2)  # fmt: skip
    delay: Annotated[
        Number, timed_spec("s", -LONGEST_S, LONGEST_S, "Delays the front, in seconds; keys hold it back and let it go.", 0.1)
    ] = Number(value=0)  # fmt: skip
    softness: Annotated[
        Number,
        timed_spec(
            "%", 0, 100, "How widely the moments of pieces side by side differ, in per cent of the duration.", 5
        ),
    ] = Number(value=20)
    curve: Annotated[Curve, ShownAs("tone curve")] = Field(
        default_factory=_even,
        title="Pace",
        description="How far the front has come over its duration; it never goes back.",
    )
    backwards: bool = Field(default=False, title="Reversed", description="Begins with the pieces that would be last.")
    angle: Annotated[
        Number, timed_spec("°", -36_000, 36_000, "Direction in which the front moves, in degrees; 0 is to the right.", 5),
        ShownIf("by", "direction"), Gripped(turns=True),
    ] = Number(value=0)  # fmt: skip
    x: Annotated[
        Number, timed_spec("px", -FAR, FAR, "X position from which the front spreads, in px from the emitter.", 5, "Front X"),
        ShownIf("by", "point", "neighbours"),
    ] = Number(value=0)  # fmt: skip
    y: Annotated[
        Number, timed_spec("px", -FAR, FAR, "Y position from which the front spreads, in px from the emitter.", 5, "Front Y"),
        ShownIf("by", "point", "neighbours"),
    ] = Number(value=0)  # fmt: skip
    points: Annotated[tuple[PathPoint, ...], ShownAs("points"), ShownIf("by", "path")] = Field(
        default_factory=curved_way,
        min_length=2,
        max_length=512,
        description="Path that the front follows, from the emitter.",
    )
    patches: Annotated[
        Number, setting_spec("px", 1, FAR, "Width of the patches, in px.", 5), ShownIf("by", "noise")
    ] = Number(value=80)  # fmt: skip
    media: Annotated[MediaName, ShownAs("picture"), ShownIf("by", "picture")] = Field(
        default="", title="Order picture", description="Picture whose brightness says which pieces come first."
    )
    matte: Annotated[str | None, RefTo(("mattes",), none="No matte"), ShownIf("by", "matte")] = Field(
        default=None, max_length=60, title="Order matte",
        description="Matte whose grey says when pieces leave or arrive, as it is when the front begins.",
    )  # fmt: skip
    sound: Annotated[str | None, RefTo(("sounds",), none="No sound"), ShownIf("by", "onsets")] = Field(
        default=None, max_length=60, description="Sound at whose onsets groups of pieces leave or arrive."
    )


class Release(Front):
    """The pieces leave the whole, and are particles from then on: their age begins at that moment."""

    tremble: Annotated[
        Number, timed_spec("px", 0, 1000, "How far a piece trembles just before it leaves, in px.", 0.5)
    ] = Number(value=0)  # fmt: skip
    tremble_s: float = Field(
        default=0.5,
        ge=0.01,
        le=60,
        title="Tremble for",
        description="Seconds for which a piece trembles before it leaves.",
    )


class Assemble(Front):
    """Particles arrive, each at the place of its piece, and stay there."""

    at_s: Annotated[Moment, ShownAs("moment")] = Field(
        default=3.0, title="Begins", description="Shot time at which the first piece arrives, in seconds."
    )
    start: Annotated[Shape, ShownAs("shape")] = Field(
        default_factory=lambda: Disc(radius=Number(value=420)), title="Starts from",
        description="Shape in which particles begin that were not released before.",
    )  # fmt: skip
    start_x: Annotated[Number, timed_spec("px", -FAR, FAR, "X position of that shape, in px from the emitter.", 5)] = (
        Number(value=0)
    )
    start_y: Annotated[Number, timed_spec("px", -FAR, FAR, "Y position of that shape, in px from the emitter.", 5)] = (
        Number(value=0)
    )
    match: Literal["nearest", "reading order", "along a path", "random"] = Field(
        default="nearest", title="Places by",
        description="Which particle takes which place. nearest: the ways are short on the whole; reading order: the order of the "
        "particles is that of the places; along a path: both in their order along a path.",
    )  # fmt: skip
    way: Annotated[tuple[PathPoint, ...], ShownAs("points"), ShownIf("match", "along a path")] = Field(
        default_factory=curved_way, min_length=2, max_length=512, title="Path of places",
        description="Path along which particles and places are put in order, from the emitter.",
    )  # fmt: skip
    into: Annotated[Shape | None, ShownAs("shape")] = Field(
        default=None, title="Becomes",
        description="Another shape, which the released pieces assemble instead of the one that they came from.",
    )  # fmt: skip
    forces: Annotated[Curve, ShownAs("tone curve")] = Field(
        default_factory=_fading, title="Forces on the way",
        description="Share of all forces that acts on a particle, from the beginning of its way to its arrival.",
    )  # fmt: skip
    looks: Literal["mirrored", "forwards"] = Field(
        default="mirrored", title="Look on the way",
        description="mirrored: a particle on its way looks as after a release, run backwards, so it arrives as it is at birth; "
        "forwards: its curves and colours run from birth to death, and what has arrived keeps the last of them.",
    )  # fmt: skip
    arrives: Literal["at rest", "moving"] = Field(
        default="at rest", title="At arrival",
        description="at rest: a particle slows down to a stop at its place; moving: it keeps its speed until it is there.",
    )  # fmt: skip


class Pieces(Part):
    """The emitter's shape cut into pieces, which leave it, arrive at it, or both."""

    on: bool = True
    cut: Cut = Field(
        default="squares",
        description="Form of the pieces. They cover the shape without a gap; points: single places, drawn as the emitter's body.",
    )
    size: Annotated[
        Number, setting_spec("px", 2, 2000, "Width of a piece, in px; of points, the distance between them.", 1),
        ShownIf("cut", *_SEEN_CUTS),
    ] = Number(value=14)  # fmt: skip
    variation: Annotated[
        Number, setting_spec("%", 0, 100, "How much the pieces differ in size and form, in per cent.", 5),
        ShownIf("cut", *_SEEN_CUTS),
    ] = Number(value=0)  # fmt: skip
    angle: Annotated[
        Number, setting_spec("°", -360, 360, "Angle of the cuts, in degrees.", 5, "Angle of cuts"),
        ShownIf("cut", "squares", "hexagons", "strips"),
    ] = Number(value=0)  # fmt: skip
    release: Release | None = Field(default_factory=Release)
    assemble: Assemble | None = None

    @property
    def returns(self) -> bool:
        """Whether the pieces leave before they arrive: each is one particle from its release to its arrival."""
        return self.release is not None and self.assemble is not None and self.release.at_s <= self.assemble.at_s

    @property
    def mirrored(self) -> bool:
        """Whether particles look on their way as if they had left their places, so that they arrive with their look at birth."""
        return self.assemble is not None and self.assemble.looks == "mirrored" and self.assemble.into is None

    @property
    def reads_pictures(self) -> bool:
        """Whether a picture file decides when pieces leave or arrive."""
        return self._decided_by("picture", "matte")

    @property
    def reads_plate(self) -> bool:
        """Whether the plate decides when pieces leave or arrive."""
        return self._decided_by("brightness", "matte")

    def _decided_by(self, *ways: str) -> bool:
        return any(front is not None and front.by in ways for front in (self.release, self.assemble))

    @model_validator(mode="after")
    def _becoming(self) -> Self:
        if self.assemble is not None and self.assemble.into is not None and not self.returns:
            raise PydanticCustomError(
                "pieces",
                "only pieces that are released first can become another shape: let the release begin before the arrival",
            )
        return self
