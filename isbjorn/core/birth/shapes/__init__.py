"""Places on the source's shape: one file for each family of shapes, one entry in the table for each shape.

What is drawn as its outline is exactly what is filled. Coordinates are the source's own: px from its centre, before it
is turned and sized.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from isbjorn.core.birth.shapes import artwork, curves, flat, plate, solid
from isbjorn.core.birth.shapes.base import Doubles, Lines, Scattered, Setting
from isbjorn.core.document import (
    Artwork,
    Ball,
    Box,
    Disc,
    Emitter,
    FromPlate,
    Letters,
    Line,
    PathShape,
    Point,
    Rectangle,
    Shape,
)
from isbjorn.core.life.draws import PLACE_A, PLACE_B, PLACE_C, SHELL, draws01

# Roberts 2018, "The unreasonable effectiveness of quasirandom sequences": the steps of R1, R2 and R3.
_GOLDEN = {1: 1.618033988749895, 2: 1.324717957244746, 3: 1.2207440846057596}
_STEPS = {d: [g ** -(j + 1) for j in range(d)] for d, g in _GOLDEN.items()}


@dataclass(frozen=True)
class _Kind:
    """How a shape scatters, how it is outlined, and how many of its draws make its place."""

    scatter: Callable[[Any, Doubles, Setting], Scattered]
    outline: Callable[[Any, Setting], Lines]
    dimensions: Callable[[Any], int]


def _area(shape: Any) -> int:
    return {"inside": 2, "edge": 1, "shell": 2}[shape.fill]


def _volume(shape: Any) -> int:
    return {"inside": 3, "edge": 2, "shell": 3}[shape.fill]


KINDS: dict[type, _Kind] = {
    Point: _Kind(flat.point, flat.point_outline, lambda _: 1),
    Line: _Kind(flat.line, flat.line_outline, lambda _: 1),
    Disc: _Kind(flat.disc, flat.disc_outline, _area),
    Rectangle: _Kind(flat.rectangle, flat.rectangle_outline, _area),
    Box: _Kind(solid.box, solid.box_outline, _volume),
    Ball: _Kind(solid.ball, solid.ball_outline, _volume),
    PathShape: _Kind(curves.path, curves.path_outline, _area),
    Letters: _Kind(artwork.letters, artwork.letters_outline, _area),
    Artwork: _Kind(artwork.artwork, artwork.artwork_outline, _area),
    FromPlate: _Kind(plate.plate, plate.plate_outline, lambda _: 3),
}


def scatter(emitter: Emitter, key: int, births: Any, setting: Setting) -> Scattered:
    """Places of births (n,) on an emitter's shape, in its own coordinates."""
    kind = KINDS[type(emitter.shape)]
    draws = np.stack([draws01(key, births, a) for a in (PLACE_A, PLACE_B, PLACE_C, SHELL)])
    if emitter.spacing == "even":
        dimensions = kind.dimensions(emitter.shape)
        for row, step in enumerate(_STEPS[dimensions]):
            offset = draws01(key, np.zeros(1, np.int64), (PLACE_A, PLACE_B, PLACE_C)[row])
            draws[row] = (offset + (births + 1) * step) % 1.0
    return kind.scatter(emitter.shape, draws, setting)


def outline(shape: Shape, setting: Setting) -> Lines:
    """The shape's outline at the setting's only moment: polylines (n, 3) in its own coordinates."""
    return KINDS[type(shape)].outline(shape, setting)
