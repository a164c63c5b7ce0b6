"""Lines with two ends: trails and lines between neighbours.

Each pixel belongs to the piece of the line nearest to it: planes through its ends separate a stroke from the next, so that no pixel
of a joint is covered twice. Width, colour and cover change linearly from end to end.
"""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt
from numba import prange

from isbjorn.core.arrays import Floats, Ints, Longs
from isbjorn.core.jit import njit
from isbjorn.core.render.raster.blends import put
from isbjorn.core.render.raster.tiles import TILE_H, TILE_W, tiled
from isbjorn.core.runtime.parallel import kernel_lock

Reals = npt.NDArray[np.floating]
# Columns: place and reach of the whole; both ends; half widths; the planes at its ends (their normals point along the line);
# premultiplied colour and cover at both ends; softness in [0, 1].
X, Y, REACH, X0, Y0, X1, Y1, R0, R1, N0X, N0Y, N1X, N1Y, A, B, SOFT = *range(14), 17, 21
STROKE = 22
_THINNEST = 0.5


@njit("void(f4[:,::1], i4[::1], i8[::1], i8[::1], i8, i8, f4[:,:,::1])", parallel=True, cache=True)
def _draw(strokes: Floats, order: Ints, starts: Longs, turns: Longs, columns: int, mode: int, out: Floats) -> None:
    height, width = out.shape[0], out.shape[1]
    for turn in prange(len(turns)):
        number = turns[turn]
        left, top = (number % columns) * TILE_W, (number // columns) * TILE_H
        right, bottom = min(width, left + TILE_W), min(height, top + TILE_H)
        for at in range(starts[number], starts[number + 1]):
            s = strokes[order[at]]
            dx, dy = float(s[X1] - s[X0]), float(s[Y1] - s[Y0])
            length2 = dx * dx + dy * dy
            if length2 <= 0.0:
                continue
            wide = max(s[R0], s[R1]) + 1.0
            x0, x1 = max(left, math.floor(min(s[X0], s[X1]) - wide)), min(right, math.ceil(max(s[X0], s[X1]) + wide))
            y0, y1 = max(top, math.floor(min(s[Y0], s[Y1]) - wide)), min(bottom, math.ceil(max(s[Y0], s[Y1]) + wide))
            for y in range(y0, y1):
                py = y + 0.5
                for x in range(x0, x1):
                    px = x + 0.5
                    if (px - s[X0]) * s[N0X] + (py - s[Y0]) * s[N0Y] < 0.0:
                        continue
                    if (px - s[X1]) * s[N1X] + (py - s[Y1]) * s[N1Y] >= 0.0:
                        continue
                    t = min(1.0, max(0.0, ((px - s[X0]) * dx + (py - s[Y0]) * dy) / length2))
                    ax, ay = px - s[X0] - t * dx, py - s[Y0] - t * dy
                    r = s[R0] + t * (s[R1] - s[R0])
                    # Half of the light across it: the edge is a pixel wide at least, and keeps it.
                    half, thin = r * (1.0 - 0.5 * s[SOFT]), 1.0
                    edge = max(1.0, s[SOFT] * r)
                    if half < _THINNEST:
                        thin = half / _THINNEST
                        half = _THINNEST
                    q = (half + 0.5 * edge - math.sqrt(ax * ax + ay * ay)) / edge
                    if q <= 0.0:
                        continue
                    q = min(1.0, q)
                    w = thin * q * q * (3.0 - 2.0 * q)
                    put(
                        out, y, x, w * (s[A] + t * (s[B] - s[A])), w * (s[A + 1] + t * (s[B + 1] - s[A + 1])),
                        w * (s[A + 2] + t * (s[B + 2] - s[A + 2])), w * (s[A + 3] + t * (s[B + 3] - s[A + 3])), mode,
                    )  # fmt: skip


@kernel_lock
def draw_strokes(strokes: Floats, out: Floats, mode: int = 0) -> None:
    """Draw strokes (n, 22), float32, in their order, onto a picture (height, width, 4), in place."""
    if len(strokes) == 0:
        return
    tiles = tiled(strokes, out.shape[1], out.shape[0])
    _draw(strokes, tiles.order, tiles.bounds, tiles.turns, tiles.columns, mode, out)


def strokes_of(ends: Reals, widths: Reals, colours: Reals, before: Reals, after: Reals, soft: float) -> Floats:
    """Strokes (n, 22) from ends (n, 2, 2) px, half widths (n, 2) px, premultiplied colours with cover (n, 2, 4), and the
    normals of the planes at both ends (n, 2)."""
    found = np.empty((len(ends), STROKE), np.float32)
    middle = ends.mean(axis=1)
    found[:, 0:2] = middle
    found[:, 2] = np.hypot(*(ends[:, 1] - ends[:, 0]).T) / 2 + widths.max(axis=1) + 1.5
    found[:, 3:7] = ends.reshape(-1, 4)
    found[:, 7:9], found[:, 9:11], found[:, 11:13] = widths, before, after
    found[:, 13:21] = colours.reshape(-1, 8)
    found[:, 21] = soft
    return found


def polylines(points: Reals, widths: Reals, colours: Reals, shown: npt.NDArray[np.bool_], soft: float) -> Floats:
    """Strokes of n polylines of m points each, one line after the other.

    points (n, m, 2) px, widths (n, m) px (half), colours (n, m, 4) premultiplied with cover, shown (n, m - 1): which pieces.
    """
    step = np.diff(points, axis=1)
    length = np.linalg.norm(step, axis=2, keepdims=True)
    shown = shown & (length[..., 0] > 1e-4)
    way = np.where(length > 1e-4, step / np.maximum(length, 1e-4), 0)
    # At a joint, the plane halves the angle; a piece that is not drawn has no say.
    say = way * shown[..., None]
    before, after = say.copy(), say.copy()
    before[:, 1:] += say[:, :-1]
    after[:, :-1] += say[:, 1:]
    for plane in (before, after):
        turned = (plane * way).sum(axis=2, keepdims=True) <= 1e-3
        np.copyto(plane, way, where=turned)
    ends = np.stack([points[:, :-1], points[:, 1:]], axis=2)
    wide = np.stack([widths[:, :-1], widths[:, 1:]], axis=2)
    shade = np.stack([colours[:, :-1], colours[:, 1:]], axis=2)
    return strokes_of(ends[shown], wide[shown], shade[shown], before[shown], after[shown], soft)
