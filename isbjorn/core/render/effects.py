"""What is done to a drawn layer, step by step. One function a kind, one `Engine`, which the registry names.

Layers are linear, premultiplied float32 (height, width, 4); lengths come in px of the shot and are scaled to the picture's.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numba import njit, prange

from isbjorn.core.arrays import Floats
from isbjorn.core.colour import GAMMA, LUMA, decoded, encoded
from isbjorn.core.document import Blur, DirectionalBlur, Glow, Grade, Grain, Number, Sharpen, Tint
from isbjorn.core.document.kinds import STEPS
from isbjorn.core.evaluate import curves
from isbjorn.core.evaluate.gradients import hex_to_linear
from isbjorn.core.random import mix
from isbjorn.core.render.blur import blur
from isbjorn.core.runtime.parallel import guarded

_GLOWS = ((0.35, 0.45), (1.0, 0.35), (2.6, 0.2))
_COARSEST = 2.5
_GREY = 0.18


@dataclass(frozen=True)
class Moment:
    """When and how large: read gives a number at the moment, scale pixels per px of the shot, frame the number of the frame."""

    read: Callable[[Number], float]
    scale: float
    frame: int


def _blur(step: Blur, layer: Floats, at: Moment) -> Floats:
    return blur(layer, at.read(step.sigma) * at.scale)


def _directional(step: DirectionalBlur, layer: Floats, at: Moment) -> Floats:
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


@njit("void(f4[:,:,::1], f4, f4[::1], i8, f4[:,:,::1])", parallel=True, cache=True, error_model="numpy")
def _bright(layer: Floats, above: float, colour: Floats, fine: int, out: Floats) -> None:
    """What is brighter than `above`, in the mean of squares of `fine` pixels; what lies beyond the layer is as what lies within."""
    height, width = layer.shape[0], layer.shape[1]
    nothing, hair = np.float32(0), np.float32(1e-9)
    for y in prange(out.shape[0]):
        low, high = y * fine, min(height, (y + 1) * fine)
        for x in range(out.shape[1]):
            left, right = x * fine, min(width, (x + 1) * fine)
            red, green, blue = nothing, nothing, nothing
            for j in range(low, high):
                for i in range(left, right):
                    peak = max(layer[j, i, 0], max(layer[j, i, 1], layer[j, i, 2]))
                    if peak > above and peak > hair:
                        share = (peak - above) / peak
                        red += layer[j, i, 0] * share
                        green += layer[j, i, 1] * share
                        blue += layer[j, i, 2] * share
            part = np.float32(1) / np.float32((high - low) * (right - left))
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = (
                red * part * colour[0],
                green * part * colour[1],
                blue * part * colour[2],
            )


@njit("void(f4[:,:,::1], f4[:,:,::1], f8, f4[:,:,::1])", parallel=True, cache=True)
def _lit(layer: Floats, light: Floats, amount: float, out: Floats) -> None:
    for y in prange(layer.shape[0]):
        for x in range(layer.shape[1]):
            for c in range(3):
                out[y, x, c] = layer[y, x, c] + amount * light[y, x, c]
            out[y, x, 3] = layer[y, x, 3]


_brighten: Callable[..., None] = guarded(_bright)
_light: Callable[..., None] = guarded(_lit)


def glow_of(layer: Floats, radius: float, above: float, colour: str) -> Floats:
    """The light that spreads from what is brighter than `above`, (height, width, 3): three blurs, the widest the faintest."""
    height, width = layer.shape[:2]
    # What is blurred so far needs no finer picture; halving it adds a quarter of a pixel squared each time.
    least = radius * _GLOWS[0][0]
    fine = 2 ** max(0, math.floor(math.log2(max(1.0, least / _COARSEST))))
    if min(height, width) < 8 * fine:
        fine = 1
    source = np.empty((-(-height // fine), -(-width // fine), 3), np.float32)
    light = np.ascontiguousarray(hex_to_linear(colour), np.float32)
    _brighten(np.ascontiguousarray(layer), np.float32(above), light, fine, source)
    total = np.zeros_like(source)
    for times, weight in _GLOWS:
        total = np.asarray(cv2.scaleAdd(blur(source, radius * times / fine), weight, total), np.float32)
    if fine > 1:
        whole = cv2.resize(total, (total.shape[1] * fine, total.shape[0] * fine), interpolation=cv2.INTER_LINEAR)
        total = np.ascontiguousarray(whole[:height, :width], np.float32)
    return total


def _glow(step: Glow, layer: Floats, at: Moment) -> Floats:
    radius, amount = at.read(step.radius) * at.scale, at.read(step.amount) / 100
    if amount <= 0:
        return layer
    light = glow_of(layer, radius, at.read(step.above) / 100, step.colour)
    found = np.empty_like(layer)
    _light(np.ascontiguousarray(layer), light, amount, found)
    return found


def _tint(step: Tint, layer: Floats, at: Moment) -> Floats:
    amount = np.float32(at.read(step.amount) / 100)
    cover = np.maximum(layer[..., 3:], layer[..., :3].max(axis=2, keepdims=True).clip(0, 1))
    grey = layer[..., :3] @ LUMA
    share = np.divide(grey[..., None], cover, out=np.zeros_like(cover), where=cover > 1e-9)
    dark, light = (hex_to_linear(c).astype(np.float32) for c in (step.dark, step.light))
    found = layer.copy()
    # Additive light has no cover to be dark on: its shades begin at nothing.
    ground = dark * layer[..., 3:]
    toned = ground + (light * cover - ground) * share
    found[..., :3] += amount * (toned - layer[..., :3])
    return found


def _grade(step: Grade, layer: Floats, at: Moment) -> Floats:
    found = layer * np.float32(at.read(step.opacity) / 100)
    np.minimum(found[..., 3], 1, out=found[..., 3])
    found[..., :3] *= np.float32(2.0 ** at.read(step.exposure))
    saturation, contrast = at.read(step.saturation) / 100, at.read(step.contrast) / 100
    if saturation != 1:
        grey = (found[..., :3] @ LUMA)[..., None]
        found[..., :3] = np.maximum(0, grey + (found[..., :3] - grey) * np.float32(saturation))
    if contrast != 1 or step.curve is not None:
        cover = np.maximum(found[..., 3:], 1e-6)
        lit = found[..., 3:] > 1e-6
        straight = np.where(lit, found[..., :3] / cover, found[..., :3])
        if contrast != 1:
            straight = _GREY * np.power(np.maximum(straight, 0) / _GREY, np.float32(contrast))
        if step.curve is not None:
            table = np.maximum(curves.table(step.curve).astype(np.float64), 0)
            seen = np.minimum(straight, 1) ** (1 / GAMMA)
            shaped = np.interp(seen, np.linspace(0, 1, len(table)), table) ** GAMMA
            straight = shaped * np.maximum(straight, 1)
        found[..., :3] = np.where(lit, straight * cover, straight)
    return np.asarray(found, np.float32)


def _sharpen(step: Sharpen, layer: Floats, at: Moment) -> Floats:
    amount = np.float32(at.read(step.amount) / 100)
    found = np.maximum(0, layer + amount * (layer - blur(layer, at.read(step.radius) * at.scale)))
    # What is lifted out of an edge is light, not more cover than there can be.
    np.minimum(found[..., 3], np.maximum(1, layer[..., 3]), out=found[..., 3])
    return np.asarray(found, np.float32)


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


_noisy: Callable[..., None] = guarded(_noise)


def _grain(step: Grain, layer: Floats, at: Moment) -> Floats:
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
    found = layer.copy()
    cover = np.maximum(layer[..., 3:], np.minimum(1, layer[..., :3].max(axis=2, keepdims=True)))
    straight = np.divide(layer[..., :3], cover, out=np.zeros_like(layer[..., :3]), where=cover > 1e-6)
    seen = np.asarray(encoded(straight) + np.float32(amount) * each, np.float32)
    found[..., :3] = decoded(seen) * cover
    return found


def _whole(*_: Any) -> float:
    return math.inf


@dataclass(frozen=True)
class Engine:
    """A step: what it makes of a layer, and how far in pixels it carries light (infinitely: it hangs on the whole picture)."""

    made: Callable[[Any, Floats, Moment], Floats]
    reach: Callable[[Any, Moment], float] = _whole


BLUR = Engine(_blur, lambda step, at: 4 * at.read(step.sigma) * at.scale)
DIRECTIONAL = Engine(_directional, lambda step, at: at.read(step.length) * at.scale)
GLOW = Engine(_glow, lambda step, at: 4 * _GLOWS[-1][0] * at.read(step.radius) * at.scale)
TINT = Engine(_tint, lambda *_: 0.0)
# A tone curve may make light of nothing.
GRADE = Engine(_grade, lambda step, _: 0.0 if step.curve is None else math.inf)
SHARPEN = Engine(_sharpen, lambda step, at: 4 * at.read(step.radius) * at.scale)
GRAIN = Engine(_grain)
# Regions begin where halvings do, so that a picture is blurred alike wherever its region lies.
_ALIGNED, _FARTHEST = 64, 400.0


def _engine(step: Any) -> Engine:
    made: Engine = STEPS.of(step).made
    return made


def reach_of(step: Any, at: Moment) -> float:
    """How far a step carries light, in pixels; infinitely, if it hangs on the whole picture."""
    return float(_engine(step).reach(step, at))


def region(
    lit: tuple[int, int, int, int], steps: tuple[Any, ...], at: Moment, width: int, height: int
) -> tuple[int, int, int, int]:
    """The part of a layer that its steps can change, given where it has anything: left, top, right, bottom."""
    working_steps = [step for step in steps if step.on]
    reach = sum(reach_of(step, at) for step in working_steps)
    if reach > _FARTHEST:
        return 0, 0, width, height
    far = math.ceil(reach) + 2
    left, top = (max(0, (end - far) // _ALIGNED * _ALIGNED) for end in lit[:2])
    right, bottom = (
        min(most, -(-(end + far) // _ALIGNED) * _ALIGNED) for end, most in zip(lit[2:], (width, height), strict=True)
    )
    return left, top, right, bottom


def finished(layer: Floats, steps: tuple[Any, ...], at: Moment) -> Floats:
    """A layer after the steps that are on, in their order."""
    for step in steps:
        if step.on:
            layer = _engine(step).made(step, layer, at)
    return np.ascontiguousarray(layer, np.float32)


def working(steps: tuple[Any, ...]) -> bool:
    """Whether any step is on."""
    return any(step.on for step in steps)
