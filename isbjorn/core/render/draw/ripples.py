"""Rendered ripples: the surface of water refracts the picture below it, is lit, and mirrors the light.

The surface is a rectangle in the shot, seen by its camera: a projective map takes heights and slopes from it to the picture.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import cv2
import numpy as np
from numba import f4, prange, void

from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.document import Number
from isbjorn.core.document.emitter_parts.ripples import Ripples
from isbjorn.core.document.fields.references import references_of
from isbjorn.core.evaluate.gradients import hex_to_linear
from isbjorn.core.jit import njit
from isbjorn.core.random import SIZE, draws_around
from isbjorn.core.records import Records, make_record, record, records
from isbjorn.core.render.scene.bending import bent
from isbjorn.core.runtime.memory import cached
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate.waves import Dents, Modes, Water, heights, joined, modes_at

if TYPE_CHECKING:
    from isbjorn.core.render.draw.context import RenderContext
    from isbjorn.core.render.draw.emitters import EmitterRasteriser
    from isbjorn.core.simulate.track import Track

_LEAST_PX = 4.0
# Smallest share of the viewing direction that is perpendicular to the surface, however flat the view.
_GRAZING = 0.12
# Where births fall on a face depends on these.
_PLACES = ("across", "up", "depth", "tilt", "width", "length", "walls")
# The light's way, and that half-way between it and the viewer.
LIGHT = record(way=3, half=3, shade=1, highlight=1, gloss=1, colour=3)


@dataclass(frozen=True)
class Face:
    """A face of water in the shot: its middle, px (..., 3); its tilt in radians; width and length px; at one moment, or at some."""

    middle: Doubles
    tilt: Doubles
    width: Doubles
    length: Doubles

    @property
    def axes(self) -> Doubles:
        """The unit vectors along its width and away from its near edge, (2, 3), of a moment."""
        return np.array([[1.0, 0.0, 0.0], [0.0, math.cos(self.tilt), -math.sin(self.tilt)]])

    def corners(self) -> Doubles:
        """Near left, near right, far right, far left, (4, 3), of a moment."""
        u, v = self.axes[0] * self.width / 2, self.axes[1] * self.length / 2
        return np.stack([self.middle - u - v, self.middle + u - v, self.middle + u + v, self.middle - u + v])

    def own(self, place: Doubles, seen: bool) -> tuple[Doubles, Doubles]:
        """Places (n, 3) as shares of its width and length from its middle. seen: the point of the surface behind each place, for a
        viewer who looks straight at the picture; else the nearest point on it."""
        d, c = place - self.middle, np.cos(self.tilt)
        v = d[:, 1] / np.maximum(_GRAZING, np.abs(c)) if seen else d[:, 1] * c - d[:, 2] * np.sin(self.tilt)
        return d[:, 0] / self.width, v / self.length


def face_of(ripples: Ripples, now: Callable[[Number], Any]) -> Face:
    """The face of ripples; now: reads a number at a moment, or at some."""
    middle = np.stack([now(ripples.across), now(ripples.up), now(ripples.depth)], axis=-1)
    return Face(middle, np.radians(now(ripples.tilt)), now(ripples.width), now(ripples.length))


@njit(
    void(f4[:, :, ::1], f4[:, :, ::1], f4[:, :, ::1], records(LIGHT), f4[:, :, ::1]),
    parallel=True,
    cache=True,
    error_model="numpy",
)
def _light(face: Floats, seen: Floats, ground: Floats, given: Records, out: Floats) -> None:
    """The water's picture, into out (h, w, 4). face: slopes along its width and away from the viewer, and the share of water in
    each pixel; seen: the picture below, refracted; ground: the same without refraction; given: a `LIGHT`."""
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


_lit = kernel_lock(_light)


@cached("tables", "Masks of water", "the form and its size", 0.1)
def _mask(form: str, width: float, length: float, shape: tuple[int, ...], edge: float) -> Floats:
    """How much of each cell of a face is water."""
    v, u = ((np.arange(n) + 0.5) / n - 0.5 for n in shape)
    x, y = np.abs(u[None] * width), np.abs(v[:, None] * length)
    if form == "ellipse":
        a, b = width / 2, length / 2
        # How far inside the edge, about.
        r = np.sqrt((x / a) ** 2 + (y / b) ** 2)
        inside = (1 - r) * min(a, b)
    else:
        inside = np.minimum(width / 2 - x, length / 2 - y)
    share = np.clip(inside / max(edge, 1e-3), 0, 1)
    return np.asarray(share * share * (3 - 2 * share), np.float32)


def _steady(size: Number) -> bool:
    """Whether how deep births of a size push the water is even but for a share of what each drew."""
    return not size.timed and 0 <= size.spread <= size.value and size.value > 0


@dataclass(frozen=True)
class _Falling:
    """The births that fall into a water. Waves are computed in parts, which are added with weights, so that neither a size nor its
    spread needs new waves: one part of even births, and one of the differences between the births of each emitter."""

    tracks: list[Track]

    @property
    def differing(self) -> list[Track]:
        """The emitters whose births differ."""
        return [t for t in self.tracks if _steady(t.emitter.size) and t.emitter.size.spread > 0]

    def weights(self, height: float) -> Doubles:
        """Of the parts."""
        sizes = [track.emitter.size for track in self.differing]
        return np.array([1.0, *(size.spread / size.value for size in sizes)]) * height

    def size_key(self) -> tuple[object, ...]:
        """What of sizes the parts depend on."""
        sizes = [track.emitter.size for track in self.tracks]
        return tuple((s.spread_shape, s.spread > 0) if _steady(s) else s.model_dump_json() for s in sizes)

    def depths(self, track: Track, births: Longs, moments: Doubles) -> Doubles:
        """How deep each birth pushes the water in each part, as a share of one of the emitter's size, (parts, n)."""
        size, differing = track.emitter.size, self.differing
        depth = np.zeros((1 + len(differing), len(births)))
        steady = _steady(size)
        drawn = 0.0 if steady else np.maximum(0, track.source.read(size, births, moments, SIZE)) / max(1e-6, size.value)
        depth[0] = 1.0 if steady else drawn
        if track in differing:
            depth[1 + differing.index(track)] = draws_around(track.key, births, SIZE, size.spread_shape == "bell")
        return depth


