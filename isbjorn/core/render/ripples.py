"""Ripples as they are seen: the face of water bends what lies below it, is lit, and mirrors the light.

The face is a rectangle in the shot, seen by its camera: a projective map takes heights and slopes from it to the picture.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

import cv2
import numpy as np
from numba import f4, prange, void

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document import Number
from isbjorn.core.document.ripples import Ripples
from isbjorn.core.evaluate.gradients import hex_to_linear
from isbjorn.core.jit import njit
from isbjorn.core.random import SIZE
from isbjorn.core.records import Records, one, record, records
from isbjorn.core.runtime.parallel import guarded
from isbjorn.core.simulate.waves import Dents, Water, heights, joined, modes_at

if TYPE_CHECKING:
    from isbjorn.core.render.context import RenderContext
    from isbjorn.core.render.emitters import EmitterRasteriser
    from isbjorn.core.simulate.track import Track

_LEAST_PX = 4.0
# However flat it is looked at, so much of the viewer stands over it.
_GRAZING = 0.12
# The light's way, and that half-way between it and the viewer.
LIGHT = record(way=3, half=3, shade=1, highlight=1, gloss=1, colour=3)


@dataclass(frozen=True)
class Face:
    """A face of water in the shot: its middle, px (3,); its unit vectors along its width and away from its near edge (2, 3);
    width and length px."""

    middle: Doubles
    axes: Doubles
    width: float
    length: float

    def corners(self) -> Doubles:
        """Near left, near right, far right, far left, (4, 3)."""
        u, v = self.axes[0] * self.width / 2, self.axes[1] * self.length / 2
        return np.stack([self.middle - u - v, self.middle + u - v, self.middle + u + v, self.middle - u + v])

    def own(self, place: Doubles, seen: bool) -> tuple[Doubles, Doubles]:
        """Places (n, 3) as u and v px from its near left corner. seen: where each is seen on it by one who looks straight at the
        picture; else what lies on it, or nearest to it."""
        d = place - self.middle
        u, v = d @ self.axes[0], d @ self.axes[1]
        if seen:
            v = d[:, 1] / max(_GRAZING, abs(float(self.axes[1, 1])))
        return u + self.width / 2, v + self.length / 2


def face_of(ripples: Ripples, now: Callable[[Number], float]) -> Face:
    """The face of ripples; now: reads a number at a moment."""
    tilt = math.radians(now(ripples.tilt))
    axes = np.array([[1.0, 0.0, 0.0], [0.0, math.cos(tilt), -math.sin(tilt)]])
    middle = np.array([now(ripples.across), now(ripples.up), now(ripples.depth)])
    return Face(middle, axes, now(ripples.width), now(ripples.length))


@njit(
    void(f4[:, :, ::1], f4[:, :, ::1], f4[:, :, ::1], records(LIGHT), f4[:, :, ::1]),
    parallel=True,
    cache=True,
    error_model="numpy",
)
def _light(face: Floats, seen: Floats, ground: Floats, given: Records, out: Floats) -> None:
    """The water's picture, into out (h, w, 4). face: slopes along its width and away, and how much of each pixel is water;
    seen: what lies below, bent; ground: as it lies there; given: a `LIGHT`."""
    lx, ly, lz = given[0].way[0], given[0].way[1], given[0].way[2]
    hx, hy, hz = given[0].half[0], given[0].half[1], given[0].half[2]
    shade, shine, gloss = given[0].shade, given[0].highlight, given[0].gloss
    # Of water at rest: what it mirrors is in the plate already.
    still = max(0.0, hz) ** gloss
    for y in prange(out.shape[0]):
        for x in range(out.shape[1]):
            part = face[y, x, 2]
            if part <= 0:
                for c in range(4):
                    out[y, x, c] = ground[y, x, c]
                continue
            nx, ny, nz = -float(face[y, x, 0]), -float(face[y, x, 1]), 1.0
            n = math.sqrt(nx * nx + ny * ny + 1.0)
            nx, ny, nz = nx / n, ny / n, nz / n
            dark = max(0.0, min(2.0, 1.0 + shade * (nx * lx + ny * ly + nz * lz - lz)))
            spec = shine * max(0.0, max(0.0, nx * hx + ny * hy + nz * hz) ** gloss - still)
            for c in range(3):
                wet = seen[y, x, c] * dark + spec * given[0].colour[c]
                out[y, x, c] = ground[y, x, c] + part * (wet - ground[y, x, c])
            out[y, x, 3] = ground[y, x, 3] + part * (seen[y, x, 3] - ground[y, x, 3])


_lit = guarded(_light)


def _mask(ripples: Ripples, face: Face, shape: tuple[int, ...], edge: float) -> Floats:
    """How much of each cell of a face is water."""
    v, u = ((np.arange(n) + 0.5) / n - 0.5 for n in shape)
    x, y = np.abs(u[None] * face.width), np.abs(v[:, None] * face.length)
    if ripples.shape == "ellipse":
        a, b = face.width / 2, face.length / 2
        # How far inside the edge, about.
        r = np.sqrt((x / a) ** 2 + (y / b) ** 2)
        inside = (1 - r) * min(a, b)
    else:
        inside = np.minimum(face.width / 2 - x, face.length / 2 - y)
    share = np.clip(inside / max(edge, 1e-3), 0, 1)
    return np.asarray(share * share * (3 - 2 * share), np.float32)


def _heft(size: Number) -> str:
    """What of a size says how deep births push the water: how it differs from its value."""
    value = max(1e-6, size.value)
    return size.model_dump_json() if size.timed else f"{size.spread / value!r} {size.spread_shape}"


def _dents(
    context: RenderContext, track: Track, ripples: Ripples, face: Face, most: int, after: float, until: float
) -> Dents:  # fmt: skip
    """What of an emitter falls into the water in a stretch of time, no more than `most` at once."""
    e = track.emitter
    births, moments, _ = track.admission.between(after, until, context.stale, living=False)
    more = 1 + (len(births) - 1) // most if len(births) else 1
    births, moments = births[::more], moments[::more]
    place, _, _, _ = track.source.leaving(births, moments)
    u, v = face.own(place, context.shot.camera.kind == "flat")
    readings = context.solver.readings
    size = track.source.read(e.size, births, moments, SIZE)
    share = np.maximum(0, size) / max(1e-6, e.size.value)
    inside = (np.abs(u - face.width / 2) <= face.width / 2) & (np.abs(v - face.length / 2) <= face.length / 2)
    depth = readings.number(ripples.height, moments) * share * more
    grown = (wider_of(ripples) - 1) / 2
    return Dents(moments[inside], (u + grown * face.width)[inside], (v + grown * face.length)[inside], depth[inside])


def wider_of(ripples: Ripples) -> float:
    """How much larger the water is than its face: without walls waves run on as far again on every side."""
    return 1.0 if ripples.walls else 2.0


def water_of(ripples: Ripples, width: float, length: float) -> Water:
    """The water of a face of so many px."""
    wider = wider_of(ripples)
    return Water(width * wider, length * wider, ripples.speed, ripples.damping, ripples.smooth, ripples.drop)


def draw_ripples(pen: EmitterRasteriser, onto: Floats) -> None:
    """Draw the face of water of an emitter, with the waves that its births have set off."""
    context, ripples = pen.context, pen.emitter.ripples
    if ripples is None:
        return
    face, view, t = face_of(ripples, context.read), context.view, float(context.seconds)
    corners, grown = view.place(face.corners().astype(np.float32))
    if (grown <= 0).any() or abs(cv2.contourArea(corners.astype(np.float32))) < _LEAST_PX:
        return
    low = np.maximum(0, np.floor(corners.min(axis=0)).astype(int))
    high = np.minimum([view.width, view.height], np.ceil(corners.max(axis=0)).astype(int))
    if (high <= low).any():
        return
    water = water_of(ripples, face.width, face.length)
    tracks = context.solver.falling_into(pen.number)
    told = ripples.model_dump_json(), context.shot.camera.kind, *(_heft(one.emitter.size) for one in tracks)
    most = max(1, water.most_at_once // len(tracks))

    def dents(after: float, until: float) -> Dents:
        found = [_dents(context, one, ripples, face, most, after, until) for one in tracks]
        return found[0] if len(found) == 1 else joined(found)

    modes = modes_at(
        water, t, min(one.births.begin_s for one in tracks), lambda at: (*(one.hangs_on(at) for one in tracks), told),
        dents, context.stale, tracks[0].cache.shelves,
    )  # fmt: skip
    height = heights(water, modes)
    if not ripples.walls:
        rows, columns = height.shape[0] // 4, height.shape[1] // 4
        height = height[rows : 3 * rows, columns : 3 * columns]
    rows, columns = height.shape
    slope_u = cv2.Scharr(height, cv2.CV_32F, 1, 0) / np.float32(32 * face.width / columns)
    slope_v = cv2.Scharr(height, cv2.CV_32F, 0, 1) / np.float32(32 * face.length / rows)
    flat = np.stack([slope_u, slope_v, _mask(ripples, face, height.shape, context.read(ripples.edge))], axis=2)
    cells = np.array([[0, 0], [columns, 0], [columns, rows], [0, rows]], np.float32) - np.float32(0.5)
    to_picture = cv2.getPerspectiveTransform(cells, (corners - low - 0.5).astype(np.float32))
    w, h = (int(n) for n in high - low)
    there = cv2.warpPerspective(flat, to_picture, (w, h), flags=cv2.INTER_LINEAR, borderValue=(0, 0, 0))
    ground = np.ascontiguousarray(onto[low[1] : high[1], low[0] : high[0]])
    # How a px of the face is seen, along each of its sides.
    middle = corners.mean(axis=0)
    right, away = (corners[1] + corners[2]) / 2 - middle, (corners[2] + corners[3]) / 2 - middle
    side = right / (face.width / 2), away / (face.length / 2)
    bend = np.float32(context.read(ripples.refraction))
    x = low[0] + np.arange(w, dtype=np.float32)[None] - bend * (there[..., 0] * side[0][0] + there[..., 1] * side[1][0])
    y = (
        low[1]
        + np.arange(h, dtype=np.float32)[:, None]
        - bend * (there[..., 0] * side[0][1] + there[..., 1] * side[1][1])
    )
    seen = cv2.remap(
        onto, x.astype(np.float32), y.astype(np.float32), cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT_101
    )
    turn, up = math.radians(context.read(ripples.light_from)), math.radians(context.read(ripples.light_height))
    light = np.array([math.cos(turn) * math.cos(up), math.sin(turn) * math.cos(up), math.sin(up)])
    tilt = math.radians(context.read(ripples.tilt))
    viewer = np.array([0.0, -math.sin(tilt), max(_GRAZING, math.cos(tilt))])
    half = light + viewer / np.linalg.norm(viewer)
    half /= max(1e-9, float(np.linalg.norm(half)))
    given = one(
        LIGHT, way=light, half=half, shade=context.read(ripples.shade) / 100, highlight=context.read(ripples.highlight) / 100,
        gloss=context.read(ripples.gloss), colour=hex_to_linear(ripples.light_colour),
    )  # fmt: skip
    out = np.empty_like(ground)
    _lit(np.ascontiguousarray(there), np.ascontiguousarray(seen), ground, given, out)
    onto[low[1] : high[1], low[0] : high[0]] = out
