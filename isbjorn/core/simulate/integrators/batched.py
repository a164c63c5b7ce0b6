"""The step of particles on which only gravity, drag, wind, turbulence and attractors act: a batched `world` for common shots.

The same rule as `world`: one evaluation at the middle of the step, then the exact flow under it. A particle's share of a strength
is drawn once, not at every step. A block of particles goes through a step together, number by number, so that the compiler can
vectorise; where they diverge, as outside the precomputed noise lattice, each is computed alone.
"""

from __future__ import annotations

import math

import numpy as np
from numba import prange

from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.random import draw01, draw_around
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate.forces import attractor, drag, gravity, turbulence, wind, zones
from isbjorn.core.simulate.forces.drag import AT_PX_S, quadratic_rate
from isbjorn.core.simulate.forces.force_layout import (
    ATTRIBUTE,
    BELL,
    BETWEEN,
    CODE,
    CURVE,
    CURVE_TO,
    PLACE,
    SPREAD,
    TILT_SPREAD,
    VALUE,
    WAY,
    WAY_SPREAD,
    ZONE,
    read_curve,
    way_of,
)
from isbjorn.core.simulate.noise import BOX, RMS_FLAT, curl_of, flow_among, to_usual
from isbjorn.core.simulate.noise_lattice import eddies
from isbjorn.core.simulate.steps import LITTLE, exact_step, second
from isbjorn.core.simulate.table_types import ZONES, Zones

GRAVITY, DRAG, WIND, TURBULENCE, ATTRACTOR = gravity.CODE, drag.CODE, wind.CODE, turbulence.CODE, attractor.CODE
NOISE, OFFSET = turbulence.NOISE, turbulence.OFFSET
IS_QUADRATIC, RESPONSE = drag.IS_QUADRATIC, turbulence.RESPONSE
_BLOCK = 128
_LIFE, _MASS = 6, 7
# Rows of what a block holds.
_X, _Y, _Z, _U, _V, _W, _BORN, _FIRST, _PER_LIFE, _PER_MASS, _H, _MX, _MY, _MZ, _AX, _AY, _AZ = range(17)
_RATE, _SQUARE, _AGE01, _SHARE, _F, _P, _Q, _FU, _FV, _FW, _E, _B, _D = range(17, 30)
_HELD = 30
_1, _2, _3 = np.uint32(1), np.uint32(2), np.uint32(3)


@inline_kernel("void(f8[::1], f8[::1], f8, f8, f8, f8[::1])", cache=True)
def _last(born: Doubles, first: Doubles, n: float, start: float, stop: float, h: Doubles) -> None:
    """How many seconds of a step each goes: those not yet born none, those born within it the rest."""
    for i in range(np.uint32(len(h))):
        left = stop - max(start, born[i])
        h[i] = left if n >= first[i] and left > 0.0 else 0.0


@inline_kernel("void(f8[::1], f8[::1], f8[::1], f8[::1])", cache=True)
def _halfway(place: Doubles, speed: Doubles, h: Doubles, middle: Doubles) -> None:
    for i in range(np.uint32(len(middle))):
        middle[i] = place[i] + 0.5 * speed[i] * h[i]


@inline_kernel("void(f8[::1], f8, f8[::1], f8[::1], f8[::1])", cache=True)
def _aged(born: Doubles, start: float, h: Doubles, per_life: Doubles, age01: Doubles) -> None:
    """The share of its life that each has lived in the middle of a step."""
    for i in range(np.uint32(len(age01))):
        age01[i] = (max(start, born[i]) - born[i] + 0.5 * h[i]) * per_life[i]


@inline_kernel("void(f8[::1], f8, f8[::1])", cache=True)
def _add_all(sums: Doubles, factor: float, each: Doubles) -> None:
    for i in range(np.uint32(len(sums))):
        sums[i] += each[i] * factor


@inline_kernel("void(f8[::1], f8[::1], f8[::1])", cache=True)
def _add_each(sums: Doubles, factors: Doubles, each: Doubles) -> None:
    for i in range(np.uint32(len(sums))):
        sums[i] += factors[i] * each[i]


