"""One budget of bytes for all caches, and the true memory of the process."""

from __future__ import annotations

import ctypes
import functools
import os
import threading
import time
from collections.abc import Callable, Hashable
from pathlib import Path
from typing import Literal, ParamSpec, TypeVar

from isbjorn.core.caching import CacheName, RecentCache, bytes_of

P = ParamSpec("P")
V = TypeVar("V")
Part = Literal["states", "pictures", "plates", "pages", "arrivals", "outlines", "layers", "heard", "models", "tables"]
_SHARES: dict[Part, float] = {
    "states": 0.26, "pictures": 0.14, "plates": 0.13, "pages": 0.10, "arrivals": 0.05, "outlines": 0.06, "layers": 0.12,
    "heard": 0.05, "models": 0.07, "tables": 0.02,
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


class Cache(RecentCache[Hashable, V]):
    """Values by their key, within a share of the process's budget.

    part, share: of the budget; a process may be given another one after it was loaded. what, depends_on: how the registry lists it;
    without them it is not listed.
    """

    def __init__(self, part: Part, share: float = 1.0, what: str = "", depends_on: str = "") -> None:
        name = CacheName(part, what, depends_on) if what else None
        super().__init__(limit_bytes=lambda: int(share_of(part) * share), name=name)

    def put(self, key: Hashable, value: V) -> None:
        """Store a value, unless it is too large for the process."""
        # One larger than the limit is stored alone: it would be made again on every access otherwise.
        if bytes_of(value) <= max(self.limit_bytes or 0, budget_bytes() // 4):
            super().put(key, value)


def cached(part: Part, what: str, depends_on: str, share: float = 1.0) -> Callable[[Callable[P, V]], Callable[P, V]]:
    """Decorate a function of hashable arguments: its results are cached (see `Cache`)."""

    def put(function: Callable[P, V]) -> Callable[P, V]:
        results: Cache[V] = Cache(part, share, what, depends_on)

        @functools.wraps(function)
        def found(*args: P.args, **named: P.kwargs) -> V:
            return results.get((args, *sorted(named.items())), lambda: function(*args, **named))

        return found

    return put
