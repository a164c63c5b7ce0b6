"""A cache that processes share: arrays as files in a folder, so that what one process has computed no other has to.

Results never depend on whether an entry is found. A file is there complete or not at all; one that cannot be written or read counts
as missing.
"""

from __future__ import annotations

import io
import os
import shutil
import threading
from collections.abc import Collection, Sequence
from contextlib import suppress
from itertools import count
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from isbjorn.core.runtime.disk import free_bytes

_SWEPT_EVERY = 16
_NEW = ".new-"
# At most this fraction of the free disk space: deliveries and projects need it more.
_OF_FREE = 8


# The cache of what was computed from files and drawings, by their digests, for all processes and later starts; at most one.
LASTING: list[SharedCache] = []


class SharedCache:
    """A folder of entries in groups, safe for threads and processes. The least recently used are removed above `limit_bytes`,
    or above an eighth of the free disk space. Names of groups and entries consist of letters, digits, - and _."""

    def __init__(self, folder: Path, limit_bytes: int) -> None:
        self.folder, self.limit_bytes = folder, limit_bytes
        self._written, self._lock, self._serial = 0, threading.Lock(), count()

    def clear(self) -> None:
        """Remove everything: it may come from another version of the engine."""
        shutil.rmtree(self.folder, ignore_errors=True)

    def names(self, group: str) -> list[str]:
        """Names of the entries of a group, in no order."""
        try:
            return [name for name in os.listdir(self.folder / group) if not name.startswith(_NEW)]
        except OSError:
            return []

    def get(self, group: str, name: str) -> npt.NDArray[np.uint8] | None:
        """The bytes of a thing, (n,); None if it is not there."""
        path = self.folder / group / name
        try:
            found = np.fromfile(path, np.uint8)
            os.utime(path)
        except OSError:
            return None
        return found

    def put(self, group: str, name: str, arrays: Sequence[npt.NDArray[Any]]) -> None:
        """Lay down a thing, array behind array; one that alone takes too much is left."""
        size, room = sum(array.nbytes for array in arrays), self._room()
        if size > room // 4:
            if room < self.limit_bytes:
                self._sweep(room)
            return
        path = self.folder / group / name
        beside = path.with_name(f"{_NEW}{os.getpid()}-{next(self._serial)}")
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            with beside.open("wb") as file:
                for array in arrays:
                    file.write(np.ascontiguousarray(array).data)
            beside.replace(path)
        except OSError:
            with suppress(OSError):
                beside.unlink()
            return
        with self._lock:
            self._written += size
            due = self._written > room // _SWEPT_EVERY
            self._written = 0 if due else self._written
        if due:
            self._sweep(room)

    def arrays(self, group: str, name: str) -> dict[str, npt.NDArray[Any]] | None:
        """What `put_arrays` laid down, by name; None if it is not there, or not whole."""
        content = self.get(group, name)
        if content is None:
            return None
        try:
            with np.load(io.BytesIO(content.tobytes()), allow_pickle=False) as found:
                return {one: found[one] for one in found.files}
        except Exception:  # whatever is wrong with it, it is made again
            return None

    def put_arrays(self, group: str, name: str, **arrays: npt.ArrayLike) -> None:
        """Lay down arrays by name."""
        buffer = io.BytesIO()
        np.savez(buffer, allow_pickle=False, **arrays)
        self.put(group, name, [np.frombuffer(buffer.getvalue(), np.uint8)])

    def _room(self) -> int:
        """What all may take now, in bytes."""
        return min(self.limit_bytes, free_bytes(self.folder) // _OF_FREE)

    def _sweep(self, room: int) -> None:
        """Let the least used go while all take more than they may."""
        found = []
        with suppress(OSError):
            for group in os.scandir(self.folder):
                with suppress(OSError):
                    for one in os.scandir(group.path):
                        status = one.stat()
                        found.append((status.st_mtime_ns, status.st_size, one.path))
        total = sum(size for _, size, _ in found)
        for _, size, path in sorted(found):
            if total <= room:
                break
            total -= size
            with suppress(OSError):
                os.unlink(path)
            # Its group, if it was the last.
            with suppress(OSError):
                os.rmdir(os.path.dirname(path))


def keep_on(shared_cache: SharedCache) -> None:
    """Set the cache for what is computed from files and drawings, so that it is computed once."""
    LASTING[:] = [shared_cache]


def store_arrays(group: str, name: str, **arrays: npt.ArrayLike) -> None:
    """Store what was computed from a file or a drawing, as arrays by name."""
    for shared_cache in LASTING:
        shared_cache.put_arrays(group, name, **arrays)


def load_arrays(group: str, name: str, arrays: Collection[str]) -> dict[str, npt.NDArray[Any]] | None:
    """What `store_arrays` laid there; None if there is nothing, or not just the arrays of these names."""
    for shared_cache in LASTING:
        there = shared_cache.arrays(group, name)
        if there is not None and set(there) == set(arrays):
            return there
    return None
