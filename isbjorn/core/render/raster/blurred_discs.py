"""Discs that move while the shutter is open.

Their way is a line of up to four straight pieces between states of the motion. Along a piece the cover of a pixel,
w(c0 - c1 |x - p(t)|²), is a polynomial of t, and its mean over the time is computed in closed form: no samples, no beads.
A body covers what it covers on the mean of the time that the shutter is open.
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
from isbjorn.core.render.raster.blends import put
from isbjorn.core.render.raster.discs import EVEN_BELOW, even
from isbjorn.core.render.raster.profiles import HARD, SMALLEST, edge, mean_cover
from isbjorn.core.render.raster.simd import composite_pixel
from isbjorn.core.render.raster.tiles import TILE_H, TILE_W, tiled
from isbjorn.core.runtime.parallel import kernel_lock

PIECES = 4
# This many px beside the straight path, and this share of the radius, make no visible difference.
_AS_STRAIGHT, _AS_LARGE = 0.02, 0.01
# A body that moves by less than this, in px, meets pixel centres as unevenly as one at rest.
_AS_STILL = 1.0
# Columns: place and reach of the whole way; profile; colour and cover, premultiplied; five places; the share of the time that each
# piece takes, and c0 and c1 of the size that it has there.
X, Y, REACH, PROFILE, RED, PLACES, SHARES = 0, 1, 2, 3, 4, 8, 18
C0, C1 = SHARES + PIECES, SHARES + 2 * PIECES
SMEAR = C1 + PIECES
# Of each piece: where it begins, its unit way and length, share of the time by length, c0 and c1, and its radius.
P_X, P_Y, WAY_X, WAY_Y, LENGTH, SHARE, P_C0, P_C1, P_RADIUS = range(9)
PIECE = 9
_FAST = {"contract", "nnan", "nsz"}


@inline_kernel("f4(f4, f4, f4, f4, f4)", cache=True, fastmath=_FAST, forceinline=True)
def _edge_up_to(v: Any, one: Any, three: Any, five: Any, seven: Any) -> Any:
    """The integral of the edge's polynomial from 0 to v."""
    v2 = v * v
    return v * (one + v2 * (three + v2 * (five + v2 * seven)))


@inline_kernel("f4(f4, f4, f4, f4, f4, b1)", cache=True, fastmath=_FAST, error_model="numpy", forceinline=True)
def _between(first: Any, last: Any, a: Any, c1: Any, over: Any, hard: bool) -> Any:
    """The integral of w(clamp(a - c1 x²)) for x from `first` to `last`; a > 0; over: one over c1."""
    nothing, unit, two = np.float32(0), np.float32(1), np.float32(2)
    end = np.sqrt(a * over)
    first, last = min(max(first, -end), end), min(max(last, -end), end)
    if hard:
        one, three, five, seven = a, -c1 * np.float32(1 / 3), nothing, nothing
    else:
        one, three = a * a * (np.float32(3) - two * a), two * a * c1 * (a - unit)
        five, seven = np.float32(0.6) * c1 * c1 * (unit - two * a), np.float32(2 / 7) * c1 * c1 * c1
    if a <= unit:
        return max(nothing, _edge_up_to(last, one, three, five, seven) - _edge_up_to(first, one, three, five, seven))
    # Full in the middle, and its edge at both sides.
    full = np.sqrt((a - unit) * over)
    total = min(max(last, -full), full) - min(max(first, -full), full)
    total += _edge_up_to(max(last, full), one, three, five, seven) - _edge_up_to(
        max(first, full), one, three, five, seven
    )
    total += _edge_up_to(min(last, -full), one, three, five, seven) - _edge_up_to(
        min(first, -full), one, three, five, seven
    )
    return max(nothing, total)


@inline_kernel("UniTuple(f8,2)(f8[::1], f8)", cache=True, error_model="numpy", fastmath=_FAST, forceinline=True)
def _near(p: Doubles, y: float) -> tuple[float, float]:
    """The part of a row that a piece comes near to, the first after the last where it does not."""
    radius, up, first, last = p[P_RADIUS], y - p[P_Y], 0.0, p[LENGTH]
    if p[WAY_Y] == 0.0:
        if abs(up) > radius:
            return math.inf, -math.inf
    else:
        one, two = (up - radius) / p[WAY_Y], (up + radius) / p[WAY_Y]
        first, last = max(first, min(one, two)), min(last, max(one, two))
        if first > last:
            return math.inf, -math.inf
    one, two = p[P_X] + first * p[WAY_X], p[P_X] + last * p[WAY_X]
    return min(one, two) - radius, max(one, two) + radius


