"""Curl of noise: velocity fields without sources or sinks.

Bridson, Hourihan, Nordenstam 2007, "Curl-noise for procedural fluid flow". The potential is gradient noise (Perlin 2002, "Improving
noise") whose gradients rotate with time (Perlin and Neyret 2001, "Flow noise"), each lattice point at one of sixteen rates, in
either direction: in a loop all return after one turn, otherwise the noise does not come near its earlier state; or cellular noise
(Worley 1996) with a smoothed nearest distance, whose points circle. All derivatives are exact, so that the divergence is only
rounding.

phases: float64 (16,) in a row from column `at` on: cosine and sine of turns at four rates, then at four others; a lattice point
turns by the sum of one of each.
"""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles
from isbjorn.core.jit import inline_kernel
from isbjorn.core.random import mix

_A, _B, _C = np.uint64(0x9E3779B97F4A7C15), np.uint64(0xC2B2AE3D27D4EB4F), np.uint64(0x165667B19E3779F9)
# The root mean square of the speed of each field, found by sampling; divided by, so that strength is a usual speed.
RMS_FLAT, RMS_DEEP, RMS_CELLS_FLAT, RMS_CELLS_DEEP = 0.8825, 1.2203, 0.8542, 1.3851
_SHARP = 28.0
OCTAVES_APART = _A
_1, _2, _3 = np.uint64(1), np.uint64(2), np.uint64(3)
# Precomputed lattice points and their origin: this many numbers for each octave (see `noise_lattice`).
KNOWN, BOX = "f8[:,::1], f8[:,:,::1], i8", 5


def _directions() -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:
    """64 directions evenly on a sphere, and for each one at a right angle."""
    n = np.arange(64)
    z, turn = 1 - (2 * n + 1) / 64, n * math.pi * (3 - math.sqrt(5))
    flat = np.sqrt(1 - z * z)
    first = np.stack([flat * np.cos(turn), flat * np.sin(turn), z], axis=1)
    side = np.cross(first, np.roll(first, 21, axis=0))
    return first, side / np.linalg.norm(side, axis=1, keepdims=True)


_FIRST, _SECOND = _directions()
_TURNS = np.stack([np.cos(2 * np.pi * np.arange(64) / 64), np.sin(2 * np.pi * np.arange(64) / 64)], axis=1)


@inline_kernel("u8(i8, i8, i8, u8)", cache=True, forceinline=True)
def lattice_hash(i: int, j: int, k: int, seed: np.uint64) -> np.uint64:
    return mix((np.uint64(i) * _A) ^ (np.uint64(j) * _B + (np.uint64(k) * _C)) ^ seed)


@inline_kernel("UniTuple(f8,2)(u8, f8[:,:,::1], i8, i8, i8)", cache=True, forceinline=True)
def lattice_phase(h: np.uint64, rows: Doubles, s: int, r: int, at: int) -> tuple[float, float]:
    """Cosine and sine of a lattice point's turn: its rate and its way are drawn from its hash."""
    a, b = at + int(h >> np.uint64(39) & np.uint64(6)), at + 8 + int(h >> np.uint64(41) & np.uint64(6))
    way = 1.0 if (h >> np.uint64(50)) & np.uint64(1) else -1.0
    ca, sa, cb, sb = rows[s, r, a], rows[s, r, a + 1], rows[s, r, b], rows[s, r, b + 1]
    return ca * cb - sa * sb, way * (sa * cb + ca * sb)


@inline_kernel("UniTuple(f8,2)(f8)", cache=True, forceinline=True)
def _fade(f: float) -> tuple[float, float]:
    """Perlin's quintic and its slope."""
    return f * f * f * (f * (f * 6.0 - 15.0) + 10.0), 30.0 * f * f * (f * (f - 2.0) + 1.0)


@inline_kernel("UniTuple(f8,2)(i8, i8, u8, f8[:,:,::1], i8, i8, i8)", cache=True, forceinline=True)
def slope_flat(i: int, j: int, seed: np.uint64, rows: Doubles, s: int, r: int, at: int) -> tuple[float, float]:
    """The gradient of a lattice point of a plane."""
    h = lattice_hash(i, j, 0, seed)
    c, sn = lattice_phase(h, rows, s, r, at)
    q = int(h & np.uint64(63))
    return _TURNS[q, 0] * c - _TURNS[q, 1] * sn, _TURNS[q, 0] * sn + _TURNS[q, 1] * c


