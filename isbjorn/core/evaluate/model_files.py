"""Models that were read from files: one uncompressed `.npz` each, found by its digest.

It holds `points` (v, 3) float32, `faces` (f, 4) int32 as in `Mesh`, and `colours` (v, 3) float32, linear, or of no length.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np

from isbjorn.core.arrays import Floats, Ints
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.external_files import path_of
from isbjorn.core.evaluate.meshes import Mesh, mesh_of
from isbjorn.core.runtime.memory import Cache

# The most that a model may have.
MOST_FACES = 500_000

_models: Cache[Mesh] = Cache("models", 0.4)


def write_model(path: Path, points: Floats, faces: Ints, colours: Floats | None) -> None:
    """Write a model. Raises OSError when the disk is full."""
    none = np.zeros((0, 3), np.float32)
    np.savez(path, points=points, faces=faces, colours=none if colours is None else colours)


def _read(path: Path, smooth_degrees: float) -> Mesh:
    try:
        with np.load(path, allow_pickle=False) as file:
            points, faces, colours = file["points"], file["faces"], file["colours"]
        sound = (
            points.ndim == 2 and points.shape[1] == 3 and faces.ndim == 2 and faces.shape[1] == 4 
            and 0 < len(faces) <= MOST_FACES and np.isfinite(points).all() and faces[:, :3].min() >= 0 and faces.max() < len(points)
        )  # fmt: skip
    except (OSError, ValueError, KeyError, EOFError) as error:
        raise IsbjornError(f"this is not a model ({type(error).__name__}).", path.name, "Import it again.") from None
    if not sound:
        raise IsbjornError("this is not a model.", path.name, "Import it again.")
    tinted = np.ascontiguousarray(colours, np.float32) if len(colours) == len(points) else None
    return mesh_of(
        np.ascontiguousarray(points, np.float32), np.ascontiguousarray(faces, np.int32), smooth_degrees, tinted
    )


def model_of(media: str, digest: str, smooth_degrees: float) -> Mesh:
    """The mesh of a model file, which fits its unit. Raises IsbjornError if it is missing or damaged."""
    return _models.get((digest, smooth_degrees), lambda: _read(path_of(media, digest), smooth_degrees))
