"""The shape of another emitter."""

from __future__ import annotations

from typing import Any

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document.parts.shapes import BorrowedShape
from isbjorn.core.emit.shapes import engine_of
from isbjorn.core.emit.shapes.base import Lines, Scattered, ShapeEngine, ShapeSetting


def _lender(shape: BorrowedShape, setting: ShapeSetting) -> Any:
    """The shape itself; None if the emitter is gone, or borrows its own."""
    found = getattr(setting.readings.things.get(shape.emitter or ""), "shape", None)
    return None if isinstance(found, (BorrowedShape, str)) else found


def _scatter(shape: BorrowedShape, u: Doubles, setting: ShapeSetting) -> Scattered:
    found, n = _lender(shape, setting), u.shape[1]
    if found is None:
        return Scattered(np.zeros((n, 3)), *(np.tile([1.0, 0.0, 0.0], (n, 1)) for _ in range(2)))
    return engine_of(found).scatter(found, u, setting)


def _outline(shape: BorrowedShape, setting: ShapeSetting) -> Lines:
    found = _lender(shape, setting)
    return [np.zeros((1, 3))] if found is None else engine_of(found).outline(found, setting)


def _measure(shape: BorrowedShape, setting: ShapeSetting) -> tuple[float, int] | None:
    found = _lender(shape, setting)
    measure = None if found is None else engine_of(found).measure
    return None if measure is None else measure(found, setting)


BORROWED = ShapeEngine(_scatter, _outline, lambda _: 3, _measure, flat=True)
