"""Lattice points of planar noise that many particles share, computed once per step instead of by each particle."""

from __future__ import annotations

import math

import numpy as np

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.jit import inline_kernel
from isbjorn.core.random import mix
from isbjorn.core.simulate.forces.force_layout import CODE, PLACE
from isbjorn.core.simulate.forces.turbulence import CODE as TURBULENCE
from isbjorn.core.simulate.forces.turbulence import NOISE, OFFSET
from isbjorn.core.simulate.noise import BOX, OCTAVES_APART, in_cells, slope_flat

# This many particles per point make it worthwhile; and the most memory for all points of all steps.
_FOR_EACH, _MOST_BYTES = 6, 8 << 20
_FEWEST, _FAR = 2048, 1e6


@inline_kernel("i8(f8[:,:,::1], i8, f8[::1], f8[::1], i8, f8[:,:,::1])", cache=True)
def _boxed(rows: Doubles, steps: int, low: Doubles, high: Doubles, most: int, boxes: Doubles) -> int:
    """Fill in which points are to be known: of each step, row and octave where they begin in the table, the first of them along
    both axes, and how many there are along each. Returns how many numbers the table has for a step."""
    longest = 0
    for s in range(steps):
        total = 0
        for r in range(rows.shape[1]):
            sx, sy, sz = rows[s, r, NOISE + 4], rows[s, r, NOISE + 5], rows[s, r, NOISE + 6]
            flowing, scale, off = (sx > 0) + (sy > 0) + (sz > 0), rows[s, r, NOISE], rows[s, r, OFFSET]
            if int(rows[s, r, CODE]) != TURBULENCE or rows[s, r, NOISE + 8] > 0 or not 0 < flowing < 3:
                continue
            px, py, pz = rows[s, r, PLACE] - off, rows[s, r, PLACE + 1] - 0.7 * off, rows[s, r, PLACE + 2]
            for octave in range(int(rows[s, r, NOISE + 1])):
                p0, q0, _ = in_cells(sx, sy, sz, flowing, scale, low[0] - px, low[1] - py, low[2] - pz)
                p1, q1, _ = in_cells(sx, sy, sz, flowing, scale, high[0] - px, high[1] - py, high[2] - pz)
                scale *= rows[s, r, NOISE + 2]
                if not (abs(p0) < _FAR and abs(q0) < _FAR and abs(p1) < _FAR and abs(q1) < _FAR):
                    continue
                # A cell to spare: particles move within the steps.
                at, i, j = octave * BOX, math.floor(p0) - 1, math.floor(q0) - 1
                wide, tall = math.floor(p1) + 3 - i, math.floor(q1) + 3 - j
                if wide * tall <= most:
                    boxes[s, r, at], boxes[s, r, at + 1], boxes[s, r, at + 2] = total, i, j
                    boxes[s, r, at + 3], boxes[s, r, at + 4] = wide, tall
                    total += 2 * int(wide * tall)
        longest = max(longest, total)
    return longest


@inline_kernel("void(f8[:,:,::1], f8[:,:,::1], f8[:,::1])", cache=True)
def _fill(rows: Doubles, boxes: Doubles, known: Doubles) -> None:
    for s in range(len(known)):
        for r in range(rows.shape[1]):
            for octave in range(boxes.shape[2] // BOX):
                box = octave * BOX
                at, seed = (
                    int(boxes[s, r, box]),
                    mix(np.uint64(int(rows[s, r, NOISE + 7])) + np.uint64(octave) * OCTAVES_APART),
                )
                for j in range(int(boxes[s, r, box + 4])):
                    for i in range(int(boxes[s, r, box + 3])):
                        x, y = int(boxes[s, r, box + 1]) + i, int(boxes[s, r, box + 2]) + j
                        known[s, at], known[s, at + 1] = slope_flat(x, y, seed, rows, s, r, NOISE + 9)
                        at += 2


def eddies(rows: Doubles, steps: int, place: Floats) -> tuple[Doubles, Doubles]:
    """Gradients of the lattice points of a world's turbulences, float64 (steps, m), and their indices, float64 (steps, rows, `BOX`
    times octaves), for particles at places (3, n); both empty where the lattice would not pay.

    The numbers are those that each particle would compute alone, to the bit.
    """
    none = (np.zeros((0, 0)), np.zeros((0, rows.shape[1], 0)))
    stirring = rows[0, :, CODE] == TURBULENCE
    if place.shape[1] < _FEWEST or not stirring.any():
        return none
    low, high = place.min(axis=1).astype(np.float64), place.max(axis=1).astype(np.float64)
    boxes = np.zeros((steps, rows.shape[1], BOX * int(rows[:steps, stirring, NOISE + 1].max())))
    length = _boxed(rows, steps, low, high, place.shape[1] // _FOR_EACH, boxes)
    if length == 0 or length * steps * 8 > _MOST_BYTES:
        return none
    known = np.empty((steps, length))
    _fill(rows, boxes, known)
    return known, boxes
