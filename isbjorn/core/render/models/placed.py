"""Things in the shot that have the form of a model, as instances that can be drawn."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Emitter
from isbjorn.core.evaluate.geometry.meshes import rotations
from isbjorn.core.evaluate.geometry.placed_models import turned
from isbjorn.core.evaluate.geometry.solids import mesh_of_solid
from isbjorn.core.render.models.faces import (
    ALPHA,
    FIRST,
    LAST,
    POINT,
    POINTS,
    RADIUS,
    Geometry,
    instance_of,
    joined,
)

if TYPE_CHECKING:
    from isbjorn.core.render.draw.context import RenderContext


def placed(things: Sequence[Any], context: RenderContext) -> tuple[Geometry, Doubles]:
    """The models of things in the shot at the moment, and one instance of each, of no colour."""
    geometry = joined([mesh_of_solid(_solid(thing)) for thing in things])
    t, readings, rows = np.array([float(context.seconds)]), context.solver.readings, []
    for thing, part in zip(things, geometry.ranges, strict=True):
        frames = readings.frames(thing, t)
        if isinstance(thing, Emitter):
            flat = rotations(np.radians(frames.turn), None, None)
            turn = flat @ turned(thing.shape, readings, t, readings.number(_solid(thing).angle, t))
            size = _solid(thing).size
        else:
            turn, size = turned(thing, readings, t, frames.turn), thing.size
        half = 0.5 * context.read(size) * float(frames.size[0])
        row = instance_of(context.view, geometry, frames.place[0], turn[0], half)
        row[0, [FIRST, LAST, POINT, POINTS]] = part
        row[0, ALPHA], row[0, RADIUS] = 1, half
        rows.append(row)
    return geometry, np.concatenate(rows)


def _solid(thing: Any) -> Any:
    return thing.shape if isinstance(thing, Emitter) else thing.model
