"""Bytes of a plate at the size shown, in one pass: the mean of light over the area of each pixel; kept as codes of 16 bits (see
`render.shades.lit`), at a third of the room of linear floats with their alpha."""

from __future__ import annotations

import functools

import numpy as np
import numpy.typing as npt
from numba import prange

from isbjorn.core.arrays import Codes, Floats
from isbjorn.core.jit import njit
from isbjorn.core.render.shades import TOP_CODE
from isbjorn.core.runtime.parallel import guarded

_BLOCKS = 32


@njit(
    "void(u1[:,:,::1], f4[::1], i8[::1], f4[:,::1], u4[::1], f4[:,::1], u2[:,:,::1])", parallel=True, cache=True,
    fastmath={"contract", "nnan", "ninf", "nsz"},
)  # fmt: skip
def _shrink(
    pixels: npt.NDArray[np.uint8], table: Floats, rows: npt.NDArray[np.int64], tall: Floats, columns: npt.NDArray[np.uint32],
    wide: Floats, out: Codes,
) -> None:  # fmt: skip
    width, count = np.uint32(3 * pixels.shape[1]), np.uint32(wide.shape[1])
    height, top = out.shape[0], np.float32(TOP_CODE)
    for block in prange(_BLOCKS):
        # As long as the last pixel's share may reach, with nothing there.
        sums, light = np.zeros(width + 3 * count, np.float32), np.empty(width, np.float32)
        lit = -1
        for y in range(block * height // _BLOCKS, (block + 1) * height // _BLOCKS):
            sums[:] = 0
            for k in range(tall.shape[1]):
                weight = tall[y, k]
                if weight > 0:
                    if lit != rows[y] + k:
                        # Two rows that meet within one share it.
                        lit = rows[y] + k
                        row = pixels[lit].reshape(-1)
                        for i in range(width):
                            light[i] = table[row[i]]
                    for i in range(width):
                        sums[i] += weight * light[i]
            codes = out[y].reshape(-1)
            for x in range(np.uint32(out.shape[1])):
                red, green, blue = np.float32(0), np.float32(0), np.float32(0)
                at = np.uint32(3) * columns[x]
                for k in range(count):
                    weight = wide[x, k]
                    red += weight * sums[at]
                    green += weight * sums[at + np.uint32(1)]
                    blue += weight * sums[at + np.uint32(2)]
                    at += np.uint32(3)
                codes[3 * x] = np.uint16(np.sqrt(min(red, np.float32(1))) * top + np.float32(0.5))
                codes[3 * x + 1] = np.uint16(np.sqrt(min(green, np.float32(1))) * top + np.float32(0.5))
                codes[3 * x + 2] = np.uint16(np.sqrt(min(blue, np.float32(1))) * top + np.float32(0.5))


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
def shrunk(pixels: npt.NDArray[np.uint8], table: Floats, width: int, height: int) -> Codes:
    """Opaque pixels (h, w, 3) of 8 bits as codes of their light, uint16 (height, width, 3); no larger than they are.

    table: linear light of each code value in [0, 1], float32 (256,).
    """
    out = np.empty((height, width, 3), np.uint16)
    rows, tall = _shares(pixels.shape[0], height)
    columns, wide = _shares(pixels.shape[1], width)
    _shrink(pixels, table, rows, tall, columns.astype(np.uint32), wide, out)
    return out
