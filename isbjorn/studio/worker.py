"""The worker of the delivery queue: a process of its own, one per data folder, ending with the studio that started it."""

from __future__ import annotations

import fcntl
import os
import sys
import time
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt
import simplejpeg
from sqlmodel import col, select

from isbjorn.core.deliver import Delivery, Order
from isbjorn.core.document.files import shot_from_text
from isbjorn.core.errors import IsbjornError, Stale
from isbjorn.core.media.colour import shade_table
from isbjorn.core.picture.compose import to_shades
from isbjorn.studio.plates import StudioPlates
from isbjorn.studio.store import Store
from isbjorn.studio.tables import DeliveryRow, now

_PAUSE_S = 0.3
_TOLD_EVERY_S = 0.25


class Worker:
    """Takes deliveries from the queue, oldest first."""

    def __init__(self, folder: Path, parent: int) -> None:
        self.store, self.parent = Store(folder), parent
        self.plates = StudioPlates(self.store)
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
        with self.store.session() as session:
            # What another worker left in the middle goes on where it stood.
            for row in session.exec(select(DeliveryRow).where(DeliveryRow.state == "working")):
                row.state = "waiting"
        while not self.orphaned():
            delivery_id = self._take()
            if delivery_id is None:
                time.sleep(_PAUSE_S)
            else:
                self._carry_out(delivery_id)

    def _take(self) -> int | None:
        with self.store.session() as session:
            chosen = select(DeliveryRow).where(DeliveryRow.state == "waiting").order_by(col(DeliveryRow.id))
            row = session.exec(chosen).first()
            if row is None:
                return None
            row.state, row.started = "working", now()
            return row.id

    def _carry_out(self, delivery_id: int) -> None:
        with self.store.session() as session:
            row = session.get(DeliveryRow, delivery_id)
            if row is None:
                return
            text, order, done = row.document, Order.model_validate_json(row.order), row.done
        reached, begun, told = 0, time.perf_counter(), 0.0
        checked, stop = 0.0, False

        def cancelled() -> bool:
            nonlocal checked, stop
            if time.perf_counter() - checked > _TOLD_EVERY_S:
                checked = time.perf_counter()
                with self.store.session() as session:
                    row = session.get(DeliveryRow, delivery_id)
                    stop = row is None or row.state != "working"
            return stop or self.orphaned()

        def on_frame(frame: int, picture: npt.NDArray[np.float32]) -> None:
            nonlocal reached, told
            reached += 1
            count = frame - order.first + 1
            if time.perf_counter() - told > _TOLD_EVERY_S or count == len(order.frames):
                told = time.perf_counter()
                self._tell(delivery_id, count, (told - begun) / reached * 1000)
                self._last(delivery_id, picture)

        try:
            made = Delivery(shot_from_text(text), order, self.plates, on_frame=on_frame, cancelled=cancelled).run(done)
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

    def _tell(self, delivery_id: int, done: int, ms_per_frame: float) -> None:
        with self.store.session() as session:
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
        with self.store.session() as session:
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
        part = path.with_suffix(".part")
        shades = to_shades(np.ascontiguousarray(small, dtype=np.float32), shade_table("srgb"))
        part.write_bytes(simplejpeg.encode_jpeg(shades, quality=85, colorspace="RGB"))
        part.replace(path)


if __name__ == "__main__":
    Worker(Path(sys.argv[1]), int(sys.argv[2])).run()
