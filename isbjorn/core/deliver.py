"""Delivering a shot: frames or a movie at the shot's exact rate, resumable, whole or not at all."""

from __future__ import annotations

import hashlib
import shutil
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from fractions import Fraction
from pathlib import Path
from typing import Self

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator
from pydantic_core import PydanticCustomError

from isbjorn.core.arrays import Floats
from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError, Stale
from isbjorn.core.frame import Solver, render_frame
from isbjorn.core.media.formats import FORMATS, Format
from isbjorn.core.media.plates import PlateReader
from isbjorn.core.media.write_movie import SEGMENT_FRAMES, join_segments, write_segment
from isbjorn.core.simulate.checkpoints import StateCache
from isbjorn.core.simulate.handing import Shelves
from isbjorn.core.time import timecode

LARGEST_SIDE, LARGEST_PIXELS = 16_384, 8192 * 8192
FARTHEST_FRAME, MOST_FRAMES = 20_000_000, 1_000_000


_STATES_BYTES = 128 << 20


class Order(BaseModel):
    """What is to be delivered: which frames, where to, in which format."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    format: str = Field(default="png8", max_length=80, description="The name of a format that is offered.")
    first: int = Field(ge=-FARTHEST_FRAME, le=FARTHEST_FRAME, description="First frame number.")
    last: int = Field(ge=-FARTHEST_FRAME, le=FARTHEST_FRAME, description="Last frame number, included.")
    folder: str = Field(min_length=1, max_length=4096, pattern=r"^[^\x00-\x1f]+$")
    name: str = Field(
        min_length=1, max_length=120, pattern=r"^[^/\\\x00-\x1f]+$", description="Without number or ending."
    )
    scale: float = Field(default=1.0, gt=0, le=8)
    over_plate: bool = True

    @field_validator("format")
    @classmethod
    def _known(cls, name: str) -> str:
        if name not in FORMATS:
            known = ", ".join(form.name for form in FORMATS)
            raise PydanticCustomError(
                "no_format", "'{name}' is no format; there are {known}", {"name": name, "known": known}
            )
        return name

    @model_validator(mode="after")
    def _frames(self) -> Self:
        if self.last < self.first:
            raise PydanticCustomError(
                "no_frames", "last ({b}) lies before first ({a})", {"a": self.first, "b": self.last}
            )
        if self.last - self.first >= MOST_FRAMES:
            raise PydanticCustomError("too_many_frames", "a delivery has at most {n} frames", {"n": MOST_FRAMES})
        if self.name.strip(". ") == "":
            raise PydanticCustomError("no_name", "a delivery needs a name")
        return self

    @property
    def form(self) -> Format:
        return FORMATS[self.format]

    @property
    def frames(self) -> range:
        return range(self.first, self.last + 1)

    def path(self, frame: int | None = None) -> Path:
        """Where the movie goes, or a frame of a sequence: `name.0042.png`."""
        number = "" if frame is None else (f".{frame:04d}" if frame >= 0 else f".-{-frame:04d}")
        return Path(self.folder) / f"{self.name}{number}{self.form.suffix}"


def check_order(shot: Shot, order: Order) -> None:
    """Raise IsbjornError for an order that cannot be carried out, before any work is done."""
    if round(shot.width * order.scale) > LARGEST_SIDE or round(shot.height * order.scale) > LARGEST_SIDE:
        raise IsbjornError("the picture would be larger than 16384 px.", "scale", "Choose a smaller scale.")
    if shot.width * shot.height * order.scale**2 > LARGEST_PIXELS:
        raise IsbjornError("the picture would have more than 67 million pixels.", "scale", "Choose a smaller scale.")
    across, down = order.form.smallest
    if order.form.even_size and (round(shot.width * order.scale) < across or round(shot.height * order.scale) < down):
        raise IsbjornError(
            f"the picture would be too small: {order.form.label} begins at {across} × {down} pixels.",
            "scale",
            "Choose a larger scale.",
        )
    folder = Path(order.folder)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        trial = folder / f".{order.name}.trial"
        trial.write_bytes(b"")
        trial.unlink()
    except (OSError, ValueError) as error:
        raise IsbjornError(
            f"nothing can be written there ({getattr(error, 'strerror', error)}).",
            str(folder),
            "Choose another folder.",
        ) from None


def has_alpha(shot: Shot, order: Order) -> bool:
    """Whether the delivery carries alpha: the format can, and nothing opaque lies under the particles."""
    covered = order.over_plate and (shot.plate is not None or shot.background is not None)
    return order.form.alpha and not covered


class Delivery:
    """Carries out an order. Frames that are already there from the same order are not rendered again when resumed."""

    def __init__(
        self,
        shot: Shot,
        order: Order,
        plates: PlateReader | None = None,
        *,
        shelves: Shelves | None = None,
        on_frame: Callable[[int, Floats], None] | None = None,
        cancelled: Callable[[], bool] | None = None,
    ) -> None:
        self.shot, self.order = shot, order
        self.plates = plates or PlateReader()
        # Frames come one after the other: few states are worth keeping.
        self.solver = Solver(shot, StateCache(_STATES_BYTES, shelves), self.plates)
        self.on_frame, self.cancelled = on_frame, cancelled
        self.alpha = has_alpha(shot, order)

    def run(self, done: int = 0) -> list[Path]:
        """Deliver; the files made. done: how many frames of a sequence this same order had finished before.

        Raises Stale when cancelled, IsbjornError when the plate or the disk fails; what is finished stays.
        """
        check_order(self.shot, self.order)
        return [self._movie()] if self.order.form.movie else self._sequence(done)

    def _timecode(self, frame: int) -> str:
        return timecode(frame, self.shot.frame_rate)

    def _render(self, frame: int) -> Floats:
        if self.cancelled is not None and self.cancelled():
            raise Stale
        order = self.order
        return render_frame(
            self.shot,
            frame,
            order.scale,
            order.over_plate,
            solver=self.solver,
            plates=self.plates,
            stale=self.cancelled,
        )

    def _write(self, frame: int, picture: Floats, rate: Fraction) -> None:
        order = self.order
        order.form.write(order.path(frame), picture, self.alpha, rate, self._timecode(frame))
        self._told(frame, picture)

    def _told(self, frame: int, picture: Floats) -> None:
        if self.on_frame is not None:
            self.on_frame(frame, picture)

    def _sequence(self, done: int) -> list[Path]:
        order, rate = self.order, self.shot.frame_rate
        # While one frame is written, the next is rendered.
        with ThreadPoolExecutor(max_workers=1) as hand:
            writing: Future[None] | None = None
            for number, frame in enumerate(order.frames):
                if number < done and order.path(frame).is_file():
                    continue
                picture = self._render(frame)
                if writing is not None:
                    writing.result()
                writing = hand.submit(self._write, frame, picture, rate)
            if writing is not None:
                writing.result()
        return [order.path(frame) for frame in order.frames]

    def _told_segment(self, frames: range) -> Iterator[Floats]:
        # While one frame is encoded, the next is rendered.
        with ThreadPoolExecutor(max_workers=1) as hand:
            rendering = hand.submit(self._render, frames[0])
            for frame in frames:
                picture = rendering.result()
                if frame != frames[-1]:
                    rendering = hand.submit(self._render, frame + 1)
                yield picture
                self._told(frame, picture)

    def _movie(self) -> Path:
        order = self.order
        identity = hashlib.sha256((self.shot.model_dump_json() + order.model_dump_json()).encode()).hexdigest()[:16]
        target = order.path()
        workshop = target.with_name(f".{target.name}.{identity}")
        try:
            workshop.mkdir(exist_ok=True)
        except OSError as error:
            raise IsbjornError(
                f"nothing can be written there ({error.strerror}).", str(workshop.parent), "Is there room on the disk?"
            ) from None
        segments = []
        for start in range(order.first, order.last + 1, SEGMENT_FRAMES):
            frames = range(start, min(start + SEGMENT_FRAMES, order.last + 1))
            segments.append(workshop / f"{start - order.first:06d}{order.form.suffix}")
            if not segments[-1].is_file():
                write_segment(segments[-1], self._told_segment(frames), order.form, self.alpha, self.shot.frame_rate)
        join_segments(segments, target, order.form, self.alpha, self.shot.frame_rate, self._timecode(order.first))
        shutil.rmtree(workshop, ignore_errors=True)
        return target
