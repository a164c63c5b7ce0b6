"""The engine of glitter."""

from __future__ import annotations

import numpy as np

from isbjorn.core.emit.shapes.base import Scattered, ShapeEngine, unit, vectors


def _scatter(shape, u, setting):  # type: ignore[no-untyped-def]
    n, light = u.shape[1], setting.light
    x, y = (u[0] - 0.5) * setting.read(shape.width), np.zeros(n)
    if light is not None:
        numbers = light.numbers(setting.t)
        for number in np.unique(numbers):
            y[numbers == number] = 100 * light.sheet(int(number)).mean()
    place = vectors(x, y)
    return Scattered(place, unit(place), np.tile([1.0, 0.0, 0.0], (n, 1)))


def _outline(shape, setting):  # type: ignore[no-untyped-def]
    half = setting.read(shape.width)[0] / 2
    return [np.array([[-half, 0, 0], [half, 0, 0]])]


GLITTER = ShapeEngine(_scatter, _outline)
