"""Contact: a particle's way through a step, swept against every surface so that nothing gets through.

The way is followed by the distance to the nearest surface (Hart 1996, "Sphere tracing"), which no step can cross. At a
touch the outcome decides how it goes on for what is left of the step.

body: float64 (12,): place (3), velocity (3), seconds since birth at the first touch (-1: none), how it is (`FREE`, `STUCK`,
`GONE`), age at which it went, then scratch.
"""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt
from numba import njit

from isbjorn.core.life.draws import draw_around
from isbjorn.core.motion.forces import surface
from isbjorn.core.motion.forces.row import ATTRIBUTE, CODE, Doubles3, Floats

Doubles = npt.NDArray[np.float64]
FREE, STUCK, GONE = 0.0, 1.0, 2.0
TOUCHED, HOW, GONE_AT = 6, 7, 8
BODY = 12
_NEAR = 0.01
_MOST_TOUCHES, _MOST_STRIDES = 12, 128
_SMALLEST_RADIUS = 0.05
SURFACE, OUTCOME, MARK = surface.CODE, surface.OUTCOME, surface.MARK
BOUNCE, STICK, DIE = surface.BOUNCE, surface.STICK, surface.DIE
RESTITUTION, RESTITUTION_SPREAD, FRICTION = surface.RESTITUTION, surface.RESTITUTION_SPREAD, surface.FRICTION


@njit("Tuple((f8, i8, f8, f8, f8))(f8[:,:,::1], i8, f8[:,::1], f4[:,:,::1], b1, f8, f8, f8)", cache=True)
def _closest(
    rows: Doubles3, s: int, paths: Doubles, mattes: Floats, marks: bool, x: float, y: float, z: float
) -> tuple[float, int, float, float, float]:
    """The surface whose free side is least deep here: distance, row and unit vector away from it."""
    best, which, bx, by, bz = 1e30, -1, 0.0, 1.0, 0.0
    for r in range(rows.shape[1]):
        if int(rows[s, r, CODE]) != SURFACE or (int(rows[s, r, OUTCOME]) == MARK) != marks:
            continue
        d, nx, ny, nz = surface.distance(rows, s, r, paths, mattes, x, y, z)
        if d < best:
            best, which, bx, by, bz = d, r, nx, ny, nz
    return best, which, bx, by, bz


@njit(
    "Tuple((f8, i8, f8, f8, f8))(f8[:,:,::1], i8, f8[:,::1], f4[:,:,::1], b1, f8, f8, f8, f8, f8, f8, f8)", cache=True
)
def _trace(
    rows: Doubles3, s: int, paths: Doubles, mattes: Floats, marks: bool, x: float, y: float, z: float, cx: float,
    cy: float, cz: float, radius: float,
) -> tuple[float, int, float, float, float]:  # fmt: skip
    """Follow a straight way (cx, cy, cz): the share of it that is free, and the surface touched there (-1: none)."""
    length = math.sqrt(cx * cx + cy * cy + cz * cz)
    if length < 1e-12:
        return 1.0, -1, 0.0, 0.0, 0.0
    ux, uy, uz = cx / length, cy / length, cz / length
    gone = 0.0
    for _ in range(_MOST_STRIDES):
        d, r, nx, ny, nz = _closest(rows, s, paths, mattes, marks, x + ux * gone, y + uy * gone, z + uz * gone)
        if r < 0:
            return 1.0, -1, 0.0, 0.0, 0.0
        free = d - radius
        if free < _NEAR and ux * nx + uy * ny + uz * nz < 0:
            return gone / length, r, nx, ny, nz
        # Going away from a touched surface, or along it: past it in strides that cannot reach through.
        gone += max(free, 2 * _NEAR)
        if gone >= length:
            return 1.0, -1, 0.0, 0.0, 0.0
    return min(1.0, gone / length), r, nx, ny, nz


