"""The step on the lattice, and interpolation between two lattice states.

A constant acceleration a and drag k act on a particle over a step of length h, integrated exactly: v' = v e^(-kh) + a h φ1, x' = x
+ v h φ1 + a h² φ2, with φ1 = (1 - e^(-kh))/(kh) and φ2 = (1 - φ1)/(kh) (Hochbruck and Ostermann 2010, "Exponential integrators").
Steps of one particle are computed in one loop, in registers; since every step rounds to float32, the result is the same however the
steps are divided.
"""

from __future__ import annotations

import math

import numpy as np
from numba import prange

from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.random import draw_around
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate.forces import drag, gravity
from isbjorn.core.simulate.forces.accumulators import DRAG as KEEPS
from isbjorn.core.simulate.forces.accumulators import SIZE
from isbjorn.core.simulate.forces.force_layout import ATTRIBUTE, BELL, CODE, SPREAD, VALUE

GRAVITY, DRAG = gravity.CODE, drag.CODE
# Up to here a series of ten terms has all the digits there are; 1 / n! from 10 down to 2.
LITTLE = 0.2
_FACTORIALS = tuple(1.0 / math.factorial(n) for n in range(10, 1, -1))


@njit("UniTuple(f8,4)(f8[:,:,::1], u8, i8)", cache=True)
def constant_accelerations(forces: Doubles, key: np.uint64, birth: int) -> tuple[float, float, float, float]:
    """Sum of what a particle feels of constant forces: acceleration in px/s² (x, y, z) and drag in 1/s."""
    out = np.zeros(SIZE)
    for row in range(forces.shape[1]):
        value = forces[0, row, VALUE]
        if forces[0, row, SPREAD] != 0.0:
            attribute = int(forces[0, row, ATTRIBUTE])
            value += forces[0, row, SPREAD] * draw_around(key, birth, attribute, forces[0, row, BELL] > 0)
        code = int(forces[0, row, CODE])
        if code == GRAVITY:
            gravity.pull(forces, 0, row, key, birth, value, out)
        elif code == DRAG:
            drag.resist(forces, 0, row, value, out)
    return out[0], out[1], out[2], out[KEEPS]


@inline_kernel("f8(f8)", cache=True, forceinline=True)
def second(kh: float) -> float:
    """φ2 by its series, exact to the last bit where kh is below `LITTLE`."""
    phi2 = 1.0 / 39916800
    for n in range(len(_FACTORIALS)):
        phi2 = _FACTORIALS[n] - kh * phi2
    return phi2


@inline_kernel("UniTuple(f8,3)(f8, f8)", cache=True)
def exact_step(k: float, h: float) -> tuple[float, float, float]:
    """e^(-kh), h φ1 and h² φ2 for a step of h seconds under drag k; finite for any k ≥ 0."""
    kh = k * h
    if kh < LITTLE:
        # φ1 = 1 - kh φ2, and e^(-kh) = 1 - kh φ1.
        phi2 = second(kh)
        phi1 = 1.0 - kh * phi2
        return 1.0 - kh * phi1, h * phi1, h * h * phi2
    lost = math.expm1(-kh)
    phi1 = -lost / kh
    return 1.0 + lost, h * phi1, h * h * (1.0 - phi1) / kh


@njit("void(i8[::1], f8[:,:,::1], u8, i8, f4[:,:])", parallel=True, cache=True)
def _settle(births: Longs, forces: Doubles, key: np.uint64, hz: int, pull: Floats) -> None:
    for i in prange(len(births)):
        ax, ay, az, k = constant_accelerations(forces, key, births[i])
        kept, carried, grown = exact_step(k, 1.0 / hz)
        e, b, d = np.float32(kept), np.float32(carried), np.float32(grown)
        c = b
        pull[0, i], pull[1, i] = e, b
        pull[2, i], pull[3, i], pull[4, i] = np.float32(ax) * c, np.float32(ay) * c, np.float32(az) * c
        pull[5, i], pull[6, i], pull[7, i] = np.float32(ax) * d, np.float32(ay) * d, np.float32(az) * d


