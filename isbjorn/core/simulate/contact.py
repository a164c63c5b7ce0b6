"""Contact: a particle's path through a step, swept against every surface so that nothing gets through.

A path is straight between touches. The free distance to a convex shape is found by Newton's method on the distance, which along a
straight line is a convex function: from outside it converges in a few strides, and never overshoots (Bergen 2004, "Ray casting
against general convex objects"). Inside a sphere or a box it is computed in closed form; the plate's matte is followed by its
distance (Hart 1996, "Sphere tracing"). At a touch the outcome decides the motion for the rest of the step.

A body that is pressed against a surface slides along it: friction takes at most its share of the pressure (Coulomb), up to the
tangential force. Along the inside of a sphere it slides on great circles, so that no speed is lost.

A force that carries places (a vortex) adds a velocity that is not the body's: a surface stops the part of it that points into the
surface, and leaves the rest.

body: float64 (12,): place (3), velocity (3), seconds since birth at the first touch (-1: none), its state (`FREE`, `STUCK`,
`GONE`), age at which it was removed, then scratch.
"""

from __future__ import annotations

import math

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.evaluate.geometry import mesh_casts
from isbjorn.core.jit import inline_kernel
from isbjorn.core.random import draw_around
from isbjorn.core.simulate.forces import surface
from isbjorn.core.simulate.forces.force_layout import ATTRIBUTE, CODE, PLACE
from isbjorn.core.simulate.table_types import SOLIDS, Solids

FREE, STUCK, GONE = 0.0, 1.0, 2.0
TOUCHED, HOW, GONE_AT = 6, 7, 8
BODY = 12
_NEAR = 0.01
# The sine of an angle below which a way goes along a surface, not toward it: above what rounding makes of it.
_GRAZING = 1e-6
_MOST_TOUCHES, _MOST_STRIDES, _MATTE_STRIDES, _MATTE_STRIDE = 12, 64, 2048, 0.5
_SMALLEST_RADIUS = 0.05
# In a hollow: pieces of a step at most, and how far one of them turns, in radians.
_MOST_GLIDES, _GLIDE_TURN = 48, 0.2
SURFACE, OUTCOME, MARK = surface.CODE, surface.OUTCOME, surface.MARK
BOUNCE, STICK, DIE = surface.BOUNCE, surface.STICK, surface.DIE
RESTITUTION, RESTITUTION_SPREAD, FRICTION = surface.RESTITUTION, surface.RESTITUTION_SPREAD, surface.FRICTION
SHAPE, SIDE, HALF, RADIUS, COS, SIN = (
    surface.SHAPE, surface.SIDE, surface.HALF, surface.RADIUS, surface.COS, surface.SIN,
)  # fmt: skip
BOX, SPHERE, PATH, MATTE, MODEL = surface.BOX, surface.SPHERE, surface.PATH, surface.MATTE, surface.MODEL
FIRST, COUNT, PX = surface.FIRST, surface.COUNT, surface.PX


@inline_kernel(f"Tuple((f8, i8, f8, f8, f8))(f8[:,:,::1], i8, f8[:,::1], {SOLIDS}, f8, f8, f8, f8)", cache=True)
def closest(
    rows: Doubles, s: int, paths: Doubles, solids: Solids, x: float, y: float, z: float, reach: float
) -> tuple[float, int, float, float, float]:
    """The surface whose free side is least deep here: distance, row and unit vector away from it; exact up to `reach` px."""
    best, which, bx, by, bz = 1e30, -1, 0.0, 1.0, 0.0
    for r in range(rows.shape[1]):
        if int(rows[s, r, CODE]) != SURFACE or int(rows[s, r, OUTCOME]) == MARK:
            continue
        d, nx, ny, nz = surface.distance(rows, s, r, paths, solids, x, y, z, reach)
        if d < best:
            best, which, bx, by, bz = d, r, nx, ny, nz
    return best, which, bx, by, bz


