"""Strands: the joints of each stand in a state behind each other, root first, and have its birth number; whole strands live
and die.

A step: the joints fly as the world lets them. In parts of it, what they gained is then given to them piece by piece, and each time
bending is worked out implicitly (the energy is that of the second differences of places, so it keeps momentum and is stable at any
stiffness), lengths are brought back exactly (projection along the directions of before, as SHAKE does, by Newton's method with a
tridiagonal matrix; where that fails, by turning pieces as little as may be), and velocities lose what would stretch them (RATTLE;
Andersen 1983): a strand keeps its energy but for what bending and the world take.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit, prange

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document import Emitter
from isbjorn.core.runtime.parallel import guarded
from isbjorn.core.simulate import contact
from isbjorn.core.simulate.rows import GONE_AT, HOW, SIZE, TOUCHED
from isbjorn.core.simulate.state import State

# A strand may be so near to all of its length between what holds it, and no nearer.
TAUT = 0.999
_PARTS, _PARTS_BY_SURFACES, _MOST_PARTS = 2, 4, 16
_NEWTON, _SPANS, _EXACT, _ENOUGH = 12, 60, 1e-5, 2e-3
# How stiff at least a strand is that is held at both ends, where it is told which way to go aside: a share of its masses.
_SMOOTH = 0.25
# And how often in a second it sways at least.
_LIMP = 0.015
_ROUNDS, _SLIDES = 24, 3
# The square of what an elastic rod that is held at one end sways by in a unit of time: the first root of cos x cosh x = -1,
# squared.
_CANTILEVER = 3.5160152685
# Columns of `held`: root before (3), and after (3), the way out of it (3), whether the foot is held, and where, before (3)
# and after (3).
HELD = 16


def joints_of(emitter: Emitter) -> int:
    """How many particles of a state are one birth."""
    return emitter.strand.joints if emitter.strand is not None else 1


def along_strands(emitter: Emitter, count: int) -> Floats:
    """How far along its strand each of `count` joints is, from 0 at the root to 1 at the foot; 0 without strands, float32 (n,)."""
    joints = joints_of(emitter)
    if joints == 1:
        return np.zeros(count, np.float32)
    return ((np.arange(count) % joints) / np.float32(joints - 1)).astype(np.float32)


def feet(state: State, joints: int) -> State:
    """The last joint of each strand; all of a state without strands."""
    return state if joints == 1 else state.only(np.arange(joints - 1, state.count, joints))


@njit("void(f8[:,::1], f8[:,::1], i8)", cache=True, error_model="numpy")
def _factored(band: Doubles, parts: Doubles, n: int) -> None:
    """A symmetric matrix of five diagonals as L D Lᵀ. band (3, n): its diagonals; parts (4, n): D, the two of L, and 1 / D."""
    for i in range(n):
        d, a = band[0, i], band[1, i]
        if i > 0:
            d -= parts[0, i - 1] * parts[1, i - 1] ** 2
            a -= parts[0, i - 1] * parts[1, i - 1] * parts[2, i - 1]
        if i > 1:
            d -= parts[0, i - 2] * parts[2, i - 2] ** 2
        parts[0, i], parts[1, i], parts[2, i], parts[3, i] = d, a / d, band[2, i] / d, 1.0 / d


@njit("void(f8[:,::1], f8[::1], i8)", cache=True, error_model="numpy")
def _solved(parts: Doubles, x: Doubles, n: int) -> None:
    """Solve for the factors of `_factored`, in place."""
    x[1] -= parts[1, 0] * x[0]
    for i in range(2, n):
        x[i] -= parts[1, i - 1] * x[i - 1] + parts[2, i - 2] * x[i - 2]
    x[n - 1] *= parts[3, n - 1]
    x[n - 2] = x[n - 2] * parts[3, n - 2] - parts[1, n - 2] * x[n - 1]
    for k in range(3, n + 1):
        i = n - k
        x[i] = x[i] * parts[3, i] - parts[1, i] * x[i + 1] - parts[2, i] * x[i + 2]


@njit("void(f8[:,::1], f8[::1], f8[::1], f8, f8, i8)", cache=True, error_model="numpy")
def _bending(band: Doubles, light: Doubles, mass: Doubles, rate: float, clamp: float, n: int) -> None:
    """The matrix of an implicit step of bending: masses, and `rate` times the squares of second differences; clamp: of the first
    difference at the root. Who does not move (light 0) stands for himself."""
    for i in range(n):
        band[0, i], band[1, i], band[2, i] = mass[i], 0.0, 0.0
    for i in range(1, n - 1):
        band[0, i - 1] += rate
        band[0, i] += 4.0 * rate
        band[0, i + 1] += rate
        band[1, i - 1] -= 2.0 * rate
        band[1, i] -= 2.0 * rate
        band[2, i - 1] += rate
    band[0, 1] += clamp
    for i in range(n):
        if light[i] == 0.0:
            band[0, i], band[1, i], band[2, i] = 1.0, 0.0, 0.0
            if i > 0:
                band[1, i - 1] = 0.0
            if i > 1:
                band[2, i - 2] = 0.0


@njit("void(f8[::1], f8, f8[::1], i8)", cache=True, error_model="numpy")
def _add_bending(x: Doubles, rate: float, out: Doubles, n: int) -> None:
    """Add `rate` times the slope of half the squares of all second differences of x (n,) to out."""
    for i in range(1, n - 1):
        second = rate * (x[i - 1] - 2.0 * x[i] + x[i + 1])
        out[i - 1] += second
        out[i] -= 2.0 * second
        out[i + 1] += second


@njit("f8(i8, i8, i8)", cache=True, forceinline=True, error_model="numpy")
def _tie(i: int, j: int, n: int) -> float:
    """How the second differences of n places tie the ith to the jth: an entry of their product."""
    total = 0.0
    for k in range(max(1, max(i, j) - 1), min(n - 2, min(i, j) + 1) + 1):
        total += (-2.0 if k == i else 1.0) * (-2.0 if k == j else 1.0)
    return total


@njit(
    "void(f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[:,::1], f8, f8, f8, f8, f8, i8, f8[::1])",
    cache=True,
    error_model="numpy",
)
def _bent(
    x: Doubles, was: Doubles, v: Doubles, light: Doubles, mass: Doubles, parts: Doubles, rate: float, damped: float, clamp: float,
    out: float, hs: float, n: int, right: Doubles,
) -> None:  # fmt: skip
    """One coordinate of an implicit step of bending over hs seconds, in x and v (n,); was: before the step; right: to be
    overwritten.

    damped: what is undone of `rate`, by how fast it bends; out: where the first joint would be, from a root that keeps its
    direction.
    """
    for i in range(n):
        right[i] = mass[i] * x[i]
    if damped > 0:
        _add_bending(was, damped, right, n)
    if clamp > 0:
        late = 2.0 * damped
        right[1] += (clamp - late) * (x[0] + out) + late * (x[0] + was[1] - was[0])
    for i in range(n):
        if light[i] == 0:
            right[i] = x[i]
    # Those that do not move are known: what they pull at the others.
    for j in range(n):
        if light[j] == 0:
            for i in range(max(0, j - 2), min(n - 1, j + 2) + 1):
                if light[i] > 0:
                    right[i] -= rate * _tie(i, j, n) * x[j]
    _solved(parts, right, n)
    for i in range(n):
        if light[i] > 0:
            v[i] += (right[i] - x[i]) / hs
            x[i] = right[i]


@njit("void(f8[:,::1], f8[:,::1], f8[:,::1], i8)", cache=True, error_model="numpy")
def _ways(x: Doubles, was: Doubles, way: Doubles, n: int) -> None:
    """The directions along which lengths are brought back: of the pieces as they were, which keeps the energy; where they
    have turned far, as they are."""
    for i in range(n - 1):
        ox, oy, oz = was[0, i + 1] - was[0, i], was[1, i + 1] - was[1, i], was[2, i + 1] - was[2, i]
        dx, dy, dz = x[0, i + 1] - x[0, i], x[1, i + 1] - x[1, i], x[2, i + 1] - x[2, i]
        oo, dd, od = ox * ox + oy * oy + oz * oz, dx * dx + dy * dy + dz * dz, ox * dx + oy * dy + oz * dz
        if od > 0.0 and od * od > 0.5 * oo * dd:
            f = 1.0 / math.sqrt(oo)
            way[0, i], way[1, i], way[2, i] = ox * f, oy * f, oz * f
        elif dd > 1e-18:
            f = 1.0 / math.sqrt(dd)
            way[0, i], way[1, i], way[2, i] = dx * f, dy * f, dz * f
        else:
            way[0, i], way[1, i], way[2, i] = 1.0, 0.0, 0.0


@njit("f8(f8[:,::1], f8, i8)", cache=True, error_model="numpy")
def _stretch(x: Doubles, seg: float, n: int) -> float:
    """By what share the worst length is wrong."""
    worst = 0.0
    for i in range(n - 1):
        d = math.sqrt((x[0, i + 1] - x[0, i]) ** 2 + (x[1, i + 1] - x[1, i]) ** 2 + (x[2, i + 1] - x[2, i]) ** 2)
        worst = max(worst, abs(d - seg))
    return worst / seg


@njit("b1(f8[:,::1], f8[:,::1], f8[::1], f8, i8, f8[:,::1])", cache=True, error_model="numpy")
def _lengths(x: Doubles, way: Doubles, light: Doubles, seg: float, n: int, room: Doubles) -> bool:
    """Bring the lengths between places x (3, n) back to `seg`, along the directions `way` (3, n - 1); whether it is so.

    light: inverse masses. room: (5, n), to be overwritten.
    """
    pull, upper, right = room[0], room[1], room[2]
    for _ in range(_NEWTON):
        worst = 0.0
        for i in range(n - 1):
            dx, dy, dz = x[0, i + 1] - x[0, i], x[1, i + 1] - x[1, i], x[2, i + 1] - x[2, i]
            over = dx * dx + dy * dy + dz * dz - seg * seg
            worst = max(worst, abs(over))
            own = (light[i] + light[i + 1]) * (dx * way[0, i] + dy * way[1, i] + dz * way[2, i])
            back, ahead = 0.0, 0.0
            if i > 0:
                back = -light[i] * (dx * way[0, i - 1] + dy * way[1, i - 1] + dz * way[2, i - 1])
            if i < n - 2:
                ahead = -light[i + 1] * (dx * way[0, i + 1] + dy * way[1, i + 1] + dz * way[2, i + 1])
            value = 0.5 * over
            if i > 0:
                own -= back * upper[i - 1]
                value -= back * right[i - 1]
            if abs(own) < 1e-9 * seg:
                if light[i] + light[i + 1] == 0.0:
                    upper[i], right[i] = 0.0, 0.0
                    continue
                return False
            own = 1.0 / own
            upper[i], right[i] = ahead * own, value * own
        if worst < 2.0 * _EXACT * seg * seg:
            return True
        for k in range(n - 1):
            i = n - 2 - k
            pull[i] = right[i] - (upper[i] * pull[i + 1] if i < n - 2 else 0.0)
            if not abs(pull[i]) < 1e9:
                return False
        for c in range(3):
            last = 0.0
            for i in range(n - 1):
                by = pull[i] * way[c, i]
                x[c, i] += light[i] * (by - last)
                last = by
            x[c, n - 1] -= light[n - 1] * last
    return _stretch(x, seg, n) < _ENOUGH


@njit("b1(f8[:,::1], f8[:,::1], f8[:,::1], f8[::1], f8, i8, f8[:,::1], f8[::1])", cache=True, error_model="numpy")
def _nearest(
    x: Doubles, wanted: Doubles, band: Doubles, light: Doubles, seg: float, n: int, rows: Doubles, right: Doubles
) -> bool:  # fmt: skip
    """Let x come to where its lengths are right and it is nearest to `wanted`, as bending measures it (band, see
    `_bending`); whether it did.

    Held at both ends, a strand that is to be longer than its way must go aside: nearest by masses alone would be a zigzag. Newton's
    method on all places with their pulls, of which each joint's stand together: a matrix of nine diagonals (4 n, 9), as L D Lᵀ.
    """
    for _ in range(_NEWTON):
        worst = 0.0
        rows[: 4 * n] = 0.0
        for i in range(n):
            for c in range(3):
                p = 4 * i + c
                if light[i] == 0.0:
                    rows[p, 0], right[p] = 1.0, 0.0
                    continue
                rows[p, 0] = band[0, i]
                pull = band[0, i] * (wanted[c, i] - x[c, i])
                for k in range(1, 3):
                    if i >= k and light[i - k] > 0.0:
                        rows[p, 4 * k] = band[k, i - k]
                        pull += band[k, i - k] * (wanted[c, i - k] - x[c, i - k])
                    if i + k < n and light[i + k] > 0.0:
                        pull += band[k, i] * (wanted[c, i + k] - x[c, i + k])
                right[p] = pull
            # The pull of the piece before it comes after both of its ends.
            p = 4 * i + 3
            if i == 0 or (light[i] == 0.0 and light[i - 1] == 0.0):
                rows[p, 0], right[p] = -1.0, 0.0
                continue
            over = -seg * seg
            for c in range(3):
                d = x[c, i] - x[c, i - 1]
                over += d * d
                if light[i] > 0.0:
                    rows[p, 3 - c] = d / seg
                if light[i - 1] > 0.0:
                    rows[p, 7 - c] = -d / seg
            worst = max(worst, abs(over))
            rows[p, 0], right[p] = -1e-10, -0.5 * over / seg
        # L D Lᵀ in place: D in the first column.
        for p in range(4 * n):
            for q in range(min(8, p), -1, -1):
                j = p - q
                total = rows[p, q]
                for k in range(max(0, p - 8), j):
                    total -= rows[p, p - k] * rows[j, j - k] * rows[k, 0]
                if q > 0:
                    rows[p, q] = total / rows[j, 0]
                else:
                    if abs(total) < 1e-12:
                        return False
                    rows[p, 0] = total
            for q in range(1, min(8, p) + 1):
                right[p] -= rows[p, q] * right[p - q]
        for p in range(4 * n):
            right[p] /= rows[p, 0]
        for k in range(4 * n):
            p = 4 * n - 1 - k
            for q in range(1, min(8, p) + 1):
                right[p - q] -= rows[p, q] * right[p]
        far = 0.0
        for i in range(n):
            far = max(far, abs(right[4 * i]), abs(right[4 * i + 1]), abs(right[4 * i + 2]))
        if not far < 1e6 * seg:
            return False
        share = min(1.0, 0.5 * seg / far) if far > 0.0 else 1.0
        for i in range(n):
            for c in range(3):
                x[c, i] += share * right[4 * i + c]
        if far < 1e-3 * seg and worst < 2.0 * _EXACT * seg * seg:
            break
    return _stretch(x, seg, n) < _ENOUGH


@njit("void(f8[:,::1], i8, i8, f8)", cache=True, error_model="numpy")
def _spanned(x: Doubles, first: int, last: int, seg: float) -> None:
    """Give the pieces between two joints that stay where they are the length `seg`, each turned as little as it may be.

    Their directions are those of d + m, with d as they are and one m for all: the m at which they lead from the one to the other is
    where Σ |d + m| - m · (the way between) is least, which is convex. Newton's method, with steps that make it less.
    """
    n = last - first
    gx, gy, gz = (x[0, last] - x[0, first]) / seg, (x[1, last] - x[1, first]) / seg, (x[2, last] - x[2, first]) / seg
    mx, my, mz = 0.0, 0.0, 0.0
    for _ in range(_SPANS):
        # Slope and curvature of what is to be least.
        sx, sy, sz, value = -gx, -gy, -gz, -(mx * gx + my * gy + mz * gz)
        xx, yy, zz, xy, xz, yz = 1e-12, 1e-12, 1e-12, 0.0, 0.0, 0.0
        for i in range(first, last):
            dx, dy, dz = x[0, i + 1] - x[0, i] + mx, x[1, i + 1] - x[1, i] + my, x[2, i + 1] - x[2, i] + mz
            d = math.sqrt(dx * dx + dy * dy + dz * dz) + 1e-12
            value += d
            dx, dy, dz = dx / d, dy / d, dz / d
            sx, sy, sz = sx + dx, sy + dy, sz + dz
            xx, yy, zz = xx + (1.0 - dx * dx) / d, yy + (1.0 - dy * dy) / d, zz + (1.0 - dz * dz) / d
            xy, xz, yz = xy - dx * dy / d, xz - dx * dz / d, yz - dy * dz / d
        if sx * sx + sy * sy + sz * sz < 1e-12 * n * n:
            break
        det = xx * (yy * zz - yz * yz) - xy * (xy * zz - yz * xz) + xz * (xy * yz - yy * xz)
        if det <= 0.0:
            break
        bx = ((yy * zz - yz * yz) * sx + (xz * yz - xy * zz) * sy + (xy * yz - xz * yy) * sz) / det
        by = ((xz * yz - xy * zz) * sx + (xx * zz - xz * xz) * sy + (xy * xz - xx * yz) * sz) / det
        bz = ((xy * yz - xz * yy) * sx + (xy * xz - xx * yz) * sy + (xx * yy - xy * xy) * sz) / det
        step = 1.0
        for _ in range(40):
            tx, ty, tz = mx - step * bx, my - step * by, mz - step * bz
            there = -(tx * gx + ty * gy + tz * gz)
            for i in range(first, last):
                there += math.sqrt(
                    (x[0, i + 1] - x[0, i] + tx) ** 2
                    + (x[1, i + 1] - x[1, i] + ty) ** 2
                    + (x[2, i + 1] - x[2, i] + tz) ** 2
                )
            if there <= value - 1e-4 * step * (bx * sx + by * sy + bz * sz):
                break
            step *= 0.5
        mx, my, mz = tx, ty, tz
    px, py, pz = x[0, first], x[1, first], x[2, first]
    for i in range(first, last - 1):
        dx, dy, dz = x[0, i + 1] - px + mx, x[1, i + 1] - py + my, x[2, i + 1] - pz + mz
        px, py, pz = x[0, i + 1], x[1, i + 1], x[2, i + 1]
        d = math.sqrt(dx * dx + dy * dy + dz * dz) + 1e-12
        for c, by in ((0, dx), (1, dy), (2, dz)):
            x[c, i + 1] = x[c, i] + by / d * seg


@njit("void(f8[:,::1], i8, i8, f8)", cache=True, forceinline=True, error_model="numpy")
def _laid(x: Doubles, i: int, j: int, seg: float) -> None:
    """Lay the jth joint as far from the ith as it is to be."""
    dx, dy, dz = x[0, j] - x[0, i], x[1, j] - x[1, i], x[2, j] - x[2, i]
    d = math.sqrt(dx * dx + dy * dy + dz * dz)
    if d < 1e-9:
        dx, dy, dz, d = 1.0, 0.0, 0.0, 1.0
    x[0, j], x[1, j], x[2, j] = x[0, i] + dx / d * seg, x[1, i] + dy / d * seg, x[2, i] + dz / d * seg


@njit("void(f8[:,::1], f8[::1], f8, i8)", cache=True, error_model="numpy")
def _reached(x: Doubles, light: Doubles, seg: float, n: int) -> None:
    """Bring lengths back whatever they are: between joints that are held, and from those to ends that are free; a strand
    that nothing holds keeps its middle."""
    held = -1
    middle = np.zeros(3)
    for c in range(3):
        for i in range(n):
            middle[c] += x[c, i] / n
    for i in range(n):
        if light[i] > 0.0:
            continue
        if held >= 0:
            _spanned(x, held, i, seg)
        else:
            for k in range(i):
                _laid(x, i - k, i - k - 1, seg)
        held = i
    free = held < 0
    for i in range(max(held, 0), n - 1):
        _laid(x, i, i + 1, seg)
    if free:
        for c in range(3):
            now = 0.0
            for i in range(n):
                now += x[c, i] / n
            for i in range(n):
                x[c, i] += middle[c] - now


@njit("void(f8[:,::1], f8[:,::1], f8[::1], i8, f8[:,::1])", cache=True, error_model="numpy")
def _unstretched(x: Doubles, v: Doubles, light: Doubles, n: int, room: Doubles) -> None:
    """Take from velocities v (3, n) what would stretch the lengths between x."""
    pull, upper, right = room[0], room[1], room[2]
    ux, uy, uz = room[3], room[4], room[5]
    for i in range(n - 1):
        dx, dy, dz = x[0, i + 1] - x[0, i], x[1, i + 1] - x[1, i], x[2, i + 1] - x[2, i]
        d = 1.0 / max(1e-12, math.sqrt(dx * dx + dy * dy + dz * dz))
        ux[i], uy[i], uz[i] = dx * d, dy * d, dz * d
    for i in range(n - 1):
        # A little slack, so that what is taut between two that are held has an answer.
        own = (light[i] + light[i + 1]) * (1.0 + 1e-6) + 1e-9
        value = (v[0, i + 1] - v[0, i]) * ux[i] + (v[1, i + 1] - v[1, i]) * uy[i] + (v[2, i + 1] - v[2, i]) * uz[i]
        if i > 0:
            back = -light[i] * (ux[i] * ux[i - 1] + uy[i] * uy[i - 1] + uz[i] * uz[i - 1])
            own -= back * upper[i - 1]
            value -= back * right[i - 1]
        ahead = 0.0
        if i < n - 2:
            ahead = -light[i + 1] * (ux[i] * ux[i + 1] + uy[i] * uy[i + 1] + uz[i] * uz[i + 1])
        own = 1.0 / own
        upper[i], right[i] = ahead * own, value * own
    for k in range(n - 1):
        i = n - 2 - k
        pull[i] = right[i] - (upper[i] * pull[i + 1] if i < n - 2 else 0.0)
    for c in range(3):
        last = 0.0
        for i in range(n - 1):
            by = pull[i] * room[3 + c, i]
            v[c, i] += light[i] * (by - last)
            last = by
        v[c, n - 1] -= light[n - 1] * last


@njit(
    "b1(f4[:,::1], i8, i8, f8[:,::1], f8[:,::1], f8[:,::1], f8[::1], f8[:,:,::1], i8, f8[:,::1], f4[:,:,::1], f8)",
    cache=True,
    error_model="numpy",
)
def _off_surfaces(
    values: Floats, first: int, n: int, before: Doubles, x: Doubles, v: Doubles, light: Doubles, rows: Doubles, s: int,
    paths: Doubles, mattes: Floats, age: float,
) -> bool:  # fmt: skip
    """Let each joint go from where it was to x as surfaces let it, along them where they are in the way; whether any was."""
    any_met = False
    for i in range(n):
        if light[i] == 0.0:
            continue
        r = max(0.05, 0.5 * float(values[SIZE, first + i]))
        at_x, at_y, at_z = before[0, i], before[1, i], before[2, i]
        dx, dy, dz = x[0, i] - at_x, x[1, i] - at_y, x[2, i] - at_z
        met = False
        for _ in range(_SLIDES):
            share, which, nx, ny, nz = contact.trace(rows, s, paths, mattes, False, at_x, at_y, at_z, dx, dy, dz, r)
            at_x, at_y, at_z = at_x + dx * share, at_y + dy * share, at_z + dz * share
            if which < 0:
                break
            met = True
            outcome = int(rows[s, which, contact.OUTCOME])
            if values[TOUCHED, first + i] < 0:
                values[TOUCHED, first + i] = age
            if outcome == contact.DIE:
                values[HOW, first + i], values[GONE_AT, first + i] = contact.GONE, age
                return True
            if outcome == contact.STICK:
                values[HOW, first + i] = contact.STUCK
                light[i] = 0.0
                v[0, i], v[1, i], v[2, i] = 0.0, 0.0, 0.0
                break
            into = v[0, i] * nx + v[1, i] * ny + v[2, i] * nz
            if into < 0:
                v[0, i], v[1, i], v[2, i] = v[0, i] - into * nx, v[1, i] - into * ny, v[2, i] - into * nz
                slide = math.sqrt(v[0, i] ** 2 + v[1, i] ** 2 + v[2, i] ** 2)
                kept = max(0.0, 1.0 + rows[s, which, contact.FRICTION] * into / slide) if slide > 1e-12 else 0.0
                v[0, i], v[1, i], v[2, i] = v[0, i] * kept, v[1, i] * kept, v[2, i] * kept
            left = 1.0 - share
            along = min(0.0, dx * nx + dy * ny + dz * nz)
            dx, dy, dz = left * (dx - along * nx), left * (dy - along * ny), left * (dz - along * nz)
        d, which, nx, ny, nz = contact.closest(rows, s, paths, mattes, at_x, at_y, at_z)
        if which >= 0 and d < r:
            met = True
            at_x, at_y, at_z = at_x + nx * (r - d), at_y + ny * (r - d), at_z + nz * (r - d)
        x[0, i], x[1, i], x[2, i] = at_x, at_y, at_z
        any_met = any_met or met
    return any_met


@njit("void(f4[:,::1], i8, i8, f8[:,::1], f8[::1], f8[::1], f8)", cache=True, error_model="numpy")
def _let_go(values: Floats, first: int, n: int, x: Doubles, light: Doubles, mass: Doubles, seg: float) -> None:
    """Joints that stick where the strand does not reach let go."""
    held = -1
    for i in range(n):
        if light[i] > 0.0:
            continue
        if held >= 0:
            far = math.sqrt((x[0, i] - x[0, held]) ** 2 + (x[1, i] - x[1, held]) ** 2 + (x[2, i] - x[2, held]) ** 2)
            if far > TAUT * seg * (i - held):
                j = i if values[HOW, first + i] == contact.STUCK else held
                if values[HOW, first + j] == contact.STUCK:
                    values[HOW, first + j] = contact.FREE
                    light[j] = 1.0 / mass[j]
                if j == i:
                    continue
        held = i


@njit(
    "void(f4[:,::1], f4[:,::1], f8[::1], i8, f8[::1], f8[:,::1], b1, b1, f8, f8, f8, f8, f8, b1, f8[:,:,::1], i8, f8[:,::1], "
    "f4[:,:,::1])",
    parallel=True,
    cache=True,
    error_model="numpy",
)
def _hold(
    values: Floats, before: Floats, moments: Doubles, n: int, lengths: Doubles, held: Doubles, rooted: bool, upright: bool,
    pace: float, damping: float, weight: float, begin: float, until: float, solid: bool, rows: Doubles, s: int, paths: Doubles,
    mattes: Floats,
) -> None:  # fmt: skip
    for strand in prange(len(lengths)):
        first = strand * n
        h = until - max(begin, moments[strand])
        if h <= 0.0 or values[HOW, first] == contact.GONE:
            continue
        seg, age = lengths[strand] / (n - 1), until - moments[strand]
        x, v, gain, drift = np.empty((3, n)), np.empty((3, n)), np.empty((3, n)), np.empty((3, n))
        was, begun, way, room = np.empty((3, n)), np.empty((3, n)), np.empty((3, n)), np.empty((6, n))
        band, parts, light, mass = np.empty((3, n)), np.empty((4, n)), np.empty(n), np.empty(n)
        both = 4 * n if held[strand, 9] > 0 else 1
        joint, right, smooth = np.empty((both, 9)), np.empty(both), np.empty((3, n))
        far = 0.0
        for i in range(n):
            mass[i] = 0.5 if i == 0 or i == n - 1 else 1.0
        mass[n - 1] += weight
        for i in range(n):
            light[i] = 1.0 / mass[i] if values[HOW, first + i] == contact.FREE else 0.0
            moved = 0.0
            for c in range(3):
                x[c, i], v[c, i] = before[c, first + i], before[3 + c, first + i]
                gain[c, i] = values[3 + c, first + i] - v[c, i]
                drift[c, i] = values[c, first + i] - x[c, i] - h * (v[c, i] + 0.5 * gain[c, i])
                moved += (values[c, first + i] - x[c, i]) ** 2
            far = max(far, moved)
        footed = held[strand, 9] > 0
        if rooted:
            light[0] = 0.0
        if footed:
            light[n - 1] = 0.0
        count = min(max(_PARTS_BY_SURFACES if solid else _PARTS, math.ceil(2.0 * math.sqrt(far) / seg)), _MOST_PARTS)
        hs = h / count
        # How stiff: so that the strand, held at its root, sways so often. A limp one whose foot is held would fold up like a rule.
        sways = max(pace, _LIMP) if footed else pace
        k = (2.0 * math.pi * sways / _CANTILEVER) ** 2 * float(n - 1) ** 4
        tau = 2.0 * damping / (2.0 * math.pi * pace) if pace > 0 else 0.0
        rate = k * hs * (hs + tau)
        clamp = 2.0 * rate if rooted and upright else 0.0
        bends = k > 0 and n > 2
        for part in range(count):
            share = (part + 1) / count
            if part == 0 or solid:
                # Surfaces hold joints, and let them go.
                if bends:
                    _bending(band, light, mass, rate, clamp, n)
                    _factored(band, parts, n)
                if footed and n > 2:
                    _bending(smooth, light, mass, max(rate, _SMOOTH), clamp, n)
            for i in range(n):
                for c in range(3):
                    was[c, i] = x[c, i]
                    if light[i] > 0:
                        v[c, i] += gain[c, i] / count
                        x[c, i] += hs * (v[c, i] - 0.5 * gain[c, i] / count) + drift[c, i] / count
            for c in range(3):
                if rooted:
                    x[c, 0] = held[strand, c] + share * (held[strand, 3 + c] - held[strand, c])
                    v[c, 0] = (held[strand, 3 + c] - held[strand, c]) / h
                if footed:
                    x[c, n - 1] = held[strand, 10 + c] + share * (held[strand, 13 + c] - held[strand, 10 + c])
                    v[c, n - 1] = (held[strand, 13 + c] - held[strand, 10 + c]) / h
            if bends:
                for c in range(3):
                    out = held[strand, 6 + c] * seg if clamp > 0 else 0.0
                    _bent(x[c], was[c], v[c], light, mass, parts, rate, k * hs * tau, clamp, out, hs, n, room[0])
            if solid:
                _let_go(values, first, n, x, light, mass, seg)
            for _ in range(_ROUNDS):
                for i in range(n):
                    for c in range(3):
                        begun[c, i] = x[c, i]
                fits = False
                if footed and n > 2:
                    # From the shape that it had, whose lengths are right.
                    for i in range(n):
                        for c in range(3):
                            x[c, i] = was[c, i] if light[i] > 0 else begun[c, i]
                    fits = _nearest(x, begun, smooth, light, seg, n, joint, right)
                if not fits:
                    for i in range(n):
                        for c in range(3):
                            x[c, i] = begun[c, i]
                    _ways(x, was, way, n)
                    fits = _lengths(x, way, light, seg, n, room)
                if not fits:
                    for i in range(n):
                        for c in range(3):
                            x[c, i] = begun[c, i]
                    _reached(x, light, seg, n)
                for i in range(n):
                    if light[i] > 0:
                        for c in range(3):
                            v[c, i] += (x[c, i] - begun[c, i]) / hs
                if not solid or not _off_surfaces(values, first, n, was, x, v, light, rows, s, paths, mattes, age):
                    break
                if _stretch(x, seg, n) < _ENOUGH:
                    break
            _unstretched(x, v, light, n, room)
        gone = False
        for i in range(n):
            gone = gone or values[HOW, first + i] == contact.GONE
            for c in range(3):
                values[c, first + i] = x[c, i]
                values[3 + c, first + i] = v[c, i]
        if gone:
            # All of it goes with the first joint of it that does.
            for i in range(n):
                if values[HOW, first + i] != contact.GONE:
                    values[GONE_AT, first + i] = age
                values[HOW, first + i] = contact.GONE


@guarded
def hold(
    values: Floats, before: Floats, moments: Doubles, joints: int, lengths: Doubles, held: Doubles, rooted: bool, upright: bool,
    pace: float, damping: float, weight: float, begin: float, until: float, solid: bool, rows: Doubles, s: int, paths: Doubles,
    mattes: Floats,
) -> None:  # fmt: skip
    """Hold strands together over a step, in place.

    values (k, n): the joints as the world has moved them, of strands of `joints` each; before (6, n): their places and velocities
    when the step began, at shot time `begin`; it ends at `until`. moments of birth s and lengths px of the strands, (m,); held
    (m, 16): see `HELD`. pace: how often a strand sways in a second; damping: of critical; weight: at the foot. rows, s, paths,
    mattes: surfaces, if `solid`.
    """
    _hold(
        values, before, moments, joints, lengths, held, rooted, upright, pace, damping, weight, begin, until, solid, rows, s,
        paths, mattes,
    )  # fmt: skip
