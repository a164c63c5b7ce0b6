"""What hides particles: drawn shapes, the plate where it is bright, dark or of a colour, and files. 1 hides in full."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from typing import TYPE_CHECKING

import numpy as np
from numba import prange

from isbjorn.core.arrays import Codes, Doubles, Floats, is_coded
from isbjorn.core.colour import BLUE, GREEN, RED, brightness, encoded
from isbjorn.core.document import Matte
from isbjorn.core.evaluate import bezier
from isbjorn.core.evaluate.gradients import hex_to_linear, oklab
from isbjorn.core.imaging.blur import blur
from isbjorn.core.imaging.display_encoding import TOP_CODE, lit
from isbjorn.core.jit import inline_kernel
from isbjorn.core.records import looked_up
from isbjorn.core.render.models.hold_out import hold_out
from isbjorn.core.render.scene.plate_depth import flat_cover
from isbjorn.core.runtime.parallel import kernel_lock

if TYPE_CHECKING:
    from isbjorn.core.render.draw.context import RenderContext

_FINER = 4
_ROOTS = np.linspace(0, 1, 4097, dtype=np.float32)


def shape_outline(matte: Matte, width: float, height: float) -> Doubles:
    """The outline of a drawn shape in its coordinates, closed, (n, 3)."""
    if matte.form == "path":
        return np.asarray(bezier.flat(matte.points, True), np.float64)
    if matte.form == "ellipse":
        t = np.linspace(0, 2 * math.pi, 97)
        return np.stack([np.cos(t) * width / 2, np.sin(t) * height / 2, np.zeros(97)], axis=1)
    x, y = width / 2, height / 2
    return np.array([[-x, -y, 0], [x, -y, 0], [x, y, 0], [-x, y, 0], [-x, -y, 0]], np.float64)


def filled(line: Doubles, width: int, height: int) -> Floats:
    """The share of each pixel within a closed polyline (n, 2) px, by the even-odd rule: float32 (height, width) in [0, 1].

    Exact horizontally, and the mean of four lines per pixel vertically.
    """
    a, b = line[:-1], line[1:]
    top, low = (f(a[:, 1], b[:, 1]) * _FINER for f in (np.minimum, np.maximum))
    # Lines are in the middle of their quarters; an edge crosses those from its upper end to above its lower one.
    first = np.clip(np.ceil(top - 0.5), 0, height * _FINER).astype(np.int64)
    after = np.clip(np.ceil(low - 0.5), 0, height * _FINER).astype(np.int64)
    count = np.maximum(0, after - first)
    edge = np.repeat(np.arange(len(a)), count)
    row = np.arange(len(edge)) - np.repeat(np.cumsum(count) - count, count) + np.repeat(first, count)
    y = (row + 0.5) / _FINER
    rise = np.where(b[:, 1] == a[:, 1], 1.0, b[:, 1] - a[:, 1])
    x = np.clip(a[edge, 0] + (y - a[edge, 1]) / rise[edge] * (b[edge, 0] - a[edge, 0]), 0, width)
    order = np.lexsort((x, row))
    row, x = row[order], x[order]
    # From every other crossing on it is inside: what a pixel has of it is a sum of steps.
    steps = np.zeros((height * _FINER, width + 2))
    sign = np.where(np.arange(len(x)) % 2 == 0, 1.0, -1.0)
    column = np.floor(x).astype(np.int64)
    part = x - column
    np.add.at(steps, (row, column), sign * (1 - part))
    np.add.at(steps, (row, column + 1), sign * part)
    cover = np.cumsum(steps, axis=1)[:, :width].reshape(height, _FINER, width).mean(axis=1)
    return np.clip(cover, 0, 1).astype(np.float32)


def _ramp(value: Floats, low: float, high: float) -> Floats:
    q = np.clip((value - low) / max(high - low, 1e-4), 0, 1)
    return np.asarray(q * q * (3 - 2 * q), np.float32)


def _drawn(matte: Matte, context: RenderContext, _: Floats | Codes) -> Floats:
    view = context.view
    frames = context.solver.readings.frames(matte, np.array([float(context.seconds)]))
    own = shape_outline(matte, context.read(matte.width), context.read(matte.height))
    repeated = type(frames)(*(np.repeat(p[:1], len(own), axis=0) for p in (frames.place, frames.turn, frames.size)))
    pixels, _ = view.place(repeated.of(*own.T))
    return filled(np.clip(pixels.astype(np.float64), -30_000, 30_000), view.width, view.height)


@inline_kernel(
    [f"void({kind}[:,:,::1], f4, f4[::1], f4[:,::1])" for kind in ("f4", "u2")], parallel=True, cache=True,
    fastmath={"contract", "nnan", "ninf", "nsz"},
)  # fmt: skip
def _read_by_light(plate: Floats | Codes, per_code: float, table: Floats, out: Floats) -> None:
    """Values of a table over the square root of luminance; per_code: of codes of light, else 0."""
    nothing = np.float32(0)
    for y in prange(out.shape[0]):
        for x in range(out.shape[1]):
            red, green, blue = np.float32(plate[y, x, 0]), np.float32(plate[y, x, 1]), np.float32(plate[y, x, 2])
            if per_code > 0:
                red, green, blue = red * per_code, green * per_code, blue * per_code
                red, green, blue = red * red, green * green, blue * blue
            out[y, x] = looked_up(table, np.sqrt(max(nothing, RED * red + GREEN * green + BLUE * blue)))


_read: Callable[..., None] = kernel_lock(_read_by_light)


def _bright(matte: Matte, context: RenderContext, plate: Floats | Codes) -> Floats:
    # What is looked up is exact at its steps, and straight between them.
    full = _ramp(encoded(_ROOTS * _ROOTS), context.read(matte.low) / 100, context.read(matte.high) / 100)
    out = np.empty(plate.shape[:2], np.float32)
    _read(plate, 1 / TOP_CODE if is_coded(plate) else 0.0, full, out)
    return out


def _dark(matte: Matte, context: RenderContext, plate: Floats | Codes) -> Floats:
    return np.asarray(1 - _bright(matte, context, plate), np.float32)


def _coloured(matte: Matte, context: RenderContext, plate: Floats | Codes) -> Floats:
    plate = lit(plate) if is_coded(plate) else plate
    away = oklab(np.maximum(plate[..., :3].astype(np.float64), 0)) - oklab(hex_to_linear(matte.colour))
    distance = np.sqrt((away**2).sum(axis=2))
    near, soft = context.read(matte.near) / 100, context.read(matte.soft) / 100
    return np.asarray(1 - _ramp(distance.astype(np.float32), near, near + max(soft, 1e-4)), np.float32)


def _filed(matte: Matte, context: RenderContext, _: Floats | Codes) -> Floats:
    if not matte.media:
        return np.zeros((context.view.height, context.view.width), np.float32)
    rate = context.pictures.own_rate(matte.media) or context.shot.frame_rate
    number = math.floor(context.seconds * Fraction(rate)) % context.pictures.count(matte.media)
    sheet = context.pictures.filling(matte.media, number, context.view.width, context.view.height)
    return np.ascontiguousarray(sheet[..., 3]) if matte.channel == "alpha" else brightness(sheet)


@dataclass(frozen=True)
class MatteEngine:
    """A kind of matte: how full it is, of the plate (light, or codes of it, (height, width, 3 or more)) where it reads that, and
    whether it does."""

    full: Callable[[Matte, RenderContext, Floats | Codes], Floats]
    reads_plate: bool = False


KINDS: dict[str, MatteEngine] = {
    "shape": MatteEngine(_drawn),
    "bright": MatteEngine(_bright, True),
    "dark": MatteEngine(_dark, True),
    "colour": MatteEngine(_coloured, True),
    "file": MatteEngine(_filed),
    "depth": MatteEngine(lambda matte, context, _: flat_cover(matte, context)),
    "model": MatteEngine(lambda matte, context, _: hold_out(matte, context).cover),
}


def matte_of(matte: Matte, context: RenderContext, plate: Floats | Codes | None) -> Floats:
    """A matte at a moment, float32 (height, width) in [0, 1]; nothing where the plate or the file has nothing."""
    view, kind = context.view, KINDS[matte.kind]
    nothing = np.zeros((view.height, view.width), np.float32)
    full = (
        nothing
        if kind.reads_plate and plate is None
        else kind.full(matte, context, nothing if plate is None else plate)
    )
    feather = context.read(matte.feather) * view.scale_x
    if feather > 0.2:
        full = blur(np.ascontiguousarray(full, np.float32), feather / 2)
    return np.asarray(1 - full if matte.inverted else full, np.float32)
