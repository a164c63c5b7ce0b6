"""The paint of faces at a pixel: colours of their corners, or pictures in the size that fits (see `Paint`)."""

from __future__ import annotations

import math

from numba import f4, f8, i8, u1, void

from isbjorn.core.arrays import Bytes, Floats, Longs
from isbjorn.core.evaluate.geometry.paint import LEVELS
from isbjorn.core.jit import inline_kernel
from isbjorn.core.records import Records, records
from isbjorn.core.render.models.faces import NEAR, NEAR_X, NEAR_Y
from isbjorn.core.render.scene.camera import VIEW


@inline_kernel(void(u1[:, ::1], i8[:, ::1], f4[::1], i8, f8, f8, f4[::1], f8), cache=True, error_model="numpy")
def _texel(
    texels: Bytes, levels: Longs, decoded: Floats, row: int, u: float, v: float, out: Floats, share: float
) -> None:
    """Add a share of one size of a picture, in linear light, at a place on it: u to the right and v up, in its sides."""
    start, width, height = levels[row, 0], levels[row, 1], levels[row, 2]
    x, y = (u - math.floor(u)) * width - 0.5, (1 - (v - math.floor(v))) * height - 0.5
    i, j = math.floor(x), math.floor(y)
    a, b = x - i, y - j
    for dj in range(2):
        for di in range(2):
            at = start + (int(j) + dj + height) % height * width + (int(i) + di + width) % width
            part = share * (a if di == 1 else 1 - a) * (b if dj == 1 else 1 - b)
            for c in range(3):
                out[c] += part * decoded[texels[at, c]]


@inline_kernel(
    void(f4[:, ::1], f4[:, ::1], u1[:, ::1], i8[:, ::1], f4[::1], records(VIEW), i8, f8, f8, f8, f4[::1]), cache=True,
    error_model="numpy",
)  # fmt: skip
def paint_at(
    faces: Floats, painted: Floats, texels: Bytes, levels: Longs, decoded: Floats, views: Records, f: int, x: float, y: float,
    spread: float, out: Floats,
) -> None:  # fmt: skip
    """The colour of a face's paint at a pixel, the mean of some px, linear, into out (3 or more,). decoded (256,): values of texels
    as linear light; others: see `seen_faces` and `Paint.texels`."""
    face, plane = faces[f], painted[f]
    near, near_x, near_y = 1.0, 0.0, 0.0
    if views[0].lens > 0:
        near = max(1e-12, face[NEAR] + face[NEAR_X] * x + face[NEAR_Y] * y)
        near_x, near_y = float(face[NEAR_X]), float(face[NEAR_Y])
    page = int(plane[9])
    if page < 0:
        for c in range(3):
            value = (plane[3 * c] + plane[3 * c + 1] * x + plane[3 * c + 2] * y) / near
            out[c] = min(max(value, 0.0), 1.0)
        return
    u, v = (plane[0] + plane[1] * x + plane[2] * y) / near, (plane[3] + plane[4] * x + plane[5] * y) / near
    row = page * LEVELS
    # Pixels of the picture to one of the frame, along its longer side (Williams 1983, "Pyramidal parametrics").
    width, height = levels[row, 1], levels[row, 2]
    ux, uy = (plane[1] - u * near_x) / near * width, (plane[2] - u * near_y) / near * width
    vx, vy = (plane[4] - v * near_x) / near * height, (plane[5] - v * near_y) / near * height
    most = max(ux * ux + vx * vx, uy * uy + vy * vy) * spread * spread
    level = min(max(0.5 * math.log2(max(most, 1e-12)), 0.0), LEVELS - 1.0)
    first = min(int(level), LEVELS - 2)
    for c in range(3):
        out[c] = 0.0
    for k in range(2):
        share = level - first if k == 1 else 1 - (level - first)
        if share > 0:
            _texel(texels, levels, decoded, row + first + k, u, v, out, share)
