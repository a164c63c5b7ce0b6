"""Places on the source's shape: one file for each family of shapes, one `Engine` for each shape, which the registry names.

What is drawn as its outline is exactly what is filled. Coordinates are the source's own: px from its centre, before it
is turned and sized.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document import Emitter, Shape
from isbjorn.core.document.fields.kinds import SHAPES
from isbjorn.core.emit.shapes.base import Lines, Scattered, ShapeEngine, ShapeSetting
from isbjorn.core.random import PLACE_A, PLACE_B, PLACE_C, SHELL, draws01

# Roberts 2018, "The unreasonable effectiveness of quasirandom sequences": the steps of R1, R2 and R3.
_GOLDEN = {1: 1.618033988749895, 2: 1.324717957244746, 3: 1.2207440846057596}
_STEPS = {d: [g ** -(j + 1) for j in range(d)] for d, g in _GOLDEN.items()}


def engine_of(shape: Any) -> ShapeEngine:
    """The engine of a shape."""
    made: ShapeEngine = SHAPES.of(shape).made
    return made


def _draws(emitter: Emitter, key: int, births: Any) -> Doubles:
    """What makes the places of births (n,), (4, n) in [0, 1)."""
    draws = np.stack([draws01(key, births, a) for a in (PLACE_A, PLACE_B, PLACE_C, SHELL)])
    if emitter.spacing == "even":
        dimensions = engine_of(emitter.shape).dimensions(emitter.shape)
        for row, step in enumerate(_STEPS[dimensions]):
            offset = draws01(key, np.zeros(1, np.int64), (PLACE_A, PLACE_B, PLACE_C)[row])
            draws[row] = (offset + (births + 1) * step) % 1.0
    return draws


def scatter(emitter: Emitter, key: int, births: Any, setting: ShapeSetting) -> Scattered:
    """Places of births (n,) on an emitter's shape, in the emitter's coordinates."""
    return engine_of(emitter.shape).scatter(emitter.shape, _draws(emitter, key, births), setting)


def colours(emitter: Emitter, key: int, births: Any) -> Floats:
    """The linear colours (n, 3) of an emitter's shape where births (n,) are born; white where it has none."""
    made = engine_of(emitter.shape).colours
    return np.ones((len(births), 3), np.float32) if made is None else made(emitter.shape, _draws(emitter, key, births))


def measure(shape: Shape, setting: ShapeSetting) -> tuple[float, int] | None:
    """How much of a shape there is to fill at the setting's only moment: px, px² or px³, and which power; None if nothing is."""
    made = engine_of(shape).measure
    return None if made is None else made(shape, setting)


def outline(shape: Shape, setting: ShapeSetting) -> Lines:
    """The shape's outline at the setting's only moment: polylines (n, 3) in the emitter's coordinates."""
    return engine_of(shape).outline(shape, setting)
