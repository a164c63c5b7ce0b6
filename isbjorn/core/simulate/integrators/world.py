"""The step of particles on which forces with a place, zones, surfaces or keyed strengths act.

One evaluation at the middle of the step, then the exact flow under the forces there (the exponential midpoint rule;
Hochbruck and Ostermann 2010, "Exponential integrators"). Without resistance it is the position form of Verlet's method, which
keeps energy in the long run; under constant forces it is exact. Between two lattice steps a state is a step of that part.
"""

from __future__ import annotations

import math

import numpy as np
from numba import prange

from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.random import BETWEEN_CURVES, SPEED, draw01
from isbjorn.core.random import SIZE as SIZE_DRAW
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate import contact, forces
from isbjorn.core.simulate.forces import accumulators, remove, zones
from isbjorn.core.simulate.forces.drag import quadratic_rate
from isbjorn.core.simulate.forces.force_layout import CODE, ZONE, read_curve, strength
from isbjorn.core.simulate.state_layout import CAUGHT, GONE_AT, HOW, LIFE, MASS, SIZE, TOUCHED
from isbjorn.core.simulate.steps import exact_step
from isbjorn.core.simulate.table_types import SOLIDS, ZONES, Solids, Zones

LIMIT, ORIGIN_0, ORIGIN_1, SIZE_NOW = 0, 1, 4, 7
SETTINGS = 8
SPEED_CURVE, SPEED_CURVE_TO, SIZE_CURVE, SIZE_CURVE_TO = 0, 1, 2, 3
_BLOCK = 128
_FARTHEST = 1e8
_MOST_STRIDES, _TOUCHED_PX = 256, 1e-3
REMOVE, TAKES_INSIDE, INVERTED = remove.CODE, remove.TAKES_INSIDE, zones.INVERTED
F_DRAG, F_GRIP, F_AIR, F_QUADRATIC, F_LIMIT = (
    accumulators.DRAG,
    accumulators.GRIP,
    accumulators.AIR,
    accumulators.QUADRATIC,
    accumulators.LIMIT,
)


@inline_kernel(
    f"void(f8[:,:,::1], {ZONES}, f4[:,::1], f8[:,::1], i8, u8, i8, f8, f8, f8[::1], f8[::1])",
    cache=True,
    forceinline=True,
)
def feel(
    rows: Doubles, zoned: Zones, curves: Floats, paths: Doubles, s: int, key: np.uint64, birth: int, age01: float,
    mass: float, at: Doubles, out: Doubles,
) -> None:  # fmt: skip
    """What acts at `at` (place, velocity, seconds since touch and since catching; 8), into `out` (see `accumulators`)."""
    out[:] = 0.0
    x, y, z = at[0], at[1], at[2]
    for r in range(rows.shape[1]):
        code = int(rows[s, r, CODE])
        if not forces.feels(code):
            continue
        zone, share = int(rows[s, r, ZONE]), 1.0
        if zone >= 0:
            share = zones.weight(zoned, s, zone, x, y, z)
            if share == 0.0:
                continue
        f = strength(rows, s, r, curves, key, birth, age01, x, y, z, at[3], at[4], at[5], at[6], at[7])
        forces.feel(code, rows, s, r, paths, key, birth, at, f, share, mass, out)


@inline_kernel(
    f"UniTuple(f8,3)(f8[:,:,::1], {ZONES}, f4[:,::1], i8, u8, i8, f8, f8, f8, f8, f8, f8, f8, f8, f8, f8, f8)",
    cache=True,
    forceinline=True,
)
def swirled(
    rows: Doubles, zoned: Zones, curves: Floats, s: int, key: np.uint64, birth: int, age01: float, mass: float,
    u: float, v: float, w: float, touch: float, caught: float, x: float, y: float, z: float, h: float,
) -> tuple[float, float, float]:  # fmt: skip
    """Where the vortices carry a place in h seconds."""
    for r in range(rows.shape[1]):
        code = int(rows[s, r, CODE])
        if not forces.carries(code):
            continue
        zone, share = int(rows[s, r, ZONE]), 1.0
        if zone >= 0:
            share = zones.weight(zoned, s, zone, x, y, z)
        if share > 0:
            f = strength(rows, s, r, curves, key, birth, age01, x, y, z, u, v, w, touch, caught)
            x, y, z = forces.carry(code, rows, s, r, key, birth, x, y, z, f, share, mass, h)
    return x, y, z


