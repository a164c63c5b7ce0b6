"""Random numbers as pure functions of (shot seed, emitter seed, birth number, attribute).

Counter-based (Salmon, Moraes, Dror, Shaw 2011, "Parallel random numbers: as easy as 1, 2, 3"): there is no
state to advance, so no draw can disturb another. The mixing is the 64-bit finaliser of Steele, Lea and Flood
2014, "Fast splittable pseudorandom number generators", with Stafford's constants ("Mix13"), applied twice.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit, types

GOLDEN = np.uint64(0x9E3779B97F4A7C15)
_MIX_A = np.uint64(0xBF58476D1CE4E5B9)
_MIX_B = np.uint64(0x94D049BB133111EB)
_S30, _S27, _S31, _S11 = np.uint64(30), np.uint64(27), np.uint64(31), np.uint64(11)
_TO_UNIT = 1.0 / 9007199254740992.0

# One number for each thing that is drawn. Appended to, never renumbered: a shot must look the same for ever.
SLOT, PLACE_A, PLACE_B, PLACE_C = 1, 2, 3, 4
DIRECTION, DIRECTION_SPREAD, FAN_A, FAN_B = 5, 6, 7, 8
SPEED, LIFESPAN, SIZE, OPACITY, BRIGHTNESS = 9, 10, 11, 12, 13
ACROSS, UP, DEPTH = 14, 15, 16
FORCE_FIRST = 1000


@njit(types.uint64(types.uint64), cache=True, inline="always")
def mix(z: np.uint64) -> np.uint64:
    """One round of the finaliser: a bijection of 64 bits."""
    z = (z ^ (z >> _S30)) * _MIX_A
    z = (z ^ (z >> _S27)) * _MIX_B
    return z ^ (z >> _S31)


@njit(types.uint64(types.uint64, types.uint64), cache=True)
def stream_key(shot_seed: np.uint64, emitter_seed: np.uint64) -> np.uint64:
    """The key of an emitter's stream, from two seeds of 64 bits."""
    return mix(mix(shot_seed + GOLDEN) ^ (emitter_seed * GOLDEN + _MIX_B))


@njit(types.float64(types.uint64, types.int64, types.int64), cache=True)
def draw01(key: np.uint64, birth: int, attribute: int) -> float:
    """A uniform draw in [0, 1) with 53 bits, for a birth number and an attribute."""
    z = mix(key + np.uint64(birth) * GOLDEN)
    z = mix(z ^ (np.uint64(attribute) * _MIX_A + GOLDEN))
    return float(z >> _S11) * _TO_UNIT


@njit(types.float64(types.uint64, types.int64, types.int64, types.boolean), cache=True)
def draw_around(key: np.uint64, birth: int, attribute: int, bell: bool) -> float:
    """A draw in [-1, 1]: uniform, or bell-shaped with a standard deviation of 0.5 (cut at ±2 deviations).

    The bell is Box and Muller's 1958 transform of two uniform draws.
    """
    u = draw01(key, birth, attribute)
    if not bell:
        return 2.0 * u - 1.0
    v = draw01(key, birth, attribute + 1_000_000)
    normal = math.sqrt(-2.0 * math.log(1.0 - u)) * math.cos(2.0 * math.pi * v)
    return min(1.0, max(-1.0, 0.5 * normal))
