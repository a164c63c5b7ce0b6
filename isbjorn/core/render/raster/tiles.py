"""Sorting what is drawn into tiles. Each tile has one owner, so threads never race and their number never shows.

A record of anything drawn begins with its place and its reach, in pixels. A counting sort in fixed chunks keeps the drawing
order within each tile.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numba import get_num_threads, prange

from isbjorn.core.arrays import Floats, Ints, Longs
from isbjorn.core.jit import inline_kernel, njit

TILE_W, TILE_H = 64, 32
_CHUNKS = 8


@dataclass(frozen=True)
class Tiles:
    """order: record numbers, tile after tile; bounds (tiles + 1,): where each tile's begin; turns: the order of the tiles."""

    order: Ints
    bounds: Longs
    turns: Longs
    columns: int


@inline_kernel("UniTuple(i8,4)(f4[:,::1], i8, i8, i8)", cache=True, forceinline=True)
def _covered(records: Floats, i: int, width: int, height: int) -> tuple[int, int, int, int]:
    """Pixels that a body may touch: x0, x1, y0, y1, the ends excluded; empty if it is outside."""
    x, y, reach = records[i, 0], records[i, 1], records[i, 2]
    if not (x + reach > 0 and y + reach > 0 and x - reach < width and y - reach < height):
        return 0, 0, 0, 0
    x0, y0 = max(0, math.floor(x - reach)), max(0, math.floor(y - reach))
    return x0, min(width, math.ceil(x + reach)), y0, min(height, math.ceil(y + reach))


@njit("i4[:,::1](f4[:,::1], i8, i8, i8, i8)", parallel=True, cache=True)
def _count(records: Floats, width: int, height: int, columns: int, rows: int) -> Ints:
    n = len(records)
    counts = np.zeros((_CHUNKS, columns * rows), np.int32)
    for chunk in prange(_CHUNKS):
        for i in range(chunk * n // _CHUNKS, (chunk + 1) * n // _CHUNKS):
            x0, x1, y0, y1 = _covered(records, i, width, height)
            if x1 > x0 and y1 > y0:
                for ty in range(y0 // TILE_H, (y1 - 1) // TILE_H + 1):
                    for tx in range(x0 // TILE_W, (x1 - 1) // TILE_W + 1):
                        counts[chunk, ty * columns + tx] += 1
    return counts


@njit("void(f4[:,::1], i8, i8, i8, i8[:,::1], i4[::1])", parallel=True, cache=True)
def _fill(records: Floats, width: int, height: int, columns: int, starts: Longs, order: Ints) -> None:
    n = len(records)
    for chunk in prange(_CHUNKS):
        at = starts[chunk]
        for i in range(chunk * n // _CHUNKS, (chunk + 1) * n // _CHUNKS):
            x0, x1, y0, y1 = _covered(records, i, width, height)
            if x1 > x0 and y1 > y0:
                for ty in range(y0 // TILE_H, (y1 - 1) // TILE_H + 1):
                    for tx in range(x0 // TILE_W, (x1 - 1) // TILE_W + 1):
                        tile = ty * columns + tx
                        order[at[tile]] = i
                        at[tile] += 1


def _turns(work: Longs) -> Longs:
    """Tiles in an order in which every thread's even share of them holds about the same work."""
    threads = get_num_threads()
    heaviest = np.argsort(-work, kind="stable")
    return np.concatenate([heaviest[first::threads] for first in range(threads)])


def tiled(records: Floats, width: int, height: int) -> Tiles:
    """Sort records (n, at least 3), float32, into the tiles of a picture. To be called while holding the kernel lock."""
    columns, rows = -(-width // TILE_W), -(-height // TILE_H)
    counts = _count(records, width, height, columns, rows)
    ends = np.cumsum(counts.T.ravel(), dtype=np.int64)
    starts = np.concatenate([[0], ends[:-1]]).reshape(columns * rows, _CHUNKS)
    bounds = np.concatenate([starts[:, 0], ends[-1:]]).astype(np.int64)
    order = np.empty(int(ends[-1]), np.int32)
    _fill(records, width, height, columns, np.ascontiguousarray(starts.T), order)
    return Tiles(order, bounds, _turns(np.diff(bounds)), columns)
