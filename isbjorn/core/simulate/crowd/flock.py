"""Flock: separation, alignment and cohesion (Reynolds 1987, "Flocks, herds, and schools: a distributed behavioral model").

Who is a neighbour counts by w = (1 - d²/R²)², so that nothing jumps where one comes near. Alignment and cohesion are means over
neighbours, in which each pair counts the same for both (by the larger of their sums of w): all-round sight keeps momentum. What one
takes on in a step is exact for two alone, and at most a half of what parts them for many: stable at any rate.
"""

from __future__ import annotations

import math

import numpy as np
from numba import f4, i4, prange, void

from isbjorn.core.arrays import Doubles, Floats, Ints
from isbjorn.core.document.meetings import Flock
from isbjorn.core.jit import njit
from isbjorn.core.records import Records, one, record, records
from isbjorn.core.runtime.parallel import guarded
from isbjorn.core.simulate import contact
from isbjorn.core.simulate.crowd.grid import near
from isbjorn.core.simulate.crowd.together import Read, Together
from isbjorn.core.simulate.forces.row import Setting, base

CODE = 30
_STILL = 1e-6
# Radii px; how far it sees, as a cosine; separation and cohesion px/s²; the share that is aligned in a step; the step, s.
RULES = record(radius=1, apart=1, cosine=1, separation=1, aligned=1, cohesion=1, h=1)


def pack(force: Flock, setting: Setting) -> Doubles:
    """Rows of a flock."""
    return base(force, CODE, setting, 0.01)


@njit("b1(f8, f8, f8, f8, f8, f8, f8, f8)", cache=True, forceinline=True)
def _sees(u: float, v: float, w: float, dx: float, dy: float, dz: float, d: float, cosine: float) -> bool:
    """Whether one that goes by (u, v, w) sees another at (dx, dy, dz)."""
    speed = math.sqrt(u * u + v * v + w * w)
    return cosine <= -1.0 or speed < _STILL or d < _STILL or (u * dx + v * dy + w * dz) >= cosine * speed * d


@njit("void(f4[:,::1], f4[:,::1], i4[:,::1], i4[::1], f4[::1], f8, f8, f8, f4[:,::1])", parallel=True, cache=True)
def _count(
    place: Floats, velocity: Floats, others: Ints, count: Ints, stands_for: Floats, radius: float, apart: float,
    cosine: float, sums: Floats,
) -> None:  # fmt: skip
    """sums (2, n): of the weights of neighbours, and how many are too near."""
    for i in prange(place.shape[1]):
        u, v, w = float(velocity[0, i]), float(velocity[1, i]), float(velocity[2, i])
        total, near_by = 0.0, 0.0
        for k in range(count[i]):
            j = others[i, k]
            dx, dy, dz = place[0, j] - place[0, i], place[1, j] - place[1, i], place[2, j] - place[2, i]
            d2 = dx * dx + dy * dy + dz * dz
            if not _sees(u, v, w, dx, dy, dz, math.sqrt(d2), cosine):
                continue
            if d2 < radius * radius:
                q = 1.0 - d2 / (radius * radius)
                total += stands_for[i] * q * q
            if d2 < apart * apart:
                near_by += stands_for[i]
        sums[0, i], sums[1, i] = total, near_by


