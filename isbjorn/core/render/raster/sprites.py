"""Bodies that are more than a disc: pages of a picture or a mask, turned, stretched and smeared.

A page is a square of 2^k texels with all its halvings (Williams 1983, "Pyramidal parametrics"). It is read with a tent over the
level whose texels are about a pixel wide, so that light is preserved at any size; below a pixel, one texel carries all of it.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt
from numba import prange

from isbjorn.core.arrays import Doubles, Floats, Ints, Longs
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.render.raster.blends import put
from isbjorn.core.render.raster.simd import composite_pixel
from isbjorn.core.render.raster.tiles import TILE_H, TILE_W, tiled
from isbjorn.core.runtime.parallel import kernel_lock

# Columns: place and reach; the map from a pixel's offset to the page's [-1, 1] (a, b, c, d); page and level; colour × opacity;
# opacity; 1 if it covers, 0 if it only adds light; the vector of its smear in px, its bend, and the number of its samples; the
# index of its first pose in the table of poses, one per sample (-1: it keeps its own).
X, Y, REACH, UA, UB, VA, VB, PAGE, LEVEL, RED, GREEN, BLUE, SHOWN, COVERS, DX, DY, BX, BY, TIMES, POSES = range(20)
SPRITE = 20
_MOST_SAMPLES = 128
# A size that changes by less, as a share, stays.
_AS_STILL = 2e-3
_FAST = {"contract", "nnan", "ninf", "nsz"}
# Columns of the table of pages, and of what is on them.
SIDE, FIRST, LEVELS, CHANNELS = range(4)
ACROSS, DOWN = range(2)


@dataclass(frozen=True)
class Pages:
    """texels: all pages and their halvings, one after the other; table (n, 4) int64: side, first texel, levels, channels (1: mask,
    4: premultiplied linear colour); half (n,): half of a page's side as a share of the body's radius; mean (n,): its mean cover;
    content (n, 2): extent of its content from the middle, across and down, as shares of half a side."""

    texels: Floats
    table: Longs
    half: Floats
    mean: Floats
    content: Floats


@dataclass(frozen=True)
class Sprites:
    """records (n, `SPRITE`), in the order in which they are drawn; poses (m, 4): from a pixel's distance to the page, as UA to VB,
    of each sample of bodies that turn or grow while the shutter is open. All float32."""

    records: Floats
    poses: Floats

    def of(self, order: Longs | slice) -> Sprites:
        """Some of them, or all in another order."""
        return Sprites(np.ascontiguousarray(self.records[order]), self.poses)


def halvings(page: Floats) -> Floats:
    """A square page (2^k, 2^k[, 4]) and all its halvings, flat."""
    levels = [page]
    while levels[-1].shape[0] > 1:
        side = levels[-1].shape[0] // 2
        levels.append(np.asarray(cv2.resize(levels[-1], (side, side), interpolation=cv2.INTER_AREA), np.float32))
    return np.concatenate([np.ascontiguousarray(level).ravel() for level in levels]).astype(np.float32)


def _content(page: Floats) -> tuple[float, float]:
    """Extent of a page's (side, side[, 4]) content from its middle, across and down, in [0, 1]."""
    there = page > 0 if page.ndim == 2 else (page > 0).any(axis=2)
    side = page.shape[0]
    found = []
    for axis in (0, 1):
        at = np.flatnonzero(np.any(there, axis=axis))
        found.append(0.0 if len(at) == 0 else max(1 - 2 * at[0] / side, 2 * (at[-1] + 1) / side - 1))
    return found[0], found[1]


def bound(pages: list[tuple[Floats, float]]) -> Pages:
    """Pages as one: each a square (2^k, 2^k[, 4]) and half its side as a share of the radius."""
    flat, rows, first = [], [], 0
    for page, _ in pages:
        texels = halvings(page)
        channels = 1 if page.ndim == 2 else 4
        rows.append((page.shape[0], first, page.shape[0].bit_length(), channels))
        flat.append(texels)
        first += len(texels)
    mean = [float((p if p.ndim == 2 else p[..., 3]).mean()) for p, _ in pages]
    return Pages(
        np.concatenate(flat),
        np.array(rows, np.int64),
        np.array([half for _, half in pages], np.float32),
        np.array(mean, np.float32),
        np.array([_content(page) for page, _ in pages], np.float32).reshape(-1, 2),
    )


