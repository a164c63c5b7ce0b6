"""Forces of the world, one file each. A force is packed to a row of numbers and read by the step.

Row, float64 (10,): code, attribute of its draws, strength (value, spread, bell), direction (value, spread, bell), cosine and
sine of the direction,
with strength already in px and seconds.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from isbjorn.core.birth.newborn import pack_number
from isbjorn.core.document import Drag, Force, Gravity, Number, Shot
from isbjorn.core.life.draws import FORCE_FIRST
from isbjorn.core.motion.forces import drag, gravity

Rows = npt.NDArray[np.float64]

PACK: dict[type, tuple[int, Callable[..., tuple[float, Number]]]] = {
    Gravity: (gravity.CODE, gravity.pack),
    Drag: (drag.CODE, drag.pack),
}


def pack_force(force: Force, shot: Shot) -> Rows:
    """One force as a row. Its draws hang on its own id, so that other forces never disturb them."""
    code, pack = PACK[type(force)]
    unit, direction = pack(force, shot)
    attribute = FORCE_FIRST + 8 * zlib.crc32(force.id.encode())
    strength = pack_number(force.strength) * [unit, unit, 1]
    turn = np.radians(direction.value)
    return np.concatenate([[code, attribute], strength, pack_number(direction), [np.cos(turn), np.sin(turn)]])


def pack_forces(forces: tuple[Force, ...], shot: Shot) -> Rows:
    """All forces that reach an emitter as float64 (n, 10), in an order of their own: the document's never matters."""
    rows = [pack_force(force, shot) for force in sorted(forces, key=lambda f: f.id)]
    return np.array(rows).reshape(-1, 10)