@inline_kernel(f"b1(f8[:,:,::1], {ZONES}, i8, f8, f8, f8, f8, f8, f8)", cache=True, forceinline=True)
def _removed(
    rows: Doubles, zoned: Zones, s: int, x: float, y: float, z: float, dx: float, dy: float, dz: float
) -> bool:
    """Whether a kill zone removes a particle that reaches a place by the path (dx, dy, dz)."""
    for r in range(rows.shape[1]):
        zone = int(rows[s, r, ZONE])
        if int(rows[s, r, CODE]) != REMOVE or zone < 0:
            continue
        # The region that takes is the zone, which is convex, or all beyond it.
        within = (rows[s, r, TAKES_INSIDE] > 0) != (zoned[0][s, zone, INVERTED] > 0)
        if not within:
            if zones.depth(zoned, s, zone, x, y, z) < 0:
                return True
            continue
        # Along the way, in strides as long as the zone is away, no part of it is passed over.
        length, gone = math.sqrt(dx * dx + dy * dy + dz * dz), 0.0
        for _ in range(_MOST_STRIDES):
            back = gone / length if length > 1e-12 else 0.0
            away = -zones.depth(zoned, s, zone, x - dx * back, y - dy * back, z - dz * back)
            if away <= _TOUCHED_PX:
                return True
            gone += away
            if gone >= length:
                break
    return False


@inline_kernel("f8(f4[:,::1], i8, i8, i8, u8, i8, f8)", cache=True, forceinline=True)
def _share(curves: Floats, low: int, high: int, draw: int, key: np.uint64, birth: int, age01: float) -> float:
    """The multiplier of a particle's number at an age: from a curve, or from its own mix of two."""
    share = read_curve(curves, low, age01)
    if curves[high, 0] >= 0:
        u = draw01(key, birth, BETWEEN_CURVES + 16 * draw)
        share += u * (read_curve(curves, high, age01) - share)
    return share


@inline_kernel("f8(f4[:,::1], u8, i8, f8)", cache=True, forceinline=True)
def _own_share(curves: Floats, key: np.uint64, birth: int, age01: float) -> float:
    """What is left of a particle's own speed at an age."""
    return _share(curves, SPEED_CURVE, SPEED_CURVE_TO, SPEED, key, birth, age01)


@inline_kernel("f8(f8, f4[:,::1], u8, i8, f8)", cache=True, forceinline=True)
def _radius(size: float, curves: Floats, key: np.uint64, birth: int, age01: float) -> float:
    """The radius of a body at an age, as it is drawn, px. size: at its birth or as it is keyed now, without the curve over life."""
    return 0.5 * max(0.0, size) * _share(curves, SIZE_CURVE, SIZE_CURVE_TO, SIZE_DRAW, key, birth, age01)


