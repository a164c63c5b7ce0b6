"""Models of other programs: OBJ, glTF, PLY, STL and OpenUSD, read into the one form that the engine draws.

Files are read by trimesh and OpenUSD, in a process with limits. What a file refers to (textures, buffers, other files) is not read:
a glTF file has to carry its buffers (`.glb`, or embedded).
"""

from __future__ import annotations

import io
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from isbjorn.core.arrays import Doubles, Floats, Ints
from isbjorn.core.colour import decoded
from isbjorn.core.errors import IsbjornError, missing_package
from isbjorn.core.evaluate.external_files import digest_of
from isbjorn.core.evaluate.meshes import Mesh, mesh_of, welded
from isbjorn.core.evaluate.model_files import MOST_FACES, write_model

ENDINGS = (".obj", ".glb", ".gltf", ".ply", ".stl", ".usd", ".usda", ".usdc", ".usdz")
_MOST_BYTES = 256 << 20
_FEWER = f"The limit is {MOST_FACES:,} faces. Reduce the model, then import it again."


@dataclass(frozen=True)
class ImportedModel:
    """What was read. longest: the longest side of the box around it, in the file's unit; closed: whether it has an inside;
    inverted: whether its faces pointed inward, and were turned."""

    digest: str
    points: int
    faces: int
    longest: float
    closed: bool
    inverted: bool


def _by_trimesh(path: Path) -> tuple[Doubles, Ints, Floats | None]:
    import trimesh

    # Without a resolver, nothing outside the file is read.
    scene: Any = trimesh.load(
        io.BytesIO(path.read_bytes()), file_type=path.suffix[1:].lower(), force="scene", process=False
    )
    parts = [part for part in scene.dump() if hasattr(part, "faces") and len(part.faces)]
    if not parts:
        raise IsbjornError("the file has no faces.", path.name, "Export it with its surfaces.")
    points, faces, colours, start = [], [], [], 0
    for part in parts:
        count = len(part.vertices)
        points.append(np.asarray(part.vertices, np.float64))
        faces.append(np.asarray(part.faces, np.int64) + start)
        shade: Any = (
            getattr(part.visual, "vertex_colors", None) if getattr(part.visual, "kind", None) == "vertex" else None
        )
        colours.append(
            decoded(np.asarray(shade)[:, :3].astype(np.float32) / np.float32(255))
            if shade is not None and len(shade) == count
            else np.ones((count, 3))
        )
        start += count
        if sum(map(len, faces)) > MOST_FACES:
            raise IsbjornError("the model has too many faces.", path.name, _FEWER)
    every = np.concatenate(colours)
    tinted = np.asarray(every, np.float32) if (every != 1).any() else None
    triangles = np.concatenate(faces)
    return (
        np.concatenate(points),
        np.append(triangles, np.full((len(triangles), 1), -1), axis=1).astype(np.int32),
        tinted,
    )


def _by_usd(path: Path) -> tuple[Doubles, Ints, Floats | None]:
    try:
        from pxr import Usd, UsdGeom
    except ModuleNotFoundError as error:
        raise missing_package(error) or error from None

    try:
        stage: Any = Usd.Stage.Open(str(path))
    except Exception:
        raise IsbjornError("OpenUSD cannot read this file.", path.name, "Export it again.") from None
    upright = UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.y
    cache, points, rows, start = UsdGeom.XformCache(), [], [], 0
    for prim in stage.Traverse():
        if not prim.IsA(UsdGeom.Mesh):
            continue
        mesh = UsdGeom.Mesh(prim)
        place = np.asarray(mesh.GetPointsAttr().Get() or [], np.float64).reshape(-1, 3)
        counts = np.asarray(mesh.GetFaceVertexCountsAttr().Get() or [], np.int64)
        corners = np.asarray(mesh.GetFaceVertexIndicesAttr().Get() or [], np.int64)
        if (
            counts.sum() != len(corners)
            or len(place) == 0
            or (len(corners) and (corners.min() < 0 or corners.max() >= len(place)))
        ):
            raise IsbjornError("a mesh of the file is damaged.", path.name, "Export it again.")
        if len(corners) > 4 * MOST_FACES:
            raise IsbjornError("the model has too many faces.", path.name, _FEWER)
        matrix = np.asarray(cache.GetLocalToWorldTransform(prim), np.float64)
        points.append(place @ matrix[:3, :3] + matrix[3, :3])
        left = mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded
        at = 0
        for count in counts:
            ring = (corners[at : at + count] + start).tolist()
            at += count
            ring = ring[::-1] if left else ring
            rows += [(ring[0], ring[k], ring[k + 1], -1) for k in range(1, count - 1)]
        start += len(place)
    if not rows:
        raise IsbjornError("the file has no faces.", path.name, "Export it with its surfaces.")
    found = np.concatenate(points)
    if not upright:
        found = found[:, [0, 2, 1]] * [1, 1, -1]
    return found, np.array(rows, np.int32), None


def take_model(source: str, target: str) -> ImportedModel:
    """Read a model file, and write it as the engine reads it. Raises IsbjornError for one that is broken, empty or too large."""
    path = Path(source)
    if path.stat().st_size > _MOST_BYTES:
        raise IsbjornError("the file is larger than 256 MB.", path.name, _FEWER)
    try:
        points, faces, colours = (_by_usd if path.suffix.lower().startswith(".usd") else _by_trimesh)(path)
    except IsbjornError:
        raise
    except Exception as error:
        raise IsbjornError(
            f"the file is damaged or refers to other files ({type(error).__name__}).", path.name,
            "Export it as one file, for example as GLB with everything embedded.",
        ) from None  # fmt: skip
    if not np.isfinite(points).all():
        raise IsbjornError("some of its points are not numbers.", path.name, "Export it again.")
    if len(faces) > MOST_FACES:
        raise IsbjornError("the model has too many faces.", path.name, _FEWER)
    if faces.min(initial=0) < -1 or faces.max(initial=0) >= len(points):
        raise IsbjornError("some of its faces name points that do not exist.", path.name, "Export it again.")
    longest = float(np.ptp(points, axis=0).max())
    if longest <= 0:
        raise IsbjornError("the model has no extent.", path.name, "Export it again.")
    centred = ((points - points.min(axis=0)) / longest).astype(np.float32)
    if colours is None:
        kept, joined = welded(centred, faces)
    else:
        kept, joined = centred, faces
    if len(joined) == 0:
        raise IsbjornError("its faces have no area.", path.name, "Export it again.")
    mesh: Mesh = mesh_of(kept, joined, 0)
    inverted = mesh.is_closed and mesh.volume < 0
    if inverted:
        three = joined[:, 3] < 0
        joined[three] = joined[three][:, [0, 2, 1, 3]]
        joined[~three] = joined[~three][:, ::-1]
    write_model(Path(target), kept, np.ascontiguousarray(joined, np.int32), colours, longest, mesh.has_inside)
    return ImportedModel(digest_of(Path(target)), len(kept), len(joined), longest, mesh.has_inside, inverted)
