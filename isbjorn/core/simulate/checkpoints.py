"""Kept states, under a memory limit. A look edit finds them all again; a motion edit finds those it cannot have changed."""

from __future__ import annotations

import bisect
import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import TYPE_CHECKING

from isbjorn.core.runtime.memory import share_of

if TYPE_CHECKING:
    from isbjorn.core.emit.admission import Admission
    from isbjorn.core.simulate.state import State

_ADMISSIONS_KEPT = 16


class StateCache:
    """States by motion and lattice step, the least used forgotten first; safe to share between threads."""

    def __init__(self, limit_bytes: int | None = None) -> None:
        self.limit_bytes = share_of("states") if limit_bytes is None else limit_bytes
        self.bytes = 0
        self._states: OrderedDict[tuple[str, int], tuple[State, str]] = OrderedDict()
        self._steps: dict[str, list[int]] = {}
        self._admissions: OrderedDict[Hashable, Admission] = OrderedDict()
        self._lock = threading.Lock()

    def admission(self, key: Hashable, make: Callable[[], Admission]) -> Admission:
        """The admission of a motion, made once."""
        with self._lock:
            if key not in self._admissions:
                self._admissions[key] = make()
                while len(self._admissions) > _ADMISSIONS_KEPT:
                    self._admissions.popitem(last=False)
            self._admissions.move_to_end(key)
            return self._admissions[key]

    def nearest(self, motion: str, tag: Callable[[int], str], index: int) -> tuple[int, State | None]:
        """The latest kept state of a motion at or before a step that was kept with the tag which `tag` gives for its step."""
        with self._lock:
            steps = self._steps.get(motion, [])
            for at in reversed(steps[: bisect.bisect_right(steps, index)]):
                state, made_with = self._states[motion, at]
                if made_with == tag(at):
                    self._states.move_to_end((motion, at))
                    return at, state
            return 0, None

    def keep(self, motion: str, tag: str, index: int, state: State) -> None:
        """Keep a state. One that alone exceeds the limit is not kept."""
        if state.nbytes > self.limit_bytes:
            return
        with self._lock:
            self._forget(motion, index)
            self._states[motion, index] = (state, tag)
            bisect.insort(self._steps.setdefault(motion, []), index)
            self.bytes += state.nbytes
            while self.bytes > self.limit_bytes:
                oldest = next(iter(self._states))
                self._forget(*oldest)

    def _forget(self, motion: str, index: int) -> None:
        found = self._states.pop((motion, index), None)
        if found is not None:
            self.bytes -= found[0].nbytes
            self._steps[motion].remove(index)
            if not self._steps[motion]:
                del self._steps[motion]