@inline_kernel(
    "void(f8[::1], i8, i8, i8, i8, f8, f8, f4, f4, f4, f4, b1, f4[:,:,::1])",
    cache=True,
    error_model="numpy",
    fastmath=_FAST,
)
def _draw_straight(
    p: Doubles, left: int, right: int, top: int, bottom: int, low: float, high: float, red: Any, green: Any, blue: Any, cover: Any,
    hard: bool, out: Floats,
) -> None:  # fmt: skip
    """Composite what goes straight on, in a part of the picture, and between two heights."""
    c0, c1, share, long = np.float32(p[P_C0]), np.float32(p[P_C1]), np.float32(p[SHARE]), np.float32(p[LENGTH])
    step_x, step_y, over = np.float32(p[WAY_X]), np.float32(p[WAY_Y]), np.float32(1) / c1
    for y in range(max(top, math.floor(low)), min(bottom, math.ceil(high))):
        one, two = _near(p, y + 0.5)
        if one > two:
            continue
        begin, end = max(left, math.floor(one)), min(right, math.ceil(two))
        px, py = np.float32(begin + 0.5 - p[P_X]), np.float32(y + 0.5 - p[P_Y])
        # Of its first pixel: how far beside the way, and along it.
        beside, along, at = px * step_y - py * step_x, px * step_x + py * step_y, (y * out.shape[1] + begin) * 4
        for n in range(np.int32(end - begin)):
            k = np.float32(np.int32(n))
            aside, on = beside + k * step_y, along + k * step_x
            a = c0 - c1 * aside * aside
            if a > np.float32(0):
                w = share * _between(-on, long - on, a, c1, over, hard)
                composite_pixel(out, at + 4 * n, w, red, green, blue, cover)  # type: ignore[call-arg]


