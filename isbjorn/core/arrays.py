"""The kinds of arrays, by what they hold."""

from __future__ import annotations

from typing import TypeGuard

import numpy as np
import numpy.typing as npt

Codes = npt.NDArray[np.uint16]
Floats = npt.NDArray[np.float32]
Doubles = npt.NDArray[np.float64]
Longs = npt.NDArray[np.int64]
Ints = npt.NDArray[np.int32]
Bytes = npt.NDArray[np.uint8]
Bools = npt.NDArray[np.bool_]


def is_coded(picture: Floats | Codes) -> TypeGuard[Codes]:
    """Whether a picture is of codes of light (see `render.shades.lit`)."""
    return picture.dtype == np.uint16
