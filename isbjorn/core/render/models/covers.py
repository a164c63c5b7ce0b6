"""Mattes that are models and are seen: drawn under all particles, or only where the light of particles falls on them.

A particle shines as a ball of its size and colour does: on a surface at a distance d from its middle it leaves the share (r / d)²
of its own light, times the cosine of the angle at which it falls; less where the surface cuts the ball. Many are added by a tree of
their sums: what is small against its distance counts as one (Barnes and Hut 1986, "A hierarchical O(N log N) force-calculation
algorithm").
"""

from __future__ import annotations

import math
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numba import f4, f8, i4, i8, prange, u1, void

from isbjorn.core.arrays import Bytes, Doubles, Floats, Ints, Longs
from isbjorn.core.document import Emitter, Matte, Shot
from isbjorn.core.document.parts.materials import Material
from isbjorn.core.document.parts.solids import Solid
from isbjorn.core.evaluate.geometry.mesh_trees import in_leaves
from isbjorn.core.evaluate.gradients import hex_to_linear
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.records import Records, records
from isbjorn.core.render.models.bodies import focused, light_on
from isbjorn.core.render.models.faces import (
    ALPHA,
    INSTANCE,
    MATRIX,
    PLACE,
    RADIUS,
    TINT,
    Geometry,
    place_on,
    seen_faces,
)
from isbjorn.core.render.models.hold_out import held, hold_out
from isbjorn.core.render.models.lanes import LANE_ROWS, SAMPLES, bits_of
from isbjorn.core.render.models.placed import placed
from isbjorn.core.render.models.raster import ALL_SAMPLES, EMPTY, WHOLE, draw_face, face_in
from isbjorn.core.render.models.tiles import draw_models
from isbjorn.core.render.raster.pixel_pass import fade, lay
from isbjorn.core.render.raster.tiles import TILE_H, TILE_W, tiled
from isbjorn.core.render.scene.camera import VIEW, Counts
from isbjorn.core.runtime.parallel import kernel_lock

if TYPE_CHECKING:
    from isbjorn.core.render.draw.context import RenderContext

_PIXELS = TILE_W * TILE_H
# Columns of a node of the tree of lights: the middle of its light, its light times the square of its radius, its radius, and how
# wide it is.
_MIDDLE, _LIGHT, _RADIUS, _WIDE, _NODE = 0, 3, 6, 7, 8
# What is narrower than this share of its distance counts as one light.
_NARROW = 0.9
# Sides of the blocks of pixels that are filled between their corners where these are lit so alike, at least that dark; and as many
# as wait to be quartered at most.
_BLOCK, _ALIKE, _DARK, _WAITING = 8, 1.25, 1e-5, 32
# Particles that shine at most, of more evenly as many, which shine for all; and levels of their tree: the lights of one leaf count
# as one.
_MOST_LIGHTS, _MOST_LEVELS = 1 << 18, 11
# What an open shutter sees of a model in motion: px from one pose to the next, and poses at most.
_JUMP_PX, _POSES = 1.0, 24
# How things look that are only seen in a free look.
_CLEAR, _CLEARNESS = "#9fb4c8", 0.3


def seen_mattes(shot: Shot) -> list[Matte]:
    """The mattes that are models and show something of themselves."""
    return [
        m for m in shot.mattes if m.on and m.kind == "model" and (m.visible or m.catches.value > 0 or m.catches.timed)
    ]


def _others(shot: Shot) -> list[Matte]:
    """Models that are not drawn, but hide those that are."""
    return [m for m in shot.mattes if m.on and m.kind == "model" and not m.visible and not m.inverted]


def _tints(mattes: list[Matte]) -> Doubles:
    return np.array([hex_to_linear(matte.tint) for matte in mattes])


def looked_at(shot: Shot) -> list[Any]:
    """What has the form of a model and is not seen in the picture, but in a free look: mattes, surfaces, zones and sources."""
    mattes = [m for m in shot.mattes if m.on and m.kind == "model" and not m.visible]
    shaped = [thing for thing in (*(f for f in shot.forces if f.on), *shot.zones) if thing.modelled is not None]
    return [*mattes, *shaped, *(e for e in shot.emitters if e.on and isinstance(e.shape, Solid))]


