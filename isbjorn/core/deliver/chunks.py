"""A delivery in chunks, each of which any process can render independently: some frames of a sequence, or a segment of a movie."""

from __future__ import annotations

import hashlib
import io
import os
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt
import simplejpeg

from isbjorn.core.appearance.particles import Particles
from isbjorn.core.arrays import Floats
from isbjorn.core.deliver.burn import burnt, slate
from isbjorn.core.deliver.layers import layers_of
from isbjorn.core.deliver.order import Order, has_alpha
from isbjorn.core.deliver.plan import Plan, PlannedPicture
from isbjorn.core.deliver.sheet import tile
from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError, Stale
from isbjorn.core.frame import Solver, render_frame
from isbjorn.core.imaging.colour import shade_table
from isbjorn.core.imaging.display_encoding import to_shades
from isbjorn.core.media.exchange.points import write_points
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.media.write.formats import Layer, PictureInfo
from isbjorn.core.media.write.write_movie import SEGMENT_FRAMES, MovieSound, write_segment
from isbjorn.core.runtime.memory import release_memory
from isbjorn.core.runtime.whole import replace_whole
from isbjorn.core.simulate.checkpoints import StateCache
from isbjorn.core.simulate.shared_states import SharedCaches

# Frames of a sequence that one process renders in a row: it continues from its simulated state, and all processes end at about the
# same time. Fewer for large frames.
_ROW, _ROW_BYTES = 6, 96 << 20
_STATES_BYTES = 128 << 20
_LOOKED_AT_EVERY_S, _LOOK_PX = 0.4, 320


