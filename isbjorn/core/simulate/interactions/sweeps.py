"""Motion of bodies that push, swept against surfaces: on their own, and by what overlaps move them."""

from __future__ import annotations

import math

from numba import prange

from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.jit import njit
from isbjorn.core.simulate import contact
from isbjorn.core.simulate.forces import surface
from isbjorn.core.simulate.interactions.overlaps import CARRIED, KICK, MOVED, POSITION
from isbjorn.core.simulate.table_types import SOLIDS, Solids

# Surfaces that a body slides along in one part of a step at most.
_SLIDES = 3


@njit(
    "void(f4[:,::1], f4[:,::1], f4[::1], f4[:,::1], f4[:,::1], f4[::1], f8, f4[:,::1], i8[::1], f8[:,:,::1], f8[:,::1], "
    f"{SOLIDS}, b1, i8, i8)",
    parallel=True,
    cache=True,
)
def advance(
    place: Floats, velocity: Floats, radius: Floats, gain: Floats, drift: Floats, fixed: Floats, h: float, bodies: Floats,
    at: Longs, rows: Doubles, paths: Doubles, solids: Solids, solid: bool, first: int, last: int,
) -> None:  # fmt: skip
    """Let bodies first to last move for h seconds, swept against surfaces, which reflect them with friction (Coulomb).

    place px, velocity px/s (3, n) change in place; where a body arrives, and how, goes into row at[i] of bodies (see `overlaps`).
    gain: velocity given meanwhile, px/s; drift: how far each is carried besides, px (3, n). With h = 0, only the rows are set.
    """
    for i in prange(first, last):
        body = bodies[at[i]]
        for c in range(3):
            body[POSITION + c], body[MOVED + c], body[CARRIED + c], body[KICK + c] = place[c, i], 0.0, 0.0, 0.0
        if fixed[i] > 0 or h == 0:
            continue
        u, v, w = (
            float(velocity[0, i] + gain[0, i]),
            float(velocity[1, i] + gain[1, i]),
            float(velocity[2, i] + gain[2, i]),
        )
        x, y, z = float(place[0, i]), float(place[1, i]), float(place[2, i])
        cx, cy, cz = drift[0, i] / h, drift[1, i] / h, drift[2, i] / h
        # Velocity is gained evenly.
        dx, dy, dz = (u - 0.5 * gain[0, i] + cx) * h, (v - 0.5 * gain[1, i] + cy) * h, (w - 0.5 * gain[2, i] + cz) * h
        left, r = h, float(radius[i])
        bx, by, bz = 0.0, 0.0, 0.0
        past, px, py, pz = -1, 0.0, 0.0, 0.0
        for _ in range(_SLIDES if solid else 1):
            free, which, nx, ny, nz = 1.0, -1, 0.0, 0.0, 0.0
            if solid:
                free, which, nx, ny, nz = contact.trace(rows, 0, paths, solids, False, x, y, z, dx, dy, dz, r, past)
            x, y, z = x + dx * free, y + dy * free, z + dz * free
            went = left * free
            bx, by, bz = bx + cx * went, by + cy * went, bz + cz * went
            if which < 0:
                break
            if contact.hollow(rows, 0, which, r) > 0:
                # It slides along the hollow, and is put onto it in the end.
                past, px, py, pz = which, nx, ny, nz
            into = u * nx + v * ny + w * nz
            left *= 1.0 - free
            if into < 0:
                bounces = int(rows[0, which, contact.OUTCOME]) == contact.BOUNCE
                e = rows[0, which, contact.RESTITUTION] if bounces else 0.0
                pressed = -(gain[0, i] * nx + gain[1, i] * ny + gain[2, i] * nz)
                # A body that presses no harder than its own weight rests: otherwise it would tremble for ever.
                if -into < 2.0 * max(0.0, pressed) + 1e-6:
                    e = 0.0
                e = min(max(e, 0.0), 1.0)
                tx, ty, tz = u - into * nx, v - into * ny, w - into * nz
                slide = math.sqrt(tx * tx + ty * ty + tz * tz)
                rubs = rows[0, which, contact.FRICTION] * (1.0 + e)
                share = max(0.0, 1.0 + rubs * into / slide) if slide > 1e-12 else 0.0
                u, v, w = tx * share - e * into * nx, ty * share - e * into * ny, tz * share - e * into * nz
            toward = (u + cx) * nx + (v + cy) * ny + (w + cz) * nz
            if toward < 0:
                # The surface stops what carries it into the surface.
                cx, cy, cz = cx - toward * nx, cy - toward * ny, cz - toward * nz
            dx, dy, dz = (u + cx) * left, (v + cy) * left, (w + cz) * left
        if past >= 0:
            d, nx, ny, nz = surface.distance(rows, 0, past, paths, solids, x, y, z, r)
            if d < r:
                x, y, z = x + nx * (r - d), y + ny * (r - d), z + nz * (r - d)
                out = u * px + v * py + w * pz
                u, v, w = u - out * px, v - out * py, w - out * pz
                u, v, w = contact.turned_with(u, v, w, px, py, pz, nx, ny, nz)
        body[CARRIED], body[CARRIED + 1], body[CARRIED + 2] = bx, by, bz
        body[MOVED], body[MOVED + 1], body[MOVED + 2] = x - place[0, i] - bx, y - place[1, i] - by, z - place[2, i] - bz
        body[POSITION], body[POSITION + 1], body[POSITION + 2] = x, y, z
        place[0, i], place[1, i], place[2, i] = x, y, z
        velocity[0, i], velocity[1, i], velocity[2, i] = u, v, w


