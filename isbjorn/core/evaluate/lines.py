"""Lines of plain figures, in own px, as they are shown on the picture."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Number

Read = Callable[[Number], float]


def circle(radius: float) -> Doubles:
    """A circle as a closed polyline (65, 3)."""
    turn = np.linspace(0, 2 * math.pi, 65)
    return np.stack([radius * np.cos(turn), radius * np.sin(turn), np.zeros(65)], axis=1)


def rectangle(half_width: float, half_height: float) -> Doubles:
    """A rectangle as a closed polyline (5, 3)."""
    corners = [(-1, -1), (1, -1), (1, 1), (-1, 1), (-1, -1)]
    return np.array([[x * half_width, y * half_height, 0.0] for x, y in corners])
