"""Random numbers as pure functions of (shot seed, emitter seed, birth number, attribute).

Counter-based (Salmon, Moraes, Dror, Shaw 2011, "Parallel random numbers: as easy as 1, 2, 3"): there is no
state to advance, so no draw can disturb another. The mixing is the 64-bit finaliser of Steele, Lea and Flood
2014, "Fast splittable pseudorandom number generators", with Stafford's constants ("Mix13"), applied twice.
"""

from __future__ import annotations

import math

import numpy as np
from numba import types

from isbjorn.core.arrays import Doubles, Longs
from isbjorn.core.jit import inline_kernel, njit

GOLDEN = np.uint64(0x9E3779B97F4A7C15)
_MIX_A = np.uint64(0xBF58476D1CE4E5B9)
_MIX_B = np.uint64(0x94D049BB133111EB)
_S30, _S27, _S31, _S11 = np.uint64(30), np.uint64(27), np.uint64(31), np.uint64(11)
_TRIES = 6
_TO_UNIT = 1.0 / 9007199254740992.0

# One number for each thing that is drawn. Appended to, never renumbered: a shot must look the same for ever.
SLOT, PLACE_A, PLACE_B, PLACE_C = 1, 2, 3, 4
DIRECTION, DIRECTION_SPREAD, FAN_A, FAN_B = 5, 6, 7, 8
SPEED, LIFESPAN, SIZE, OPACITY, BRIGHTNESS = 9, 10, 11, 12, 13
ACROSS, UP, DEPTH = 14, 15, 16
TILT, MASS, ANGLE, SPIN, RED, GREEN, BLUE, BETWEEN_CURVES = 17, 18, 19, 20, 21, 22, 23, 24
SHELL, INHERIT, BURST = 25, 26, 27
BODY, VARIANT, FRAME, HUE, SATURATION, LIGHTNESS, GRADIENT, STRETCH = 28, 29, 30, 31, 32, 33, 34, 35
TURN_X, TURN_Y, SPIN_X, SPIN_Y = 36, 37, 38, 39
BORN = 40
STRAND, BOW = 41, 42
FRONT, FRONT_ORDER, MATCH = 43, 44, 45
FORCE_FIRST = 1000


@inline_kernel(types.uint64(types.uint64), cache=True, forceinline=True)
def mix(z: np.uint64) -> np.uint64:
    """One round of the finaliser: a bijection of 64 bits."""
    z = (z ^ (z >> _S30)) * _MIX_A
    z = (z ^ (z >> _S27)) * _MIX_B
    return z ^ (z >> _S31)


@inline_kernel(types.uint64(types.uint64, types.uint64), cache=True)
def stream_key(shot_seed: np.uint64, emitter_seed: np.uint64) -> np.uint64:
    """The key of an emitter's stream, from two seeds of 64 bits."""
    return mix(mix(shot_seed + GOLDEN) ^ (emitter_seed * GOLDEN + _MIX_B))


@inline_kernel(types.float64(types.uint64, types.int64, types.int64), cache=True)
def draw01(key: np.uint64, birth: int, attribute: int) -> float:
    """A uniform draw in [0, 1) with 53 bits, for a birth number and an attribute."""
    z = mix(key + np.uint64(birth) * GOLDEN)
    z = mix(z ^ (np.uint64(attribute) * _MIX_A + GOLDEN))
    return float(z >> _S11) * _TO_UNIT


@inline_kernel(types.float64(types.uint64, types.int64, types.int64, types.boolean), cache=True)
def draw_around(key: np.uint64, birth: int, attribute: int, bell: bool) -> float:
    """A draw in [-1, 1]: uniform, or bell-shaped with a standard deviation of 0.5; values beyond ±2 deviations are drawn again, so
    that they do not pile up there.

    The bell is Box and Muller's 1958 transform of two uniform draws.
    """
    u = draw01(key, birth, attribute)
    if not bell:
        return 2.0 * u - 1.0
    value = 0.0
    for again in range(_TRIES):
        if again > 0:
            u = draw01(key, birth, attribute + again * 2_000_000)
        v = draw01(key, birth, attribute + again * 2_000_000 + 1_000_000)
        value = 0.5 * math.sqrt(-2.0 * math.log(1.0 - u)) * math.cos(2.0 * math.pi * v)
        if abs(value) <= 1.0:
            return value
    return min(1.0, max(-1.0, value))


@njit("f8[::1](u8, i8[::1], i8)", cache=True)
def _draws01(key: np.uint64, births: Longs, attribute: int) -> Doubles:
    out = np.empty(len(births), np.float64)
    for i in range(len(births)):
        out[i] = draw01(key, births[i], attribute)
    return out


def draws01(key: int, births: Longs, attribute: int) -> Doubles:
    """Uniform draws in [0, 1) of births (n,), float64 (n,)."""
    return np.asarray(_draws01(np.uint64(key), np.ascontiguousarray(births), attribute))


@njit("f8[::1](u8, i8[::1], i8, b1)", cache=True)
def _draws_around(key: np.uint64, births: Longs, attribute: int, bell: bool) -> Doubles:
    out = np.empty(len(births), np.float64)
    for i in range(len(births)):
        out[i] = draw_around(key, births[i], attribute, bell)
    return out


def draws_around(key: int, births: Longs, attribute: int, bell: bool) -> Doubles:
    """Draws in [-1, 1] of births (n,), float64 (n,): uniform, or bell-shaped with a deviation of 0.5."""
    return np.asarray(_draws_around(np.uint64(key), np.ascontiguousarray(births), attribute, bell))
