"""Directions of leaving: uniform on an arc (flat) or on a spherical cap (in depth) of the given full angle."""

from __future__ import annotations

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.evaluate.bezier import rotated


def aimed(direction_deg: Doubles, tilt_deg: Doubles) -> Doubles:
    """Unit vectors (n, 3) of directions in the picture plane, tilted toward the viewer."""
    turn, tilt = np.radians(direction_deg), np.radians(tilt_deg)
    flat = np.cos(tilt)
    return np.stack([flat * np.cos(turn), flat * np.sin(turn), np.sin(tilt)], axis=1)


def turned(ways: Doubles, degrees: Doubles) -> Doubles:
    """Directions (n, 3) turned in the picture plane."""
    x, y = rotated(ways[:, 0], ways[:, 1], degrees)
    return np.stack([x, y, ways[:, 2]], axis=1)


def fanned(axis: Doubles, spread_deg: Doubles, in_depth: bool, u: Doubles, v: Doubles) -> Doubles:
    """Unit vectors (n, 3) within a full angle of `spread_deg` around the unit vectors `axis`, from two draws each.

    Flat: uniform on the arc in the picture plane. In depth: cos θ is uniform in [cos(spread/2), 1], which is even over the
    cap (Archimedes' hat-box theorem).
    """
    if not in_depth:
        return turned(axis, (u - 0.5) * spread_deg)
    cos_theta = 1.0 - u * (1.0 - np.cos(np.radians(spread_deg) / 2))
    sin_theta = np.sqrt(np.maximum(0.0, 1.0 - cos_theta**2))
    phi = 2 * np.pi * v
    side = np.stack([-axis[:, 1], axis[:, 0], np.zeros(len(axis))], axis=1)
    length = np.linalg.norm(side, axis=1, keepdims=True)
    side = np.where(length > 1e-9, side / np.maximum(length, 1e-9), [1.0, 0.0, 0.0])
    deep = np.cross(axis, side)
    # For an axis in the picture plane, `deep` points to the viewer.
    out = (
        axis * cos_theta[:, None]
        + side * (sin_theta * np.cos(phi))[:, None]
        + deep * (sin_theta * np.sin(phi))[:, None]
    )
    return np.asarray(out)


def all_round(in_depth: bool, u: Doubles, v: Doubles) -> Doubles:
    """Unit vectors (n, 3) of any direction, in the plane or in depth."""
    axis = np.tile([1.0, 0.0, 0.0], (len(u), 1))
    return fanned(axis, np.full(len(u), 360.0), in_depth, u, v)
