"""Models with a place in a shot: surfaces, zones and mattes that have the form of one."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document.parts.solids import Solid
from isbjorn.core.evaluate.geometry.mesh_trees import PLACED_WIDTH, TREE, TURN, UNIT, tree_of, trees_of
from isbjorn.core.evaluate.geometry.meshes import Mesh, rotations
from isbjorn.core.evaluate.geometry.solids import mesh_of_solid
from isbjorn.core.evaluate.lines import Read
from isbjorn.core.evaluate.readings import Readings

# Smaller models are as large, px.
_SMALLEST = 1e-3
# Edges that are outlined at most; of more, only the sharpest.
_MOST_LINES = 240


def turned(thing: Any, readings: Readings, t: Doubles, turn: Doubles) -> Doubles:
    """Rotation matrices (n, 3, 3) of a thing with `turn_x` and `turn_y` at moments (n,); turn: its rotation in the picture, in
    degrees (n,)."""
    x, y = (np.radians(readings.number(number, t)) for number in (thing.turn_x, thing.turn_y))
    return rotations(np.radians(turn), np.stack([x, y], axis=1), None)


class ModelRows:
    """Models that the rows of a table refer to, and their trees in one row."""

    def __init__(self) -> None:
        self._first: dict[Mesh, int] = {}

    @property
    def trees(self) -> Floats:
        """The trees of all models, float32 (n,); see `mesh_trees`."""
        return trees_of(list(self._first))

    def add(self, thing: Any, readings: Readings, t: Doubles, turn: Doubles, size: Doubles) -> Doubles:
        """Columns (n, `PLACED_WIDTH`) of a thing with a `model` and a `size` at moments (n,): where its tree begins, px in its
        unit, its rotation. turn: in degrees, size: a factor, (n,)."""
        mesh = mesh_of_solid(thing.model)
        if mesh not in self._first:
            self._first[mesh] = sum(len(tree_of(known)) for known in self._first)
        out = np.empty((len(t), PLACED_WIDTH))
        out[:, TREE] = self._first[mesh]
        out[:, UNIT] = np.maximum(_SMALLEST, 0.5 * readings.number(thing.size, t) * size)
        out[:, TURN:] = turned(thing, readings, t, turn).reshape(-1, 9)
        return out


def is_open(solid: Solid) -> bool:
    """Whether a model has no inside."""
    return not mesh_of_solid(solid).has_inside


def edges_of(mesh: Mesh, turn: Doubles, half: float) -> list[Doubles]:
    """Edges that outline a mesh, turned by a matrix (3, 3), with `half` px for its unit: lines (2, 3)."""
    ends, cosine = mesh.edges
    order = np.argsort(cosine, kind="stable")[:_MOST_LINES]
    seen = order if len(ends) <= _MOST_LINES else order[cosine[order] < math.cos(math.radians(15))]
    if len(seen) == 0:
        seen = np.linspace(0, len(ends) - 1, _MOST_LINES).astype(np.int64)
    points = mesh.points.astype(np.float64) @ turn.T * half
    return [points[ends[k]] for k in seen]


def placed_edges(thing: Any, read: Read) -> list[Doubles]:
    """Edges that outline a thing with the form of a model, in its coordinates."""
    turn = rotations(np.zeros(1), np.radians([[read(thing.turn_x), read(thing.turn_y)]]), None)[0]
    return edges_of(mesh_of_solid(thing.model), turn, 0.5 * read(thing.size))
