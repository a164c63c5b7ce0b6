"""States that processes hand each other: a state is a function of the document and the moment, so any of them may step it."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from isbjorn.core.runtime.shared_cache import SharedCache
from isbjorn.core.simulate.state import State

_MOST_STATES, _MOST_ROWS, _MOST_PARTICLES = 256, 64, 1 << 26
_NAME = 32
# Results that take at least this long are shared, and looked up.
WORTH_S = 0.002
# Recent states, and the checkpoints of groups.
_RECENT_BYTES, _CHECKPOINT_BYTES = 128 << 20, 256 << 20

Tag = Callable[[int], str]


def is_worth(seconds: float | None) -> bool:
    """Whether a result that takes this long (None: unknown) is worth sharing and looking up."""
    return seconds is None or seconds >= WORTH_S


@dataclass(frozen=True)
class SharedCaches:
    """Cached states: recent ones, and the checkpoints of what is simulated from its first moment on."""

    recent: SharedCache
    checkpoints: SharedCache

    @classmethod
    def within(cls, folder: Path) -> SharedCaches:
        """The cached states of a folder."""
        return cls(
            SharedCache(folder / "recent", _RECENT_BYTES), SharedCache(folder / "checkpoints", _CHECKPOINT_BYTES)
        )

    def clear(self) -> None:
        """Remove everything: it may come from another version of the engine."""
        self.recent.clear()
        self.checkpoints.clear()

    def latest(self, motion: str, tag: Tag, index: int, after: int | None) -> tuple[int, tuple[State, ...]] | None:
        """The latest states of a motion at or before a lattice step, later than `after`, that were put with the tag which `tag`
        gives for their step; and that step."""
        found = _latest(self.recent, motion, tag, index, after)
        if found is not None and found[0] == index:
            return found
        return _latest(self.checkpoints, motion, tag, index, after if found is None else found[0]) or found

    def put(self, motion: str, tag: str, index: int, states: Sequence[State], checkpoint: bool = False) -> None:
        """Store the states of a lattice step; checkpoints stay longer."""
        (self.checkpoints if checkpoint else self.recent).put(motion[:_NAME], _name(tag, index), packed(states))

    def checkpoint(self, motion: str, tag: Tag, index: int) -> tuple[int, str, str] | None:
        """The step of the latest checkpoint of a motion at or before a lattice step, and its group and name in the cache."""
        group = motion[:_NAME]
        there = set(self.checkpoints.names(group))
        for at in _steps(there):
            if at <= index and _name(tag(at), at) in there:
                return at, group, _name(tag(at), at)
        return None

    def put_more(self, kind: str, motion: str, tag: str, index: int, arrays: Sequence[npt.NDArray[Any]]) -> None:
        """Lay down what else depends on a motion and a step: arrays of a kind, a word of letters."""
        self.checkpoints.put(motion[:_NAME], f"{kind}{_name(tag, index)}", arrays)

    def more(self, kind: str, motion: str, tag: str, index: int) -> npt.NDArray[np.uint8] | None:
        """The bytes of what `put_more` laid down; None if it is not there."""
        return self.checkpoints.get(motion[:_NAME], f"{kind}{_name(tag, index)}")

    def steps_of(self, kind: str, motion: str) -> list[int]:
        """The steps of a motion of which there is something of a kind, the last first."""
        found = {name.partition("_")[0] for name in self.checkpoints.names(motion[:_NAME]) if name.startswith(kind)}
        return sorted((int(n) for n in (name[len(kind) :] for name in found) if n.lstrip("-").isdigit()), reverse=True)


def _name(tag: str, index: int) -> str:
    return f"{index}_{hashlib.sha256(tag.encode()).hexdigest()[:_NAME]}"


def _steps(names: Iterable[str]) -> list[int]:
    """The steps of stored states under some names, the last first."""
    numbers = {name.partition("_")[0] for name in names}
    return sorted((int(n) for n in numbers if n.lstrip("-").isdigit()), reverse=True)


def _latest(
    shared_cache: SharedCache, motion: str, tag: Tag, index: int, after: int | None
) -> tuple[int, tuple[State, ...]] | None:
    group = motion[:_NAME]
    for at in _steps(shared_cache.names(group)):
        if at > index or (after is not None and at <= after):
            continue
        there = shared_cache.get(group, _name(tag(at), at))
        states = None if there is None else unpacked(there)
        if states is not None:
            return at, states
    return None


def packed(states: Sequence[State]) -> list[npt.NDArray[Any]]:
    """States as arrays, to be read again by `unpacked`: how many there are, rows and particles of each, then what each holds."""
    head = np.array([len(states), *(n for s in states for n in s.values.shape)], np.int64)
    arrays: list[npt.NDArray[Any]] = [head]
    for state in states:
        arrays += [state.births, state.moments, state.values]
        if state.values.size % 2:
            # What follows begins at a multiple of eight bytes.
            arrays.append(np.zeros(1, np.float32))
    return arrays


def unpacked(there: npt.NDArray[np.uint8]) -> tuple[State, ...] | None:
    """States from the bytes of `packed`; None if they are not what they should be."""
    if len(there) < 8 or not 0 < (number := int(there[:8].view(np.int64)[0])) <= _MOST_STATES:
        return None
    at = 8 + 16 * number
    if len(there) < at:
        return None
    shapes = there[8:at].view(np.int64).reshape(-1, 2)
    if shapes.min() < 0 or shapes[:, 0].max() > _MOST_ROWS or shapes[:, 1].max() > _MOST_PARTICLES:
        return None
    sizes = shapes[:, 0] * shapes[:, 1]
    if len(there) != at + int((16 * shapes[:, 1] + 4 * (sizes + sizes % 2)).sum()):
        return None
    states = []
    for rows, n in shapes.tolist():
        births, moments, values = at, at + 8 * n, at + 16 * n
        at = values + 4 * (rows * n + rows * n % 2)
        states.append(
            State(
                there[births:moments].view(np.int64), there[moments:values].view(np.float64), 
                there[values : values + 4 * rows * n].view(np.float32).reshape(rows, n),
            )
        )  # fmt: skip
    return tuple(states)
