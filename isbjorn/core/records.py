"""Arguments of kernels by name: structured dtypes, each declared once beside its kernel.

States of particles and things of the world are rows of one layout, read column by column (`simulate.state_layout`,
`forces.force_layout`); whatever else would be a row of literal columns is a record.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
from numba import from_dtype, types

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.jit import inline_kernel

Records = npt.NDArray[np.void]


def record(**fields: int | tuple[int, ...]) -> np.dtype[np.void]:
    """A record of float64 fields by name: 1 for a number, otherwise the shape of the array."""
    return np.dtype([(name, np.float64) if n == 1 else (name, np.float64, n) for name, n in fields.items()])


def records(dtype: np.dtype[np.void]) -> types.Array:
    """The type of a contiguous one-dimensional array of records in kernel signatures.

    A parallel loop takes its record out of the array, because Numba cannot pass one record to threads.
    """
    return from_dtype(dtype)[::1]


def make_record(dtype: np.dtype[np.void], **values: Any) -> Records:
    """An array (1,) of a record, with every field given; KeyError or ValueError when one is not, or there is no such field."""
    if set(values) != set(dtype.names or ()):
        raise KeyError(f"{sorted(set(values) ^ set(dtype.names or ()))}: not as the record has it")
    out = np.zeros(1, dtype)
    for name, value in values.items():
        out[name] = value
    return out


@inline_kernel("f8(f8[::1], i8)", cache=True, forceinline=True)
def value_of(values: Doubles, i: int) -> float:
    """One of as many values as there are particles, or the one of all."""
    return values[min(i, len(values) - 1)]


@inline_kernel("f4(f4[::1], f4)", cache=True, forceinline=True, fastmath={"contract", "nnan", "ninf", "nsz"})
def looked_up(table: Floats, x: Any) -> Any:
    """What a table over [0, 1] has at x, straight between its steps."""
    at: Any = min(max(x, np.float32(0)), np.float32(1)) * np.float32(len(table) - 1)
    j = min(np.uint32(at), np.uint32(len(table) - 2))
    return table[j] + (at - np.float32(j)) * (table[j + np.uint32(1)] - table[j])
