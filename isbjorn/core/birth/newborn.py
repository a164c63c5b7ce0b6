"""Newborn particles: place, velocity and lifespan of births by their number."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from numba import njit

from isbjorn.core.birth.where import pack_shape, place_in_shape
from isbjorn.core.birth.which_way import leave_along
from isbjorn.core.document import Emitter, Number
from isbjorn.core.life.draws import ACROSS, DEPTH, DIRECTION, LIFESPAN, SPEED, UP, draw_around

SHORTEST_LIFE_S = 1e-3
Floats = npt.NDArray[np.float32]
Doubles = npt.NDArray[np.float64]
Births = npt.NDArray[np.int64]

_DRAWN = ("across", "up", "depth", "direction", "speed", "lifespan")


@njit("f8(f8[:,:], i8, i8, u8, i8, i8)", cache=True)
def drawn(numbers: Doubles, row: int, at: int, key: np.uint64, birth: int, attribute: int) -> float:
    """The number (value, spread, bell) at numbers[row, at:at + 3] as birth number `birth` drew it, in its unit."""
    value, spread = numbers[row, at], numbers[row, at + 1]
    if spread == 0.0:
        return value
    return value + spread * draw_around(key, birth, attribute, numbers[row, at + 2] > 0)


def pack_number(number: Number) -> Doubles:
    """A number's value, spread and shape of spread as float64 (3,)."""
    return np.array([number.value, number.spread, float(number.spread_shape == "bell")])


@dataclass(frozen=True)
class Source:
    """An emitter's settings at birth, packed for the kernels. `numbers` (6, 3) follows `_DRAWN`."""

    key: int
    shape: Doubles
    numbers: Doubles
    spread_deg: float
    in_depth: bool


def source_of(emitter: Emitter, key: int) -> Source:
    """Pack what an emitter's births need."""
    return Source(
        key=key,
        shape=pack_shape(emitter.shape),
        numbers=np.stack([pack_number(getattr(emitter, name)) for name in _DRAWN]),
        spread_deg=emitter.spread.value,
        in_depth=emitter.in_depth,
    )


@njit("f4[:](u8, f8[:,:], i8[:])", cache=True)
def _lifespans(key: np.uint64, numbers: Doubles, births: Births) -> Floats:
    out = np.empty(len(births), np.float32)
    for i in range(len(births)):
        if numbers[5, 0] == 0.0:
            out[i] = np.inf
        else:
            out[i] = max(SHORTEST_LIFE_S, drawn(numbers, 5, 0, key, births[i], LIFESPAN))
    return out


def lifespans(source: Source, births: Births) -> Floats:
    """Seconds from birth to death of births (n,), float32 (n,); infinite where life is without end."""
    return _lifespans(np.uint64(source.key), source.numbers, births)


@njit("void(u8, f8[:], f8[:,:], f8, b1, i8[:], f4[:,:], f4[:,:])", cache=True)
def _leave(
    key: np.uint64,
    shape: Doubles,
    numbers: Doubles,
    spread_deg: float,
    in_depth: bool,
    births: Births,
    place: Floats,
    velocity: Floats,
) -> None:
    for i in range(len(births)):
        k = births[i]
        x, y = place_in_shape(shape, key, k)
        place[0, i] = x + drawn(numbers, 0, 0, key, k, ACROSS)
        place[1, i] = y + drawn(numbers, 1, 0, key, k, UP)
        place[2, i] = drawn(numbers, 2, 0, key, k, DEPTH)
        direction = drawn(numbers, 3, 0, key, k, DIRECTION)
        vx, vy, vz = leave_along(direction, spread_deg, in_depth, key, k)
        speed = max(0.0, drawn(numbers, 4, 0, key, k, SPEED))
        velocity[0, i], velocity[1, i], velocity[2, i] = vx * speed, vy * speed, vz * speed


def leave(source: Source, births: Births) -> tuple[Floats, Floats]:
    """Places in px and velocities in px/s at birth, each float32 (3, n)."""
    place, velocity = np.empty((3, len(births)), np.float32), np.empty((3, len(births)), np.float32)
    _leave(
        np.uint64(source.key),
        source.shape,
        source.numbers,
        source.spread_deg,
        source.in_depth,
        births,
        place,
        velocity,
    )
    return place, velocity


def longest_life(source: Source) -> float:
    """The longest lifespan that can be drawn, in seconds."""
    value, spread, _ = source.numbers[5]
    return math.inf if value == 0 else value + spread