@inline_kernel("void(f8[::1], f8[::1])", cache=True)
def _times(numbers: Doubles, factors: Doubles) -> None:
    for i in range(np.uint32(len(numbers))):
        numbers[i] *= factors[i]


@inline_kernel("void(f8, f8[::1], f8[::1], f8[::1])", cache=True)
def _grips(response: float, share: Doubles, per_mass: Doubles, grip: Doubles) -> None:
    for i in range(np.uint32(len(grip))):
        grip[i] = response * share[i] * per_mass[i]


@inline_kernel("void(f8[::1], f8[::1], f8[::1], f8, f8[::1])", cache=True)
def _resists(f: Doubles, share: Doubles, per_mass: Doubles, per: float, sums: Doubles) -> None:
    for i in range(np.uint32(len(sums))):
        sums[i] += max(0.0, f[i]) * share[i] * per_mass[i] / per


@inline_kernel("void(f8[::1], f8, f8, f8, f8, f8[::1])", cache=True)
def _cells(middle: Doubles, place: float, off: float, scale: float, stretch: float, cells: Doubles) -> None:
    """Positions of places between lattice points."""
    for i in range(np.uint32(len(cells))):
        cells[i] = (middle[i] - place + off) * scale / stretch


@inline_kernel("b1(f8[::1], f8, f8)", cache=True)
def _within(cells: Doubles, first: float, count: float) -> bool:
    """Whether all places are between known lattice points."""
    beyond = np.int64(0)
    for i in range(np.uint32(len(cells))):
        a = np.floor(cells[i]) - first
        beyond += np.int64(a < 0.0) | np.int64(not (a + 1.0 < count))
    return beyond == 0


@inline_kernel("void(f8[::1], f8[::1], f8[::1], f8, f8, f8, f8, f8[::1], f8[::1])", cache=True)
def _curls(
    p: Doubles, q: Doubles, known: Doubles, begin: float, left: float, low: float, wide: float, u: Doubles, v: Doubles
) -> None:
    """`curl_flat` of each, of gradients that are all known."""
    row = np.uint32(2) * np.uint32(wide)
    for k in range(np.uint32(len(u))):
        i, j = np.floor(p[k]), np.floor(q[k])
        n = np.uint32(np.int32(begin + 2.0 * ((j - low) * wide + (i - left))))
        m = n + row
        u[k], v[k] = curl_of(
            p[k] - i, q[k] - j, known[n], known[n + _1], known[n + _2], known[n + _3], known[m], known[m + _1], known[m + _2],
            known[m + _3],
        )  # fmt: skip


@inline_kernel("void(f8[::1], f8, f8, f8[::1])", cache=True)
def _add_octave(curls: Doubles, usual: float, amplitude: float, sums: Doubles) -> None:
    for i in range(np.uint32(len(sums))):
        sums[i] += curls[i] / usual * amplitude


@inline_kernel("void(f8[::1], f8, f8)", cache=True)
def _scaled(numbers: Doubles, factor: float, other: float) -> None:
    for i in range(np.uint32(len(numbers))):
        numbers[i] = numbers[i] * factor * other


@inline_kernel("void(f8[::1], f8[::1], f8[::1])", cache=True)
def _second(rate: Doubles, h: Doubles, phi2: Doubles) -> None:
    for i in range(np.uint32(len(phi2))):
        phi2[i] = second(rate[i] * h[i])


@inline_kernel("void(f8[::1], f8[::1], f8[::1], f8[::1], f8[::1])", cache=True)
def _first_of(rate: Doubles, h: Doubles, phi2: Doubles, e: Doubles, b: Doubles) -> None:
    for i in range(np.uint32(len(e))):
        kh = rate[i] * h[i]
        phi1 = 1.0 - kh * phi2[i]
        e[i], b[i] = 1.0 - kh * phi1, h[i] * phi1


@inline_kernel("void(f8[::1], f8[::1])", cache=True)
def _grown(h: Doubles, d: Doubles) -> None:
    for i in range(np.uint32(len(d))):
        d[i] = h[i] * h[i] * d[i]


@inline_kernel("b1(f8[::1], f8[::1])", cache=True)
def _is_little(rate: Doubles, h: Doubles) -> bool:
    much = np.int64(0)
    for i in range(np.uint32(len(h))):
        much += np.int64(not (rate[i] * h[i] < LITTLE))
    return much == 0