def _moments(mattes: list[Matte], context: RenderContext) -> list[RenderContext]:
    """Moments of the open shutter that show how models move; only this one where they are still."""
    if context.measured in ("depth", "facing") or not context.open:
        return [context]
    first, last = (
        replace(context, seconds=at, shut=True, counts=Counts()) for at in (context.open[0], context.open[-1])
    )
    (_, a), (_, b) = placed(mattes, first), placed(mattes, last)
    away = np.abs(b - a)
    gone = np.linalg.norm(away[:, PLACE : PLACE + 3], axis=1) + np.linalg.norm(away[:, MATRIX : MATRIX + 9], axis=1)
    view = context.view
    if view.lens_px is not None:
        gone = gone * view.lens_px / np.maximum(1.0, -a[:, PLACE + 2] - a[:, RADIUS])
    count = min(_POSES, math.ceil(float(gone.max()) * view.scale_x / _JUMP_PX))
    if count <= 1:
        return [context]
    return [replace(context, seconds=at, shut=True, counts=Counts()) for at in context.exposures(count)]


def draw_covers(context: RenderContext, onto: Floats) -> None:
    """Draw the mattes that show themselves, and then the light that falls on them; only the former where something is measured."""
    mattes = seen_mattes(context.shot)
    if context.orbit is not None and (things := looked_at(context.shot)):
        _draw_looked_at(things, context, onto)
    if not mattes:
        return
    shown = [matte for matte in mattes if matte.visible]
    if shown:
        layer = np.zeros_like(onto)
        moments = _moments(shown, context)
        for moment in moments:
            _draw(shown, moment, layer, onto, 1 / len(moments))
        lay(layer, onto)
    if context.measure is None:
        _shine(mattes, context, onto)


def _draw_looked_at(things: list[Any], context: RenderContext, onto: Floats) -> None:
    """Draw things that are not seen in the picture as clear shapes, the farthest first."""
    geometry, rows = placed(things, context)
    order = np.argsort(rows[:, PLACE + 2], kind="stable")
    rows[:, TINT : TINT + 3], rows[:, ALPHA] = hex_to_linear(_CLEAR), _CLEARNESS
    lit = light_on([Material()], context)
    which = np.zeros(len(things), np.int64)
    draw_models(context.view.packed, rows[order], 1 + np.arange(len(things)), geometry, which, *lit, onto)


def cover_shares(context: RenderContext) -> dict[str, Floats]:
    """How much of each pixel each matte that shows itself covers, (height, width), by their ids."""
    shown, out = [matte for matte in seen_mattes(context.shot) if matte.visible], {}
    for number, matte in enumerate(shown):

        def alone(position: Floats, _: Floats | None, number: int = number) -> Floats:
            return np.repeat((np.arange(len(position)) == number)[:, None], 3, axis=1).astype(np.float32)

        picture = np.zeros((context.view.height, context.view.width, 4), np.float32)
        draw_covers(replace(context, measure=alone, measured="glowing", counts=Counts()), picture)
        out[matte.id] = np.ascontiguousarray(picture[..., 0])
    return out


def _measures(mattes: list[Matte], context: RenderContext) -> Doubles:
    """What is measured of each model, by its middle, (n, 3)."""
    assert context.measure is not None
    t, readings = float(context.seconds), context.solver.readings
    lasts_s = float(context.frame_s)
    now, then = (np.concatenate([readings.frames(m, [at]).place for m in mattes]) for at in (t, t + lasts_s))
    return context.measure(now.astype(np.float32), ((then - now) / lasts_s).astype(np.float32)).astype(np.float64)