@njit(
    "void(f4[:,::1], i4[::1], i8[::1], i8[::1], i8, i8, f4[:,:,::1])", parallel=True, cache=True, error_model="numpy",
    fastmath=_FAST,
)  # fmt: skip
def _draw(smears: Floats, order: Ints, starts: Longs, turns: Longs, columns: int, mode: int, out: Floats) -> None:
    height, width = out.shape[0], out.shape[1]
    for turn in prange(len(turns)):
        number = turns[turn]
        left, top = (number % columns) * TILE_W, (number // columns) * TILE_H
        right, bottom = min(width, left + TILE_W), min(height, top + TILE_H)
        pieces = np.empty((PIECES, PIECE))
        for at in range(starts[number], starts[number + 1]):
            s = smears[order[at]]
            hard, count = s[PROFILE] == HARD, 0
            low, high = math.inf, -math.inf
            for k in range(PIECES):
                share = float(s[SHARES + k])
                if share <= 0.0:
                    continue
                ax, ay = float(s[PLACES + 2 * k]), float(s[PLACES + 2 * k + 1])
                dx, dy = s[PLACES + 2 * k + 2] - ax, s[PLACES + 2 * k + 3] - ay
                length = math.sqrt(dx * dx + dy * dy)
                if length < 0.01:
                    dx, dy, length = 0.0, 0.0, 0.0
                else:
                    dx, dy, share = dx / length, dy / length, share / length
                radius = math.sqrt(s[C0 + k] / s[C1 + k])
                low, high = min(low, min(ay, ay + dy * length) - radius), max(high, max(ay, ay + dy * length) + radius)
                p = pieces[count]
                p[P_X], p[P_Y], p[WAY_X], p[WAY_Y], p[LENGTH], p[SHARE] = ax, ay, dx, dy, length, share
                p[P_C0], p[P_C1], p[P_RADIUS] = s[C0 + k], s[C1 + k], radius
                count += 1
            if count == 0:
                continue
            if count == 1 and mode == 0 and pieces[0, LENGTH] > 0.0:
                _draw_straight(
                    pieces[0], left, right, top, bottom, low, high, s[RED], s[RED + 1], s[RED + 2], s[RED + 3], hard, out
                )  # fmt: skip
                continue
            red, green, blue, cover = float(s[RED]), float(s[RED + 1]), float(s[RED + 2]), float(s[RED + 3])
            for y in range(max(top, math.floor(low)), min(bottom, math.ceil(high))):
                # The part of the row that any piece comes near to.
                begin, end = math.inf, -math.inf
                for k in range(count):
                    one, two = _near(pieces[k], y + 0.5)
                    begin, end = min(begin, one), max(end, two)
                if begin > end:
                    continue
                for x in range(max(left, math.floor(begin)), min(right, math.ceil(end))):
                    w = 0.0
                    for k in range(count):
                        p = pieces[k]
                        px, py = x + 0.5 - p[P_X], y + 0.5 - p[P_Y]
                        c0, c1 = p[P_C0], p[P_C1]
                        if p[LENGTH] == 0.0:
                            q = min(1.0, max(0.0, c0 - c1 * (px * px + py * py)))
                            w += p[SHARE] * (q if hard else q * q * (3.0 - 2.0 * q))
                            continue
                        along = px * p[WAY_X] + py * p[WAY_Y]
                        a = c0 - c1 * max(0.0, px * px + py * py - along * along)
                        if a > 0.0:
                            begins, ends = np.float32(-along), np.float32(p[LENGTH] - along)
                            over = np.float32(1.0 / c1)
                            w += p[SHARE] * _between(begins, ends, np.float32(a), np.float32(c1), over, hard)
                    if w > 0.0:
                        put(out, y, x, w * red, w * green, w * blue, w * cover, mode)


@kernel_lock
def draw_smears(smears: Floats, out: Floats, mode: int = 0) -> None:
    """Draw smears (n, 30), float32, in their order, onto a picture (height, width, 4), in place."""
    if len(smears) == 0:
        return
    tiles = tiled(smears, out.shape[1], out.shape[0])
    _draw(smears, tiles.order, tiles.bounds, tiles.turns, tiles.columns, mode, out)


@inline_kernel("b1(f4[:,:,::1], f4[:,::1], f4[:,::1], f4[:,::1], i8)", cache=True)
def _is_straight(places: Floats, shares: Floats, radius: Floats, spread: Floats, i: int) -> bool:
    """Whether a body goes straight on, evenly and at one size, as far as can be seen: most do in a part of a frame."""
    for k in range(PIECES):
        if spread[i, k] > _AS_LARGE:
            return False
    for k in range(1, PIECES):
        if abs(shares[i, k] - shares[i, 0]) > 1e-3 * shares[i, 0]:
            return False
        if abs(radius[i, k] - radius[i, 0]) > _AS_LARGE * radius[i, 0]:
            return False
        share = k / PIECES
        for c in range(2):
            if abs(places[i, k, c] - places[i, 0, c] - share * (places[i, PIECES, c] - places[i, 0, c])) > _AS_STRAIGHT:
                return False
    return True


@inline_kernel("UniTuple(f8,2)(f8, f8, f8)", cache=True)
def _spread_edge(c0: float, c1: float, by: float) -> tuple[float, float]:
    """The edge of a body, whose cover falls linearly with the square of the distance, once its squared radius is spread evenly by
    `by` px² either way: the same light, over a wider edge."""
    outer, inner = c0 / c1, (c0 - 1.0) / c1
    total = outer + inner
    inner = max(0.0, inner - by)
    outer = total - inner
    c1 = 1.0 / max(outer - inner, 1e-9)
    return outer * c1, c1


@inline_kernel("f8(f8, f8, b1)", cache=True)
def _area(c0: float, c1: float, hard: bool) -> float:
    """The integral of a body's cover over the plane, px²."""
    full = max(0.0, c0 - 1.0)
    q = min(c0, 1.0)
    return math.pi * (full + (0.5 * q * q if hard else q * q * q * (1.0 - 0.5 * q))) / c1


@inline_kernel(
    "void(f4[:,:,::1], f4[:,::1], f4[:,::1], f4[:,::1], f4[:,::1], f8[::1], i8, b1, f4[:,::1])",
    cache=True,
    parallel=True,
)
def _pack(
    places: Floats, shares: Floats, radius: Floats, spread: Floats, shade: Floats, inner: npt.NDArray[np.float64], profile: int,
    covers: bool,
    out: Floats,
) -> None:  # fmt: skip
    for i in prange(len(radius)):
        n, kind, shown = value_of(inner, i), profile, float(shade[i, 3])
        least, widest = float(radius[i, 0]), 0.0
        for k in range(1, PIECES):
            least = min(least, float(radius[i, k]))
        tiny = least < SMALLEST
        mean = mean_cover(kind, n)
        if tiny:
            n, kind = 0.0, 1
        out[i, PROFILE] = kind
        for k in range(PIECES):
            r, part = float(radius[i, k]), float(shares[i, k])
            if tiny:
                # Of the soft disc that it is drawn as; fainter where it would be smaller than that can be.
                r *= math.sqrt(mean / mean_cover(1, 0.0))
                if r < SMALLEST:
                    part *= r * r / (SMALLEST * SMALLEST)
                    r = SMALLEST
            c0, c1 = edge(n, r, kind)
            if spread[i, k] > _AS_LARGE and c0 > 1.0:
                c0, c1 = _spread_edge(c0, c1, float(spread[i, k]) * r * r)
            out[i, C0 + k], out[i, C1 + k], out[i, SHARES + k] = c0, c1, part
            widest = max(widest, math.sqrt(c0 / c1))
        lx, hx, ly, hy = places[i, 0, 0], places[i, 0, 0], places[i, 0, 1], places[i, 0, 1]
        one = _is_straight(places, shares, radius, spread, i)
        if one:
            # All in the first piece: of the others there is nothing.
            for k in range(1, PIECES):
                out[i, SHARES] += out[i, SHARES + k]
                out[i, SHARES + k] = 0.0
            out[i, C0] = 0.5 * (out[i, C0 + 1] + out[i, C0 + 2])
            out[i, C1] = 0.5 * (out[i, C1 + 1] + out[i, C1 + 2])
            way_x, way_y = places[i, PIECES, 0] - places[i, 0, 0], places[i, PIECES, 1] - places[i, 0, 1]
            if radius[i, 0] < EVEN_BELOW and max(abs(way_x), abs(way_y)) < _AS_STILL:
                c0, c1, hard = float(out[i, C0]), float(out[i, C1]), kind == HARD
                x, y = places[i, 0, 0] + 0.5 * way_x, places[i, 0, 1] + 0.5 * way_y
                out[i, C0] = even(c0, c1, x, y, _area(c0, c1, hard), kind)
        for k in range(PIECES + 1):
            at = PIECES if one and k > 0 else k
            out[i, PLACES + 2 * k], out[i, PLACES + 2 * k + 1] = places[i, at, 0], places[i, at, 1]
            lx, hx = min(lx, places[i, k, 0]), max(hx, places[i, k, 0])
            ly, hy = min(ly, places[i, k, 1]), max(hy, places[i, k, 1])
        out[i, X], out[i, Y] = (lx + hx) / 2, (ly + hy) / 2
        out[i, REACH] = 0.5 * max(hx - lx, hy - ly) + widest + 1.0 if shown > 0 else -1e9
        for c in range(3):
            out[i, RED + c] = shade[i, c] * shown
        out[i, RED + 3] = shown if covers else 0.0


@kernel_lock
def smears_of(
    places: Floats,
    shares: Floats,
    radius: Floats,
    shade: Floats,
    inner: npt.NDArray[np.float64],
    profile: int,
    covers: bool,
    spread: Floats | None = None,
) -> Floats:
    """Smears (n, 30) of discs: places (n, 5, 2) px, shares of the time (n, 4), radius (n,) px, or (n, 4) in each piece, shade
    (n, 4) linear colour and opacity, inner radius (n,), or one of all (1,), as a share, the profile's code. spread (n, 4): by how
    much the square of the radius changes in a piece, either way, as a share of it."""
    out = np.empty((len(radius), SMEAR), np.float32)
    _pack(
        np.ascontiguousarray(places, np.float32), np.ascontiguousarray(shares, np.float32),
        np.array(np.broadcast_to(radius.reshape(len(radius), -1), (len(radius), PIECES)), np.float32),
        np.zeros((len(radius), PIECES), np.float32) if spread is None else np.ascontiguousarray(spread, np.float32),
        np.ascontiguousarray(shade, np.float32),
        np.ascontiguousarray(inner, np.float64), profile, covers, out,
    )  # fmt: skip
    return out
