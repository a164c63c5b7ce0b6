"""The worker of the delivery queue: a process of its own, one per data folder, ending with the studio that started it."""

from __future__ import annotations

import fcntl
import os
import sys
import time
import traceback
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt
import simplejpeg
from pydantic import ValidationError
from sqlmodel import col, select

from isbjorn.core.deliver import Delivery, Order
from isbjorn.core.document.files import first_problem, shot_from_text
from isbjorn.core.errors import IsbjornError, Stale
from isbjorn.core.media.colour import shade_table
from isbjorn.core.media.whole import replace_whole
from isbjorn.core.render.shades import to_shades
from isbjorn.core.runtime.memory import relieve
from isbjorn.core.simulate.handing import Shelves
from isbjorn.studio.plates import StudioPlates
from isbjorn.studio.store import Store
from isbjorn.studio.tables import DeliveryRow, now

_PAUSE_S = 0.3
_TOLD_EVERY_S, _WAIT_S = 0.25, 1.0
_MOST_ATTEMPTS = 3


class Worker:
    """Takes deliveries from the queue, oldest first."""

    def __init__(self, folder: Path, parent: int) -> None:
        self.store, self.parent = Store(folder), parent
        self.plates = StudioPlates(self.store)
        self.shelves = Shelves.within(self.store.shelf_folder)
        self._lock = (self.store.folder / "worker.lock").open("w")

    def orphaned(self) -> bool:
        """Whether the studio that started this worker is gone."""
        return os.getppid() != self.parent

    def run(self) -> None:
        """Work until the studio is gone."""
        while not self.orphaned():
            try:
                fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                time.sleep(_PAUSE_S)
        while not self.orphaned() and not self._safely(self._begin):
            time.sleep(_PAUSE_S)
        while not self.orphaned():
            if not self._safely(self._one):
                time.sleep(_PAUSE_S)

    def _safely(self, call: Callable[[], bool]) -> bool:
        """Whether something was done. What the store refuses (a full disk, a lock) is tried again later."""
        try:
            return call()
        except IsbjornError as error:
            print(f"The delivery queue waits: {error}", file=sys.stderr, flush=True)
            time.sleep(_WAIT_S)
            return False

    def _begin(self) -> bool:
        """Take up what another worker left in the middle; what ended its worker too often is not tried again."""
        with self.store.session(write=True) as session:
            for row in session.exec(select(DeliveryRow).where(DeliveryRow.state == "working")):
                if row.attempts >= _MOST_ATTEMPTS:
                    row.state, row.ended = "failed", now()
                    row.problem = f"The worker ended {row.attempts} times at this delivery. Resume it to try again."
                else:
                    row.state = "waiting"
        return True

    def _one(self) -> bool:
        delivery_id = self._take()
        if delivery_id is None:
            return False
        self._carry_out(delivery_id)
        return True

    def _take(self) -> int | None:
        with self.store.session() as session:
            chosen = select(DeliveryRow.id).where(DeliveryRow.state == "waiting").order_by(col(DeliveryRow.id))
            delivery_id = session.exec(chosen).first()
        if delivery_id is None:
            return None
        with self.store.session(write=True) as session:
            row = session.get(DeliveryRow, delivery_id)
            if row is None or row.state != "waiting":
                return None
            row.state, row.started, row.attempts = "working", now(), row.attempts + 1
            return row.id

    def _carry_out(self, delivery_id: int) -> None:
        with self.store.session() as session:
            row = session.get(DeliveryRow, delivery_id)
            if row is None:
                return
            text, told_order, done = row.document, row.order, row.done
        try:
            order = Order.model_validate_json(told_order)
        except ValidationError as error:
            self._end(
                delivery_id, "failed", problem=f"The order cannot be read ({first_problem(error)[1]}). Order it anew."
            )
            return
        reached, begun, told = 0, time.perf_counter(), 0.0
        checked, stop = 0.0, False

        def cancelled() -> bool:
            nonlocal checked, stop
            if time.perf_counter() - checked > _TOLD_EVERY_S:
                checked = time.perf_counter()
                with suppress(IsbjornError), self.store.session() as session:
                    row = session.get(DeliveryRow, delivery_id)
                    stop = row is None or row.state != "working"
            return stop or self.orphaned()

        def on_frame(frame: int, picture: npt.NDArray[np.float32]) -> None:
            nonlocal reached, told
            reached += 1
            relieve()
            count = frame - order.first + 1
            if time.perf_counter() - told > _TOLD_EVERY_S or count == len(order.frames):
                told = time.perf_counter()
                # What is told on the way may be lost; a frame that is made is made.
                with suppress(IsbjornError, OSError):
                    self._tell(delivery_id, count, (told - begun) / reached * 1000)
                    self._last(delivery_id, picture)

        try:
            made = Delivery(
                shot_from_text(text), order, self.plates, shelves=self.shelves, on_frame=on_frame, cancelled=cancelled
            ).run(done)
            self._end(delivery_id, "done", result=str(made[0]), done=len(order.frames))
        except Stale:
            return
        except IsbjornError as error:
            self._end(delivery_id, "failed", problem=str(error))
        except MemoryError:
            self._end(
                delivery_id,
                "failed",
                problem="There is not enough memory. Choose a smaller scale or fewer particles.",
            )
        except Exception as error:
            # Whatever it is, it ends this delivery and no other.
            traceback.print_exc()
            self._end(delivery_id, "failed", problem=f"Something went wrong that Isbjorn does not know: {error!r:.300}")

    def _tell(self, delivery_id: int, done: int, ms_per_frame: float) -> None:
        with self.store.session(write=True) as session:
            row = session.get(DeliveryRow, delivery_id)
            if row is not None:
                row.done, row.ms_per_frame = max(row.done, done), ms_per_frame

    def _end(
        self,
        delivery_id: int,
        state: str,
        *,
        problem: str | None = None,
        result: str = "",
        done: int | None = None,
    ) -> None:
        while not self.orphaned():
            try:
                self._write_end(delivery_id, state, problem, result, done)
                return
            except IsbjornError:
                # The disk may be full because of this very delivery: it is told as soon as there is room.
                time.sleep(_WAIT_S)

    def _write_end(self, delivery_id: int, state: str, problem: str | None, result: str, done: int | None) -> None:
        with self.store.session(write=True) as session:
            row = session.get(DeliveryRow, delivery_id)
            if row is not None and row.state == "working":
                row.state, row.problem, row.result, row.ended = state, problem, result, now()
                row.done = row.done if done is None else done

    def _last(self, delivery_id: int, picture: npt.NDArray[np.float32]) -> None:
        width = min(320, picture.shape[1])
        small = cv2.resize(
            picture,
            (width, max(1, round(width * picture.shape[0] / picture.shape[1]))),
            interpolation=cv2.INTER_AREA,
        )
        path = self.store.folder / "thumbs" / f"delivery-{delivery_id}.jpg"
        path.parent.mkdir(exist_ok=True)
        shades = to_shades(np.ascontiguousarray(small, dtype=np.float32), shade_table("srgb"))
        replace_whole(path, simplejpeg.encode_jpeg(shades, quality=85, colorspace="RGB"))


if __name__ == "__main__":
    Worker(Path(sys.argv[1]), int(sys.argv[2])).run()
