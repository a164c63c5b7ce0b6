"""Flock: separation, alignment and cohesion (Reynolds 1987, "Flocks, herds, and schools: a distributed behavioral model").

Neighbours have the weight w = (1 - d²/R²)², so that nothing jumps when one comes near. Alignment and cohesion are means over
neighbours, in which each pair counts the same for both (by the larger of their sums of w): all-round sight keeps momentum. What one
takes on in a step is exact for two alone, and at most a half of what parts them for many: stable at any rate.
"""

from __future__ import annotations

import math

import numpy as np
from numba import f4, i4, prange, void

from isbjorn.core.arrays import Doubles, Floats, Ints
from isbjorn.core.document.parts.interactions import Flock
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.records import Records, make_record, record, records
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate import contact
from isbjorn.core.simulate.forces.force_layout import ForceSetting, base
from isbjorn.core.simulate.interactions.grid import BLOCKS, LEAST, NONE, ONE, PAIRS, near
from isbjorn.core.simulate.interactions.interaction_view import InteractionView, Read
from isbjorn.core.simulate.table_types import SOLIDS, Solids

CODE = 30
_STILL, _ALL = np.float32(1e-6), np.float32(1e30)
# Radii px; how far it sees, as a cosine; separation and cohesion px/s²; the share that is aligned in a step; the step, s.
RULES = record(radius=1, apart=1, cosine=1, separation=1, aligned=1, cohesion=1, h=1)


def pack(force: Flock, setting: ForceSetting) -> Doubles:
    """Rows of a flock."""
    return base(force, CODE, setting, 0.01)


@inline_kernel("f4(f4, f4, f4, f4)", cache=True, forceinline=True)
def _least_ahead(u: np.float32, v: np.float32, w: np.float32, cosine: np.float32) -> np.float32:
    """Lower bound of the distance ahead, as a share of the distance, of a visible particle for one that moves by (u, v, w), times
    its speed."""
    speed = math.sqrt(u * u + v * v + w * w)
    return cosine * speed if cosine > -ONE and speed >= _STILL else -_ALL


@njit(
    "void(f4[:,::1], f4[:,::1], i4[:,::1], i4[::1], f4[::1], f8, f8, f8, f4[:,::1])",
    parallel=True,
    cache=True,
    error_model="numpy",
)
def _count(
    place: Floats, velocity: Floats, others: Ints, count: Ints, stands_for: Floats, radius: float, apart: float,
    cosine: float, sums: Floats,
) -> None:  # fmt: skip
    """sums (2, n): of the weights of neighbours, and how many are too near."""
    per, near_px = np.float32(1.0 / (radius * radius)), np.float32(apart * apart)
    for i in prange(place.shape[1]):
        x, y, z, u, v, w = place[0, i], place[1, i], place[2, i], velocity[0, i], velocity[1, i], velocity[2, i]
        least = _least_ahead(u, v, w, np.float32(cosine))
        total, near_by = NONE, NONE
        for k in range(np.uint32(count[i])):
            j = np.uint32(others[i, k])
            dx, dy, dz = place[0, j] - x, place[1, j] - y, place[2, j] - z
            d2 = dx * dx + dy * dy + dz * dz
            if least > -_ALL and u * dx + v * dy + w * dz < least * math.sqrt(d2):
                continue
            q = ONE - d2 * per
            many = max(stands_for[i], stands_for[j])
            total += many * q * q if q > NONE else NONE
            near_by += many if d2 < near_px else NONE
        sums[0, i], sums[1, i] = total, near_by