@inline_kernel(f"f8(f8[:,:,::1], i8, i8, f8[:,::1], {SOLIDS}, f8, f8, f8, f8, f8, f8, f8, f8)", cache=True)
def _convex(
    rows: Doubles, s: int, r: int, paths: Doubles, solids: Solids, x: float, y: float, z: float, ux: float, uy: float,
    uz: float, length: float, radius: float,
) -> float:  # fmt: skip
    """How far along (u, unit) a body is free of a convex surface; beyond `length` if it does not touch it."""
    gone = 0.0
    for _ in range(_MOST_STRIDES):
        d, nx, ny, nz = surface.distance(rows, s, r, paths, solids, x + ux * gone, y + uy * gone, z + uz * gone, 0.0)
        toward = -(ux * nx + uy * ny + uz * nz)
        if toward <= _GRAZING:
            return 1e300
        free = d - radius
        if free < _NEAR:
            return gone
        gone += (free - 0.5 * _NEAR) / toward
        if gone >= length:
            return 1e300
    return gone


@inline_kernel("f8(f8[:,:,::1], i8, i8, f8, f8, f8, f8, f8, f8, f8)", cache=True)
def _in_sphere(
    rows: Doubles, s: int, r: int, x: float, y: float, z: float, ux: float, uy: float, uz: float, radius: float
) -> float:
    """How far a body inside a sphere is free."""
    dx, dy, dz = x - rows[s, r, PLACE], y - rows[s, r, PLACE + 1], z - rows[s, r, PLACE + 2]
    room = max(0.0, rows[s, r, RADIUS] - radius)
    along, out = dx * ux + dy * uy + dz * uz, math.sqrt(dx * dx + dy * dy + dz * dz)
    if out > room - _NEAR:
        # On the wall, or in it: a touch if it goes outward.
        if along > _GRAZING * max(out, 1e-12):
            return 0.0
        room = max(out, room)
    return -along + math.sqrt(max(0.0, along * along + room * room - out * out))


@inline_kernel("f8(f8[:,:,::1], i8, i8, f8, f8, f8, f8, f8, f8, f8)", cache=True)
def _in_box(
    rows: Doubles, s: int, r: int, x: float, y: float, z: float, ux: float, uy: float, uz: float, radius: float
) -> float:
    """How far a body inside a box is free."""
    dx, dy, dz = x - rows[s, r, PLACE], y - rows[s, r, PLACE + 1], z - rows[s, r, PLACE + 2]
    c, sn, best = rows[s, r, COS], rows[s, r, SIN], 1e300
    for axis in range(3):
        at, way = dz, uz
        if axis == 0:
            at, way = dx * c + dy * sn, ux * c + uy * sn
        elif axis == 1:
            at, way = -dx * sn + dy * c, -ux * sn + uy * c
        if abs(way) <= _GRAZING:
            continue
        free = rows[s, r, HALF + axis] - radius - at * math.copysign(1.0, way)
        best = min(best, 0.0 if free < _NEAR else (free - 0.5 * _NEAR) / abs(way))
    return best


@inline_kernel("f8(f8[:,:,::1], i8, i8, f8[:,::1], f8, f8, f8, f8, f8, f8, f8)", cache=True)
def _on_path(
    rows: Doubles, s: int, r: int, paths: Doubles, x: float, y: float, ux: float, uy: float, length: float, flat: float,
    radius: float,
) -> float:  # fmt: skip
    """Free distance of a body to the pieces of a path, each a convex shape. flat: the share of the motion in the plane."""
    c, sn, size = rows[s, r, COS], rows[s, r, SIN], rows[s, r, PX]
    dx, dy = x - rows[s, r, PLACE], y - rows[s, r, PLACE + 1]
    px, py, wx, wy = dx * c + dy * sn, -dx * sn + dy * c, ux * c + uy * sn, -ux * sn + uy * c
    best, reach = 1e300, length * flat
    for i in range(int(rows[s, r, FIRST]), int(rows[s, r, FIRST]) + int(rows[s, r, COUNT]) - 1):
        ax, ay = paths[i, 0] * size, paths[i, 1] * size
        bx, by = paths[i + 1, 0] * size - ax, paths[i + 1, 1] * size - ay
        whole = bx * bx + by * by
        gone = 0.0
        for stride in range(_MOST_STRIDES):
            qx, qy = px + wx * gone - ax, py + wy * gone - ay
            t = min(max((qx * bx + qy * by) / whole, 0.0), 1.0) if whole > 1e-18 else 0.0
            ex, ey = qx - t * bx, qy - t * by
            d = math.sqrt(ex * ex + ey * ey)
            if stride == 0 and d > reach + radius + _NEAR:
                gone = 1e300
                break
            # Exactly on the line, either side is a touch.
            toward = abs(wx * by - wy * bx) / math.sqrt(max(whole, 1e-18)) if d < 1e-9 else -(wx * ex + wy * ey) / d
            if toward <= _GRAZING:
                gone = 1e300
                break
            if d - radius < _NEAR:
                break
            gone += (d - radius - 0.5 * _NEAR) / toward
            if gone >= length or gone >= best:
                gone = 1e300
                break
        best = min(best, gone)
    return best


