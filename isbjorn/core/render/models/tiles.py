"""Models drawn onto a picture, tile by tile: solid ones by depth, then those that let light through, the farthest first."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
from numba import f4, f8, i4, i8, prange, types, u1, void

from isbjorn.core.arrays import Bytes, Doubles, Floats, Ints, Longs
from isbjorn.core.evaluate.geometry.paint import DECODED
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.records import Records
from isbjorn.core.render.models.faces import FACE, INSTANCE, OPACITY, RED, Geometry, agreement, seen_faces
from isbjorn.core.render.models.lanes import LANE_ROWS, SAMPLES, alike, bits_of
from isbjorn.core.render.models.raster import ALL_SAMPLES, EMPTY, WHOLE, draw_face, face_in
from isbjorn.core.render.models.shading import SHADED_SCENE, ShadedScene, reflectance, shade, shade_small
from isbjorn.core.render.models.surroundings import Surroundings
from isbjorn.core.render.raster.tiles import TILE_H, TILE_W, tiled
from isbjorn.core.runtime.parallel import kernel_lock

_PIXELS = TILE_W * TILE_H
# Cosine of normals that are one surface.
_ALIKE = 0.9


class Samples(NamedTuple):
    """What the pixels of a tile hold: see `draw_face`."""

    near: Floats
    names: Ints
    used: Bytes


SAMPLED: Any = types.NamedTuple((f4[:, ::1], i4[:, ::1], u1[::1]), Samples)  # type: ignore[no-untyped-call]


@inline_kernel(f8(SAMPLED, SAMPLED, i8, i4), cache=True)
def _share(here: Samples, solid: Samples, pixel: int, mine: int) -> float:
    """The share of a pixel's samples, of those in the bits of `mine`, that nothing solid hides."""
    near, used, walls = here.near, here.used[pixel], solid.used[pixel]
    if walls == EMPTY:
        return bits_of(np.int32(mine)) / SAMPLES
    if walls == WHOLE and used == WHOLE:
        return 1.0 if near[pixel, 1] > solid.near[pixel, 0] else 0.0
    count = 0
    for k in range(SAMPLES):
        if (mine >> k) & 1:
            hides = solid.near[pixel, 0] if walls == WHOLE else solid.near[pixel, k]
            reaches = near[pixel, 1] if used == WHOLE else near[pixel, k]
            if reaches > hides:
                count += 1
    return count / SAMPLES


@inline_kernel(
    void(SHADED_SCENE, SAMPLED, SAMPLED, i8[::1], f4[:, ::1], f4[:, :, ::1]), cache=True, error_model="numpy"
)
def _put(scene: ShadedScene, here: Samples, solid: Samples, box: Longs, colour: Floats, out: Floats) -> None:
    """Composite what the pixels of a tile hold onto the picture, within a box of it (left, top, right, bottom; left and top of the
    tile).

    solid: what hides it. colour (4, 4): scratch memory.
    """
    names, used = here.names, here.used
    for y in range(box[1], box[3]):
        for x in range(box[0], box[2]):
            pixel = (y - box[5]) * TILE_W + x - box[4]
            if used[pixel] == EMPTY:
                continue
            row, column = y - box[7], x - box[6]
            if used[pixel] == WHOLE and solid.used[pixel] == EMPTY:
                face = scene.faces[names[pixel, 0]]
                if face[FACE] < 0:
                    opacity, place = face[OPACITY], out[row, column]
                    left_over = np.float32(1) - opacity
                    place[0] = place[0] * left_over + face[RED] * opacity
                    place[1] = place[1] * left_over + face[RED + 1] * opacity
                    place[2] = place[2] * left_over + face[RED + 2] * opacity
                    place[3] = place[3] * left_over + opacity
                    continue
                shade(scene, names[pixel, 0], x + 0.5, y + 0.5, 1.0, colour)
                for c in range(4):
                    out[row, column, c] = out[row, column, c] * (np.float32(1) - colour[0, 3]) + colour[0, c]
                continue
            red, green, blue, cover = 0.0, 0.0, 0.0, 0.0
            rest = ALL_SAMPLES
            while rest != 0:
                name, mine = face_in(names, used, pixel, np.int32(rest))
                rest &= ~mine
                if name < 0:
                    continue
                if rest != 0 and len(scene.smooth) > 0:
                    # Faces of one smooth surface that meet in a pixel are shaded together.
                    for k in range(SAMPLES):
                        other = names[pixel, k]
                        if (
                            (rest >> k) & 1
                            and other >= 0
                            and scene.faces[other, INSTANCE] == scene.faces[name, INSTANCE]
                            and agreement(scene.smooth, name, other, x + 0.5, y + 0.5) > _ALIKE
                        ):
                            more = alike(names, pixel * SAMPLES, other)
                            mine, rest = mine | more, rest & ~more
                share = _share(here, solid, pixel, mine)
                if share <= 0:
                    continue
                if scene.faces[name, FACE] >= 0:
                    shade(scene, name, x + 0.5, y + 0.5, 1.0, colour)
                else:
                    for c in range(4):
                        colour[0, c] = scene.faces[name, RED + c] * (
                            scene.faces[name, OPACITY] if c < 3 else np.float32(1)
                        )
                red, green, blue = (
                    red + share * colour[0, 0],
                    green + share * colour[0, 1],
                    blue + share * colour[0, 2],
                )
                cover += share * colour[0, 3]
            keep = 1.0 - cover
            out[row, column, 0] = out[row, column, 0] * keep + red
            out[row, column, 1] = out[row, column, 1] * keep + green
            out[row, column, 2] = out[row, column, 2] * keep + blue
            out[row, column, 3] = out[row, column, 3] * keep + cover


