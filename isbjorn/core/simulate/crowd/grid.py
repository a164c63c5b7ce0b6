"""A grid of cells over places, by a stable counting sort. The grid comes round at its ends: who is in a cell by that alone is too
far away to be a neighbour, so that one who flew far makes it no larger."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from numba import njit

from isbjorn.core.arrays import Floats, Longs

# As many cells as particles, about; and of one cell's neighbourhood so many are looked at, evenly, if there are more.
_CELLS_EACH, _LEAST_CELLS, MOST_LOOKED_AT = 2, 4096, 768
_SIDE = 1 << 10


@dataclass(frozen=True)
class Grid:
    """Particles by cells. order (n,): their numbers, cell by cell; starts (cells + 1,); cell: its side in px; size (3,): cells
    along x, y, z, each 1 or a power of two from 4 on."""

    order: Longs
    starts: Longs
    cell: float
    size: Longs


def _side(span: float, cell: float) -> int:
    """Cells along an axis: a power of two that holds a span, from 4 on, or 1 where all is one layer."""
    if span < 0.5 * cell:
        return 1
    return int(min(_SIDE, max(4, 1 << int(np.ceil(np.log2(span / cell + 1))))))


def grid_of(place: Floats, cell: float) -> Grid:
    """The grid of places (3, n) px with cells of a side in px. Neighbours within that lie in the 27 cells around."""
    n = place.shape[1]
    spans = np.ptp(place, axis=1) if n else np.zeros(3)
    size = [_side(float(span), cell) for span in spans]
    while np.prod(size) > max(_LEAST_CELLS, _CELLS_EACH * n) and max(size) > 4:
        size[int(np.argmax(size))] //= 2
    sides = np.array(size, np.int64)
    starts, order = np.zeros(int(sides.prod()) + 1, np.int64), np.empty(n, np.int64)
    _sort(place, 1.0 / cell, sides, starts, order)
    return Grid(order, starts, cell, sides)


@njit("i8(f8, f8, f8, i8[::1])", cache=True, forceinline=True)
def cell_of(x: float, y: float, z: float, size: npt.NDArray[np.int64]) -> int:
    """The number of the cell with coordinates x, y, z (whole numbers)."""
    nx, ny, nz = size[0], size[1], size[2]
    return ((int(z) & (nz - 1)) * ny + (int(y) & (ny - 1))) * nx + (int(x) & (nx - 1))


@njit("void(f4[:,::1], f8, i8[::1], i8[::1], i8[::1])", cache=True)
def _sort(place: Floats, per_px: float, size: Longs, starts: Longs, order: Longs) -> None:
    n = place.shape[1]
    cells = np.empty(n, np.int64)
    for i in range(n):
        cells[i] = cell_of(
            np.floor(place[0, i] * per_px), np.floor(place[1, i] * per_px), np.floor(place[2, i] * per_px), size
        )
        starts[cells[i] + 1] += 1
    for c in range(len(starts) - 1):
        starts[c + 1] += starts[c]
    at = starts[:-1].copy()
    for i in range(n):
        order[at[cells[i]]] = i
        at[cells[i]] += 1


@njit("i8(f8, f8, f8, f8, i8[::1], i8[::1], i8[::1])", cache=True, forceinline=True)
def around(x: float, y: float, z: float, per_px: float, size: Longs, starts: Longs, cells: Longs) -> int:
    """Put the runs of `order` that hold who may be near into cells (27,), by their cells; how many runs."""
    cx, cy, cz = np.floor(x * per_px), np.floor(y * per_px), np.floor(z * per_px)
    found = 0
    for dz in range(-1 if size[2] > 1 else 0, 2 if size[2] > 1 else 1):
        for dy in range(-1 if size[1] > 1 else 0, 2 if size[1] > 1 else 1):
            for dx in range(-1 if size[0] > 1 else 0, 2 if size[0] > 1 else 1):
                cell = cell_of(cx + dx, cy + dy, cz + dz, size)
                if starts[cell + 1] > starts[cell]:
                    cells[found] = cell
                    found += 1
    return found


@njit("i8(i8[::1], i8[::1], i8)", cache=True, forceinline=True)
def stride_over(starts: Longs, cells: Longs, count: int) -> int:
    """Of how many that are near one is looked at: 1, but where they are too many."""
    total = 0
    for c in range(count):
        total += starts[cells[c] + 1] - starts[cells[c]]
    return 1 + total // MOST_LOOKED_AT
