"""A camera and places out of an OpenUSD file, or a table: what others solved and animated, as keys of a shot.

A file is read as one layer: what it refers to elsewhere is left out, so that a file from anyone opens nothing but itself.
"""

from __future__ import annotations

import csv
import io
import tempfile
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Shot
from isbjorn.core.document.fields.base import new_id
from isbjorn.core.document.fields.values import Key
from isbjorn.core.document.files import parse_shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.keys import keys_through
from isbjorn.core.render.scene.camera import axes_of

MOST_MOMENTS, MOST_PLACES, _MOST_PRIMS = 20_000, 32, 20_000
_FILMBACK_MM = 36.0
# Keys come as near to every sample.
_NEAR_PX, _NEAR_DEGREES, _NEAR_MM = 0.05, 0.005, 0.005


@dataclass(frozen=True)
class Way:
    """A thing of a file, at moments in seconds of its time codes (n,). place (n, 3): px, x right, y up, z toward the viewer. axes
    (n, 3, 3): rows are its right, up and toward-the-viewer axes. lens (n,): focal length over the width of the film gate, 0 where
    it is no camera with a lens."""

    name: str
    times: Doubles
    place: Doubles
    axes: Doubles
    lens: Doubles | None


def read_scene(content: bytes, px_per_metre: float, rate: str = "25") -> list[Way]:
    """Cameras and places (transforms) of a file, or of a table (see `_table`). Raises IsbjornError for what cannot be read."""
    if content[:8] != b"PXR-USDC" and not content.lstrip().startswith(b"#usda"):
        return _table(content, Fraction(rate))
    from pxr import Sdf, Tf, Usd, UsdGeom

    suffix = ".usdc" if content[:8] == b"PXR-USDC" else ".usda"
    with tempfile.NamedTemporaryFile(suffix=suffix) as file:
        file.write(content)
        file.flush()
        try:
            layer = Sdf.Layer.OpenAsAnonymous(file.name)
            if layer is None:
                raise IsbjornError("this is not an OpenUSD file.", "scene", "Select a .usd, .usda or .usdc file.")
            alone(layer)
            stage = Usd.Stage.Open(layer, load=Usd.Stage.LoadNone)
            return _ways(stage, px_per_metre, UsdGeom)
        except Tf.ErrorException as error:
            words = str(error).strip().splitlines()[0][:200]
            raise IsbjornError(
                f"this is not an OpenUSD file ({words}).", "scene", "Select a .usd, .usda or .usdc file."
            ) from None


_PLACE, _TURNS = ("x", "y", "z"), ("pan", "pitch", "roll")