@inline_kernel("void(f4[::1], i8, i8, i8, f8, f8, f8[::1])", cache=True, error_model="numpy")
def _read(
    texels: Floats, side: int, first: int, channels: int, u: float, v: float, sums: npt.NDArray[np.float64]
) -> None:
    """Add the page at (u, v), in texels from its top left corner, to `sums`; it is empty beyond its edges."""
    fx, fy = u - 0.5, v - 0.5
    ix, iy = math.floor(fx), math.floor(fy)
    fx, fy = fx - ix, fy - iy
    for j in range(2):
        yy = iy + j
        if yy < 0 or yy >= side:
            continue
        wy = fy if j else 1.0 - fy
        for i in range(2):
            xx = ix + i
            if xx < 0 or xx >= side:
                continue
            w = wy * (fx if i else 1.0 - fx)
            at = first + (yy * side + xx) * channels
            if channels == 1:
                sums[3] += w * texels[at]
            else:
                for c in range(4):
                    sums[c] += w * texels[at + c]


@inline_kernel("f8(f8)", cache=True, error_model="numpy", forceinline=True)
def _over(slope: float) -> float:
    """One over a slope; 0 where it is level."""
    return 1.0 / slope if abs(slope) > 1e-12 else 0.0


@inline_kernel("UniTuple(f8,2)(f8, f8, f8, f8, f8)", cache=True, error_model="numpy", forceinline=True)
def _span(over: float, at: float, wide: float, low: float, high: float) -> tuple[float, float]:
    """The part of low … high in which |slope x + at| < wide; over: of the slope."""
    if over == 0.0:
        return (low, high) if abs(at) < wide else (1.0, 0.0)
    a, b = (-wide - at) * over, (wide - at) * over
    return max(low, min(a, b)), min(high, max(a, b))


@inline_kernel("f4(f4[::1], i8, i8, f4, f4)", cache=True, error_model="numpy", fastmath=_FAST, forceinline=True)
def _cover(texels: Floats, side: int, first: int, fx: Any, fy: Any) -> Any:
    """A mask at a place in texels from the middle of its top left one; it is empty beyond its edges."""
    nothing, one, begin, last = np.float32(0), np.float32(1), np.int32(0), np.int32(side - 1)
    most = np.float32(side + 1)
    tx, ty = min(most, max(nothing, fx + one)), min(most, max(nothing, fy + one))
    right, below = np.int32(tx), np.int32(ty)
    tx, ty = tx - np.float32(right), ty - np.float32(below)
    left, above = right - np.int32(1), below - np.int32(1)
    # Outside the page the result is 0, whatever is read.
    of_left, of_right = one - tx if 0 <= left <= last else nothing, tx if right <= last else nothing
    of_above, of_below = one - ty if 0 <= above <= last else nothing, ty if below <= last else nothing
    x0, x1 = np.uint64(max(begin, min(left, last))), np.uint64(min(right, last))
    start, wide = np.uint64(first), np.uint64(side)
    a, b = start + np.uint64(max(begin, min(above, last))) * wide, start + np.uint64(min(below, last)) * wide
    upper = of_left * texels[a + x0] + of_right * texels[a + x1]
    return of_above * upper + of_below * (of_left * texels[b + x0] + of_right * texels[b + x1])


@inline_kernel("f4(f4[::1], i8, i8, f4, f4)", cache=True, error_model="numpy", fastmath=_FAST, forceinline=True)
def _cover_within(texels: Floats, side: int, first: int, fx: Any, fy: Any) -> Any:
    """As `_cover`, of a place between four texels."""
    x, y = np.int32(fx), np.int32(fy)
    fx, fy = fx - np.float32(x), fy - np.float32(y)
    a, one = np.uint64(first) + np.uint64(y) * np.uint64(side) + np.uint64(x), np.uint64(1)
    b = a + np.uint64(side)
    above = texels[a] + fx * (texels[a + one] - texels[a])
    below = texels[b] + fx * (texels[b + one] - texels[b])
    return above + fy * (below - above)