@kernel_lock
def settle(births: Longs, forces: Doubles, key: int, hz: int, pull: Floats) -> None:
    """Work out, once in a life, what a whole step does to each particle, into pull (8, n) float32.

    Rows: what is left of the velocity, how far it carries, then what the forces add to velocity and to place.
    """
    _settle(births, forces, np.uint64(key), hz, pull)


@inline_kernel("UniTuple(f4,6)(f4[:,:], i8, f8, f8[:,:,::1], u8, i8)", cache=True)
def _first_part(
    values: Floats, i: int, h: float, forces: Doubles, key: np.uint64, birth: int
) -> tuple[np.float32, np.float32, np.float32, np.float32, np.float32, np.float32]:
    """Place and velocity of a newborn after the rest of the step in which it was born."""
    ax, ay, az, k = constant_accelerations(forces, key, birth)
    kept, carried, grown = exact_step(k, max(0.0, h))
    e, b, d = np.float32(kept), np.float32(carried), np.float32(grown)
    c = b
    fx, fy, fz = np.float32(ax), np.float32(ay), np.float32(az)
    u, v, w = values[3, i], values[4, i], values[5, i]
    x, y, z = values[0, i] + (u * b + fx * d), values[1, i] + (v * b + fy * d), values[2, i] + (w * b + fz * d)
    return x, y, z, u * e + fx * c, v * e + fy * c, w * e + fz * c


@njit("void(f4[:,::1], i8[::1], f8[::1], f8[:,:,::1], u8, i8, i8, i8)", parallel=True, cache=True, error_model="numpy")
def _advance(
    values: Floats, births: Longs, moments: Doubles, forces: Doubles, key: np.uint64, index: int, until: int, hz: int
) -> None:
    for i in prange(len(births)):
        x, y, z = values[0, i], values[1, i], values[2, i]
        u, v, w = values[3, i], values[4, i], values[5, i]
        first = index
        if moments[i] * hz > index:
            first = math.ceil(moments[i] * hz)
            if first > until:
                continue
            x, y, z, u, v, w = _first_part(values, i, first / hz - moments[i], forces, key, births[i])
        e, b = values[7, i], values[8, i]
        ux, uy, uz = values[9, i], values[10, i], values[11, i]
        dx, dy, dz = values[12, i], values[13, i], values[14, i]
        for _ in range(until - first):
            x, y, z = x + (u * b + dx), y + (v * b + dy), z + (w * b + dz)
            u, v, w = u * e + ux, v * e + uy, w * e + uz
        values[0, i], values[1, i], values[2, i] = x, y, z
        values[3, i], values[4, i], values[5, i] = u, v, w


@kernel_lock
def advance(
    values: Floats, births: Longs, moments: Doubles, forces: Doubles, key: int, index: int, until: int, hz: int
) -> None:
    """Step particles in place from lattice step `index` to `until`, at `hz` steps per second.

    values (15, n) float32 as in `State`: each particle's state at `index`, or at its birth moment if that is later;
    one born after `until` is left as it is.
    """
    _advance(values, births, moments, forces, np.uint64(key), index, until, hz)


@inline_kernel("UniTuple(f8,2)(f8, f8, f8, f8, f8, f8)", cache=True, forceinline=True)
def cubic(x0: float, v0: float, x1: float, v1: float, h: float, s: float) -> tuple[float, float]:
    """Place and velocity at the share s of h seconds between two places with their velocities, by cubic Hermite."""
    m0, m1, rise = v0 * h, v1 * h, x1 - x0
    place = x0 + s * (m0 + s * (3 * rise - 2 * m0 - m1 + s * (m0 + m1 - 2 * rise)))
    slope = m0 + s * (2 * (3 * rise - 2 * m0 - m1) + s * 3 * (m0 + m1 - 2 * rise))
    return place, slope / h if h > 1e-12 else v0


