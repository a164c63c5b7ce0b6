"""Where a particle's colour comes from when it is not its age, and how it differs from its neighbours'."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt
from numba import prange

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.colour import GAMMA
from isbjorn.core.document import Emitter, Gradient, Number
from isbjorn.core.emit.newborn import BirthSource, drawn
from isbjorn.core.emit.shapes.base import Light
from isbjorn.core.evaluate import gradients
from isbjorn.core.jit import inline_kernel
from isbjorn.core.random import GRADIENT, HUE, LIGHTNESS, SATURATION, draws01
from isbjorn.core.records import looked_up, value_of
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate.state import State
from isbjorn.core.simulate.strands.joints import along_strands


def tinted(ramp: Gradient, at: npt.ArrayLike, colour: Floats, dealt: bool = False) -> Floats:
    """Linear colours (n, 3) times those of a gradient at places (n,) in [0, 1]. dealt: of a stepped one, by the weights of its
    colours."""
    if ramp.mix == "stepped":
        colours = np.array([gradients.hex_to_linear(stop.colour) for stop in ramp.colours], np.float32)
        return colour * colours[gradients.stops_dealt(ramp, at) if dealt else gradients.stops_at(ramp, at)]
    out = np.empty_like(colour)
    _tint(np.ascontiguousarray(gradients.table(ramp), np.float32), np.ascontiguousarray(at, np.float64), colour, out)
    return out


@inline_kernel("void(f4[:,::1], f8[::1], f4[:,::1], f4[:,::1])", cache=True, parallel=True)
def _ramp(table: Floats, at: Doubles, colour: Floats, out: Floats) -> None:
    for i in prange(len(at)):
        x = min(max(at[i], 0.0), 1.0) * (len(table) - 1)
        j = min(int(x), len(table) - 2)
        f = np.float32(x - j)
        for c in range(3):
            out[i, c] = colour[i, c] * (table[j, c] * (np.float32(1) - f) + table[j + 1, c] * f)


_tint: Callable[..., None] = kernel_lock(_ramp)


def along(e: Emitter, source: BirthSource, state: State, t: float, length_s: float) -> Doubles:
    """Where on the gradient each particle is, by its moment of birth, at random, or by what is measured of it."""
    match e.colour_by:
        case "birth moment":
            at = state.moments / max(length_s, 1e-9)
            return np.asarray(at - np.floor(at) if source.readings.round_s else np.clip(at, 0, 1))
        case "random":
            return draws01(source.key, state.births, GRADIENT)
        case "strand":
            return np.asarray(along_strands(e, state.count), np.float64)
        case "since touch" | "since caught":
            measured = state.measured(e.colour_by, t).astype(np.float64)
        case "speed":
            measured = np.linalg.norm(state.velocity, axis=0).astype(np.float64)
        case _:
            thing = source.readings.things.get(e.colour_of or "")
            to = np.zeros(3) if thing is None else source.readings.frames(thing, np.array([t])).place[0]
            measured = np.linalg.norm(state.place.T.astype(np.float64) - to, axis=1)
    span = e.colour_to - e.colour_from
    return np.clip((measured - e.colour_from) / (span if abs(span) > 1e-9 else 1e-9), 0, 1)


def plate_colours(light: Light | None, place: Doubles, t: Doubles) -> Doubles:
    """The plate's linear colours (n, 3) under places (n, 3) at moments (n,); black where it shows nothing."""
    out = np.zeros((len(place), 3))
    if light is None:
        return out
    numbers = light.numbers(np.broadcast_to(t, (len(place),)))
    for number in np.unique(numbers):
        sheet = light.colours(int(number))
        here = numbers == number
        column = (place[here, 0] / light.width + 0.5) * sheet.shape[1]
        row = (0.5 - place[here, 1] / light.height) * sheet.shape[0]
        c = np.clip(column, 0, sheet.shape[1] - 1).astype(int)
        r = np.clip(row, 0, sheet.shape[0] - 1).astype(int)
        out[here] = sheet[r, c]
    return out


