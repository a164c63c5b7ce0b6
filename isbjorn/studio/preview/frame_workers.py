"""Frames drawn in parallel, each in a process with one thread.

Kernels that split one frame over the cores gain little, for much of a frame is serial; whole frames in parallel gain all. The
processes are forked from one that has loaded the engine, so that they share its code, and begin at once.
"""

from __future__ import annotations

import gc
import itertools
import os
import threading
import time
from collections.abc import Hashable, Sequence
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from weakref import finalize

from isbjorn.core.caching import RecentCache
from isbjorn.core.document import Shot
from isbjorn.core.errors import Stale
from isbjorn.core.runtime.memory import budget_bytes
from isbjorn.core.runtime.parallel import init_worker, worker_context
from isbjorn.core.settings import setting
from isbjorn.core.simulate.shared_states import SharedCaches
from isbjorn.studio.preview.plates import StudioPlates
from isbjorn.studio.preview.preview import Preview, ShownPicture, Wish
from isbjorn.studio.preview.scheduler import Priority, Scheduler
from isbjorn.studio.preview.shot_transfer import Pieces, ShotDecoder, pieces_of
from isbjorn.studio.storage.store import Store

_MOST, _TICKETS, _SHOTS_KEPT = 16, 256, 4
# What all processes that draw for a studio are forked from.
PRELOADED = ("isbjorn.studio.preview.frame_workers", "isbjorn.studio.shows.show_process")
_ENDED_WITHIN_S = 3.0


@dataclass(frozen=True)
class Mark:
    """What is passed to the processes with a task: it is wanted while its flag in the shared array has this serial number."""

    slot: int
    serial: int

    def stands(self, flags: Any) -> bool:
        """Whether the task is still wanted."""
        return bool(flags[self.slot] == self.serial)

    def clear(self, flags: Any) -> None:
        """Want the task no more."""
        if self.stands(flags):
            flags[self.slot] = 0


class Ticket:
    """Tasks that belong together, and are cancelled together. Its flag is its own until it is dropped or forgotten."""

    def __init__(self, flags: Any, mark: Mark) -> None:
        self.mark = mark
        flags[mark.slot] = mark.serial
        self.drop = finalize(self, mark.clear, flags)
        self.drop.atexit = False

    def outlast(self, task: Future[Any]) -> None:
        """Called when a task is done: until then, the ticket is not forgotten."""


