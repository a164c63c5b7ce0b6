"""A cache of results by the identity of an object."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Generic, TypeVar

from isbjorn.core.caching import thread_safe_cache

V = TypeVar("V")


class IdentityCache(Generic[V]):
    """Results that were computed from frozen objects, by object: an edit keeps what it does not change (see `changes_between`)."""

    def __init__(self, make: Callable[[Any], V], kept: int = 1024) -> None:
        self.make, self.kept = make, kept
        self._known: dict[int, tuple[Any, V]] = {}

    def __call__(self, thing: Any) -> V:
        """Of a thing, made once."""
        known = self._known.get(id(thing))
        if known is not None and known[0] is thing:
            return known[1]
        made = self.make(thing)
        thread_safe_cache(self._known, id(thing), (thing, made), self.kept)
        return made
