"""The kinds of arrays, by what they hold."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float32]
Doubles = npt.NDArray[np.float64]
Longs = npt.NDArray[np.int64]
Ints = npt.NDArray[np.int32]
Bytes = npt.NDArray[np.uint8]
Bools = npt.NDArray[np.bool_]