@njit(
    f"void(f4[:,::1], f4[:,::1], f4[::1], f8, f4[:,::1], i8[::1], f8[:,:,::1], f8[:,::1], {SOLIDS}, b1, i8, i8)",
    parallel=True,
    cache=True,
)
def displace(
    place: Floats, velocity: Floats, radius: Floats, h: float, bodies: Floats, at: Longs, rows: Doubles, paths: Doubles,
    solids: Solids, solid: bool, first: int, last: int,
) -> None:  # fmt: skip
    """Move bodies to the positions in their rows `at` of bodies, along surfaces that are in the way, by one radius at most.

    What drives them there in a part of h seconds (0: nothing) changes their velocities, as far as they get.
    """
    for i in prange(first, last):
        body = bodies[at[i]]
        x, y, z = float(place[0, i]), float(place[1, i]), float(place[2, i])
        dx, dy, dz = body[POSITION] - x, body[POSITION + 1] - y, body[POSITION + 2] - z
        length, r = math.sqrt(dx * dx + dy * dy + dz * dz), float(radius[i])
        if length == 0:
            continue
        f = r / length if length > r else 1.0
        dx, dy, dz = dx * f, dy * f, dz * f
        if not solid:
            x, y, z = x + dx, y + dy, z + dz
        else:
            past = -1
            for _ in range(_SLIDES):
                free, which, nx, ny, nz = contact.trace(rows, 0, paths, solids, False, x, y, z, dx, dy, dz, r, past)
                x, y, z = x + dx * free, y + dy * free, z + dz * free
                if which < 0:
                    break
                past = which if contact.hollow(rows, 0, which, r) > 0 else past
                left = 1.0 - free
                into = min(0.0, dx * nx + dy * ny + dz * nz)
                dx, dy, dz = left * (dx - into * nx), left * (dy - into * ny), left * (dz - into * nz)
            _, x, y, z = contact.pushed_out(rows, 0, paths, solids, x, y, z, r)
        if h > 0:
            # A body that a surface stops is driven no farther.
            got = math.sqrt((x - place[0, i]) ** 2 + (y - place[1, i]) ** 2 + (z - place[2, i]) ** 2)
            share = min(1.0, got / length) / h
            for c in range(3):
                velocity[c, i] += body[KICK + c] * share
        place[0, i], place[1, i], place[2, i] = x, y, z
