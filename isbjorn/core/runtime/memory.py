"""One budget of bytes for all caches, and the true memory of the process."""

from __future__ import annotations

import ctypes
import os
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Hashable
from pathlib import Path
from typing import Generic, Literal, TypeVar

V = TypeVar("V")
Part = Literal["states", "pictures", "plates", "pages", "arrivals", "outlines", "layers", "heard", "models"]
_SHARES: dict[Part, float] = {
    "states": 0.26, "pictures": 0.14, "plates": 0.14, "pages": 0.11, "arrivals": 0.05, "outlines": 0.06, "layers": 0.12,
    "heard": 0.05, "models": 0.07,
}  # fmt: skip
BYTES_PER_PARTICLE = 76
# All caches of a process together; ISBJORN_MEMORY_MB sets another.
_BUDGET_MB = 512
# What the code, its libraries and its compiled kernels take, without any shot.
_CODE_BYTES = 400 << 20
_RELIEVED_EVERY_S = 1.0
# Threads that allocate share this number of heaps: what one frees, another takes.
_HEAPS = 2
# Arrays up to this size come from the heap, and this much of it stays with the process when they are freed: a frame's layers reuse
# the memory of the last one's, instead of pages that the system must clear first.
_LARGEST_ON_HEAP, _STAYS = 32 << 20, 192 << 20


def budget_bytes() -> int:
    """Bytes that all caches of this process may hold together."""
    text = os.environ.get("ISBJORN_MEMORY_MB", "")
    return (int(text) if text.isascii() and text.isdigit() and len(text) < 9 else _BUDGET_MB) << 20


def share_of(part: Part) -> int:
    """The bytes of one cache."""
    return int(budget_bytes() * _SHARES[part])


def resident_bytes() -> int:
    """The memory that this process really holds."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")


class _Heap:
    """The C library's heap. It holds large arrays that were freed until it is asked to return them."""

    def __init__(self) -> None:
        self._lock, self._last = threading.Lock(), 0.0
        try:
            self._libc: ctypes.CDLL | None = ctypes.CDLL(None)
            self._libc.mallopt(-8, _HEAPS)  # M_ARENA_MAX, before threads are there
            self._libc.mallopt(-3, _LARGEST_ON_HEAP)  # M_MMAP_THRESHOLD
            self._libc.mallopt(-1, _STAYS)  # M_TRIM_THRESHOLD
            self._trim = self._libc.malloc_trim
        except (OSError, AttributeError):  # another C library
            self._libc = None

    def relieve(self) -> None:
        """Give freed memory back when the process holds more than its caches and its code may take; at most once a second."""
        if self._libc is None or resident_bytes() < _CODE_BYTES + budget_bytes():
            return
        with self._lock:
            if time.monotonic() - self._last < _RELIEVED_EVERY_S:
                return
            self._last = time.monotonic()
            self._trim(0)


release_memory = _Heap().relieve


def bytes_of(thing: object) -> int:
    """About what a thing takes: what it says itself, or the arrays in it, through tuples, lists and objects with fields."""
    own = getattr(thing, "nbytes", None)
    if own is not None:
        return int(own)
    if isinstance(thing, (tuple, list)):
        return 64 + sum(bytes_of(one) for one in thing)
    fields = getattr(thing, "__dataclass_fields__", None)
    if fields:
        return 64 + sum(bytes_of(getattr(thing, name)) for name in fields)
    return len(thing) if isinstance(thing, (str, bytes)) else 64


class Cache(Generic[V]):
    """Things by their key, the least used forgotten first when they take more than the limit. Safe to share between threads."""

    def __init__(self, part: Part, share: float = 1.0) -> None:
        self.part, self.share, self.bytes = part, share, 0
        self._things: OrderedDict[Hashable, tuple[V, int]] = OrderedDict()
        self._lock = threading.Lock()

    @property
    def limit_bytes(self) -> int:
        """What it may hold now: a process may be given another budget after it was loaded."""
        return int(share_of(self.part) * self.share)

    def peek(self, key: Hashable) -> V | None:
        """The thing of a key, if it is there."""
        with self._lock:
            known = self._things.get(key)
            if known is None:
                return None
            self._things.move_to_end(key)
            return known[0]

    def get(self, key: Hashable, make: Callable[[], V]) -> V:
        """The value of a key; made if it is missing. Two threads that ask at once may both make it."""
        known = self.peek(key)
        return self.keep(key, make()) if known is None else known

    def keep(self, key: Hashable, made: V) -> V:
        """Keep a thing that was made."""
        size = bytes_of(made)
        with self._lock:
            # A value larger than the limit is stored alone: it would be made again on every access otherwise.
            if key not in self._things and size <= max(self.limit_bytes, budget_bytes() // 4):
                self._things[key] = (made, size)
                self.bytes += size
                while self.bytes > self.limit_bytes and len(self._things) > 1:
                    _, (_, gone) = self._things.popitem(last=False)
                    self.bytes -= gone
        return made
