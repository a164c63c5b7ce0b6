"""Models with a place in a shot: surfaces, zones and mattes that have the form of one."""

from __future__ import annotations

from typing import Any

import numpy as np

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document.solids import Solid
from isbjorn.core.evaluate.mesh_trees import PLACED_WIDTH, TREE, TURN, UNIT, tree_of, trees_of
from isbjorn.core.evaluate.meshes import Mesh, rotations
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.evaluate.solids import mesh_of_solid

# Smaller models are as large, px.
_SMALLEST = 1e-3


def turned(thing: Any, readings: Readings, t: Doubles, turn: Doubles) -> Doubles:
    """Rotation matrices (n, 3, 3) of a thing with `turn_x` and `turn_y` at moments (n,); turn: its rotation in the picture, in
    degrees (n,)."""
    x, y = (np.radians(readings.number(number, t)) for number in (thing.turn_x, thing.turn_y))
    return rotations(np.radians(turn), np.stack([x, y], axis=1), None)


class ModelRows:
    """Models that the rows of a table refer to, and their trees in one row."""

    def __init__(self) -> None:
        self._meshes: list[Mesh] = []
        self._first: dict[int, int] = {}
        self._end = 0

    @property
    def trees(self) -> Floats:
        """The trees of all models, float32 (n,); see `mesh_trees`."""
        return trees_of(self._meshes)

    def add(self, thing: Any, readings: Readings, t: Doubles, turn: Doubles, size: Doubles) -> Doubles:
        """Columns (n, `PLACED_WIDTH`) of a thing with a `model` and a `size` at moments (n,): where its tree begins, px in its
        unit, its rotation. turn: in degrees, size: a factor, (n,)."""
        mesh = mesh_of_solid(thing.model)
        if id(mesh) not in self._first:
            self._first[id(mesh)] = self._end
            self._meshes.append(mesh)
            self._end += len(tree_of(mesh))
        out = np.empty((len(t), PLACED_WIDTH))
        out[:, TREE] = self._first[id(mesh)]
        out[:, UNIT] = np.maximum(_SMALLEST, 0.5 * readings.number(thing.size, t) * size)
        out[:, TURN:] = turned(thing, readings, t, turn).reshape(-1, 9)
        return out


def is_open(solid: Solid) -> bool:
    """Whether a model has no inside."""
    return not mesh_of_solid(solid).has_inside