@inline_kernel("void(f8[::1], f8[::1], f8[::1], f8[::1], f8[::1])", cache=True)
def _gone(place: Doubles, speed: Doubles, b: Doubles, pull: Doubles, d: Doubles) -> None:
    # The state is rounded to float32 at every step, so that the result does not depend on how steps are divided.
    for i in range(np.uint32(len(place))):
        place[i] = float(np.float32(place[i] + speed[i] * b[i] + pull[i] * d[i]))


@inline_kernel("void(f8[::1], f8[::1], f8[::1], f8[::1])", cache=True)
def _slowed(speed: Doubles, e: Doubles, pull: Doubles, b: Doubles) -> None:
    for i in range(np.uint32(len(speed))):
        speed[i] = float(np.float32(speed[i] * e[i] + pull[i] * b[i]))


@inline_kernel("b1(f8[:,:,::1], i8, i8, f8[:,::1], i8, f8[:,::1], f8[:,:,::1], i8)", cache=True)
def _flows_known(
    rows: Doubles, s: int, r: int, held: Doubles, m: int, known: Doubles, boxes: Doubles, step: int
) -> bool:
    """`flow_among` of all of a block, in the picture plane, of gradients that are known to all; False where it is otherwise."""
    sx, sy, scale = rows[s, r, NOISE + 4], rows[s, r, NOISE + 5], rows[s, r, NOISE]
    octaves, off = int(rows[s, r, NOISE + 1]), rows[s, r, OFFSET]
    if step < 0 or rows[s, r, NOISE + 8] > 0 or sx <= 0 or sy <= 0 or rows[s, r, NOISE + 6] > 0:
        return False
    p, q, fu, fv, cu, cv = held[_P, :m], held[_Q, :m], held[_FU, :m], held[_FV, :m], held[_E, :m], held[_B, :m]
    amplitude, power = 1.0, 0.0
    fu[:] = 0.0
    fv[:] = 0.0
    for octave in range(octaves):
        box = octave * BOX
        _cells(held[_MX, :m], rows[s, r, PLACE], off, scale, sx, p)
        _cells(held[_MY, :m], rows[s, r, PLACE + 1], 0.7 * off, scale, sy, q)
        left, low, wide, tall = (
            boxes[step, r, box + 1],
            boxes[step, r, box + 2],
            boxes[step, r, box + 3],
            boxes[step, r, box + 4],
        )
        if not (_within(p, left, wide) and _within(q, low, tall)):
            return False
        if octaves == 1:
            _curls(p, q, known[step], boxes[step, r, box], left, low, wide, fu, fv)
            even = math.sqrt(2.0 / (sx * sx + sy * sy)) / RMS_FLAT
            _scaled(fu, sx, even)
            _scaled(fv, sy, even)
            return True
        _curls(p, q, known[step], boxes[step, r, box], left, low, wide, cu, cv)
        _add_octave(cu, RMS_FLAT, amplitude, fu)
        _add_octave(cv, RMS_FLAT, amplitude, fv)
        power += amplitude * amplitude
        scale *= rows[s, r, NOISE + 2]
        amplitude *= rows[s, r, NOISE + 3]
    whole = to_usual(2, sx, sy, 0.0, power)
    _scaled(fu, sx, whole)
    _scaled(fv, sy, whole)
    return True


