"""Cohesion: neighbours pull each other by the spline of Akinci, Akinci and Teschner 2013 ("Versatile surface tension and adhesion
for SPH fluids", eq. 2), which pushes where they are near: with q = d/R, c = 64 (1-q)³q³ beyond a half of the radius, 128 (1-q)³q³ -
1 within; at most 1. So that many do not fall into one, crowded particles push apart by their near density ρ = Σ(1-q)³ (Clavet,
Beaudoin and Poulin 2005, "Particle-based viscoelastic fluid simulation"). Viscosity is XSPH's (Schechter and Bridson 2012).

The forces of a pair are equal and opposite, so momentum is conserved. Each pair is weakened by its stiffness in a step: stable at
any strength.
"""

from __future__ import annotations

import math

import numpy as np
from numba import f4, i4, prange, void

from isbjorn.core.arrays import Doubles, Floats, Ints
from isbjorn.core.document.parts.interactions import Cohesion
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.records import Records, make_record, record, records
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate.forces.force_layout import ForceSetting, base
from isbjorn.core.simulate.interactions.grid import BLOCKS, LEAST, NONE, ONE, PAIRS, near
from isbjorn.core.simulate.interactions.interaction_view import InteractionView, Read

CODE = 31
_FIRM = 0.6
_STEEPEST = 8.0
# Radius px; how firm; the share that is aligned in a step; the step, s.
RULES = record(radius=1, firm=1, viscous=1, h=1)


def pack(force: Cohesion, setting: ForceSetting) -> Doubles:
    """Rows of a cohesion."""
    return base(force, CODE, setting)


@inline_kernel("f4(f4)", cache=True, forceinline=True)
def spline(q: np.float32) -> np.float32:
    """The pull of a pair at a share of the radius, -1 … 1."""
    p = (ONE - q) * q
    c = np.float32(64) * p * p * p
    return c if q > np.float32(0.5) else c + c - ONE


@njit("void(f4[:,::1], i4[:,::1], i4[::1], f4[::1], f8, f4[:,::1])", parallel=True, cache=True, error_model="numpy")
def _density(place: Floats, others: Ints, count: Ints, stands_for: Floats, radius: float, sums: Floats) -> None:
    """sums (3, n): near density, sum of the weights of viscosity, number of neighbours."""
    per_px = np.float32(1.0 / radius)
    for block in prange(BLOCKS):
        room = np.empty((2, PAIRS), np.float32)
        far, stand = room[0], room[1]
        i, last = block * place.shape[1] // BLOCKS, (block + 1) * place.shape[1] // BLOCKS
        while i < last:
            begin, pairs = i, np.uint32(0)
            while i < last and pairs + np.uint32(count[i]) <= PAIRS:
                x, y, z = place[0, i], place[1, i], place[2, i]
                for k in range(np.uint32(count[i])):
                    j = np.uint32(others[i, k])
                    dx, dy, dz = place[0, j] - x, place[1, j] - y, place[2, j] - z
                    far[pairs + k] = dx * dx + dy * dy + dz * dz
                    stand[pairs + k] = max(stands_for[i], stands_for[j])
                pairs += np.uint32(count[i])
                i += 1
            for m in range(pairs):
                q = ONE - math.sqrt(far[m]) * per_px
                far[m] = q if q > NONE else NONE
            at = np.uint32(0)
            for n in range(begin, i):
                crowded, weight, many = 0.0, 0.0, 0.0
                for k in range(np.uint32(count[n])):
                    q, one_for = far[at + k], stand[at + k]
                    crowded += one_for * q * q * q
                    weight += one_for * q
                    many += one_for
                at += np.uint32(count[n])
                sums[0, n], sums[1, n], sums[2, n] = crowded, weight, many


