"""Bytes of a plate to linear light at the size shown, in one pass: the mean over the area of each pixel."""

from __future__ import annotations

import functools

import numpy as np
import numpy.typing as npt
from numba import njit, prange

from isbjorn.core.arrays import Floats
from isbjorn.core.runtime.parallel import guarded


@njit(
    "void(u1[:,:,::1], f4[::1], i8[::1], f4[:,::1], u4[::1], f4[:,::1], f4[:,:,::1])", parallel=True, cache=True,
    fastmath={"contract", "nnan", "ninf", "nsz"},
)  # fmt: skip
def _shrink(
    pixels: npt.NDArray[np.uint8], table: Floats, rows: npt.NDArray[np.int64], tall: Floats, columns: npt.NDArray[np.uint32],
    wide: Floats, out: Floats,
) -> None:  # fmt: skip
    width, count = np.uint32(3 * pixels.shape[1]), np.uint32(wide.shape[1])
    for y in prange(out.shape[0]):
        # As long as the last pixel's share may reach, with nothing there.
        sums = np.zeros(width + 3 * count, np.float32)
        for k in range(tall.shape[1]):
            weight = tall[y, k]
            if weight > 0:
                row = pixels[rows[y] + k].reshape(-1)
                for i in range(width):
                    sums[i] += weight * table[row[i]]
        lit = out[y].reshape(-1)
        for x in range(np.uint32(out.shape[1])):
            red, green, blue = np.float32(0), np.float32(0), np.float32(0)
            at = np.uint32(3) * columns[x]
            for k in range(count):
                weight = wide[x, k]
                red += weight * sums[at]
                green += weight * sums[at + np.uint32(1)]
                blue += weight * sums[at + np.uint32(2)]
                at += np.uint32(3)
            lit[4 * x], lit[4 * x + 1], lit[4 * x + 2], lit[4 * x + 3] = red, green, blue, np.float32(1)


@functools.lru_cache(maxsize=32)
def _shares(before: int, after: int) -> tuple[npt.NDArray[np.int64], Floats]:
    """For each of `after` pixels over `before`: the first that it lies on, and the share of it and of those behind."""
    edges = np.arange(after + 1) * (before / after)
    first = np.minimum(np.floor(edges[:-1] + 1e-9).astype(np.int64), before - 1)
    count = int(np.max(np.ceil(edges[1:] - 1e-9).astype(np.int64) - first))
    at = first[:, None] + np.arange(count)
    cover = np.minimum(at + 1, edges[1:, None]) - np.maximum(at, edges[:-1, None])
    cover = np.where(at < before, np.maximum(0, cover), 0)
    return first, np.ascontiguousarray(cover / cover.sum(axis=1, keepdims=True), np.float32)


@guarded
def shrunk(pixels: npt.NDArray[np.uint8], table: Floats, width: int, height: int) -> Floats:
    """Opaque pixels (h, w, 3) of 8 bits as linear light, float32 (height, width, 4); smaller than they are.

    table: linear light of each code value, float32 (256,).
    """
    out = np.empty((height, width, 4), np.float32)
    rows, tall = _shares(pixels.shape[0], height)
    columns, wide = _shares(pixels.shape[1], width)
    _shrink(pixels, table, rows, tall, columns.astype(np.uint32), wide, out)
    return out
