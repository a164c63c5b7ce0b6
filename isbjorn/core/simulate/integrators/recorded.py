"""The mover of particles that were recorded: where they are is looked up, at any moment, and never stepped."""

from __future__ import annotations

import numpy as np
from numba import prange

from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.document import Shot
from isbjorn.core.emit.newborn import BirthSource
from isbjorn.core.emit.recorded import RecordedSource
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.jit import njit
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate.integrators.placed import PlacedIntegrator
from isbjorn.core.simulate.state import State
from isbjorn.core.simulate.steps import cubic


@njit("void(i8[::1], f8, i8[::1], f8[::1], f4[:,::1], f4[:,::1], f8[::1], f4[:,:])", parallel=True, cache=True)
def _looked_up(
    births: Longs, t: float, first: Longs, times: Doubles, place: Floats, velocity: Floats, frame: Doubles, out: Floats
) -> None:
    """Places and velocities at a moment t of the recording into out (6, n): between two samples by cubic Hermite, before the first
    and after the last straight on. frame: a place, cosine and sine of a turn, and a factor, by which all are set into the shot."""
    x, y, z, c, s, grown = frame[0], frame[1], frame[2], frame[3] * frame[5], frame[4] * frame[5], frame[5]
    for i in prange(len(births)):
        low, high = first[births[i]], first[births[i] + 1] - 1
        begin, end = low, high
        while high - low > 1:
            middle = (low + high) // 2
            if times[middle] <= t:
                low = middle
            else:
                high = middle
        p0, p1, p2, v0, v1, v2 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        if t <= times[begin] or t >= times[end]:
            at = begin if t <= times[begin] else end
            gone = t - times[at]
            v0, v1, v2 = velocity[at, 0], velocity[at, 1], velocity[at, 2]
            p0, p1, p2 = place[at, 0] + v0 * gone, place[at, 1] + v1 * gone, place[at, 2] + v2 * gone
        else:
            h = times[high] - times[low]
            share = (t - times[low]) / h
            p0, v0 = cubic(place[low, 0], velocity[low, 0], place[high, 0], velocity[high, 0], h, share)
            p1, v1 = cubic(place[low, 1], velocity[low, 1], place[high, 1], velocity[high, 1], h, share)
            p2, v2 = cubic(place[low, 2], velocity[low, 2], place[high, 2], velocity[high, 2], h, share)
        out[0, i], out[1, i], out[2, i] = x + p0 * c - p1 * s, y + p0 * s + p1 * c, z + p2 * grown
        out[3, i], out[4, i], out[5, i] = v0 * c - v1 * s, v0 * s + v1 * c, v2 * grown


class RecordedIntegrator(PlacedIntegrator):
    """Particles along their recorded ways, set into the shot by the emitter's place, turn and size."""

    def __init__(self, shot: Shot, source: BirthSource, readings: Readings) -> None:
        assert isinstance(source, RecordedSource)
        assert source.emitter.recording is not None
        super().__init__(source, shot.simulation_rate)
        self.readings, self.recorded, self.at_s = readings, source.recorded, source.emitter.recording.at_s

    @kernel_lock
    def place(self, state: State, t: float) -> None:
        r, frame = self.recorded, self.readings.frames(self.source.emitter, np.array([t]))
        turn = np.radians(frame.turn[0])
        set_by = np.array([*frame.place[0], np.cos(turn), np.sin(turn), frame.size[0]])
        births = np.ascontiguousarray(state.births)
        _looked_up(births, t - self.at_s, r.first, r.times, r.place, r.velocity, set_by, state.values[:6])
