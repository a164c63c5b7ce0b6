"""What is worked out of a thing once."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from typing import Any, Generic, TypeVar

V = TypeVar("V")


class ByObject(Generic[V]):
    """What is worked out of frozen things, by the very object: equal ones of an edit are the same (see `settled`)."""

    def __init__(self, make: Callable[[Any], V], kept: int = 1024) -> None:
        self.make, self.kept = make, kept
        self._known: OrderedDict[int, tuple[Any, V]] = OrderedDict()

    def __call__(self, thing: Any) -> V:
        """Of a thing, made once."""
        known = self._known.get(id(thing))
        if known is not None and known[0] is thing:
            return known[1]
        made = self.make(thing)
        self._known[id(thing)] = thing, made
        while len(self._known) > self.kept:
            # Others may do the same at once.
            self._known.pop(next(iter(self._known)), None)
        return made