@inline_kernel("i8(f8[:,:,::1], i8, i8, i8, i8, i8)", cache=True, forceinline=True)
def _known_at(boxes: Doubles, step: int, r: int, octave: int, i: int, j: int) -> int:
    """Where in a table the gradients of the points around a cell begin (see `noise_lattice`); -1 where they are not known."""
    if step < 0:
        return -1
    at = octave * BOX
    a, b, wide = i - int(boxes[step, r, at + 1]), j - int(boxes[step, r, at + 2]), int(boxes[step, r, at + 3])
    if a < 0 or b < 0 or a + 1 >= wide or b + 1 >= int(boxes[step, r, at + 4]):
        return -1
    return int(boxes[step, r, at]) + 2 * (b * wide + a)


@inline_kernel("UniTuple(f8,2)(f8, f8, f8, f8, f8, f8, f8, f8, f8, f8)", cache=True, forceinline=True)
def curl_of(
    fx: float, fy: float, ax: float, ay: float, bx: float, by: float, cx: float, cy: float, ex: float, ey: float
) -> tuple[float, float]:  # fmt: skip
    """Curl at a place within a cell, of the gradients of its corners: row by row."""
    sx, dx = _fade(fx)
    sy, dy = _fade(fy)
    tx, ty = 1.0 - sx, 1.0 - sy
    a, b = ax * fx + ay * fy, bx * (fx - 1) + by * fy
    c, e = cx * fx + cy * (fy - 1), ex * (fx - 1) + ey * (fy - 1)
    px = (-dx * ty * a + tx * ty * ax) + (dx * ty * b + sx * ty * bx)
    px = px + (-dx * sy * c + tx * sy * cx) + (dx * sy * e + sx * sy * ex)
    py = (tx * -dy * a + tx * ty * ay) + (sx * -dy * b + sx * ty * by)
    py = py + (tx * dy * c + tx * sy * cy) + (sx * dy * e + sx * sy * ey)
    return py, -px


@inline_kernel(f"UniTuple(f8,2)(f8, f8, u8, f8[:,:,::1], i8, i8, i8, {KNOWN}, i8)", cache=True, forceinline=True)
def curl_flat(
    x: float, y: float, seed: np.uint64, rows: Doubles, s: int, r: int, at: int, known: Doubles, boxes: Doubles, step: int,
    octave: int,
) -> tuple[float, float]:  # fmt: skip
    """Curl of gradient noise in a plane at (x, y), in cells."""
    i, j = math.floor(x), math.floor(y)
    fx, fy = x - i, y - j
    first = _known_at(boxes, step, r, octave, int(i), int(j))
    if first >= 0:
        n = np.uint64(first)
        m = n + np.uint64(2) * np.uint64(boxes[step, r, octave * BOX + 3])
        ax, ay, bx, by = known[step, n], known[step, n + _1], known[step, n + _2], known[step, n + _3]
        cx, cy, ex, ey = known[step, m], known[step, m + _1], known[step, m + _2], known[step, m + _3]
    else:
        ax, ay = slope_flat(int(i), int(j), seed, rows, s, r, at)
        bx, by = slope_flat(int(i) + 1, int(j), seed, rows, s, r, at)
        cx, cy = slope_flat(int(i), int(j) + 1, seed, rows, s, r, at)
        ex, ey = slope_flat(int(i) + 1, int(j) + 1, seed, rows, s, r, at)
    return curl_of(fx, fy, ax, ay, bx, by, cx, cy, ex, ey)