def _dents(
    context: RenderContext, falling: _Falling, track: Track, ripples: Ripples, most: int, after: float, until: float
) -> Dents:
    """What of an emitter falls into the water in a stretch of time, no more than `most` at once."""
    births, moments, _ = track.admission.between(after, until, context.stale, living=False)
    more = 1 + (len(births) - 1) // most if len(births) else 1
    births, moments = births[::more], moments[::more]
    place, _, _, _ = track.source.leaving(births, moments)
    readings = context.solver.readings
    # The face as it is at each birth, but as large as it is now.
    u, v = face_of(ripples, lambda number: readings.number(number, moments)).own(
        place, context.shot.camera.kind == "flat"
    )
    inside = (np.abs(u) <= 0.5) & (np.abs(v) <= 0.5)
    depth = falling.depths(track, births, moments) * more
    if ripples.height.timed:
        depth = depth * readings.number(ripples.height, moments)
    size = np.array([context.read(ripples.width), context.read(ripples.length)])
    at = (np.stack([u, v], axis=1)[inside] + 0.5 * wider_of(ripples)) * size
    return Dents(moments[inside], at[:, 0], at[:, 1], depth[:, inside])


def wider_of(ripples: Ripples) -> float:
    """How much larger the water is than its face: without walls waves run on as far again on every side."""
    return 1.0 if ripples.walls else 2.0


def water_of(ripples: Ripples, width: float, length: float) -> Water:
    """The water of a surface of this many px."""
    wider = wider_of(ripples)
    return Water(width * wider, length * wider, ripples.speed, ripples.damping, ripples.smooth, ripples.drop)


