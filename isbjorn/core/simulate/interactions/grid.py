"""A grid of cells over places, by a stable counting sort. The grid wraps around at its ends: particles that share a cell only for
this reason are too far apart to be neighbours, so one that flew far does not enlarge it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from numba import prange

from isbjorn.core.arrays import Floats, Ints, Longs
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.random import mix

# About as many cells as particles; and at most this many candidates around a cell are examined, evenly spread.
_CELLS_EACH, _LEAST_CELLS, MOST_LOOKED_AT = 2, 4096, 256
# Above this many neighbours, a sample of about this size represents all, so that there is room for chance.
MOST_NEIGHBOURS, _WANTED = 64, 44
_SIDE, _GOLDEN = 1 << 10, np.uint64(0x9E3779B97F4A7C15)
# Number of blocks of particles, and of pairs of one block at once: values that are computed for all pairs side by side use vector
# instructions, and are then added in the order of neighbours.
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
    """The grid of places (3, n) px with cells of a side in px. Neighbours within that distance are in the 27 cells around."""
    n = place.shape[1]
    spans = np.ptp(place, axis=1) if n else np.zeros(3)
    size = [_side(float(span), cell) for span in spans]
    while np.prod(size) > max(_LEAST_CELLS, _CELLS_EACH * n) and max(size) > 4:
        size[int(np.argmax(size))] //= 2
    sides = np.array(size, np.int64)
    starts, order = np.zeros(int(sides.prod()) + 1, np.int64), np.empty(n, np.int64)
    _sort(place, 1.0 / cell, sides, starts, order)
    return Grid(order, starts, cell, sides)


@inline_kernel("i8(f8, f8, f8, i8[::1])", cache=True, forceinline=True)
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


@inline_kernel("i8(f8, f8, f8, f8, i8[::1], i8[::1], i8[::1])", cache=True, forceinline=True)
def around(x: float, y: float, z: float, per_px: float, size: Longs, starts: Longs, cells: Longs) -> int:
    """Write the runs of `order` that hold possible neighbours into cells (27,), by their cells; how many runs."""
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


@inline_kernel("i8(i8[::1], i8[::1], i8, i8)", cache=True, forceinline=True)
def stride_over(starts: Longs, cells: Longs, count: int, most: int) -> int:
    """Of how many that are near one is looked at: 1, but where they are more than `most`."""
    total = 0
    for c in range(count):
        total += starts[cells[c] + 1] - starts[cells[c]]
    return 1 + total // most


@inline_kernel("i8(i8, i8[::1], i8[::1], i8[::1], i8[::1])", cache=True)
def _runs(at: int, size: Longs, starts: Longs, begins: Longs, ends: Longs) -> int:
    """Write the runs of the order of cells that hold possible neighbours of a cell into begins and ends (27,); how many."""
    nx, ny, nz = size[0], size[1], size[2]
    cx, cy, cz = at % nx, at // nx % ny, at // (nx * ny)
    runs, wide = 0, 1 if nx > 1 else 0
    # Adjacent cells along x are adjacent in memory, except where the grid wraps around.
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


@inline_kernel("i8(f4[:,::1], f4[::1], i8, i8, f4, i8[::1], i8[::1], i8)", cache=True)
def _estimate(
    place: Floats, share: Floats, i: int, looked: int, far: np.float32, begins: Longs, ends: Longs, runs: int
) -> int:
    """About how many neighbours one has, from one in `looked` of the candidates."""
    x, y, z = place[0, i], place[1, i], place[2, i]
    seen, step = 0, i % looked
    for run in range(runs):
        j = begins[run] + (looked - step) % looked
        while j < ends[run]:
            dx, dy, dz = place[0, j] - x, place[1, j] - y, place[2, j] - z
            seen += dx * dx + dy * dy + dz * dz < far and j != i and share[j] != 0
            j += looked
        step = (step + ends[run] - begins[run]) % looked
    return seen * looked


@inline_kernel("u8(u8)", cache=True, forceinline=True)
def _mixed(h: np.uint64) -> np.uint64:
    return mix(h * _GOLDEN)


@njit("b1(f4[:,::1], f4[::1], i8[::1], i8[::1], f8, i8[::1], i4[:,::1], i4[::1], i8[::1])", parallel=True, cache=True)
def _near_thinly(
    place: Floats, share: Floats, starts: Longs, size: Longs, reach: float, thinning: Longs, found: Ints, count: Ints,
    over: Longs,
) -> bool:  # fmt: skip
    """As `_near`, where some cells are too full. thinning: of pairs of particles in two cells, one in this many is used, a power of
    two for each cell, of which the larger counts; over: for each cell, whether one of its particles has more than fit.

    The selected pairs are symmetric, so that a pair is used for both particles or for neither: particles of a cell form blocks of
    the size of the thinning, and each particle of two blocks has one partner in the other.
    """
    most, far = found.shape[1], np.float32(reach * reach)
    nx, ny, nz = size[0], size[1], size[2]
    for cell in prange(len(starts) - 1):
        first, last = starts[cell], starts[cell + 1]
        over[cell] = 0
        if first == last:
            continue
        cx, cy, cz = cell % nx, cell // nx % ny, cell // (nx * ny)
        for i in range(first, last):
            count[i] = 0
        for dz in range(-1 if nz > 1 else 0, 2 if nz > 1 else 1):
            for dy in range(-1 if ny > 1 else 0, 2 if ny > 1 else 1):
                for dx in range(-1 if nx > 1 else 0, 2 if nx > 1 else 1):
                    other = (((cz + dz) & (nz - 1)) * ny + ((cy + dy) & (ny - 1))) * nx + ((cx + dx) & (nx - 1))
                    begin, end = starts[other], starts[other + 1]
                    every = max(thinning[cell], thinning[other])
                    for i in range(first, last):
                        if share[i] == 0:
                            continue
                        x, y, z, own = place[0, i], place[1, i], place[2, i], i - first
                        mine = _mixed(np.uint64(cell) << np.uint64(24) ^ np.uint64(own // every))
                        kept = count[i]
                        for block in range((end - begin + every - 1) // every):
                            theirs = _mixed(np.uint64(other) << np.uint64(24) ^ np.uint64(block))
                            j = begin + block * every + ((int(mix(mine ^ theirs) >> np.uint64(40)) - own) & (every - 1))
                            if j >= end or j == i or share[j] == 0:
                                continue
                            ex, ey, ez = place[0, j] - x, place[1, j] - y, place[2, j] - z
                            if ex * ex + ey * ey + ez * ez < far:
                                if kept < most:
                                    found[i, kept] = j
                                kept += 1
                        count[i] = kept
        for i in range(first, last):
            over[cell] = max(over[cell], count[i] > most)
    return bool(over.any())


@njit("void(f4[:,::1], f4[::1], i8[::1], i8[::1], f8, i4[:,::1], i4[::1], i8[::1])", parallel=True, cache=True)
def _near(
    place: Floats, share: Floats, starts: Longs, size: Longs, reach: float, found: Ints, count: Ints, thinning: Longs
) -> None:
    """Places sorted by cells, at infinity where there is no share. Neighbours (n, `MOST_NEIGHBOURS`) within the reach, and how many
    there are (n,), which may be more; thinning: how much a cell has to be thinned for its neighbours to fit, a power of two.

    The candidates of a cell are gathered once for all of its particles.
    """
    most, far = found.shape[1], np.float32(reach * reach)
    cells = len(starts) - 1
    for block in prange(BLOCKS):
        begins, ends = np.empty(27, np.int64), np.empty(27, np.int64)
        about, most_about = np.empty((4, MOST_LOOKED_AT), np.float32), MOST_LOOKED_AT
        px, py, pz, away = about[0], about[1], about[2], about[3]
        index, hits = np.empty(most_about, np.int32), np.empty(most_about + 1, np.int32)
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
                        index[m + k] = j + k
                    m += long
            many = 0
            for i in range(starts[cell], starts[cell + 1]):
                count[i] = 0
                if share[i] == 0:
                    continue
                if looked > 1:
                    many = max(many, _estimate(place, share, i, looked, far, begins, ends, runs))
                    continue
                x, y, z = place[0, i], place[1, i], place[2, i]
                for k in range(m):
                    dx, dy, dz = px[k] - x, py[k] - y, pz[k] - z
                    away[k] = dx * dx + dy * dy + dz * dz
                # Written in any case, and written over where it is far: no branch to be guessed.
                hit = np.uint32(0)
                for k in range(m):
                    hits[hit] = index[k]
                    hit += np.uint32(away[k] < far)
                seen = np.uint32(0)
                for k in range(hit):
                    hits[seen] = hits[k]
                    seen += np.uint32(hits[k] != i)
                many = max(many, int(seen))
                for k in range(min(np.uint32(most), seen)):
                    found[i, k] = hits[k]
                count[i] = seen
            thinning[cell] = 1
            if looked > 1 or many > most:
                while thinning[cell] * _WANTED < many:
                    thinning[cell] *= 2


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
    """Neighbours of particles, in the order of cells. order (n,): the number of each; place (3, n) px; others (n, m): its
    neighbours, the first `count` of each row; a particle without a share is infinitely far away. Where there are too many
    neighbours, a pair represents as many as the larger `stands_for` (n,) of the two says, and is in the lists of both."""

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
    """Which particles are within a reach in px of which, of places (3, n) px; only those with a share (n,)."""
    grid, n = grid_of(place, reach), len(share)
    there, shared = _sorted(place, grid.order), _sorted(share, grid.order)
    there[0, shared == 0] = np.inf
    others, count = np.empty((n, MOST_NEIGHBOURS), np.int32), np.zeros(n, np.int32)
    thinning = np.ones(len(grid.starts) - 1, np.int64)
    _near(there, shared, grid.starts, grid.size, reach, others, count, thinning)
    stands_for = np.ones(n, np.float32)
    if thinning.max(initial=1) > 1:
        over = np.zeros_like(thinning)
        while _near_thinly(there, shared, grid.starts, grid.size, reach, thinning, others, count, over):
            thinning[over > 0] *= 2
        stands_for = np.repeat(thinning, np.diff(grid.starts)).astype(np.float32)
    return Near(grid.order, there, others, count, stands_for)
