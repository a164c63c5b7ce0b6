"""Models that hide what is behind them: how much of each pixel they cover, and how near they are there."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import cv2
import numpy as np
from numba import f4, i4, i8, prange, void

from isbjorn.core.appearance.particles import Particles
from isbjorn.core.arrays import Doubles, Floats, Ints, Longs
from isbjorn.core.document import Matte
from isbjorn.core.jit import njit
from isbjorn.core.render.models.faces import NEAR, NEAR_X, NEAR_Y, Geometry, seen_faces
from isbjorn.core.render.models.lanes import LANE_ROWS, NOTHING, SAMPLES
from isbjorn.core.render.models.placed import placed
from isbjorn.core.render.models.raster import EMPTY, WHOLE, draw_face
from isbjorn.core.render.raster.tiles import TILE_H, TILE_W, tiled
from isbjorn.core.render.scene.camera import Projection
from isbjorn.core.runtime.parallel import kernel_lock

if TYPE_CHECKING:
    from isbjorn.core.render.draw.context import RenderContext

_PIXELS = TILE_W * TILE_H
SHOWS, CUTS, COVERS = 0, 1, 2
# A body this much larger than a pixel at most is looked for beyond the edge of what hides it, px.
_WIDEST = 48


@dataclass(frozen=True)
class HoldOut:
    """cover (height, width) in [0, 1]; near (height, width): nearness, as of faces; far below anything where nothing is; margin:
    px that are forgiven behind the surface; soft: pixels within which its edge is softened."""

    cover: Floats
    near: Floats
    margin: float
    soft: int
    _known: dict[int, tuple[Floats, Floats]] = field(default_factory=dict)

    def hides(self, p: Particles, context: RenderContext) -> Longs:
        """What the model does to particles, (n,): `SHOWS` those before it, `CUTS` those behind it, by their centres, and `COVERS`
        those behind it of which nothing is seen."""
        view = context.view
        places = (p.position.astype(np.float64) - view.eye) @ view.axes.T
        near = places[:, 2] if view.lens_px is None else 1 / np.maximum(1e-6, -places[:, 2])
        pixels, grown = view.place(p.position)
        radius = 0.5 * p.size * grown * view.scale_x
        # A body whose centre is beside the model reaches behind it all the same.
        reach = min(_WIDEST, int(np.ceil(float(np.median(radius))))) if len(p) else 0
        walls, cover = self._around(reach)
        x = np.clip(pixels[:, 0].astype(np.int64), 0, view.width - 1)
        y = np.clip(pixels[:, 1].astype(np.int64), 0, view.height - 1)
        wall = walls[y, x].astype(np.float64)
        if self.margin > 0:
            wall = (
                wall - self.margin
                if view.lens_px is None
                else np.where(wall > 0, wall / (1 + wall * self.margin), wall)
            )
        found = np.where(near < wall, CUTS, SHOWS)
        found[(found == CUTS) & (cover[y, x] >= 1) & (radius <= reach)] = COVERS
        return found

    def _around(self, reach: int) -> tuple[Floats, Floats]:
        """The nearest wall, and the least cover, within some pixels of each."""
        if reach not in self._known:
            shape = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * reach + 1, 2 * reach + 1))
            # One pixel more: what is drawn reaches half a pixel beyond a body's radius.
            side = 2 * (reach + 1 + self.soft) + 1
            wider = cv2.getStructuringElement(cv2.MORPH_RECT, (side, side))
            walls, cover = cv2.dilate(self.near, shape), cv2.erode(self.cover, wider)
            self._known[reach] = np.asarray(walls, np.float32), np.asarray(cover, np.float32)
        return self._known[reach]


@njit(void(f4[:, ::1], i4[::1], i8[::1], i8[::1], i8, f4[:, ::1], f4[:, ::1]), parallel=True, cache=True)
def _depths(faces: Floats, order: Ints, bounds: Longs, turns: Longs, columns: int, cover: Floats, near: Floats) -> None:
    """Cover and nearness of faces: the mean of the samples that they cover."""
    height, width = cover.shape
    for turn in prange(len(turns)):
        tile = turns[turn]
        if bounds[tile] == bounds[tile + 1]:
            continue
        lane, edges = np.empty((LANE_ROWS, SAMPLES), np.float32), np.empty((4, 4), np.float32)
        depth, names = np.empty((_PIXELS, SAMPLES), np.float32), np.empty((_PIXELS, SAMPLES), np.int32)
        used = np.zeros(_PIXELS, np.uint8)
        top, left = tile // columns * TILE_H, tile % columns * TILE_W
        right, bottom = min(left + TILE_W, width), min(top + TILE_H, height)
        for k in range(bounds[tile], bounds[tile + 1]):
            draw_face(faces, order[k], left, top, right, bottom, depth, names, used, lane, edges)
        for y in range(top, bottom):
            for x in range(left, right):
                pixel = (y - top) * TILE_W + x - left
                if used[pixel] == EMPTY:
                    continue
                if used[pixel] == WHOLE:
                    face = faces[names[pixel, 0]]
                    cover[y, x] = 1.0
                    near[y, x] = face[NEAR] + face[NEAR_X] * np.float32(x + 0.5) + face[NEAR_Y] * np.float32(y + 0.5)
                    continue
                count, total = 0, 0.0
                for k in range(SAMPLES):
                    if names[pixel, k] >= 0:
                        count += 1
                        total += depth[pixel, k]
                if count > 0:
                    cover[y, x], near[y, x] = count / SAMPLES, total / count


@kernel_lock
def held(view: Projection, rows: Doubles, geometry: Geometry, margin: float, soft: int) -> HoldOut:
    """What instances hide; see `HoldOut`."""
    cover = np.zeros((view.height, view.width), np.float32)
    near = np.full((view.height, view.width), NOTHING, np.float32)
    faces, _, _ = seen_faces(view.packed, rows, geometry.bare)
    if len(faces):
        tiles = tiled(faces, view.width, view.height)
        _depths(faces, tiles.order, tiles.bounds, tiles.turns, tiles.columns, cover, near)
    return HoldOut(cover, near, margin, soft)


def hold_out(matte: Matte, context: RenderContext) -> HoldOut:
    """A matte that is a model, at the moment; made once for it."""
    key = matte.id, context.seconds
    if key not in context.hold_outs:
        context.hold_outs[key] = _hold_out(matte, context)
    return context.hold_outs[key]


def _hold_out(matte: Matte, context: RenderContext) -> HoldOut:
    view = context.view
    geometry, rows = placed([matte], context)
    # Its blur reaches three times as far as its deviation.
    soft = math.ceil(1.5 * context.read(matte.feather) * view.scale_x)
    return held(view, rows, geometry, context.read(matte.margin), soft)
