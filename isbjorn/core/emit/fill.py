"""Bursts that fill a shape: as many births as cover a share of it with bodies of the sizes that are drawn."""

from __future__ import annotations

import math

import numpy as np

from isbjorn.core.document import Burst, Emitter
from isbjorn.core.emit.shapes import measure
from isbjorn.core.emit.shapes.base import ShapeSetting
from isbjorn.core.evaluate.readings import Readings

MOST = 1_000_000
# What a body fills of a line, of a plane and of space, by its diameter.
_BODY = {1: 1.0, 2: math.pi / 4, 3: math.pi / 6}


def mean_power(emitter: Emitter, value: float, power: int) -> float:
    """The mean of a power of the diameters that are drawn around a value in px."""
    draw = np.linspace(-1, 1, 2001)
    # The bell has a deviation of a half, and ends at two.
    weight = np.exp(-2 * draw**2) if emitter.size.spread_shape == "bell" else np.ones_like(draw)
    drawn = np.maximum(0, value + emitter.size.spread * draw) ** power
    return float((drawn * weight).sum() / weight.sum())


def count_of(emitter: Emitter, burst: Burst, readings: Readings) -> int:
    """Births of one burst."""
    if burst.fill <= 0:
        return burst.count
    at = np.array([burst.at_s + emitter.delay_s])
    there = measure(emitter.shape, ShapeSetting(at, readings))
    if there is None:
        return burst.count
    amount, power = there
    amount *= float(readings.frames(emitter, at).size[0]) ** power
    each = _BODY[power] * mean_power(emitter, readings.now(emitter.size, float(at[0])), power)
    if each <= 0:
        return burst.count
    return int(min(MOST, max(1, round(burst.fill / 100 * amount / each))))
