"""Births of recorded particles: a file says when each was born and how long it lived.

The file holds m particles, ordered by moment of birth, and k samples of their paths, grouped by particle and ordered by time. It is
an uncompressed `.npz` of the arrays of `Recorded`, and is memory-mapped.
"""

from __future__ import annotations

import functools
import mmap
import zipfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.document import Emitter
from isbjorn.core.document.emitter_parts.recording import Recording
from isbjorn.core.emit.listed import ListedBirths
from isbjorn.core.emit.newborn import BirthSource
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.external_files import path_of
from isbjorn.core.evaluate.readings import Readings

MOST_PARTICLES, MOST_SAMPLES = 2_000_000, 20_000_000
# Largest number of open recordings; of samples that are read in one go; and largest valid distance or speed.
_OPEN, _LOOKED, _FARTHEST = 16, 1 << 20, 1e9
_KINDS: dict[str, tuple[str, tuple[int, ...]]] = {
    "first": ("<i8", ()), "moments": ("<f8", ()), "lives": ("<f4", ()), "times": ("<f8", ()), "place": ("<f4", (3,)),
    "velocity": ("<f4", (3,)),
}  # fmt: skip


@dataclass(frozen=True)
class RecordedParticles:
    """m particles and k samples of their paths: first (m + 1,), index of each one's first sample; moments of birth s (m,),
    ascending; lifespans s (m,); of the samples: times s (k,), places px (k, 3) and velocities px/s (k, 3)."""

    first: Longs
    moments: Doubles
    lives: Floats
    times: Doubles
    place: Floats
    velocity: Floats

    def __len__(self) -> int:
        return len(self.moments)


def save_recorded(recorded: RecordedParticles, target: Path) -> None:
    """Write a recording. Raises OSError when the disk is full."""
    with target.open("wb") as file:
        np.savez(file, allow_pickle=False, **{name: getattr(recorded, name) for name in _KINDS})


def _array(file: mmap.mmap, info: zipfile.ZipInfo) -> npt.NDArray[Any]:
    """An array within a file that is mapped: its values are read when they are looked at."""
    if info.compress_type != zipfile.ZIP_STORED:
        raise ValueError("compressed")
    at = info.header_offset
    name, extra = (int.from_bytes(file[at + k : at + k + 2], "little") for k in (26, 28))
    file.seek(at + 30 + name + extra)
    version = np.lib.format.read_magic(file)
    read = np.lib.format.read_array_header_1_0 if version == (1, 0) else np.lib.format.read_array_header_2_0
    shape, by_columns, kind = read(file)
    if by_columns or kind.hasobject:
        raise ValueError("another order")
    # Never written to; numba takes only what could be.
    found: npt.NDArray[Any] = np.frombuffer(file, kind, int(np.prod(shape)), file.tell()).reshape(shape)
    return found


@functools.lru_cache(maxsize=_OPEN)
def _opened(path: Path, digest: str) -> RecordedParticles:  # noqa: ARG001
    try:
        with path.open("rb") as file, zipfile.ZipFile(file) as parts:
            mapped = mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_COPY)
            found = RecordedParticles(**{name: _array(mapped, parts.getinfo(f"{name}.npy")) for name in _KINDS})
    except (OSError, ValueError, KeyError, zipfile.BadZipFile) as error:
        raise _wrong(path, str(error)) from None
    _check(found, path)
    return found


def _wrong(path: Path, why: str) -> IsbjornError:
    return IsbjornError(f"this is not a recording ({why[:100]}).", path.name, "Import the particles again.")


def _check(found: RecordedParticles, path: Path) -> None:
    """Raise IsbjornError for arrays that do not fit each other: kernels go by them."""
    m, k = len(found.moments), len(found.times)
    for name, (kind, rest) in _KINDS.items():
        array = getattr(found, name)
        long = {"first": m + 1, "moments": m, "lives": m}.get(name, k)
        if array.dtype != np.dtype(kind) or array.shape != (long, *rest):
            raise _wrong(path, f"{name}: {array.dtype} {array.shape}")
    if m > MOST_PARTICLES or k > MOST_SAMPLES:
        raise _wrong(path, f"{m:,} particles, {k:,} samples")
    first = found.first
    if first[0] != 0 or first[-1] != k or (m and np.diff(first).min() < 1):
        raise _wrong(path, "a particle without samples")
    if m and (np.diff(found.moments).min(initial=0) < 0 or not np.isfinite(found.moments[[0, -1]]).all()):
        raise _wrong(path, "births out of order")
    if np.isnan(found.lives).any() or found.lives.min(initial=1) <= 0:
        raise _wrong(path, "a life without a duration")
    inner = np.ones(k, bool)
    inner[first[:-1]] = False
    for begin in range(0, k, _LOOKED):
        part = slice(begin, begin + _LOOKED)
        steps = np.diff(found.times[max(0, begin - 1) : begin + _LOOKED])
        late = steps[inner[part]] if begin else steps[inner[part][1:]]
        # Also false of what is no number.
        if not (late > 0).all() or not all(
            _within(a[part], _FARTHEST) for a in (found.times, found.place, found.velocity)
        ):
            raise _wrong(path, "a sample that is not a number")


def _within(values: npt.NDArray[Any], most: float) -> bool:
    return bool((np.abs(values) <= most).all())


def recorded_of(recording: Recording) -> RecordedParticles:
    """What was recorded. Raises IsbjornError where the file is missing, another one, or damaged."""
    return _opened(path_of(recording.media, recording.digest), recording.digest)


class RecordedBirths(ListedBirths):
    """The births of a recording: numbers from 0 on, by moment. In a loop they come as they come in one round."""

    def __init__(self, emitter: Emitter, key: int, readings: Readings, frame_rate: float, last_s: float) -> None:
        assert emitter.recording is not None
        moments = recorded_of(emitter.recording).moments + emitter.recording.at_s
        super().__init__(emitter, key, readings, frame_rate, last_s, np.arange(len(moments)), moments, looped=False)


class RecordedSource(BirthSource):
    """Reads lifespans and places of births from a recording; everything else comes from the emitter."""

    def __init__(self, emitter: Emitter, key: int, readings: Readings, light: Any = None) -> None:
        super().__init__(emitter, key, readings, light)
        assert emitter.recording is not None
        self.recorded = recorded_of(emitter.recording)

    def lifespans(self, births: Longs, t: Doubles, measured: dict[str, Doubles] | None = None) -> Floats:  # noqa: ARG002
        return np.asarray(self.recorded.lives[births])

    @property
    def longest_life(self) -> float:
        return float(self.recorded.lives.max(initial=1e-3))

    def leaving(self, births: Longs, t: Doubles) -> tuple[Doubles, Doubles, Doubles, Doubles]:
        r, first = self.recorded, self.recorded.first[births]
        velocity = r.velocity[first].astype(np.float64)
        place = r.place[first] - velocity * (r.times[first] - r.moments[births])[:, None]
        frames = self.readings.frames(self.emitter, t)
        place, velocity = frames.of(*place.T), frames.of(*velocity.T) - frames.place
        speed = np.linalg.norm(velocity, axis=1, keepdims=True)
        way = np.where(speed > 1e-9, velocity / np.maximum(speed, 1e-9), np.array([1.0, 0.0, 0.0]))
        return place, velocity, velocity, way
