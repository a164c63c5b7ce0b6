"""One smooth surface over all particles of an emitter: drops that merge into a liquid, in the space of the picture.

Each particle is a soft ball of Zhu and Bridson's kernel (2005, "Animating sand as a fluid"), k(d) = (1 - d²/R²)³. The surface is
where their sum reaches a level, and R is such that one ball alone reaches it at its own radius. From the sum, its slope and the
particles' colours the surface is shaded (as van der Laan, Green and Sainz 2009, "Screen space fluid rendering with curvature flow",
shade theirs from thickness and depth). Its cover is exact along the edge: the distance of a pixel from the level, by the slope.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import cv2
import numpy as np
from numba import f4, f8, i8, prange, void

from isbjorn.core.arrays import Floats
from isbjorn.core.document.emitter_parts.skin import Skin
from isbjorn.core.document.fields.values import Number
from isbjorn.core.evaluate.gradients import hex_to_linear
from isbjorn.core.imaging.blur import blur
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.records import Records, make_record, record, records
from isbjorn.core.render.raster.discs import C0, C1, COVER, REACH, RECORD, RED, W1, W3, X, Y, draw_records
from isbjorn.core.render.raster.pixel_pass import lay
from isbjorn.core.runtime.parallel import kernel_lock

if TYPE_CHECKING:
    from isbjorn.core.render.draw.context import RenderContext

_MILK, _METAL, _WATER, _GLASS = range(4)
MATERIALS = {"milk": _MILK, "metal": _METAL, "water": _WATER, "glass": _GLASS}
_BENDS = ("water", "glass")
# A slope steeper than this many px over two pixels is an edge.
_STEEP = 6.0
# Lengths px, colours linear. thick_at: from where on it is thick, 0: coloured by its particles; nearness: how much it is shaped by
# how near they are; mirror: how much of sky and ground it shows.
LOOK = record(
    bulge=1, light=3, shade=1, highlight=1, gloss=1, clarity=1, bend=1, light_colour=3, shade_colour=3, thick_at=1, thin=3, thick=3,
    mirror=1, sky=3, ground=3, nearness=1,
)  # fmt: skip


def reach_of(level: float) -> float:
    """Reach of a ball as a multiple of its radius, so that it reaches a level in (0, 1) at its radius."""
    return 1.0 / math.sqrt(1.0 - level ** (1.0 / 3.0))


def _balls(centre: Floats, reach: Floats, shade: Floats) -> Floats:
    """Records of balls that add shade (n, 3) times their kernel."""
    out = np.zeros((len(reach), RECORD), np.float32)
    out[:, X], out[:, Y], out[:, REACH] = centre[:, 0], centre[:, 1], reach
    # q = 1 - d²/R² of a disc's profile, and its third power.
    out[:, C0], out[:, C1], out[:, W1], out[:, W3] = 1.0, 1.0 / (reach * reach), 0.0, 1.0
    out[:, RED : RED + 3], out[:, COVER] = shade, 0.0
    return out


@inline_kernel("f8(f4[:,:,::1], i8, i8)", cache=True, error_model="numpy", forceinline=True)
def _near(field: Floats, y: int, x: int) -> float:
    """How near the surface is on average at a pixel, px."""
    return float(field[y, x, 1]) / max(float(field[y, x, 0]), 1e-6)


@njit(
    void(f4[:, :, ::1], f4[:, :, ::1], f8, records(LOOK), i8, f4[:, :, ::1], f4[:, :, ::1]),
    parallel=True,
    cache=True,
    error_model="numpy",
)
def _shade(field: Floats, tint: Floats, level: float, given: Records, material: int, out: Floats, bent: Floats) -> None:
    """The surface's colour and cover, premultiplied, into out (h, w, 4); its refraction offset, px, and the share of refracted
    light, into bent (h, w, 3).

    field: the sum in its first channel, the sum times the nearness of each ball, px, in its second; tint: the sum of colours.
    given: a `LOOK`.
    """
    height, width = field.shape[0], field.shape[1]
    bulge, lx, ly, lz = given[0].bulge, given[0].light[0], given[0].light[1], given[0].light[2]
    dark, shine, gloss, clear, bend = (
        given[0].shade,
        given[0].highlight,
        given[0].gloss,
        given[0].clarity,
        given[0].bend,
    )
    near, thick_at, mirror = given[0].nearness, given[0].thick_at, given[0].mirror
    # Half-way to the viewer.
    hx, hy, hz = lx, ly, lz + 1.0
    h = math.sqrt(hx * hx + hy * hy + hz * hz)
    hx, hy, hz = hx / h, hy / h, hz / h
    for y in prange(height):
        for x in range(width):
            f = float(field[y, x, 0])
            left, right = max(0, x - 1), min(width - 1, x + 1)
            up, down = max(0, y - 1), min(height - 1, y + 1)
            gx = (field[y, right, 0] - field[y, left, 0]) / (right - left)
            gy = (field[down, x, 0] - field[up, x, 0]) / (down - up)
            slope = math.sqrt(gx * gx + gy * gy)
            inside = f - level
            cover = min(1.0, max(0.0, 0.5 + inside / max(slope, 1e-6)))
            if cover <= 0.0 or f <= 1e-6:
                continue
            # The height over the picture rises from the edge as a drop's does.
            thick = max(inside, 0.0) + 0.02 * level
            k = bulge * 0.5 / math.sqrt(thick) / (1.0 + 0.35 * thick)
            nx, ny, nz = -gx * k, gy * k, 1.0
            if near > 0.0:
                # The slope of the averaged nearness, without steps from one sheet to another far behind it.
                ax = _near(field, y, right) - _near(field, y, left)
                ay = _near(field, down, x) - _near(field, up, x)
                steep = math.sqrt(ax * ax + ay * ay)
                calm = near / (1.0 + (steep / _STEEP) ** 2)
                nx, ny = nx - ax / (right - left) * calm, ny + ay / (down - up) * calm
            n = math.sqrt(nx * nx + ny * ny + 1.0)
            nx, ny, nz = nx / n, ny / n, nz / n
            facing = 0.5 + 0.5 * (nx * lx + ny * ly + nz * lz)
            spec = shine * max(0.0, nx * hx + ny * hy + nz * hz) ** gloss
            rim = (1.0 - nz) ** 3
            solid = 1.0
            if material == _METAL:
                # Sky above, ground below, and a bright line between.
                sky = 0.5 + 0.5 * math.tanh(5.0 * (ny - 0.06))
                band = math.exp(-18.0 * (ny - 0.02) * (ny - 0.02))
                facing = 0.18 + 0.62 * sky * (0.4 + 0.6 * nz) + 0.45 * band + 0.25 * rim
                facing = facing * (1.0 - dark) + facing * facing * dark
            elif material == _WATER:
                solid = 1.0 - clear * (1.0 - 0.75 * rim) * math.exp(-0.35 * thick)
            elif material == _GLASS:
                solid = 1.0 - clear * (1.0 - 0.85 * rim)
                facing = 0.35 + 0.65 * facing
            sky = 0.5 + 0.5 * math.tanh(4.0 * ny)
            mirrors = mirror * (0.6 if material == _METAL else 0.05 + 0.95 * rim)
            deep = min(1.0, max(0.0, inside / max(thick_at - level, 1e-6)))
            look = given[0]
            for c in range(3):
                own = tint[y, x, c] / f
                if thick_at > 0:
                    own = look.thin[c] + deep * (look.thick[c] - look.thin[c])
                around = mirrors * (look.ground[c] + sky * (look.sky[c] - look.ground[c]))
                if material == _METAL:
                    around *= own
                if material == _METAL:
                    lit = own * facing
                else:
                    lit = own * (look.shade_colour[c] * dark * (1.0 - facing) + (1.0 - dark * (1.0 - facing)))
                light = look.light_colour[c] * (spec + (0.35 * rim if material >= _WATER else 0.0))
                out[y, x, c] = cover * (solid * lit + light + around)
            out[y, x, 3] = cover * min(1.0, solid)
            if material >= _WATER:
                bent[y, x, 0], bent[y, x, 1], bent[y, x, 2] = bend * nx, -bend * ny, cover


_shaded = kernel_lock(_shade)
# A skin that shows the colours of its particles alone.
_BARE: dict[str, Any] = {
    "material": "milk", "colours": "of the particles", "shade": Number(value=0), "highlight": Number(value=0),
    "surroundings": Number(value=0),
}  # fmt: skip


def bends(skin: Skin) -> bool:
    """Whether the surface refracts the picture below."""
    return skin.material in _BENDS and (skin.refraction.value > 0 or skin.refraction.timed)


def draw_skin(
    context: RenderContext,
    skin: Skin,
    centre: Floats,
    radius: Floats,
    colour: Floats,
    opacity: Floats,
    near: Floats,
    onto: Floats,
    blend: str,
) -> None:
    """Draw the surface over balls (centre (n, 2) and radius (n,) in px of the picture, linear colour (n, 3), opacity (n,)); near
    (n,): toward the viewer, px of the picture."""
    if context.measure is not None:
        skin = skin.model_copy(update=_BARE)
    height, width = onto.shape[:2]
    fine, level = context.read(skin.detail) / 100, context.read(skin.level) / 100
    scale = context.view.scale_x
    shown = (opacity > 0) & (radius > 1e-3)
    own = radius[shown] * np.float32(context.read(skin.girth) / 100)
    if not len(own):
        return
    reach = np.maximum(own * np.float32(reach_of(level)), 0.6 / fine) * np.float32(fine)
    at, w, h = centre[shown] * np.float32(fine), max(1, round(width * fine)), max(1, round(height * fine))
    weight = opacity[shown, None].astype(np.float32)
    shaped = context.read(skin.depth) / 100
    weights = np.repeat(weight, 3, axis=1)
    if shaped > 0:
        weights[:, 1] *= near[shown]
    field = draw_records(_balls(at, reach, weights), w, h)
    tint = draw_records(_balls(at, reach, colour[shown] * weight), w, h)
    smooth = context.read(skin.smoothing) * scale * fine
    if smooth > 0.2:
        field, tint = blur(field, smooth), blur(tint, smooth)
    if (w, h) != (width, height):
        field, tint = (
            np.ascontiguousarray(cv2.resize(a, (width, height), interpolation=cv2.INTER_CUBIC), np.float32)
            for a in (field, tint)
        )
    turn, up = math.radians(context.read(skin.light_from)), math.radians(context.read(skin.light_height))
    look = make_record(
        LOOK, bulge=float(np.median(own)) * 2.2 * context.read(skin.bulge) / 100,
        light=(math.cos(turn) * math.cos(up), math.sin(turn) * math.cos(up), math.sin(up)),
        shade=context.read(skin.shade) / 100, highlight=context.read(skin.highlight) / 100, gloss=context.read(skin.gloss),
        clarity=context.read(skin.clarity) / 100, bend=context.read(skin.refraction) * scale,
        light_colour=hex_to_linear(skin.light_colour), shade_colour=hex_to_linear(skin.shade_colour),
        thick_at=context.read(skin.thick_at) if skin.colours == "by thickness" else 0.0,
        thin=hex_to_linear(skin.thin_colour), thick=hex_to_linear(skin.thick_colour),
        mirror=context.read(skin.surroundings) / 100, sky=hex_to_linear(skin.sky_colour),
        ground=hex_to_linear(skin.ground_colour), nearness=shaped,
    )  # fmt: skip
    out, bent = np.zeros((height, width, 4), np.float32), np.zeros((height, width, 3), np.float32)
    _shaded(field, tint, level, look, MATERIALS[skin.material], out, bent)
    if bends(skin):
        x = np.arange(width, dtype=np.float32)[None] + bent[..., 0]
        y = np.arange(height, dtype=np.float32)[:, None] + bent[..., 1]
        seen = cv2.remap(onto, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT_101)
        onto += bent[..., 2:] * (seen - onto)
    lay(out, onto, blend)
