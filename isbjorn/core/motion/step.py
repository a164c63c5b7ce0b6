"""The step on the lattice, and what lies between two lattice states.

A particle feels a constant acceleration a and drag k over a step of length h, integrated exactly:
v' = v e^(-kh) + a h φ1, x' = x + v h φ1 + a h² φ2, with φ1 = (1 - e^(-kh))/(kh) and φ2 = (1 - φ1)/(kh)
(Hochbruck and Ostermann 2010, "Exponential integrators"). Steps of one particle are done in one go, in
registers; since every step rounds to float32, the result is the same however the steps are divided.
"""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt
from numba import njit, prange

from isbjorn.core.motion.forces import drag, gravity
from isbjorn.core.parallel import guarded

Floats = npt.NDArray[np.float32]
Doubles = npt.NDArray[np.float64]
Births = npt.NDArray[np.int64]
GRAVITY, DRAG = gravity.CODE, drag.CODE


@njit("UniTuple(f8,4)(f8[:,:], u8, i8)", cache=True)
def felt(forces: Doubles, key: np.uint64, birth: int) -> tuple[float, float, float, float]:
    """Sum of what a particle feels: acceleration in px/s² (x, y, z) and drag in 1/s."""
    ax, ay, az, k = 0.0, 0.0, 0.0, 0.0
    for row in forces:
        code = int(row[0])
        if code == GRAVITY:
            gx, gy = gravity.acceleration(row, key, birth)
            ax, ay = ax + gx, ay + gy
        elif code == DRAG:
            k += drag.rate(row, key, birth)
    return ax, ay, az, k


@njit("UniTuple(f4,4)(f8, f8)", cache=True)
def exact_step(k: float, h: float) -> tuple[np.float32, np.float32, np.float32, np.float32]:
    """e^(-kh), h φ1, h φ1 and h² φ2 for a step of h seconds under drag k; finite for any k ≥ 0."""
    kh = k * h
    if kh < 1e-4:
        phi1, phi2 = 1.0 - kh / 2 + kh * kh / 6, 0.5 - kh / 6 + kh * kh / 24
    else:
        phi1 = -math.expm1(-kh) / kh
        phi2 = (1.0 - phi1) / kh
    return np.float32(math.exp(-kh)), np.float32(h * phi1), np.float32(h * phi1), np.float32(h * h * phi2)


@njit(
    "void(f4[:,::1], f4[:,::1], i8[::1], f8[::1], f8[:,:], u8, i8, i8, i8)", parallel=True, cache=True, error_model="numpy"
)
def _advance(
    place: Floats, velocity: Floats, births: Births, moments: Doubles, forces: Doubles, key: np.uint64,
    index: int, until: int, hz: int,
) -> None:
    h = 1.0 / hz
    for i in prange(len(births)):
        ax, ay, az, k = felt(forces, key, births[i])
        fx, fy, fz = np.float32(ax), np.float32(ay), np.float32(az)
        x, y, z = place[0, i], place[1, i], place[2, i]
        u, v, w = velocity[0, i], velocity[1, i], velocity[2, i]
        first = index
        if moments[i] * hz > index:
            first = math.ceil(moments[i] * hz)
            if first > until:
                continue
            e, b, c, d = exact_step(k, max(0.0, first * h - moments[i]))
            x, y, z = x + (u * b + fx * d), y + (v * b + fy * d), z + (w * b + fz * d)
            u, v, w = u * e + fx * c, v * e + fy * c, w * e + fz * c
        e, b, c, d = exact_step(k, h)
        ux, uy, uz = fx * c, fy * c, fz * c
        dx, dy, dz = fx * d, fy * d, fz * d
        for _ in range(until - first):
            x, y, z = x + (u * b + dx), y + (v * b + dy), z + (w * b + dz)
            u, v, w = u * e + ux, v * e + uy, w * e + uz
        place[0, i], place[1, i], place[2, i] = x, y, z
        velocity[0, i], velocity[1, i], velocity[2, i] = u, v, w


@guarded
def advance(
    place: Floats, velocity: Floats, births: Births, moments: Doubles, forces: Doubles, key: int,
    index: int, until: int, hz: int,
) -> None:
    """Step particles in place from lattice step `index` to `until`, at `hz` steps per second.

    place (3, n) px and velocity (3, n) px/s, float32, hold each particle's state at `index`, or at its birth
    moment if that is later; one born after `until` is left as it is.
    """
    _advance(place, velocity, births, moments, forces, np.uint64(key), index, until, hz)


@njit("void(f4[:,::1], f4[:,::1], f4[:,::1], f4[:,::1], f8[::1], f8, f8, f8, f4[:,::1], f4[:,::1])", parallel=True, cache=True)
def _between(
    place0: Floats, velocity0: Floats, place1: Floats, velocity1: Floats, moments: Doubles,
    left: float, right: float, t: float, place: Floats, velocity: Floats,
) -> None:
    for i in prange(place0.shape[1]):
        start = max(left, moments[i])
        h = right - start
        s = (t - start) / h if h > 1e-12 else 0.0
        for c in range(3):
            x0, x1 = float(place0[c, i]), float(place1[c, i])
            m0, m1 = float(velocity0[c, i]) * h, float(velocity1[c, i]) * h
            rise = x1 - x0
            place[c, i] = x0 + s * (m0 + s * (3 * rise - 2 * m0 - m1 + s * (m0 + m1 - 2 * rise)))
            if h > 1e-12:
                velocity[c, i] = (m0 + s * (2 * (3 * rise - 2 * m0 - m1) + s * 3 * (m0 + m1 - 2 * rise))) / h
            else:
                velocity[c, i] = velocity0[c, i]


@guarded
def between(
    place0: Floats, velocity0: Floats, place1: Floats, velocity1: Floats, moments: Doubles,
    left: float, right: float, t: float,
) -> tuple[Floats, Floats]:
    """Places and velocities at shot time t in [left, right], by cubic Hermite, each float32 (3, n).

    A particle born after `left` has its birth state at 0, and its segment starts at its birth moment.
    """
    place, velocity = np.empty_like(place0), np.empty_like(velocity0)
    _between(place0, velocity0, place1, velocity1, moments, left, right, t, place, velocity)
    return place, velocity