@inline_kernel(
    f"void(f8[:,:,::1], {ZONES}, f4[:,::1], i8, i8, u8, i8[::1], f8[::1], f8[::1], f8[:,::1], i8, f8[:,::1], f8[:,:,::1], i8)",
    cache=True, error_model="numpy",
)  # fmt: skip
def _act(
    rows: Doubles, zoned: Zones, curves: Floats, s: int, r: int, key: np.uint64, births: Longs, drawn: Doubles, between: Doubles,
    held: Doubles, m: int, known: Doubles, boxes: Doubles, step: int,
) -> None:  # fmt: skip
    """What one row of the world does to a block, added to what acts on it."""
    mx, my, mz, share, f = held[_MX, :m], held[_MY, :m], held[_MZ, :m], held[_SHARE, :m], held[_F, :m]
    ax, ay, az, per_mass, age01 = held[_AX, :m], held[_AY, :m], held[_AZ, :m], held[_PER_MASS, :m], held[_AGE01, :m]
    fu, fv, fw = held[_FU, :m], held[_FV, :m], held[_FW, :m]
    zone, curve, other, value = (
        int(rows[s, r, ZONE]),
        int(rows[s, r, CURVE]),
        int(rows[s, r, CURVE_TO]),
        rows[s, r, VALUE],
    )
    if r == 0 or zone != int(rows[s, r - 1, ZONE]):
        share[:] = 1.0
        if zone >= 0:
            zones.weights(zoned, s, zone, mx, my, mz, share)
    if zone >= 0 and not share.any():
        return
    for i in range(np.uint32(m)):
        f[i] = value + drawn[i]
    if curve >= 0:
        for i in range(m):
            c = read_curve(curves, curve, age01[i])
            if other >= 0:
                c += between[i] * (read_curve(curves, other, age01[i]) - c)
            f[i] *= c
    code = int(rows[s, r, CODE])
    if code == DRAG:
        if rows[s, r, IS_QUADRATIC] > 0:
            _resists(f, share, per_mass, AT_PX_S, held[_SQUARE, :m])
        else:
            _resists(f, share, per_mass, 1.0, held[_RATE, :m])
        return
    if code == ATTRACTOR:
        for i in range(m):
            dx, dy, dz = rows[s, r, PLACE] - mx[i], rows[s, r, PLACE + 1] - my[i], rows[s, r, PLACE + 2] - mz[i]
            f[i] *= share[i] * per_mass[i] * attractor.fall(rows, s, r, dx, dy, dz)
            ax[i], ay[i], az[i] = ax[i] + f[i] * dx, ay[i] + f[i] * dy, az[i] + f[i] * dz
        return
    if code == GRAVITY:
        _times(f, share)
    else:
        grip = held[_D, :m]
        _grips(max(0.0, rows[s, r, RESPONSE]), share, per_mass, grip)
        _add_all(held[_RATE, :m], 1.0, grip)
        _times(f, grip)
    if code == TURBULENCE:
        if _flows_known(rows, s, r, held, m, known, boxes, step):
            _add_each(ax, f, fu)
            _add_each(ay, f, fv)
            return
        off = rows[s, r, OFFSET]
        for i in range(m):
            fu[i], fv[i], fw[i] = flow_among(
                rows, s, r, NOISE, mx[i] - rows[s, r, PLACE] + off, my[i] - rows[s, r, PLACE + 1] + 0.7 * off,
                mz[i] - rows[s, r, PLACE + 2], known, boxes, step,
            )  # fmt: skip
    elif rows[s, r, WAY_SPREAD] == 0.0 and rows[s, r, TILT_SPREAD] == 0.0:
        _add_all(ax, rows[s, r, WAY], f)
        _add_all(ay, rows[s, r, WAY + 1], f)
        _add_all(az, rows[s, r, WAY + 2], f)
        return
    else:
        for i in range(m):
            fu[i], fv[i], fw[i] = way_of(rows, s, r, key, births[i])
    _add_each(ax, f, fu)
    _add_each(ay, f, fv)
    _add_each(az, f, fw)


@inline_kernel("void(f8[:,::1], i8)", cache=True, error_model="numpy")
def _go(held: Doubles, m: int) -> None:
    """The exact flow of a block under what acts on it."""
    rate, h, e, b, d = held[_RATE, :m], held[_H, :m], held[_E, :m], held[_B, :m], held[_D, :m]
    for i in range(m):
        if held[_SQUARE, i] > 0 and h[i] > 0:
            u, v, w, ax, ay, az = held[_U, i], held[_V, i], held[_W, i], held[_AX, i], held[_AY, i], held[_AZ, i]
            speed = math.sqrt(u * u + v * v + w * w)
            pull = (ax * u + ay * v + az * w) / speed if speed > 1e-9 else math.sqrt(ax * ax + ay * ay + az * az)
            rate[i] += quadratic_rate(held[_SQUARE, i], rate[i], speed, pull, h[i])
    if _is_little(rate, h):
        _second(rate, h, d)
        _first_of(rate, h, d, e, b)
        _grown(h, d)
    else:
        for i in range(m):
            e[i], b[i], d[i] = exact_step(rate[i], h[i])
    for c in range(3):
        _gone(held[_X + c, :m], held[_U + c, :m], b, held[_AX + c, :m], d)
        _slowed(held[_U + c, :m], e, held[_AX + c, :m], b)


