"""Gravity: a constant acceleration, given in m/s² and turned to px/s² by the shot's px per metre."""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt
from numba import njit

from isbjorn.core.birth.newborn import drawn
from isbjorn.core.document import Gravity, Number, Shot

CODE = 1


def pack(force: Gravity, shot: Shot) -> tuple[float, Number]:
    """The factor that turns strength to px/s², and the direction in degrees."""
    return shot.px_per_metre, force.direction


@njit("UniTuple(f8,2)(f8[:,:], i8, u8, i8)", cache=True)
def acceleration(rows: npt.NDArray[np.float64], row: int, key: np.uint64, birth: int) -> tuple[float, float]:
    """Acceleration in px/s² of birth number `birth`, along x and y."""
    attribute = int(rows[row, 1])
    strength = drawn(rows, row, 2, key, birth, attribute)
    if rows[row, 6] == 0.0:
        return strength * rows[row, 8], strength * rows[row, 9]
    direction = math.radians(drawn(rows, row, 5, key, birth, attribute + 1))
    return strength * math.cos(direction), strength * math.sin(direction)
