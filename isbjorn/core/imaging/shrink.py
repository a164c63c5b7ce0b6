"""Bytes of a plate at the size shown, in one pass: the mean of light over the area of each pixel; kept as codes of 16 bits (see
`render.shades.lit`), at a third of the room of linear floats with their alpha."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import prange

from isbjorn.core.arrays import Codes, Floats, Ints
from isbjorn.core.imaging.display_encoding import TOP_CODE
from isbjorn.core.imaging.planes import Plane, Planes
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.runtime.memory import cached
from isbjorn.core.runtime.parallel import kernel_lock

_BLOCKS = 32
# Frames in planes are read to a sixteenth of a code of 8 bits.
_FINE = 16
FINE_LEVELS = 255 * _FINE + 1
_FAST = {"contract", "nnan", "ninf", "nsz"}
_GIVEN = "f4[::1], i8[::1], f4[:,::1], u4[::1], f4[:,::1], u2[:,:,::1]"


@inline_kernel("void(f4[::1], u4, u4[::1], f4[:,::1], f4[::1], u2[::1])", cache=True, fastmath=_FAST)
def _narrow(
    sums: Floats, stride: np.uint32, columns: npt.NDArray[np.uint32], wide: Floats, light: Floats, codes: Codes
) -> None:
    """Codes of a row whose red, green and blue planes are `stride` apart in `sums`. light: scratch memory for the row."""
    top, half, one = np.float32(TOP_CODE), np.float32(0.5), np.float32(1)
    count, twice = np.uint32(wide.shape[1]), np.uint32(2) * stride
    for x in range(np.uint32(len(columns))):
        at, to = columns[x], np.uint32(3) * x
        weight = wide[x, 0]
        red, green, blue = weight * sums[at], weight * sums[at + stride], weight * sums[at + twice]
        for k in range(np.uint32(1), count):
            weight = wide[x, k]
            red += weight * sums[at + k]
            green += weight * sums[at + k + stride]
            blue += weight * sums[at + k + twice]
        light[to], light[to + np.uint32(1)], light[to + np.uint32(2)] = red, green, blue
    for i in range(np.uint32(len(codes))):
        codes[i] = np.uint16(np.int32(np.sqrt(min(light[i], one)) * top + half))


@inline_kernel("void(f4[::1], f4[::1], f4)", cache=True, fastmath=_FAST)
def _add(sums: Floats, light: Floats, weight: float) -> None:
    for i in range(np.uint32(len(sums))):
        sums[i] += weight * light[i]


@inline_kernel("void(u1[::1], f4[::1], f4[::1], u4)", cache=True)
def _light_bytes(row: npt.NDArray[np.uint8], table: Floats, light: Floats, stride: np.uint32) -> None:
    """Light of a row of bytes (3 n,): red, green and blue behind each other, `stride` apart."""
    for c in range(np.uint32(3)):
        for i in range(np.uint32(len(row) // 3)):
            light[c * stride + i] = table[row[np.uint32(3) * i + c]]


@inline_kernel([f"void({plane}[::1], {plane}[::1], f4, f4[::1])" for plane in ("u1", "u2")], cache=True, fastmath=_FAST)
def _mix(near: Plane, far: Plane, middle: float, hue: Floats) -> None:
    """A row of colour between two, a quarter of the way from the near one to the far one."""
    more, less = np.float32(0.75), np.float32(0.25)
    for i in range(np.uint32(len(hue))):
        hue[i] = more * np.float32(near[i]) + less * np.float32(far[i]) - middle


@inline_kernel("void(f4[::1], f4[::1])", cache=True, fastmath=_FAST)
def _widen(hue: Floats, wide: Floats) -> None:
    """A row of colour at half width: each sample is sited at the left pixel of two (as in MPEG-2 and later standards)."""
    half, last = np.float32(0.5), np.uint32(len(hue) - 1)
    for i in range(last):
        wide[np.uint32(2) * i] = hue[i]
        wide[np.uint32(2) * i + np.uint32(1)] = half * (hue[i] + hue[i + np.uint32(1)])
    wide[np.uint32(2) * last] = hue[last]
    if np.uint32(2) * last + np.uint32(1) < len(wide):
        wide[np.uint32(2) * last + np.uint32(1)] = hue[last]


@inline_kernel([f"void({plane}[:,::1], i8, i8, i8, f4, f4[::1], f4[::1])" for plane in ("u1", "u2")], cache=True)
def _spread(plane: Plane, y: int, across: int, down: int, middle: float, hue: Floats, wide: Floats) -> None:
    """Colour of a row of pixels, of a plane that may be smaller. hue: room for a row of the plane."""
    near = y >> down
    # Chroma rows are sited between two luma rows.
    far = near if down == 0 else min(len(plane) - 1, max(0, near + (2 * (y & 1) - 1)))
    row = hue if across else wide
    _mix(plane[near, : len(row)], plane[far, : len(row)], middle, row)
    if across:
        _widen(hue, wide)


@inline_kernel(
    [f"void({plane}[::1], f4[::1], f4[::1], f4[::1], f4[::1], i4[::1], f4[::1], u4)" for plane in ("u1", "u2")],
    cache=True,
    fastmath=_FAST,
)
def _light_row(
    luma: Plane, blue: Floats, red: Floats, to_rgb: Floats, table: Floats, codes: Ints, light: Floats, stride: np.uint32
) -> None:
    """Light of a row of pixels: red, green and blue behind each other, `stride` apart."""
    fine, half, nothing, top = np.float32(_FINE), np.float32(0.5), np.float32(0), np.float32(FINE_LEVELS - 1)
    factor, base = to_rgb[0] * fine, to_rgb[1] * fine + half
    width = np.uint32(len(codes))
    for c in range(np.uint32(3)):
        of_blue = (nothing, to_rgb[3] * fine, to_rgb[5] * fine)[c]
        of_red = (to_rgb[2] * fine, to_rgb[4] * fine, nothing)[c]
        for i in range(width):
            code = factor * np.float32(luma[i]) + base + of_blue * blue[i] + of_red * red[i]
            codes[i] = np.int32(min(top, max(nothing, code)))
        for i in range(width):
            light[c * stride + i] = table[np.uint32(codes[i])]


@njit(
    [
        f"void(u1[:,:,::1], {plane}[:,::1], {plane}[:,::1], {plane}[:,::1], i8, i8, i8, f4[::1], f4, {_GIVEN})"
        for plane in ("u1", "u2")
    ],
    parallel=True, cache=True, fastmath=_FAST,
)  # fmt: skip
def _shrink(
    pixels: npt.NDArray[np.uint8], luma: Plane, blue: Plane, red: Plane, columns_in: int, across: int, down: int, to_rgb: Floats,
    middle: float, table: Floats, rows: npt.NDArray[np.int64], tall: Floats, columns: npt.NDArray[np.uint32], wide: Floats,
    out: Codes,
) -> None:  # fmt: skip
    """From bytes of pixels, or, where there are none, from planes."""
    width, height = np.uint32(columns_in), out.shape[0]
    # As long as the last pixel's share may reach, with nothing there.
    stride = width + np.uint32(wide.shape[1])
    hues = (columns_in + across) >> across
    for block in prange(_BLOCKS):
        sums, light = np.zeros(3 * stride, np.float32), np.zeros(3 * stride, np.float32)
        narrow = np.empty(3 * out.shape[1], np.float32)
        hue, codes = np.empty(hues, np.float32), np.empty(width, np.int32)
        blues, reds = np.empty(width, np.float32), np.empty(width, np.float32)
        lit = -1
        for y in range(block * height // _BLOCKS, (block + 1) * height // _BLOCKS):
            sums[:] = 0
            for k in range(tall.shape[1]):
                if tall[y, k] > 0:
                    if lit != rows[y] + k:
                        # Two rows that meet within one share it.
                        lit = rows[y] + k
                        if len(pixels):
                            _light_bytes(pixels[lit].reshape(-1), table, light, stride)
                        else:
                            _spread(blue, lit, across, down, middle, hue, blues)
                            _spread(red, lit, across, down, middle, hue, reds)
                            _light_row(luma[lit, :columns_in], blues, reds, to_rgb, table, codes, light, stride)
                    _add(sums, light, tall[y, k])
            _narrow(sums, stride, columns, wide, narrow, out[y].reshape(-1))


@cached("tables", "Shares of smaller pictures", "the two sizes", 0.05)
def _shares(before: int, after: int) -> tuple[npt.NDArray[np.int64], Floats]:
    """For each of `after` pixels over `before`: the first source pixel that it covers, and the shares of this and the next ones."""
    edges = np.arange(after + 1) * (before / after)
    first = np.minimum(np.floor(edges[:-1] + 1e-9).astype(np.int64), before - 1)
    count = int(np.max(np.ceil(edges[1:] - 1e-9).astype(np.int64) - first))
    at = first[:, None] + np.arange(count)
    cover = np.minimum(at + 1, edges[1:, None]) - np.maximum(at, edges[:-1, None])
    cover = np.where(at < before, np.maximum(0, cover), 0)
    return first, np.ascontiguousarray(cover / cover.sum(axis=1, keepdims=True), np.float32)


def shrunk(pixels: npt.NDArray[np.uint8], table: Floats, width: int, height: int) -> Codes:
    """Opaque pixels (h, w, 3) of 8 bits as codes of their light, uint16 (height, width, 3); no larger than they are.

    table: linear light of each code value in [0, 1], float32 (256,).
    """
    none = np.empty((0, 0), np.uint8)
    planes = Planes(none, none, none, pixels.shape[1], pixels.shape[0], 0, 0, np.zeros(6, np.float32), 0.0)
    return _smaller(pixels, planes, table, width, height)


def shrunk_planes(planes: Planes, table: Floats, width: int, height: int) -> Codes:
    """A frame in planes as codes of its light, uint16 (height, width, 3); no larger than it is.

    table: linear light of `FINE_LEVELS` even levels of code in [0, 1].
    """
    return _smaller(np.empty((0, 0, 3), np.uint8), planes, table, width, height)


@kernel_lock
def _smaller(pixels: npt.NDArray[np.uint8], planes: Planes, table: Floats, width: int, height: int) -> Codes:
    out = np.empty((height, width, 3), np.uint16)
    rows, tall = _shares(planes.height, height)
    columns, wide = _shares(planes.width, width)
    _shrink(
        pixels, planes.luma, planes.blue, planes.red, planes.width, planes.across, planes.down, planes.to_rgb, planes.middle,
        table, rows, tall, columns.astype(np.uint32), wide, out,
    )  # fmt: skip
    return out
