"""Drawing bodies into tiles. Each tile has one owner, so threads never race and the result does not depend on their number.

Bodies are sorted into tiles in drawing order (a counting sort in fixed chunks), then each tile composites its bodies, one after
another: dst = dst (1 - o w) + c w, with c the premultiplied colour, o its opacity (0 for `add`) and w the body's profile. Tiles of
tiny bodies store their pixels as red, green, blue, alpha together; tiles of larger ones store four planes, so that a row is one
vector loop.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import numpy.typing as npt
from numba import prange

from isbjorn.core.arrays import Doubles, Floats, Ints, Longs
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.records import value_of
from isbjorn.core.render.raster.profiles import HARD, SMALLEST, SOFT, SPECK_AREA, edge, mean_cover
from isbjorn.core.render.raster.simd import LANES, composite, composite_pixel, deinterleave, interleave
from isbjorn.core.render.raster.tiles import TILE_H, TILE_W, tiled
from isbjorn.core.runtime.parallel import kernel_lock

GROUPS = TILE_W // LANES
# Columns of a drawing record.
X, Y, REACH, C0, C1, W1, W2, W3, RED, GREEN, BLUE, COVER = range(12)
RECORD = 12
_TOGETHER_BELOW = 1.7
_NARROW = 6.0
# From here on pixel centres are dense enough by themselves: within 1 per cent at the worst.
EVEN_BELOW = 3.6
# A body so near to its area has it to a thousandth after one more step of Newton's.
_NEAR, _NEAR_HARD = 0.02, 0.003
_SMALLEST_AREA = math.pi * SMALLEST * SMALLEST / 2


@inline_kernel(
    "UniTuple(f4, 2)(f4, f4, f4, f4, b1)", cache=True, fastmath={"contract", "reassoc", "nnan", "ninf", "nsz"}
)
def _sampled(c0: float, c1: float, x: float, y: float, hard: bool) -> tuple[Any, Any]:
    """What the pixels of a body add up to, and by how much more with each of c0."""
    one, nothing, half = np.float32(1), np.float32(0), np.float32(0.5)
    reach = np.float32(math.sqrt(max(c0, 0.0) / c1))
    light, slope = nothing, nothing
    first = math.ceil(x - reach - half)
    left = np.float32(first) + half - x
    # Whole groups of eight; beyond the body there is nothing to add.
    across = np.uint32(8) * np.uint32((math.floor(x + reach + half) - first + 7) // 8)
    for yy in range(math.ceil(y - reach - half), math.floor(y + reach + half)):
        dy = np.float32(yy) + half - y
        rest = c0 - c1 * dy * dy
        if hard:
            for i in range(across):
                dx = left + np.float32(np.int32(i))
                q = min(one, max(nothing, rest - c1 * dx * dx))
                light += q
                slope += one if nothing < q < one else nothing
        else:
            for i in range(across):
                dx = left + np.float32(np.int32(i))
                q = min(one, max(nothing, rest - c1 * dx * dx))
                light += q * q * (np.float32(3) - np.float32(2) * q)
                slope += np.float32(6) * q * (one - q)
    return light, slope


@inline_kernel("f8(f8, f8, f8, f8, f8, i8)", cache=True)
def even(c0: float, c1: float, x: float, y: float, area: float, profile: int) -> float:
    """The coefficient c0 of a body with which its pixels sum to its area, at any sub-pixel position.

    Sampled at pixel centres, a body of one or two pixels would flicker by some per cent as it moves. Newton's method, whose steps
    jump over pixels where the edge meets several at once: six of them at most. A step squares the error.
    """
    for _ in range(6):
        light, slope = _sampled(c0, c1, x, y, profile == HARD)
        if slope == 0.0:
            break
        c0 += min(0.5, max(-0.5, (area - light) / slope))
        if abs(area - light) < (_NEAR_HARD if profile == HARD else _NEAR) * area:
            break
    return c0


@inline_kernel("void(f4[:,::1], i8, f8, f8, f8, f8, f4[:,::1], i8, b1, i8, f8)", cache=True)
def write_record(
    out: Floats, at: int, x: float, y: float, r: float, shown: float, colour: Floats, i: int, covers: bool,
    profile: int, inner: float,
) -> None:  # fmt: skip
    """Write record `at` of a body of radius r at (x, y) with colour[i] (linear)."""
    out[at, X], out[at, Y] = x, y
    area = math.pi * r * r * mean_cover(profile, inner)
    out[at, W1], out[at, W2], out[at, W3] = (1.0, 0.0, 0.0) if profile == HARD else (0.0, 3.0, -2.0)
    if area < SPECK_AREA:
        shown *= area
        out[at, REACH], out[at, C0], out[at, C1] = 1.5, 0.0, 0.0
    else:
        if area < _SMALLEST_AREA and r < SMALLEST:
            shown *= area / _SMALLEST_AREA
            out[at, W1], out[at, W2], out[at, W3] = 0.0, 3.0, -2.0
            r, inner, profile, area = SMALLEST, 0.0, SOFT, _SMALLEST_AREA
        c0, c1 = edge(inner, r, profile)
        if r < EVEN_BELOW:
            c0 = even(c0, c1, x, y, area, profile)
        out[at, C0], out[at, C1] = c0, c1
        out[at, REACH] = math.sqrt(c0 / c1)
    out[at, RED], out[at, GREEN], out[at, BLUE] = colour[i, 0] * shown, colour[i, 1] * shown, colour[i, 2] * shown
    out[at, COVER] = shown if covers else 0.0


@njit(
    "void(i8[::1], f4[:,::1], f4[::1], f4[::1], f4[:,::1], f8[::1], f8[::1], f8[::1], f4[:,::1])",
    parallel=True,
    cache=True,
)
def _records(
    order: Longs, centre: Floats, radius: Floats, opacity: Floats, colour: Floats, covers: Doubles, profile: Doubles,
    inner: Doubles, out: Floats,
) -> None:  # fmt: skip
    for at in prange(len(radius)):
        i: Any = order[at] if len(order) else np.int64(at)
        write_record(
            out, at, centre[i, 0], centre[i, 1], radius[i], opacity[i], colour, i, value_of(covers, i) > 0,
            int(value_of(profile, i)), value_of(inner, i),
        )  # fmt: skip


_FAST = {"contract", "nnan", "ninf", "nsz"}
_BODY = "void(f4[::1], f4[:,::1], i8, i8, i8, i8, i8)"


@inline_kernel("i8(i8, i8)", cache=True, forceinline=True)
def _in_planes(x: int, y: int) -> int:
    """Index of a pixel's red in a tile of planes: a group of eight before its green."""
    return (y * GROUPS + x // LANES) * 4 * LANES + x % LANES


@inline_kernel("void(f4[::1], f4[:,::1], i8, i8, i8, i8, i8, b1)", cache=True, error_model="numpy", fastmath=_FAST)
def _draw_speck(
    tile: Floats, records: Floats, k: int, left: int, top: int, right: int, bottom: int, planes: bool
) -> None:
    """Composite a body of less than a pixel: the quadratic B-spline over 3 × 3 pixels."""
    x, y = records[k, X] - np.float32(left), records[k, Y] - np.float32(top)
    red, green, blue, cover = records[k, RED], records[k, GREEN], records[k, BLUE], records[k, COVER]
    one, half, most = np.float32(1), np.float32(0.5), np.float32(0.75)
    px, py = math.floor(x), math.floor(y)
    fx, fy = x - np.float32(px), y - np.float32(py)
    across = (half * (one - fx) * (one - fx), most - (fx - half) * (fx - half), half * fx * fx)
    down = (half * (one - fy) * (one - fy), most - (fy - half) * (fy - half), half * fy * fy)
    if not planes and 1 <= px < right - left - 1 and 1 <= py < bottom - top - 1:
        for j in range(3):
            at = ((py + j - 1) * TILE_W + px - 1) * 4
            composite_pixel(tile, at, down[j] * across[0], red, green, blue, cover)  # type: ignore[call-arg]
            composite_pixel(tile, at + 4, down[j] * across[1], red, green, blue, cover)
            composite_pixel(tile, at + 8, down[j] * across[2], red, green, blue, cover)
        return
    if not planes:
        x0, x1, y0, y1 = max(0, px - 1), min(right - left, px + 2), max(0, py - 1), min(bottom - top, py + 2)
        for yy in range(y0, y1):
            for xx in range(x0, x1):
                w = down[yy - py + 1] * across[xx - px + 1]
                composite_pixel(tile, (yy * TILE_W + xx) * 4, w, red, green, blue, cover)  # type: ignore[call-arg]
        return
    step = LANES
    for j in range(3):
        yy = py + j - 1
        if yy < 0 or yy >= bottom - top:
            continue
        for i in range(3):
            xx = px + i - 1
            if xx < 0 or xx >= right - left:
                continue
            w = down[j] * across[i]
            keep, at = one - cover * w, _in_planes(xx, yy)
            tile[at] = tile[at] * keep + red * w
            tile[at + step] = tile[at + step] * keep + green * w
            tile[at + 2 * step] = tile[at + 2 * step] * keep + blue * w
            tile[at + 3 * step] = tile[at + 3 * step] * keep + cover * w


@inline_kernel(_BODY, cache=True, error_model="numpy", fastmath=_FAST)
def _draw_together(tile: Floats, records: Floats, k: int, left: int, top: int, right: int, bottom: int) -> None:
    """Composite one body into a tile of interleaved pixels."""
    one, zero, half = np.float32(1), np.float32(0), np.float32(0.5)
    if records[k, C1] == zero:
        _draw_speck(tile, records, k, left, top, right, bottom, False)
        return
    x, y, reach = records[k, X] - np.float32(left), records[k, Y] - np.float32(top), records[k, REACH]
    red, green, blue, cover = records[k, RED], records[k, GREEN], records[k, BLUE], records[k, COVER]
    x0, x1 = max(0, math.ceil(x - reach - half)), min(right - left, math.floor(x + reach + half))
    y0, y1 = max(0, math.ceil(y - reach - half)), min(bottom - top, math.floor(y + reach + half))
    c0, c1, w1, w2, w3 = records[k, C0], records[k, C1], records[k, W1], records[k, W2], records[k, W3]
    for yy in range(y0, y1):
        dy = np.float32(yy) + half - y
        rest = c0 - c1 * dy * dy
        for xx in range(x0, x1):
            dx = np.float32(xx) + half - x
            q = min(one, max(zero, rest - c1 * dx * dx))
            w = q * (w1 + q * (w2 + q * w3))
            composite_pixel(tile, (yy * TILE_W + xx) * 4, w, red, green, blue, cover)  # type: ignore[call-arg]


@inline_kernel(_BODY, cache=True, error_model="numpy", fastmath=_FAST)
def _draw_planes(tile: Floats, records: Floats, k: int, left: int, top: int, right: int, bottom: int) -> None:
    """Composite one body into a tile of four planes."""
    _one, zero, half = np.float32(1), np.float32(0), np.float32(0.5)
    if records[k, C1] == zero:
        _draw_speck(tile, records, k, left, top, right, bottom, True)
        return
    x, y, reach = records[k, X] - np.float32(left), records[k, Y] - np.float32(top), records[k, REACH]
    red, green, blue, cover = records[k, RED], records[k, GREEN], records[k, BLUE], records[k, COVER]
    y0, y1 = max(0, math.ceil(y - reach - half)), min(bottom - top, math.floor(y + reach + half))
    c0, c1, w1, w2, w3 = records[k, C0], records[k, C1], records[k, W1], records[k, W2], records[k, W3]
    g0 = max(0, math.ceil(x - reach - half)) // LANES
    g1 = (min(right - left, math.floor(x + reach + half)) + LANES - 1) // LANES
    narrow, reach2 = reach < _NARROW, reach * reach
    for yy in range(y0, y1):
        dy = np.float32(yy) + half - y
        rest = c0 - c1 * dy * dy
        if not narrow:
            # A wide body's rows are as long as its chords; a narrow one's are a group or two, whatever their length.
            chord = math.sqrt(max(zero, reach2 - dy * dy))
            g0 = max(0, math.ceil(x - chord - half)) // LANES
            g1 = (min(right - left, math.floor(x + chord + half)) + LANES - 1) // LANES
        for group in range(g0, g1):
            start = np.float32(group * LANES) + half - x
            at = (yy * GROUPS + group) * 4 * LANES
            composite(tile, at, start, rest, c1, w1, w2, w3, red, green, blue, cover)  # type: ignore[call-arg]


@inline_kernel("void(f4[:,:,::1], i8, i8, i8, i8, b1, f4[::1])", cache=True)
def _take_up(picture: Floats, left: int, top: int, right: int, bottom: int, planes: bool, tile: Floats) -> None:
    """Copy a part of a picture to a tile, of planes or of interleaved pixels."""
    flat, width = picture.reshape(-1), picture.shape[1]
    whole = (right - left) // LANES if planes else 0
    for y in range(bottom - top):
        for group in range(whole):
            at = ((top + y) * width + left + group * LANES) * 4
            deinterleave(flat, at, tile, (y * GROUPS + group) * 4 * LANES)  # type: ignore[call-arg]
        for x in range(whole * LANES, right - left):
            at, step = (_in_planes(x, y), LANES) if planes else ((y * TILE_W + x) * 4, 1)
            for c in range(4):
                tile[at + c * step] = picture[top + y, left + x, c]


@inline_kernel("void(f4[::1], i8, i8, i8, i8, b1, f4[:,:,::1])", cache=True)
def _put_down(tile: Floats, left: int, top: int, right: int, bottom: int, planes: bool, picture: Floats) -> None:
    """Copy a tile to its part of a picture."""
    flat, width = picture.reshape(-1), picture.shape[1]
    whole = (right - left) // LANES if planes else 0
    for y in range(bottom - top):
        for group in range(whole):
            at = ((top + y) * width + left + group * LANES) * 4
            interleave(tile, (y * GROUPS + group) * 4 * LANES, flat, at)  # type: ignore[call-arg]
        for x in range(whole * LANES, right - left):
            at, step = (_in_planes(x, y), LANES) if planes else ((y * TILE_W + x) * 4, 1)
            for c in range(4):
                picture[top + y, left + x, c] = tile[at + c * step]


@njit("void(f4[:,::1], i4[::1], i8[::1], i8[::1], i8, b1, f4[:,:,::1])", parallel=True, cache=True)
def _draw(
    records: Floats, order: Ints, starts: npt.NDArray[np.int64], turns: npt.NDArray[np.int64], columns: int, fresh: bool,
    out: Floats,
) -> None:  # fmt: skip
    height, width = out.shape[0], out.shape[1]
    for turn in prange(len(turns)):
        number = turns[turn]
        first, last = starts[number], starts[number + 1]
        left, top = (number % columns) * TILE_W, (number // columns) * TILE_H
        right, bottom = min(width, left + TILE_W), min(height, top + TILE_H)
        if first == last:
            if fresh:
                out[top:bottom, left:right] = 0
            continue
        reach = 0.0
        for i in range(first, last):
            reach += records[order[i], REACH]
        tile, planes = np.zeros(TILE_H * TILE_W * 4, np.float32), reach >= _TOGETHER_BELOW * (last - first)
        if not fresh:
            _take_up(out, left, top, right, bottom, planes, tile)
        for i in range(first, last):
            if planes:
                _draw_planes(tile, records, order[i], left, top, right, bottom)
            else:
                _draw_together(tile, records, order[i], left, top, right, bottom)
        _put_down(tile, left, top, right, bottom, planes, out)


@kernel_lock
def draw_records(records: Floats, width: int, height: int, out: Floats | None = None) -> Floats:
    """Draw bodies given as records (n, 12), in their order, on nothing; float32 (height, width, 4), linear, premultiplied.

    out: drawn into, so that a caller who draws many frames does not allocate memory for each.
    """
    tiles = tiled(records, width, height)
    out = np.empty((height, width, 4), np.float32) if out is None else out
    _draw(records, tiles.order, tiles.bounds, tiles.turns, tiles.columns, True, out)
    return out


@kernel_lock
def draw_onto(records: Floats, picture: Floats) -> None:
    """As `draw_records`, but onto a picture (height, width, 4), in place."""
    tiles = tiled(records, picture.shape[1], picture.shape[0])
    _draw(records, tiles.order, tiles.bounds, tiles.turns, tiles.columns, False, picture)


@kernel_lock
def records_alike(
    order: Longs, centre: Floats, radius: Floats, opacity: Floats, colour: Floats, covers: npt.ArrayLike, profile: npt.ArrayLike,
    inner: npt.ArrayLike,
) -> Floats:  # fmt: skip
    """Drawing records (n, 12) of bodies in an order (n,), or as they come (0,).

    centre (n, 2) and radius (n,) in px from the top left corner; opacity (n,) in [0, 1]; colour (n, 3 or more): linear red, green,
    blue. Of each (n,), or one of all: covers, whether it covers (normal) or only adds light; its profile; its inner radius.
    """
    records = np.empty((len(radius), RECORD), np.float32)
    centre, radius, opacity, colour = (np.ascontiguousarray(a, np.float32) for a in (centre, radius, opacity, colour))
    covers, profile, inner = (np.ascontiguousarray(np.atleast_1d(a), np.float64) for a in (covers, profile, inner))
    _records(order, centre, radius, opacity, colour, covers, profile, inner, records)
    return records


def records_of(centre: Floats, radius: Floats, opacity: Floats, colour: Floats) -> Floats:
    """`records_alike` of bodies of mixed kinds: colour (n, 6), with `covers`, profile and inner radius."""
    return records_alike(np.empty(0, np.int64), centre, radius, opacity, colour, *colour[:, 3:].T)


def draw(centre: Floats, radius: Floats, opacity: Floats, colour: Floats, width: int, height: int) -> Floats:
    """Draw bodies in the given order on nothing: `records_of`, then `draw_records`."""
    return draw_records(records_of(centre, radius, opacity, colour), width, height)
