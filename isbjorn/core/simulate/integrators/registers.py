"""The step of particles on which only gravity, drag, wind, turbulence and attractors act: `world` for the usual, in registers.

The same rule as `world`: one evaluation at the middle of the step, then the exact flow under it. What a
particle drew of a strength is drawn once, not at every step.
"""

from __future__ import annotations

import math

import numpy as np
from numba import prange

from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.jit import njit
from isbjorn.core.random import draw01, draw_around
from isbjorn.core.runtime.parallel import guarded
from isbjorn.core.simulate.eddies import eddies
from isbjorn.core.simulate.forces import attractor, drag, gravity, turbulence, wind, zones
from isbjorn.core.simulate.forces.drag import AT_PX_S, quadratic_rate
from isbjorn.core.simulate.forces.row import (
    ATTRIBUTE,
    BELL,
    BETWEEN,
    CODE,
    CURVE,
    CURVE_TO,
    PLACE,
    SPREAD,
    VALUE,
    ZONE,
    read_curve,
    way_of,
)
from isbjorn.core.simulate.integrators.steps import exact_step
from isbjorn.core.simulate.noise import flow_among

GRAVITY, DRAG, WIND, TURBULENCE, ATTRACTOR = gravity.CODE, drag.CODE, wind.CODE, turbulence.CODE, attractor.CODE
NOISE, OFFSET = turbulence.NOISE, turbulence.OFFSET
IS_QUADRATIC, RESPONSE = drag.IS_QUADRATIC, turbulence.RESPONSE
_BLOCK, _MOST_ROWS = 256, 64
_LIFE, _MASS = 6, 7


@njit(
    "void(f4[:,::1], i8[::1], f8[::1], f8[:,:,::1], f8[:,:,::1], f4[:,::1], f8[:,::1], f8[:,:,::1], u8, i8, i8, i8, f8)",
    parallel=True,
    cache=True,
    error_model="numpy",
)
def _drift(
    values: Floats, births: Longs, moments: Doubles, rows: Doubles, zoned: Doubles, curves: Floats, known: Doubles,
    boxes: Doubles, key: np.uint64, index: int, until: int, hz: int, end: float,
) -> None:  # fmt: skip
    last, count = rows.shape[0] - 1, rows.shape[1]
    whole = 1.0 / hz
    # The time up to which all go, and one part of a step more if it lies between two steps.
    stop = until + 1 if end > until * whole else until
    for block in prange((len(births) + _BLOCK - 1) // _BLOCK):
        drawn, between = np.zeros(_MOST_ROWS), np.zeros(_MOST_ROWS)
        for i in range(block * _BLOCK, min(len(births), (block + 1) * _BLOCK)):
            born, k = moments[i], births[i]
            if born >= max(until * whole, end):
                continue
            for r in range(count):
                attribute = int(rows[0, r, ATTRIBUTE])
                drawn[r] = 0.0
                if rows[0, r, SPREAD] != 0.0:
                    drawn[r] = rows[0, r, SPREAD] * draw_around(key, k, attribute, rows[0, r, BELL] > 0)
                if rows[0, r, CURVE_TO] >= 0:
                    between[r] = draw01(key, k, attribute + BETWEEN)
            x, y, z = float(values[0, i]), float(values[1, i]), float(values[2, i])
            u, v, w = float(values[3, i]), float(values[4, i]), float(values[5, i])
            per_life, per_mass = 1.0 / values[_LIFE, i], 1.0 / values[_MASS, i]
            first = index
            if born * hz > index:
                first = math.floor(born * hz)
            for n in range(first, stop):
                start = max(n * whole, born)
                h = (end if n == until else (n + 1) * whole) - start
                if h <= 0:
                    continue
                s = min(n - index, last)
                mx, my, mz = x + 0.5 * u * h, y + 0.5 * v * h, z + 0.5 * w * h
                age01 = (start - born + 0.5 * h) * per_life
                ax, ay, az, rate, square = 0.0, 0.0, 0.0, 0.0, 0.0
                for r in range(count):
                    share, f = 1.0, rows[s, r, VALUE] + drawn[r]
                    if rows[s, r, ZONE] >= 0:
                        share = zones.weight(zoned, s, int(rows[s, r, ZONE]), mx, my, mz)
                        if share == 0.0:
                            continue
                    if rows[s, r, CURVE] >= 0:
                        c = read_curve(curves, int(rows[s, r, CURVE]), age01)
                        if rows[s, r, CURVE_TO] >= 0:
                            c += between[r] * (read_curve(curves, int(rows[s, r, CURVE_TO]), age01) - c)
                        f *= c
                    code = int(rows[s, r, CODE])
                    if code == GRAVITY:
                        wx, wy, wz = way_of(rows, s, r, key, k)
                        f *= share
                        ax, ay, az = ax + f * wx, ay + f * wy, az + f * wz
                    elif code == DRAG:
                        f = max(0.0, f) * share * per_mass
                        if rows[s, r, IS_QUADRATIC] > 0:
                            square += f / AT_PX_S
                        else:
                            rate += f
                    elif code == ATTRACTOR:
                        dx, dy, dz = rows[s, r, PLACE] - mx, rows[s, r, PLACE + 1] - my, rows[s, r, PLACE + 2] - mz
                        f *= share * per_mass * attractor.fall(rows, s, r, dx, dy, dz)
                        ax, ay, az = ax + f * dx, ay + f * dy, az + f * dz
                    else:
                        grip = max(0.0, rows[s, r, RESPONSE]) * share * per_mass
                        if code == WIND:
                            wx, wy, wz = way_of(rows, s, r, key, k)
                        else:
                            off = rows[s, r, OFFSET]
                            wx, wy, wz = flow_among(
                                rows, s, r, NOISE, mx - rows[s, r, PLACE] + off, my - rows[s, r, PLACE + 1] + 0.7 * off,
                                mz - rows[s, r, PLACE + 2], known, boxes, min(s, len(known) - 1),
                            )  # fmt: skip
                        rate += grip
                        f *= grip
                        ax, ay, az = ax + f * wx, ay + f * wy, az + f * wz
                if square > 0:
                    speed = math.sqrt(u * u + v * v + w * w)
                    pull = (
                        (ax * u + ay * v + az * w) / speed if speed > 1e-9 else math.sqrt(ax * ax + ay * ay + az * az)
                    )
                    rate += quadratic_rate(square, rate, speed, pull, h)
                e, b, d = exact_step(rate, h)
                # What is kept is float32 at every step, so that the result does not depend on how steps are divided.
                x, y, z = (
                    float(np.float32(x + u * b + ax * d)), float(np.float32(y + v * b + ay * d)),
                    float(np.float32(z + w * b + az * d)),
                )  # fmt: skip
                u, v, w = (
                    float(np.float32(u * e + ax * b)), float(np.float32(v * e + ay * b)), float(np.float32(w * e + az * b)),
                )  # fmt: skip
            values[0, i], values[1, i], values[2, i] = x, y, z
            values[3, i], values[4, i], values[5, i] = u, v, w


@guarded
def drift(
    values: Floats, births: Longs, moments: Doubles, rows: Doubles, zoned: Doubles, curves: Floats, key: int, index: int,
    until: int, hz: int, end: float,
) -> None:  # fmt: skip
    """As `world.roam`, for rows of gravity, drag, wind, turbulence and attractors without a speed limit.

    No surface, no kill zone, no speed limit, no speed over life, and none that is carried along.
    """
    known, boxes = eddies(rows, min(len(rows), until - index + 1), values[:3])
    _drift(values, births, moments, rows, zoned, curves, known, boxes, np.uint64(key), index, until, hz, end)
