"""Bézier paths as polylines by arc length."""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles
from isbjorn.core.document.fields.placed import PathPoint
from isbjorn.core.runtime.memory import cached

_PER_SEGMENT = 48


@cached("tables", "Polylines of paths", "the points", 0.15)
def flat(points: tuple[PathPoint, ...], closed: bool) -> Doubles:
    """A path as a polyline, float64 (n, 3) px; a closed one ends where it begins. Straight segments have no inner points."""
    ends = [*points, points[0]] if closed else list(points)
    out = [np.array([[ends[0].x, ends[0].y, ends[0].z]])]
    for a, b in zip(ends, ends[1:], strict=False):
        p = np.array([[a.x, a.y, a.z], [b.x, b.y, b.z]], np.float64)
        if a.leave == (0.0, 0.0) and b.arrive == (0.0, 0.0):
            out.append(p[1:])
            continue
        s = np.linspace(0, 1, _PER_SEGMENT + 1)[1:, None]
        c1, c2 = p[0] + [*a.leave, 0.0], p[1] + [*b.arrive, 0.0]
        out.append((1 - s) ** 3 * p[0] + 3 * (1 - s) ** 2 * s * c1 + 3 * (1 - s) * s**2 * c2 + s**3 * p[1])
    return np.concatenate(out)


def lengths(line: Doubles) -> Doubles:
    """Arc length at each point of a polyline (n, d), from 0; float64 (n,)."""
    return np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])


def at_length(line: Doubles, along: npt.ArrayLike, wrap: bool = False) -> tuple[Doubles, Doubles]:
    """Places (m, 3) on a polyline at shares of its length, and the unit directions there (m, 3).

    Shares beyond [0, 1] come round if `wrap`, else stay at the end.
    """
    s, u = lengths(line), np.atleast_1d(np.asarray(along, np.float64))
    u = u - np.floor(u) if wrap else np.clip(u, 0, 1)
    if s[-1] <= 0:
        return np.repeat(line[:1], len(u), axis=0), np.tile([1.0, 0.0, 0.0], (len(u), 1))
    at = u * s[-1]
    i = np.clip(np.searchsorted(s, at, side="right") - 1, 0, len(s) - 2)
    step = np.maximum(s[i + 1] - s[i], 1e-12)[:, None]
    way = (line[i + 1] - line[i]) / step
    return line[i] + way * (at - s[i])[:, None], way


def turn_of(way: Doubles) -> Doubles:
    """The angle in degrees of directions (n, 3) in the picture plane."""
    return np.degrees(np.arctan2(way[:, 1], way[:, 0]))


def rotated(x: Doubles, y: Doubles, degrees: npt.ArrayLike) -> tuple[Doubles, Doubles]:
    """Coordinates turned counter-clockwise."""
    turn = np.asarray(degrees, np.float64) * (math.pi / 180)
    c, s = np.cos(turn), np.sin(turn)
    return x * c - y * s, x * s + y * c
