"""Faces drawn into tiles with 16 samples a pixel, the nearest at each sample.

The samples of a pixel are on 16 lines, one each, at places of the Hammersley set. A line of samples of a convex face is a span
between two of its edges, so a sample is covered where it is in its span; sides that faces share are computed alike for both, so
that no sample is covered twice or not at all. Pixels that one face covers are stored as one; only edges need their samples.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numba import f4, i4, i8, types, u1, void

from isbjorn.core.arrays import Bytes, Floats, Ints
from isbjorn.core.jit import inline_kernel
from isbjorn.core.render.models.faces import CORNERS, COUNT, NEAR, NEAR_X, NEAR_Y
from isbjorn.core.render.models.lanes import DOWN, RIGHT, ROW, SAMPLES, STEP, alike, first_bit, nearest, spans
from isbjorn.core.render.raster.tiles import TILE_W

# What a pixel holds: nothing, one face that covers it, or samples.
EMPTY, WHOLE, SAMPLED = 0, 1, 2
# All samples of a pixel, as bits.
ALL_SAMPLES = np.int32((1 << SAMPLES) - 1)


@inline_kernel(types.UniTuple(i4, 2)(i4[:, ::1], u1[::1], i8, i4), cache=True)  # type: ignore[no-untyped-call]
def face_in(names: Ints, used: Bytes, pixel: int, rest: Any) -> tuple[Any, Any]:
    """One of the faces in a pixel, of the samples in the bits of `rest`, -1 for none; and all samples that it has, as bits."""
    if used[pixel] == WHOLE:
        return names[pixel, 0], ALL_SAMPLES
    name = names[pixel, first_bit(rest)]
    return name, alike(names, pixel * SAMPLES, name)


@inline_kernel(void(f4[:, ::1], i4[:, ::1], i8, f4, f4, f4[:, ::1]), cache=True)
def _spread(faces: Floats, names: Ints, pixel: int, x: Any, y: Any, near: Floats) -> None:
    """Make samples of a pixel that one face covers."""
    name = names[pixel, 0]
    face = faces[name]
    depth = face[NEAR] + face[NEAR_X] * x + face[NEAR_Y] * y
    for k in range(SAMPLES):
        near[pixel, k] = depth + (face[NEAR_X] * RIGHT[k] + face[NEAR_Y] * DOWN[k])
        names[pixel, k] = name


@inline_kernel(
    void(f4[:, ::1], i8, i8, i8, i8, i8, f4[:, ::1], i4[:, ::1], u1[::1], f4[:, ::1], f4[:, ::1]),
    cache=True,
    fastmath={"contract"},
)
def draw_face(
    faces: Floats, f: int, left: int, top: int, right: int, bottom: int, near: Floats, names: Ints, used: Bytes, lane: Floats,
    edges: Floats,
) -> None:  # fmt: skip
    """Draw a face into a tile, whose pixels reach from left, top to right, bottom (excluded).

    near (pixels, samples): nearness of the nearest so far; of a pixel that one face covers, the least and the greatest in it. names
    (pixels, samples): the face. used (pixels,): what a pixel holds. lane, edges: scratch memory of `spans`.
    """
    face = faces[f]
    count = int(face[COUNT])
    low, high, sides = face[CORNERS + 1], face[CORNERS + 1], 0
    for c in range(count):
        d = c + 1 if c + 1 < count else 0
        x_a, y_a = face[CORNERS + 2 * c], face[CORNERS + 2 * c + 1]
        x_b, y_b = face[CORNERS + 2 * d], face[CORNERS + 2 * d + 1]
        low, high = min(low, y_a), max(high, y_a)
        # From the upper corner, so that both faces of an edge compute the same.
        if y_a < y_b:
            edges[sides, 0], edges[sides, 1], edges[sides, 2], edges[sides, 3] = (
                x_a,
                (x_b - x_a) / (y_b - y_a),
                y_a,
                1.0,
            )
            sides += 1
        elif y_a > y_b:
            edges[sides, 0], edges[sides, 1], edges[sides, 2], edges[sides, 3] = (
                x_b,
                (x_a - x_b) / (y_a - y_b),
                y_b,
                0.0,
            )
            sides += 1
    slope_x, slope_y = face[NEAR_X], face[NEAR_Y]
    for k in range(SAMPLES):
        lane[STEP, k] = slope_x * RIGHT[k] + slope_y * DOWN[k]
    # Bounds of the nearness in a pixel, above that of its corner.
    least, most = (
        min(slope_x, np.float32(0)) + min(slope_y, np.float32(0)),
        max(slope_x, np.float32(0)) + max(slope_y, np.float32(0)),
    )
    for y in range(max(top, math.floor(low)), min(bottom, math.floor(high) + 1)):
        spans(edges, sides, low, high, np.float32(y), lane)
        row = lane[ROW]
        if row[0] >= row[1]:
            continue
        x0, x1 = max(left, math.ceil(row[0])), min(right, math.ceil(row[1]))
        full0, full1 = math.ceil(max(row[2], np.float32(left))), math.ceil(min(row[3], np.float32(right)))
        base, here = (y - top) * TILE_W - left, face[NEAR] + slope_y * np.float32(y)
        for x in range(x0, x1):
            at = np.float32(x)
            depth, pixel = here + slope_x * at, base + x
            full, state = full0 <= x < full1, used[pixel]
            if state == WHOLE:
                if depth + most <= near[pixel, 0]:
                    continue
                if not (full and depth + least >= near[pixel, 1]):
                    _spread(faces, names, pixel, at, np.float32(y), near)
                    state = used[pixel] = SAMPLED
            if state != SAMPLED and full:
                near[pixel, 0], near[pixel, 1], names[pixel, 0] = depth + least, depth + most, f
                used[pixel] = WHOLE
            else:
                nearest(near, names, pixel * SAMPLES, lane, at, depth, f, state == EMPTY)
                used[pixel] = SAMPLED
