"""Particles of other programs, and of our own deliveries, converted to recordings: OpenUSD points, and tables (CSV, NPZ), one per
frame.

It reads ids, places and velocities, and age and lifespan where they are given. Particles without an id are identified by their
place in the list. A particle that is missing for more than a sample and a half, and then returns, is a new one.
"""

from __future__ import annotations

import csv
import io
import re
import zipfile
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles, Longs
from isbjorn.core.document import Shot
from isbjorn.core.emit.recorded import MOST_PARTICLES, MOST_SAMPLES, RecordedParticles, save_recorded
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.external_files import digest_of
from isbjorn.core.media.exchange.usd_in import alone, upright_of

ENDINGS = (".usd", ".usda", ".usdc", ".csv", ".parquet", ".npz")
_APART, _MOST_FRAMES, _MOST_PRIMS = 1.5, 20_000, 64
_FARTHEST_PX = 1e7


@dataclass(frozen=True)
class ParticleSample:
    """Particles at a moment of shot time: ids (n,); places px and velocities px/s, (n, 3); ages and lifespans s, (n,).

    Unknown values are nan.
    """

    t: float
    ids: Longs
    place: Doubles
    velocity: Doubles
    age: Doubles
    life: Doubles


@dataclass(frozen=True)
class ImportedParticles:
    """A recording that was made: its file, its digest, what it was called, and what is in it."""

    path: str
    digest: str
    name: str
    particles: int
    first_s: float
    last_s: float


def take_points(paths: list[str], shot_json: str, folder: str) -> list[ImportedParticles]:
    """Make recordings of files, one of each set of points, into a folder. Raises IsbjornError for others, or too many."""
    shot = Shot.model_validate_json(shot_json)
    files = [Path(p) for p in paths]
    if not files:
        raise IsbjornError("no file was sent.", "points", "Select an OpenUSD file, or particle tables.")
    kinds = {f.suffix.lower() for f in files}
    if len(kinds) > 1 or kinds.isdisjoint(ENDINGS):
        raise IsbjornError(
            f"particles cannot be read from {', '.join(sorted(kinds))}.", files[0].name,
            "Select one OpenUSD file (.usd, .usda, .usdc), or tables of one type (.csv, .npz), one per frame.",
        )  # fmt: skip
    if kinds & set(_TABLES):
        found = _tables(files, shot)
    elif len(files) > 1:
        raise IsbjornError(
            "only one OpenUSD file can be imported at a time.", files[1].name, "Import the others afterwards."
        )
    else:
        found = _usd(files[0], shot)
    taken: list[ImportedParticles] = []
    for name, samples in found.items():
        made = recorded(samples, name)
        if len(made) == 0:
            continue
        target = Path(folder) / f"recording-{len(taken)}.npz"
        save_recorded(made, target)
        taken.append(ImportedParticles(
            target.name, digest_of(target), name, len(made), float(made.moments[0]), float((made.moments + made.lives).max())
        ))  # fmt: skip
    if not taken:
        raise IsbjornError(
            "this contains no particles.", files[0].name, "Export points with positions on at least one frame."
        )
    return taken


