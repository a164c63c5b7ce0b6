"""The state of a whole shot at any frame."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
import numpy.typing as npt

from isbjorn.core.birth.shapes.base import Light
from isbjorn.core.document import Shot
from isbjorn.core.life.readings import Readings
from isbjorn.core.motion.cache import StateCache
from isbjorn.core.motion.dress import dress
from isbjorn.core.motion.shifted import Displaced
from isbjorn.core.motion.state import State
from isbjorn.core.motion.track import Track, shares_of

Floats = npt.NDArray[np.float32]
_ID_STRIDE, _ROUND_BITS, _BIRTH_BITS = 1 << 48, 0x3FF, 37


@dataclass(frozen=True)
class Particles:
    """The living particles of a shot at one moment, in drawing order of emitters, oldest first within each.

    id (n,) int64; emitter (n,) int32, its place in the cast; position (n, 3) px; velocity (n, 3) px/s; age and life (n,) s
    (life is infinite without end); age01 (n,) in [0, 1]; size (n,) px, a diameter; opacity (n,) in [0, 1];
    colour (n, 3) linear, not premultiplied; angle (n,) degrees; touched (n,) s of age at which a surface was first touched,
    -1: never. All float32 but the first two. refused: births that found no room, by emitter id.
    """

    id: npt.NDArray[np.int64]
    emitter: npt.NDArray[np.int32]
    position: Floats
    velocity: Floats
    age: Floats
    life: Floats
    age01: Floats
    size: Floats
    opacity: Floats
    colour: Floats
    angle: Floats
    touched: Floats
    refused: dict[str, int]

    def __len__(self) -> int:
        return len(self.id)

    def __getitem__(self, name: str) -> npt.NDArray[np.generic]:
        """An array by its name."""
        found: npt.NDArray[np.generic] = getattr(self, name)
        return found

    @staticmethod
    def names() -> tuple[str, ...]:
        """The names of the arrays."""
        return tuple(Particles.__dataclass_fields__)[:-1]


class Solver:
    """Gives the particles of a shot at any frame, in any order, always the same.

    cache: kept states, to be shared between solvers of edited versions of a shot. light: the plate's brightness, for what
    reads it; without it the plate is black.
    """

    def __init__(self, shot: Shot, cache: StateCache | None = None, light: Light | None = None) -> None:
        self.shot, self.readings, self.light = shot, Readings(shot), light
        self.cache = cache if cache is not None else StateCache()
        shares = shares_of(shot, self.readings)
        self.tracks = {
            number: Track(shot, emitter, shares[emitter.id], self.cache, self.readings, light)
            for number, emitter in enumerate(shot.emitters)
            if emitter.on
        }
        self._displaced = {
            number: displaced
            for number, track in self.tracks.items()
            if (displaced := Displaced(shot, track.source, self.readings)).any
        }

    def at(self, frame: int | Fraction, stale: Callable[[], bool] | None = None) -> Particles:
        """The particles at a frame number (sub-frames as fractions)."""
        return self.at_seconds(self.shot.seconds(frame), stale)

    def at_seconds(self, seconds: Fraction, stale: Callable[[], bool] | None = None) -> Particles:
        """The particles at a moment of shot time. Raises Stale when `stale` says that nobody waits for it."""
        columns: dict[str, list[npt.NDArray[np.generic]]] = {name: [] for name in Particles.names()}
        refused: dict[str, int] = {}
        if self.shot.loop:
            seconds %= self.shot.length_s
        t = float(seconds)
        for number, track in self.tracks.items():
            state = track.at(seconds, stale)
            age = (t - state.moments).astype(np.float32)
            age01 = np.clip(age / state.lives, 0, 1).astype(np.float32)
            if number in self._displaced:
                state, grown = self._displaced[number].shifted(state, age01, t)
            looks = dress(track.source, state, age01, t)
            never = state.touched is None
            found = {
                "id": self._ids(number, state),
                "emitter": np.full(state.count, number, np.int32),
                "position": state.place.T,
                "velocity": state.velocity.T,
                "age": age,
                "life": state.lives,
                "age01": age01,
                "size": looks.size * grown if number in self._displaced else looks.size,
                "opacity": looks.opacity,
                "colour": looks.colour,
                "angle": looks.angle,
                "touched": np.full(state.count, -1, np.float32) if never else state.touched,
            }
            for name, array in found.items():
                columns[name].append(array)
            missed = track.admission.refused(t)
            if missed:
                refused[track.emitter.id] = missed
        arrays = {name: _joined(name, parts) for name, parts in columns.items()}
        return Particles(**arrays, refused=refused)  # type: ignore[arg-type]

    def _ids(self, number: int, state: State) -> npt.NDArray[np.int64]:
        """Ids: the emitter's place in the cast, in a loop the round of birth, and the birth's number."""
        ids = state.births + number * _ID_STRIDE
        if self.shot.loop:
            rounds = -np.floor(state.moments / float(self.shot.length_s)).astype(np.int64)
            ids = ids + ((rounds & _ROUND_BITS) << _BIRTH_BITS)
        return ids


def _joined(name: str, parts: list[npt.NDArray[np.generic]]) -> npt.NDArray[np.generic]:
    if len(parts) == 1:
        return parts[0]
    return np.concatenate(parts) if parts else _nothing(name)


def _nothing(name: str) -> npt.NDArray[np.generic]:
    if name in ("id", "emitter"):
        return np.empty(0, np.int64 if name == "id" else np.int32)
    return np.empty((0, 3) if name in ("position", "velocity", "colour") else 0, np.float32)
