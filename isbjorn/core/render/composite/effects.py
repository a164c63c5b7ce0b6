"""What is done to a drawn layer, step by step. One function a kind, one `Engine`, which the registry names.

Layers are linear, premultiplied float32 (height, width, 4); lengths come in px of the shot and are scaled to the picture's.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import cv2
import numpy as np
from numba import prange

from isbjorn.core.arrays import Floats
from isbjorn.core.colour import decoded, encoded
from isbjorn.core.document import Blur, DirectionalBlur, Glow, Grade, Grain, Number, Sharpen, Tint
from isbjorn.core.document.fields.kinds import STEPS
from isbjorn.core.evaluate.gradients import hex_to_linear
from isbjorn.core.imaging.blur import HALVED_FROM, blur, blurred_sum, continued_sum, mirrored
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.random import mix
from isbjorn.core.render.raster.pixel_pass import LayerPiece, PixelStep, graded, pixels_of, tinted, tone_of, whole
from isbjorn.core.runtime.parallel import kernel_lock

# This many rows of light are computed at a time.
_ROWS = 16
_GLOWS = ((0.35, 0.45), (1.0, 0.35), (2.6, 0.2))


@dataclass(frozen=True)
class EffectMoment:
    """When and how large: read gives a number at the moment, scale pixels per px of the shot, frame the number of the frame."""

    read: Callable[[Number], float]
    scale: float
    frame: int


def _blur(step: Blur, layer: Floats, at: EffectMoment) -> Floats:
    return blur(layer, at.read(step.sigma) * at.scale)


def _directional(step: DirectionalBlur, layer: Floats, at: EffectMoment) -> Floats:
    """The mean along a line: halves of it are laid over each other, each time twice as far apart."""
    length, turn = at.read(step.length) * at.scale, math.radians(at.read(step.angle))
    if length < 0.5:
        return layer
    times = max(1, math.ceil(math.log2(length)))
    spacing = length / 2**times
    height, width = layer.shape[:2]
    for k in range(times):
        half = 0.5 * spacing * 2**k
        dx, dy = half * math.cos(turn), -half * math.sin(turn)
        shifted = [
            cv2.warpAffine(
                layer, np.array([[1, 0, s * dx], [0, 1, s * dy]]), (width, height), flags=cv2.INTER_LINEAR,
                borderMode=cv2.BORDER_REFLECT_101,
            )
            for s in (1, -1)
        ]  # fmt: skip
        layer = np.asarray(cv2.addWeighted(shifted[0], 0.5, shifted[1], 0.5, 0), np.float32)
    return layer


_CONTRACT = {"contract"}


@inline_kernel("void(f4[::1], f4, f4[::1], f4[::1])", cache=True, fastmath=_CONTRACT, error_model="numpy")
def _bright_row(pixels: Floats, above: float, colour: Floats, light: Floats) -> None:
    """What is brighter than `above` of a row of pixels (4 n,), as light of a colour (3 n,)."""
    hair, nothing = np.float32(1e-9), np.float32(0)
    for x in range(np.uint32(len(pixels) // 4)):
        at, to = np.uint32(4) * x, np.uint32(3) * x
        red, green, blue = pixels[at], pixels[at + np.uint32(1)], pixels[at + np.uint32(2)]
        peak = max(red, max(green, blue))
        share = max(nothing, peak - above) / max(peak, hair)
        light[to] = red * share * colour[0]
        light[to + np.uint32(1)] = green * share * colour[1]
        light[to + np.uint32(2)] = blue * share * colour[2]


@inline_kernel("void(f4[::1], f4[::1], f4[::1], f4[::1], f4[::1], f4[::1])", cache=True, fastmath=_CONTRACT)
def _binomial(a: Floats, b: Floats, c: Floats, d: Floats, e: Floats, row: Floats) -> None:
    outer, inner, middle = np.float32(0.0625), np.float32(0.25), np.float32(0.375)
    for i in range(np.uint32(len(row))):
        row[i] = outer * (a[i] + e[i]) + inner * (b[i] + d[i]) + middle * c[i]


@inline_kernel("void(f4[::1], f4[::1])", cache=True, fastmath=_CONTRACT)
def _halve(row: Floats, half: Floats) -> None:
    """Every second pixel (of 3) of a row that extends by two pixels at both ends, by the binomial 1 4 6 4 1."""
    outer, inner, middle = np.float32(0.0625), np.float32(0.25), np.float32(0.375)
    for x in range(np.uint32(len(half) // 3)):
        at, to = np.uint32(6) * x, np.uint32(3) * x
        for c in range(np.uint32(3)):
            n = at + c
            half[to + c] = (
                outer * (row[n] + row[n + np.uint32(12)]) + inner * (row[n + np.uint32(3)] + row[n + np.uint32(9)])
                + middle * row[n + np.uint32(6)]
            )  # fmt: skip


@njit("void(f4[:,:,::1], f4, f4[::1], f4[:,:,::1])", parallel=True, cache=True, fastmath=_CONTRACT)
def _bright(layer: Floats, above: float, colour: Floats, out: Floats) -> None:
    """What is brighter than `above`, as large as the layer, or halved with the binomial 1 4 6 4 1."""
    height, width = layer.shape[0], layer.shape[1]
    halved = out.shape[0] != height or out.shape[1] != width
    for block in prange((out.shape[0] + _ROWS - 1) // _ROWS):
        # Rows that an output depends on, where the next may find them again.
        lit, row, there = np.empty((5, 3 * width), np.float32), np.empty(3 * width + 12, np.float32), np.full(5, -1)
        for y in range(block * _ROWS, min(out.shape[0], (block + 1) * _ROWS)):
            light = out[y].reshape(-1)
            if not halved:
                _bright_row(layer[y].reshape(-1), above, colour, light)
                continue
            for j in range(-2, 3):
                at = mirrored(2 * y + j, height)
                if there[at % 5] != at:
                    there[at % 5] = at
                    _bright_row(layer[at].reshape(-1), above, colour, lit[at % 5])
            a, b = mirrored(2 * y - 2, height) % 5, mirrored(2 * y - 1, height) % 5
            d, e = mirrored(2 * y + 1, height) % 5, mirrored(2 * y + 2, height) % 5
            _binomial(lit[a], lit[b], lit[2 * y % 5], lit[d], lit[e], row[6 : 6 + 3 * width])
            for c in range(3):
                for k in (1, 2):
                    row[6 - 3 * k + c] = row[6 + 3 * mirrored(-k, width) + c]
                    row[6 + 3 * (width - 1 + k) + c] = row[6 + 3 * mirrored(width - 1 + k, width) + c]
            _halve(row, light)


@njit("void(f4[:,:,::1], f4[:,:,::1], f4, f4[:,:,::1])", parallel=True, cache=True, fastmath=_CONTRACT)
def _lit(layer: Floats, light: Floats, amount: float, out: Floats) -> None:
    """A layer with a light of its size added."""
    for y in prange(layer.shape[0]):
        below, more, sum_ = layer[y].reshape(-1), light[y].reshape(-1), out[y].reshape(-1)
        for x in range(np.uint32(layer.shape[1])):
            at, of = np.uint32(4) * x, np.uint32(3) * x
            for c in range(np.uint32(3)):
                sum_[at + c] = below[at + c] + amount * more[of + c]
            sum_[at + np.uint32(3)] = below[at + np.uint32(3)]


@njit("void(f4[:,:,::1], f4[:,:,::1], f4, f4[:,:,::1])", parallel=True, cache=True, fastmath=_CONTRACT)
def _lit_by_half(layer: Floats, half: Floats, amount: float, out: Floats) -> None:
    """A layer with a light added that was halved with the binomial 1 4 6 4 1, and is doubled with the same. The light may go on
    beyond its ends; where it does not, it is mirrored as the layer is."""
    height, width = layer.shape[0], layer.shape[1]
    rows, columns = (height + 1) // 2, (width + 1) // 2
    most, side, even = np.float32(0.75) * amount, np.float32(0.125) * amount, np.float32(0.5) * amount
    for y in prange(height):
        k = y // 2
        after = k + 1 if half.shape[0] > rows else mirrored(2 * k + 2, height) // 2
        before = mirrored(2 * k - 2, height) // 2
        above, here, below = half[before].reshape(-1), half[k].reshape(-1), half[after].reshape(-1)
        # A row of the light, with a pixel more at both ends.
        count = np.uint32(3 * min(columns + 1, half.shape[1]))
        row = np.empty(3 * (columns + 2), np.float32)
        own = row[3:]
        if y % 2 == 0:
            for i in range(count):
                own[i] = np.float32(0.75) * here[i] + np.float32(0.125) * (above[i] + below[i])
        else:
            for i in range(count):
                own[i] = np.float32(0.5) * (here[i] + below[i])
        for c in range(3):
            row[c] = own[3 * (mirrored(-2, width) // 2) + c]
            if half.shape[1] == columns:
                own[3 * columns + c] = own[3 * (mirrored(2 * columns, width) // 2) + c]
        layered, sum_ = layer[y].reshape(-1), out[y].reshape(-1)
        for x in range(np.uint32(width // 2)):
            at, of = np.uint32(8) * x, np.uint32(3) * x
            for c in range(np.uint32(3)):
                left, middle, right = row[of + c], row[of + c + np.uint32(3)], row[of + c + np.uint32(6)]
                sum_[at + c] = layered[at + c] + most * middle + side * (left + right)
                sum_[at + c + np.uint32(4)] = layered[at + c + np.uint32(4)] + even * (middle + right)
            sum_[at + np.uint32(3)] = layered[at + np.uint32(3)]
            sum_[at + np.uint32(7)] = layered[at + np.uint32(7)]
        if width % 2:
            at, of = 4 * (width - 1), 3 * (width // 2)
            for c in range(3):
                sum_[at + c] = layered[at + c] + most * row[of + c + 3] + side * (row[of + c] + row[of + c + 6])
            sum_[at + 3] = layered[at + 3]


_brighten: Callable[..., None] = kernel_lock(_bright)
_light: Callable[..., None] = kernel_lock(_lit)
_light_by_half: Callable[..., None] = kernel_lock(_lit_by_half)


def _glowing(layer: Floats, radius: float, above: float, colour: str, amount: float) -> Floats:
    """A layer with the light that spreads from what is brighter than `above`: three blurs, the widest the faintest."""
    height, width = layer.shape[:2]
    sizes = tuple((radius * times, weight) for times, weight in _GLOWS)
    wide = tuple((sigma, weight) for sigma, weight in sizes if sigma >= HALVED_FROM and min(height, width) >= 8)
    narrow = tuple(part for part in sizes if part not in wide)
    source = np.empty((height, width, 3) if narrow else (-(-height // 2), -(-width // 2), 3), np.float32)
    layer = np.ascontiguousarray(layer)
    _brighten(layer, np.float32(above), np.ascontiguousarray(hex_to_linear(colour), np.float32), source)
    if wide:
        half = np.asarray(cv2.pyrDown(source, borderType=cv2.BORDER_REFLECT_101), np.float32) if narrow else source
        # Halving and doubling each add a variance of 1.
        left = tuple((math.sqrt(sigma * sigma - 2) / 2, weight) for sigma, weight in wide)
        ends = [cv2.BORDER_REFLECT_101 if side % 2 else cv2.BORDER_REFLECT for side in (width, height)]
        glowing = np.empty_like(layer)
        _light_by_half(layer, continued_sum(half, left, (ends[0], ends[1])), np.float32(amount), glowing)
        layer = glowing
    if narrow:
        glowing = np.empty_like(layer)
        _light(layer, blurred_sum(source, narrow), np.float32(amount), glowing)
        layer = glowing
    return layer


def glow_of(layer: Floats, radius: float, above: float, colour: str) -> Floats:
    """The light alone that spreads from what is brighter than `above`, (height, width, 3)."""
    return np.ascontiguousarray((_glowing(layer, radius, above, colour, 1.0) - layer)[..., :3])


def _glow(step: Glow, layer: Floats, at: EffectMoment) -> Floats:
    radius, amount = at.read(step.radius) * at.scale, at.read(step.amount) / 100
    return layer if amount <= 0 else _glowing(layer, radius, at.read(step.above) / 100, step.colour, amount)


def _tint(step: Tint, at: EffectMoment) -> PixelStep:
    return tinted(at.read(step.amount) / 100, hex_to_linear(step.dark), hex_to_linear(step.light)), None


def _grade(step: Grade, at: EffectMoment) -> PixelStep:
    contrast = at.read(step.contrast) / 100
    tone = tone_of(contrast, step.curve) if contrast != 1 or step.curve is not None else None
    return graded(at.read(step.opacity) / 100, at.read(step.exposure), at.read(step.saturation) / 100), tone


def _sharpen(step: Sharpen, layer: Floats, at: EffectMoment) -> Floats:
    amount = np.float32(at.read(step.amount) / 100)
    sharpened = np.maximum(0, layer + amount * (layer - blur(layer, at.read(step.radius) * at.scale)))
    # What is lifted out of an edge is light, not more cover than there can be.
    np.minimum(sharpened[..., 3], np.maximum(1, layer[..., 3]), out=sharpened[..., 3])
    return np.asarray(sharpened, np.float32)


@njit("void(f4[:,:,::1], u8)", parallel=True, cache=True)
def _noise(out: Floats, key: np.uint64) -> None:
    """Noise of deviation 1, about normal (the sum of four even draws), counted by pixel."""
    height, width, channels = out.shape
    for y in prange(height):
        for x in range(width):
            for c in range(channels):
                z = mix(key + np.uint64((y * width + x) * channels + c))
                total = 0.0
                for k in range(4):
                    total += float((z >> np.uint64(16 * k)) & np.uint64(0xFFFF)) / 65536.0
                out[y, x, c] = (total - 2.0) * 1.7320508


_noisy: Callable[..., None] = kernel_lock(_noise)


def _grain(step: Grain, layer: Floats, at: EffectMoment) -> Floats:
    amount, size = at.read(step.amount) / 100, max(0.3, at.read(step.size) * at.scale)
    if amount <= 0:
        return layer
    height, width = layer.shape[:2]
    rough = max(1.0, size)
    noise = np.empty((max(1, round(height / rough)), max(1, round(width / rough)), 4), np.float32)
    _noisy(noise, np.uint64((step.seed * 1_000_003 + at.frame * 7919 + 12345) & (2**63 - 1)))
    if noise.shape[:2] != (height, width):
        noise = np.asarray(cv2.resize(noise, (width, height), interpolation=cv2.INTER_CUBIC), np.float32)
    coloured = np.float32(at.read(step.coloured) / 100)
    each = noise[..., 3:] * (1 - coloured) + noise[..., :3] * coloured
    # In encoded values, as the plate's grain is measured; only where there is a layer.
    grained = layer.copy()
    cover = np.maximum(layer[..., 3:], np.minimum(1, layer[..., :3].max(axis=2, keepdims=True)))
    straight = np.divide(layer[..., :3], cover, out=np.zeros_like(layer[..., :3]), where=cover > 1e-6)
    seen = np.asarray(encoded(straight) + np.float32(amount) * each, np.float32)
    grained[..., :3] = decoded(seen) * cover
    return grained


def _whole(*_: Any) -> float:
    return math.inf


@dataclass(frozen=True)
class EffectEngine:
    """A step: the layer that it returns, and how far in pixels it carries light (infinitely: it depends on the whole picture). A
    step that works on single pixels returns in place of the layer its operation on a pixel, so that all such steps run in one pass.
    """

    made: Callable[[Any, Floats, EffectMoment], Floats] | None
    reach: Callable[[Any, EffectMoment], float] = _whole
    pixel: Callable[[Any, EffectMoment], PixelStep] | None = None
    # Whether it carries what covers a pixel to others, not light alone.
    carries_cover: bool = False


BLUR = EffectEngine(_blur, lambda step, at: 4 * at.read(step.sigma) * at.scale, carries_cover=True)
DIRECTIONAL = EffectEngine(_directional, lambda step, at: at.read(step.length) * at.scale, carries_cover=True)
GLOW = EffectEngine(_glow, lambda step, at: 4 * _GLOWS[-1][0] * at.read(step.radius) * at.scale)
TINT = EffectEngine(None, lambda *_: 0.0, _tint)
# A tone curve may make light of nothing.
GRADE = EffectEngine(None, lambda step, _: 0.0 if step.curve is None else math.inf, _grade)
SHARPEN = EffectEngine(_sharpen, lambda step, at: 4 * at.read(step.radius) * at.scale)
GRAIN = EffectEngine(_grain)
# Regions begin at multiples of the halvings, so that a blur does not depend on its region.
_ALIGNED, _FARTHEST = 64, 400.0


def _engine(step: Any) -> EffectEngine:
    made: EffectEngine = STEPS.of(step).made
    return made


def reach_of(step: Any, at: EffectMoment) -> float:
    """How far a step carries light, in pixels; infinitely, if it depends on the whole picture."""
    return float(_engine(step).reach(step, at))


def region(
    lit: tuple[int, int, int, int], steps: tuple[Any, ...], at: EffectMoment, width: int, height: int
) -> tuple[int, int, int, int]:
    """The part of a layer that its steps can change, given where it has anything: left, top, right, bottom."""
    working_steps = [step for step in steps if step.on]
    reach = sum(reach_of(step, at) for step in working_steps)
    return (0, 0, width, height) if reach > _FARTHEST else around(lit, reach, width, height)


def around(lit: tuple[int, int, int, int], reach: float, width: int, height: int) -> tuple[int, int, int, int]:
    """The part of a picture within this many px of another, and some more: left, top, right, bottom."""
    far = math.ceil(reach) + 2
    left, top = (max(0, (end - far) // _ALIGNED * _ALIGNED) for end in lit[:2])
    right, bottom = (
        min(most, -(-(end + far) // _ALIGNED) * _ALIGNED) for end, most in zip(lit[2:], (width, height), strict=True)
    )
    return left, top, right, bottom


def worked(piece: LayerPiece, steps: tuple[Any, ...], at: EffectMoment) -> LayerPiece:
    """A piece of a layer after the steps that are on, in their order; what the last of them do to single pixels is left to be done
    when it is laid."""
    run: list[PixelStep] = []
    for step in steps:
        if not step.on:
            continue
        engine = _engine(step)
        if engine.pixel is not None:
            run.append(engine.pixel(step, at))
            continue
        assert engine.made is not None
        ready = replace(piece, pixels=pixels_of(run, piece.pixels.kept)).done()
        made = np.ascontiguousarray(engine.made(step, ready.layer, at), np.float32)
        piece, run = whole(made, ready.left, ready.top), []
    return replace(piece, pixels=pixels_of(run, piece.pixels.kept)) if run else piece


def carrying(steps: tuple[Any, ...]) -> tuple[Any, ...]:
    """The steps that are on and carry what covers a pixel to others."""
    return tuple(step for step in steps if step.on and _engine(step).carries_cover)


def working(steps: tuple[Any, ...]) -> bool:
    """Whether any step is on."""
    return any(step.on for step in steps)
