"""Particles that arrive at a given place at a given moment.

The law of the way, for a particle at x with velocity v, which has h seconds left to its place X: the acceleration that is least on
the whole (its integral of a² is the least). To be there at rest, a = 6 (X - x) / h² - 4 v / h; to be there, with whatever speed,
a = 3 (X - x - v h) / h² (Bryson and Ho 1975, "Applied Optimal Control", section 5.3). Alone, this is the cubic that meets both
ends, in closed form. Where forces act, each lattice step plans the rest of the way again: the step of the law for the time that is
left, plus what the forces add in the step, times their share on the way and what the law leaves of it (`answered`). The last step
goes to the place itself, so the arrival is exact whatever acts.

Bound: a steady acceleration a that acts all the way keeps a particle a h² (ln(T / h) - 1 + h / T) away from its cubic with h of T
seconds left if it is to rest, and a h (T - h)² / (2 T) if it may move: nothing at the end, and at most 0.051 and 0.075 a T².
"""

from __future__ import annotations

import math

import numpy as np
from numba import prange

from isbjorn.core.arrays import Bools, Doubles, Floats, Longs
from isbjorn.core.document import Shot
from isbjorn.core.emit.newborn import BirthSource
from isbjorn.core.emit.pieces.flights import PieceSource
from isbjorn.core.evaluate.curves import AGES, table
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate.integrators.placed import PlacedIntegrator
from isbjorn.core.simulate.state import State
from isbjorn.core.simulate.state_layout import LIFE


@inline_kernel("UniTuple(f8,2)(f8, f8, f8, f8, f8, b1)", cache=True, forceinline=True)
def approached(x: float, v: float, place: float, left: float, dt: float, rests: bool) -> tuple[float, float]:
    """Place and velocity after dt seconds of the law, with `left` seconds to the arrival at a place."""
    if dt >= left:
        return place, 0.0 if rests else (1.5 * (place - x) / left - 0.5 * v if left > 1e-12 else v)
    if rests:
        s = dt / left
        rise, m = place - x, v * left
        at = x + s * (m + s * (3.0 * rise - 2.0 * m + s * (m - 2.0 * rise)))
        return at, (m + s * (2.0 * (3.0 * rise - 2.0 * m) + s * 3.0 * (m - 2.0 * rise))) / left
    c = 3.0 * (place - x - v * left) / (left * left)
    return x + v * dt + c * dt * dt * (0.5 - dt / (6.0 * left)), v + c * dt * (1.0 - 0.5 * dt / left)


@inline_kernel("UniTuple(f8,2)(f8, b1)", cache=True, forceinline=True)
def answered(part: float, rests: bool) -> tuple[float, float]:
    """What the law leaves of the way and of the speed that a steady force adds, over a part in [0, 1] of the time that is left."""
    if part >= 1.0:
        return 0.0, 0.0
    if not rests:
        return 1.0 - part, 1.0 - 1.5 * part
    if part < 1e-3:
        return 1.0 - 4.0 / 3.0 * part, 1.0 - 2.0 * part
    log = math.log1p(-part)
    return -2.0 * (1.0 - part) ** 2 * (log + part) / (part * part), (1.0 - part) * (3.0 * part + 2.0 * log) / part


@njit("void(f4[:,:], f4[:,:], f8[:,::1], b1[::1], f8[::1], f8[::1], f4[::1], f8, f8, b1)", parallel=True, cache=True)
def _steer(
    values: Floats, before: Floats, places: Doubles, heads: Bools, moments: Doubles, ends: Doubles, share: Floats, start: float,
    stop: float, rests: bool,
) -> None:  # fmt: skip
    last = len(share) - 1
    for i in prange(len(moments)):
        begin = max(start, moments[i])
        dt = stop - begin
        if not heads[i] or dt <= 0.0:
            continue
        left, whole = ends[i] - begin, ends[i] - moments[i]
        at = min(1.0, max(0.0, (begin + 0.5 * dt - moments[i]) / max(whole, 1e-12))) * last
        k = min(int(at), last - 1)
        acts = share[k] + (at - k) * (share[k + 1] - share[k])
        way, gain = answered(min(1.0, dt / max(left, 1e-12)), rests)
        for c in range(3):
            x, v = before[c, i], before[3 + c, i]
            to, speed = approached(x, v, places[i, c], left, dt, rests)
            # What the forces did in the step, besides the way that the particle was on.
            values[c, i] = to + acts * way * (values[c, i] - (x + v * dt))
            values[3 + c, i] = speed + acts * gain * (values[3 + c, i] - v)


@njit("void(f4[:,:], f4[:,:], f8[:,::1], b1[::1], f8[::1], f8[::1], f8, b1)", parallel=True, cache=True)
def _approach(
    values: Floats,
    begins: Floats,
    places: Doubles,
    heads: Bools,
    moments: Doubles,
    ends: Doubles,
    t: float,
    rests: bool,
) -> None:
    for i in prange(len(moments)):
        dt = max(0.0, t - moments[i])
        for c in range(3):
            x, v = begins[c, i], begins[3 + c, i]
            if heads[i]:
                to, speed = approached(x, v, places[i, c], ends[i] - moments[i], dt, rests)
                values[c, i], values[3 + c, i] = to, speed
            else:
                values[c, i], values[3 + c, i] = x + v * dt, v


class Arrivals:
    """The places to which particles of an emitter go."""

    def __init__(self, source: PieceSource) -> None:
        assemble = source.emitter.pieces.assemble if source.emitter.pieces is not None else None
        assert assemble is not None
        self.source, self.rests = source, assemble.arrives == "at rest"
        self.share = np.ascontiguousarray(np.clip(table(assemble.forces), 0, 1))

    def of(self, state: State) -> tuple[Doubles, Bools, Doubles]:
        """Places (n, 3), which particles go there (n,), and when they arrive (n,)."""
        places, heads = self.source.targets(state.births, state.moments)
        return np.ascontiguousarray(places), heads, state.moments + state.values[LIFE].astype(np.float64)

    @kernel_lock
    def steer(self, state: State, before: Floats, start: float, stop: float) -> None:
        """Lead particles, in place, toward their places, after a step under forces from `before` (6, n), which they began at shot
        time `start` or at their birth, up to `stop`."""
        places, heads, ends = self.of(state)
        _steer(state.values, before, places, heads, state.moments, ends, self.share, start, stop, self.rests)

    def acting(self, age01: Floats) -> Floats:
        """The share of forces and displacements that acts at ages in [0, 1], float32 (n,)."""
        return np.interp(age01, AGES, self.share).astype(np.float32)


def arrivals_of(source: BirthSource) -> Arrivals | None:
    """Where the particles of an emitter are led to; None if they arrive nowhere."""
    return Arrivals(source) if isinstance(source, PieceSource) and source.flights.arrives else None


class ArrivingIntegrator(PlacedIntegrator):
    """Particles that nothing acts on but the law of the way: in closed form at any moment. values rows 7 to 12: place and velocity
    at birth."""

    def __init__(self, shot: Shot, source: BirthSource, readings: Readings) -> None:  # noqa: ARG002
        assert isinstance(source, PieceSource)
        super().__init__(source, shot.simulation_rate)
        self.arrivals = Arrivals(source)

    def begin(self, births: Longs, moments: Doubles, lives: Floats) -> State:
        state = super().begin(births, moments, lives)
        state.values[7:13] = state.values[0:6]
        return state

    @kernel_lock
    def place(self, state: State, t: float) -> None:
        places, heads, ends = self.arrivals.of(state)
        _approach(state.values, state.values[7:13].copy(), places, heads, state.moments, ends, t, self.arrivals.rests)
