"""Files that drive a shot, such as sounds and recordings. A document names them with the digest of their bytes, so that the result
is a function of the document alone, on any machine and in any folder."""

from __future__ import annotations

import functools
import hashlib
from pathlib import Path
from typing import Protocol
from weakref import WeakSet

from isbjorn.core.errors import IsbjornError


class Finder(Protocol):
    """Knows where the files are that documents name."""

    def resolve(self, media: str) -> str:
        """The path of a file."""
        ...

    def allow(self, path: Path, media: str) -> None:
        """Raise IsbjornError for a file that may not be read."""
        ...


_FINDERS: WeakSet[Finder] = WeakSet()


def finds(finder: Finder) -> None:
    """Look for files where this one says, too, for as long as it exists or until `forget_finder`."""
    _FINDERS.add(finder)


def forget_finder(finder: Finder) -> None:
    """Look for files there no more: its store is closed."""
    _FINDERS.discard(finder)


@functools.lru_cache(maxsize=4096)
def _digest(path: Path, changed: int, size: int) -> str:  # noqa: ARG001
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def digest_of(path: Path) -> str:
    """SHA-256 of a file's bytes, in hexadecimal; read once as long as it does not change. Raises OSError."""
    facts = path.stat()
    return _digest(path, facts.st_mtime_ns, facts.st_size)


def path_of(media: str, digest: str) -> Path:
    """The path of a file with this digest. Raises IsbjornError if there is none that may be read, or if its content differs."""
    refused: IsbjornError | None = None
    other = False
    finders: list[Finder | None] = [*_FINDERS] or [None]
    for finder in finders:
        try:
            path = Path(media if finder is None else finder.resolve(media))
            if digest_of(path) != digest:
                other = True
                continue
            if finder is not None:
                finder.allow(path, media)
        except (OSError, ValueError):
            continue
        except IsbjornError as error:
            refused = error
            continue
        return path
    if refused is not None and not other:
        raise refused
    what = "another file has replaced it." if other else "the file is missing."
    raise IsbjornError(what, media, "Restore it, or import it again.")