@inline_kernel(void(u1[::1], i8[::1]), cache=True)
def _clear(used: Bytes, box: Longs) -> None:
    """Empty the pixels of a tile within a box (see `_put`). In a separate kernel: Numba removes such writes from parallel loops."""
    for y in range(box[1], box[3]):
        for x in range(box[0], box[2]):
            used[(y - box[5]) * TILE_W + x - box[4]] = EMPTY


@njit(
    void(SHADED_SCENE, i4[::1], i8[::1], i8[::1], i8, i8[::1], f4[:, :, ::1], f8),
    parallel=True,
    cache=True,
    error_model="numpy",
)
def _draw(
    scene: ShadedScene,
    order: Ints,
    bounds: Longs,
    turns: Longs,
    columns: int,
    groups: Longs,
    out: Floats,
    weight: float,
) -> None:
    """Draw faces onto a picture (height, width, 4). groups (n,): of each instance, ascending; those of one group are drawn by
    depth, and groups one after the other. Group 0 is solid: it hides what is behind it of all others. weight: adds this share of
    the faces' own picture; 0: lays them over what is there."""
    height, width = out.shape[0], out.shape[1]
    for turn in prange(len(turns)):
        tile, faces = turns[turn], scene.faces
        if bounds[tile] == bounds[tile + 1]:
            continue
        lane, edges = np.empty((LANE_ROWS, SAMPLES), np.float32), np.empty((4, 4), np.float32)
        colour, names = np.empty((4, 4), np.float32), np.empty((_PIXELS, SAMPLES), np.int32)
        solid = Samples(np.empty((_PIXELS, SAMPLES), np.float32), names, np.zeros(_PIXELS, np.uint8))
        none = Samples(solid.near, names, np.zeros(_PIXELS, np.uint8))
        top, left = tile // columns * TILE_H, tile % columns * TILE_W
        right, bottom = min(left + TILE_W, width), min(top + TILE_H, height)
        box = np.array([left, top, right, bottom, left, top, 0, 0])
        local = out
        if weight != 0:
            box[6], box[7] = left, top
            local = np.zeros((TILE_H, TILE_W, 4), np.float32)
        k, last = bounds[tile], bounds[tile + 1]
        while k < last and groups[int(faces[order[k], INSTANCE])] == 0:
            draw_face(faces, order[k], left, top, right, bottom, solid.near, names, solid.used, lane, edges)
            k += 1
        if k > bounds[tile]:
            _put(scene, solid, none, box, colour, local)
        here = Samples(np.empty((_PIXELS, SAMPLES), np.float32), names, np.zeros(_PIXELS, np.uint8))
        while k < last:
            group = groups[int(faces[order[k], INSTANCE])]
            x0, y0, x1, y1 = right, bottom, left, top
            while k < last and groups[int(faces[order[k], INSTANCE])] == group:
                face = faces[order[k]]
                x0, x1 = min(x0, math.floor(face[0] - face[2])), max(x1, math.ceil(face[0] + face[2]))
                y0, y1 = min(y0, math.floor(face[1] - face[2])), max(y1, math.ceil(face[1] + face[2]))
                draw_face(faces, order[k], left, top, right, bottom, here.near, names, here.used, lane, edges)
                k += 1
            box[0], box[1], box[2], box[3] = max(x0, left), max(y0, top), min(x1, right), min(y1, bottom)
            _put(scene, here, solid, box, colour, local)
            _clear(here.used, box)
        if weight != 0:
            out[top:bottom, left:right] += np.float32(weight) * local[: bottom - top, : right - left]


@kernel_lock
def draw_models(
    view: Records, instances: Doubles, groups: Longs, geometry: Geometry, material: Longs, materials: Records, lamps: Records,
    surroundings: Surroundings, out: Floats, below: Floats | None = None, weight: float = 0.0,
) -> None:  # fmt: skip
    """Draw instances (n, `INSTANCE_COLUMNS`) onto a picture (height, width, 4), in place.

    groups (n,): ascending; those of one group are drawn by depth, and groups one after the other; group 0 hides what is behind it
    of all others. material (n,): the row of `materials` of each; lamps: in the camera's axes; below: the picture that glass shows.
    weight: adds this share of their own picture; 0: lays them over what is there.
    """
    faces, smooth, painted = seen_faces(view, instances, geometry)
    if len(faces) == 0:
        return
    tiles = tiled(faces, out.shape[1], out.shape[0])
    scene = ShadedScene(
        faces, smooth, painted, geometry.texels, geometry.levels, DECODED, instances, material, materials, view,
        np.ascontiguousarray(view["axes"][0]), lamps, surroundings.levels, surroundings.light, reflectance(),
        np.zeros((1, 1, 4), np.float32) if below is None else below,
    )  # fmt: skip
    shade_small(scene)
    _draw(scene, tiles.order, tiles.bounds, tiles.turns, tiles.columns, groups, out, weight)
