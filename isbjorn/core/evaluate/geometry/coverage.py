"""The exact coverage of texels by what closed polylines enclose."""

from __future__ import annotations

import math

import numpy as np

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.jit import inline_kernel, njit

_LEAST = 1e-7


@inline_kernel("void(f8[:,::1], i8, f8, f8, f8)", cache=True, forceinline=True)
def _cross(sums: Doubles, row: int, xa: float, xb: float, rise: float) -> None:
    """Add the area to the right of a piece of an edge within one row: from xa to xb, over a signed height."""
    last = sums.shape[1] - 2
    left, right = min(xa, xb), max(xa, xb)
    first, end = math.floor(left), math.floor(right)
    if end <= first or right - left < 1e-12:
        cell = min(max(first, 0), last)
        inside = min(max(0.5 * (left + right) - cell, 0.0), 1.0)
        sums[row, cell] += rise * (1.0 - inside)
        sums[row, cell + 1] += rise * inside
        return
    for cell in range(first, end + 1):
        a, b = max(left, float(cell)), min(right, cell + 1.0)
        share = rise * (b - a) / (right - left)
        at = min(max(cell, 0), last)
        inside = min(max(0.5 * (a + b) - at, 0.0), 1.0)
        sums[row, at] += share * (1.0 - inside)
        sums[row, at + 1] += share * inside


@njit("void(f8[:,::1], f8[:,::1])", cache=True)
def _accumulate(edges: Doubles, sums: Doubles) -> None:
    height = sums.shape[0]
    for n in range(len(edges)):
        ax, ay, bx, by = edges[n]
        if ay == by:
            continue
        sign = 1.0 if by > ay else -1.0
        if by < ay:
            ax, ay, bx, by = bx, by, ax, ay
        slope = (bx - ax) / (by - ay)
        for row in range(max(0, math.floor(ay)), min(height, math.ceil(by))):
            top, bottom = max(ay, float(row)), min(by, row + 1.0)
            if bottom > top:
                _cross(sums, row, ax + (top - ay) * slope, ax + (bottom - ay) * slope, sign * (bottom - top))
    for row in range(height):
        total = 0.0
        for column in range(sums.shape[1]):
            total += sums[row, column]
            sums[row, column] = total


def covered_texels(lines: list[Doubles], left: float, top: float, density: float, width: int, height: int) -> Floats:
    """The part of each texel that closed polylines (n, 2 or 3) px, y up, enclose, in [0, 1]; float32 (height, width).

    left, top: the corner of the first texel in px; density: texels per px. Where polylines overlap, they count once (the nonzero
    winding rule), but for texels that their edges cross. The sums are exact areas, so the coverage of a shape is its area.
    """
    pieces = [np.concatenate([line[:-1, :2], line[1:, :2]], axis=1) for line in lines if len(line) > 1]
    if not pieces:
        return np.zeros((height, width), np.float32)
    edges = (np.concatenate(pieces) - [left, top, left, top]) * [density, -density, density, -density]
    sums = np.zeros((height, width + 2))
    _accumulate(np.ascontiguousarray(edges), sums)
    cover = np.minimum(1.0, np.abs(sums[:, :width]))
    # What rounding leaves beside an outline is nothing.
    return np.where(cover < _LEAST, 0.0, cover).astype(np.float32)
