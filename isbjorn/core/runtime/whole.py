"""Files that appear whole under their name, or not at all."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO


def _settled(folder: Path) -> None:
    """Flush a new name in a folder to the disk."""
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    except OSError:
        pass  # Some file systems know no such thing for folders; the file itself is safe.
    finally:
        os.close(handle)


class _WatchedFile:
    """A file that remembers what the disk refused, for writers that keep it to themselves."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file = file
        self.refused: OSError | None = None
        self.name = file.name

    def write(self, content: bytes) -> int:
        try:
            return self._file.write(content)
        except OSError as error:
            self.refused = self.refused or error
            raise

    def seek(self, offset: int, whence: int = 0) -> int:
        return self._file.seek(offset, whence)

    def tell(self) -> int:
        return self._file.tell()

    def flush(self) -> None:
        self._file.flush()


@contextmanager
def whole(path: Path) -> Iterator[_WatchedFile]:
    """A file that is written under a temporary name and moved into place once it is flushed to the disk.

    Raises OSError when the disk takes less than the whole file; then the previous file stays, and no temporary file is left.
    """
    partial = path.with_name(f".{path.name}.part{path.suffix}")
    try:
        with partial.open("wb") as file:
            watched = _WatchedFile(file)
            try:
                yield watched
            except Exception as error:
                # A library reports a failed write in general words; the disk's own error is more useful.
                if watched.refused is None:
                    raise
                raise watched.refused from error
            if watched.refused is not None:
                raise watched.refused
            file.flush()
            os.fsync(file.fileno())
        os.replace(partial, path)
    except BaseException:
        partial.unlink(missing_ok=True)
        raise
    _settled(path.parent)


def replace_whole(path: Path, content: bytes) -> None:
    """Put a file in its place at once. Raises OSError when the disk takes less than all of it."""
    with whole(path) as file:
        file.write(content)
