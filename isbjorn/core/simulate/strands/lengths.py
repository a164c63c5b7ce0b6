"""Lengths of strands: places and velocities that keep them."""

from __future__ import annotations

import math

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.jit import inline_kernel, njit

_NEWTON, _SPANS, EXACT, ENOUGH = 12, 60, 1e-5, 2e-3


@inline_kernel("void(f8[:,::1], f8[:,::1], f8[:,::1], i8)", cache=True, error_model="numpy")
def ways(x: Doubles, was: Doubles, way: Doubles, n: int) -> None:
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


@inline_kernel("f8(f8[:,::1], f8, i8)", cache=True, error_model="numpy")
def stretch(x: Doubles, seg: float, n: int) -> float:
    """By what share the worst length is wrong."""
    worst = 0.0
    for i in range(n - 1):
        d = math.sqrt((x[0, i + 1] - x[0, i]) ** 2 + (x[1, i + 1] - x[1, i]) ** 2 + (x[2, i + 1] - x[2, i]) ** 2)
        worst = max(worst, abs(d - seg))
    return worst / seg


@inline_kernel("b1(f8[:,::1], f8[:,::1], f8[::1], f8, i8, f8[:,::1])", cache=True, error_model="numpy")
def brought_back(x: Doubles, way: Doubles, light: Doubles, seg: float, n: int, room: Doubles) -> bool:
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
        if worst < 2.0 * EXACT * seg * seg:
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
    return stretch(x, seg, n) < ENOUGH


@inline_kernel(
    "b1(f8[:,::1], f8[:,::1], f8[:,::1], f8[::1], f8, i8, f8[:,::1], f8[::1])", cache=True, error_model="numpy"
)
def nearest(
    x: Doubles, wanted: Doubles, band: Doubles, light: Doubles, seg: float, n: int, rows: Doubles, right: Doubles
) -> bool:  # fmt: skip
    """Move x to the nearest place to `wanted` at which its lengths are right, measured as bending does (band, see `bending`);
    return whether that succeeded.

    A strand held at both ends that is longer than their distance must buckle sideways: nearest by masses alone would be a zigzag.
    Newton's method on all places and their tensions, grouped by joint: a matrix of nine diagonals (4 n, 9), as L D Lᵀ.
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
        if far < 1e-3 * seg and worst < 2.0 * EXACT * seg * seg:
            break
    return stretch(x, seg, n) < ENOUGH


@inline_kernel("void(f8[:,::1], i8, i8, f8)", cache=True, error_model="numpy")
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


@inline_kernel("void(f8[:,::1], i8, i8, f8)", cache=True, forceinline=True, error_model="numpy")
def _laid(x: Doubles, i: int, j: int, seg: float) -> None:
    """Lay the jth joint as far from the ith as it is to be."""
    dx, dy, dz = x[0, j] - x[0, i], x[1, j] - x[1, i], x[2, j] - x[2, i]
    d = math.sqrt(dx * dx + dy * dy + dz * dz)
    if d < 1e-9:
        dx, dy, dz, d = 1.0, 0.0, 0.0, 1.0
    x[0, j], x[1, j], x[2, j] = x[0, i] + dx / d * seg, x[1, i] + dy / d * seg, x[2, i] + dz / d * seg


@njit("void(f8[:,::1], f8[::1], f8, i8)", cache=True, error_model="numpy")
def reached(x: Doubles, light: Doubles, seg: float, n: int) -> None:
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


@inline_kernel("void(f8[:,::1], f8[:,::1], f8[::1], i8, f8[:,::1])", cache=True, error_model="numpy")
def unstretched(x: Doubles, v: Doubles, light: Doubles, n: int, room: Doubles) -> None:
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