def _table(content: bytes, rate: Fraction) -> list[Way]:
    """Motion in a CSV table: a row per moment, with `frame` or `time` (s), `x`, `y`, `z` (px), and, of a camera, `pan`, `pitch`,
    `roll` (degrees) and `focal` (mm, for a gate of 36 mm); `name` distinguishes things. A thing with any of those four is a camera.
    """
    try:
        text = content.decode("utf-8-sig")
        heads, *rows = [row for row in csv.reader(io.StringIO(text)) if row]
        columns = dict(zip([h.strip().lower() for h in heads], zip(*rows, strict=True), strict=True))
    except (UnicodeDecodeError, csv.Error, ValueError):
        raise IsbjornError(
            "this is neither an OpenUSD file nor a table.", "scene", "Select a .usd, .usda, .usdc or .csv file."
        ) from None
    if len(rows) > MOST_MOMENTS:
        raise IsbjornError(f"it has {len(rows):,} rows.", "scene", f"The limit is {MOST_MOMENTS:,}; export fewer.")
    clock = next((name for name in ("frame", "time") if name in columns), None)
    if clock is None or "x" not in columns or "y" not in columns:
        raise IsbjornError("the columns frame (or time), x and y are missing.", "scene", "Add them to the first row.")
    numbers: dict[str, Doubles] = {}
    for name in (clock, *_PLACE, *_TURNS, "focal"):
        try:
            # What is given for some things only stays empty for the others.
            empty = "" if name in (clock, "x", "y") else "0"
            numbers[name] = np.array([v.strip() or empty for v in columns.get(name, ["0"] * len(rows))], float)
        except ValueError:
            raise IsbjornError(
                f"a value of {name} is not a number.", "scene", "Correct it, and import the file again."
            ) from None
        if not np.isfinite(numbers[name]).all():
            raise IsbjornError(f"a value of {name} is not a number.", "scene", "Correct it, and import the file again.")
    times = numbers[clock] / float(rate) if clock == "frame" else numbers[clock]
    names = np.array([n.strip() for n in columns.get("name", [""] * len(rows))])
    filmed = not {*_TURNS, "focal"}.isdisjoint(columns)
    found = []
    for name in dict.fromkeys(names.tolist()):
        mine = np.flatnonzero(names == name)
        mine = mine[np.unique(times[mine], return_index=True)[1]]
        camera = filmed and any(columns[c][i].strip() for c in (*_TURNS, "focal") if c in columns for i in mine)
        axes = np.stack([axes_of(*(numbers[turn][i] for turn in _TURNS)) for i in mine])
        focal = np.where(numbers["focal"][mine] > 0, numbers["focal"][mine], 35.0)
        place = np.stack([numbers[axis][mine] for axis in _PLACE], axis=1)
        called = name or ("Camera" if camera else "Place")
        found.append(Way(called, times[mine], place, axes, focal / _FILMBACK_MM if camera else None))
    return found


def alone(layer: Any) -> None:
    """Take out all that leads to other files."""
    layer.subLayerPaths.clear()

    def walk(prim: Any) -> None:
        for name in ("referenceList", "payloadList", "inheritPathList", "specializesList"):
            getattr(prim, name).ClearEdits()
        for child in prim.nameChildren:
            walk(child)

    for prim in layer.rootPrims:
        walk(prim)


def upright_of(stage: Any, geom: Any) -> Doubles:
    """The rotation of a file's coordinates that makes y point up, (3, 3)."""
    return np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0]], float) if geom.GetStageUpAxis(stage) == "Z" else np.eye(3)


def _ways(stage: Any, px_per_metre: float, geom: Any) -> list[Way]:
    rate = stage.GetTimeCodesPerSecond() or 24.0
    scale = geom.GetStageMetersPerUnit(stage) * px_per_metre
    upright = upright_of(stage, geom)
    found: list[Way] = []
    for number, prim in enumerate(stage.Traverse()):
        if number >= _MOST_PRIMS or len(found) >= 4 * MOST_PLACES:
            break
        camera = geom.Camera(prim) if prim.IsA(geom.Camera) else None
        if camera is None and not (
            prim.IsA(geom.Xform) and not prim.GetChildren() and geom.Xformable(prim).GetOrderedXformOps()
        ):
            continue
        codes = _codes(prim, camera, geom)
        cache = geom.XformCache()
        places, axes, lens = [], [], []
        for code in codes:
            cache.SetTime(code)
            matrix = np.array(cache.GetLocalToWorldTransform(prim))
            turned = matrix[:3, :3] / np.maximum(np.linalg.norm(matrix[:3, :3], axis=1, keepdims=True), 1e-12)
            axes.append(turned @ upright.T)
            places.append(upright @ matrix[3, :3] * scale)
            if camera is not None:
                lens.append(_lens(camera, code))
        found.append(Way(
            prim.GetName(), np.array(codes) / rate, np.array(places), np.array(axes), np.array(lens) if camera is not None else None
        ))  # fmt: skip
    return found


def _codes(prim: Any, camera: Any, geom: Any) -> list[float]:
    """The time codes at which anything of it, or of what holds it, is sampled."""
    codes: set[float] = set()
    walked = prim
    while walked and not walked.IsPseudoRoot():
        if walked.IsA(geom.Xformable):
            codes.update(geom.Xformable(walked).GetTimeSamples())
        walked = walked.GetParent()
    if camera is not None:
        codes.update(camera.GetFocalLengthAttr().GetTimeSamples())
    if len(codes) > MOST_MOMENTS:
        raise IsbjornError(
            f"{prim.GetName()} has {len(codes):,} samples.",
            "scene",
            f"The limit is {MOST_MOMENTS:,}; export fewer.",
        )
    return sorted(codes) or [0.0]