@inline_kernel(f"f8(f8[:,:,::1], i8, i8, f8[:,::1], {SOLIDS}, f8, f8, f8, f8, f8, f8, f8, f8)", cache=True)
def _by_matte(
    rows: Doubles, s: int, r: int, paths: Doubles, solids: Solids, x: float, y: float, z: float, ux: float, uy: float,
    uz: float, length: float, radius: float,
) -> float:  # fmt: skip
    """Free distance of a body to the plate's matte, whose smallest parts are cells of some px."""
    gone = 0.0
    for _ in range(_MATTE_STRIDES):
        d, nx, ny, nz = surface.distance(rows, s, r, paths, solids, x + ux * gone, y + uy * gone, z + uz * gone, 0.0)
        free = d - radius
        if free < _NEAR and ux * nx + uy * ny + uz * nz < -_GRAZING:
            return gone
        gone += max(free, _MATTE_STRIDE)
        if gone >= length:
            return 1e300
    return gone


@inline_kernel("UniTuple(f8,3)(f8[:,:,::1], i8, i8, f8, f8, f8, f8, f8, f8, f8, f8, f8)", cache=True)
def _met(
    rows: Doubles, s: int, r: int, x: float, y: float, z: float, ux: float, uy: float, uz: float, nx: float, ny: float,
    nz: float,
) -> tuple[float, float, float]:  # fmt: skip
    """The way out of the wall that is met, where the nearest one is left behind."""
    if int(rows[s, r, SHAPE]) != BOX:
        return -nx, -ny, -nz
    dx, dy, dz = x - rows[s, r, PLACE], y - rows[s, r, PLACE + 1], z - rows[s, r, PLACE + 2]
    c, sn, least = rows[s, r, COS], rows[s, r, SIN], 1e300
    for axis in range(3):
        at, way = dz, uz
        if axis == 0:
            at, way = dx * c + dy * sn, ux * c + uy * sn
        elif axis == 1:
            at, way = -dx * sn + dy * c, -ux * sn + uy * c
        free = rows[s, r, HALF + axis] - at * math.copysign(1.0, way)
        if abs(way) > _GRAZING and free < least:
            least, sign = free, -math.copysign(1.0, way)
            if axis == 0:
                nx, ny, nz = sign * c, sign * sn, 0.0
            elif axis == 1:
                nx, ny, nz = -sign * sn, sign * c, 0.0
            else:
                nx, ny, nz = 0.0, 0.0, sign
    return nx, ny, nz


