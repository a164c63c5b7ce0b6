"""Where births of an emitter will go: the fan of their directions, and the ways that some of them fly."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from isbjorn.core.appearance.deform import deformed, moment_of
from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document import Emitter
from isbjorn.core.emit.shapes.base import Light
from isbjorn.core.inspect.handles import Path2, on_picture
from isbjorn.core.render.scene.camera import Projection
from isbjorn.core.runtime.memory import Cache
from isbjorn.core.simulate.integrators.recorded import RecordedIntegrator
from isbjorn.core.simulate.integrators.strands import StrandIntegrator
from isbjorn.core.simulate.track import Track

_FLIGHTS = 40
_SAMPLES = 28
# Longest flight, in s; for particles without an end of life, the shot's length, if that is not too short to show anything.
_LONGEST_FLIGHT_S, _TELLING_S = 30.0, 5.0


def centre_ways(emitter: Emitter, track: Track, t: float) -> tuple[float, float]:
    """Direction of the middle of the fan in degrees and speed, at a moment, without spread."""
    readings, at = track.readings, np.array([t])
    turn = float(readings.frames(emitter, at).turn[0])
    direction, speed = (float(readings.number(n, at)[0]) for n in (emitter.direction, emitter.speed))
    if emitter.toward == "travel":
        v = readings.velocity(emitter, at)[0]
        direction += math.degrees(math.atan2(v[1], v[0])) - turn if np.linalg.norm(v) > 1e-6 else 0
    return direction + turn, max(0.0, speed)


def fan_of(emitter: Emitter, track: Track, view: Projection, t: float) -> Path2:
    """The fan of directions at a moment, one second long, on the picture."""
    at = np.array([t])
    place = track.readings.frames(emitter, at).place[0]
    middle, length = centre_ways(emitter, track, t)
    half = 180.0 if emitter.toward == "anywhere" else float(track.readings.number(emitter.spread, at)[0]) / 2
    turns = np.radians(np.linspace(middle + half, middle - half, 33))
    tilt = math.radians(emitter.tilt.value)
    rim = np.stack(
        [np.cos(turns) * math.cos(tilt), np.sin(turns) * math.cos(tilt), np.full(33, math.sin(tilt))], axis=1
    )
    return on_picture(view, through_deformers(track, t)(np.concatenate([[place], place + length * rim, [place]])))


# Flights by the motion that they show: an edit of looks, or of another emitter, finds them again.
_FLOWN: Cache[tuple[Floats, npt.NDArray[np.int64]]] = Cache(
    "arrivals", 0.3, what="Flight fans", depends_on="the motion, the moment, and the births that are shown"
)


def _flown(track: Track, t: float) -> tuple[Floats, npt.NDArray[np.int64]]:
    """Places (samples, n, 3) of births that leave at a moment, and how many samples each flies, (n,)."""
    births = track.source.some(_FLIGHTS)
    if isinstance(track.integrator, RecordedIntegrator):
        return _recorded(track.integrator)
    if isinstance(track.integrator, StrandIntegrator):
        # Strands as they are born: they do not fly away.
        state = track.integrator.begin(births, np.full(_FLIGHTS, t), np.full(_FLIGHTS, 1.0, np.float32))
        joints = state.place.reshape(3, _FLIGHTS, -1)
        return np.ascontiguousarray(joints.transpose(2, 1, 0)), np.full(_FLIGHTS, joints.shape[2] - 1)
    if len(births) == 0:
        return np.zeros((2, _FLIGHTS, 3), np.float32), np.ones(_FLIGHTS, int)
    lives = track.source.lifespans(births, np.full(_FLIGHTS, t))
    lives = np.minimum(np.where(np.isfinite(lives), lives, _endless_s(track)), _LONGEST_FLIGHT_S).astype(np.float32)
    stride = max(1, math.ceil(float(lives.max()) * track.hz / _SAMPLES))
    count = math.ceil(float(lives.max()) * track.hz / stride)
    paths, taken = track.flight(births, t, lives, stride, count)
    alive = 1 + np.ceil(np.minimum(lives, taken) * track.hz / stride).astype(int)
    return np.ascontiguousarray(paths.transpose(0, 2, 1)), alive


def _endless_s(track: Track) -> float:
    """Length of the flight that is shown of an endless life, s."""
    return min(_LONGEST_FLIGHT_S, max(_TELLING_S, track.readings.until_s))


def _recorded(mover: RecordedIntegrator) -> tuple[Floats, npt.NDArray[np.int64]]:
    """As `_flown`, for some particles of a recording, over their whole lives."""
    many = len(mover.recorded)
    if many == 0:
        return np.zeros((2, _FLIGHTS, 3), np.float32), np.ones(_FLIGHTS, int)
    births = np.sort(np.linspace(0, many - 1, _FLIGHTS).astype(np.int64))
    begin = mover.recorded.moments[births] + mover.at_s
    lives = mover.recorded.lives[births]
    paths = np.empty((_SAMPLES + 1, _FLIGHTS, 3), np.float32)
    for n in range(_FLIGHTS):
        one = mover.begin(births[n : n + 1], begin[n : n + 1], lives[n : n + 1])
        for k in range(_SAMPLES + 1):
            mover.place(one, float(begin[n]) + k / _SAMPLES * min(float(lives[n]), _LONGEST_FLIGHT_S))
            paths[k, n] = one.place[:, 0]
    return paths, np.full(_FLIGHTS, _SAMPLES)


def through_deformers(track: Track, t: float) -> Callable[[Doubles], Doubles]:
    """How places (n, 3) are seen through the emitter's deformers at a moment."""
    return lambda place: deformed(track.emitter, moment_of(track.readings, t), place)


def flights_of(track: Track, view: Projection, t: float, light: Light | None) -> tuple[list[Path2], float]:
    """The ways of some births that leave at a moment, on the picture; and how far the farthest comes, px."""
    if light is None:
        paths, alive = _FLOWN.get(
            (track.motion, track.identity.at(math.inf), t, _endless_s(track)), lambda: _flown(track, t)
        )
    else:
        paths, alive = _flown(track, t)
    in_flight = np.arange(len(paths))[:, None] <= alive
    distance = np.linalg.norm(paths - paths[0], axis=2)
    seen = through_deformers(track, t)
    drawn = on_picture(view, seen(paths.reshape(-1, 3).astype(np.float64)))
    return [drawn[i::_FLIGHTS][: alive[i] + 1] for i in range(_FLIGHTS)], float((distance * in_flight).max())
