"""Places on the source's shape. What is drawn as its outline is exactly what is filled."""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt
from numba import njit

from isbjorn.core.document import Disc, Line, Point, Rectangle, Shape
from isbjorn.core.life.draws import PLACE_A, PLACE_B, draw01

POINT, LINE, DISC, RING, RECTANGLE, FRAME = 0, 1, 2, 3, 4, 5
Floats = npt.NDArray[np.float32]


def pack_shape(shape: Shape) -> npt.NDArray[np.float64]:
    """A shape as float64 (5,): code, two measures in px, cosine and sine of its turn."""
    match shape:
        case Point():
            code, a, b, turn = POINT, 0.0, 0.0, 0.0
        case Line():
            code, a, b, turn = LINE, shape.length.value, 0.0, shape.angle.value
        case Disc():
            code, a, b, turn = (DISC if shape.fill == "inside" else RING), shape.radius.value, 0.0, 0.0
        case Rectangle():
            code, turn = (RECTANGLE if shape.fill == "inside" else FRAME), shape.angle.value
            a, b = shape.width.value, shape.height.value
    return np.array([code, a, b, math.cos(math.radians(turn)), math.sin(math.radians(turn))])


@njit("UniTuple(f8,2)(f8[:], u8, i8)", cache=True)
def place_in_shape(shape: npt.NDArray[np.float64], key: np.uint64, birth: int) -> tuple[float, float]:
    """Where birth number `birth` starts, in px from the source's centre; uniform by length or by area."""
    code, a, b = int(shape[0]), shape[1], shape[2]
    u, v = draw01(key, birth, PLACE_A), draw01(key, birth, PLACE_B)
    x, y = 0.0, 0.0
    if code == LINE:
        x = (u - 0.5) * a
    elif code in (DISC, RING):
        radius = a * math.sqrt(v) if code == DISC else a
        x, y = radius * math.cos(2 * math.pi * u), radius * math.sin(2 * math.pi * u)
    elif code == RECTANGLE:
        x, y = (u - 0.5) * a, (v - 0.5) * b
    elif code == FRAME:
        along = u * 2 * (a + b)
        if along < a:
            x, y = along - a / 2, b / 2
        elif along < a + b:
            x, y = a / 2, b / 2 - (along - a)
        elif along < 2 * a + b:
            x, y = a / 2 - (along - a - b), -b / 2
        else:
            x, y = -a / 2, (along - 2 * a - b) - b / 2
    return x * shape[3] - y * shape[4], x * shape[4] + y * shape[3]


def outline(shape: Shape, points: int = 96) -> list[list[float]]:
    """The shape's outline as a polyline of [x, y] in px from its centre; closed shapes repeat their first point."""
    code, a, b, c, s = pack_shape(shape)
    if code == POINT:
        path = [(0.0, 0.0)]
    elif code == LINE:
        path = [(-a / 2, 0.0), (a / 2, 0.0)]
    elif code in (DISC, RING):
        turns = [2 * math.pi * i / points for i in range(points + 1)]
        path = [(a * math.cos(t), a * math.sin(t)) for t in turns]
    else:
        x, y = a / 2, b / 2
        path = [(-x, y), (x, y), (x, -y), (-x, -y), (-x, y)]
    return [[px * c - py * s, px * s + py * c] for px, py in path]