@inline_kernel(
    f"Tuple((f8, i8, f8, f8, f8))(f8[:,:,::1], i8, f8[:,::1], {SOLIDS}, b1, f8, f8, f8, f8, f8, f8, f8, i8)",
    cache=True,
)
def trace(
    rows: Doubles, s: int, paths: Doubles, solids: Solids, marks: bool, x: float, y: float, z: float, cx: float,
    cy: float, cz: float, radius: float, except_for: int,
) -> tuple[float, int, float, float, float]:  # fmt: skip
    """Follow a straight way (cx, cy, cz): the share of it that is free, the surface touched there (-1: none) and its normal.

    except_for: the row of a surface that is passed over (-1: none), because the body slides along it.
    """
    length = math.sqrt(cx * cx + cy * cy + cz * cz)
    if length < 1e-12:
        return 1.0, -1, 0.0, 0.0, 0.0
    ux, uy, uz = cx / length, cy / length, cz / length
    best, which, mx, my, mz = length, -1, 0.0, 0.0, 0.0
    for r in range(rows.shape[1]):
        if r == except_for or int(rows[s, r, CODE]) != SURFACE or (int(rows[s, r, OUTCOME]) == MARK) != marks:
            continue
        shape, inside = int(rows[s, r, SHAPE]), rows[s, r, SIDE] < 0
        if shape == SPHERE and inside:
            gone = _in_sphere(rows, s, r, x, y, z, ux, uy, uz, radius)
        elif shape == BOX and inside:
            gone = _in_box(rows, s, r, x, y, z, ux, uy, uz, radius)
        elif shape == PATH:
            gone = _on_path(rows, s, r, paths, x, y, ux, uy, best, math.sqrt(ux * ux + uy * uy), radius)
        elif shape == MATTE:
            gone = _by_matte(rows, s, r, paths, solids, x, y, z, ux, uy, uz, best, radius)
        elif shape == MODEL:
            gone, nx, ny, nz = mesh_casts.cast(
                solids[1], rows, s, r, surface.MODEL_COLUMNS, x - rows[s, r, PLACE], y - rows[s, r, PLACE + 1],
                z - rows[s, r, PLACE + 2], ux, uy, uz, best, radius, _NEAR,
            )  # fmt: skip
            if gone < best:
                mx, my, mz = nx, ny, nz
        else:
            gone = _convex(rows, s, r, paths, solids, x, y, z, ux, uy, uz, best, radius)
        if gone < best:
            best, which = max(0.0, gone), r
    if which < 0:
        return 1.0, -1, 0.0, 0.0, 0.0
    if int(rows[s, which, SHAPE]) == MODEL:
        return best / length, which, mx, my, mz
    _, nx, ny, nz = surface.distance(rows, s, which, paths, solids, x + ux * best, y + uy * best, z + uz * best, 0.0)
    in_box = int(rows[s, which, SHAPE]) == BOX and rows[s, which, SIDE] < 0
    if in_box or ux * nx + uy * ny + uz * nz > 0:
        # The nearest wall may be another than the one that is met: in a corner of a box, or on the line of a path.
        nx, ny, nz = _met(rows, s, which, x + ux * best, y + uy * best, z + uz * best, ux, uy, uz, nx, ny, nz)
    return best / length, which, nx, ny, nz


@inline_kernel(f"Tuple((b1, f8, f8, f8))(f8[:,:,::1], i8, f8[:,::1], {SOLIDS}, f8, f8, f8, f8)", cache=True)
def pushed_out(
    rows: Doubles, s: int, paths: Doubles, solids: Solids, x: float, y: float, z: float, radius: float
) -> tuple[bool, float, float, float]:
    """Whether a body is too near to a surface, and where it is when the nearest one has pushed it out.

    In a model that is narrower than the body, the other side is in the way: the body's middle never passes it.
    """
    d, r, nx, ny, nz = closest(rows, s, paths, solids, x, y, z, radius)
    if r < 0 or d >= radius:
        return False, x, y, z
    by = radius - d
    if int(rows[s, r, SHAPE]) == MODEL and d > 0:
        share, _, _, _, _ = trace(
            rows, s, paths, solids, False, x, y, z, nx * by, ny * by, nz * by, _SMALLEST_RADIUS, -1
        )
        by *= share
    return True, x + nx * by, y + ny * by, z + nz * by


@inline_kernel("void(f8[:,:,::1], i8, u8, i8, i8, f8[::1], f8, f8, f8, f8, f8)", cache=True)
def _answer(
    rows: Doubles, s: int, key: np.uint64, birth: int, r: int, body: Doubles, gain: float, nx: float,
    ny: float, nz: float, age: float,
) -> None:  # fmt: skip
    """What a touch does to the velocity in `body`. gain: what presses it against the surface in a step, px/s."""
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
        # A body that presses no harder than its own weight in a step is at rest: otherwise it would tremble for ever.
        if -along < 2.0 * gain:
            e = 0.0
    tx, ty, tz = body[3] - along * nx, body[4] - along * ny, body[5] - along * nz
    slide = math.sqrt(tx * tx + ty * ty + tz * tz)
    # Coulomb: what the touch takes along the surface is at most friction times what it turns round across it.
    left = max(0.0, 1.0 - rows[s, r, FRICTION] * (1.0 + e) * -along / slide) if slide > 1e-12 else 0.0
    body[3] = tx * left - e * along * nx
    body[4] = ty * left - e * along * ny
    body[5] = tz * left - e * along * nz


