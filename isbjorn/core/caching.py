"""What came last, by its keys. Threads may share it: they look with `dict.get`, and keep with this."""

from __future__ import annotations

import threading
from typing import TypeVar

K = TypeVar("K")
V = TypeVar("V")
# Held for no longer than it takes to put one thing there and to let one go.
_one_at_a_time = threading.Lock()


def thread_safe_cache(kept: dict[K, V], key: K, value: V, most: int) -> None:
    """Cache results, at most this many: the oldest are removed first. Safe for threads."""
    with _one_at_a_time:
        kept[key] = value
        while len(kept) > most:
            del kept[next(iter(kept))]