@inline_kernel("UniTuple(f8,3)(f8, f8, f8, u8, f8[:,:,::1], i8, i8, i8)", cache=True)
def curl_deep(
    x: float, y: float, z: float, seed: np.uint64, rows: Doubles, s: int, r: int, at: int
) -> tuple[float, float, float]:
    """Curl of a vector of three gradient noises at (x, y, z), in cells."""
    i, j, k = math.floor(x), math.floor(y), math.floor(z)
    fx, fy, fz = x - i, y - j, z - k
    sx, dx = _fade(fx)
    sy, dy = _fade(fy)
    sz, dz = _fade(fz)
    vx, vy, vz = 0.0, 0.0, 0.0
    for c0 in range(2):
        wz = sz if c0 else 1.0 - sz
        ez = dz if c0 else -dz
        for b in range(2):
            wy = sy if b else 1.0 - sy
            ey = dy if b else -dy
            for a in range(2):
                wx = sx if a else 1.0 - sx
                ex = dx if a else -dx
                h = lattice_hash(int(i) + a, int(j) + b, int(k) + c0, seed)
                c, sn = lattice_phase(h, rows, s, r, at)
                rx, ry, rz = fx - a, fy - b, fz - c0
                w = wx * wy * wz
                wdx, wdy, wdz = ex * wy * wz, wx * ey * wz, wx * wy * ez
                for channel in range(3):
                    q = int((h >> np.uint64(6 * channel)) & np.uint64(63))
                    gx = _FIRST[q, 0] * c + _SECOND[q, 0] * sn
                    gy = _FIRST[q, 1] * c + _SECOND[q, 1] * sn
                    gz = _FIRST[q, 2] * c + _SECOND[q, 2] * sn
                    dot = gx * rx + gy * ry + gz * rz
                    if channel == 0:
                        vy += wdz * dot + w * gz
                        vz -= wdy * dot + w * gy
                    elif channel == 1:
                        vz += wdx * dot + w * gx
                        vx -= wdz * dot + w * gz
                    else:
                        vx += wdy * dot + w * gy
                        vy -= wdx * dot + w * gx
    return vx, vy, vz


@inline_kernel("UniTuple(f8,3)(f8, f8, f8, u8, b1, f8[:,:,::1], i8, i8, i8)", cache=True)
def _cells_slope(
    x: float, y: float, z: float, seed: np.uint64, flat: bool, rows: Doubles, s: int, r: int, at: int
) -> tuple[float, float, float]:
    """Slope of smooth cellular noise: of -log Σ exp(-s d²)/s over the points of the cells around."""
    i, j, k = math.floor(x), math.floor(y), math.floor(z)
    total, gx, gy, gz = 1e-30, 0.0, 0.0, 0.0
    low, high = (0, 1) if flat else (-1, 2)
    for c0 in range(low, high):
        for b in range(-1, 2):
            for a in range(-1, 2):
                h = lattice_hash(int(i) + a, int(j) + b, 0 if flat else int(k) + c0, seed)
                c, sn = lattice_phase(h, rows, s, r, at)
                q = int(h & np.uint64(63))
                px = i + a + 0.5 + 0.38 * (_TURNS[q, 0] * c - _TURNS[q, 1] * sn)
                py = j + b + 0.5 + 0.38 * (_TURNS[q, 0] * sn + _TURNS[q, 1] * c)
                rx, ry, rz = x - px, y - py, 0.0
                if not flat:
                    rz = z - (k + c0 + 0.2 + 0.6 * float((h >> np.uint64(20)) & np.uint64(1023)) / 1023.0)
                w = math.exp(-_SHARP * (rx * rx + ry * ry + rz * rz))
                total += w
                gx, gy, gz = gx + w * rx, gy + w * ry, gz + w * rz
    return 2.0 * gx / total, 2.0 * gy / total, 2.0 * gz / total


@inline_kernel("UniTuple(f8,3)(f8, f8, f8, i8, f8, f8, f8, f8)", cache=True, forceinline=True)
def in_cells(
    sx: float, sy: float, sz: float, flowing: int, scale: float, x: float, y: float, z: float
) -> tuple[float, float, float]:
    """Index of a place among the lattice points, of which the third number counts only where the noise flows along all axes."""
    # What does not flow still changes from place to place, if there is nothing better.
    qx = x * scale / sx if sx > 0 else (x * scale if flowing == 1 else 0.0)
    qy = y * scale / sy if sy > 0 else (y * scale if flowing == 1 else 0.0)
    qz = z * scale / sz if sz > 0 else (z * scale if flowing == 1 else 0.0)
    if flowing == 3:
        return qx, qy, qz
    if (flowing == 2 and sx <= 0) or (flowing == 1 and sx > 0):
        return qy, qz, 0.0
    if (flowing == 2 and sy <= 0) or (flowing == 1 and sy > 0):
        return qx, qz, 0.0
    return qx, qy, 0.0


@inline_kernel("f8(i8, f8, f8, f8, f8)", cache=True, forceinline=True)
def to_usual(flowing: int, sx: float, sy: float, sz: float, power: float) -> float:
    """Factor of octaves with a given total power: the usual speed is the specified one, for any stretch of the axes."""
    even = math.sqrt(flowing / max(1e-12, max(sx, 0.0) ** 2 + max(sy, 0.0) ** 2 + max(sz, 0.0) ** 2))
    return even / math.sqrt(max(power, 1e-12))