def _draw(mattes: list[Matte], context: RenderContext, layer: Floats, below: Floats, share: float) -> None:
    """Add a share of the models of a moment to a layer."""
    geometry, rows = placed(mattes, context)
    geometry = geometry.bare if context.measured else geometry
    rows[:, TINT : TINT + 3] = _measures(mattes, context) if context.measured else _tints(mattes)
    seen = focused(context, rows)
    numbers = np.arange(len(mattes))
    lit = light_on([matte.look for matte in mattes], context, context.measured)
    part = np.zeros_like(layer)
    for one in seen:
        nothing = np.zeros(len(mattes), np.int64)
        draw_models(context.view.packed, one, nothing, geometry, numbers, *lit, part, below, share / len(seen))
    others = _others(context.shot)
    if others:
        near = held(context.view, rows, geometry, 0.0, 0).near
        for other in others:
            wall = hold_out(other, context)
            fade(
                part, np.where(wall.near > near, wall.cover, 0).astype(np.float32), (0, 0, part.shape[1], part.shape[0])
            )
    layer += part


def shining(matte: Matte, shot: Shot) -> list[Emitter]:
    """The emitters whose light falls on a matte."""
    named = matte.lit_by or [e.id for e in shot.emitters if matte.id in e.hidden_by]
    return [e for e in shot.emitters if e.on and e.id in named and e.use.kind == "picture"]