@njit(
    "void(f4[:,::1], i8[::1], f8[::1], f8[:,:,::1], u8, i8, i8, f8, i8[::1], i8, f4[:,::1])", parallel=True, cache=True
)
def _between(
    values: Floats, births: Longs, moments: Doubles, forces: Doubles, key: np.uint64, index: int, hz: int, t: float,
    kept: Longs, offset: int, out: Floats,
) -> None:  # fmt: skip
    left, right = index / hz, (index + 1) / hz
    for j in prange(len(kept)):
        i = kept[j]
        start = left
        if moments[i] > left:
            start = moments[i]
            x, y, z, u, v, w = _first_part(values, i, right - start, forces, key, births[i])
        else:
            e, b = values[7, i], values[8, i]
            x = values[0, i] + (values[3, i] * b + values[12, i])
            y = values[1, i] + (values[4, i] * b + values[13, i])
            z = values[2, i] + (values[5, i] * b + values[14, i])
            u, v, w = (
                values[3, i] * e + values[9, i],
                values[4, i] * e + values[10, i],
                values[5, i] * e + values[11, i],
            )
        h = right - start
        s = (t - start) / h if h > 1e-12 else 0.0
        ends = (x, y, z)
        speeds = (u, v, w)
        for c in range(3):
            out[c, offset + j], out[3 + c, offset + j] = cubic(
                values[c, i], values[3 + c, i], float(ends[c]), float(speeds[c]), h, s
            )  # fmt: skip
        out[6, offset + j] = values[6, i]


@kernel_lock
def between(
    values: Floats, births: Longs, moments: Doubles, forces: Doubles, key: int, index: int, hz: int, t: float,
    kept: Longs, offset: int, out: Floats,
) -> None:  # fmt: skip
    """Places, velocities and lifespans of the particles `kept`, at shot time t, into out (7, m) from column `offset` on.

    By cubic Hermite over the step from `index`; the segment of one born within it starts at its birth.
    """
    _between(values, births, moments, forces, np.uint64(key), index, hz, t, kept, offset, out)


@njit("void(f4[:,::1], i8[::1], f4[:,::1])", parallel=True, cache=True)
def _gather(values: Floats, kept: Longs, out: Floats) -> None:
    for row in prange(values.shape[0]):
        for j in range(len(kept)):
            out[row, j] = values[row, kept[j]]


@kernel_lock
def gather(values: Floats, kept: Longs, out: Floats) -> None:
    """Copy the columns `kept` of values (r, n) to the first columns of out (r, m)."""
    _gather(values, kept, out)


@njit("void(f4[:,::1], f8[::1], i8[::1], f4[:,::1], i8[::1], i8, i8, f8, b1)", parallel=True, cache=True)
def _blend(
    values: Floats, moments: Doubles, columns: Longs, after: Floats, theirs: Longs, index: int, hz: int, t: float,
    straight: bool,
) -> None:  # fmt: skip
    for n in prange(len(columns)):
        i, j = columns[n], theirs[n]
        start = max(index / hz, moments[i])
        h = (index + 1) / hz - start
        s = (t - start) / h if h > 1e-12 else 0.0
        for c in range(3):
            if straight:
                values[c, i] += s * (after[c, j] - values[c, i])
                values[3 + c, i] += s * (after[3 + c, j] - values[3 + c, i])
            else:
                values[c, i], values[3 + c, i] = cubic(
                    values[c, i], values[3 + c, i], after[c, j], after[3 + c, j], h, s
                )


@kernel_lock
def blend(
    values: Floats, moments: Doubles, columns: Longs, after: Floats, theirs: Longs, index: int, hz: int, t: float,
    straight: bool = False,
) -> None:  # fmt: skip
    """Take particles in place from lattice step `index`, or from their birth within it, to shot time t, by cubic Hermite.

    straight: in a straight line instead, which stays within any convex shape that contains both ends. columns (m,): which of
    `values` (k, n); theirs (m,): the column of each in the state `after`, of the next step.
    """
    _blend(values, moments, columns, after, theirs, index, hz, t, straight)
