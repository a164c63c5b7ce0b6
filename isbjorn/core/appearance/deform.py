"""Deformers: what is seen of places, one after the other, once they have been simulated. Where a particle flies to is seen through
them too.

Along the stretch a place is at s px from its beginning, n px beside it (to the left) and z px before it.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numba import prange

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document import Emitter, Number
from isbjorn.core.document.fields.kinds import DEFORMERS
from isbjorn.core.document.parts.deformers import Bend, Displace, OneDeformer, Taper, Twist
from isbjorn.core.evaluate import bezier
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.jit import njit
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate.forces.force_layout import WIDTH
from isbjorn.core.simulate.forces.turbulence import NOISE, put_noise
from isbjorn.core.simulate.noise import flow
from isbjorn.core.simulate.state import State

_JUST_S = 1e-3


@dataclass(frozen=True)
class Moment:
    """Reads the numbers of deformers at shot time t in s; loop_s: when all comes round, if it does."""

    read: Callable[[Number], float]
    t: float = 0.0
    loop_s: float | None = None

    def __call__(self, number: Number) -> float:
        """A number as it is then."""
        return self.read(number)


def moment_of(readings: Readings, t: float) -> Moment:
    """A moment of a shot."""
    return Moment(lambda number: readings.now(number, t), t, readings.loop_s)


def _into(deformer: OneDeformer, read: Moment, place: Doubles) -> tuple[Doubles, Doubles, Doubles, float]:
    """Places (n, 3) as s, n and z along the stretch; and its length."""
    turn = math.radians(read(deformer.direction))
    x, y = place[:, 0] - read(deformer.from_x), place[:, 1] - read(deformer.from_y)
    c, s = math.cos(turn), math.sin(turn)
    return x * c + y * s, -x * s + y * c, place[:, 2], max(1e-6, read(deformer.length))


def _out_of(deformer: OneDeformer, read: Moment, s: Doubles, n: Doubles, z: Doubles) -> Doubles:
    """The way back: places (n, 3)."""
    turn = math.radians(read(deformer.direction))
    c, sn = math.cos(turn), math.sin(turn)
    return np.stack([read(deformer.from_x) + s * c - n * sn, read(deformer.from_y) + s * sn + n * c, z], axis=1)


def path_of(bend: Bend, read: Moment) -> Doubles:
    """The path of a bend in the shot, a polyline (m, 3)."""
    line = bezier.flat(bend.points, False) * (read(bend.scale) / 100)
    x, y = bezier.rotated(line[:, 0], line[:, 1], read(bend.turn))
    return np.stack([x + read(bend.across), y + read(bend.up), line[:, 2]], axis=1)


def bend(deformer: Bend, read: Moment, place: Doubles) -> Doubles:
    """Along a path, straight on beyond its ends. Distance from the stream becomes distance from the path, perpendicular to it."""
    s, n, z, length = _into(deformer, read, place)
    line = path_of(deformer, read)
    line = line[np.r_[True, np.linalg.norm(np.diff(line, axis=0), axis=1) > 1e-9]]
    if len(line) < 2:
        return place
    pieces = np.diff(line, axis=0)
    steps = np.linalg.norm(pieces, axis=1)
    way = pieces / steps[:, None]
    at = np.concatenate([[0.0], np.cumsum(steps)])
    # Directions at the points, between which they change evenly, so that nothing tears beside a corner of the polyline.
    at_points = np.concatenate([way[:1], way[:-1] + way[1:], way[-1:]])
    at_points /= np.maximum(np.linalg.norm(at_points, axis=1, keepdims=True), 1e-9)
    out = np.empty(place.shape)
    along = np.ascontiguousarray(s * (at[-1] / length) if deformer.fitted else s)
    _bent(line, pieces, steps, at, at_points, along, np.ascontiguousarray(n), np.ascontiguousarray(z), out)
    return out


@njit(
    "void(f8[:,::1], f8[:,::1], f8[::1], f8[::1], f8[:,::1], f8[::1], f8[::1], f8[::1], f8[:,::1])", parallel=True, cache=True,
    error_model="numpy",
)  # fmt: skip
def _bend(
    line: Doubles, pieces: Doubles, steps: Doubles, at: Doubles, at_points: Doubles, along: Doubles, beside: Doubles,
    before: Doubles, out: Doubles,
) -> None:  # fmt: skip
    last = len(steps)
    for i in prange(len(along)):
        s = along[i]
        inside = min(max(s, 0.0), at[last])
        low, high = 0, last
        while high - low > 1:
            middle = (low + high) // 2
            if at[middle] <= inside:
                low = middle
            else:
                high = middle
        share = (inside - at[low]) / steps[low]
        ax, ay, az = (
            at_points[low, 0] + share * (at_points[low + 1, 0] - at_points[low, 0]),
            at_points[low, 1] + share * (at_points[low + 1, 1] - at_points[low, 1]),
            at_points[low, 2] + share * (at_points[low + 1, 2] - at_points[low, 2]),
        )
        size = max(math.sqrt(ax * ax + ay * ay + az * az), 1e-9)
        ax, ay, az = ax / size, ay / size, az / size
        # To the left, level; and the normal of both.
        flat = math.sqrt(ax * ax + ay * ay)
        lx, ly = (-ay / flat, ax / flat) if flat > 1e-6 else (0.0, 1.0)
        nx, ny, nz = -az * ly, az * lx, ax * ly - ay * lx
        over, n, z = s - inside, beside[i], before[i]
        out[i, 0] = line[low, 0] + share * pieces[low, 0] + over * ax + n * lx + z * nx
        out[i, 1] = line[low, 1] + share * pieces[low, 1] + over * ay + n * ly + z * ny
        out[i, 2] = line[low, 2] + share * pieces[low, 2] + over * az + z * nz


_bent = kernel_lock(_bend)


def _share(s: Doubles, length: float) -> Doubles:
    return np.clip(s / length, 0, 1)


def twist(deformer: Twist, read: Moment, place: Doubles) -> Doubles:
    """About the axis: the distance from it stays."""
    s, n, z, length = _into(deformer, read, place)
    n, z = bezier.rotated(n, z, read(deformer.turns) * _share(s, length))
    return _out_of(deformer, read, s, n, z)


def taper(deformer: Taper, read: Moment, place: Doubles) -> Doubles:
    """Toward the axis, or away from it."""
    s, n, z, length = _into(deformer, read, place)
    by = 1 + (read(deformer.width) / 100 - 1) * _share(s, length)
    return _out_of(deformer, read, s, n * by, z * by)


@njit("void(f8[:,:,::1], f8[:,::1], f8[::1], f8[:,::1])", parallel=True, cache=True)
def _displace(rows: Doubles, place: Doubles, amount: Doubles, out: Doubles) -> None:
    for i in prange(len(amount)):
        x, y, z = flow(rows, 0, 0, NOISE, place[i, 0], place[i, 1], place[i, 2])
        out[i, 0] = place[i, 0] + amount[i] * x
        out[i, 1] = place[i, 1] + amount[i] * y
        out[i, 2] = place[i, 2] + amount[i] * z


_displaced = kernel_lock(_displace)


def displace(deformer: Displace, read: Moment, place: Doubles) -> Doubles:
    """By noise, as far as a place is along the stretch."""
    s, _, _, length = _into(deformer, read, place)
    share = _share(s, length) if deformer.grows else np.ones(len(s))
    turns = read.t * deformer.evolve
    if read.loop_s is not None:
        turns = read.t / read.loop_s * round(deformer.evolve * read.loop_s)
    rows = np.zeros((1, 1, WIDTH))
    columns = (
        1 / max(1.0, read(deformer.size)), deformer.octaves, 2.0, 0.5, 1.0, 1.0, 0.0 if deformer.flat else 1.0,
        deformer.seed % (1 << 48), 0.0,
    )  # fmt: skip
    put_noise(columns, turns, read.loop_s is not None, rows[0])
    out = np.empty(place.shape)
    _displaced(rows, np.ascontiguousarray(place), share * read(deformer.amount), out)
    return out


def deformed(emitter: Emitter, read: Moment, place: Doubles) -> Doubles:
    """Places (n, 3) px as they are seen through all of an emitter's deformers that are on, in their order."""
    for deformer in emitter.deformers:
        if deformer.on:
            place = DEFORMERS.of(deformer).made(deformer, read, place)
    return place


def is_deformed(emitter: Emitter) -> bool:
    """Whether anything is seen elsewhere than it is."""
    return any(deformer.on for deformer in emitter.deformers)


def seen_through(emitter: Emitter, read: Moment, state: State) -> State:
    """A state with its places and velocities as they are seen."""
    values = state.values.copy()
    place, velocity = (np.asarray(values[rows].T, np.float64) for rows in (slice(0, 3), slice(3, 6)))
    both = deformed(emitter, read, np.concatenate([place, place + velocity * _JUST_S]))
    here, there = both[: len(place)], both[len(place) :]
    seen: Floats = np.concatenate([here, (there - here) / _JUST_S], axis=1).T.astype(np.float32)
    values[0:6] = seen
    return replace(state, values=values)
