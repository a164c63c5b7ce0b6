"""The joints of strands in a state: behind each other, root first, all with the number of their birth."""

from __future__ import annotations

import numpy as np

from isbjorn.core.arrays import Floats, Longs
from isbjorn.core.document import Emitter
from isbjorn.core.simulate.state import State


def joints_of(emitter: Emitter) -> int:
    """How many particles of a state are one birth."""
    return emitter.strand.joints if emitter.strand is not None else 1


def joint_numbers(emitter: Emitter, count: int) -> Longs:
    """Which of its strand each of `count` joints is, from 0 at the root on, (n,); 0 without strands."""
    return np.arange(count) % joints_of(emitter)


def along_strands(emitter: Emitter, count: int) -> Floats:
    """How far along its strand each of `count` joints is, from 0 at the root to 1 at the foot; 0 without strands, float32 (n,)."""
    return (joint_numbers(emitter, count) / np.float32(max(1, joints_of(emitter) - 1))).astype(np.float32)


def feet(state: State, joints: int) -> State:
    """The last joint of each strand; all of a state without strands."""
    return state if joints == 1 else state.only(np.arange(joints - 1, state.count, joints))