def _swung(context: RenderContext, number: int, ripples: Ripples, water: Water) -> Modes:
    """The waves that the births of an emitter, by its place in the cast, and of others have set off."""
    tracks = context.solver.falling_into(number)
    most = max(1, water.most_at_once // len(tracks))
    moved = [*_PLACES, *(["height"] if ripples.height.timed else [])]
    named = [thing for thing in references_of(ripples) if thing.id in context.solver.readings.things]
    key = (
        ripples.model_dump_json(include={*moved}), context.shot.camera.kind,
        *(context.solver.readings.things[thing.id].model_dump_json() for thing in named if thing.id not in ripples.also),
    )  # fmt: skip
    falling = _Falling(tracks)
    weights = falling.weights(1.0 if ripples.height.timed else context.read(ripples.height))

    def dents(after: float, until: float) -> Dents:
        found = [_dents(context, falling, one, ripples, most, after, until) for one in tracks]
        return found[0] if len(found) == 1 else joined(found)

    modes = modes_at(
        water, len(weights), float(context.seconds), min(one.births.begin_s for one in tracks),
        lambda at: (*(one.depends_on(at) for one in tracks), falling.size_key(), key), dents, context.stale,
        tracks[0].cache.shared_caches,
    )  # fmt: skip
    return modes.mixed(weights)


def draw_ripples(pen: EmitterRasteriser, onto: Floats) -> None:
    """Draw the face of water of an emitter, with the waves that its births have set off."""
    context, ripples = pen.context, pen.emitter.ripples
    if ripples is None:
        return
    face, view = face_of(ripples, context.read), context.view
    corners, grown = view.place(face.corners().astype(np.float32))
    if (grown <= 0).any() or abs(cv2.contourArea(corners.astype(np.float32))) < _LEAST_PX:
        return
    low = np.maximum(0, np.floor(corners.min(axis=0)).astype(int))
    high = np.minimum([view.width, view.height], np.ceil(corners.max(axis=0)).astype(int))
    if (high <= low).any():
        return
    water = water_of(ripples, float(face.width), float(face.length))
    height = heights(water, _swung(context, pen.number, ripples, water))
    if not ripples.walls:
        rows, columns = height.shape[0] // 4, height.shape[1] // 4
        height = height[rows : 3 * rows, columns : 3 * columns]
    rows, columns = height.shape
    slope_u = cv2.Scharr(height, cv2.CV_32F, 1, 0) / np.float32(32 * face.width / columns)
    slope_v = cv2.Scharr(height, cv2.CV_32F, 0, 1) / np.float32(32 * face.length / rows)
    mask = _mask(ripples.shape, float(face.width), float(face.length), height.shape, context.read(ripples.edge))
    flat = np.stack([slope_u, slope_v, mask], axis=2)
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
    dx, dy = (bend * (there[..., 0] * side[0][k] + there[..., 1] * side[1][k]) for k in (0, 1))
    seen = bent(onto, dx, dy, int(low[0]), int(low[1]))
    turn, up = math.radians(context.read(ripples.light_from)), math.radians(context.read(ripples.light_height))
    light = np.array([math.cos(turn) * math.cos(up), math.sin(turn) * math.cos(up), math.sin(up)])
    tilt = math.radians(context.read(ripples.tilt))
    viewer = np.array([0.0, -math.sin(tilt), max(_GRAZING, math.cos(tilt))])
    half = light + viewer / np.linalg.norm(viewer)
    half /= max(1e-9, float(np.linalg.norm(half)))
    given = make_record(
        LIGHT, way=light, half=half, shade=context.read(ripples.shade) / 100, highlight=context.read(ripples.highlight) / 100,
        gloss=context.read(ripples.gloss), colour=hex_to_linear(ripples.light_colour),
    )  # fmt: skip
    out = np.empty_like(ground)
    _lit(np.ascontiguousarray(there), seen, ground, given, out)
    onto[low[1] : high[1], low[0] : high[0]] = out
