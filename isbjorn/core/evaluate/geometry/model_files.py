"""Models that were read from files: one uncompressed `.npz` each, found by its digest.

It holds `points` (v, 3) float32, `faces` (f, 4) int32 as in `Mesh`, and `facts`: how many points and faces it has, the longest side
of the box around it in the unit of the file that it came from, and 1 if it has an inside. A model with colours also holds `paint`
and `pages`, the values and pages of `Paint`, and a `picture_0`, `picture_1` … for each of its pictures. Older ones hold `colours`
(v, 3) float32, linear, of their points instead.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from isbjorn.core.arrays import Floats, Ints
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.external_files import path_of
from isbjorn.core.evaluate.geometry.meshes import Mesh, mesh_of
from isbjorn.core.evaluate.geometry.paint import LONGEST_SIDE, Paint
from isbjorn.core.runtime.memory import Cache

# The most that a model may have.
MOST_FACES = 500_000

_models: Cache[Mesh] = Cache(
    "models", 0.3, what="Models from files", depends_on="the file's digest, and the angle of its smooth edges"
)


@dataclass(frozen=True)
class ModelFacts:
    """What a model is: how many points and faces it has, its longest side in its file's unit, and whether it has an inside."""

    points: int
    faces: int
    longest: float
    closed: bool


def write_model(path: Path, points: Floats, faces: Ints, paint: Paint | None, longest: float, closed: bool) -> None:
    """Write a model; see above. Raises OSError when the disk is full."""
    arrays: dict[str, Any] = {"points": points, "faces": faces}
    if paint is not None:
        arrays |= {"paint": paint.values, "pages": paint.pages}
        arrays |= {f"picture_{k}": picture for k, picture in enumerate(paint.pictures)}
    arrays["facts"] = np.array([len(points), len(faces), longest, closed])
    np.savez(path, allow_pickle=False, **arrays)


def facts_of(path: Path) -> ModelFacts:
    """What a model that was written is. Raises IsbjornError if it is missing or damaged."""
    try:
        with np.load(path, allow_pickle=False) as file:
            points, faces, longest, closed = (float(fact) for fact in file["facts"])
            return ModelFacts(int(points), int(faces), longest, closed > 0)
    except (OSError, ValueError, KeyError, EOFError) as error:
        raise IsbjornError(f"this is not a model ({type(error).__name__}).", path.name, "Import it again.") from None


def _paint(file: Any, points: Floats, faces: Ints) -> Paint | None:
    """The colours of a stored model. Raises ValueError for damaged ones."""
    if "colours" in file:
        colours = file["colours"]
        if len(colours) != len(points):
            return None
        return Paint(np.asarray(colours[np.maximum(faces, 0)], np.float32), np.full(len(faces), -1, np.int32))
    if "paint" not in file:
        return None
    values, pages = file["paint"].astype(np.float32), file["pages"].astype(np.int32)
    pictures = tuple(file[name] for name in sorted(file.files, key=_number) if name.startswith("picture_"))
    whole = values.shape == (len(faces), 4, 3) and pages.shape == (len(faces),) and np.isfinite(values).all()
    sound = all(
        p.ndim == 3 and p.shape[2] == 3 and p.dtype == np.uint8 and min(p.shape) > 0 and max(p.shape) <= LONGEST_SIDE
        for p in pictures
    )
    if not whole or not sound or pages.max(initial=-1) >= len(pictures):
        raise ValueError("colours")
    return Paint(values, pages, pictures)


def _number(name: str) -> int:
    return int(name.rpartition("_")[2]) if name.startswith("picture_") else -1


def _read(path: Path, smooth_degrees: float) -> Mesh:
    try:
        with np.load(path, allow_pickle=False) as file:
            points, faces = file["points"], file["faces"]
            sound = (
                points.ndim == 2 and points.shape[1] == 3 and faces.ndim == 2 and faces.shape[1] == 4
                and 0 < len(faces) <= MOST_FACES and np.isfinite(points).all() and faces[:, :3].min() >= 0
                and faces.max() < len(points)
            )  # fmt: skip
            if not sound:
                raise ValueError("faces")
            paint = _paint(file, points, faces)
    except (OSError, ValueError, KeyError, EOFError) as error:
        raise IsbjornError(f"this is not a model ({type(error).__name__}).", path.name, "Import it again.") from None
    return mesh_of(
        np.ascontiguousarray(points, np.float32), np.ascontiguousarray(faces, np.int32), smooth_degrees, paint
    )


def model_of(media: str, digest: str, smooth_degrees: float) -> Mesh:
    """The mesh of a model file, which fits its unit. Raises IsbjornError if it is missing or damaged."""
    return _models.get((digest, smooth_degrees), lambda: _read(path_of(media, digest), smooth_degrees))