@inline_kernel("UniTuple(f8,6)(f8, f8, f8, f8, f8, f8, f8, f8)", cache=True)
def _rubbed(
    vx: float, vy: float, vz: float, ax: float, ay: float, az: float, friction: float, left: float
) -> tuple[float, float, float, float, float, float]:
    """The way and the last velocity of a body that slides for `left` seconds with a velocity v and an acceleration a along a
    surface, which resists with up to `friction` px/s²; at rest it stays where that holds it."""
    speed = math.sqrt(vx * vx + vy * vy + vz * vz)
    pull = math.sqrt(ax * ax + ay * ay + az * az)
    dx, dy, dz = 0.0, 0.0, 0.0
    if speed > 0.0 and friction > 0.0:
        bx, by, bz = ax - friction * vx / speed, ay - friction * vy / speed, az - friction * vz / speed
        slowing = -(bx * vx + by * vy + bz * vz) / speed
        if slowing * left < speed:
            return (
                vx * left + 0.5 * bx * left * left, vy * left + 0.5 * by * left * left, vz * left + 0.5 * bz * left * left,
                vx + bx * left, vy + by * left, vz + bz * left,
            )  # fmt: skip
        # Friction stops it within the step.
        until = speed / slowing
        dx, dy, dz = 0.5 * vx * until, 0.5 * vy * until, 0.5 * vz * until
        vx, vy, vz, left = 0.0, 0.0, 0.0, left - until
    elif speed > 0.0:
        return (
            vx * left + 0.5 * ax * left * left, vy * left + 0.5 * ay * left * left, vz * left + 0.5 * az * left * left,
            vx + ax * left, vy + ay * left, vz + az * left,
        )  # fmt: skip
    if pull <= friction:
        return dx, dy, dz, 0.0, 0.0, 0.0
    f = 1.0 - friction / pull
    ax, ay, az = ax * f, ay * f, az * f
    return (
        dx + 0.5 * ax * left * left, dy + 0.5 * ay * left * left, dz + 0.5 * az * left * left, ax * left, ay * left, az * left,
    )  # fmt: skip


@inline_kernel("f8(f8, f8, f8)", cache=True, forceinline=True)
def _gone(v: float, a: float, h: float) -> float:
    """The way of h seconds from a velocity v with an acceleration a."""
    return v * h + 0.5 * a * h * h


@inline_kernel("f8(f8[:,:,::1], i8, i8, f8)", cache=True)
def hollow(rows: Doubles, s: int, r: int, radius: float) -> float:
    """The radius of the sphere inside which the centre of a body slides along a surface; 0 where that is not hollow."""
    if int(rows[s, r, SHAPE]) != SPHERE or rows[s, r, SIDE] > 0:
        return 0.0
    return max(0.0, rows[s, r, RADIUS] - radius)


@inline_kernel("UniTuple(f8,3)(f8, f8, f8, f8, f8, f8, f8, f8, f8)", cache=True)
def turned_with(
    x: float, y: float, z: float, ax: float, ay: float, az: float, bx: float, by: float, bz: float
) -> tuple[float, float, float]:
    """A vector perpendicular to the unit vector a, rotated as a is rotated to the unit vector b, the shortest way."""
    f = (x * bx + y * by + z * bz) / max(1e-9, 1.0 + ax * bx + ay * by + az * bz)
    return x - f * (ax + bx), y - f * (ay + by), z - f * (az + bz)