def recorded(samples: list[ParticleSample], name: str = "points") -> RecordedParticles:
    """Samples, in any order, as a recording. Raises IsbjornError for more than can be kept."""
    samples = sorted((s for s in samples), key=lambda s: s.t)
    total = sum(len(s.ids) for s in samples)
    if total > MOST_SAMPLES:
        raise IsbjornError(
            f"{total:,} samples exceed the limit of {MOST_SAMPLES:,}.", name, "Export fewer frames, or fewer particles."
        )
    if total == 0:
        none = np.zeros((0, 3), np.float32)
        return RecordedParticles(np.zeros(1, np.int64), np.zeros(0), np.zeros(0, np.float32), np.zeros(0), none, none)
    moments = np.array([s.t for s in samples])
    step = float(np.median(np.diff(moments))) if len(moments) > 1 else 1 / 25
    times = np.concatenate([np.full(len(s.ids), s.t) for s in samples])
    ids, place, velocity, age, life = (
        np.concatenate([getattr(s, field) for s in samples]) for field in ("ids", "place", "velocity", "age", "life")
    )
    order = np.lexsort((times, ids))
    ids, times, place, velocity, age, life = (a[order] for a in (ids, times, place, velocity, age, life))
    begins = np.ones(total, bool)
    begins[1:] = (np.diff(ids) != 0) | (np.diff(times) > _APART * step) | (np.diff(times) <= 0)
    first = np.append(np.flatnonzero(begins), total)
    if len(first) - 1 > MOST_PARTICLES:
        raise IsbjornError(
            f"{len(first) - 1:,} particles exceed the limit of {MOST_PARTICLES:,}.", name, "Export fewer."
        )
    velocity = _velocities(times, place, velocity, first)
    head, tail = first[:-1], first[1:] - 1
    # Births and deaths between two samples are placed in the middle, unless an age or a life is given.
    born = times[head] - np.where(
        np.isfinite(age[head]), np.maximum(age[head], 0), np.where(times[head] > moments[0], step / 2, 0)
    )
    ends = np.where(np.isfinite(life[head]) & (life[head] > 0), born + life[head], times[tail] + step / 2)
    lives = np.where(np.isinf(life[head]), np.inf, np.maximum(ends - born, 1e-3)).astype(np.float32)
    by_birth = np.lexsort((ids[head], born))
    counts = (first[1:] - first[:-1])[by_birth]
    starts = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    gather = np.repeat(head[by_birth] - starts[:-1], counts) + np.arange(total)
    return RecordedParticles(
        starts, born[by_birth], lives[by_birth], times[gather], np.ascontiguousarray(place[gather], np.float32),
        np.ascontiguousarray(velocity[gather], np.float32),
    )  # fmt: skip


def _velocities(times: Doubles, place: Doubles, velocity: Doubles, first: Longs) -> Doubles:
    """Velocities of samples; where none is given, of the parabola through a sample and its neighbours."""
    unknown = np.isnan(velocity.sum(axis=1))
    if not unknown.any():
        return velocity
    total = len(times)
    inner = np.ones(total, bool)
    inner[first[:-1]] = False
    slope = np.zeros((total, 3))
    slope[1:][inner[1:]] = (np.diff(place, axis=0) / np.maximum(np.diff(times), 1e-9)[:, None])[inner[1:]]
    gap = np.zeros(total)
    gap[1:] = np.where(inner[1:], np.diff(times), 0)
    after, wide = np.zeros((total, 3)), np.zeros(total)
    after[:-1], wide[:-1] = slope[1:], gap[1:]
    both = (gap > 0) & (wide > 0)
    mean = (slope * wide[:, None] + after * gap[:, None]) / np.maximum(gap + wide, 1e-9)[:, None]
    estimate = np.where(both[:, None], mean, np.where((gap > 0)[:, None], slope, after))
    return np.where(unknown[:, None], estimate, velocity)


def _sample(t: float, place: Any, **more: Any) -> ParticleSample:
    """A sample of the particles that are there; those without a position, or too far away, are left out."""
    place = np.asarray(place, np.float64).reshape(-1, 3)
    n = len(place)

    def column(name: str, shape: tuple[int, ...]) -> npt.NDArray[Any]:
        found = more.get(name)
        known = None if found is None else np.asarray(found, np.float64).reshape(-1, *shape[1:])
        return known if known is not None and len(known) == n else np.full(shape, np.nan)

    ids = more.get("ids")
    ids = np.arange(n) if ids is None or len(ids) != n else np.asarray(ids).astype(np.int64)
    there = np.flatnonzero((np.abs(place) < _FARTHEST_PX).all(axis=1))
    velocity, age, life = (
        column(name, shape)[there] for name, shape in (("velocity", (n, 3)), ("age", (n,)), ("life", (n,)))
    )
    velocity[~np.isfinite(velocity)] = np.nan
    return ParticleSample(t, ids[there], place[there], velocity, age, life)


# OpenUSD


