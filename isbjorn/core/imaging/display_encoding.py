"""Laying pictures over each other, and turning them to what a screen shows.

Operators of the W3C text "Compositing and Blending Level 1", on premultiplied, linear float32.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
from numba import prange

from isbjorn.core.arrays import Bytes, Codes, Floats, is_coded
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.runtime.parallel import kernel_lock

SHADES = 4096
_FAST = {"contract", "nnan", "ninf", "nsz"}
TOP_CODE = 65535
# Floats of a row that are looked at together.
_BLOCK = 32


@njit("void(f4[:,:,::1], f4[:,:,::1], f4[:,:,::1])", parallel=True, cache=True)
def _over(source: Floats, backdrop: Floats, out: Floats) -> None:
    for y in prange(source.shape[0]):
        for x in range(source.shape[1]):
            keep = np.float32(1) - source[y, x, 3]
            for c in range(4):
                out[y, x, c] = source[y, x, c] + backdrop[y, x, c] * keep


@kernel_lock
def over(source: Floats, backdrop: Floats) -> Floats:
    """Source-over: co = cs + cb (1 - αs), both (height, width, 4) premultiplied. Light without cover (α = 0) is added."""
    out = np.empty_like(source)
    _over(source, backdrop, out)
    return out


def straight(picture: Floats) -> Floats:
    """Colours divided by alpha, for files that do not keep it premultiplied; float32 (height, width, 4).

    Light without cover has no exact straight form: alpha is raised to the brightest channel (at most 1), which is
    exact over black and close over anything darker than the light.
    """
    shown = np.maximum(picture[..., 3], np.minimum(picture[..., :3].max(axis=-1), 1))
    out = np.empty_like(picture)
    np.divide(picture[..., :3], shown[..., None], out=out[..., :3], where=shown[..., None] > 0)
    out[..., :3][shown == 0] = 0
    out[..., 3] = shown
    return out


@inline_kernel("void(f4[::1], f4[::1], f4, u2[::1])", cache=True, fastmath=_FAST)
def _steps_row(row: Floats, below: Floats, top: Any, steps: Codes) -> None:
    """The square roots of light of a row of pixels (4 n,) over another, or of one alone (4 n,) or (3 n,), where that is (0,), as
    steps from 0 to `top` (3 n,)."""
    one, nothing, half = np.float32(1), np.float32(0), np.float32(0.5)
    if len(below):
        for x in range(np.uint32(len(row) // 4)):
            at, to = np.uint32(4) * x, np.uint32(3) * x
            keep = one - row[at + np.uint32(3)]
            for c in range(np.uint32(3)):
                light = min(one, max(nothing, row[at + c] + below[at + c] * keep))
                steps[to + c] = np.uint16(np.int32(np.sqrt(light) * top + half))
    elif len(row) == len(steps):
        for i in range(np.uint32(len(row))):
            steps[i] = np.uint16(np.int32(np.sqrt(min(one, max(nothing, row[i]))) * top + half))
    else:
        for x in range(np.uint32(len(row) // 4)):
            at, to = np.uint32(4) * x, np.uint32(3) * x
            for c in range(np.uint32(3)):
                light = min(one, max(nothing, row[at + c]))
                steps[to + c] = np.uint16(np.int32(np.sqrt(light) * top + half))


@inline_kernel("void(f4[::1], u2[::1], f4, u2[::1])", cache=True, fastmath=_FAST)
def _steps_over_codes(row: Floats, below: Codes, top: Any, steps: Codes) -> None:
    """As `_steps_row`, over codes of light (3 n,)."""
    one, nothing, half, per_code = np.float32(1), np.float32(0), np.float32(0.5), np.float32(1 / TOP_CODE)
    for x in range(np.uint32(len(row) // 4)):
        at, to = np.uint32(4) * x, np.uint32(3) * x
        keep = one - row[at + np.uint32(3)]
        for c in range(np.uint32(3)):
            root = np.float32(below[to + c]) * per_code
            light = min(one, max(nothing, row[at + c] + root * root * keep))
            steps[to + c] = np.uint16(np.int32(np.sqrt(light) * top + half))


@inline_kernel("void(u2[::1], u1[::1], u1[::1])", cache=True)
def _read_row(steps: Codes, table: Bytes, shades: Bytes) -> None:
    for i in range(np.uint32(len(steps))):
        shades[i] = table[steps[i]]


@njit("void(f4[:,:,::1], f4[:,:,::1], u1[::1], u1[:,:,::1])", parallel=True, cache=True)
def _shades(picture: Floats, below: Floats, table: Bytes, out: Bytes) -> None:
    top, nothing = np.float32(len(table) - 1), np.empty(0, np.float32)
    for y in prange(picture.shape[0]):
        steps = np.empty(3 * picture.shape[1], np.uint16)
        under = below[y].reshape(-1) if len(below) else nothing
        _steps_row(picture[y].reshape(-1), under, top, steps)
        _read_row(steps, table, out[y].reshape(-1))


@kernel_lock
def to_shades(picture: Floats, table: Bytes) -> Bytes:
    """Linear (height, width, 3 or 4) to 8-bit (height, width, 3) through a table over the square root of light in [0, 1]."""
    out = np.empty((*picture.shape[:2], 3), np.uint8)
    _shades(picture, picture[:0], table, out)
    return out


@inline_kernel("f4(u2)", cache=True, forceinline=True)
def _light_of(code: np.uint16) -> np.float32:
    """A code is the square root of light, 65535 of 1."""
    root = np.float32(code) * np.float32(1 / TOP_CODE)
    return root * root


@njit("void(f4[:,:,::1], u2[:,:,::1], u1[::1], u1[:,:,::1])", parallel=True, cache=True)
def _shades_over_codes(picture: Floats, below: Codes, table: Bytes, out: Bytes) -> None:
    top = np.float32(len(table) - 1)
    for y in prange(picture.shape[0]):
        steps = np.empty(3 * picture.shape[1], np.uint16)
        _steps_over_codes(picture[y].reshape(-1), below[y].reshape(-1), top, steps)
        _read_row(steps, table, out[y].reshape(-1))


@kernel_lock
def to_shades_over(picture: Floats, below: Floats | Codes, table: Bytes) -> Bytes:
    """`to_shades` of a picture over its ground, which is linear light or display codes (see `lit`), in one pass."""
    out = np.empty((*picture.shape[:2], 3), np.uint8)
    if is_coded(below):
        _shades_over_codes(picture, below, table, out)
    else:
        _shades(picture, np.ascontiguousarray(below, np.float32), table, out)
    return out


@njit("void(u2[:,:,::1], f4[:,:,::1])", parallel=True, cache=True)
def _lit(codes: Codes, out: Floats) -> None:
    for y in prange(codes.shape[0]):
        for x in range(codes.shape[1]):
            for c in range(3):
                out[y, x, c] = _light_of(codes[y, x, c])
            out[y, x, 3] = np.float32(1)


@kernel_lock
def lit(codes: Codes) -> Floats:
    """Linear light of codes (h, w, 3), with full cover, float32 (h, w, 4): finer steps than any screen or file shows."""
    out = np.empty((*codes.shape[:2], 4), np.float32)
    _lit(codes, out)
    return out


@inline_kernel("b1(f4[::1], u4, u4)", cache=True, fastmath=True)
def _any(row: Floats, first: int, after: int) -> bool:
    total = np.float32(0)
    for i in range(first, after):
        total += abs(row[i])
    return bool(total > 0)


@njit("void(f4[:,:,::1], i8[:,::1])", parallel=True, cache=True)
def _ends(picture: Floats, out: npt.NDArray[np.int64]) -> None:
    length = 4 * picture.shape[1]
    blocks = (length + _BLOCK - 1) // _BLOCK
    for y in prange(picture.shape[0]):
        row = picture[y].reshape(-1)
        first, last = blocks, 0
        for b in range(blocks):
            if _any(row, b * _BLOCK, min(length, (b + 1) * _BLOCK)):
                first = min(first, b)
                last = b + 1
        out[y, 0], out[y, 1] = first, last


@kernel_lock
def bounds(picture: Floats) -> tuple[int, int, int, int] | None:
    """Where a picture (height, width, 4) has anything, to eight pixels: left, top, right, bottom; None for nowhere."""
    ends = np.empty((picture.shape[0], 2), np.int64)
    _ends(picture, ends)
    rows = np.flatnonzero(ends[:, 0] < ends[:, 1])
    if len(rows) == 0:
        return None
    left, right = int(ends[rows, 0].min()) * _BLOCK // 4, int(ends[rows, 1].max()) * _BLOCK // 4
    return left, int(rows[0]), min(right, picture.shape[1]), int(rows[-1]) + 1


def shade_levels() -> Floats:
    """The linear values at which a table for `to_shades` is sampled, float32 (4096,)."""
    return (np.linspace(0, 1, SHADES) ** 2).astype(np.float32)