def _drawn(number: Number, source: BirthSource, state: State, attribute: int) -> Doubles:
    """A number as each has it, float64 (n,), or (1,) where all have the same."""
    if not number.timed:
        if number.spread == 0:
            return np.array([number.value])
        return drawn(number, number.value, source.key, state.births, attribute)
    return np.ascontiguousarray(source.read(number, state.births, state.moments, attribute))


def is_varied(e: Emitter) -> bool:
    """Whether hue, saturation or lightness are touched."""
    plain = ((e.hue, 0.0), (e.saturation, 100.0), (e.lightness, 100.0))
    return any(n.value != rest or n.spread or n.timed for n, rest in plain)


def varied(e: Emitter, source: BirthSource, state: State, colour: Floats) -> Floats:
    """Colours (n, 3) turned in hue, and changed in saturation and value, as their encoded values have them; brightness apart."""
    turned = _drawn(e.hue, source, state, HUE) / 360
    kept = _drawn(e.saturation, source, state, SATURATION) / 100
    lifted = _drawn(e.lightness, source, state, LIGHTNESS) / 100
    found = np.empty((state.count, 3), np.float32)
    _vary(np.ascontiguousarray(colour, np.float32), turned, kept, lifted, _ENCODED, _LINEAR, found)
    return found


# Interpolated between two of this number of steps, the curves are exact within 2e-7.
_STEPS = np.linspace(0, 1, 4097)
# Encoded values over the square root of linear light, and linear light over encoded values.
_ENCODED = gradients.linear_to_srgb(_STEPS * _STEPS).astype(np.float32)
_LINEAR = gradients.srgb_to_linear(_STEPS).astype(np.float32)
_FAST = {"contract", "nnan", "ninf", "nsz"}


@inline_kernel("f4(f4[::1], f4, f4, f4, f4)", cache=True, forceinline=True, fastmath=_FAST)
def _channel(linear: Floats, h: Any, s: Any, v: Any, offset: Any) -> Any:
    """A channel of hue, saturation and value (Smith 1978, "Color gamut transform pairs"), as linear light."""
    nothing, one, six = np.float32(0), np.float32(1), np.float32(6)
    k = offset + h * six
    k = k - six if k >= six else k
    return looked_up(linear, v * (one - s * min(max(min(k, np.float32(4) - k), nothing), one)))


@inline_kernel(
    "void(f4[:,::1], f8[::1], f8[::1], f8[::1], f4[::1], f4[::1], f4[:,::1])", parallel=True, cache=True,
    error_model="numpy", fastmath=_FAST,
)  # fmt: skip
def _vary_each(
    colour: Floats, turned: Doubles, kept: Doubles, lifted: Doubles, to: Floats, linear: Floats, out: Floats
) -> None:
    nothing, one, hair = np.float32(0), np.float32(1), np.float32(1e-12)
    for i in prange(len(colour)):
        bright = max(one, max(colour[i, 0], max(colour[i, 1], colour[i, 2])))
        r, g, b = (
            looked_up(to, np.sqrt(max(colour[i, 0], nothing) / bright)),
            looked_up(to, np.sqrt(max(colour[i, 1], nothing) / bright)),
            looked_up(to, np.sqrt(max(colour[i, 2], nothing) / bright)),
        )
        high, low = max(r, max(g, b)), min(r, min(g, b))
        span = max(high - low, hair)
        if high == r:
            h = (g - b) / span
        elif high == g:
            h = np.float32(2) + (b - r) / span
        else:
            h = np.float32(4) + (r - g) / span
        h = h / np.float32(6) + np.float32(value_of(turned, i))
        h -= np.float32(math.floor(h))
        s = min(max((high - low) / max(high, hair) * np.float32(max(0.0, value_of(kept, i))), nothing), one)
        v = high * np.float32(max(0.0, value_of(lifted, i)))
        over = bright * v ** np.float32(GAMMA) if v > one else bright
        v = min(v, one)
        out[i, 0] = _channel(linear, h, s, v, np.float32(5)) * over
        out[i, 1] = _channel(linear, h, s, v, np.float32(3)) * over
        out[i, 2] = _channel(linear, h, s, v, np.float32(1)) * over


_vary: Callable[..., None] = kernel_lock(_vary_each)
