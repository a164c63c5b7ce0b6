"""The reader of plates that keeps to the library and to the folders that the user named."""

from __future__ import annotations

from pathlib import Path

from isbjorn.core.errors import IsbjornError
from isbjorn.core.media.plates import PlateReader
from isbjorn.studio.store import Store


class StudioPlates(PlateReader):
    """Refuses every place that was not named."""

    def __init__(self, store: Store, limit_bytes: int = 256 << 20) -> None:
        super().__init__(store.media_folder, limit_bytes)
        self._store = store
        self._known: set[str] = set()

    def resolve(self, media: str) -> str:
        """The place of a plate. Raises IsbjornError for one outside the library and the named folders."""
        path = super().resolve(media)
        if path not in self._known:
            if not self._store.may_read(Path(path)):
                raise IsbjornError(
                    "this place is not in the library, nor in a folder that you named.",
                    media,
                    "Name its folder, or import it.",
                )
            self._known.add(path)
        return path
