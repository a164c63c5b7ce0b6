"""Flutter: a smooth random swing over time."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles
from isbjorn.core.document.fields.values import Flutter
from isbjorn.core.random import draws01

_ATTRIBUTE = 900


def swing(flutter: Flutter, t: npt.ArrayLike, loop_s: float | None = None) -> Doubles:
    """The swing in [-1, 1] at moments t in s, float64; it comes round after `loop_s`.

    Two values a swing are drawn, one high and one low, and joined with the quintic of Perlin 2002 ("Improving noise"),
    so that place, speed and acceleration are continuous.
    """
    at = np.atleast_1d(np.asarray(t, np.float64)) * flutter.times_per_s * 2
    period = 0
    if loop_s is not None and flutter.times_per_s > 0:
        period = max(2, 2 * round(flutter.times_per_s * loop_s))
        at *= period / (flutter.times_per_s * 2 * loop_s)
    left = np.floor(at).astype(np.int64)
    f = at - left
    ends = []
    for n in (left, left + 1):
        n = n % period if period else n
        high = 0.35 + 0.65 * draws01(flutter.seed, n, _ATTRIBUTE)
        ends.append(np.where(n % 2 == 0, high, -high))
    return np.asarray(ends[0] + (ends[1] - ends[0]) * f * f * f * (f * (6 * f - 15) + 10))
