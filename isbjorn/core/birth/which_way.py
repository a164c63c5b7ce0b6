"""Directions of leaving: uniform on an arc (flat) or on a spherical cap (in depth) of the given full angle."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from isbjorn.core.life.draws import FAN_A, FAN_B, draw01


@njit("UniTuple(f8,3)(f8, f8, b1, u8, i8)", cache=True)
def leave_along(
    direction_deg: float, spread_deg: float, in_depth: bool, key: np.uint64, birth: int
) -> tuple[float, float, float]:
    """A unit vector within a full angle of `spread_deg` around `direction_deg` in the picture plane.

    In depth, cos θ is uniform in [cos(spread/2), 1], which is even over the cap (Archimedes' hat-box theorem).
    """
    axis = math.radians(direction_deg)
    u = draw01(key, birth, FAN_A)
    if not in_depth:
        angle = axis + (u - 0.5) * math.radians(spread_deg)
        return math.cos(angle), math.sin(angle), 0.0
    cos_theta = 1.0 - u * (1.0 - math.cos(math.radians(spread_deg) / 2))
    sin_theta = math.sqrt(max(0.0, 1.0 - cos_theta * cos_theta))
    phi = 2 * math.pi * draw01(key, birth, FAN_B)
    side, deep = sin_theta * math.cos(phi), sin_theta * math.sin(phi)
    return (
        cos_theta * math.cos(axis) - side * math.sin(axis),
        cos_theta * math.sin(axis) + side * math.cos(axis),
        deep,
    )