@njit("void(f8[:,:,::1], i8, u8, i8, i8, f8[::1], f8, f8, f8, f8, f8, f8, f8, f8)", cache=True)
def _answer(
    rows: Doubles3, s: int, key: np.uint64, birth: int, r: int, body: Doubles, ax: float, ay: float, az: float, h: float,
    nx: float, ny: float, nz: float, age: float,
) -> None:  # fmt: skip
    """What a touch does to the velocity in `body`, under the acceleration a over steps of h."""
    if body[TOUCHED] < 0:
        body[TOUCHED] = age
    outcome = int(rows[s, r, OUTCOME])
    if outcome == DIE:
        body[HOW], body[GONE_AT] = GONE, age
        return
    if outcome == STICK:
        body[HOW] = STUCK
        body[3], body[4], body[5] = 0.0, 0.0, 0.0
        return
    along = body[3] * nx + body[4] * ny + body[5] * nz
    if along >= 0:
        return
    e = 0.0
    if outcome == BOUNCE:
        e = rows[s, r, RESTITUTION]
        if rows[s, r, RESTITUTION_SPREAD] > 0:
            e += rows[s, r, RESTITUTION_SPREAD] * draw_around(key, birth, int(rows[s, r, ATTRIBUTE]) + 3, False)
        e = min(max(e, 0.0), 1.0)
        # What presses no harder than its own weight in a step lies still: else it would tremble for ever.
        if -along < 2.0 * abs(ax * nx + ay * ny + az * nz) * h:
            e = 0.0
    tx, ty, tz = body[3] - along * nx, body[4] - along * ny, body[5] - along * nz
    slide = math.sqrt(tx * tx + ty * ty + tz * tz)
    # Coulomb: what the touch takes along the surface is at most friction times what it turns round across it.
    left = max(0.0, 1.0 - rows[s, r, FRICTION] * (1.0 + e) * -along / slide) if slide > 1e-12 else 0.0
    body[3] = tx * left - e * along * nx
    body[4] = ty * left - e * along * ny
    body[5] = tz * left - e * along * nz


@njit("void(f8[:,:,::1], i8, f8[:,::1], f4[:,:,::1], u8, i8, f8[::1], f8, f8, f8, f8, f8, f8, f8, f8, f8)", cache=True)
def sweep(
    rows: Doubles3, s: int, paths: Doubles, mattes: Floats, key: np.uint64, birth: int, body: Doubles, dx: float,
    dy: float, dz: float, vx: float, vy: float, vz: float, h: float, age: float, radius: float,
) -> None:  # fmt: skip
    """Take `body` over a step of h seconds that would carry it by (dx, dy, dz) and leave it with velocity (vx, vy, vz).

    age: at the step's beginning. Between touches the velocity changes evenly.
    """
    radius = max(radius, _SMALLEST_RADIUS)
    ax, ay, az = (vx - body[3]) / h, (vy - body[4]) / h, (vz - body[5]) / h
    if body[TOUCHED] < 0:
        share, r, _, _, _ = _trace(rows, s, paths, mattes, True, body[0], body[1], body[2], dx, dy, dz, radius)
        if r >= 0:
            body[TOUCHED] = age + share * h
    left = h
    for _ in range(_MOST_TOUCHES):
        share, r, nx, ny, nz = _trace(rows, s, paths, mattes, False, body[0], body[1], body[2], dx, dy, dz, radius)
        body[0], body[1], body[2] = body[0] + dx * share, body[1] + dy * share, body[2] + dz * share
        if r < 0:
            body[3], body[4], body[5] = body[3] + ax * left, body[4] + ay * left, body[5] + az * left
            break
        body[3], body[4], body[5] = (
            body[3] + ax * left * share, body[4] + ay * left * share, body[5] + az * left * share,
        )  # fmt: skip
        left *= 1.0 - share
        _answer(rows, s, key, birth, r, body, ax, ay, az, h, nx, ny, nz, age + h - left)
        if body[HOW] != FREE or left <= 0:
            break
        # Only what does not press into the touched surface acts on: it carries its own weight.
        across = ax * nx + ay * ny + az * nz
        pressed = body[3] * nx + body[4] * ny + body[5] * nz < 1e-6 and across < 0
        if pressed:
            ax, ay, az = ax - across * nx, ay - across * ny, az - across * nz
        dx = body[3] * left + 0.5 * ax * left * left
        dy = body[4] * left + 0.5 * ay * left * left
        dz = body[5] * left + 0.5 * az * left * left
    # A surface that moves, and rounding, may have come too near.
    for _ in range(3):
        d, r, nx, ny, nz = _closest(rows, s, paths, mattes, False, body[0], body[1], body[2])
        if r < 0 or d >= radius:
            break
        by = radius - d
        body[0], body[1], body[2] = body[0] + nx * by, body[1] + ny * by, body[2] + nz * by
