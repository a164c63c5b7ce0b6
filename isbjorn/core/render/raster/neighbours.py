"""Pairs of neighbours within a distance, found with a grid; none has more than this number of lines."""

from __future__ import annotations

import numpy as np
from numba import prange

from isbjorn.core.arrays import Floats, Longs
from isbjorn.core.jit import njit
from isbjorn.core.runtime.parallel import kernel_lock

_CELLS_EACH, _MOST_LOOKS = 4, 2e8


@njit("void(f4[:,::1], i8[:,::1], i8[::1], i8[::1], i8, i8, i8, f8, i8[:,::1])", parallel=True, cache=True)
def _nearest(
    place: Floats, cells: Longs, starts: Longs, order: Longs, nx: int, ny: int, nz: int, reach: float, found: Longs
) -> None:
    """The nearest few of each within the reach, nearest first (ties by number); -1 where there are fewer. place (m, 3), cells (m,
    3): in the order of the cells, so that those of a cell are adjacent in memory; order (m,): the number of each."""
    most = found.shape[1]
    for own in prange(len(place)):
        i, near = order[own], np.full(most, np.inf)
        for z in range(max(0, cells[own, 2] - 1), min(nz, cells[own, 2] + 2)):
            for y in range(max(0, cells[own, 1] - 1), min(ny, cells[own, 1] + 2)):
                for x in range(max(0, cells[own, 0] - 1), min(nx, cells[own, 0] + 2)):
                    cell = (z * ny + y) * nx + x
                    for at in range(starts[cell], starts[cell + 1]):
                        d = 0.0
                        for c in range(3):
                            d += (float(place[own, c]) - place[at, c]) ** 2
                        if at == own or d > reach * reach or d >= near[most - 1]:
                            continue
                        j = order[at]
                        k = most - 1
                        while k > 0 and (near[k - 1] > d or (near[k - 1] == d and found[i, k - 1] > j)):
                            near[k], found[i, k] = near[k - 1], found[i, k - 1]
                            k -= 1
                        near[k], found[i, k] = d, j


@njit("void(i8[:,::1], i8[::1], i8[:,::1])", parallel=True, cache=True)
def _mutual(found: Longs, at: Longs, joined: Longs) -> None:
    """The pairs that have each other among their nearest, once, by the first of them: how many of each into `at` (n,), or, if
    there is room in `joined`, they themselves from there on."""
    filling, most = len(joined) > 0, found.shape[1]
    for i in prange(len(found)):
        count = 0
        for k in range(most):
            j = found[i, k]
            if j < 0:
                break
            if j < i:
                continue
            for m in range(most):
                if found[j, m] == i:
                    if filling:
                        joined[at[i] + count, 0], joined[at[i] + count, 1] = i, j
                    count += 1
                    break
        if not filling:
            at[i] = count


def _looked_at(counts: Longs) -> float:
    """Upper bound of the number of pairs of particles in the same or adjacent cells, from the number of particles per cell."""
    around = counts.astype(np.float64)
    for axis in range(3):
        padded = np.pad(around, [(1, 1) if a == axis else (0, 0) for a in range(3)])
        n = around.shape[axis]
        around = np.sum([np.take(padded, np.arange(k, k + n), axis=axis) for k in range(3)], axis=0)
    return float((counts * around).sum())


@kernel_lock
def pairs(place: Floats, reach: float, most: int) -> tuple[Longs, Floats]:
    """Pairs (n, 2) of particles at places (m, 3) px that are among each other's `most` nearest within the reach; and their
    distances (n,) px. Each pair once, in the order of its first.

    Where too many lie within the reach to look at all of them, it is shortened: the cost is known in advance.
    """
    if len(place) < 2 or reach <= 0:
        return np.empty((0, 2), np.int64), np.empty(0, np.float32)
    low = place.min(axis=0)
    extent = np.maximum(place.max(axis=0) - low, 1e-3).astype(np.float64)
    while True:
        # Cells as large as the reach, but not many more than there are particles.
        size = reach
        while np.prod(np.floor(extent / size) + 1) > _CELLS_EACH * len(place) + 64:
            size *= 1.26
        nx, ny, nz = (int(v) for v in np.floor(extent / size).astype(np.int64) + 1)
        cells = np.floor((place - low) / size).astype(np.int64)
        flat = (cells[:, 2] * ny + cells[:, 1]) * nx + cells[:, 0]
        counts = np.bincount(flat, minlength=nx * ny * nz)
        if _looked_at(counts.reshape(nz, ny, nx)) <= _MOST_LOOKS:
            break
        # Too many candidates: only nearer ones can be joined.
        reach *= 0.7
    order = np.argsort(flat, kind="stable").astype(np.int64)
    starts = np.zeros(nx * ny * nz + 1, np.int64)
    np.cumsum(counts, out=starts[1:])
    found = np.full((len(place), most), -1, np.int64)
    _nearest(np.ascontiguousarray(place[order]), cells[order], starts, order, nx, ny, nz, reach, found)
    counts, none = np.zeros(len(place), np.int64), np.empty((0, 2), np.int64)
    _mutual(found, counts, none)
    joined = np.empty((int(counts.sum()), 2), np.int64)
    _mutual(found, np.cumsum(counts) - counts, joined)
    return joined, np.linalg.norm(place[joined[:, 0]] - place[joined[:, 1]], axis=1).astype(np.float32)