@inline_kernel(f"f8(f8[:,:,::1], i8, f8[:,::1], {SOLIDS}, i8, f8[::1], f8, f8, f8, f8[::1], f8, f8, f8)", cache=True)
def _glide(
    rows: Doubles, s: int, paths: Doubles, solids: Solids, r: int, body: Doubles, fx: float, fy: float, fz: float,
    carried: Doubles, left: float, radius: float, room: float,
) -> float:  # fmt: skip
    """Slide along the inside of a sphere of radius `room` for `left` seconds, under the acceleration f: velocity Verlet on great
    circles. Returns the seconds that are left where it comes off or meets another surface.

    carried: the velocity (3,) by which the place is carried besides; it is turned along, and stays on the sphere.
    """
    cx, cy, cz = rows[s, r, PLACE], rows[s, r, PLACE + 1], rows[s, r, PLACE + 2]
    mu, pieces = rows[s, r, FRICTION], 0
    while left > 0 and pieces < _MOST_GLIDES:
        pieces += 1
        nx, ny, nz = cx - body[0], cy - body[1], cz - body[2]
        out = math.sqrt(nx * nx + ny * ny + nz * nz)
        if out < 1e-9:
            return left
        nx, ny, nz = nx / out, ny / out, nz / out
        across = fx * nx + fy * ny + fz * nz
        along, by = body[3] * nx + body[4] * ny + body[5] * nz, carried[0] * nx + carried[1] * ny + carried[2] * nz
        u, v, w = body[3] - along * nx, body[4] - along * ny, body[5] - along * nz
        wx, wy, wz = carried[0] - by * nx, carried[1] - by * ny, carried[2] - by * nz
        speed = math.sqrt(u * u + v * v + w * w)
        whole = math.sqrt((u + wx) ** 2 + (v + wy) ** 2 + (w + wz) ** 2)
        pressed = whole * whole / room - across
        if pressed <= 0:
            return left
        ax, ay, az = fx - across * nx, fy - across * ny, fz - across * nz
        h = min(left, _GLIDE_TURN * room / max(whole, 1e-9))
        rub = mu * pressed
        pull = math.sqrt(ax * ax + ay * ay + az * az)
        if rub > 0:
            if speed <= (rub + pull) * h and pull <= rub:
                # Friction holds it.
                u, v, w, ax, ay, az = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
            elif speed > rub * h:
                ax, ay, az = ax - rub * u / speed, ay - rub * v / speed, az - rub * w / speed
            else:
                f = 1.0 - rub / max(pull, 1e-12) if pull > rub else 0.0
                ax, ay, az = ax * f, ay * f, az * f
        u, v, w = u + 0.5 * ax * h, v + 0.5 * ay * h, w + 0.5 * az * h
        dx, dy, dz = u + wx, v + wy, w + wz
        whole = math.sqrt(dx * dx + dy * dy + dz * dz)
        tx, ty, tz, turn = 0.0, 0.0, 0.0, 0.0
        if whole > 1e-12:
            tx, ty, tz, turn = dx / whole, dy / whole, dz / whole, whole * h / room
        c, sn = math.cos(turn), math.sin(turn)
        mx, my, mz = nx * c - tx * sn, ny * c - ty * sn, nz * c - tz * sn
        ex, ey, ez = cx - room * mx - body[0], cy - room * my - body[1], cz - room * mz - body[2]
        share, which, _, _, _ = trace(rows, s, paths, solids, False, body[0], body[1], body[2], ex, ey, ez, radius, r)
        if which >= 0:
            # Another surface is in the way: up to there it has slid.
            body[0], body[1], body[2] = body[0] + ex * share, body[1] + ey * share, body[2] + ez * share
            body[3], body[4], body[5] = u, v, w
            return left - share * h
        body[0], body[1], body[2] = cx - room * mx, cy - room * my, cz - room * mz
        u, v, w = turned_with(u, v, w, nx, ny, nz, mx, my, mz)
        carried[0], carried[1], carried[2] = turned_with(wx, wy, wz, nx, ny, nz, mx, my, mz)
        ax, ay, az = turned_with(ax, ay, az, nx, ny, nz, mx, my, mz)
        if rub == 0:
            across = fx * mx + fy * my + fz * mz
            ax, ay, az = fx - across * mx, fy - across * my, fz - across * mz
        body[3], body[4], body[5] = u + 0.5 * ax * h, v + 0.5 * ay * h, w + 0.5 * az * h
        left -= h
    return left


