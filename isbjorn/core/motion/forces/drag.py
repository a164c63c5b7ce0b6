"""Drag: speed is lost at a rate, v' = -k v; integrated exactly by the step."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

from isbjorn.core.birth.newborn import drawn
from isbjorn.core.document import Drag, Number, Shot

CODE = 2


def pack(force: Drag, shot: Shot) -> tuple[float, Number]:  # noqa: ARG001
    """Drag has neither length nor direction."""
    return 1.0, Number(value=0)


@njit("f8(f8[:,:], i8, u8, i8)", cache=True)
def rate(rows: npt.NDArray[np.float64], row: int, key: np.uint64, birth: int) -> float:
    """The rate k in 1/s of birth number `birth`; never negative."""
    return max(0.0, drawn(rows, row, 2, key, birth, int(rows[row, 1])))
