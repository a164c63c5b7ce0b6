"""The worker of the delivery queue: a separate process, one per data folder, which ends with the studio that started it."""

from __future__ import annotations

import fcntl
import json
import os
import sys
import time
import traceback
from collections.abc import Callable
from contextlib import suppress
from dataclasses import asdict
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from pydantic import ValidationError
from sqlmodel import col, select

from isbjorn.core.deliver import Delivery, Order
from isbjorn.core.deliver.plan import Plan
from isbjorn.core.document.files import first_problem, shot_from_text
from isbjorn.core.errors import IsbjornError, Stale, missing_package
from isbjorn.core.inspect.delivery_preview import about_bytes
from isbjorn.core.runtime.disk import free_bytes
from isbjorn.core.runtime.whole import replace_whole
from isbjorn.studio.preview.plates import StudioPlates, shared_plates
from isbjorn.studio.storage.store import Store
from isbjorn.studio.storage.tables import DeliveryRow, now

if TYPE_CHECKING:
    from isbjorn.core.deliver.farm.client import Farm, WorkerCard

_PAUSE_S = 0.3
_REPORTED_EVERY_S, _WAIT_S = 0.25, 1.0
_MOST_ATTEMPTS = 3
_SHOWN_EVERY_S = 1.0


class _Pace:
    """How long a frame takes. What was there already does not count, nor does the start of what draws."""

    def __init__(self) -> None:
        self._there: int | None = None
        self._since: tuple[int, float] | None = None

    def ms(self, made: int) -> float:
        """Milliseconds per frame after this many frames; 0 while unknown."""
        now = time.perf_counter()
        if self._there is None:
            self._there = made
        if self._since is None:
            if made > self._there:
                self._since = made, now
            return 0.0
        first, begun = self._since
        return (now - begun) / (made - first) * 1000 if made > first else 0.0


class Worker:
    """Takes deliveries from the queue, oldest first. first: it is the first worker of its studio, so that unfinished deliveries
    were interrupted by an end of the studio or of the machine, and not by a crash of the worker."""

    def __init__(self, folder: Path, parent: int, first: bool = False) -> None:
        self.store, self.parent, self.first = Store(folder), parent, first
        self.plates = StudioPlates(self.store)
        self.farm: Farm | None = None
        self._shown = 0.0
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
                if self.first:
                    row.attempts = 0
                if row.attempts >= _MOST_ATTEMPTS:
                    row.state, row.ended = "failed", now()
                    row.problem = f"The worker ended {row.attempts} times during this delivery. Resume it to try again."
                else:
                    row.state = "waiting"
        return True

    def _one(self) -> bool:
        delivery_id = self._take()
        if delivery_id is None:
            if self.farm is not None:
                self._show(self.farm.workers())
            return False
        self._carry_out(delivery_id)
        return True

    def _join(self) -> Farm | None:
        """The farm that was named, if one was. Raises IsbjornError when it does not answer."""
        address = os.environ.get("ISBJORN_SCHEDULER", "")
        if address and self.farm is None:
            # Slow to load, and only needed with a farm.
            from isbjorn.core.deliver.farm.client import Farm

            self.farm = Farm(address, os.environ.get("ISBJORN_FARM_KEY", ""))
        return self.farm

    def _show(self, cards: list[WorkerCard]) -> None:
        """Lay down what the farm's workers do, for the studio to show."""
        if time.monotonic() - self._shown > _SHOWN_EVERY_S:
            self._shown = time.monotonic()
            text = json.dumps([asdict(one) for one in cards])
            with suppress(OSError):
                replace_whole(self.store.farm_file, text.encode())

    def _take(self) -> int | None:
        with self.store.session() as session:
            chosen = select(DeliveryRow.id).where(DeliveryRow.state == "waiting")
            chosen = chosen.order_by(col(DeliveryRow.priority).desc(), col(DeliveryRow.id))
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
            text, order_text = row.document, row.order
        try:
            order = Order.model_validate_json(order_text)
        except ValidationError as error:
            self._end(
                delivery_id, "failed", problem=f"The order cannot be read ({first_problem(error)[1]}). Create it again."
            )
            return
        pace, reported_at, checked, stop, made_so_far = _Pace(), 0.0, 0.0, False, 0

        def cancelled() -> bool:
            nonlocal checked, stop
            if time.perf_counter() - checked > _REPORTED_EVERY_S:
                checked = time.perf_counter()
                with suppress(IsbjornError), self.store.session() as session:
                    row = session.get(DeliveryRow, delivery_id)
                    stop = row is None or row.state != "working"
            return stop or self.orphaned()

        def on_progress(made: int) -> None:
            nonlocal reported_at, made_so_far
            made_so_far, ms = made, pace.ms(made)
            if time.perf_counter() - reported_at > _REPORTED_EVERY_S:
                reported_at = time.perf_counter()
                # Progress messages may be lost; finished frames stay.
                with suppress(IsbjornError):
                    self._report(delivery_id, made, ms)

        try:
            delivery = Delivery(
                shot_from_text(text),
                order,
                self.plates,
                worker_plates=partial(shared_plates, self.store.folder),
                shared_cache=self.store.cache_folder,
                thumb=self.store.folder / "thumbs" / f"delivery-{delivery_id}.jpg",
                on_progress=on_progress,
                cancelled=cancelled,
                farm=self._join(),
                on_workers=self._show,
            )
            made = delivery.run()
            self._end(delivery_id, "done", result=str(made[0]), done=len(delivery.job.plan))
        except Stale:
            return
        except IsbjornError as error:
            self._end(delivery_id, "failed", problem=f"{error}{_room(text, order, made_so_far)}")
        except MemoryError:
            self._end(
                delivery_id,
                "failed",
                problem="There is not enough memory. Select a smaller scale or reduce the particles.",
            )
        except Exception as error:
            if isinstance(error, ModuleNotFoundError) and (missing := missing_package(error)) is not None:
                self._end(delivery_id, "failed", problem=str(missing))
                return
            # Whatever it is, it ends this delivery and no other.
            traceback.print_exc()
            self._end(delivery_id, "failed", problem=f"Unexpected error: {error!r:.300}")

    def _report(self, delivery_id: int, done: int, ms_per_frame: float) -> None:
        with self.store.session(write=True) as session:
            row = session.get(DeliveryRow, delivery_id)
            if row is not None:
                row.done, row.ms_per_frame = done, ms_per_frame

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
                # The disk may be full because of this very delivery: the message is stored as soon as there is room.
                time.sleep(_WAIT_S)

    def _write_end(self, delivery_id: int, state: str, problem: str | None, result: str, done: int | None) -> None:
        with self.store.session(write=True) as session:
            row = session.get(DeliveryRow, delivery_id)
            if row is not None and row.state == "working":
                row.state, row.problem, row.result, row.ended = state, problem, result, now()
                row.done = row.done if done is None else done


def _room(text: str, order: Order, made: int) -> str:
    """How much room the rest of a delivery takes, where the disk has less."""
    with suppress(IsbjornError):
        shot = shot_from_text(text)
        needed = about_bytes(shot, order, len(Plan(shot, order)) - made)
        free = free_bytes(Path(order.folder))
        if free < needed:
            return f" The rest needs about {needed / 1000000.0:,.0f} MB, and {free / 1000000.0:,.0f} MB are free."
    return ""


if __name__ == "__main__":
    Worker(Path(sys.argv[1]), int(sys.argv[2]), first=sys.argv[3:] == ["first"]).run()