@inline_kernel(
    f"void(f8[:,:,::1], i8, f8[:,::1], {SOLIDS}, u8, i8, f8[::1], f8[::1], f8, f8, f8, f8, f8, f8, f8, f8, f8)",
    cache=True,
)
def sweep(
    rows: Doubles, s: int, paths: Doubles, solids: Solids, key: np.uint64, birth: int, body: Doubles, carried: Doubles,
    dx: float, dy: float, dz: float, vx: float, vy: float, vz: float, h: float, age: float, radius: float,
) -> None:  # fmt: skip
    """Take `body` over a step of h seconds that would carry it by (dx, dy, dz) and leave it with velocity (vx, vy, vz).

    carried: the velocity (3,) by which its place is carried besides, which is part of (dx, dy, dz); scratch. age: at the step's
    beginning. Between touches the velocity changes evenly.
    """
    radius = max(radius, _SMALLEST_RADIUS)
    ax, ay, az = (vx - body[3]) / h, (vy - body[4]) / h, (vz - body[5]) / h
    # What acts on it besides what it touches.
    fx, fy, fz = ax, ay, az
    if body[TOUCHED] < 0:
        share, r, _, _, _ = trace(rows, s, paths, solids, True, body[0], body[1], body[2], dx, dy, dz, radius, -1)
        if r >= 0:
            body[TOUCHED] = age + share * h
    left = h
    for _ in range(_MOST_TOUCHES):
        share, r, nx, ny, nz = trace(rows, s, paths, solids, False, body[0], body[1], body[2], dx, dy, dz, radius, -1)
        body[0], body[1], body[2] = body[0] + dx * share, body[1] + dy * share, body[2] + dz * share
        if r < 0:
            body[3], body[4], body[5] = body[3] + ax * left, body[4] + ay * left, body[5] + az * left
            break
        body[3], body[4], body[5] = (
            body[3] + ax * left * share, body[4] + ay * left * share, body[5] + az * left * share,
        )  # fmt: skip
        left *= 1.0 - share
        # A hollow presses what goes round in it.
        room, bend = hollow(rows, s, r, radius), 0.0
        if room > 0:
            gx, gy, gz = body[3] + carried[0], body[4] + carried[1], body[5] + carried[2]
            along = gx * nx + gy * ny + gz * nz
            bend = (gx * gx + gy * gy + gz * gz - along * along) / room
        across = fx * nx + fy * ny + fz * nz - bend
        _answer(rows, s, key, birth, r, body, abs(across) * h, nx, ny, nz, age + h - left)
        if body[HOW] != FREE or left <= 0:
            break
        out, by = body[3] * nx + body[4] * ny + body[5] * nz, carried[0] * nx + carried[1] * ny + carried[2] * nz
        if out + by < 0:
            # What carries it into the surface is stopped by it.
            carried[0], carried[1], carried[2] = (
                carried[0] - (out + by) * nx, carried[1] - (out + by) * ny, carried[2] - (out + by) * nz,
            )  # fmt: skip
            by = -out
        if across < 0 and out + by <= -0.500001 * across * left:
            # Pressed, or so before the step ends: it slides along what it touches, and rubs by what presses it.
            body[3], body[4], body[5] = body[3] - out * nx, body[4] - out * ny, body[5] - out * nz
            carried[0], carried[1], carried[2] = carried[0] - by * nx, carried[1] - by * ny, carried[2] - by * nz
            if room > 0:
                left = _glide(rows, s, paths, solids, r, body, fx, fy, fz, carried, left, radius, room)
                if left <= 0:
                    break
                ax, ay, az = fx, fy, fz
                dx, dy, dz = _gone(body[3], fx, left), _gone(body[4], fy, left), _gone(body[5], fz, left)
            else:
                dx, dy, dz, vx, vy, vz = _rubbed(
                    body[3], body[4], body[5], fx - across * nx, fy - across * ny, fz - across * nz,
                    -across * rows[s, r, FRICTION], left,
                )  # fmt: skip
                ax, ay, az = (vx - body[3]) / left, (vy - body[4]) / left, (vz - body[5]) / left
        else:
            ax, ay, az = fx, fy, fz
            dx, dy, dz = _gone(body[3], fx, left), _gone(body[4], fy, left), _gone(body[5], fz, left)
        dx, dy, dz = dx + carried[0] * left, dy + carried[1] * left, dz + carried[2] * left
    # A surface that moves, and rounding, may have come too near.
    for _ in range(3):
        moved, body[0], body[1], body[2] = pushed_out(rows, s, paths, solids, body[0], body[1], body[2], radius)
        if not moved:
            break
