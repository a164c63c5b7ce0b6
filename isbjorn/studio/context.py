"""What the parts of a running studio share: the store, the preview, and word of edits."""

from __future__ import annotations

import threading
from collections import defaultdict
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from fastapi import Request

from isbjorn.core.document import Shot
from isbjorn.studio.plates import StudioPlates
from isbjorn.studio.preview import Preview
from isbjorn.studio.store import Store


class Studio:
    """One running studio over one data folder."""

    def __init__(self, folder: Path) -> None:
        self.store = Store(folder)
        self.plates = StudioPlates(self.store)
        self.preview = Preview(self.plates)
        self.engine = ThreadPoolExecutor(max_workers=2, thread_name_prefix="engine")
        self._listeners: dict[int, list[Callable[[], object]]] = defaultdict(list)
        self._stamps: dict[int, int] = defaultdict(int)
        self._lock = threading.Lock()

    def listen(self, shot_id: int, heard: Callable[[], object]) -> Callable[[], None]:
        """Be told of every edit of a shot; call the result to be told no more."""
        with self._lock:
            self._listeners[shot_id].append(heard)

        def stop() -> None:
            with self._lock:
                self._listeners[shot_id].remove(heard)

        return stop

    def edited(self, shot_id: int) -> None:
        """Tell all who look at a shot that it changed."""
        with self._lock:
            self._stamps[shot_id] += 1
            heard = list(self._listeners[shot_id])
        for tell in heard:
            tell()

    def stamp(self, shot_id: int) -> int:
        """Grows with every edit of a shot, also with those that are merged into one revision."""
        with self._lock:
            return self._stamps[shot_id]

    def thumb(self, shot: Shot, count: int, width: int) -> bytes:
        """A small moving picture of a shot as a JPEG, kept until the shot changes."""
        kept = self.store.folder / "thumbs" / f"{self.preview.thumb_name(shot)}-{count}.jpg"
        if not kept.is_file():
            kept.parent.mkdir(exist_ok=True)
            part = kept.with_suffix(f".{threading.get_ident()}.part")
            part.write_bytes(self.preview.strip(shot, count, width))
            part.replace(kept)
        return kept.read_bytes()

    def close(self) -> None:
        self.engine.shutdown(wait=False, cancel_futures=True)
        self.store.engine.dispose()


def studio_of(request: Request) -> Studio:
    """The studio that answers a request (a FastAPI dependency)."""
    found: Studio = request.app.state.studio
    return found
