"""What is done to single pixels of a layer, in one pass over those it has: mattes hide them, they are graded, tinted, blended.

A row of the layer is taken, worked on step by step while it is near at hand, and composited; nothing else as large as a picture is
written. Light is linear, premultiplied float32 (height, width, 4).
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numba import b1, f4, i8, prange, void

from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.colour import BLUE, GAMMA, GREEN, RED
from isbjorn.core.document.fields.curves import Curve
from isbjorn.core.evaluate import curves
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.records import Records, make_record, record, records
from isbjorn.core.render.raster.blends import MODES, put
from isbjorn.core.runtime.memory import cached
from isbjorn.core.runtime.parallel import kernel_lock

# A step: what it is, and the numbers of its kind. tone: the number of its table, -1 for none.
PIXEL_STEP = record(
    kind=1, opacity=1, gain=1, saturation=1, tone=1, amount=1, dark=3, light=3,
)  # fmt: skip
_GRADE, _TINT = range(2)
# A tone is a table over light, even in the exponent: 256 parts an octave, from 2^-24 to 2^16. A part is straight within 2e-6 of
# its light for a contrast of 2.
_PARTS_BITS, _LEAST, _OCTAVES = 8, -24, 40
_ENTRIES = _OCTAVES << _PARTS_BITS
_FIRST = (127 + _LEAST) << _PARTS_BITS
_REST_BITS = 23 - _PARTS_BITS
_GREY = 0.18
_CONTRACT = {"contract"}
_NOWHERE: Floats = np.zeros((0, 0), np.float32)
_NO_STEPS: Records = np.zeros(0, PIXEL_STEP)
_NO_TONES: Floats = np.zeros((0, 1), np.float32)


def graded(opacity: float, stops: float, saturation: float) -> Records:
    """A step that takes a layer down to `opacity`, brings it up by `stops`, and its colours away from grey."""
    return _step(kind=_GRADE, opacity=opacity, gain=2.0**stops, saturation=saturation)


def tinted(amount: float, dark: Doubles, light: Doubles) -> Records:
    """A step towards a ramp between two linear colours by how bright each pixel is for its cover."""
    return _step(kind=_TINT, amount=amount, dark=dark, light=light)


def _step(**given: float | Doubles) -> Records:
    plain = {name: np.zeros(PIXEL_STEP[name].shape) for name in PIXEL_STEP.names or ()} | {"tone": -1.0}
    return make_record(PIXEL_STEP, **(plain | given))


@cached("tables", "Tables of tones", "the contrast and the curve", 0.1)
def tone_of(contrast: float, curve: Curve | None) -> Floats:
    """Light after a contrast about middle grey and a tone curve of encoded values, (entries + 2,): of 0, then of each entry."""
    steps = np.arange(_ENTRIES + 1)
    light = np.exp2(_LEAST + (steps >> _PARTS_BITS)) * (1 + (steps & ((1 << _PARTS_BITS) - 1)) / (1 << _PARTS_BITS))
    light = np.concatenate([[0.0], light])
    if contrast != 1:
        light = _GREY * np.power(light / _GREY, contrast)
    if curve is not None:
        table = np.maximum(curves.table(curve).astype(np.float64), 0)
        seen = np.minimum(light, 1) ** (1 / GAMMA)
        light = np.interp(seen, np.linspace(0, 1, len(table)), table) ** GAMMA * np.maximum(light, 1)
    return light.astype(np.float32)


@dataclass(frozen=True)
class Pixels:
    """Work on single pixels. kept: how much mattes leave of each pixel of the picture, (height, width). steps (k,), in their order;
    tones: their tables, (t, entries + 2)."""

    kept: Floats = field(default_factory=lambda: _NOWHERE)
    steps: Records = field(default_factory=lambda: _NO_STEPS)
    tones: Floats = field(default_factory=lambda: _NO_TONES)

    @property
    def idle(self) -> bool:
        """Whether there is nothing to do."""
        return len(self.steps) == 0 and self.kept.size == 0


# A step, and its tone if it has one.
PixelStep = tuple[Records, Floats | None]


def pixels_of(steps: list[PixelStep], kept: Floats | None = None) -> Pixels:
    """Steps and what mattes leave, made ready."""
    rows: list[Records] = []
    tones: list[Floats] = []
    for step, tone in steps:
        row = step.copy()
        if tone is not None:
            row["tone"] = len(tones)
            tones.append(tone)
        rows.append(row)
    return Pixels(
        _NOWHERE if kept is None else kept,
        np.concatenate(rows) if rows else _NO_STEPS,
        np.stack(tones) if tones else _NO_TONES,
    )


@dataclass(frozen=True)
class LayerPiece:
    """A part of a layer, and the operations that are still due on its pixels: (top, left, bottom, right) of the layer, whose top
    left corner is at a place of the picture."""

    layer: Floats
    part: tuple[int, int, int, int]
    left: int = 0
    top: int = 0
    pixels: Pixels = field(default_factory=Pixels)

    def done(self) -> LayerPiece:
        """The part alone, with the work done."""
        top, left, bottom, right = self.part
        if self.pixels.idle and (bottom - top, right - left) == self.layer.shape[:2]:
            return self
        out = np.empty((bottom - top, right - left, 4), np.float32)
        _work(self.layer, top, left, self.pixels.kept, self.top, self.left, self.pixels.steps, self.pixels.tones, out)
        return whole(out, self.left + left, self.top + top)


def whole(layer: Floats, left: int = 0, top: int = 0) -> LayerPiece:
    """All of a layer."""
    return LayerPiece(layer, (0, 0, *layer.shape[:2]), left, top)


@inline_kernel(void(f4[::1], records(PIXEL_STEP), i8, f4[:, ::1]), cache=True, fastmath=_CONTRACT, error_model="numpy")
def _grade_row(row: Floats, steps: Records, k: int, tones: Floats) -> None:
    opacity, gain = np.float32(steps[k].opacity), np.float32(steps[k].gain)
    saturation, number = np.float32(steps[k].saturation), int(steps[k].tone)
    one, nothing, hair = np.float32(1), np.float32(0), np.float32(1e-6)
    lightened = opacity * gain
    for x in range(np.uint32(len(row) // 4)):
        at = np.uint32(4) * x
        row[at] *= lightened
        row[at + np.uint32(1)] *= lightened
        row[at + np.uint32(2)] *= lightened
        row[at + np.uint32(3)] = min(one, row[at + np.uint32(3)] * opacity)
    if saturation != one:
        for x in range(np.uint32(len(row) // 4)):
            at = np.uint32(4) * x
            red, green, blue = row[at], row[at + np.uint32(1)], row[at + np.uint32(2)]
            grey = RED * red + GREEN * green + BLUE * blue
            row[at] = max(nothing, grey + (red - grey) * saturation)
            row[at + np.uint32(1)] = max(nothing, grey + (green - grey) * saturation)
            row[at + np.uint32(2)] = max(nothing, grey + (blue - grey) * saturation)
    if number < 0:
        return
    tone = tones[number]
    bits = row.view(np.uint32)
    below, darkest = np.float32(2.0**-_LEAST), np.float32(tone[1] - tone[0])
    for x in range(np.uint32(len(row) // 4)):
        at = np.uint32(4) * x
        cover = row[at + np.uint32(3)]
        straight = one / cover if cover > hair else one
        back = cover if cover > hair else one
        for c in range(np.uint32(3)):
            light = max(nothing, row[at + c] * straight)
            row[at + c] = light
            code = int(bits[at + c])
            entry = (code >> _REST_BITS) - _FIRST
            if entry >= _ENTRIES:
                entry = _ENTRIES - 1
            if entry < 0:
                row[at + c] = back * (tone[0] + darkest * light * below)
            else:
                first = tone[entry + 1]
                part = np.float32(code - ((entry + _FIRST) << _REST_BITS)) * np.float32(1.0 / (1 << _REST_BITS))
                row[at + c] = back * (first + part * (tone[entry + 2] - first))


@inline_kernel(void(f4[::1], records(PIXEL_STEP), i8), cache=True, fastmath=_CONTRACT, error_model="numpy")
def _tint_row(row: Floats, steps: Records, k: int) -> None:
    amount, dark, light = np.float32(steps[k].amount), steps[k].dark, steps[k].light
    one, nothing, hair = np.float32(1), np.float32(0), np.float32(1e-9)
    darks = (np.float32(dark[0]), np.float32(dark[1]), np.float32(dark[2]))
    lights = (np.float32(light[0]), np.float32(light[1]), np.float32(light[2]))
    for x in range(np.uint32(len(row) // 4)):
        at = np.uint32(4) * x
        red, green, blue, alpha = row[at], row[at + np.uint32(1)], row[at + np.uint32(2)], row[at + np.uint32(3)]
        cover = max(alpha, min(one, max(nothing, max(red, max(green, blue)))))
        grey = RED * red + GREEN * green + BLUE * blue
        share = grey / cover if cover > hair else nothing
        # Additive light has no cover to be dark on: its shades begin at nothing.
        first, second, third = darks[0] * alpha, darks[1] * alpha, darks[2] * alpha
        row[at] = red + amount * (first + (lights[0] * cover - first) * share - red)
        row[at + np.uint32(1)] = green + amount * (second + (lights[1] * cover - second) * share - green)
        row[at + np.uint32(2)] = blue + amount * (third + (lights[2] * cover - third) * share - blue)


@inline_kernel(void(f4[::1], i8, i8, i8, f4[:, ::1], records(PIXEL_STEP), f4[:, ::1]), cache=True)
def _work_row(row: Floats, width: int, y: int, x: int, kept: Floats, steps: Records, tones: Floats) -> None:
    """Process a row of pixels, the first of which is at x, y of the picture."""
    if kept.size:
        shares = kept[y, x : x + width]
        for i in range(np.uint32(width)):
            at, share = np.uint32(4) * np.uint32(i), shares[i]
            for c in range(np.uint32(4)):
                row[at + c] *= share
    for k in range(len(steps)):
        if steps[k].kind == _GRADE:
            _grade_row(row, steps, k, tones)
        else:
            _tint_row(row, steps, k)


@njit(
    void(f4[:, :, ::1], i8, i8, f4[:, ::1], i8, i8, records(PIXEL_STEP), f4[:, ::1], f4[:, :, ::1]),
    parallel=True,
    cache=True,
)
def _work_all(
    layer: Floats, top: int, left: int, kept: Floats, y0: int, x0: int, steps: Records, tones: Floats, out: Floats
) -> None:
    width = out.shape[1]
    for y in prange(out.shape[0]):
        row = out[y].reshape(-1)
        row[:] = layer[top + y, left : left + width].reshape(-1)
        _work_row(row, width, y0 + top + y, x0 + left, kept, steps, tones)


@inline_kernel("void(f4[::1], f4[::1], f4)", cache=True, fastmath={"contract", "nnan", "ninf", "nsz"})
def _over_row(row: Floats, below: Floats, covers: float) -> None:
    for x in range(np.uint32(len(row) // 4)):
        at = np.uint32(4) * x
        alpha = covers * row[at + np.uint32(3)]
        keep = np.float32(1) - alpha
        below[at] = below[at] * keep + row[at]
        below[at + np.uint32(1)] = below[at + np.uint32(1)] * keep + row[at + np.uint32(1)]
        below[at + np.uint32(2)] = below[at + np.uint32(2)] * keep + row[at + np.uint32(2)]
        below[at + np.uint32(3)] = below[at + np.uint32(3)] * keep + alpha


@njit(
    void(f4[:, :, ::1], i8[::1], f4[:, ::1], i8, i8, records(PIXEL_STEP), f4[:, ::1], f4[:, :, ::1], i8, b1),
    parallel=True, cache=True,
)  # fmt: skip
def _lay(
    layer: Floats, part: Longs, kept: Floats, y0: int, x0: int, steps: Records, tones: Floats, onto: Floats, mode: int, light: bool
) -> None:  # fmt: skip
    top, left, width = part[0], part[1], part[3] - part[1]
    works = len(steps) > 0 or kept.size > 0
    for y in prange(part[2] - part[0]):
        row = layer[top + y, left : left + width].reshape(-1)
        if works:
            row = row.copy()
            _work_row(row, width, y0 + top + y, x0 + left, kept, steps, tones)
        if mode == 0:
            below = onto[y0 + top + y, x0 + left : x0 + left + width].reshape(-1)
            _over_row(row, below, 0.0 if light else 1.0)
        else:
            for x in range(width):
                put(onto, y0 + top + y, x0 + left + x, row[4 * x], row[4 * x + 1], row[4 * x + 2], row[4 * x + 3], mode)


_work = kernel_lock(_work_all)
_lay_guarded = kernel_lock(_lay)


def lay_piece(piece: LayerPiece, onto: Floats, blend: str = "normal") -> None:
    """Work on a piece of a layer and blend it onto a picture (h, w, 4), in place, all in one pass."""
    pixels = piece.pixels
    _lay_guarded(
        piece.layer, np.array(piece.part, np.int64), pixels.kept, piece.top, piece.left, pixels.steps, pixels.tones, onto,
        MODES[blend], blend == "add",
    )  # fmt: skip


def lay(layer: Floats, onto: Floats, blend: str = "normal") -> None:
    """Blend a layer (h, w, 4) onto another of its size, in place."""
    lay_piece(whole(layer), onto, blend)


@inline_kernel("f4(f4[::1], u4)", cache=True, forceinline=True)
def _cover_at(row: Floats, at: np.uint32) -> np.float32:
    """How much the pixel at a place of a row covers or lights, in [0, 1]."""
    grey = RED * row[at] + GREEN * row[at + np.uint32(1)] + BLUE * row[at + np.uint32(2)]
    return min(np.float32(1), max(np.float32(0), max(row[at + np.uint32(3)], grey)))


@njit("void(f4[:,:,::1], b1, f4[:,:,::1])", parallel=True, cache=True, fastmath=_CONTRACT)
def _hold(layer: Floats, cut: bool, below: Floats) -> None:
    for y in prange(layer.shape[0]):
        row, kept = layer[y].reshape(-1), below[y].reshape(-1)
        for x in range(np.uint32(layer.shape[1])):
            at = np.uint32(4) * x
            cover = _cover_at(row, at)
            share = np.float32(1) - cover if cut else cover
            for c in range(np.uint32(4)):
                kept[at + c] *= share


@kernel_lock
def hold(layer: Floats, below: Floats, cut: bool) -> None:
    """Keep the part of the layers below that a layer covers or lights; cut: the part that it does not. Both (h, w, 4)."""
    _hold(layer, cut, below)


@njit("void(f4[:,:,::1], i8, i8, f4[:,::1])", parallel=True, cache=True, fastmath=_CONTRACT)
def _cover(layer: Floats, left: int, top: int, out: Floats) -> None:
    for y in prange(out.shape[0]):
        row = layer[top + y, left : left + out.shape[1]].reshape(-1)
        for x in range(np.uint32(out.shape[1])):
            out[y, x] = _cover_at(row, np.uint32(4) * x)


@kernel_lock
def cover_of(layer: Floats, left: int, top: int, right: int, bottom: int) -> Floats:
    """How much each pixel of a part of a layer covers or lights, in [0, 1], (bottom - top, right - left)."""
    out = np.empty((bottom - top, right - left), np.float32)
    _cover(layer, left, top, out)
    return out


@njit("void(f4[:,:,::1], f4[:,::1], i8, i8, i8, i8)", parallel=True, cache=True)
def _fade(layer: Floats, matte: Floats, left: int, top: int, right: int, bottom: int) -> None:
    for y in prange(top, bottom):
        for x in range(left, right):
            hidden = matte[y, x]
            if hidden > 0:
                for c in range(4):
                    layer[y, x, c] *= np.float32(1) - hidden


_fade_guarded = kernel_lock(_fade)


def fade(layer: Floats, matte: Floats, box: tuple[int, int, int, int]) -> None:
    """Hide a part (left, top, right, bottom) of a layer (height, width, 4), in place, as far as a matte is full there."""
    _fade_guarded(layer, np.ascontiguousarray(matte, np.float32), *box)