@njit(
    f"void(f4[:,::1], i8[::1], f8[::1], f8[:,:,::1], {ZONES}, f4[:,::1], f8[:,::1], f8[:,:,::1], u8, i8, i8, i8, f8)",
    parallel=True,
    cache=True,
    error_model="numpy",
)
def _drift(
    values: Floats, births: Longs, moments: Doubles, rows: Doubles, zoned: Zones, curves: Floats, known: Doubles,
    boxes: Doubles, key: np.uint64, index: int, until: int, hz: int, end: float,
) -> None:  # fmt: skip
    last, count = rows.shape[0] - 1, rows.shape[1]
    whole = 1.0 / hz
    # The time up to which all are stepped, and a partial step if it is between two steps.
    stop = until + 1 if end > until * whole else until
    for block in prange((len(births) + _BLOCK - 1) // _BLOCK):
        held, drawn, between = np.empty((_HELD, _BLOCK)), np.empty((count, _BLOCK)), np.empty((count, _BLOCK))
        chosen, own = np.empty(_BLOCK, np.int64), np.empty(_BLOCK, np.int64)
        m = 0
        for i in range(block * _BLOCK, min(len(births), (block + 1) * _BLOCK)):
            if moments[i] < max(until * whole, end):
                chosen[m], own[m] = i, births[i]
                m += 1
        curved = False
        for r in range(count):
            attribute, spread = int(rows[0, r, ATTRIBUTE]), rows[0, r, SPREAD]
            curved = curved or rows[0, r, CURVE] >= 0
            for j in range(m):
                drawn[r, j] = (
                    spread * draw_around(key, own[j], attribute, rows[0, r, BELL] > 0) if spread != 0.0 else 0.0
                )
            if rows[0, r, CURVE_TO] >= 0:
                for j in range(m):
                    between[r, j] = draw01(key, own[j], attribute + BETWEEN)
        for j in range(m):
            i = chosen[j]
            for c in range(6):
                held[_X + c, j] = float(values[c, i])
            held[_BORN, j], held[_FIRST, j] = moments[i], index
            if moments[i] * hz > index:
                held[_FIRST, j] = math.floor(moments[i] * hz)
            held[_PER_LIFE, j], held[_PER_MASS, j] = 1.0 / values[_LIFE, i], 1.0 / values[_MASS, i]
        h = held[_H, :m]
        for n in range(index, stop):
            start, s = n * whole, min(n - index, last)
            _last(held[_BORN, :m], held[_FIRST, :m], n, start, end if n == until else (n + 1) * whole, h)
            for c in range(3):
                _halfway(held[_X + c, :m], held[_U + c, :m], h, held[_MX + c, :m])
            if curved:
                _aged(held[_BORN, :m], start, h, held[_PER_LIFE, :m], held[_AGE01, :m])
            held[_AX : _SQUARE + 1, :m] = 0.0
            for r in range(count):
                _act(
                    rows,
                    zoned,
                    curves,
                    s,
                    r,
                    key,
                    own,
                    drawn[r],
                    between[r],
                    held,
                    m,
                    known,
                    boxes,
                    min(s, len(known) - 1),
                )
            _go(held, m)
        for j in range(m):
            for c in range(6):
                values[c, chosen[j]] = held[_X + c, j]


@kernel_lock
def drift(
    values: Floats, births: Longs, moments: Doubles, rows: Doubles, zoned: Zones, curves: Floats, key: int, index: int,
    until: int, hz: int, end: float,
) -> None:  # fmt: skip
    """As `world.roam`, for rows of gravity, drag, wind, turbulence and attractors without a speed limit.

    No surface, no kill zone, no speed limit, no speed over life, and none that is carried along.
    """
    known, boxes = eddies(rows, min(len(rows), until - index + 1), values[:3])
    _drift(values, births, moments, rows, zoned, curves, known, boxes, np.uint64(key), index, until, hz, end)