@dataclass(frozen=True)
class Job:
    """What all parts of a delivery share, in words that any process can read. folder: where files are made; thumb: where a small
    picture of the last frame is laid."""

    shot: Shot
    order: Order
    folder: Path
    thumb: Path | None = None

    @cached_property
    def identity(self) -> str:
        """A digest of all that the files depend on."""
        words = self.shot.model_dump_json() + self.order.model_dump_json(exclude={"existing", "purpose"})
        return hashlib.sha256(words.encode()).hexdigest()[:16]

    @cached_property
    def plan(self) -> Plan:
        return Plan(self.shot, self.order)

    @cached_property
    def alpha(self) -> bool:
        return has_alpha(self.shot, self.order)

    @property
    def track(self) -> MovieSound:
        return MovieSound(self.order.form, self.alpha, self.plan.rate, self.order.colour, self.order.fields)

    @cached_property
    def parts(self) -> list[range]:
        """The places in the plan of each part."""
        width, height = self.order.size(self.shot)
        row = max(1, min(_ROW, _ROW_BYTES // (16 * width * height)))
        long = SEGMENT_FRAMES if self.order.form.single else row
        return [range(at, min(at + long, len(self.plan))) for at in range(0, len(self.plan), long)]

    def segment(self, part: range) -> Path:
        suffix = self.order.form.suffix if self.order.form.movie else ".npz"
        return self.folder / f"{part.start:06d}{suffix}"

    def file(self, picture: PlannedPicture) -> Path:
        return self.folder / self.order.path(picture.number).name

    def is_made(self, part: range) -> int:
        """How many frames of a part are there already."""
        if self.order.form.single:
            return len(part) * self.segment(part).is_file()
        return sum(self.file(self.plan[at]).is_file() for at in part)


class Maker:
    """Renders chunks of a job. on_frame: called for each finished frame; stale: whether the delivery is cancelled."""

    def __init__(
        self,
        job: Job,
        plates: PlateReader,
        shared_caches: SharedCaches | None = None,
        on_frame: Callable[[], None] | None = None,
        stale: Callable[[], bool] | None = None,
    ) -> None:
        self.job, self.plates, self.on_frame, self.stale = job, plates, on_frame, stale
        # Frames come one after the other: few states are worth keeping.
        self.solver = Solver(job.shot, StateCache(_STATES_BYTES, shared_caches), plates)
        self._looked = 0.0

    def make(self, part: range) -> None:
        """Render a chunk; files that exist stay. Raises Stale when cancelled, IsbjornError when plate or disk fail."""
        form = self.job.order.form
        if not form.single:
            self._sequence(part)
            return
        path = self.job.segment(part)
        if path.is_file():
            return
        if form.movie:
            write_segment(path, self._frames_of(part), self.job.track)
        elif form.sheet:
            self._tiles(path, part)
        else:
            self._points(path, part)

    def particles(self, picture: PlannedPicture) -> Particles:
        """The particles at the moment of a picture."""
        if self.stale is not None and self.stale():
            raise Stale
        return self.solver.at(picture.frame, self.stale)

    def _points(self, path: Path, part: range) -> None:
        """Lay down the particles of some frames, to be put into one file with all others."""
        kept: dict[str, npt.NDArray[Any]] = {}
        for at in part:
            found = self.particles(self.job.plan[at])
            kept |= {f"{at}.{name}": found[name] for name in Particles.names()}
            self._count()
        _keep(path, kept)

    def _tiles(self, path: Path, part: range) -> None:
        """Lay down some frames, small."""
        kept: dict[str, npt.NDArray[Any]] = {}
        for at in part:
            made, _ = self.render(self.job.plan[at])
            kept[str(at)] = tile(made)
            self._report(made)
        _keep(path, kept)

    def render(self, picture: PlannedPicture) -> tuple[Floats, tuple[Layer, ...]]:
        """A picture as it is delivered, float32 (height, width, 4), linear, premultiplied; and its layers."""
        if self.stale is not None and self.stale():
            raise Stale
        job, order = self.job, self.job.order
        if picture.slate:
            return slate(job.shot, order, job.plan), ()
        made = self._moment(picture)
        layers: tuple[Layer, ...] = ()
        if order.passes:
            layers = layers_of(self.solver, self.plates, order, picture, self.stale)
        if order.burn:
            alive = len(self.solver.at(picture.frame, self.stale)) if "figures" in order.burn else None
            made = burnt(made, job.shot, order, job.plan, picture, alive)
        return made, layers

    def _moment(self, picture: PlannedPicture) -> Floats:
        order = self.job.order
        if order.fields != "none":
            later = self.job.plan.later(picture)
            first = self._one(PlannedPicture(picture.number, picture.frame, later.lasts_s))
            second = self._one(later)
            start = 1 if order.fields == "upper first" else 0
            first[start::2] = second[start::2]
            return first
        return self._one(picture)

    def _one(self, picture: PlannedPicture) -> Floats:
        order = self.job.order
        return render_frame(
            self.job.shot,
            picture.frame,
            order.scale,
            order.over_plate,
            solver=self.solver,
            plates=self.plates,
            stale=self.stale,
            lasts_s=picture.lasts_s,
            between=order.between,
        )

    def about(self, picture: PlannedPicture) -> PictureInfo:
        """The metadata of a picture in its file."""
        order, plan = self.job.order, self.job.plan
        return PictureInfo(plan.rate, plan.timecode(picture), order.colour, order.compression)

    def _write(self, picture: PlannedPicture, made: Floats, layers: tuple[Layer, ...]) -> None:
        job = self.job
        job.order.form.write(job.file(picture), made, job.alpha, self.about(picture), layers)
        self._report(made)

    def _report(self, made: Floats) -> None:
        release_memory()
        if self.job.thumb is not None and time.monotonic() - self._looked > _LOOKED_AT_EVERY_S:
            self._looked = time.monotonic()
            _lay_look(self.job.thumb, made)
        self._count()

    def _count(self) -> None:
        if self.on_frame is not None:
            self.on_frame()

    def _sequence(self, part: range) -> None:
        plan = self.job.plan
        # While one frame is written, the next is rendered.
        with ThreadPoolExecutor(max_workers=1) as helper:
            writing: Future[None] | None = None
            for at in part:
                if self.job.file(plan[at]).is_file():
                    self._count()
                    continue
                if self.job.order.form.points:
                    write_points(self.job.shot, self.particles(plan[at]), self.job.file(plan[at]))
                    self._count()
                    continue
                made, layers = self.render(plan[at])
                if writing is not None:
                    writing.result()
                writing = helper.submit(self._write, plan[at], made, layers)
            if writing is not None:
                writing.result()

    def _frames_of(self, part: range) -> Iterator[Floats]:
        plan = self.job.plan
        # While one frame is encoded, the next is rendered.
        with ThreadPoolExecutor(max_workers=1) as helper:
            rendering = helper.submit(self.render, plan[part[0]])
            for at in part:
                made, _ = rendering.result()
                if at != part[-1]:
                    rendering = helper.submit(self.render, plan[at + 1])
                yield made
                self._report(made)


def _keep(path: Path, arrays: dict[str, npt.NDArray[Any]]) -> None:
    """Lay down what is put together with that of other parts."""
    buffer = io.BytesIO()
    np.savez(buffer, allow_pickle=False, **arrays)
    try:
        replace_whole(path, buffer.getvalue())
    except OSError as error:
        raise IsbjornError(
            f"it could not be written ({error.strerror}).", str(path), "Check the free disk space."
        ) from None


def _lay_look(path: Path, made: Floats) -> None:
    """Lay down a small picture of a frame. What is looked at on the way may be lost."""
    width = min(_LOOK_PX, made.shape[1])
    size = (width, max(1, round(width * made.shape[0] / made.shape[1])))
    small = cv2.resize(made, size, interpolation=cv2.INTER_AREA)
    shades = to_shades(np.ascontiguousarray(small, dtype=np.float32), shade_table("srgb"))
    beside = path.with_suffix(f".{os.getpid()}")
    try:
        path.parent.mkdir(exist_ok=True)
        beside.write_bytes(simplejpeg.encode_jpeg(shades, quality=85, colorspace="RGB"))
        beside.replace(path)
    except OSError:
        beside.unlink(missing_ok=True)