@inline_kernel(
    f"void(f8[:,:,::1], {ZONES}, f4[:,::1], f8[:,::1], {SOLIDS}, f8[:,::1], b1, b1, u8, i8, i8, f8, f8, f8, f8[::1], "
    "f8[::1], f8[::1], f8[::1], f8[::1])",
    cache=True,
    forceinline=True,
)
def _one(
    rows: Doubles, zoned: Zones, curves: Floats, paths: Doubles, solids: Solids, settings: Doubles, solid: bool,
    shaped: bool, key: np.uint64, birth: int, s: int, age: float, h: float, whole: float, own: Doubles, body: Doubles,
    at: Doubles, acts: Doubles, carried: Doubles,
) -> None:  # fmt: skip
    """One particle over h seconds from an age in s, in `body`. own: life, mass, first velocity (3), size, age at
    catching. whole: a lattice step. at, acts, carried: scratch."""
    share = h / whole
    ox, oy, oz = settings[s, ORIGIN_0], settings[s, ORIGIN_0 + 1], settings[s, ORIGIN_0 + 2]
    mx = (settings[s, ORIGIN_1] - ox) * share
    my = (settings[s, ORIGIN_1 + 1] - oy) * share
    mz = (settings[s, ORIGIN_1 + 2] - oz) * share
    life, mass = own[0], own[1]
    age01 = (age + 0.5 * h) / life
    u, v, w = body[3], body[4], body[5]
    body[0], body[1], body[2] = body[0] + ox, body[1] + oy, body[2] + oz
    at[0], at[1], at[2] = body[0] + 0.5 * (u * h + mx), body[1] + 0.5 * (v * h + my), body[2] + 0.5 * (w * h + mz)
    at[3], at[4], at[5] = u, v, w
    middle = age + 0.5 * h
    at[6] = middle - body[contact.TOUCHED] if 0 <= body[contact.TOUCHED] <= middle else -1.0
    at[7] = middle - own[6] if 0 <= own[6] <= middle else -1.0
    feel(rows, zoned, curves, paths, s, key, birth, age01, mass, at, acts)
    k = acts[F_DRAG] + acts[F_GRIP]
    ax, ay, az = acts[0] + acts[F_AIR], acts[1] + acts[F_AIR + 1], acts[2] + acts[F_AIR + 2]
    if acts[F_QUADRATIC] > 0:
        speed0 = math.sqrt(u * u + v * v + w * w)
        pull0 = (ax * u + ay * v + az * w) / speed0 if speed0 > 1e-9 else math.sqrt(ax * ax + ay * ay + az * az)
        k += quadratic_rate(acts[F_QUADRATIC], k, speed0, pull0, h)
    e, b, d = exact_step(k, h)
    if shaped:
        # The own speed follows its curve, and drag as all else: its share of the velocity is known at every age.
        kept = math.exp(-acts[F_DRAG] * age)
        change = kept * (_own_share(curves, key, birth, (age + h) / life) - _own_share(curves, key, birth, age / life))
        gx, gy, gz = own[2] * change, own[3] * change, own[4] * change
    else:
        gx, gy, gz = 0.0, 0.0, 0.0
    dx, dy, dz = (u + 0.5 * gx) * b + ax * d, (v + 0.5 * gy) * b + ay * d, (w + 0.5 * gz) * b + az * d
    nu, nv, nw = (u + gx) * e + ax * b, (v + gy) * e + ay * b, (w + gz) * e + az * b
    limit, speed2 = settings[s, LIMIT], nu * nu + nv * nv + nw * nw
    if acts[F_LIMIT] > 0 and speed2 > acts[F_LIMIT] * acts[F_LIMIT]:
        least, speed = max(acts[F_LIMIT], math.sqrt(u * u + v * v + w * w)), math.sqrt(speed2)
        if speed > least:
            nu, nv, nw, speed2 = nu * least / speed, nv * least / speed, nw * least / speed, least * least
    if limit > 0 and speed2 > limit * limit:
        speed = math.sqrt(speed2)
        nu, nv, nw = nu * limit / speed, nv * limit / speed, nw * limit / speed
        gone = math.sqrt(dx * dx + dy * dy + dz * dz)
        if gone > limit * h:
            dx, dy, dz = dx * limit * h / gone, dy * limit * h / gone, dz * limit * h / gone
    dx, dy, dz = dx + mx, dy + my, dz + mz
    ex, ey, ez = swirled(
        rows,
        zoned,
        curves,
        s,
        key,
        birth,
        age01,
        mass,
        nu,
        nv,
        nw,
        at[6],
        at[7],
        body[0] + dx,
        body[1] + dy,
        body[2] + dz,
        h,
    )
    ex, ey, ez = ex - body[0], ey - body[1], ez - body[2]
    carried[0], carried[1], carried[2] = (ex - dx) / h, (ey - dy) / h, (ez - dz) / h
    dx, dy, dz = ex, ey, ez
    if solid:
        radius = _radius(own[5] + settings[s, SIZE_NOW], curves, key, birth, age01)
        contact.sweep(rows, s, paths, solids, key, birth, body, carried, dx, dy, dz, nu, nv, nw, h, age, radius)
    else:
        body[0], body[1], body[2] = body[0] + dx, body[1] + dy, body[2] + dz
        body[3], body[4], body[5] = nu, nv, nw
    if body[contact.HOW] != contact.GONE and _removed(rows, zoned, s, body[0], body[1], body[2], dx, dy, dz):
        body[contact.HOW], body[contact.GONE_AT] = contact.GONE, age + 0.5 * h
    for c in range(3):
        body[c] -= settings[s, ORIGIN_0 + c] + share * (settings[s, ORIGIN_1 + c] - settings[s, ORIGIN_0 + c])
        body[c] = min(max(body[c], -_FARTHEST), _FARTHEST)
        body[3 + c] = min(max(body[3 + c], -_FARTHEST), _FARTHEST)


