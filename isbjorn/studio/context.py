"""What the parts of a running studio share: the store, the preview, and word of edits."""

from __future__ import annotations

import asyncio
import fcntl
import os
import re
import shutil
import threading
from collections import defaultdict
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, TypeVar

from fastapi import Path as InPath
from fastapi import Query, Request
from fastapi.concurrency import run_in_threadpool
from sqlmodel import select

from isbjorn.core.caching import RecentCache
from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError, Stale
from isbjorn.core.evaluate.external_files import forget_finder
from isbjorn.core.inspect.guides import Memory
from isbjorn.core.runtime.whole import replace_whole
from isbjorn.core.simulate.shared_states import SharedCaches
from isbjorn.studio.control.controller_input import Inbox, listening
from isbjorn.studio.control.particle_output import telling
from isbjorn.studio.preview.frame_workers import FrameWorkers
from isbjorn.studio.preview.plates import StudioPlates
from isbjorn.studio.preview.preview import Preview
from isbjorn.studio.preview.scheduler import Priority, Scheduler
from isbjorn.studio.storage.store import Locked, Standing, Store
from isbjorn.studio.storage.tables import Media

if TYPE_CHECKING:
    from isbjorn.studio.setup.preparation import Preparation

T = TypeVar("T")
Id = Annotated[int, InPath(ge=0, le=2**63 - 1)]
Frame = Annotated[int, Query(ge=-(2**53), le=2**53)]
Width = Annotated[int, Query(ge=16, le=8192, description="px")]
_AT_ONCE, _WAITING_AT_MOST, _GUIDED_KEPT = 2, 8, 8
# Largest number of untrusted files that are read at once, each in a sandbox process, and that wait.
_READ_AT_ONCE, _READS_AT_MOST = 2, 10
_MADE_HERE = re.compile(r"[mpfrsk][0-9a-f]{8}|batch-[a-z0-9]{4,40}")


class Busy(IsbjornError):
    """More is asked for at once than can be done."""


def only_one(folder: Path) -> int:
    """Hold the folder for this studio alone; an open file. Raises Locked when another has it."""
    handle = os.open(folder / "studio.lock", os.O_RDWR | os.O_CREAT, 0o600)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        owner = os.read(handle, 20).decode("ascii", "replace").strip() or "unknown"
        os.close(handle)
        raise Locked(
            f"another studio (process {owner}) uses this folder.",
            str(folder),
            "Use that studio, or another folder with --data.",
        ) from None
    os.ftruncate(handle, 0)
    os.pwrite(handle, str(os.getpid()).encode(), 0)
    return handle


def _swept(store: Store) -> None:
    """Take away what uploads and imports left behind that were cut off by the end of a studio."""
    for part in (*store.media_folder.glob(".*"), *store.folder.glob(".*-import.zip"), *store.folder.glob("tmp*.zip")):
        with suppress(OSError):
            part.unlink()
    with store.session() as session:
        named = {media.split("/")[0] for media in session.exec(select(Media.media))}
    for home in store.media_folder.iterdir():
        if _MADE_HERE.fullmatch(home.name) and home.name not in named and home.is_dir():
            shutil.rmtree(home, ignore_errors=True)