def _lights(matte: Matte, context: RenderContext) -> tuple[Doubles, Floats, Doubles]:
    """What shines on a matte: places in the camera's axes (n, 3), light (n, 3), and radii (n,)."""
    places, light, radii = [np.zeros((0, 3))], [np.zeros((0, 3), np.float32)], [np.zeros(0)]
    view = context.view
    for emitter in shining(matte, context.shot):
        number = context.shot.place_of(emitter)
        if number in context.solver.tracks:
            p = context.solver.every(number, context.seconds, context.stale, most=context.most)
            places.append((p.position.astype(np.float64) - view.eye) @ view.axes.T)
            light.append(p.colour * p.opacity[:, None])
            radii.append(0.5 * p.size.astype(np.float64))
    place, shown, radius = np.concatenate(places), np.concatenate(light).astype(np.float32), np.concatenate(radii)
    every = max(1, -(-len(place) // _MOST_LIGHTS))
    return place[::every], shown[::every] * np.float32(len(place) / max(1, len(place[::every]))), radius[::every]


def _tree(places: Doubles, light: Floats, radii: Doubles) -> Floats:
    """A tree of lights as a heap, float32 (2 leaves, `_NODE`), the root at 1; places (n, 3), n > 0."""
    levels = min(_MOST_LEVELS, len(places).bit_length() - 1)
    order = in_leaves(places, levels)
    # The lights of each box are parted in two leaves: up to the most levels, each light has its own.
    first = (np.arange(1 << levels) * len(places)) >> levels
    count = np.diff(np.append(first, len(places)))
    box = np.repeat(np.arange(1 << levels), count)
    leaf = 2 * box + 2 * (np.arange(len(places)) - first[box]) // np.maximum(2, count[box])
    leaves = 2 << levels
    # Sums of each node: light, light times place, light times the square of the radius; and its box.
    bright = light[order].astype(np.float64) * (radii[order] ** 2)[:, None]
    weight = np.maximum(bright.sum(axis=1), 1e-30)[:, None]
    place = places[order]
    parts = np.concatenate([bright, weight * place, weight * (radii[order] ** 2)[:, None], weight], axis=1)
    level = np.stack([np.bincount(leaf, part, leaves) for part in parts.T], axis=1)
    starts = np.flatnonzero(np.diff(leaf, prepend=-1))
    least, most = np.full((leaves, 3), np.inf), np.full((leaves, 3), -np.inf)
    least[leaf[starts]], most[leaf[starts]] = np.minimum.reduceat(place, starts), np.maximum.reduceat(place, starts)
    out = np.zeros((2 * leaves, _NODE), np.float32)
    while True:
        rows, whole = out[len(level) : 2 * len(level)], np.maximum(level[:, 7:], 1e-300)
        rows[:, _MIDDLE : _MIDDLE + 3], rows[:, _LIGHT : _LIGHT + 3] = level[:, 3:6] / whole, level[:, :3]
        rows[:, _RADIUS] = np.sqrt((level[:, 6:7] / whole)[:, 0])
        rows[:, _WIDE] = np.where(level[:, 7] > 0, np.linalg.norm(np.maximum(0, most - least), axis=1), 0)
        if len(level) == 1:
            return out
        level = level[0::2] + level[1::2]
        least, most = np.minimum(least[0::2], least[1::2]), np.maximum(most[0::2], most[1::2])


@inline_kernel(
    void(f4[:, ::1], f8, f8, f8, f8, f8, f8, f8[::1]), cache=True, error_model="numpy", fastmath={"contract"}
)
def _fallen(tree: Floats, px: float, py: float, pz: float, nx: float, ny: float, nz: float, out: Doubles) -> None:
    """The light (3,) that falls on a place with a normal: what a white matte surface sends on."""
    out[0] = out[1] = out[2] = 0.0
    leaves, node = len(tree) // 2, 1
    while node > 0:
        one = tree[node]
        if one[_LIGHT] + one[_LIGHT + 1] + one[_LIGHT + 2] > 0:
            x, y, z = one[0] - px, one[1] - py, one[2] - pz
            square = x * x + y * y + z * z
            if node < leaves and one[_WIDE] * one[_WIDE] > _NARROW * _NARROW * square:
                node *= 2
                continue
            falls, radius = nx * x + ny * y + nz * z, float(one[_RADIUS])
            if falls < radius:
                # A part of the ball is below the surface.
                falls = max(0.0, falls + radius) ** 2 / max(4 * radius, 1e-12)
            if falls > 0:
                away = max(square, radius * radius)
                times = falls / math.sqrt(away) / away
                for c in range(3):
                    out[c] += times * one[_LIGHT + c]
        while node & 1:
            node >>= 1
        if node > 0:
            node += 1


@inline_kernel(i8(u1[::1], i4[:, ::1], i8, i8, i8), cache=True)
def _one_face(used: Bytes, names: Ints, first: int, wide: int, high: int) -> int:
    """The face that covers all pixels of a block of a tile, from its first pixel on; -1: there is none."""
    name = names[first, 0] if used[first] == WHOLE else -1
    for y in range(high):
        for x in range(wide):
            pixel = first + y * TILE_W + x
            if used[pixel] != WHOLE or names[pixel, 0] != name:
                return -1
    return int(name)


@inline_kernel(
    void(f4[:, ::1], f4[:, ::1], records(VIEW), f4[:, ::1], i8, i8, i8, f8[::1]), cache=True, error_model="numpy"
)
def _fallen_at(
    faces: Floats, smooth: Floats, views: Records, tree: Floats, name: int, x: int, y: int, out: Doubles
) -> None:
    """The light (3,) that falls on a face at the middle of a pixel."""
    _, px, py, pz, nx, ny, nz, _, _, _ = place_on(faces, smooth, views, name, x + 0.5, y + 0.5)
    _fallen(tree, px, py, pz, nx, ny, nz, out)


@njit(
    void(
        f4[:, ::1], f4[:, ::1], records(VIEW), f8[:, ::1], f4[:, ::1], i4[::1], i8[::1], i8[::1], i8, f4[:, :, ::1]
    ), parallel=True, cache=True, error_model="numpy",
)  # fmt: skip
def _light(
    faces: Floats, smooth: Floats, views: Records, colours: Doubles, tree: Floats, order: Ints, bounds: Longs, turns: Longs,
    columns: int, out: Floats,
) -> None:  # fmt: skip
    """Add the light that a tree of lights leaves on faces; colours (n, 3): what their instances send on of it.

    A block of pixels of one face whose corners are lit nearly alike is filled between them; others are quartered."""
    height, width = out.shape[0], out.shape[1]
    for turn in prange(len(turns)):
        tile = turns[turn]
        if bounds[tile] == bounds[tile + 1]:
            continue
        lane, edges = np.empty((LANE_ROWS, SAMPLES), np.float32), np.empty((4, 4), np.float32)
        near, names = np.empty((_PIXELS, SAMPLES), np.float32), np.empty((_PIXELS, SAMPLES), np.int32)
        used, light, waiting = np.zeros(_PIXELS, np.uint8), np.empty((4, 3)), np.empty((_WAITING, 3), np.int64)
        top, left = tile // columns * TILE_H, tile % columns * TILE_W
        right, bottom = min(left + TILE_W, width), min(top + TILE_H, height)
        for k in range(bounds[tile], bounds[tile + 1]):
            draw_face(faces, order[k], left, top, right, bottom, near, names, used, lane, edges)
        across = (right - left + _BLOCK - 1) // _BLOCK
        for block in range(across * ((bottom - top + _BLOCK - 1) // _BLOCK)):
            waiting[0, 0], waiting[0, 1], waiting[0, 2] = block % across * _BLOCK, block // across * _BLOCK, _BLOCK
            count = 1
            while count > 0:
                count -= 1
                x0, y0, size = left + waiting[count, 0], top + waiting[count, 1], waiting[count, 2]
                wide, high = min(size, right - x0), min(size, bottom - y0)
                if wide <= 0 or high <= 0:
                    continue
                first = (y0 - top) * TILE_W + x0 - left
                if size > 1:
                    name = _one_face(used, names, first, wide, high)
                    if name >= 0:
                        colour = colours[int(faces[name, INSTANCE])]
                        if colour[0] + colour[1] + colour[2] <= 0:
                            continue
                        low, most = np.inf, 0.0
                        for k in range(4):
                            x, y = x0 + (k & 1) * (wide - 1), y0 + (k >> 1) * (high - 1)
                            _fallen_at(faces, smooth, views, tree, name, x, y, light[k])
                            total = light[k, 0] + light[k, 1] + light[k, 2]
                            low, most = min(low, total), max(most, total)
                        if most <= _ALIKE * low + _DARK:
                            for y in range(high):
                                b = y / max(1, high - 1)
                                for x in range(wide):
                                    a = x / max(1, wide - 1)
                                    for c in range(3):
                                        upper = light[0, c] * (1 - a) + light[1, c] * a
                                        lower = light[2, c] * (1 - a) + light[3, c] * a
                                        out[y0 + y, x0 + x, c] += colour[c] * (upper * (1 - b) + lower * b)
                            continue
                    half = size // 2
                    for k in range(4):
                        waiting[count, 0] = x0 - left + (k & 1) * half
                        waiting[count, 1] = y0 - top + (k >> 1) * half
                        waiting[count, 2] = half
                        count += 1
                    continue
                rest = 0 if used[first] == EMPTY else ALL_SAMPLES
                while rest != 0:
                    name, mine = face_in(names, used, first, np.int32(rest))
                    rest &= ~mine
                    if name < 0:
                        continue
                    colour = colours[int(faces[name, INSTANCE])]
                    if colour[0] + colour[1] + colour[2] <= 0:
                        continue
                    _fallen_at(faces, smooth, views, tree, name, x0, y0, light[0])
                    share = bits_of(np.int32(mine)) / SAMPLES
                    for c in range(3):
                        out[y0, x0, c] += share * colour[c] * light[0, c]


@kernel_lock
def _add_light(
    context: RenderContext, geometry: Geometry, rows: Doubles, colours: Doubles, tree: Floats, onto: Floats
) -> None:
    faces, smooth, _ = seen_faces(context.view.packed, rows, geometry.bare)
    if len(faces):
        tiles = tiled(faces, onto.shape[1], onto.shape[0])
        _light(
            faces, smooth, context.view.packed, colours, tree, tiles.order, tiles.bounds, tiles.turns, tiles.columns, onto
        )  # fmt: skip


def _shine(mattes: list[Matte], context: RenderContext, onto: Floats) -> None:
    """Add the light of particles on the mattes that catch it; those that are hidden by others do not show any."""
    every = [*mattes, *(other for other in _others(context.shot) if other not in mattes)]
    geometry, rows = placed(every, context)
    by: dict[tuple[str, ...], list[int]] = {}
    for k, matte in enumerate(mattes):
        if context.read(matte.catches) > 0:
            by.setdefault(tuple(e.id for e in shining(matte, context.shot)), []).append(k)
    for lit in by.values():
        lights = _lights(every[lit[0]], context)
        if len(lights[0]) == 0:
            continue
        shares = np.array([context.read(matte.catches) / 100 if k in lit else 0.0 for k, matte in enumerate(every)])
        colours = _tints(every) * shares[:, None]
        _add_light(context, geometry, rows, colours, _tree(*lights), onto)
