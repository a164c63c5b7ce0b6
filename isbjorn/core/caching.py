"""Caches: the one place where entries are evicted.

`RecentCache` holds results by key, within a number of entries or of bytes. `Cache` (`runtime.memory`) is one with a share of the
process's budget; `IdentityCache` finds results by the object that they were computed from. Caches that outlive a request have a
name in the registry, which `/api/health` and `isbjorn doctor` list.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, Generic, Literal, TypeVar
from weakref import WeakSet

K = TypeVar("K")
V = TypeVar("V")
Group = Literal[
    "states", "pictures", "plates", "pages", "arrivals", "outlines", "layers", "heard", "models", "tables", "documents"
]


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


@dataclass(frozen=True)
class CacheName:
    """How the registry lists a cache: its group, what an entry is, and what its key depends on."""

    group: Group
    what: str
    depends_on: str


class RecentCache(Generic[K, V]):
    """Values by key; those that were used longest ago are evicted first. Safe for threads.

    most: entries at most; limit_bytes: bytes at most, as a number or read whenever a value is stored; least: so many entries stay,
    however large they are; size: bytes of a value; evicted: called with each entry that is evicted, while the cache is locked.
    """

    def __init__(
        self, most: int | None = None, limit_bytes: int | Callable[[], int] | None = None, least: int = 1,
        size: Callable[[V], int] = bytes_of, evicted: Callable[[K, V], object] | None = None, name: CacheName | None = None,
    ) -> None:  # fmt: skip
        self._most, self._limit, self._least = most, limit_bytes, least
        self._size, self._evicted, self.name = size, evicted, name
        self._things: OrderedDict[K, tuple[V, int]] = OrderedDict()
        self._lock = threading.RLock()
        self.bytes = self.hits = self.misses = 0
        if name is not None:
            _registry.add(self)

    @property
    def limit_bytes(self) -> int | None:
        """Bytes that it may hold now; None if only entries are counted."""
        return self._limit() if callable(self._limit) else self._limit

    def peek(self, key: K) -> V | None:
        """The value of a key, if it is there; it counts as used."""
        with self._lock:
            known = self._things.get(key)
            if known is None:
                self.misses += 1
                return None
            self.hits += 1
            self._things.move_to_end(key)
            return known[0]

    def get(self, key: K, make: Callable[[], V]) -> V:
        """The value of a key; made if it is missing. Of two threads that ask at once, both may make it, and get the same one."""
        known = self.peek(key)
        return self.add(key, make()) if known is None else known

    def add(self, key: K, made: V) -> V:
        """Store a value, unless the key has one by now; the one that is stored."""
        with self._lock:
            known = self._things.get(key)
            if known is not None:
                return known[0]
            self.put(key, made)
        return made

    def put(self, key: K, value: V) -> None:
        """Store a value, in place of any that the key had."""
        with self._lock:
            self.pop(key)
            size = 0 if self._limit is None else self._size(value)
            self._things[key] = value, size
            self.bytes += size
            limit = self.limit_bytes
            while len(self._things) > self._least and (
                (self._most is not None and len(self._things) > self._most)
                or (limit is not None and self.bytes > limit)
            ):
                oldest, (gone, freed) = self._things.popitem(last=False)
                self.bytes -= freed
                if self._evicted is not None:
                    self._evicted(oldest, gone)

    def pop(self, key: K) -> V | None:
        """Remove the entry of a key; its value."""
        with self._lock:
            found, size = self._things.pop(key, (None, 0))
            self.bytes -= size
            return found

    def clear(self) -> None:
        """Remove all entries."""
        with self._lock:
            self._things.clear()
            self.bytes = 0

    def __contains__(self, key: object) -> bool:
        return key in self._things

    def __len__(self) -> int:
        return len(self._things)

    def __iter__(self) -> Iterator[K]:
        """The keys, those that were used longest ago first, as they are now."""
        with self._lock:
            return iter(list(self._things))

    def values(self) -> list[V]:
        """The values, those that were used longest ago first, as they are now."""
        with self._lock:
            return [value for value, _ in self._things.values()]


class IdentityCache(Generic[V]):
    """Results that were computed from frozen objects, by object: an edit keeps what it does not change (see `changes_between`).

    what: how the registry lists it.
    """

    def __init__(self, make: Callable[[Any], V], kept: int = 1024, what: str = "") -> None:
        self.make = make
        name = CacheName("documents", what, "an object of the document, by identity") if what else None
        self._known: RecentCache[int, tuple[Any, V]] = RecentCache(kept, name=name)

    def __call__(self, thing: Any) -> V:
        """Of a thing, made once."""
        known = self._known.peek(id(thing))
        if known is not None and known[0] is thing:
            return known[1]
        made = self.make(thing)
        self._known.put(id(thing), (thing, made))
        return made


_registry: WeakSet[RecentCache[Any, Any]] = WeakSet()


@dataclass(frozen=True)
class CacheReport:
    """What a cache of the registry holds. limit_bytes: None if only entries are counted; bytes then are 0."""

    group: str
    what: str
    depends_on: str
    entries: int
    bytes: int
    limit_bytes: int | None
    hits: int
    misses: int


def cache_reports() -> list[CacheReport]:
    """All caches with a name, by their groups; those of one name together."""
    found: dict[CacheName, list[RecentCache[Any, Any]]] = {}
    for cache in list(_registry):
        if cache.name is not None:
            found.setdefault(cache.name, []).append(cache)
    return [
        CacheReport(
            name.group, name.what, name.depends_on, sum(map(len, some)), sum(one.bytes for one in some),
            None if some[0].limit_bytes is None else sum(one.limit_bytes or 0 for one in some),
            sum(one.hits for one in some), sum(one.misses for one in some),
        )
        for name, some in sorted(found.items(), key=lambda item: (item[0].group, item[0].what))
    ]  # fmt: skip
