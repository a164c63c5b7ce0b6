"""Delivering a shot: frames or a movie, by all cores, resumable, whole or not at all."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from dataclasses import replace
from fractions import Fraction
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from isbjorn.core.appearance.particles import Particles
from isbjorn.core.deliver import naming
from isbjorn.core.deliver.check import check_files
from isbjorn.core.deliver.chunks import Job, Maker
from isbjorn.core.deliver.order import ANY_FRAME, Order, check_folder, check_order, has_alpha
from isbjorn.core.deliver.plan import Plan
from isbjorn.core.deliver.sheet import sheet
from isbjorn.core.deliver.worker_pool import WorkerPool, processes_for
from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.frame import Solver
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.media.read.sound import Mix, MixedSound, mixed, sounds_of, write_wave
from isbjorn.core.media.write.formats import FORMATS, Codec, PictureInfo
from isbjorn.core.media.write.write_movie import encode_whole, join_segments, sound_rate
from isbjorn.core.media.write.write_still import write_still
from isbjorn.core.render.draw.context import RenderContext
from isbjorn.core.render.draw.poses import Poses, poses_of
from isbjorn.core.simulate.shared_states import SharedCaches

if TYPE_CHECKING:
    from isbjorn.core.deliver.farm.client import Farm, WorkerCard

__all__ = ["Delivery", "Order", "check_order", "deliver", "has_alpha", "named_order"]


def _in_the_way(order: Order, numbers: range, names: frozenset[str]) -> list[str]:
    """Which of the names in a folder an order would write over."""
    if order.form.single:
        return [name for name in (order.path().name,) if name in names]
    head, tail = order.path(ANY_FRAME).name.split(naming.number_text(ANY_FRAME, order.padding), 1)
    numbered = {n: n[len(head) : len(n) - len(tail)] for n in names if n.startswith(head) and n.endswith(tail)}
    found = {n for n, text in numbered.items() if text.lstrip("-").isdigit() and int(text) in numbers}
    return sorted(found | ({order.sound_path.name} & names))


def named_order(shot: Shot, order: Order, project: str = "", others: Sequence[Order] = ()) -> Order:
    """An order with its final name: tokens filled in, and the next free version.

    others: waiting orders with final names, which it must not overwrite. Raises IsbjornError if files exist that it would overwrite
    and the order asks for a refusal in that case.
    """
    check_order(shot, order)
    given = {"shot": naming.fit(shot.name), "project": naming.fit(project or "project")}

    def at(version: int) -> Order:
        name = naming.filled(order.name, version=naming.version_text(version), **given)
        return order.model_copy(update={"name": name[:200]})

    # Neither depends on the name.
    there, numbers = naming.names_in(Path(order.folder)), Plan(shot, order).numbers

    def hit(one: Order) -> str | None:
        """What it would write over: a file that is there, or one that another will write."""
        if names := _in_the_way(one, numbers, there):
            return names[0]
        return one.path(None if one.form.single else numbers[0]).name if any(map(one.meets, others)) else None

    if order.existing != "version":
        found = at(1)
        there_already = hit(found)
        if there_already is not None and order.existing == "refuse":
            raise IsbjornError(
                f"{there_already} already exists or is about to be written.", order.folder,
                "Use another name, select the next version, or replace the files.",
            )  # fmt: skip
        return found
    if "{version}" not in order.name:
        raise IsbjornError("version numbers need {version} in the name.", "name", "For example {shot}_v{version}.")
    for version in range(1, naming.MOST_VERSIONS + 1):
        found = at(version)
        if hit(found) is None:
            return found
    raise IsbjornError("all versions up to 9999 exist.", order.folder, "Use another name.")


def sound_over(job: Job, plates: PlateReader) -> MixedSound | Mix | None:
    """What is heard over a job's pictures at the shot's own speed; None where nothing is wanted or there."""
    order, shot, plan = job.order, job.shot, job.plan
    if not order.form.sounds or not order.sound:
        return None
    slates = int(order.slate)
    length = (len(plan) - slates) / plan.rate
    found = sounds_of(
        shot,
        lambda media: Path(plates.resolve(media)),
        shot.seconds(order.first - order.before),
        length,
        order.over_plate,
    )
    return mixed([(replace(sound, delay_s=slates / plan.rate), gain) for sound, gain in found])


class Delivery:
    """Carries out an order that has its final name, and checks the files.

    on_progress: called with the number of finished frames. thumb: file for a small picture of the last one. crew_plates: makes the
    reader of plates in other processes; without it, and without `plates`, paths are relative to the working folder. farm: renders
    instead of this machine; on_workers: called with its workers.
    """

    def __init__(
        self,
        shot: Shot,
        order: Order,
        plates: PlateReader | None = None,
        *,
        worker_plates: Callable[[], PlateReader] | None = None,
        shared_cache: Path | None = None,
        thumb: Path | None = None,
        on_progress: Callable[[int], None] | None = None,
        cancelled: Callable[[], bool] | None = None,
        processes: int | None = None,
        farm: Farm | None = None,
        on_workers: Callable[[list[WorkerCard]], None] | None = None,
    ) -> None:
        self.farm, self.on_workers = farm, on_workers
        self.shot, self.order = shot, order
        self.plates = plates or PlateReader()
        self.worker_plates = worker_plates or partial(PlateReader, self.plates.root)
        self.shared_cache, self.on_progress, self.cancelled = shared_cache, on_progress, cancelled
        self.processes = processes
        self.job = Job(shot, order, Path(order.folder), thumb)
        self._staged = order.form.single or order.existing == "replace"
        if self._staged:
            workshop = Path(order.folder) / f".{order.path(None).name[:120]}.{self.job.identity}"
            self.job = replace(self.job, folder=workshop)

    def run(self) -> list[Path]:
        """Deliver; return the files. Finished chunks are not rendered again: an interrupted order continues.

        Raises Stale when cancelled, IsbjornError when the plate or the disk fails; finished files stay.
        """
        check_order(self.shot, self.order)
        self._begin()
        job = self.job
        there = [job.is_made(part) for part in job.parts]
        missing = [part for part, made in zip(job.parts, there, strict=True) if made < len(part)]
        done = sum(made for part, made in zip(job.parts, there, strict=True) if made == len(part))
        self._report(done)
        with ExitStack() as stack:
            if self.shared_cache is None:
                # Where the processes hand each other what they stepped.
                self.shared_cache = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="isbjorn-")))
                stack.callback(setattr, self, "shared_cache", None)
            if missing:
                self._make(missing, done)
            made = self._finished()
            check_files(self._maker(), made)
        return made

    def _report(self, done: int) -> None:
        if self.on_progress is not None:
            self.on_progress(done)

    def _begin(self) -> None:
        check_folder(self.order)
        try:
            self.job.folder.mkdir(exist_ok=True)
        except OSError as error:
            raise IsbjornError(
                f"this folder cannot be written to ({error.strerror}).", self.order.folder, "Check the free disk space."
            ) from None

    def _make(self, parts: list[range], done: int) -> None:
        if self.farm is not None:
            report = lambda made: self._report(done + made)  # noqa: E731
            shared_caches = None if self.shared_cache is None else SharedCaches.within(self.shared_cache)
            self.farm.run(self.job, parts, self.plates, report, self.cancelled, self.on_workers, shared_caches)
            return
        count = self.processes or processes_for(self.job)
        count = min(count, len(parts))
        if count > 1:
            with WorkerPool(count, self.worker_plates, self.shared_cache) as pool:
                pool.run(self.job, parts, lambda made: self._report(done + made), self.cancelled)
            return
        made = done

        def on_frame() -> None:
            nonlocal made
            made += 1
            self._report(made)

        maker = self._maker(on_frame)
        for part in parts:
            maker.make(part)

    def _maker(self, on_frame: Callable[[], None] | None = None) -> Maker:
        shared_caches = None if self.shared_cache is None else SharedCaches.within(self.shared_cache)
        return Maker(self.job, self.plates, shared_caches, on_frame, self.cancelled)

    def _join_points(self, target: Path) -> None:
        """Put the particles of all parts into one file."""
        # Slow to load, and seldom needed.
        from isbjorn.core.media.exchange.usd import UsdWriter

        job = self.job
        beside = job.folder / f"whole{target.suffix}"
        solver = Solver(self.shot, plates=self.plates)

        def pose(seconds: float, number: int, p: Particles) -> Poses:
            return poses_of(RenderContext(solver.shot, solver, Fraction(seconds), 1.0, solver.plates), number, p)

        with UsdWriter(beside, self.shot, job.plan.rate, job.plan.numbers, pose) as out:
            for part in job.parts:
                with np.load(job.segment(part), allow_pickle=False) as kept:
                    for at in part:
                        picture = job.plan[at]
                        arrays = {name: kept[f"{at}.{name}"] for name in Particles.names()}
                        seconds = float(self.shot.seconds(picture.frame))
                        out.add(picture.number, seconds, Particles(**arrays, refused={}))
        beside.replace(target)

    def _join_tiles(self, target: Path) -> None:
        """Put the small frames of all parts on one picture."""
        job, tiles = self.job, []
        for part in job.parts:
            with np.load(job.segment(part), allow_pickle=False) as kept:
                tiles += [kept[str(at)] for at in part]
        about = PictureInfo(job.plan.rate, job.plan.timecode(job.plan[0]))
        write_still(target, sheet(tiles, self.shot, job.plan), FORMATS["png8"], False, about)

    def _join_movie(self, target: Path, codec: Codec, sound: MixedSound | Mix | None) -> None:
        job = self.job
        segments = [job.segment(part) for part in job.parts]
        if codec.whole:
            encode_whole(segments, target, job.track)
            return
        heard = None if sound is None else sound_rate(self.order.form, sound)
        join_segments(segments, target, job.track, job.plan.timecode(job.plan[0]), heard)

    def _finished(self) -> list[Path]:
        """Put together what the parts made; the files."""
        order, form = self.order, self.order.form
        sound = sound_over(self.job, self.plates) if order.own_speed else None
        if form.single:
            made = [order.path()]
            if form.codec is not None:
                self._join_movie(made[0], form.codec, sound)
            elif form.sheet:
                self._join_tiles(made[0])
            else:
                self._join_points(made[0])
        else:
            made = [order.path(number) for number in self.job.plan.numbers]
            if self._staged:
                self._put_in_place(made)
            if sound is not None:
                write_wave(order.sound_path, sound)
                made.append(order.sound_path)
        if self._staged:
            shutil.rmtree(self.job.folder, ignore_errors=True)
        return made

    def _put_in_place(self, made: list[Path]) -> None:
        """Put what was made beside in place of what was there."""
        try:
            for path in made:
                beside = self.job.folder / path.name
                if beside.is_file():
                    beside.replace(path)
        except OSError as error:
            raise IsbjornError(
                f"the new frames could not be moved into place ({error.strerror}).",
                self.order.folder,
                "Check the free disk space and the folder's permissions.",
            ) from None


def deliver(
    shot: Shot,
    folder: str | Path,
    name: str = "{shot}_v{version}",
    *,
    plates: PlateReader | None = None,
    project: str = "",
    processes: int | None = None,
    on_progress: Callable[[int], None] | None = None,
    **order: object,
) -> list[Path]:
    """Deliver a shot from a script: the files made.

    order: fields of `Order`, as `format="exr-half"`, `passes=("depth",)`; without frames, all of the shot; without more, files that
    are there already are counted on to the next version. Raises IsbjornError and pydantic's ValidationError.
    """
    given = {"first": shot.first_frame, "last": shot.last_frame, "existing": "version", **order}
    wanted = Order.model_validate({"folder": str(Path(folder).absolute()), "name": name, **given})
    ready = named_order(shot, wanted, project)
    return Delivery(shot, ready, plates, processes=processes, on_progress=on_progress).run()
