"""Models that were read from files: one uncompressed `.npz` each, found by its digest.

It holds `points` (v, 3) float32, `faces` (f, 4) int32 as in `Mesh`, `colours` (v, 3) float32, linear, or of no length, and
`facts`: how many points and faces it has, the longest side of the box around it in the unit of the file that it came from, and 1
if it has an inside.
"""

from __future__ import annotations

from dataclasses import dataclass
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


@dataclass(frozen=True)
class ModelFacts:
    """What a model is: how many points and faces it has, its longest side in its file's unit, and whether it has an inside."""

    points: int
    faces: int
    longest: float
    closed: bool


def write_model(path: Path, points: Floats, faces: Ints, colours: Floats | None, longest: float, closed: bool) -> None:
    """Write a model; see above. Raises OSError when the disk is full."""
    none = np.zeros((0, 3), np.float32)
    facts = np.array([len(points), len(faces), longest, closed])
    np.savez(path, points=points, faces=faces, colours=none if colours is None else colours, facts=facts)


def facts_of(path: Path) -> ModelFacts:
    """What a model that was written is. Raises IsbjornError if it is missing or damaged."""
    try:
        with np.load(path, allow_pickle=False) as file:
            points, faces, longest, closed = (float(fact) for fact in file["facts"])
            return ModelFacts(int(points), int(faces), longest, closed > 0)
    except (OSError, ValueError, KeyError, EOFError) as error:
        raise IsbjornError(f"this is not a model ({type(error).__name__}).", path.name, "Import it again.") from None


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
