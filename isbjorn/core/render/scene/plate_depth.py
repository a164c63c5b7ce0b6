"""The depth of the plate: what is nearer in the footage than a particle hides it, pixel by pixel.

Particles of which it hides all or nothing are drawn as they are, or not. The others are drawn in slices of depth, the farthest
first, and each slice as far as the plate leaves it. Slices are thin where the plate has much at about the same depth.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction
from typing import TYPE_CHECKING

import cv2
import numpy as np
from numba import prange

from isbjorn.core.appearance.particles import Particles
from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.document import Matte, Plate
from isbjorn.core.evaluate.plate_time import plate_frame
from isbjorn.core.jit import njit
from isbjorn.core.render.scene.camera import Projection
from isbjorn.core.runtime.parallel import kernel_lock

if TYPE_CHECKING:
    from isbjorn.core.render.draw.context import RenderContext

_SLICES = 24
HIDDEN = -1
# A body larger than this, px, is always cut pixel by pixel.
_WIDEST = 48
# The least width over which a particle fades as it passes behind something, px.
_LEAST_FADE = 1e-3
# How a file is read where there is no plate.
_LOOPED = Plate(media="-", beyond="loop")


def _sights(view: Projection, places: Floats) -> Doubles:
    """How far places (n, 3) are along the camera's sight, px: from the camera under a lens, else from the picture's plane."""
    away = (places.astype(np.float64) - view.eye) @ view.axes.T
    return np.asarray(-away[:, 2])


@njit("void(f4[:,:,::1], f4[:,::1], i8, i8, i8, i8, f8, f8)", parallel=True, cache=True)
def _cut(
    layer: Floats, walls: Floats, left: int, top: int, right: int, bottom: int, middle: float, per_px: float
) -> None:
    for y in prange(top, bottom):
        for x in range(left, right):
            behind = min(max((middle - walls[y, x]) * per_px, 0.0), 1.0)
            if behind > 0:
                seen = np.float32(1.0 - behind * behind * (3.0 - 2.0 * behind))
                for c in range(4):
                    layer[y, x, c] *= seen


_leave = kernel_lock(_cut)


@dataclass(frozen=True)
class PlateDepth:
    """walls (height, width): how far along the camera's sight the plate's things are, px, their margin added; infinite where it
    shows none. fade: px over which what passes behind them fades. edges: the bounds of slices, nearest first."""

    walls: Floats
    fade: float
    edges: Doubles
    _known: dict[int, tuple[Floats, Floats]] = field(default_factory=dict)

    def slices_of(self, p: Particles, view: Projection, far: bool) -> Longs:
        """The slice of each particle, (n,): 0 if the plate hides nothing of it, `HIDDEN` if all. far: bodies reach beyond their
        radius, so that this is known of none."""
        away = _sights(view, p.position)
        found = np.searchsorted(self.edges, away, side="right")
        if far or len(p) == 0 or len(self.edges) == 0:
            return found
        pixels, grown = view.place(p.position)
        radius = 0.5 * p.size * grown * view.scale_x
        reach = min(_WIDEST, int(np.ceil(float(radius.max()))))
        nearest, farthest = self._around(reach)
        x = np.clip(pixels[:, 0].astype(np.int64), 0, view.width - 1)
        y = np.clip(pixels[:, 1].astype(np.int64), 0, view.height - 1)
        small = radius <= _WIDEST
        found[small & (away <= nearest[y, x])] = 0
        found[small & (away >= farthest[y, x] + self.fade)] = HIDDEN
        return found

    def _around(self, reach: int) -> tuple[Floats, Floats]:
        """The nearest and the farthest wall within some pixels of each."""
        if reach not in self._known:
            shape = cv2.getStructuringElement(cv2.MORPH_RECT, (2 * reach + 1, 2 * reach + 1))
            nearest, farthest = cv2.erode(self.walls, shape), cv2.dilate(self.walls, shape)
            self._known[reach] = np.asarray(nearest, np.float32), np.asarray(farthest, np.float32)
        return self._known[reach]

    def cut(self, layer: Floats, number: int, box: tuple[int, int, int, int]) -> None:
        """Leave of a slice above 0, in the part (left, top, right, bottom) of a layer, what the plate does not hide."""
        beyond = number == len(self.edges)
        middle = self.edges[-1] if beyond else 0.5 * (self.edges[number - 1] + self.edges[number])
        _leave(layer, self.walls, *box, float(middle), 1 / self.fade)


def _walls(matte: Matte, context: RenderContext) -> Floats:
    """Distances along the sight to what the plate shows, px, (height, width)."""
    view, plate = context.view, context.shot.plate
    if not matte.media:
        return np.full((view.height, view.width), np.inf, np.float32)
    rate = context.pictures.own_rate(matte.media)
    if rate is None:
        rate = Fraction(plate.rate if plate is not None and plate.rate else context.shot.frame_rate)
    # It goes with the plate: later, held or repeated as that is.
    number = plate_frame(plate or _LOOPED, context.seconds, rate, context.pictures.count(matte.media))
    if number is None:
        return np.full((view.height, view.width), np.inf, np.float32)
    fit, scale = (plate or _LOOPED).fit, view.width / context.shot.width
    values = context.pictures.depth(matte.media, number, view.width, view.height, fit, scale)
    margin = context.read(matte.margin)
    if matte.values == "distance":
        far = np.where(values > 0, values * np.float32(context.read(matte.unit)), np.inf)
    else:
        # What is behind the picture's plane at rest by so many px is so much farther than the plane.
        plane = view.lens_px or 0.0
        white, black = context.read(matte.white), context.read(matte.black)
        far = plane - (black + values * np.float32(white - black))
        # What is black is farther than everything.
        far = np.where(values <= 0, np.inf, far)
    return np.asarray(far + margin, np.float32)


def plate_depth(matte: Matte, context: RenderContext) -> PlateDepth:
    """The depth of the plate as a matte reads it at the moment; made once for it."""
    key = matte.id, context.seconds
    if key not in context.plate_depths:
        walls, fade = _walls(matte, context), max(_LEAST_FADE, context.read(matte.fade))
        there = walls[::2, ::2]
        there = there[np.isfinite(there)].astype(np.float64)
        edges = np.zeros(0)
        if len(there):
            # Nothing is hidden before the nearest thing; behind the farthest, all that the plate covers.
            inner = np.quantile(there, np.linspace(0, 1, _SLICES - 1))
            edges = np.unique(np.concatenate([inner, [float(walls[np.isfinite(walls)].max()) + fade]]))
        context.plate_depths[key] = PlateDepth(walls, fade, edges)
    return context.plate_depths[key]


def flat_cover(matte: Matte, context: RenderContext) -> Floats:
    """Where the plate is nearer than the picture's plane: how it hides what has no single depth, such as trails."""
    depth = plate_depth(matte, context)
    behind = np.clip(((context.view.lens_px or 0.0) - depth.walls) / depth.fade, 0, 1)
    return np.asarray(behind * behind * (3 - 2 * behind), np.float32)
