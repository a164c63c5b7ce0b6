"""What is to be delivered: which frames, as what, where to."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import Annotated, Literal, Self

from pydantic import AfterValidator, Field, field_validator, model_validator
from pydantic_core import PydanticCustomError

from isbjorn.core.deliver import naming
from isbjorn.core.document import Shot
from isbjorn.core.document.fields.base import Part
from isbjorn.core.document.fields.curves import in_order
from isbjorn.core.document.fields.values import Key
from isbjorn.core.errors import IsbjornError
from isbjorn.core.frame import Between
from isbjorn.core.media.write.formats import FORMATS, Format
from isbjorn.core.media.write.targets import Target
from isbjorn.core.time import LONGEST_RATE, frame_rate, rate_text

LARGEST_SIDE, LARGEST_PIXELS = 16_384, 8192 * 8192
MOST_TILES, MOST_GIF_PIXELS = 400, 250_000_000
FARTHEST_FRAME, MOST_FRAMES = 20_000_000, 1_000_000

# A frame number that no name contains by chance.
ANY_FRAME = 987_654_321

PassName = Literal["emitters", "groups", "alpha", "depth", "motion", "normals", "ids", "objects", "plate"]
BurnName = Literal["timecode", "frame", "name", "figures"]


class Retime(Part):
    """The shot at another rate or speed. Frames are drawn at their exact moments, and mixed only if the plate asks for it."""

    rate: str | None = Field(
        default=None, max_length=LONGEST_RATE, description="Frames per second; empty: the shot's frame rate."
    )
    speed: float = Field(default=100, ge=0, le=10_000, description="Speed in % of the shot's: 50 is half as fast.")
    keys: Annotated[tuple[Key, ...], AfterValidator(in_order)] = Field(
        default=(),
        max_length=256,
        description="Speeds in % at seconds of the delivery; replaces the constant speed.",
    )
    plate: Between = Field(
        default="held",
        description="What shows between two plate frames: the current one, the nearer one, or a blend of both.",
    )

    @field_validator("rate")
    @classmethod
    def _rate(cls, given: str | None) -> str | None:
        return None if given is None else rate_text(frame_rate(given))

    @model_validator(mode="after")
    def _moves(self) -> Self:
        if any(not 0 <= key.value <= 10_000 for key in self.keys):
            raise PydanticCustomError("no_speed", "speeds must be between 0 and 10000 %")
        if (self.keys[-1].value if self.keys else self.speed) <= 0:
            raise PydanticCustomError(
                "no_end", "with a last speed of 0 the delivery would never end; use a last speed above 0"
            )
        return self


class Order(Part):
    """What is to be delivered: which frames, where to, in which format."""

    format: str = Field(default="png8", max_length=80, description="Name of the format.")
    first: int = Field(ge=-FARTHEST_FRAME, le=FARTHEST_FRAME, description="First frame.")
    last: int = Field(ge=-FARTHEST_FRAME, le=FARTHEST_FRAME, description="Last frame, inclusive.")
    every: int = Field(default=1, ge=1, le=10_000, description="Delivers every Nth frame; a movie keeps its speed.")
    before: int = Field(default=0, ge=0, le=10_000, description="Handle: number of additional frames before the first.")
    after: int = Field(default=0, ge=0, le=10_000, description="Handle: number of additional frames after the last.")
    folder: str = Field(min_length=1, max_length=4096, pattern=r"^[^\x00-\x1f]+$")
    name: str = Field(
        min_length=1,
        max_length=120,
        pattern=r"^[^/\\\x00-\x1f]+$",
        description="File name without extension. May contain {project}, {shot}, {version}, {pass} and {frame}.",
    )
    padding: int = Field(default=4, ge=1, le=10, description="Number of digits in frame numbers.")
    existing: Literal["refuse", "version", "replace", "keep"] = Field(
        default="refuse",
        description=(
            "What to do with existing files: refuse the delivery; use the next free version; replace them when "
            "everything is finished; keep them and render only missing frames."
        ),
    )
    scale: float = Field(default=1.0, gt=0, le=8)
    over_plate: bool = True
    passes: tuple[PassName, ...] = Field(default=(), max_length=16, description="Layers in addition to the picture.")
    compression: str = Field(
        default="", max_length=20, description="EXR compression: zip, zips, piz or dwaa; empty: zip."
    )
    colour: Target | None = Field(default=None, description="Colour space of the files; empty: the format's default.")
    burn: tuple[BurnName, ...] = Field(default=(), max_length=8, description="Text burned into the picture for review.")
    slate: bool = Field(
        default=False, description="Adds a slate: one frame before the first that describes the delivery."
    )
    sound: bool = Field(
        default=True,
        description="Delivers the sounds of the shot and its plate: in the movie, or as a WAV file next to a sequence.",
    )
    retime: Retime | None = None
    fields: Literal["none", "upper first", "lower first"] = Field(
        default="none", description="Interlaced for broadcast: each frame holds two fields."
    )
    purpose: str = Field(default="", max_length=120, description="Purpose that the order was made from.")

    @field_validator("format")
    @classmethod
    def _known(cls, name: str) -> str:
        if name not in FORMATS:
            known = ", ".join(form.name for form in FORMATS)
            raise PydanticCustomError(
                "no_format", "'{name}' is not a format; use one of: {known}", {"name": name, "known": known}
            )
        return name

    @field_validator("passes", "burn")
    @classmethod
    def _once(cls, names: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(dict.fromkeys(names))

    @model_validator(mode="after")
    def _frames(self) -> Self:
        if self.last < self.first:
            raise PydanticCustomError(
                "no_frames", "last ({b}) is before first ({a})", {"a": self.first, "b": self.last}
            )
        if self.last - self.first + self.before + self.after >= MOST_FRAMES:
            raise PydanticCustomError("too_many_frames", "a delivery has at most {n} frames", {"n": MOST_FRAMES})
        if self.name.strip(". ") == "":
            raise PydanticCustomError("no_name", "a delivery needs a name")
        return self

    @property
    def form(self) -> Format:
        return FORMATS[self.format]

    @property
    def own_speed(self) -> bool:
        """Whether it runs as fast as the shot: only then there is sound."""
        return self.retime is None or (not self.retime.keys and self.retime.speed == 100)

    @property
    def between(self) -> Between:
        """How the plate is between two of its frames."""
        return "held" if self.retime is None else self.retime.plate

    @property
    def sound_path(self) -> Path:
        """Path of the sound file beside a sequence."""
        return Path(self.folder) / f"{naming.numbered(self.name, None, self.padding)}.wav"

    def path(self, frame: int | None = None, layer: str = "") -> Path:
        """Where the movie goes, or a frame of a sequence: `name.0042.png`."""
        return Path(self.folder) / (naming.numbered(self.name, frame, self.padding, layer) + self.form.suffix)

    def meets(self, other: Order) -> bool:
        """Whether two orders may write the same file."""
        if self.form.single or other.form.single:
            return self.form.single and other.form.single and self.path() == other.path()
        if self.path(ANY_FRAME) != other.path(ANY_FRAME):
            return False
        if self.retime is not None or other.retime is not None:
            # How far they come depends on their shots.
            return True
        mine, yours = ((o.first - o.before - o.slate * o.every, o.last + o.after) for o in (self, other))
        return mine[0] <= yours[1] and yours[0] <= mine[1]

    def size(self, shot: Shot) -> tuple[int, int]:
        """Width and height of the files in pixels."""
        width, height = max(1, round(shot.width * self.scale)), max(1, round(shot.height * self.scale))
        even = self.form.even_size
        return (width - width % 2, height - height % 2) if even else (width, height)

    def rate(self, shot: Shot) -> Fraction:
        """Frames a second of what is delivered."""
        base = shot.frame_rate if self.retime is None or self.retime.rate is None else Fraction(self.retime.rate)
        return base / self.every


def check_order(shot: Shot, order: Order) -> None:
    """Raise IsbjornError for an order that cannot be carried out, before any work is done."""
    if round(shot.width * order.scale) > LARGEST_SIDE or round(shot.height * order.scale) > LARGEST_SIDE:
        raise IsbjornError("the picture would be larger than 16384 px.", "scale", "Select a smaller scale.")
    if shot.width * shot.height * order.scale**2 > LARGEST_PIXELS:
        raise IsbjornError("the picture would have more than 67 million pixels.", "scale", "Select a smaller scale.")
    across, down = order.form.smallest
    if order.form.even_size and (round(shot.width * order.scale) < across or round(shot.height * order.scale) < down):
        raise IsbjornError(
            f"the picture would be too small: {order.form.label} needs at least {across} × {down} px.",
            "scale",
            "Select a larger scale.",
        )
    if order.passes and not order.form.layers:
        raise IsbjornError(
            f"{order.form.label} holds one picture and no additional layers.",
            "passes",
            "Select EXR, or switch the passes off.",
        )
    count = (order.last - order.first + order.before + order.after) // order.every + 1
    if order.form.sheet and count > MOST_TILES:
        raise IsbjornError(
            f"a contact sheet has at most {MOST_TILES} frames, and this one would have {count:,}.",
            "every",
            "Deliver fewer, for example every tenth frame.",
        )
    if order.form.name == "gif" and count * shot.width * shot.height * order.scale**2 > MOST_GIF_PIXELS:
        raise IsbjornError(
            "a GIF computes its palette from all frames at once, and there are too many.",
            "scale",
            "Select a smaller size, or WebP.",
        )
    if order.fields != "none" and not order.form.fields:
        raise IsbjornError(
            f"{order.form.label} does not support interlaced pictures.",
            "fields",
            "Select ProRes, FFV1 or an image sequence.",
        )
    if order.compression and order.compression not in order.form.compressions:
        known = ", ".join(order.form.compressions) or "none"
        raise IsbjornError(
            f"'{order.compression}' is not a compression of {order.form.label}.", "compression", f"Use one of: {known}."
        )
    naming.check(order.name)
    if order.colour is not None:
        order.colour.check()


def check_folder(order: Order) -> None:
    """Make the folder of an order. Raises IsbjornError where nothing can be written."""
    folder = Path(order.folder)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        trial = folder / f".{order.name[:80]}.trial"
        trial.write_bytes(b"")
        trial.unlink()
    except (OSError, ValueError) as error:
        raise IsbjornError(
            f"this folder cannot be written to ({getattr(error, 'strerror', error)}).",
            str(folder),
            "Select another folder.",
        ) from None


def has_alpha(shot: Shot, order: Order) -> bool:
    """Whether the delivery carries alpha: the format supports it, and nothing opaque is below the particles."""
    covered = order.over_plate and (shot.plate is not None or shot.background is not None)
    return order.form.alpha and not covered