@inline_kernel(
    "void(f4[::1], i8, i8, UniTuple(i8,4), f8, f8, UniTuple(f8,4), f8, f8, f4, f4, f4, f4, i8, f4[:,:,::1])", cache=True,
    error_model="numpy", fastmath=_FAST,
)  # fmt: skip
def _draw_once(
    texels: Floats, side: int, first: int, box: tuple[int, int, int, int], sx: float, sy: float,
    to_page: tuple[float, float, float, float], across: float, down: float, red: Any, green: Any, blue: Any, alpha: Any, mode: int,
    out: Floats,
) -> None:  # fmt: skip
    """Composite an unmoving mask in a box of pixels. sx, sy: the middle, in pixels from the middle of the first one."""
    x0, x1, y0, y1 = box
    ua, ub, va, vb = to_page
    over_u, over_v = _over(ua), _over(va)
    half, safe = 0.5 * side, 1.0 - 1.001 / side
    step_x, step_y = np.float32(ua * half), np.float32(va * half)
    for y in range(y0, y1):
        u, v = ub * (y - sy), vb * (y - sy)
        # The part of the row within the page; and the part in which each pixel is between four texels.
        low, high = _span(over_u, u, across, x0 - sx, x1 - sx)
        low, high = _span(over_v, v, down, low, high)
        begin, end = max(x0, math.floor(low + sx)), min(x1, math.ceil(high + sx) + 1)
        if begin >= end:
            continue
        low, high = _span(over_u, u, safe, begin - sx, end - 1 - sx)
        low, high = _span(over_v, v, safe, low, high)
        inner, outer = max(begin, math.ceil(low + sx)), min(end, math.floor(high + sx) + 1)
        if inner >= outer or side < 2 or mode != 0:
            inner = outer = end
        fx = np.float32((u + ua * (begin - sx) + 1.0) * half - 0.5)
        fy = np.float32((v + va * (begin - sx) + 1.0) * half - 0.5)
        at = (y * out.shape[1] + begin) * 4
        for n in range(np.int32(inner - begin), np.int32(outer - begin)):
            k = np.float32(np.int32(n))
            c = _cover_within(texels, side, first, fx + k * step_x, fy + k * step_y)
            composite_pixel(out, at + 4 * n, c, red, green, blue, alpha)  # type: ignore[call-arg]
        # At its ends, or all of it.
        for one, two in ((begin, inner), (outer, end)):
            for n in range(np.int32(one - begin), np.int32(two - begin)):
                k = np.float32(np.int32(n))
                c = _cover(texels, side, first, fx + k * step_x, fy + k * step_y)
                if mode == 0:
                    composite_pixel(out, at + 4 * n, c, red, green, blue, alpha)  # type: ignore[call-arg]
                elif c > 0:
                    put(out, y, begin + n, c * red, c * green, c * blue, c * alpha, mode)


