"""Where a particle's colour comes from when it is not its age, and how it differs from its neighbours'."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt
from numba import njit, prange

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.colour import GAMMA
from isbjorn.core.document import Emitter, Gradient, Number
from isbjorn.core.emit.newborn import Source
from isbjorn.core.emit.shapes.base import Light
from isbjorn.core.evaluate import gradients
from isbjorn.core.evaluate.curves import TABLE
from isbjorn.core.random import GRADIENT, HUE, LIGHTNESS, SATURATION, draws01
from isbjorn.core.runtime.parallel import guarded
from isbjorn.core.simulate.state import State


def ramp_at(ramp: Gradient, at: npt.ArrayLike, dealt: bool = False) -> Floats:
    """Linear colours (n, 3) of a gradient at places (n,) in [0, 1]. dealt: of a stepped one, by the weights of its colours."""
    if ramp.mix == "stepped":
        colours = np.array([gradients.hex_to_linear(stop.colour) for stop in ramp.colours], np.float32)
        return colours[gradients.stops_dealt(ramp, at) if dealt else gradients.stops_at(ramp, at)]
    table = gradients.table(ramp)
    x = np.clip(np.asarray(at, np.float64), 0, 1) * (TABLE - 1)
    j = np.minimum(x.astype(np.int64), TABLE - 2)
    f = (x - j)[:, None].astype(np.float32)
    return np.asarray(table[j, :3] * (1 - f) + table[j + 1, :3] * f, np.float32)


def along(e: Emitter, source: Source, state: State, t: float, length_s: float) -> Doubles:
    """Where on the gradient each particle is, by its moment of birth, at random, by its speed or by its distance."""
    match e.colour_by:
        case "birth moment":
            at = state.moments / max(length_s, 1e-9)
            return np.asarray(at - np.floor(at) if source.readings.loop_s else np.clip(at, 0, 1))
        case "random":
            return draws01(source.key, state.births, GRADIENT)
        case "speed":
            measured = np.linalg.norm(state.velocity, axis=0).astype(np.float64)
        case _:
            thing = source.readings.things.get(e.colour_of or "")
            to = np.zeros(3) if thing is None else source.readings.frames(thing, np.array([t])).place[0]
            measured = np.linalg.norm(state.place.T.astype(np.float64) - to, axis=1)
    span = e.colour_to - e.colour_from
    return np.clip((measured - e.colour_from) / (span if abs(span) > 1e-9 else 1e-9), 0, 1)


def plate_colours(light: Light | None, place: Doubles, t: Doubles) -> Doubles:
    """The plate's linear colours (n, 3) under places (n, 3) at moments (n,); black where there is none."""
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


def _drawn(number: Number, source: Source, state: State, attribute: int) -> Doubles:
    return source.read(number, state.births, state.moments, attribute)


def is_varied(e: Emitter) -> bool:
    """Whether hue, saturation or lightness are touched."""
    plain = ((e.hue, 0.0), (e.saturation, 100.0), (e.lightness, 100.0))
    return any(n.value != rest or n.spread or n.timed for n, rest in plain)


def varied(e: Emitter, source: Source, state: State, colour: npt.NDArray[np.floating]) -> Doubles:
    """Colours (n, 3) turned in hue, and changed in saturation and value, as their encoded values have them; brightness apart."""
    turned = _drawn(e.hue, source, state, HUE) / 360
    kept = _drawn(e.saturation, source, state, SATURATION) / 100
    lifted = _drawn(e.lightness, source, state, LIGHTNESS) / 100
    found = np.empty((state.count, 3))
    parts = (np.array(np.broadcast_to(x, (state.count,)), np.float64) for x in (turned, kept, lifted))
    _vary(np.ascontiguousarray(colour, np.float64), *parts, found)
    return found


@njit("f8(f8)", cache=True, inline="always")
def _encoded(linear: float) -> float:
    """IEC 61966-2-1, within [0, 1]."""
    v = min(max(linear, 0.0), 1.0)
    return v * 12.92 if v <= 0.0031308 else 1.055 * v ** (1 / 2.4) - 0.055


@njit("f8(f8, f8, f8, f8)", cache=True, inline="always")
def _channel(h: float, s: float, v: float, offset: float) -> float:
    """A channel of hue, saturation and value (Smith 1978, "Color gamut transform pairs"), as linear light."""
    k = (offset + h * 6) % 6
    e = v * (1 - s * min(max(min(k, 4 - k), 0.0), 1.0))
    return e / 12.92 if e <= 0.04045 else ((e + 0.055) / 1.055) ** 2.4


@njit("void(f8[:,::1], f8[::1], f8[::1], f8[::1], f8[:,::1])", parallel=True, cache=True, error_model="numpy")
def _vary_each(colour: Doubles, turned: Doubles, kept: Doubles, lifted: Doubles, out: Doubles) -> None:
    for i in prange(len(turned)):
        bright = max(1.0, max(colour[i, 0], max(colour[i, 1], colour[i, 2])))
        r, g, b = _encoded(colour[i, 0] / bright), _encoded(colour[i, 1] / bright), _encoded(colour[i, 2] / bright)
        high, low = max(r, max(g, b)), min(r, min(g, b))
        span = max(high - low, 1e-12)
        if high == r:
            h = (g - b) / span
        elif high == g:
            h = 2 + (b - r) / span
        else:
            h = 4 + (r - g) / span
        h = (h / 6 + turned[i]) % 1
        s = min(max((high - low) / max(high, 1e-12) * max(0.0, kept[i]), 0.0), 1.0)
        v = high * max(0.0, lifted[i])
        over = bright * max(v, 1.0) ** GAMMA
        v = min(v, 1.0)
        out[i, 0] = _channel(h, s, v, 5.0) * over
        out[i, 1] = _channel(h, s, v, 3.0) * over
        out[i, 2] = _channel(h, s, v, 1.0) * over


_vary: Callable[..., None] = guarded(_vary_each)