class FrameWorkers:
    """Processes that render frames. Started when they are first needed, and again when one was killed."""

    def __init__(self, folder: Path, scheduler: Scheduler, count: int | None = None) -> None:
        given = setting("ISBJORN_FRAME_WORKERS")
        wanted = int(given) if given.isascii() and given.isdigit() and len(given) < 4 else os.cpu_count() or 1
        self.folder, self.count = folder, min(_MOST, max(1, count or wanted))
        self.scheduler = scheduler
        # One task waits in front of each process, so that none is idle between two.
        self.scheduler.give_room("workers", self.count + 1)
        self.scheduler.give_room("follower", 2)
        self._context = worker_context(*PRELOADED)
        self._flags = self._context.Array("Q", _TICKETS + 1, lock=False)
        self._serials = itertools.count(1)
        self._lock = threading.Lock()
        # Frames in parallel; and one at a time, by a worker that remembers its last picture.
        self._pools: dict[bool, ProcessPoolExecutor] = {}
        self._packed: RecentCache[str, Pieces] = RecentCache(_SHOTS_KEPT)
        self._plates_seen, self._closed = 0, False

    def ticket(self) -> Ticket:
        """A group of tasks that are cancelled together. When all flags are in use, its tasks are carried out to their end."""
        with self._lock:
            free = next((slot for slot in range(_TICKETS) if self._flags[slot] == 0), None)
            return Ticket(self._flags, Mark(_TICKETS, 0) if free is None else Mark(free, next(self._serials)))

    def forget_plates(self) -> None:
        """Make them check every file again, and whether it may be read."""
        self._plates_seen += 1

    def warm(self) -> None:
        """Start the processes, so that the first frame need not wait for them."""
        for _ in range(self.count):
            self._submit(False, time.sleep, 0.05)
        self._submit(True, time.sleep, 0.05)

    def draw(
        self, shot: Shot, digest: str, wish: Wish, ticket: Ticket, priority: Priority = Priority.AHEAD,
        viewer: Hashable = None,
    ) -> Future[ShownPicture]:  # fmt: skip
        """A frame, as `Preview.draw` gives it; Stale when its ticket was dropped, BrokenProcessPool when its process died.

        Pictures of a drag are drawn by the one process that knows those before.
        """
        return self._drawn(_draw, shot, digest, wish, ticket, priority, viewer)

    def draw_all(
        self,
        shot: Shot,
        digest: str,
        wishes: Sequence[Wish],
        ticket: Ticket,
        priority: Priority,
        viewer: Hashable = None,
    ) -> Future[list[ShownPicture]]:
        """Several frames, drawn one after the other by one process, as by `draw`."""
        return self._drawn(_draw_all, shot, digest, tuple(wishes), ticket, priority, viewer)

    def _drawn(
        self, call: Any, shot: Shot, digest: str, wished: Any, ticket: Ticket, priority: Priority, viewer: Hashable
    ) -> Future[Any]:
        following = priority == Priority.DRAG
        packed = self._packed.get(digest, lambda: pieces_of(shot))

        def start() -> Future[Any]:
            return self._submit(following, call, packed, digest, wished, ticket.mark, self._plates_seen)

        drawn = self.scheduler.submit(priority, viewer, start, "follower" if following else "workers")
        drawn.add_done_callback(ticket.outlast)
        return drawn

    def _submit(self, following: bool, call: Any, *args: Any) -> Future[Any]:
        with self._lock:
            if self._closed:
                raise Stale
            if following not in self._pools:
                self._pools[following] = self._made(following)
            try:
                return self._pools[following].submit(call, *args)
            except BrokenProcessPool:
                self._pools[following].shutdown(wait=False)
                self._pools[following] = self._made(following)
                return self._pools[following].submit(call, *args)

    def _made(self, following: bool) -> ProcessPoolExecutor:
        # Together they get half of the cache budget; their pictures are cached by the studio.
        each_mb = max(32, (budget_bytes() >> 21) // (self.count + 1))
        given = (str(self.folder), self._flags, each_mb, os.getpid())
        return ProcessPoolExecutor(1 if following else self.count, self._context, _begin, given)

    def close(self) -> None:
        """End the processes; their tasks are cancelled."""
        with self._lock:
            self._closed = True
            for slot in range(_TICKETS):
                self._flags[slot] = 0
            pools, self._pools = self._pools, {}
        all_of = {"wait": True, "cancel_futures": True}
        ending = [threading.Thread(target=pool.shutdown, kwargs=all_of, daemon=True) for pool in pools.values()]
        for one in ending:
            one.start()
        for one in ending:
            one.join(_ENDED_WITHIN_S)
        if pools:
            # What they shared with the studio is given back now: the process may end by a signal.
            pools.clear()
            ending.clear()
            gc.collect()


class _FrameWorker:
    """What one of the processes holds."""

    def __init__(self, folder: str, flags: Any) -> None:
        self.flags, self.plates_seen = flags, 0
        store = Store(Path(folder))
        self.plates = StudioPlates(store, shared=True)
        # Pictures are stored by the caller.
        self.preview = Preview(self.plates, limit_bytes=0, shared_caches=SharedCaches.within(store.cache_folder))
        self.shots: RecentCache[str, Shot] = RecentCache(_SHOTS_KEPT)
        self.taker = ShotDecoder()

    def shot(self, packed: Pieces, digest: str) -> Shot:
        return self.shots.get(digest, lambda: self.taker(packed))


# One in each process, and none in the studio.
_worker: list[_FrameWorker] = []


def _begin(folder: str, flags: Any, budget_mb: int, studio: int) -> None:
    init_worker(studio, budget_mb)
    _worker.append(_FrameWorker(folder, flags))


def _draw(packed: Pieces, digest: str, wish: Wish, mark: Mark, plates_seen: int) -> ShownPicture:
    worker = _worker[0]
    if not mark.stands(worker.flags):
        raise Stale
    if plates_seen != worker.plates_seen:
        worker.plates.forget()
        worker.plates_seen = plates_seen
    return worker.preview.draw(worker.shot(packed, digest), digest, wish, lambda: not mark.stands(worker.flags))


def _draw_all(
    packed: Pieces, digest: str, wishes: tuple[Wish, ...], mark: Mark, plates_seen: int
) -> list[ShownPicture]:
    return [_draw(packed, digest, wish, mark, plates_seen) for wish in wishes]
