"""Blend modes of the W3C text "Compositing and Blending Level 1", on premultiplied, linear light.

co = cs (1 - αb) + cb (1 - αs) + αs αb B(Cb, Cs), αo = αs + αb (1 - αs). The text knows colours of [0, 1] only. Light goes
higher here, and each formula is written so that it is the text's within [0, 1], and that its neutral colour changes nothing beyond.
`add` is the text's "plus lighter" without its ceiling: light without cover.
"""

from __future__ import annotations

import math
from typing import get_args

import numpy as np

from isbjorn.core.arrays import Floats
from isbjorn.core.document.model.compositing import Blend
from isbjorn.core.jit import inline_kernel
from isbjorn.core.render.raster.simd import composite_pixel

MODES: dict[str, int] = {"normal": 0, "add": 0} | {
    name: number for number, name in enumerate((n for n in get_args(Blend) if n not in ("normal", "add")), 1)
}
# Of parts of one whole that do not overlap: "plus lighter" with its cover.
JOIN = -1
_SCREEN, _MULTIPLY, _DARKEN, _LIGHTEN, _OVERLAY, _HARD, _SOFT, _DODGE, _BURN, _DIFFERENCE, _EXCLUSION, _HUE = range(
    1, 13
)
_SATURATION, _COLOUR = _HUE + 1, _HUE + 2


@inline_kernel("f8(f8, f8)", cache=True, forceinline=True)
def _screen(b: float, s: float) -> float:
    return b + s - min(b, 1.0) * min(s, 1.0)


@inline_kernel("f8(f8, f8)", cache=True)
def _hard(b: float, s: float) -> float:
    return b * 2.0 * s if s <= 0.5 else _screen(b, 2.0 * s - 1.0)


@inline_kernel("f8(i8, f8, f8)", cache=True, error_model="numpy")
def _one(mode: int, b: float, s: float) -> float:
    """B of one channel: the backdrop's colour b, the source's s."""
    if mode == _MULTIPLY:
        return b * s
    if mode == _SCREEN:
        return _screen(b, s)
    if mode == _DARKEN:
        return min(b, s)
    if mode == _LIGHTEN:
        return max(b, s)
    if mode == _OVERLAY:
        return _hard(s, b)
    if mode == _HARD:
        return _hard(b, s)
    if mode == _DIFFERENCE:
        return abs(b - s)
    if mode == _EXCLUSION:
        return b + s - 2.0 * min(b, 1.0) * min(s, 1.0)
    held_b, held_s = min(b, 1.0), min(s, 1.0)
    if mode == _SOFT:
        if held_s <= 0.5:
            return b - (1.0 - 2.0 * held_s) * held_b * (1.0 - held_b)
        d = ((16.0 * held_b - 12.0) * held_b + 4.0) * held_b if held_b <= 0.25 else math.sqrt(held_b)
        return b + (2.0 * held_s - 1.0) * (d - held_b)
    if mode == _DODGE:
        if b == 0.0:
            return 0.0
        return max(b, 1.0) if s >= 1.0 else max(b, min(1.0, b / (1.0 - s)))
    # burn
    if b >= 1.0:
        return b
    return 0.0 if s <= 0.0 else 1.0 - min(1.0, (1.0 - b) / held_s)


@inline_kernel("f8(f8, f8, f8)", cache=True, forceinline=True)
def _lum(r: float, g: float, b: float) -> float:
    return 0.3 * r + 0.59 * g + 0.11 * b


@inline_kernel("UniTuple(f8,3)(f8, f8, f8, f8)", cache=True)
def _with_lum(r: float, g: float, b: float, lum: float) -> tuple[float, float, float]:
    """The text's SetLum with its ClipColor."""
    d = lum - _lum(r, g, b)
    r, g, b = r + d, g + d, b + d
    low, high = min(r, g, b), max(r, g, b)
    if low < 0.0:
        k = lum / (lum - low)
        r, g, b = lum + (r - lum) * k, lum + (g - lum) * k, lum + (b - lum) * k
    if high > 1.0:
        k = (1.0 - lum) / (high - lum)
        r, g, b = lum + (r - lum) * k, lum + (g - lum) * k, lum + (b - lum) * k
    return r, g, b


@inline_kernel("UniTuple(f8,3)(f8, f8, f8, f8)", cache=True)
def _with_sat(r: float, g: float, b: float, sat: float) -> tuple[float, float, float]:
    """The text's SetSat: the smallest to 0, the largest to `sat`, the middle between as it was."""
    low, high = min(r, g, b), max(r, g, b)
    if high <= low:
        return 0.0, 0.0, 0.0
    k = sat / (high - low)
    return (r - low) * k, (g - low) * k, (b - low) * k


@inline_kernel("UniTuple(f8,3)(i8, f8, f8, f8, f8, f8, f8)", cache=True)
def _three(mode: int, br: float, bg: float, bb: float, sr: float, sg: float, sb: float) -> tuple[float, float, float]:
    """B of the modes that do not take channels apart."""
    br, bg, bb, sr, sg, sb = min(br, 1.0), min(bg, 1.0), min(bb, 1.0), min(sr, 1.0), min(sg, 1.0), min(sb, 1.0)
    lum, sat = _lum(br, bg, bb), max(br, bg, bb) - min(br, bg, bb)
    if mode == _HUE:
        r, g, b = _with_sat(sr, sg, sb, sat)
        return _with_lum(r, g, b, lum)
    if mode == _SATURATION:
        r, g, b = _with_sat(br, bg, bb, max(sr, sg, sb) - min(sr, sg, sb))
        return _with_lum(r, g, b, lum)
    if mode == _COLOUR:
        return _with_lum(sr, sg, sb, lum)
    return _with_lum(br, bg, bb, _lum(sr, sg, sb))


@inline_kernel("void(f4[:,:,::1], i8, i8, f8, f8, f8, f8, i8)", cache=True, forceinline=True, error_model="numpy")
def put(out: Floats, y: int, x: int, red: float, green: float, blue: float, alpha: float, mode: int) -> None:
    """Composite a premultiplied colour onto a pixel."""
    if mode == 0:
        at = (np.int64(y) * out.shape[1] + x) * 4
        whole = np.float32(1)
        composite_pixel(out, at, whole, np.float32(red), np.float32(green), np.float32(blue), np.float32(alpha))  # type: ignore[call-arg]
        return
    if mode == JOIN:
        out[y, x, 0] += red
        out[y, x, 1] += green
        out[y, x, 2] += blue
        out[y, x, 3] += alpha
        return
    keep = 1.0 - alpha
    if alpha <= 0.0:
        return
    under = out[y, x, 3]
    bare = 1.0 - under
    r, g, b = red * bare + out[y, x, 0] * keep, green * bare + out[y, x, 1] * keep, blue * bare + out[y, x, 2] * keep
    if under > 0.0:
        br, bg, bb = out[y, x, 0] / under, out[y, x, 1] / under, out[y, x, 2] / under
        sr, sg, sb = red / alpha, green / alpha, blue / alpha
        if mode >= _HUE:
            mr, mg, mb = _three(mode, br, bg, bb, sr, sg, sb)
        else:
            mr, mg, mb = _one(mode, br, sr), _one(mode, bg, sg), _one(mode, bb, sb)
        both = alpha * under
        r, g, b = r + both * mr, g + both * mg, b + both * mb
    out[y, x, 0], out[y, x, 1], out[y, x, 2], out[y, x, 3] = r, g, b, alpha + under * keep
