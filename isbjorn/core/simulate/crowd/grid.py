"""A grid of cells over places, by a stable counting sort. The grid comes round at its ends: who is in a cell by that alone is too
far away to be a neighbour, so that one who flew far makes it no larger."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from numba import prange

from isbjorn.core.arrays import Floats, Ints, Longs
from isbjorn.core.jit import leaf, njit

# As many cells as particles, about; and of one cell's neighbourhood so many are looked at, evenly, if there are more.
_CELLS_EACH, _LEAST_CELLS, MOST_LOOKED_AT = 2, 4096, 256
# Of more neighbours than these, some stand for all.
MOST_NEIGHBOURS = 64
_SIDE = 1 << 10
# Particles are looked at in so many blocks, and of one block so many pairs at once: what is worked out for all of them side by
# side is done for several in one instruction, and then added in the order of neighbours.
BLOCKS, PAIRS = 64, 1024
NONE, ONE, LEAST = np.float32(0), np.float32(1), np.float32(1e-6)


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


@leaf("i8(f8, f8, f8, i8[::1])", cache=True, forceinline=True)
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


@leaf("i8(f8, f8, f8, f8, i8[::1], i8[::1], i8[::1])", cache=True, forceinline=True)
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


@leaf("i8(i8[::1], i8[::1], i8, i8)", cache=True, forceinline=True)
def stride_over(starts: Longs, cells: Longs, count: int, most: int) -> int:
    """Of how many that are near one is looked at: 1, but where they are more than `most`."""
    total = 0
    for c in range(count):
        total += starts[cells[c] + 1] - starts[cells[c]]
    return 1 + total // most


@leaf("i8(i8, i8[::1], i8[::1], i8[::1], i8[::1])", cache=True)
def _runs(at: int, size: Longs, starts: Longs, begins: Longs, ends: Longs) -> int:
    """Put the runs of the order of cells that hold who may be near to those of a cell into begins and ends (27,); how many."""
    nx, ny, nz = size[0], size[1], size[2]
    cx, cy, cz = at % nx, at // nx % ny, at // (nx * ny)
    runs, wide = 0, 1 if nx > 1 else 0
    # Cells beside each other along x lie one behind the other, but where the grid comes round.
    inside = wide <= cx < nx - wide
    for dz in range(-1 if nz > 1 else 0, 2 if nz > 1 else 1):
        for dy in range(-1 if ny > 1 else 0, 2 if ny > 1 else 1):
            row = (((cz + dz) & (nz - 1)) * ny + ((cy + dy) & (ny - 1))) * nx
            for dx in range(-wide, 1 - wide if inside else 1 + wide):
                cell = row + ((cx + dx) & (nx - 1))
                first, last = starts[cell], starts[cell + (2 * wide if inside else 0) + 1]
                if last == first:
                    continue
                if runs > 0 and ends[runs - 1] == first:
                    ends[runs - 1] = last
                else:
                    begins[runs], ends[runs] = first, last
                    runs += 1
    return runs


@leaf("void(f4[:,::1], f4[::1], i8, i8, f4, i8[::1], i8[::1], i8, i4[:,::1], i4[::1], f4[::1])", cache=True)
def _look_thinly(
    place: Floats, share: Floats, i: int, looked: int, far: np.float32, begins: Longs, ends: Longs, runs: int, found: Ints,
    count: Ints, stands_for: Floats,
) -> None:  # fmt: skip
    """The neighbours of one, of whom only one in `looked` is looked at."""
    most = found.shape[1]
    x, y, z = place[0, i], place[1, i], place[2, i]
    every, seen, kept = 1, 0, 0
    while True:
        seen, kept, step = 0, 0, i % looked
        for run in range(runs):
            j = begins[run] + (looked - step) % looked
            while j < ends[run]:
                dx, dy, dz = place[0, j] - x, place[1, j] - y, place[2, j] - z
                if dx * dx + dy * dy + dz * dz < far and j != i and share[j] != 0:
                    if seen % every == 0 and kept < most:
                        found[i, kept] = j
                        kept += 1
                    seen += 1
                j += looked
            step = (step + ends[run] - begins[run]) % looked
        if seen <= most * every:
            break
        every = 1 + (seen - 1) // most
    count[i] = kept
    stands_for[i] = looked * seen / kept if kept > 0 else 1.0


@njit("void(f4[:,::1], f4[::1], i8[::1], i8[::1], f8, i4[:,::1], i4[::1], f4[::1])", parallel=True, cache=True)
def _near(
    place: Floats, share: Floats, starts: Longs, size: Longs, reach: float, found: Ints, count: Ints, stands_for: Floats
) -> None:
    """Places sorted by cells, at infinity who has no share. Who of (n, `MOST_NEIGHBOURS`) are within the reach, how many, and
    for how many each stands.

    Who may be near to those of a cell is gathered once for all of them.
    """
    most, far = found.shape[1], np.float32(reach * reach)
    cells = len(starts) - 1
    for block in prange(BLOCKS):
        begins, ends = np.empty(27, np.int64), np.empty(27, np.int64)
        about, most_about = np.empty((4, MOST_LOOKED_AT), np.float32), MOST_LOOKED_AT
        px, py, pz, away = about[0], about[1], about[2], about[3]
        who, hits = np.empty(most_about, np.int32), np.empty(most_about + 1, np.int32)
        for cell in range(block * cells // BLOCKS, (block + 1) * cells // BLOCKS):
            if starts[cell] == starts[cell + 1]:
                continue
            runs, total, m = _runs(cell, size, starts, begins, ends), 0, np.uint32(0)
            for run in range(runs):
                total += ends[run] - begins[run]
            looked = 1 + total // MOST_LOOKED_AT
            if looked == 1:
                for run in range(runs):
                    j, long = np.uint32(begins[run]), np.uint32(ends[run] - begins[run])
                    for k in range(long):
                        px[m + k], py[m + k], pz[m + k] = place[0, j + k], place[1, j + k], place[2, j + k]
                        who[m + k] = j + k
                    m += long
            for i in range(starts[cell], starts[cell + 1]):
                count[i], stands_for[i] = 0, 1.0
                if share[i] == 0:
                    continue
                if looked > 1:
                    _look_thinly(place, share, i, looked, far, begins, ends, runs, found, count, stands_for)
                    continue
                x, y, z = place[0, i], place[1, i], place[2, i]
                for k in range(m):
                    dx, dy, dz = px[k] - x, py[k] - y, pz[k] - z
                    away[k] = dx * dx + dy * dy + dz * dz
                # Written in any case, and written over where it is far: no branch to be guessed.
                hit = np.uint32(0)
                for k in range(m):
                    hits[hit] = who[k]
                    hit += np.uint32(away[k] < far)
                seen = np.uint32(0)
                for k in range(hit):
                    hits[seen] = hits[k]
                    seen += np.uint32(hits[k] != i)
                every = np.uint32(1) if seen <= most else np.uint32(1 + (seen - 1) // most)
                kept = np.uint32(min(most, (seen + every - 1) // every))
                for k in range(kept):
                    found[i, k] = hits[k * every]
                count[i] = kept
                stands_for[i] = seen / kept if kept > 0 else 1.0


@njit("void(f4[:,::1], i8[::1], f4[:,::1])", parallel=True, cache=True)
def _to_cells(values: Floats, order: Longs, out: Floats) -> None:
    for i in prange(len(order)):
        for c in range(len(values)):
            out[c, i] = values[c, order[i]]


@njit("void(f4[:,::1], i8[::1], f4[:,::1])", parallel=True, cache=True)
def _from_cells(values: Floats, order: Longs, out: Floats) -> None:
    for i in prange(len(order)):
        for c in range(len(values)):
            out[c, order[i]] = values[c, i]


def _sorted(values: Floats, order: Longs) -> Floats:
    out = np.empty(values.shape, np.float32)
    _to_cells(values.reshape(-1, len(order)), order, out.reshape(-1, len(order)))
    return out


@dataclass(frozen=True)
class Near:
    """Neighbours of particles, in the order of cells. order (n,): the number of each; place (3, n) px; others (n, m): who is
    near, the first `count` of each row; stands_for (n,): for how many each of those stands, where there are too many. Who
    has no share is infinitely far away."""

    order: Longs
    place: Floats
    others: Ints
    count: Ints
    stands_for: Floats

    def sorted(self, values: Floats) -> Floats:
        """Values (k, n) or (n,) in the order of cells."""
        return _sorted(values, self.order)

    def unsorted(self, values: Floats) -> Floats:
        """Values (k, n) in the order of cells as they were before."""
        out = np.empty(values.shape, np.float32)
        _from_cells(values, self.order, out)
        return out


def near(place: Floats, share: Floats, reach: float) -> Near:
    """Who is within a reach in px of whom, of places (3, n) px; only those who have a share (n,)."""
    grid, n = grid_of(place, reach), len(share)
    there, shared = _sorted(place, grid.order), _sorted(share, grid.order)
    there[0, shared == 0] = np.inf
    found = Near(
        grid.order, there, np.empty((n, MOST_NEIGHBOURS), np.int32), np.zeros(n, np.int32), np.ones(n, np.float32)
    )  # fmt: skip
    _near(there, shared, grid.starts, grid.size, reach, found.others, found.count, found.stands_for)
    return found
