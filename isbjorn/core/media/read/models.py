"""Models of other programs: OBJ, glTF, PLY, STL and OpenUSD, read into the one form that the engine draws.

Files are read by trimesh and OpenUSD, in a process with limits. What a file refers to (pictures, buffers, other files) is not read:
a glTF file has to carry its buffers and pictures (`.glb`, or embedded), and an OpenUSD file its pictures (`.usdz`). Of materials,
the base colour is read: one colour, colours of points, or a picture.
"""

from __future__ import annotations

import io
import math
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from isbjorn.core.arrays import Bytes, Doubles, Floats, Ints, Longs
from isbjorn.core.errors import IsbjornError, missing_package
from isbjorn.core.evaluate.external_files import digest_of
from isbjorn.core.evaluate.geometry.meshes import Mesh, mesh_of, welded
from isbjorn.core.evaluate.geometry.model_files import MOST_FACES, write_model
from isbjorn.core.evaluate.geometry.paint import DECODED, LONGEST_SIDE, MOST_TEXELS, Paint, resized
from isbjorn.core.evaluate.gradients import linear_to_srgb

ENDINGS = (".obj", ".glb", ".gltf", ".ply", ".stl", ".usd", ".usda", ".usdc", ".usdz")
_MOST_BYTES, _MOST_PIXELS = 256 << 20, 1 << 26
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


