"""Kept states, under a memory limit. A look edit finds them all again; a motion edit finds those it cannot have changed."""

from __future__ import annotations

import bisect
import threading
from collections.abc import Callable, Hashable, Sequence
from typing import TYPE_CHECKING, Any, Generic, Protocol, TypeVar

from isbjorn.core.caching import CacheName, RecentCache
from isbjorn.core.runtime.memory import share_of
from isbjorn.core.simulate.shared_states import SharedCaches, is_worth

if TYPE_CHECKING:
    from isbjorn.core.emit.admission import Admission
    from isbjorn.core.simulate.state import State

_ADMISSIONS_KEPT = 16
# Checkpoints are this many steps apart, if there is room; and this many states between them are cached.
_RUNGS_APART, _ASKED_KEPT, _FARTHEST_APART = 20, 48, 1 << 16
_STATES_NAME = CacheName("states", "States of emitters", "the motion (fingerprint), the step, and the keys up to it")


class _Sized(Protocol):
    @property
    def nbytes(self) -> int: ...


S = TypeVar("S", bound=_Sized)


class StateCache:
    """States by motion and lattice step, the least used forgotten first; safe to share between threads."""

    def __init__(self, limit_bytes: int | None = None, shared_caches: SharedCaches | None = None) -> None:
        self.shared_caches = shared_caches
        self.limit_bytes = share_of("states") * 2 // 3 if limit_bytes is None else limit_bytes
        self._steps: dict[str, list[int]] = {}
        self._states: RecentCache[tuple[str, int], tuple[State, str]] = RecentCache(
            limit_bytes=self.limit_bytes, size=lambda kept: kept[0].nbytes, evicted=self._gone, name=_STATES_NAME
        )
        self._admissions: RecentCache[Hashable, Admission] = RecentCache(_ADMISSIONS_KEPT)
        # Budget of interaction groups: a third of the whole.
        self.checkpoints: Checkpoints[Any] = Checkpoints(self.limit_bytes // 2)
        self._lock = threading.Lock()

    @property
    def bytes(self) -> int:
        """Bytes of the states that it holds."""
        return self._states.bytes

    def admission(self, key: Hashable, make: Callable[[], Admission]) -> Admission:
        """The admission of a motion, made once."""
        with self._lock:
            return self._admissions.get(key, make)

    def nearest(self, motion: str, tag: Callable[[int], str], index: int) -> tuple[int, State | None]:
        """The latest kept state of a motion at or before a step that was kept with the tag which `tag` gives for its step."""
        with self._lock:
            steps = self._steps.get(motion, [])
            for at in reversed(steps[: bisect.bisect_right(steps, index)]):
                kept = self._states.peek((motion, at))
                if kept is not None and kept[1] == tag(at):
                    return at, kept[0]
            return 0, None

    def from_other_processes(
        self, motion: str, tag: Callable[[int], str], index: int, after: int | None, saves_s: float | None
    ) -> tuple[int, tuple[State, ...]] | None:
        """What other processes have, later than a step, as `SharedCaches.latest` gives it. saves_s: about how long it would take
        without; None if that is not known."""
        if self.shared_caches is None or not is_worth(saves_s):
            return None
        return self.shared_caches.latest(motion, tag, index, after)

    def share(
        self, motion: str, tag: str, index: int, states: Sequence[State], took_s: float, checkpoint: bool = False
    ) -> None:
        """Share states that took this long with other processes; checkpoints stay longer."""
        if self.shared_caches is not None and is_worth(took_s):
            self.shared_caches.put(motion, tag, index, states, checkpoint)

    def keep(self, motion: str, tag: str, index: int, state: State) -> None:
        """Keep a state. One that alone exceeds the limit is not kept."""
        if state.nbytes > self.limit_bytes:
            return
        with self._lock:
            if (motion, index) not in self._states:
                bisect.insort(self._steps.setdefault(motion, []), index)
            self._states.put((motion, index), (state, tag))

    def _gone(self, key: tuple[str, int], _: object) -> None:
        """Forget the step of a state that was evicted."""
        motion, index = key
        self._steps[motion].remove(index)
        if not self._steps[motion]:
            del self._steps[motion]


class Checkpoints(Generic[S]):
    """Checkpoints of a simulation from its first moment on: a state every few steps, so that any step is a short run from one.

    When they exceed their budget, every other checkpoint is removed, those of the longest unused motion first. The states that were
    requested last are also cached. Thread-safe.
    """

    def __init__(self, limit_bytes: int) -> None:
        self.limit_bytes, self.bytes = limit_bytes, 0
        # By motion: the distance of its checkpoints, and its states by step, with their tags.
        self._by_motion: dict[str, dict[int, tuple[S, str]]] = {}
        self._apart: dict[str, int] = {}
        self._asked: RecentCache[tuple[str, int], bool] = RecentCache(_ASKED_KEPT, evicted=self._not_asked)
        self._lock = threading.Lock()

    def nearest(self, motion: str, tag: Callable[[int], str], index: int) -> tuple[int, S | None]:
        """The latest state of a motion at or before a step that was kept with the tag which `tag` gives for its step."""
        with self._lock:
            checkpoints = self._by_motion.get(motion, {})
            for at in sorted((n for n in checkpoints if n <= index), reverse=True):
                if checkpoints[at][1] == tag(at):
                    self._used(motion)
                    return at, checkpoints[at][0]
            return 0, None

    def furthest(self, motion: str, tag: Callable[[int], str]) -> int | None:
        """The last step of a motion with a stored state that has the tag that `tag` gives for it, or None."""
        with self._lock:
            checkpoints = dict(self._by_motion.get(motion, {}))
        return max((at for at, (_, stored_tag) in checkpoints.items() if stored_tag == tag(at)), default=None)

    def keep(self, motion: str, tag: str, index: int, state: S, asked: bool = False) -> bool:
        """Store a state, if it is a checkpoint or was requested; return whether it is a checkpoint."""
        with self._lock:
            apart = self._apart.setdefault(motion, _RUNGS_APART)
            if not asked and index % apart != 0:
                return False
            checkpoints = self._by_motion.setdefault(motion, {})
            self._used(motion)
            self._drop(motion, index)
            checkpoints[index] = state, tag
            self.bytes += state.nbytes
            if index % apart != 0:
                self._asked.put((motion, index), True)
            while self.bytes > self.limit_bytes and self._thin(motion, index):
                pass
            return index % apart == 0

    def _not_asked(self, key: tuple[str, int], _: object) -> None:
        """Drop a state that was requested long ago, unless it is a checkpoint."""
        motion, index = key
        if index % self._apart.get(motion, 1) != 0:
            self._drop(motion, index)

    def _thin(self, motion: str, index: int) -> bool:
        """Let go of what is needed least; whether there was anything."""
        oldest = next(iter(self._by_motion))
        if oldest != motion:
            for at in list(self._by_motion[oldest]):
                self._drop(oldest, at)
            del self._by_motion[oldest]
            self._apart.pop(oldest, None)
            return True
        others = [at for at in self._by_motion[motion] if at != index]
        if not others:
            return False
        if self._apart[motion] > _FARTHEST_APART:
            self._apart[motion] = _RUNGS_APART
            for at in others:
                self._drop(motion, at)
            return True
        self._apart[motion] *= 2
        for at in others:
            if at % self._apart[motion] != 0:
                self._drop(motion, at)
        return True

    def _used(self, motion: str) -> None:
        """Thin a motion after all others."""
        self._by_motion[motion] = self._by_motion.pop(motion)

    def _drop(self, motion: str, index: int) -> None:
        found = self._by_motion.get(motion, {}).pop(index, None)
        if found is not None:
            self.bytes -= found[0].nbytes
