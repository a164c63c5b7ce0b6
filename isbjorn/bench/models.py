"""What models cost: ms for some scenes at 1280 × 720, beside the same scenes drawn by software OpenGL."""

from __future__ import annotations

import statistics
import time
from typing import Any

import numpy as np

from isbjorn.bench.opengl import Models
from isbjorn.core.arrays import Doubles, Longs
from isbjorn.core.evaluate.geometry.meshes import Mesh
from isbjorn.core.evaluate.geometry.solids import solid
from isbjorn.core.records import make_record
from isbjorn.core.render.models.faces import (
    ALPHA,
    FIRST,
    INSTANCE_COLUMNS,
    LAST,
    POINT,
    POINTS,
    RADIUS,
    TINT,
    Geometry,
    joined,
)
from isbjorn.core.render.models.shading import KINDS, MATERIAL
from isbjorn.core.render.models.surroundings import built_in
from isbjorn.core.render.models.tiles import draw_models
from isbjorn.core.render.scene.camera import Projection
from isbjorn.core.render.scene.lights import LAMP

_W, _H, _LENS = 1280, 720, 1800.0
# Name: count, size in px, form with its measures, material.
_SCENES: dict[str, tuple[int, float, tuple[Any, ...], str]] = {
    "boxes_12px": (10_000, 12, ("box", 0, 1, 1, 1, 0), "matte"),
    "boxes_40px": (1_000, 40, ("box", 0, 1, 1, 1, 0), "matte"),
    "drops_40px": (1_000, 40, ("drop", 40, 0.4), "plastic"),
    "one_of_200k": (1, 700, ("ball", 40, 7), "matte"),
}


def _placed(count: int, size: float, geometry: Geometry) -> Doubles:
    """Instances at random places and turns."""
    rng = np.random.default_rng(1)
    q = rng.normal(size=(count, 4))
    a, b, c, d = (q / np.linalg.norm(q, axis=1, keepdims=True)).T
    rows = np.zeros((count, INSTANCE_COLUMNS))
    turns = [
        a * a + b * b - c * c - d * d, 2 * (b * c - a * d), 2 * (b * d + a * c),
        2 * (b * c + a * d), a * a - b * b + c * c - d * d, 2 * (c * d - a * b),
        2 * (b * d - a * c), 2 * (c * d + a * b), a * a - b * b - c * c + d * d,
    ]  # fmt: skip
    rows[:, :9] = np.stack(turns, axis=1) * size / 2
    rows[:, 9:12] = rng.uniform([-_W / 2, -_H / 2, -2100], [_W / 2, _H / 2, -1500], (count, 3))
    if count == 1:
        rows[:, 9:12] = 0, 0, -_LENS
    rows[:, TINT : TINT + 3], rows[:, ALPHA], rows[:, RADIUS] = rng.uniform(0.2, 1, (count, 3)), 1, size / 2
    rows[:, [FIRST, LAST, POINT, POINTS]] = geometry.ranges[0]
    return rows


def _in_opengl(gl: Models, mesh: Mesh, rows: Doubles) -> None:
    triangles = mesh.triangles
    corners = mesh.points[triangles].reshape(-1, 3)
    flat = np.cross(corners[1::3] - corners[::3], corners[2::3] - corners[::3])
    normals = np.repeat(flat / np.maximum(np.linalg.norm(flat, axis=1, keepdims=True), 1e-12), 3, axis=0)
    gl.load(corners, normals.astype(np.float32), rows[:, :15].astype(np.float32))


def models() -> dict[str, Any]:
    """ms a picture of some scenes of models, and how many times as long software OpenGL takes with 4 samples, pair by pair."""
    taken: dict[str, float] = {}
    ratios: dict[str, Any] = {}
    try:
        gl: Models | None = Models(_W, _H, _LENS)
    except Exception as error:
        gl = None
        ratios["missing"] = str(error)
    view = Projection(_W, _H, 1.0, 1.0, _LENS, np.zeros(3), np.eye(3)).packed
    for name, (count, size, form, kind) in _SCENES.items():
        mesh = solid(*form)
        geometry = joined([mesh])
        rows = _placed(count, size, geometry)
        look = make_record(
            MATERIAL, kind=KINDS[kind], rough=0.3, strength=1, index=1.5, rim=np.zeros(3), fall=1, behind=0, sky=0
        )
        groups: Longs = np.zeros(count, np.int64)
        if gl is not None:
            _in_opengl(gl, mesh, rows)
            gl.draw()
        ours, theirs = [], []
        for n in range(8):
            out = np.zeros((_H, _W, 4), np.float32)
            start = time.perf_counter()
            draw_models(view, rows, groups, geometry, groups, look, np.zeros(0, LAMP), built_in("studio"), out)
            if n:
                ours.append(time.perf_counter() - start)
            if gl is not None and n:
                theirs.append(gl.draw())
        taken[name] = round(statistics.median(ours) * 1e3, 1)
        if theirs:
            ratios[name] = round(statistics.median(b / a for a, b in zip(ours, theirs, strict=True)), 2)
    return {"models_ms": taken, "models_vs_gl": ratios}