class _Colours:
    """Colours of faces (n, 4) as they are read, part by part."""

    def __init__(self, name: str) -> None:
        self.name, self.pictures = name, dict[int, Bytes]()
        self._values: list[Floats] = []
        self._pages: list[Ints] = []

    def add(self, values: Doubles | Floats, page: int = -1) -> None:
        """The values (n, 3 or 4, 3) of some faces; see `Paint`."""
        four = values if values.shape[1] == 4 else np.concatenate([values, values[:, :1]], axis=1)
        self._values.append(np.asarray(four, np.float32))
        self._pages.append(np.full(len(values), page, np.int32))

    def page(self, picture: Any, factor: Doubles) -> int:
        """The number of a picture of Pillow whose light is multiplied by a factor (3,)."""
        if picture.width * picture.height > _MOST_PIXELS:
            raise IsbjornError(
                "a picture of the model is too large.", self.name, f"The limit is {_MOST_PIXELS:,} pixels."
            )
        # What is far too large is halved in its own values, so that its light is never held as a whole.
        plain = picture.convert("RGB").reduce(max(1, max(picture.size) // (2 * LONGEST_SIDE)))
        small = min(1.0, LONGEST_SIDE / max(plain.size))
        pixels = np.asarray(plain, np.uint8)
        if small < 1:
            pixels = resized(pixels, *(max(1, round(small * side)) for side in plain.size))
        if (factor != 1).any():
            pixels = np.asarray(np.rint(linear_to_srgb(DECODED[pixels] * factor) * 255), np.uint8)
        self.pictures[len(self.pictures)] = pixels
        return len(self.pictures) - 1

    def done(self) -> Paint | None:
        """All of them; None where everything is white."""
        values, pages = np.concatenate(self._values), np.concatenate(self._pages)
        if not self.pictures and (values == 1).all():
            return None
        if not np.isfinite(values).all():
            raise IsbjornError("some of its colours are not numbers.", self.name, "Export it again.")
        pictures = list(self.pictures.values())
        small = math.sqrt(MOST_TEXELS / max(1, sum(p.shape[0] * p.shape[1] for p in pictures)))
        if small < 1:
            pictures = [resized(p, max(1, int(small * p.shape[1])), max(1, int(small * p.shape[0]))) for p in pictures]
        return Paint(values, pages, tuple(pictures))


_Read = tuple[Doubles, Ints, "Paint | None"]


def _colour_trimesh(part: Any, faces: Longs, linear: bool, colours: _Colours, pages: dict[int, int]) -> None:
    """Add the colours of one part of a scene. linear: those of its points are light, not encoded."""
    visual: Any = part.visual
    if getattr(visual, "kind", None) == "vertex":
        shade = np.asarray(visual.vertex_colors)[:, :3]
        colours.add((shade / 255 if linear else DECODED[shade.astype(np.uint8)])[faces])
        return
    if getattr(visual, "kind", None) == "face":
        shade = DECODED[np.asarray(visual.face_colors)[:, :3].astype(np.uint8)]
        colours.add(np.repeat(shade[:, None], 3, axis=1))
        return
    material: Any = getattr(visual, "material", None)
    if material is None:
        colours.add(np.ones((len(faces), 3, 3)))
        return
    base = getattr(material, "baseColorFactor", None)
    factor = np.ones(3) if base is None else np.asarray(base, np.float64)[:3] / 255
    picture, places = getattr(material, "baseColorTexture", None), getattr(visual, "uv", None)
    if picture is not None and places is not None and len(places) == len(part.vertices):
        if id(picture) not in pages:
            pages[id(picture)] = colours.page(picture, factor)
        where = np.concatenate([np.asarray(places, np.float64)[:, :2], np.zeros((len(places), 1))], axis=1)
        colours.add(where[faces], pages[id(picture)])
        return
    tint = getattr(visual, "vertex_attributes", {}).get("color")
    if tint is None or len(tint) != len(part.vertices):
        colours.add(np.broadcast_to(factor, (len(faces), 3, 3)))
        return
    tint = np.asarray(tint)
    whole = np.iinfo(tint.dtype).max if tint.dtype.kind in "iu" else 1
    colours.add((tint[:, :3] / whole * factor)[faces])


def _by_trimesh(path: Path) -> _Read:
    import trimesh

    # Without a resolver, nothing outside the file is read.
    scene: Any = trimesh.load(
        io.BytesIO(path.read_bytes()), file_type=path.suffix[1:].lower(), force="scene", process=False
    )
    parts = [part for part in scene.dump() if hasattr(part, "faces") and len(part.faces)]
    if not parts:
        raise IsbjornError("the file has no faces.", path.name, "Export it with its surfaces.")
    points, faces, colours, start = [], [], _Colours(path.name), 0
    pages: dict[int, int] = {}
    for part in parts:
        of = np.asarray(part.faces, np.int64)
        points.append(np.asarray(part.vertices, np.float64))
        faces.append(of + start)
        start += len(part.vertices)
        if sum(map(len, faces)) > MOST_FACES:
            raise IsbjornError("the model has too many faces.", path.name, _FEWER)
        _colour_trimesh(part, of, path.suffix.lower() in (".glb", ".gltf"), colours, pages)
    triangles = np.concatenate(faces)
    fours = np.append(triangles, np.full((len(triangles), 1), -1), axis=1).astype(np.int32)
    return np.concatenate(points), fours, colours.done()


def _usd_picture(name: str) -> Any:
    """A picture of Pillow that a package of OpenUSD holds, or None."""
    from PIL import Image
    from pxr import Ar

    asset: Any = Ar.GetResolver().OpenAsset(Ar.ResolvedPath(name)) if "[" in name else None
    if not asset:
        return None
    with asset:
        return Image.open(io.BytesIO(bytes(asset.GetBuffer())))


def _usd_base(prim: Any) -> tuple[Doubles, str]:
    """The base colour (3,) of a mesh's material, and the name of its picture; empty if it has none."""
    from pxr import UsdShade

    white = np.ones(3)
    material, _ = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()
    shader = material.ComputeSurfaceSource()[0] if material else None
    entry = shader.GetInput("diffuseColor") if shader else None
    if not entry:
        return white, ""
    source = entry.GetConnectedSources()[0] if entry.HasConnectedSource() else []
    if source:
        texture = UsdShade.Shader(source[0].source.GetPrim())
        file = texture.GetInput("file").Get() if texture.GetIdAttr().Get() == "UsdUVTexture" else None
        return white, "" if file is None else str(file.resolvedPath)
    value = entry.Get()
    return white if value is None else np.asarray(value, np.float64), ""


def _usd_corners(primvar: Any, faces: Longs, corners: Longs, width: int) -> Doubles | None:
    """The values (n, width) of a primvar at the corners (n,) of faces (n,); None where it has none that fit."""
    if not primvar or not primvar.HasValue():
        return None
    values = np.asarray(primvar.ComputeFlattened(), np.float64).reshape(-1, width)
    index = {
        "constant": np.zeros_like(corners),
        "uniform": faces,
        "vertex": corners,
        "varying": corners,
        "faceVarying": np.arange(len(corners)),
    }.get(str(primvar.GetInterpolation()))
    return None if index is None or len(index) == 0 or index.max() >= len(values) else values[index]


def _colour_usd(
    prim: Any, corners: Longs, counts: Longs, triangles: Longs, colours: _Colours, pages: dict[str, int]
) -> None:
    """Add the colours of one mesh. corners (n,) of faces with counts (m,); triangles (t, 3): their corners, by their place in
    `corners`."""
    from pxr import UsdGeom

    faces = np.repeat(np.arange(len(counts)), counts)
    base, name = _usd_base(prim)
    places = _usd_corners(UsdGeom.PrimvarsAPI(prim).GetPrimvar("st"), faces, corners, 2) if name else None
    if places is not None:
        if name not in pages and (picture := _usd_picture(name)) is not None:
            pages[name] = colours.page(picture, np.ones(3))
        if name in pages:
            colours.add(np.append(places, np.zeros((len(places), 1)), axis=1)[triangles], pages[name])
            return
    shown = _usd_corners(UsdGeom.Mesh(prim).GetDisplayColorPrimvar(), faces, corners, 3)
    if shown is not None and (base == 1).all():
        colours.add(shown[triangles])
        return
    colours.add(np.broadcast_to(base, (len(triangles), 3, 3)))


def _by_usd(path: Path) -> _Read:
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
    colours, pages = _Colours(path.name), dict[str, int]()
    for prim in stage.Traverse():
        if not prim.IsA(UsdGeom.Mesh):
            continue
        mesh = UsdGeom.Mesh(prim)
        place = np.asarray(mesh.GetPointsAttr().Get() or [], np.float64).reshape(-1, 3)
        counts = np.asarray(mesh.GetFaceVertexCountsAttr().Get() or [], np.int64)
        corners = np.asarray(mesh.GetFaceVertexIndicesAttr().Get() or [], np.int64)
        if (
            counts.sum() != len(corners)
            or counts.min(initial=0) < 0
            or len(place) == 0
            or (len(corners) and (corners.min() < 0 or corners.max() >= len(place)))
        ):
            raise IsbjornError("a mesh of the file is damaged.", path.name, "Export it again.")
        if len(corners) > 4 * MOST_FACES:
            raise IsbjornError("the model has too many faces.", path.name, _FEWER)
        matrix = np.asarray(cache.GetLocalToWorldTransform(prim), np.float64)
        points.append(place @ matrix[:3, :3] + matrix[3, :3])
        # Each face as a fan of triangles.
        fans = np.maximum(0, counts - 2)
        of = np.repeat(np.arange(len(counts)), fans)
        step = np.arange(len(of)) - np.repeat(np.cumsum(fans) - fans, fans)
        first = (np.cumsum(counts) - counts)[of]
        last = first + counts[of] - 1
        if mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded:
            triangles = np.stack([last, last - step - 1, last - step - 2], axis=1)
        else:
            triangles = np.stack([first, first + step + 1, first + step + 2], axis=1)
        if len(triangles):
            rows.append(corners[triangles] + start)
            _colour_usd(prim, corners, counts, triangles, colours, pages)
        start += len(place)
    if not rows:
        raise IsbjornError("the file has no faces.", path.name, "Export it with its surfaces.")
    found, every = np.concatenate(points), np.concatenate(rows)
    if not upright:
        found = found[:, [0, 2, 1]] * [1, 1, -1]
    return found, np.append(every, np.full((len(every), 1), -1), axis=1).astype(np.int32), colours.done()


def take_model(source: str, target: str) -> ImportedModel:
    """Read a model file, and write it as the engine reads it. Raises IsbjornError for one that is broken, empty or too large."""
    path = Path(source)
    if path.stat().st_size > _MOST_BYTES:
        raise IsbjornError("the file is larger than 256 MB.", path.name, _FEWER)
    try:
        points, faces, paint = (_by_usd if path.suffix.lower().startswith(".usd") else _by_trimesh)(path)
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
    kept, joined, there = welded(centred, faces)
    if len(joined) == 0:
        raise IsbjornError("its faces have no area.", path.name, "Export it again.")
    mesh: Mesh = mesh_of(kept, joined, 0)
    inverted = mesh.is_closed and mesh.volume < 0
    corners = np.broadcast_to(np.arange(4), joined.shape)
    if inverted:
        # Triangles by their second and third corner, others whole.
        corners = np.where(joined[:, 3:] < 0, [0, 2, 1, 3], [3, 2, 1, 0])
        joined = np.take_along_axis(joined, corners, axis=1)
    if paint is not None:
        values = np.take_along_axis(paint.values[there], corners[..., None], axis=1)
        paint = replace(paint, values=np.ascontiguousarray(values), pages=paint.pages[there])
    write_model(Path(target), kept, np.ascontiguousarray(joined, np.int32), paint, longest, mesh.has_inside)
    return ImportedModel(digest_of(Path(target)), len(kept), len(joined), longest, mesh.has_inside, inverted)
