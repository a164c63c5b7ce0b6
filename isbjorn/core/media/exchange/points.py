"""Particles of a frame as a table: CSV for people and other programs, Parquet for large ones, NPZ for arrays."""

from __future__ import annotations

import csv
import io
from pathlib import Path
from typing import Any

import numpy as np

from isbjorn.core.appearance.particles import Particles
from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.runtime.whole import replace_whole

_PARTS = {"position": "xyz", "velocity": "xyz", "colour": "rgb"}


def write_points(shot: Shot, particles: Particles, target: Path) -> None:
    """Write particles to `.csv`, `.parquet` (units in the names of columns) or `.npz`.

    Raises IsbjornError for other endings, or a full disk.
    """
    if target.suffix == ".csv":
        content = _csv(shot, particles).encode()
    elif target.suffix == ".npz":
        buffer = io.BytesIO()
        np.savez_compressed(buffer, allow_pickle=False, **{name: particles[name] for name in particles.names()})
        content = buffer.getvalue()
    elif target.suffix == ".parquet":
        content = _parquet(shot, particles)
    else:
        raise IsbjornError(
            f"'{target.suffix}' is not a type of table.", str(target), "Use a name that ends in .csv, .parquet or .npz."
        )
    try:
        replace_whole(target, content)
    except OSError as error:
        raise IsbjornError(
            f"the table could not be written ({error.strerror}).", str(target), "Select another folder."
        ) from None


def columns_of(shot: Shot, particles: Particles) -> dict[str, Any]:
    """Particles as named columns (n,), with their units in the names; emitters by their own names."""
    units = {
        "position": "px", "velocity": "px_s", "age": "s", "life": "s", "size": "px", "colour": "linear", "angle": "deg",
        "touched": "s", "caught": "s",
    }  # fmt: skip
    found: dict[str, Any] = {}
    for name in particles.names():
        unit = f"_{units[name]}" if name in units else ""
        array = particles[name]
        if name == "emitter":
            found["emitter"] = [shot.emitters[int(i)].name for i in particles.emitter]
        elif name in _PARTS:
            found |= {f"{name}_{part}{unit}": array[:, number] for number, part in enumerate(_PARTS[name])}
        else:
            found[name + unit] = array
    return found


def _csv(shot: Shot, particles: Particles) -> str:
    out = io.StringIO()
    writer = csv.writer(out)
    columns = columns_of(shot, particles)
    writer.writerow(columns)
    writer.writerows(zip(*(c if isinstance(c, list) else c.tolist() for c in columns.values()), strict=True))
    return out.getvalue()


def _parquet(shot: Shot, particles: Particles) -> bytes:
    import pyarrow as pa
    from pyarrow import parquet

    columns = {name: pa.array(column) for name, column in columns_of(shot, particles).items()}
    columns["emitter"] = pa.array(columns["emitter"].to_pylist(), pa.string()).dictionary_encode()
    buffer = io.BytesIO()
    parquet.write_table(pa.table(columns), buffer, compression="zstd")
    return buffer.getvalue()