def _usd(path: Path, shot: Shot) -> dict[str, list[ParticleSample]]:
    from pxr import Sdf, Tf, Usd, UsdGeom

    try:
        layer = Sdf.Layer.OpenAsAnonymous(str(path))
        if layer is None:
            raise IsbjornError("this is not an OpenUSD file.", path.name, "Select a .usd, .usda or .usdc file.")
        alone(layer)
        stage = Usd.Stage.Open(layer, load=Usd.Stage.LoadNone)
        prims = [p for p in stage.Traverse() if p.IsA(UsdGeom.Points) or p.IsA(UsdGeom.PointInstancer)]
        if not prims:
            raise IsbjornError("this file contains no points.", path.name, "Export particles as points or instances.")
        found: dict[str, list[ParticleSample]] = {}
        taken = 0
        for prim in prims[:_MOST_PRIMS]:
            name = (prim.GetDisplayName() or prim.GetName())[:80]
            while name in found:
                name += " 2"
            found[name] = []
            for sample in _samples(stage, prim, shot, UsdGeom):
                taken += len(sample.ids)
                if taken > MOST_SAMPLES:
                    raise IsbjornError(
                        f"it contains more than {MOST_SAMPLES:,} samples.",
                        path.name,
                        "Export fewer frames, or fewer particles.",
                    )
                found[name].append(sample)
        return found
    except Tf.ErrorException as error:
        words = str(error).strip().splitlines()[0][:200]
        raise IsbjornError(
            f"this is not an OpenUSD file ({words}).", path.name, "Select a .usd, .usda or .usdc file."
        ) from None


def _samples(stage: Any, prim: Any, shot: Shot, geom: Any) -> Iterator[ParticleSample]:
    """The samples of a prim, at shot time: time code 0 is frame 0 of the shot."""
    rate = stage.GetTimeCodesPerSecond() or 24.0
    scale = geom.GetStageMetersPerUnit(stage) * shot.px_per_metre
    upright, start = upright_of(stage, geom), float(Fraction(shot.first_frame) / shot.frame_rate)
    points = geom.Points(prim) if prim.IsA(geom.Points) else None
    instances = geom.PointInstancer(prim)
    places = points.GetPointsAttr() if points else instances.GetPositionsAttr()
    velocities = points.GetVelocitiesAttr() if points else instances.GetVelocitiesAttr()
    ids = points.GetIdsAttr() if points else instances.GetIdsAttr()
    ages, lives = (geom.PrimvarsAPI(prim).GetPrimvar(name) for name in ("age", "life"))
    codes = places.GetTimeSamples() or [0.0]
    if len(codes) > _MOST_FRAMES:
        raise IsbjornError(f"{prim.GetName()} has {len(codes):,} samples.", "points", f"The limit is {_MOST_FRAMES:,}.")
    cache = geom.XformCache()
    for code in codes:
        cache.SetTime(code)
        matrix = np.array(cache.GetLocalToWorldTransform(prim))
        here = np.array(places.Get(code) if places.Get(code) is not None else [], np.float64).reshape(-1, 3)
        # Rows are places: p M, then the world upright.
        turned = matrix[:3, :3] @ upright.T * scale
        moved = velocities.Get(code)
        yield _sample(
            code / rate - start,
            here @ turned + matrix[3, :3] @ upright.T * scale,
            velocity=None if moved is None else np.array(moved, np.float64).reshape(-1, 3) @ turned,
            ids=_values(ids, code), age=_values(ages, code), life=_values(lives, code),
        )  # fmt: skip


def _values(attribute: Any, code: float) -> npt.NDArray[Any] | None:
    found = attribute.Get(code) if attribute else None
    return None if found is None else np.array(found)


# Tables


def _tables(files: list[Path], shot: Shot) -> dict[str, list[ParticleSample]]:
    """Samples by the emitter that the tables name; the last number in a file's name is its frame."""
    found: dict[str, list[ParticleSample]] = defaultdict(list)
    taken = 0
    if len(files) > _MOST_FRAMES:
        raise IsbjornError(
            f"{len(files):,} tables exceed the limit of {_MOST_FRAMES:,}.", files[0].name, "Select fewer frames."
        )
    for path in files:
        number = re.search(r"(\d+)\D*$", path.stem)
        if number is None:
            raise IsbjornError("its name has no frame number.", path.name, "Use a name like points.0101.csv.")
        t = float(shot.seconds(int(number[1])))
        columns = _TABLES[path.suffix.lower()](path)
        names = columns.pop("emitter", None)
        n = len(columns["place"])
        taken += n
        if taken > MOST_SAMPLES:
            raise IsbjornError(f"they contain more than {MOST_SAMPLES:,} samples.", path.name, "Select fewer frames.")
        whose = np.zeros(n, int) if names is None else names
        for one in dict.fromkeys(np.asarray(whose).tolist()):
            mine = np.flatnonzero(np.asarray(whose) == one)
            name = _whose(one, shot) if names is not None else path.stem.rstrip("0123456789._- ") or "Particles"
            found[name].append(_sample(t, **{key: value[mine] for key, value in columns.items()}))
    return dict(found)