@njit(
    f"void(f4[:,::1], i8[::1], f8[::1], f8[:,:,::1], {ZONES}, f4[:,::1], f8[:,::1], {SOLIDS}, f8[:,::1], b1, b1, u8, i8, "
    "i8, i8, f8)",
    parallel=True,
    cache=True,
    error_model="numpy",
)
def _roam(
    values: Floats, births: Longs, moments: Doubles, rows: Doubles, zoned: Zones, curves: Floats, paths: Doubles,
    solids: Solids, settings: Doubles, solid: bool, shaped: bool, key: np.uint64, index: int, until: int, hz: int, end: float,
) -> None:  # fmt: skip
    last, whole = rows.shape[0] - 1, 1.0 / hz
    for block in prange((len(births) + _BLOCK - 1) // _BLOCK):
        body, own, at, acts, carried = (
            np.zeros(contact.BODY),
            np.zeros(7),
            np.zeros(8),
            np.zeros(accumulators.SIZE),
            np.zeros(3),
        )
        for i in range(block * _BLOCK, min(len(births), (block + 1) * _BLOCK)):
            born, k = moments[i], births[i]
            if values[HOW, i] != contact.FREE or born >= max(until / hz, end):
                continue
            for c in range(6):
                body[c] = values[c, i]
                own[c] = values[LIFE + c, i]
            own[6] = values[CAUGHT, i] if values.shape[0] > CAUGHT else -1.0
            body[contact.TOUCHED], body[contact.HOW], body[contact.GONE_AT] = (
                values[TOUCHED, i],
                values[HOW, i],
                values[GONE_AT, i],
            )
            first = index
            if born * hz > index:
                first = math.floor(born * hz)
            for n in range(first, until):
                start = max(n / hz, born)
                h = (n + 1) / hz - start
                if h > 0:
                    _one(
                        rows, zoned, curves, paths, solids, settings, solid, shaped, key, k, min(n - index, last),
                        start - born, h, whole, own, body, at, acts, carried,
                    )  # fmt: skip
                    # The state is rounded to float32 at every step, so that the result does not depend on how steps are divided.
                    for c in range(contact.GONE_AT + 1):
                        body[c] = np.float32(body[c])
                if body[contact.HOW] != contact.FREE:
                    break
            if end > until / hz and body[contact.HOW] == contact.FREE:
                start = max(until / hz, born)
                if end > start:
                    _one(
                        rows, zoned, curves, paths, solids, settings, solid, shaped, key, k, min(until - index, last),
                        start - born, end - start, whole, own, body, at, acts, carried,
                    )  # fmt: skip
            for c in range(6):
                values[c, i] = body[c]
            values[TOUCHED, i], values[HOW, i], values[GONE_AT, i] = (
                body[contact.TOUCHED],
                body[contact.HOW],
                body[contact.GONE_AT],
            )


@kernel_lock
def roam(
    values: Floats, births: Longs, moments: Doubles, rows: Doubles, zoned: Zones, curves: Floats, paths: Doubles,
    solids: Solids, settings: Doubles, solid: bool, shaped: bool, key: int, index: int, until: int, hz: int, end: float,
) -> None:  # fmt: skip
    """Step particles in place from lattice step `index` to `until`, then on to shot time `end` in s, if that is above 0.

    values (15, n) float32: place, velocity, life, mass, first velocity, size, first touch, how it is, when it went. rows, zoned,
    settings: a row for each step from `index` on, or one for all. Those born later are left as they are.
    """
    _roam(
        values, births, moments, rows, zoned, curves, paths, solids, settings, solid, shaped, np.uint64(key), index, until,
        hz, end,
    )  # fmt: skip


@njit(
    f"void(f4[:,::1], i8[::1], f8[::1], f8[:,:,::1], {ZONES}, f4[:,::1], f8[:,::1], {SOLIDS}, f8[:,::1], b1, u8, f8)",
    parallel=True,
    cache=True,
)
def _stir(
    values: Floats, births: Longs, moments: Doubles, rows: Doubles, zoned: Zones, curves: Floats, paths: Doubles,
    solids: Solids, settings: Doubles, solid: bool, key: np.uint64, t: float,
) -> None:  # fmt: skip
    h = 1e-4
    for block in prange((len(births) + _BLOCK - 1) // _BLOCK):
        body, carried = np.zeros(contact.BODY), np.zeros(3)
        for i in range(block * _BLOCK, min(len(births), (block + 1) * _BLOCK)):
            if values[HOW, i] != contact.FREE:
                continue
            x, y, z = float(values[0, i]), float(values[1, i]), float(values[2, i])
            u, v, w = float(values[3, i]), float(values[4, i]), float(values[5, i])
            age01 = (t - moments[i]) / values[LIFE, i]
            ex, ey, ez = swirled(
                rows, zoned, curves, 0, key, births[i], age01, float(values[MASS, i]), u, v, w, -1.0, -1.0, x, y, z, h
            )
            carried[0], carried[1], carried[2] = (ex - x) / h, (ey - y) / h, (ez - z) / h
            if solid:
                for c in range(6):
                    body[c] = values[c, i]
                # It has touched something already: nothing of what is marked is looked for.
                body[contact.TOUCHED], body[contact.HOW] = 0.0, contact.FREE
                radius = _radius(values[SIZE, i] + settings[0, SIZE_NOW], curves, key, births[i], age01)
                contact.sweep(
                    rows, 0, paths, solids, key, births[i], body, carried, u * h + ex - x, v * h + ey - y, w * h + ez - z,
                    u, v, w, h, 0.0, radius,
                )  # fmt: skip
            for c in range(3):
                values[3 + c, i] += carried[c]


@kernel_lock
def stir(
    values: Floats, births: Longs, moments: Doubles, rows: Doubles, zoned: Zones, curves: Floats, paths: Doubles,
    solids: Solids, settings: Doubles, solid: bool, key: int, t: float,
) -> None:  # fmt: skip
    """Add to velocities what the vortices carry places by, at shot time t, as far as surfaces let them: they turn places, not
    velocities. Arguments as those of `roam`."""
    _stir(values, births, moments, rows, zoned, curves, paths, solids, settings, solid, np.uint64(key), t)