@inline_kernel(f"UniTuple(f8,3)(f8[:,:,::1], i8, i8, i8, f8, f8, f8, {KNOWN})", cache=True)
def flow_among(
    rows: Doubles, s: int, r: int, at: int, x: float, y: float, z: float, known: Doubles, boxes: Doubles, step: int
) -> tuple[float, float, float]:
    """A noise field of usual speed 1 at a place in px. known, boxes: gradients of lattice points, and which (see `noise_lattice`).

    Columns from `at` on: 1/size, octaves, lacunarity, gain, stretch along x, y, z, seed, cellular, then the phases.
    A stretched axis is stretched with the flow along it (Piola's transform), one of no stretch does not flow: both keep it
    without sources.
    """
    octaves, lacunarity, gain = int(rows[s, r, at + 1]), rows[s, r, at + 2], rows[s, r, at + 3]
    sx, sy, sz = rows[s, r, at + 4], rows[s, r, at + 5], rows[s, r, at + 6]
    seed0, cells, phases = np.uint64(int(rows[s, r, at + 7])), rows[s, r, at + 8] > 0, at + 9
    if octaves == 1 and not cells and sx > 0 and sy > 0 and sz <= 0:
        # The usual case: one octave in the picture plane.
        u, v = curl_flat(
            x * rows[s, r, at] / sx, y * rows[s, r, at] / sy, mix(seed0), rows, s, r, phases, known, boxes, step, 0
        )
        even = math.sqrt(2.0 / (sx * sx + sy * sy)) / RMS_FLAT
        return u * sx * even, v * sy * even, 0.0
    flowing = (sx > 0) + (sy > 0) + (sz > 0)
    vx, vy, vz = 0.0, 0.0, 0.0
    scale, amplitude, power = rows[s, r, at], 1.0, 0.0
    for octave in range(octaves):
        seed = mix(seed0 + np.uint64(octave) * OCTAVES_APART)
        p, q, k = in_cells(sx, sy, sz, flowing, scale, x, y, z)
        if flowing == 3:
            if cells:
                _, a1, a2 = _cells_slope(p, q, k, seed, False, rows, s, r, phases)
                b0, _, b2 = _cells_slope(p, q, k, mix(seed + _B), False, rows, s, r, phases)
                c0, c1, _ = _cells_slope(p, q, k, mix(seed + _C), False, rows, s, r, phases)
                n = amplitude / RMS_CELLS_DEEP
                vx, vy, vz = vx + n * (c1 - b2), vy + n * (a2 - c0), vz + n * (b0 - a1)
            else:
                fx, fy, fz = curl_deep(p, q, k, seed, rows, s, r, phases)
                n = amplitude / RMS_DEEP
                vx, vy, vz = vx + n * fx, vy + n * fy, vz + n * fz
        elif flowing > 0:
            if cells:
                g0, g1, _ = _cells_slope(p, q, 0.0, seed, True, rows, s, r, phases)
                f0, f1 = g1 / RMS_CELLS_FLAT, -g0 / RMS_CELLS_FLAT
            else:
                f0, f1 = curl_flat(p, q, seed, rows, s, r, phases, known, boxes, step, octave)
                f0, f1 = f0 / RMS_FLAT, f1 / RMS_FLAT
            f0, f1 = f0 * amplitude, f1 * amplitude
            if flowing == 2:
                if sx <= 0:
                    vy, vz = vy + f0, vz + f1
                elif sy <= 0:
                    vx, vz = vx + f0, vz + f1
                else:
                    vx, vy = vx + f0, vy + f1
            elif sx > 0:
                vx += f0
            elif sy > 0:
                vy += f0
            else:
                vz += f0
        power += amplitude * amplitude
        scale *= lacunarity
        amplitude *= gain
    whole = to_usual(flowing, sx, sy, sz, power)
    return vx * sx * whole, vy * sy * whole, vz * sz * whole


@inline_kernel("UniTuple(f8,3)(f8[:,:,::1], i8, i8, i8, f8, f8, f8)", cache=True)
def flow(rows: Doubles, s: int, r: int, at: int, x: float, y: float, z: float) -> tuple[float, float, float]:
    """A noise field of usual speed 1 at a place in px: `flow_among` of nothing known."""
    return flow_among(rows, s, r, at, x, y, z, rows[0], rows, -1)