class Studio:
    """One running studio over one data folder."""

    def __init__(self, folder: Path) -> None:
        self.store = Store(folder)
        self._held: int | None = only_one(self.store.folder)
        try:
            _swept(self.store)
        except BaseException:
            self.close_lock()
            raise
        self.damage: str | None = None
        # What is made ready beside it, if anything is.
        self.preparation: Preparation | None = None
        # How many shots are performed.
        self.shows = 0
        # How often a set list became another.
        self.sets_changed = 0
        self._waiting = 0
        self._few = asyncio.Semaphore(_AT_ONCE)
        self.plates = StudioPlates(self.store, shared=True)
        shared_caches = SharedCaches.within(self.store.cache_folder)
        shared_caches.clear()
        self.plates.forget()
        self.preview = Preview(self.plates, shared_caches=shared_caches)
        self.scheduler = Scheduler()
        self.frame_workers = FrameWorkers(self.store.folder, self.scheduler)
        self.inbox = Inbox(*listening(os.environ.get("ISBJORN_OSC", "")))
        self.outbox = telling(os.environ.get("ISBJORN_OSC_OUT", ""))
        self._readers = ThreadPoolExecutor(max_workers=_READ_AT_ONCE, thread_name_prefix="readers")
        self._reads = 0
        self._listeners: dict[int, list[Callable[[], object]]] = defaultdict(list)
        self._stamps: dict[int, int] = defaultdict(int)
        self._guided: RecentCache[int, Memory] = RecentCache(_GUIDED_KEPT)
        self._stood: RecentCache[int, tuple[int, int, Shot]] = RecentCache(_GUIDED_KEPT)
        self._lock = threading.Lock()

    def guided(self, shot_id: int) -> Memory:
        """What is known of the guides of a shot; of some shots."""
        return self._guided.get(shot_id, Memory)

    def listen(self, shot_id: int, heard: Callable[[], object]) -> Callable[[], None]:
        """Subscribe to the edits of a shot; call the result to unsubscribe."""
        with self._lock:
            self._listeners[shot_id].append(heard)

        def stop() -> None:
            with self._lock:
                self._listeners[shot_id].remove(heard)

        return stop

    def edited(self, shot_id: int) -> Standing:
        """Notify all subscribers of a shot that it changed; returns the new state."""
        with self._lock:
            self._stamps[shot_id] += 1
            stamp = self._stamps[shot_id]
        standing = self.store.standing(shot_id)
        with self._lock:
            self._stood.put(shot_id, (stamp, standing.row.head, standing.shot))
            heard = list(self._listeners[shot_id])
        for notify in heard:
            notify()
        return standing

    def seen(self, shot_id: int) -> tuple[int, int, Shot]:
        """A number that grows with every edit of a shot, also with those that are merged into one revision; the revision, and the
        current document."""
        with self._lock:
            stamp, known = self._stamps[shot_id], self._stood.peek(shot_id)
        if known is not None and known[0] == stamp:
            return known
        standing = self.store.standing(shot_id)
        return stamp, standing.row.head, standing.shot

    async def thumb(self, request: Request, shot: Shot, count: int, width: int, exposed: bool = False) -> bytes:
        """A small moving picture of a shot as a JPEG, kept until the shot changes; drawn while nothing is played, and cancelled
        when the caller is gone. exposed: bright enough to be recognised."""
        mark = "-exposed" if exposed else ""

        def there() -> tuple[Path, bytes | None]:
            kept = self.store.folder / "thumbs" / f"{self.preview.thumb_name(shot)}-{count}{mark}.jpg"
            return kept, kept.read_bytes() if kept.is_file() else None

        def work(stale: Callable[[], bool]) -> bytes:
            # Another may have asked for the same one before.
            kept, found = there()
            if found is not None:
                return found
            made = self.preview.strip(shot, count, width, exposed, stale, self.scheduler.is_lively)
            with suppress(OSError):
                # Without room on the disk it is only not kept.
                kept.parent.mkdir(exist_ok=True)
                replace_whole(kept, made)
            return made

        # A cached one does not wait for those that are being drawn.
        _, found = await run_in_threadpool(there)
        return found if found is not None else await self.drawn_in_turn(request, Priority.THUMBNAIL, work)

    async def drawn(self, request: Request, work: Callable[[Callable[[], bool]], T]) -> T:
        """The result of a rendering off the event loop, few at once; cancelled when the caller is gone.

        work is given a function that says whether that is so. Raises Busy when too many wait already.
        """
        if self._waiting >= _WAITING_AT_MOST:
            raise Busy("too many pictures are requested at once.", "picture", "Try again when one has arrived.")
        self._waiting += 1
        try:
            async with self._few:
                return await self.drawn_in_turn(request, Priority.REST, work)
        finally:
            self._waiting -= 1

    async def drawn_in_turn(self, request: Request, priority: Priority, work: Callable[[Callable[[], bool]], T]) -> T:
        """The result of a rendering off the event loop, in its turn; cancelled when the caller is gone. work: as for `drawn`."""
        viewer = request.client and (request.client.host, request.client.port)
        if await request.is_disconnected():
            raise Stale
        gone = threading.Event()

        def begun() -> T:
            if gone.is_set():
                raise Stale
            return work(gone.is_set)

        async def watch() -> None:
            while not await request.is_disconnected():
                await asyncio.sleep(0.2)
            gone.set()

        watching = asyncio.create_task(watch())
        try:
            return await asyncio.wrap_future(self.scheduler.draw(priority, viewer, begun))
        finally:
            # Also if this is cancelled, as when the studio ends: whatever still renders for it stops.
            gone.set()
            watching.cancel()

    async def reading(self, work: Callable[..., T], *args: Any) -> T:
        """The result of work on an untrusted file, which may take a sandbox process for long: few at once, on separate threads, so
        that the server's stay free. Raises Busy when too many wait already."""
        if self._reads >= _READS_AT_MOST:
            raise Busy("too many files are being read at once.", "files", "Try again when one is finished.")
        self._reads += 1
        try:
            return await asyncio.get_running_loop().run_in_executor(self._readers, work, *args)
        finally:
            self._reads -= 1

    def forget_plates(self) -> None:
        """Check every file of a plate again, and whether it may be read."""
        self.plates.forget()
        self.frame_workers.forget_plates()

    def close(self) -> None:
        if self.preparation is not None:
            self.preparation.close()
        self.inbox.close()
        self.outbox.close()
        self.frame_workers.close()
        self.scheduler.close()
        self._readers.shutdown(wait=False, cancel_futures=True)
        forget_finder(self.plates)
        self.store.engine.dispose()
        self.close_lock()

    def close_lock(self) -> None:
        """Let another studio have the folder."""
        if self._held is not None:
            os.close(self._held)
            self._held = None


def studio_of(request: Request) -> Studio:
    """The studio that answers a request (a FastAPI dependency)."""
    found: Studio = request.app.state.studio
    return found
