"""Particles of a frame as a table: CSV for people and other programs, NPZ for arrays."""

from __future__ import annotations

import csv
import io
from pathlib import Path

import numpy as np

from isbjorn.core.appearance.particles import Particles
from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.media.whole import replace_whole

_PARTS = {"position": "xyz", "velocity": "xyz", "colour": "rgb"}


def write_points(shot: Shot, particles: Particles, target: Path) -> None:
    """Write particles to `.csv` (units in the header) or `.npz`. Raises IsbjornError for another ending or a full disk."""
    if target.suffix == ".csv":
        content = _csv(shot, particles).encode()
    elif target.suffix == ".npz":
        buffer = io.BytesIO()
        np.savez_compressed(buffer, allow_pickle=False, **{name: particles[name] for name in particles.names()})
        content = buffer.getvalue()
    else:
        raise IsbjornError(f"'{target.suffix}' is no kind of table.", str(target), "End the name in .csv or .npz.")
    try:
        replace_whole(target, content)
    except OSError as error:
        raise IsbjornError(
            f"the table could not be written ({error.strerror}).", str(target), "Choose another folder."
        ) from None


def _csv(shot: Shot, particles: Particles) -> str:
    units = {
        "position": "px", "velocity": "px_s", "age": "s", "life": "s", "size": "px", "colour": "linear", "angle": "deg",
        "touched": "s", "caught": "s",
    }  # fmt: skip
    out = io.StringIO()
    writer = csv.writer(out)
    heads, columns = [], []
    for name in particles.names():
        unit = f"_{units[name]}" if name in units else ""
        array = particles[name]
        if name == "emitter":
            heads.append("emitter")
            columns.append([shot.emitters[int(i)].name for i in particles.emitter])
        elif name in _PARTS:
            for number, part in enumerate(_PARTS[name]):
                heads.append(f"{name}_{part}{unit}")
                columns.append(array[:, number].tolist())
        else:
            heads.append(name + unit)
            columns.append(array.tolist())
    writer.writerow(heads)
    writer.writerows(zip(*columns, strict=True))
    return out.getvalue()