@njit(
    void(f4[:, ::1], f4[:, ::1], f4[::1], i4[:, ::1], i4[::1], f4[::1], records(RULES), f4[:, ::1], f4[:, ::1]),
    parallel=True,
    cache=True,
)
def _sway(
    place: Floats, velocity: Floats, share: Floats, others: Ints, count: Ints, stands_for: Floats, given: Records,
    sums: Floats, out: Floats,
) -> None:  # fmt: skip
    radius, apart, cosine, h = given[0].radius, given[0].apart, given[0].cosine, given[0].h
    separation, aligned, cohesion = given[0].separation, given[0].aligned, given[0].cohesion
    stiff = h * h * separation / apart
    for i in prange(place.shape[1]):
        u, v, w = float(velocity[0, i]), float(velocity[1, i]), float(velocity[2, i])
        ax, ay, az = 0.0, 0.0, 0.0
        for k in range(count[i]):
            j = others[i, k]
            dx, dy, dz = place[0, j] - place[0, i], place[1, j] - place[1, i], place[2, j] - place[2, i]
            d2 = dx * dx + dy * dy + dz * dz
            d = math.sqrt(d2)
            if not _sees(u, v, w, dx, dy, dz, d, cosine):
                continue
            both = stands_for[i] * math.sqrt(share[i] * share[j])
            if d2 < radius * radius:
                q = 1.0 - d2 / (radius * radius)
                mean = both * q * q / max(1e-9, max(sums[0, i], sums[0, j]))
                turn, draw = mean * aligned, mean * cohesion * h / radius
                ax += turn * (velocity[0, j] - u) + draw * dx
                ay += turn * (velocity[1, j] - v) + draw * dy
                az += turn * (velocity[2, j] - w) + draw * dz
            if d2 < apart * apart and d > _STILL:
                off = both * separation * h * (1.0 / d - 1.0 / apart) / (1.0 + stiff * 0.5 * (sums[1, i] + sums[1, j]))
                ax, ay, az = ax - off * dx, ay - off * dy, az - off * dz
        out[0, i], out[1, i], out[2, i] = ax, ay, az


@njit(
    "void(f4[:,::1], f4[::1], f8[:,:,::1], f8[:,::1], f4[:,:,::1], i8, i8, f8, f8, f4[:,::1])",
    parallel=True,
    cache=True,
)
def _shun(
    place: Floats, share: Floats, rows: Doubles, paths: Doubles, mattes: Floats, first: int, last: int, shy: float,
    push: float, out: Floats,
) -> None:  # fmt: skip
    for i in prange(first, last):
        if share[i] == 0:
            continue
        d, r, nx, ny, nz = contact.closest(
            rows, 0, paths, mattes, float(place[0, i]), float(place[1, i]), float(place[2, i])
        )
        if r >= 0 and d < shy:
            by = share[i] * push * (1.0 - max(d, 0.0) / shy)
            out[0, i] += by * nx
            out[1, i] += by * ny
            out[2, i] += by * nz


@njit("void(f4[:,::1], f4[::1], f8, f8, f4[:,::1])", parallel=True, cache=True)
def _limit(velocity: Floats, share: Floats, least: float, top: float, out: Floats) -> None:
    """Change what is added to velocities so that speeds stay between two."""
    for i in prange(len(share)):
        if share[i] == 0:
            continue
        u, v, w = velocity[0, i] + out[0, i], velocity[1, i] + out[1, i], velocity[2, i] + out[2, i]
        speed = math.sqrt(u * u + v * v + w * w)
        by = 1.0
        if top > 0 and speed > top:
            by = top / speed
        elif _STILL < speed < least:
            by = least / speed
        if by != 1.0:
            out[0, i], out[1, i], out[2, i] = u * by - velocity[0, i], v * by - velocity[1, i], w * by - velocity[2, i]


@guarded
def sway(force: Flock, read: Read, together: Together, share: Floats) -> Floats:
    """What a flock adds to velocities in a step, px/s (3, n)."""
    radius, apart, h = read(force.radius), read(force.apart), together.h
    view = read(force.view)
    cosine = -2.0 if view >= 360 else math.cos(math.radians(view / 2))
    place, velocity = together.place, together.velocity
    around = near(place, share, max(radius, apart))
    of = (around.others, around.count, around.stands_for)
    there, going, felt = around.sorted(place), around.sorted(velocity), around.sorted(share)
    sums, found = np.zeros((2, len(share)), np.float32), np.zeros_like(place)
    _count(there, going, *of, radius, apart, cosine, sums)
    # Two alone lose e^(-kh) of what parts them.
    taken = -0.5 * math.expm1(-read(force.alignment) * h)
    given = one(
        RULES, radius=radius, apart=apart, cosine=cosine, separation=read(force.separation), aligned=taken,
        cohesion=read(force.cohesion), h=h,
    )  # fmt: skip
    _sway(there, going, felt, *of, given, sums, found)
    out = around.unsorted(found)
    shy, push = read(force.shy), read(force.avoidance) * h
    for part in together.parts:
        if part.solid and shy > 0 and push > 0:
            _shun(place, share, part.rows, part.paths, part.mattes, part.first, part.last, shy, push, out)
    _limit(velocity, share, read(force.least_speed), read(force.top_speed), out)
    return out
