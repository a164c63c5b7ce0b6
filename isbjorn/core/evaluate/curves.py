"""Curves over age: exact evaluation, and the table that kernels read."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document.fields.curves import Curve, CurvePoint
from isbjorn.core.document.fields.values import Key
from isbjorn.core.runtime.memory import cached

TABLE = 1024
# The ages at which curves are tabled.
AGES = np.linspace(0, 1, TABLE)
_SMOOTH, _HOLD = 0, 2
_JOINTS = {"smooth": _SMOOTH, "straight": 1, "hold": _HOLD}


def _tangents(x: Doubles, y: Doubles) -> Doubles:
    """Monotone tangents at the points (Fritsch and Butland 1984): a smooth joint never overshoots its neighbours."""
    m = np.zeros(len(x))
    h, d = np.diff(x), np.zeros(max(0, len(x) - 1))
    np.divide(np.diff(y), h, out=d, where=h > 1e-9)
    same = np.flatnonzero(d[:-1] * d[1:] > 0)
    w1, w2 = 2 * h[same + 1] + h[same], h[same + 1] + 2 * h[same]
    m[same + 1] = (w1 + w2) / (w1 / d[same] + w2 / d[same + 1])
    return m


def _cubic_bezier(u: Doubles, x1: float, y1: float, x2: float, y2: float) -> Doubles:
    """CSS Easing Functions Level 1, `cubic-bezier(x1, y1, x2, y2)`, at u in [0, 1]; by bisection on the parameter."""
    low, high = np.zeros_like(u), np.ones_like(u)
    for _ in range(48):
        s = 0.5 * (low + high)
        x = 3 * (1 - s) ** 2 * s * x1 + 3 * (1 - s) * s**2 * x2 + s**3
        below = x < u
        low, high = np.where(below, s, low), np.where(below, high, s)
    s = 0.5 * (low + high)
    return 3 * (1 - s) ** 2 * s * y1 + 3 * (1 - s) * s**2 * y2 + s**3


def _segments(
    points: Sequence[CurvePoint] | Sequence[Key],
    x: Doubles,
    y: Doubles,
    m: Doubles,
    i: npt.NDArray[np.int64],
    u: Doubles,
) -> Doubles:
    """Values at the shares u (n,) of the segments i (n,), where no exact shape is asked for."""
    joints = np.array([_JOINTS[p.joint] for p in points])
    rise, width = y[i + 1] - y[i], x[i + 1] - x[i]
    # A cubic Hermite segment, which is cubic-bezier(1/3, y1, 2/3, y2) with y1 and y2 set by the tangents.
    leave = np.where(joints[i] == _SMOOTH, m[i] * width, rise)
    arrive = np.where(joints[i + 1] == _SMOOTH, m[i + 1] * width, rise)
    found = (
        (2 * u**3 - 3 * u**2 + 1) * y[i]
        + (u**3 - 2 * u**2 + u) * leave
        + (3 * u**2 - 2 * u**3) * y[i + 1]
        + (u**3 - u**2) * arrive
    )
    return np.where(joints[i] == _HOLD, np.where(u < 1, y[i], y[i + 1]), found)


def along(points: Sequence[CurvePoint] | Sequence[Key], at: npt.ArrayLike) -> Doubles:
    """Values of points on their axis at places on it; float64, at least one-dimensional.

    Level before the first and after the last. Where two points share a place the curve steps: there the later one is read.
    """
    t = np.atleast_1d(np.asarray(at, dtype=np.float64))
    out = np.full(t.shape, points[-1].value)
    out[t < points[0].at] = points[0].value
    x, y = np.array([p.at for p in points]), np.array([p.value for p in points])
    m = _tangents(x, y)
    of = np.searchsorted(x, t, side="right") - 1
    inside = (of >= 0) & (of < len(points) - 1)
    i = of[inside]
    u = (t[inside] - x[i]) / (x[i + 1] - x[i])
    out[inside] = _segments(points, x, y, m, i, u)
    for n in np.unique(i[np.array([p.ease is not None for p in points])[i]]):
        ease, here = points[n].ease, inside & (of == n)
        if ease is not None and points[n].joint != "hold":
            out[here] = y[n] + (y[n + 1] - y[n]) * _cubic_bezier((t[here] - x[n]) / (x[n + 1] - x[n]), *ease)
    return out


def evaluate(curve: Curve, age01: npt.ArrayLike) -> Doubles:
    """Values of a curve at ages in [0, 1]; float64, the shape of `age01`."""
    return along(curve.points, age01)


@cached("tables", "Tables of curves", "the curve", 0.25)
def table(curve: Curve | None) -> Floats:
    """A curve as float32 (1024,) at even ages from 0 to 1, never below 0; all ones without a curve."""
    if curve is None:
        return np.ones(TABLE, np.float32)
    return np.maximum(evaluate(curve, AGES), 0).astype(np.float32)
