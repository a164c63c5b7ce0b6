"""The reader of plates that keeps to the library and to the folders that the user named."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from isbjorn.core.errors import IsbjornError
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.runtime.shared_cache import SharedCache, keep_on
from isbjorn.studio.storage.store import Store

_SHELF_BYTES = 384 << 20
LASTING_BYTES = 512 << 20


class StudioPlates(PlateReader):
    """Refuses every place that was not named, wherever a link leads: the one place where files are let in.

    shared: frames are handed to other processes of the studio.
    """

    def __init__(self, store: Store, limit_bytes: int | None = None, shared: bool = False) -> None:
        shared_cache = SharedCache(store.cache_folder / "plates", _SHELF_BYTES) if shared else None
        super().__init__(store.media_folder, limit_bytes, shared_cache)
        keep_on(SharedCache(store.lasting_folder, LASTING_BYTES))
        self._store = store
        self._known: set[str] = set()

    def allow(self, path: Path, media: str) -> None:
        """Raise IsbjornError for a file outside the library and the named folders."""
        if str(path) in self._known:
            return
        if not self._store.may_read(path):
            raise IsbjornError(
                "this path is outside the library and the project's folders.",
                media,
                "Add its folder, or import the file.",
            )
        try:
            fixed = not path.is_symlink()
        except OSError as error:
            raise IsbjornError(
                f"this path cannot be read ({error.strerror}).", media[:200], "Choose another."
            ) from None
        if fixed:
            self._known.add(str(path))

    def resolve(self, media: str) -> str:
        """The place of a plate. Raises IsbjornError for one outside the library and the named folders."""
        path = super().resolve(media)
        self.allow(Path(path), media)
        return path

    def forget(self) -> None:
        """Check every path again, after a folder was removed."""
        self._known = set()
        super().forget()

    def probe(self, media: str) -> dict[str, Any]:
        """What a plate is (see `isbjorn.core.media.read.plates.probe`), if it may be read."""
        return self.probed(media)


def shared_plates(folder: Path) -> StudioPlates:
    """The reader of plates of a process that works for the studio of a folder."""
    return StudioPlates(Store(folder), shared=True)
