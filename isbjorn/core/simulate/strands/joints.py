"""The joints of strands in a state: behind each other, root first, all with the number of their birth."""

from __future__ import annotations

import numpy as np

from isbjorn.core.arrays import Floats
from isbjorn.core.document import Emitter
from isbjorn.core.simulate.state import State


def joints_of(emitter: Emitter) -> int:
    """How many particles of a state are one birth."""
    return emitter.strand.joints if emitter.strand is not None else 1


def along_strands(emitter: Emitter, count: int) -> Floats:
    """How far along its strand each of `count` joints is, from 0 at the root to 1 at the foot; 0 without strands, float32 (n,)."""
    joints = joints_of(emitter)
    if joints == 1:
        return np.zeros(count, np.float32)
    return ((np.arange(count) % joints) / np.float32(joints - 1)).astype(np.float32)


def feet(state: State, joints: int) -> State:
    """The last joint of each strand; all of a state without strands."""
    return state if joints == 1 else state.only(np.arange(joints - 1, state.count, joints))