@njit(
    void(
        f4[:, ::1], f4[:, ::1], f4[::1], f4[::1], i4[:, ::1], i4[::1], f4[::1], records(RULES), f4[:, ::1], f4[:, ::1]
    ),
    parallel=True,
    cache=True,
    error_model="numpy",
)
def _sway(
    place: Floats, velocity: Floats, mass: Floats, root: Floats, others: Ints, count: Ints, stands_for: Floats,
    given: Records, sums: Floats, out: Floats,
) -> None:  # fmt: skip
    """root (n,): the square roots of the shares."""
    radius, firm, h = np.float32(given[0].radius), np.float32(given[0].firm), np.float32(given[0].h)
    viscous, half, per_px = np.float32(given[0].viscous), np.float32(0.5), np.float32(1.0 / given[0].radius)
    steepest, twice = np.float32(_STEEPEST), np.float32(2.0) * firm
    for block in prange(BLOCKS):
        room = np.empty((10, PAIRS), np.float32)
        dx, dy, dz, far, both, lighter, crowded, many, weight, stand = (
            room[0], room[1], room[2], room[3], room[4], room[5], room[6], room[7], room[8], room[9]
        )  # fmt: skip
        i, last = block * place.shape[1] // BLOCKS, (block + 1) * place.shape[1] // BLOCKS
        while i < last:
            begin, pairs = i, np.uint32(0)
            while i < last and pairs + np.uint32(count[i]) <= PAIRS:
                x, y, z, own = place[0, i], place[1, i], place[2, i], mass[i]
                for k in range(np.uint32(count[i])):
                    j, p = np.uint32(others[i, k]), pairs + k
                    dx[p], dy[p], dz[p] = place[0, j] - x, place[1, j] - y, place[2, j] - z
                    stand[p] = max(stands_for[i], stands_for[j])
                    both[p] = stand[p] * root[i] * root[j]
                    # Reduced mass: what parts them changes by the pull over it.
                    lighter[p] = own if own < mass[j] else mass[j]
                    crowded[p], many[p] = half * (sums[0, i] + sums[0, j]), half * (sums[2, i] + sums[2, j])
                    weight[p] = sums[1, i] if sums[1, i] > sums[1, j] else sums[1, j]
                pairs += np.uint32(count[i])
                i += 1
            for m in range(pairs):
                far[m] = math.sqrt(dx[m] * dx[m] + dy[m] * dy[m] + dz[m] * dz[m])
            for m in range(pairs):
                q = far[m] * per_px
                # Of two masses each gives the other the same momentum.
                weight[m] = (ONE - (q if q < ONE else ONE)) * lighter[m] / (weight[m] if weight[m] > LEAST else LEAST)
            for m in range(pairs):
                d = far[m]
                q = d * per_px
                q = q if q < ONE else ONE
                pull = spline(q) - firm * crowded[m] * (ONE - q) * (ONE - q)
                # Over 1 and its stiffness in a step, both times what the stiffness is divided by.
                firmly = radius * lighter[m]
                stiff = h * h * both[m] * (steepest + twice * crowded[m]) * many[m]
                far[m] = both[m] * pull * h * firmly / ((firmly + stiff) * (d if d > LEAST else LEAST))
            at = np.uint32(0)
            for n in range(begin, i):
                u, v, w = velocity[0, n], velocity[1, n], velocity[2, n]
                ax, ay, az = NONE, NONE, NONE
                for k in range(np.uint32(count[n])):
                    j, p = np.uint32(others[n, k]), at + k
                    by = viscous * stand[p] * weight[p]
                    ax += far[p] * dx[p] + by * (velocity[0, j] - u)
                    ay += far[p] * dy[p] + by * (velocity[1, j] - v)
                    az += far[p] * dz[p] + by * (velocity[2, j] - w)
                at += np.uint32(count[n])
                out[0, n], out[1, n], out[2, n] = ax / mass[n], ay / mass[n], az / mass[n]


@kernel_lock
def velocity_pass(force: Cohesion, read: Read, together: InteractionView, share: Floats) -> Floats:
    """What a cohesion adds to velocities in a step, px/s (3, n)."""
    radius, h = read(force.radius), together.h
    around = near(together.place, share, radius)
    of = (around.others, around.count, around.stands_for)
    there, going = around.place, around.sorted(together.velocity)
    sums, found = np.empty((3, len(share)), np.float32), np.empty_like(there)
    _density(there, *of, radius, sums)
    viscous = -0.5 * math.expm1(-read(force.viscosity) * h)
    given = make_record(RULES, radius=radius, firm=_FIRM * read(force.firmness) / 100, viscous=viscous, h=h)
    _sway(there, going, around.sorted(together.mass), np.sqrt(around.sorted(share)), *of, given, sums, found)
    return around.unsorted(found)
