"""Models of the demonstration, made by rule: a boat's hull as a net, and a town on a slope."""

from __future__ import annotations

import functools
import itertools
from pathlib import Path

import numpy as np

from isbjorn.core.arrays import Doubles, Floats, Ints
from isbjorn.core.evaluate.geometry.meshes import mesh_of
from isbjorn.core.evaluate.geometry.model_files import write_model

# Meshes of the net along the hull and across it.
_ALONG, _ACROSS = 26, 10
# Rows of houses up the slope, and houses in each.
_ROWS, _HOUSES = 6, 10

Geometry = tuple[Floats, Ints]


@functools.cache
def hull() -> Geometry:
    """An open hull of about a boat's lines, x along it: its sections are round below and flare to the gunwale."""
    x = np.linspace(-1, 1, _ALONG + 1)[:, None]
    turn = np.linspace(-np.pi / 2, np.pi / 2, _ACROSS + 1)[None]
    # Breadth and depth fade toward stem and stern, and the gunwale rises there.
    breadth, depth = 0.36 * (1 - np.abs(x) ** 2.6) + 0.012, 0.34 * (1 - np.abs(x) ** 3.4) + 0.05
    sheer = 0.16 * x**2
    across = np.sign(turn) * np.abs(np.sin(turn)) ** 0.8
    points = np.stack(np.broadcast_arrays(x, sheer - depth * np.cos(turn) ** 0.75, breadth * across), axis=2)
    at = np.arange((_ALONG + 1) * (_ACROSS + 1)).reshape(_ALONG + 1, _ACROSS + 1)
    a, b, c, d = (part.reshape(-1) for part in (at[:-1, :-1], at[1:, :-1], at[1:, 1:], at[:-1, 1:]))
    nothing = np.full(len(a), -1)
    faces = np.concatenate([np.stack([a, c, b, nothing], axis=1), np.stack([a, d, c, nothing], axis=1)])
    return points.reshape(-1, 3).astype(np.float32), faces.astype(np.int32)


def _house(width: float, deep: float, wall: float, roof: float) -> tuple[Doubles, list[tuple[int, ...]]]:
    """A house with a gabled roof, whose ridge is along x; its floor is at y = 0."""
    w, d, ridge = width / 2, deep / 2, wall + roof
    level = [(x, y, z) for y, (x, z) in itertools.product((0.0, wall), ((-w, d), (w, d), (w, -d), (-w, -d)))]
    points = np.array([*level, (-w, ridge, 0.0), (w, ridge, 0.0)])
    walls = [(k, (k + 1) % 4, (k + 1) % 4 + 4, k + 4) for k in range(4)]
    return points, [(3, 2, 1, 0), *walls, (4, 5, 9, 8), (6, 7, 8, 9), (5, 6, 9, -1), (7, 4, 8, -1)]


def _tower(width: float, wall: float, spire: float) -> tuple[Doubles, list[tuple[int, ...]]]:
    """A square tower with a spire."""
    w = width / 2
    level = [(x, y, z) for y, (x, z) in itertools.product((0.0, wall), ((-w, w), (w, w), (w, -w), (-w, -w)))]
    points = np.array([*level, (0.0, wall + spire, 0.0)])
    sides = [(k, (k + 1) % 4, (k + 1) % 4 + 4, k + 4) for k in range(4)]
    return points, [(3, 2, 1, 0), *sides, *((k + 4, (k + 1) % 4 + 4, 8, -1) for k in range(4))]


@functools.cache
def town() -> Geometry:
    """Houses in rows up a slope, the nearest first, and a church above them; closed, x to the right, y up, z to the viewer."""
    rng = np.random.default_rng(83)
    parts: list[tuple[Doubles, list[tuple[int, ...]]]] = []
    for row in range(_ROWS):
        # Streets bend round the hill.
        z, y = 0.42 - 0.17 * row, 0.085 * row + 0.014 * row**1.5
        place = -1.0 + 0.09 * (row % 3) + 0.03 * row
        for _ in range(_HOUSES):
            width = rng.uniform(0.12, 0.2)
            at = place + width / 2
            place += width + rng.uniform(0.012, 0.045) + (0.1 if rng.random() < 0.16 else 0)
            bend = -0.07 * at**2
            if (row == 4 and abs(at - 0.22) < 0.17) or at > 0.97 - 0.05 * row:
                continue
            points, faces = _house(width, rng.uniform(0.09, 0.12), rng.uniform(0.055, 0.115), rng.uniform(0.05, 0.085))
            turn = rng.uniform(-0.22, 0.22) + (np.pi / 2 if rng.random() < 0.3 else 0)
            c, s = np.cos(turn), np.sin(turn)
            points = points @ np.array([[c, 0, -s], [0, 1, 0], [s, 0, c]])
            place_of = np.array([at, y + 0.4 * bend, z + bend + rng.uniform(-0.035, 0.035)])
            parts.append((points + place_of, faces))
    church, tower = _house(0.2, 0.12, 0.13, 0.11), _tower(0.075, 0.27, 0.2)
    parts.append((church[0] + [0.27, 0.44, -0.25], church[1]))
    parts.append((tower[0] + [0.155, 0.44, -0.23], tower[1]))
    every: list[Doubles] = []
    rows: list[tuple[int, ...]] = []
    start = 0
    for corners, faces in parts:
        every.append(corners)
        rows += [tuple(k + start if k >= 0 else -1 for k in face) for face in faces]
        start += len(corners)
    return np.concatenate(every).astype(np.float32), np.array(rows, np.int32)


def write_geometry(path: Path, geometry: Geometry) -> None:
    """Write a model as the studio stores it."""
    points, faces = geometry
    mesh = mesh_of(points, faces, 0)
    write_model(path, points, faces, None, float(np.ptp(points, axis=0).max()), mesh.has_inside)
