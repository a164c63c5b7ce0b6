"""A cache of results by the identity of an object."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Generic, TypeVar

from isbjorn.core.caching import CacheName, RecentCache

V = TypeVar("V")


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