def _whose(one: Any, shot: Shot) -> str:
    if isinstance(one, str):
        return one[:80] or "Particles"
    return shot.emitters[one].name if 0 <= one < len(shot.emitters) else f"Particles {one}"


_CSV: dict[str, list[tuple[str, ...]]] = {
    "place": [("position_x_px", "position_y_px", "position_z_px"), ("x", "y", "z")],
    "velocity": [("velocity_x_px_s", "velocity_y_px_s", "velocity_z_px_s"), ("vx", "vy", "vz")],
    "ids": [("id",)], "age": [("age_s",), ("age",)], "life": [("life_s",), ("life",)],
}  # fmt: skip


def _csv_columns(path: Path) -> dict[str, Any]:
    try:
        heads, *rows = csv.reader(io.StringIO(path.read_text("utf-8")))
        columns = list(zip(*rows, strict=True)) or [()] * len(heads)
        by_name = dict(zip([h.strip() for h in heads], columns, strict=True))
    except (UnicodeDecodeError, csv.Error, ValueError):
        raise IsbjornError("this is not a table.", path.name, "Save it as CSV in UTF-8 with a header row.") from None
    return _named(by_name, path)


def _parquet_columns(path: Path) -> dict[str, Any]:
    import pyarrow as pa
    from pyarrow import parquet

    wanted = {name for ways in _CSV.values() for way in ways for name in way} | {"emitter"}
    try:
        file = parquet.ParquetFile(path)
        if file.metadata.num_rows > MOST_SAMPLES:
            raise IsbjornError(f"it has {file.metadata.num_rows:,} rows.", path.name, f"The limit is {MOST_SAMPLES:,}.")
        table = file.read(columns=[name for name in file.schema_arrow.names if name in wanted])
    except (OSError, ValueError, pa.ArrowException) as error:
        raise IsbjornError(f"this is not a table ({str(error)[:100]}).", path.name, "Save it as Parquet.") from None
    return _named({name: table[name].to_pylist() for name in table.column_names}, path)


def _named(by_name: dict[str, Any], path: Path) -> dict[str, Any]:
    """What is known of the particles of a table, by its columns."""
    found: dict[str, Any] = {}
    many = len(next(iter(by_name.values()), ()))
    for field, ways in _CSV.items():
        for way in ways:
            if way[0] not in by_name or (field != "place" and not set(way) <= set(by_name)):
                continue
            try:
                if field == "ids":
                    found[field] = np.array([int(v) for v in by_name["id"]], np.int64)
                    continue
                parts = [np.array(by_name[h], np.float64) if h in by_name else np.zeros(many) for h in way]
            except (ValueError, TypeError, OverflowError):
                raise IsbjornError(
                    f"a value of {way[0]} is not a number.", path.name, "Correct it, or remove the column."
                ) from None
            found[field] = parts[0] if len(parts) == 1 else np.stack(parts, axis=1).reshape(-1, 3)
            break
    if "place" not in found:
        raise IsbjornError(
            "it contains no positions.", path.name, "Name columns position_x_px, position_y_px, or x, y, z."
        )
    if "emitter" in by_name:
        found["emitter"] = np.array(by_name["emitter"], dtype=object)
    return found


def _npz_columns(path: Path) -> dict[str, Any]:
    try:
        with np.load(path, allow_pickle=False) as arrays:
            found = {
                name: arrays[name]
                for name in ("id", "emitter", "position", "velocity", "age", "life")
                if name in arrays
            }
    except (OSError, ValueError, zipfile.BadZipFile, EOFError) as error:
        raise IsbjornError(f"this is not an array file ({str(error)[:100]}).", path.name, "Save it as .npz.") from None
    place = found.get("position")
    if place is None or place.ndim != 2 or place.shape[1] != 3:
        raise IsbjornError("it contains no positions.", path.name, "It needs an array `position` of shape (n, 3).")
    lost = [name for name, array in found.items() if len(array) != len(place) or array.dtype.kind not in "iuf"]
    if lost:
        raise IsbjornError(
            f"{', '.join(lost)} does not match its positions.", path.name, "All arrays need one row per particle."
        )
    names = {"id": "ids", "position": "place"}
    return {names.get(name, name): array for name, array in found.items()}


_TABLES = {".csv": _csv_columns, ".parquet": _parquet_columns, ".npz": _npz_columns}