@njit(
    void(f4[:, ::1], f4[:, ::1], f4[::1], i4[:, ::1], i4[::1], f4[::1], records(RULES), f4[:, ::1], f4[:, ::1]),
    parallel=True,
    cache=True,
    error_model="numpy",
)
def _sway(
    place: Floats, velocity: Floats, root: Floats, others: Ints, count: Ints, stands_for: Floats, given: Records,
    sums: Floats, out: Floats,
) -> None:  # fmt: skip
    """root (n,): the square roots of the shares."""
    per, cosine = np.float32(1.0 / given[0].radius ** 2), np.float32(given[0].cosine)
    apart, per_apart = np.float32(given[0].apart), np.float32(1.0 / given[0].apart)
    aligned, draw = np.float32(given[0].aligned), np.float32(given[0].cohesion * given[0].h / given[0].radius)
    part = np.float32(given[0].separation * given[0].h)
    stiff = np.float32(0.5 * given[0].h ** 2 * given[0].separation / given[0].apart)
    for block in prange(BLOCKS):
        room = np.empty((8, PAIRS), np.float32)
        dx, dy, dz, far, both, near_by, weight, ahead = (
            room[0], room[1], room[2], room[3], room[4], room[5], room[6], room[7]
        )  # fmt: skip
        i, last = block * place.shape[1] // BLOCKS, (block + 1) * place.shape[1] // BLOCKS
        while i < last:
            begin, pairs = i, np.uint32(0)
            while i < last and pairs + np.uint32(count[i]) <= PAIRS:
                x, y, z, u, v, w = place[0, i], place[1, i], place[2, i], velocity[0, i], velocity[1, i], velocity[2, i]
                many, least = stands_for[i], _least_ahead(u, v, w, cosine)
                for k in range(np.uint32(count[i])):
                    j, p = np.uint32(others[i, k]), pairs + k
                    dx[p], dy[p], dz[p] = place[0, j] - x, place[1, j] - y, place[2, j] - z
                    both[p], near_by[p] = max(many, stands_for[j]) * root[i] * root[j], sums[1, i] + sums[1, j]
                    weight[p] = sums[0, i] if sums[0, i] > sums[0, j] else sums[0, j]
                if least > -_ALL:
                    # Particles that are not seen do not count.
                    for k in range(np.uint32(count[i])):
                        p = pairs + k
                        d = math.sqrt(dx[p] * dx[p] + dy[p] * dy[p] + dz[p] * dz[p])
                        if u * dx[p] + v * dy[p] + w * dz[p] < least * d:
                            both[p] = NONE
                pairs += np.uint32(count[i])
                i += 1
            for m in range(pairs):
                far[m] = dx[m] * dx[m] + dy[m] * dy[m] + dz[m] * dz[m]
            for m in range(pairs):
                q = ONE - far[m] * per
                q = q if q > NONE else NONE
                weight[m] = both[m] * q * q / (weight[m] if weight[m] > LEAST else LEAST)
            for m in range(pairs):
                d = math.sqrt(far[m])
                off = both[m] * part * (ONE / (d if d > _STILL else _STILL) - per_apart) / (ONE + stiff * near_by[m])
                ahead[m] = draw * weight[m] - (off if _STILL < d < apart else NONE)
            at = np.uint32(0)
            for n in range(begin, i):
                u, v, w = velocity[0, n], velocity[1, n], velocity[2, n]
                ax, ay, az = NONE, NONE, NONE
                for k in range(np.uint32(count[n])):
                    j, p = np.uint32(others[n, k]), at + k
                    turn = aligned * weight[p]
                    ax += turn * (velocity[0, j] - u) + ahead[p] * dx[p]
                    ay += turn * (velocity[1, j] - v) + ahead[p] * dy[p]
                    az += turn * (velocity[2, j] - w) + ahead[p] * dz[p]
                at += np.uint32(count[n])
                out[0, n], out[1, n], out[2, n] = ax, ay, az


@njit(
    f"void(f4[:,::1], f4[::1], f8[:,:,::1], f8[:,::1], {SOLIDS}, i8, i8, f8, f8, f4[:,::1])",
    parallel=True,
    cache=True,
)
def _shun(
    place: Floats, share: Floats, rows: Doubles, paths: Doubles, solids: Solids, first: int, last: int, shy: float,
    push: float, out: Floats,
) -> None:  # fmt: skip
    for i in prange(first, last):
        if share[i] == 0:
            continue
        d, r, nx, ny, nz = contact.closest(
            rows, 0, paths, solids, float(place[0, i]), float(place[1, i]), float(place[2, i]), shy
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


@kernel_lock
def velocity_pass(force: Flock, read: Read, together: InteractionView, share: Floats) -> Floats:
    """What a flock adds to velocities in a step, px/s (3, n)."""
    radius, apart, h = read(force.radius), read(force.apart), together.h
    view = read(force.view)
    cosine = -2.0 if view >= 360 else math.cos(math.radians(view / 2))
    place, velocity = together.place, together.velocity
    around = near(place, share, max(radius, apart))
    of = (around.others, around.count, around.stands_for)
    there, going, root = around.place, around.sorted(velocity), np.sqrt(around.sorted(share))
    sums, found = np.empty((2, len(share)), np.float32), np.empty_like(place)
    _count(there, going, *of, radius, apart, cosine, sums)
    # Two alone lose e^(-kh) of what parts them.
    taken = -0.5 * math.expm1(-read(force.alignment) * h)
    given = make_record(
        RULES, radius=radius, apart=apart, cosine=cosine, separation=read(force.separation), aligned=taken,
        cohesion=read(force.cohesion), h=h,
    )  # fmt: skip
    _sway(there, going, root, *of, given, sums, found)
    out = around.unsorted(found)
    shy, push = read(force.shy), read(force.avoidance) * h
    for part in together.parts:
        if part.solid and shy > 0 and push > 0:
            _shun(place, share, part.rows, part.paths, part.solids, part.first, part.last, shy, push, out)
    _limit(velocity, share, read(force.least_speed), read(force.top_speed), out)
    return out
