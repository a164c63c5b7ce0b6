"""Processes that render chunks of deliveries in parallel, each with one thread."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path
from typing import Any

from isbjorn.core.deliver.chunks import Job, Maker
from isbjorn.core.errors import IsbjornError, Stale
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.runtime.memory import budget_bytes
from isbjorn.core.runtime.parallel import init_worker, worker_context
from isbjorn.core.settings import setting
from isbjorn.core.simulate.shared_states import SharedCaches

_MOST, _SLOTS, _ATTEMPTS = 64, 256, 3
_POLLED_EVERY_S = 0.2
# What one process needs besides its caches: the engine itself, and this number of layers of a frame.
_ENGINE_BYTES, _LAYERS = 220 << 20, 14


def _free_bytes() -> int:
    try:
        for line in Path("/proc/meminfo").read_text().splitlines():
            if line.startswith("MemAvailable:"):
                return int(line.split()[1]) << 10
    except (OSError, ValueError):
        pass
    return 4 << 30


def processes_for(job: Job) -> int:
    """Number of processes for a job: one per core, or `ISBJORN_PROCESSES`; no more than it has chunks and than fit into memory."""
    given = setting("ISBJORN_PROCESSES")
    cores = len(os.sched_getaffinity(0))
    wanted = int(given) if given.isascii() and given.isdigit() and 0 < len(given) < 4 else cores
    across, down = job.shot.width * job.order.scale, job.shot.height * job.order.scale
    each = _ENGINE_BYTES + int(across * down) * 16 * _LAYERS
    return max(1, min(wanted, _MOST, len(job.parts), int(0.7 * _free_bytes()) // each))


class WorkerPool:
    """Processes that make parts. plates: makes the reader of plates of each; it must be picklable. Use as a context."""

    def __init__(self, count: int, plates: Callable[[], PlateReader], shared_cache: Path | None = None) -> None:
        self.count, self._plates, self._shared = count, plates, shared_cache
        self._context = worker_context(__name__)
        # Finished frames by chunk number; and whether everything is cancelled.
        self._made = self._context.Array("q", _SLOTS, lock=False)
        self._given_up = self._context.Value("b", 0, lock=False)
        self._pool: ProcessPoolExecutor | None = None

    def __enter__(self) -> WorkerPool:
        return self

    def __exit__(self, *_: object) -> None:
        self._given_up.value = 1
        if self._pool is not None:
            self._pool.shutdown(wait=True, cancel_futures=True)
            self._pool = None

    def _ready(self) -> ProcessPoolExecutor:
        if self._pool is None:
            budget_mb = max(48, (budget_bytes() >> 20) // self.count)
            shared = (self._plates, self._shared, self._made, self._given_up, budget_mb, os.getpid())
            self._pool = ProcessPoolExecutor(self.count, self._context, _begin, shared)
        return self._pool

    def run(
        self, job: Job, parts: list[range], on_made: Callable[[int], None], stale: Callable[[], bool] | None
    ) -> None:
        """Render chunks of a job; on_made: called repeatedly with the number of finished frames.

        A chunk whose process died is rendered again by another, a limited number of times. Raises Stale when cancelled,
        IsbjornError when plate or disk fail; finished chunks stay.
        """
        waiting = [(part, 0) for part in reversed(parts)]
        begun: dict[Future[None], tuple[range, int, int]] = {}
        finished, serial = 0, 0
        try:
            while waiting or begun:
                while waiting and len(begun) < self.count + 1:
                    part, tried = waiting.pop()
                    slot, serial = serial % _SLOTS, serial + 1
                    self._made[slot] = 0
                    begun[self._ready().submit(_make, job, part, slot)] = (part, tried, slot)
                done, _ = wait(begun, timeout=_POLLED_EVERY_S, return_when=FIRST_COMPLETED)
                broken = False
                for future in done:
                    part, tried, _ = begun.pop(future)
                    try:
                        future.result()
                        finished += len(part)
                    except BrokenProcessPool:
                        broken = True
                        waiting.append((part, tried + 1))
                if broken:
                    self._mend(waiting, begun)
                on_made(finished + sum(min(self._made[slot], len(part)) for part, _, slot in begun.values()))
                if stale is not None and stale():
                    raise Stale
        except BaseException:
            self._given_up.value = 1
            wait(begun)
            self._given_up.value = 0
            raise

    def _mend(self, waiting: list[tuple[range, int]], begun: dict[Future[None], tuple[range, int, int]]) -> None:
        """New processes in place of those that died; what they were at waits again."""
        if self._pool is not None:
            self._pool.shutdown(wait=True)
            self._pool = None
        for part, tried, _ in begun.values():
            waiting.append((part, tried + 1))
        begun.clear()
        waiting.sort(key=lambda one: -one[0].start)
        if max(tried for _, tried in waiting) > _ATTEMPTS:
            raise IsbjornError(
                f"the rendering process was ended {_ATTEMPTS + 1} times, probably because memory ran out.",
                "delivery",
                "Select a smaller scale, or use fewer render processes (ISBJORN_PROCESSES).",
            )


class _PoolWorker:
    """What one of the processes holds."""

    def __init__(self, plates: PlateReader, shared_cache: Path | None, made: Any, cancelled: Any) -> None:
        self.plates, self.made, self.cancelled = plates, made, cancelled
        self.shared_caches = None if shared_cache is None else SharedCaches.within(shared_cache)
        self.maker: Maker | None = None

    def maker_of(self, job: Job) -> Maker:
        """The renderer of a job: the previous one, with its caches, if the job is the same."""
        if self.maker is None or self.maker.job.identity != job.identity or self.maker.job.folder != job.folder:
            self.maker = Maker(job, self.plates, self.shared_caches)
        return self.maker


_worker: list[_PoolWorker] = []


def _begin(
    plates: Callable[[], PlateReader], shared_cache: Path | None, made: Any, cancelled: Any, budget_mb: int, parent: int
) -> None:
    init_worker(parent, budget_mb)
    # Pictures for the screen go first.
    os.nice(5)
    _worker.append(_PoolWorker(plates(), shared_cache, made, cancelled))


def _make(job: Job, part: range, slot: int) -> None:
    worker = _worker[0]
    maker = worker.maker_of(job)

    def on_frame() -> None:
        worker.made[slot] += 1

    worker.made[slot] = 0
    maker.on_frame, maker.stale = on_frame, lambda: bool(worker.cancelled.value)
    maker.make(part)