@njit(
    "void(f4[:,::1], f4[:,::1], f4[::1], i8[:,::1], f4[:,::1], i4[::1], i8[::1], i8[::1], i8, i8, f4[:,:,::1])",
    parallel=True,
    cache=True,
    error_model="numpy",
    fastmath=_FAST,
)
def _draw(
    sprites: Floats, poses: Floats, texels: Floats, table: Longs, content: Floats, order: Ints, starts: Longs, turns: Longs,
    columns: int,
    mode: int, out: Floats,
) -> None:  # fmt: skip
    height, width = out.shape[0], out.shape[1]
    for turn in prange(len(turns)):
        number = turns[turn]
        left, top = (number % columns) * TILE_W, (number // columns) * TILE_H
        right, bottom = min(width, left + TILE_W), min(height, top + TILE_H)
        texel = np.zeros(4)
        for at in range(starts[number], starts[number + 1]):
            s = sprites[order[at]]
            page, level, times = int(s[PAGE]), int(s[LEVEL]), int(s[TIMES])
            side, first, channels = table[page, SIDE], table[page, FIRST], table[page, CHANNELS]
            for _ in range(level):
                first += side * side * channels
                side //= 2
            half = 0.5 * side
            # The box of what is on the page, by its texels at this level and with the tent around them, on the picture.
            across = min(1.0, content[page, ACROSS] + 2.0 / side) + 1.0 / side
            down = min(1.0, content[page, DOWN] + 2.0 / side) + 1.0 / side
            det = float(s[UA]) * s[VB] - float(s[UB]) * s[VA]
            if det == 0.0:
                continue
            ex = (across * abs(s[VB]) + down * abs(s[UB])) / abs(det)
            ey = (across * abs(s[VA]) + down * abs(s[UA])) / abs(det)
            posed = int(s[POSES])
            if posed >= 0:
                for n in range(posed, posed + times):
                    pa, pb, pc, pd = poses[n, 0], poses[n, 1], poses[n, 2], poses[n, 3]
                    det = max(1e-12, abs(float(pa) * pd - float(pb) * pc))
                    ex = max(ex, (across * abs(pd) + down * abs(pb)) / det)
                    ey = max(ey, (across * abs(pc) + down * abs(pa)) / det)
            ex, ey = ex + 0.5 * abs(s[DX]) + abs(s[BX]), ey + 0.5 * abs(s[DY]) + abs(s[BY])
            x0, x1 = max(left, math.floor(s[X] - ex)), min(right, math.ceil(s[X] + ex))
            y0, y1 = max(top, math.floor(s[Y] - ey)), min(bottom, math.ceil(s[Y] + ey))
            red, green, blue = float(s[RED]), float(s[GREEN]), float(s[BLUE])
            alpha, w = float(s[SHOWN]) * s[COVERS], 1.0 / times
            ua, ub, va, vb = float(s[UA]), float(s[UB]), float(s[VA]), float(s[VB])
            sx, sy = float(s[X]) - 0.5, float(s[Y]) - 0.5
            if times == 1 and channels == 1:
                _draw_once(
                    texels, side, first, (x0, x1, y0, y1), sx, sy, (ua, ub, va, vb), across, down, s[RED], s[GREEN], s[BLUE],
                    np.float32(alpha), mode, out,
                )  # fmt: skip
                continue
            # Motion over a pixel while the shutter is open: the path on the page, and its bend there.
            du, dv = ua * s[DX] + ub * s[DY], va * s[DX] + vb * s[DY]
            bu, bv = ua * s[BX] + ub * s[BY], va * s[BX] + vb * s[BY]
            wide_u, wide_v = across + abs(bu), down + abs(bv)
            narrowed = posed < 0
            over_ua, over_va, over_du, over_dv = _over(ua), _over(va), _over(-du), _over(-dv)
            for y in range(y0, y1):
                py = y - sy
                begin, end = float(x0), float(x1 - 1)
                if narrowed:
                    low, high = _span(over_ua, ub * py, wide_u + 0.5 * abs(du), x0 - sx, x1 - sx)
                    low, high = _span(over_va, vb * py, wide_v + 0.5 * abs(dv), low, high)
                    begin, end = max(begin, math.floor(low + sx)), min(end, math.ceil(high + sx))
                for x in range(int(begin), int(end) + 1):
                    texel[0] = texel[1] = texel[2] = texel[3] = 0.0
                    seen = np.float32(0)
                    px = x - sx
                    u0, v0, early, late = ua * px + ub * py, va * px + vb * py, 0, times
                    if narrowed:
                        # The samples at which the page may cover this pixel.
                        low, high = _span(over_du, u0, wide_u, -0.5, 0.5)
                        low, high = _span(over_dv, v0, wide_v, low, high)
                        early = min(times, max(0, math.floor((low + 0.5) * times - 0.5)))
                        late = max(early, min(times, math.ceil((high + 0.5) * times - 0.5) + 1))
                    for n in range(early, late):
                        f = (n + 0.5) * w - 0.5
                        g = 4.0 * f * f
                        u, v = u0 - f * du - g * bu, v0 - f * dv - g * bv
                        if posed >= 0:
                            dx, dy, pose = px - f * s[DX] - g * s[BX], py - f * s[DY] - g * s[BY], poses[posed + n]
                            u, v = pose[0] * dx + pose[1] * dy, pose[2] * dx + pose[3] * dy
                        if abs(u) < across and abs(v) < down:
                            if channels == 1:
                                seen += _cover(
                                    texels,
                                    side,
                                    first,
                                    np.float32((u + 1.0) * half - 0.5),
                                    np.float32((v + 1.0) * half - 0.5),
                                )
                            else:
                                _read(texels, side, first, channels, (u + 1.0) * half, (v + 1.0) * half, texel)
                    texel[3] += seen
                    if texel[3] == 0.0 and texel[0] == 0.0:
                        continue
                    a = texel[3] * w
                    r, g, b = a, a, a
                    if channels == 4:
                        r, g, b = texel[0] * w, texel[1] * w, texel[2] * w
                    put(out, y, x, r * red, g * green, b * blue, a * alpha, mode)


@kernel_lock
def draw_sprites(sprites: Sprites, pages: Pages, out: Floats, mode: int = 0) -> None:
    """Draw sprites in their order onto a picture (height, width, 4), in place."""
    if len(sprites.records) == 0:
        return
    tiles = tiled(sprites.records, out.shape[1], out.shape[0])
    _draw(
        sprites.records, sprites.poses, pages.texels, pages.table, pages.content, tiles.order, tiles.bounds, tiles.turns,
        tiles.columns, mode, out,
    )  # fmt: skip


def _matrices(
    angle: Doubles, half: Doubles, deep: Doubles | None, lie: Doubles | None, along: Doubles | None, longer: Doubles
) -> Doubles:
    """From the page's [-1, 1] to the picture (y down), (4, n) row by row: turned, then stretched along the way."""
    c, s = np.cos(angle), np.sin(angle)
    m = np.stack([c, s, -s, c]) * half
    if deep is not None:
        # Turned about the upright axis, then about the level one, and looked at straight on: never thinner than a hair.
        cx, cy = (np.where(np.abs(c) < 0.02, np.copysign(0.02, c), c) for c in np.cos(deep.T))
        sx, sy = np.sin(deep.T)
        m = np.stack([m[0] * cy + m[1] * sy * sx, m[1] * cx, m[2] * cy + m[3] * sy * sx, m[3] * cx])
    if lie is not None:
        m = np.stack([lie[:, i, 0] * m[j] + lie[:, i, 1] * m[j + 2] for i in (0, 1) for j in (0, 1)])
    if along is not None and (longer != 1).any():
        ax, ay = np.cos(along), -np.sin(along)
        k = longer - 1
        sxx, sxy, syy = 1 + k * ax * ax, k * ax * ay, 1 + k * ay * ay
        m = np.stack(
            [sxx * m[0] + sxy * m[2], sxx * m[1] + sxy * m[3], sxy * m[0] + syy * m[2], sxy * m[1] + syy * m[3]]
        )
    return m


def _inverse(m: Doubles) -> tuple[Doubles, Doubles]:
    """Of matrices (4, n), their inverses (n, 4) and determinants (n,)."""
    det = m[0] * m[3] - m[1] * m[2]
    det = np.where(np.abs(det) < 1e-12, 1e-12, det)
    return np.stack([m[3] / det, -m[1] / det, -m[2] / det, m[0] / det], axis=1), det


def sprites_of(
    centre: Floats,
    radius: Floats,
    angle: Doubles,
    shade: Floats,
    page: Longs,
    pages: Pages,
    covers: bool,
    smear: Floats | None = None,
    along: Doubles | None = None,
    stretch: Doubles | float = 1.0,
    soft: Doubles | float = 0.0,
    bend: Floats | None = None,
    turned: Doubles | None = None,
    sizes: Doubles | None = None,
    deep: Doubles | None = None,
    lie: Doubles | None = None,
    tumbled: Doubles | None = None,
) -> Sprites:
    """Sprites at centres (n, 2) px, of radius (n,) px, turned by angle (n,) radians counter-clockwise.

    shade (n, 4): linear colour and opacity. page (n,): index of the page. smear (n, 2): the motion while the shutter is open, in
    px; bend (n, 2): from the centre to the middle of its ends. turned (n,) radians counter-clockwise, sizes (n, k) as shares of the
    radius at k even moments, tumbled (n, 2) radians as `deep`: meanwhile. deep (n, 2) radians: turned about the level and the
    upright axis, before all else. lie (n, 2, 2): projection of the plane in which each is (see `surface_alignment`). along (n,)
    radians, stretch (n,) factor: made longer in that direction. soft (n,): radius of its circle of confusion in px.
    """
    n = len(centre)
    half = np.maximum(np.asarray(radius, np.float64) * pages.half[page], 1e-6)
    shown = shade[:, 3].astype(np.float64)
    blurred = np.maximum(half, np.asarray(soft, np.float64) / 2)
    small = np.maximum(blurred, 0.5)
    shown = shown * (half / small) ** 2
    half = small
    longer = np.broadcast_to(np.asarray(stretch, np.float64), (n,))
    inverse, det = _inverse(_matrices(angle, half, deep, lie, along, longer))
    side, levels = pages.table[page, SIDE], pages.table[page, LEVELS]
    finest = np.sqrt(np.abs(det) / np.maximum(longer, 1e-9))
    pitch = np.maximum(1.0, np.asarray(soft, np.float64))
    level = np.floor(np.log2(np.maximum(side / (2 * finest) * pitch, 1e-9)) + 0.6)
    level = np.clip(level, 0, levels - 1)
    level = np.where(half <= 0.5, levels - 1, level)
    records = np.empty((n, SPRITE), np.float32)
    records[:, 0:2] = centre
    records[:, UA : VB + 1] = inverse
    records[:, PAGE], records[:, LEVEL] = page, level
    records[:, RED : BLUE + 1] = shade[:, :3] * shown[:, None]
    records[:, SHOWN], records[:, COVERS] = shown, float(covers)
    way = np.zeros((n, 2), np.float32) if smear is None else smear
    gone = np.hypot(*way.T)
    records[:, DX], records[:, DY] = way.T
    bent = np.zeros((n, 2), np.float32) if bend is None else bend
    gone = gone + 2 * np.hypot(*bent.T)
    records[:, BX], records[:, BY] = bent.T
    # What passes at the rim, besides the way of all of it.
    none = np.zeros(n)
    about, over = none if turned is None else np.abs(turned), none if tumbled is None else np.abs(tumbled).sum(axis=1)
    grows = none if sizes is None else np.abs(np.diff(sizes, axis=1)).sum(axis=1)
    largest = np.ones(n) if sizes is None else np.maximum(1, sizes.max(axis=1))
    changes = (about > 1e-4) | (over > 1e-4) | (grows > _AS_STILL)
    if sizes is not None:
        changes |= np.abs(sizes - 1).max(axis=1) > _AS_STILL
    at_rim = gone + half * np.where(changes, about + over + grows, 0) * largest
    times = np.clip(np.ceil(at_rim / np.clip(0.15 * half, 0.6, 3.0)), 1, _MOST_SAMPLES).astype(np.int64)
    # One that changes is drawn by its poses, of which one alone would be that of the middle.
    times[changes] = np.maximum(times[changes], 2)
    records[:, TIMES], records[:, POSES] = times, -1
    some = np.flatnonzero(changes)
    poses = np.zeros((0, 4), np.float32)
    if len(some):
        counts = times[some]
        ends = np.cumsum(counts)
        records[some, POSES] = ends - counts
        index = np.repeat(some, counts)
        share = (np.arange(ends[-1]) - np.repeat(ends - counts, counts) + 0.5) / np.repeat(counts, counts)
        f, size = share - 0.5, np.ones(len(index))
        if sizes is not None:
            at = share * (sizes.shape[1] - 1)
            left = np.minimum(at.astype(np.int64), sizes.shape[1] - 2)
            size = sizes[index, left] + (at - left) * (sizes[index, left + 1] - sizes[index, left])
        poses = _inverse(
            _matrices(
                angle[index] + (0 if turned is None else f * turned[index]), half[index] * np.maximum(size, 0.02),
                None if deep is None else deep[index] + (0 if tumbled is None else f[:, None] * tumbled[index]),
                None if lie is None else lie[index], None if along is None else along[index], longer[index],
            )
        )[0].astype(np.float32)  # fmt: skip
    grown = 1 + 2.0 / np.maximum(1, side / 2**level)
    texel = 2 * 2.0**level / side
    corner = np.hypot(*np.minimum(1, pages.content[page].astype(np.float64).T + texel))
    records[:, REACH] = half * corner * np.maximum(1, longer) * grown * largest + gone / 2 + 1
    records[:, REACH] = np.where(shown > 0, records[:, REACH], -1e9)
    return Sprites(records, poses)