def _lens(camera: Any, code: float) -> float:
    if camera.GetProjectionAttr().Get() == "orthographic":
        return 0.0
    wide = float(camera.GetHorizontalApertureAttr().Get(code) or 0)
    return float(camera.GetFocalLengthAttr().Get(code) or 0) / wide if wide > 0 else 0.0


def _angles(axes: Doubles) -> Doubles:
    """Pan, pitch and roll in degrees (n, 3) of axes (n, 3, 3), as a shot's camera has them; without a jump of a whole turn."""
    r = np.swapaxes(axes, 1, 2)
    pan = np.arctan2(r[:, 0, 2], r[:, 2, 2])
    pitch = np.arcsin(np.clip(-r[:, 1, 2], -1, 1))
    roll = np.arctan2(r[:, 1, 0], r[:, 1, 1])
    return np.degrees(np.unwrap(np.stack([pan, pitch, roll], axis=1), axis=0))


def _number(times: Doubles, values: Doubles, near: float) -> dict[str, Any]:
    """A number through values (n,): plain where it stays, else as few keys as are near every sample."""
    if float(np.ptp(values)) <= near:
        return {"value": round(float(values[0]), 6)}
    keys: tuple[Key, ...] = keys_through(times, values[:, None], near)[0]
    return {"value": keys[0].value, "keys": [key.model_dump(mode="json") for key in keys]}


def with_scene(shot: Shot, ways: list[Way], name: str) -> tuple[Shot, list[str]]:
    """A shot with the first camera of a file, a marker for each of its places, and what was taken, in words.

    Time codes are frame numbers of the shot: 0 of the file is frame 0. Raises IsbjornError where there is nothing.
    """
    given = shot.model_dump(mode="json")
    start = float(Fraction(shot.first_frame) / shot.frame_rate)
    notes: list[str] = []
    camera = next((way for way in ways if way.lens is not None), None)
    if camera is not None:
        given["camera"] |= _camera(shot, camera, camera.times - start)
        notes.append(f"camera {camera.name}")
    places = [way for way in ways if way.lens is None][: min(MOST_PLACES, 64 - len(shot.markers))]
    for way in places:
        times = way.times - start
        marker: dict[str, Any] = {"id": new_id("marker"), "name": way.name[:80]}
        for field, k in (("across", 0), ("up", 1), ("depth", 2)):
            marker[field] = _number(times, np.clip(way.place[:, k], -1e5, 1e5), _NEAR_PX)
        given["markers"].append(marker)
        notes.append(f"marker {way.name}")
    if not notes:
        raise IsbjornError("this file contains no camera and no transforms.", name, "Export a camera, or transforms.")
    return parse_shot(given), notes


def _camera(shot: Shot, way: Way, times: Doubles) -> dict[str, Any]:
    assert way.lens is not None
    flat = bool((way.lens <= 0).all())
    focal = np.clip(np.where(way.lens > 0, way.lens, 35 / 36) * _FILMBACK_MM, 1, 2000)
    found: dict[str, Any] = {"kind": "flat" if flat else "perspective", "filmback_mm": {"value": _FILMBACK_MM}}
    found["focal_mm"] = _number(times, focal, _NEAR_MM)
    # Its position is given relative to its position at rest, which depends on its plain focal length.
    rest = shot.width / _FILMBACK_MM * found["focal_mm"]["value"]
    for name, values, near in zip(
        ("across", "up", "forward", "pan", "pitch", "roll"),
        (way.place[:, 0], way.place[:, 1], rest - way.place[:, 2], *_angles(way.axes).T),
        (_NEAR_PX,) * 3 + (_NEAR_DEGREES,) * 3,
        strict=True,
    ):
        found[name] = _number(times, values, near)
    return found
