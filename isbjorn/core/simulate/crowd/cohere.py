"""Cohesion: neighbours pull each other by the spline of Akinci, Akinci and Teschner 2013 ("Versatile surface tension and
adhesion for SPH fluids", eq. 2), which pushes where they are near: with q = d/R, c = 64 (1-q)³q³ beyond a half of the radius,
128 (1-q)³q³ - 1 within; at most 1. So that many do not fall into one, what is crowded pushes apart by its near density
ρ = Σ(1-q)³ (Clavet, Beaudoin and Poulin 2005, "Particle-based viscoelastic fluid simulation"). Viscosity is XSPH's (Schechter and
Bridson 2012).

What a pair does to one it does to the other, so momentum is kept. Each pair is weakened by what its stiffness comes to in a step:
stable at any strength.
"""

from __future__ import annotations

import math

import numpy as np
from numba import f4, i4, prange, void

from isbjorn.core.arrays import Doubles, Floats, Ints
from isbjorn.core.document.meetings import Cohesion
from isbjorn.core.jit import njit
from isbjorn.core.records import Records, one, record, records
from isbjorn.core.runtime.parallel import guarded
from isbjorn.core.simulate.crowd.grid import near
from isbjorn.core.simulate.crowd.together import Read, Together
from isbjorn.core.simulate.forces.row import Setting, base

CODE = 31
_FIRM = 0.6
_STEEPEST = 8.0
# Radius px; how firm; the share that is aligned in a step; the step, s.
RULES = record(radius=1, firm=1, viscous=1, h=1)


def pack(force: Cohesion, setting: Setting) -> Doubles:
    """Rows of a cohesion."""
    return base(force, CODE, setting)


@njit("f8(f8)", cache=True, forceinline=True)
def spline(q: float) -> float:
    """The pull of a pair at a share of the radius, -1 … 1."""
    p = (1.0 - q) * q
    c = 64.0 * p * p * p
    return c if q > 0.5 else 2.0 * c - 1.0


@njit("void(f4[:,::1], i4[:,::1], i4[::1], f4[::1], f8, f4[:,::1])", parallel=True, cache=True)
def _density(place: Floats, others: Ints, count: Ints, stands_for: Floats, radius: float, sums: Floats) -> None:
    """sums (3, n): near density, sum of the weights of viscosity, number of neighbours."""
    for i in prange(place.shape[1]):
        crowded, weight = 0.0, 0.0
        for k in range(count[i]):
            j = others[i, k]
            dx, dy, dz = place[0, j] - place[0, i], place[1, j] - place[1, i], place[2, j] - place[2, i]
            q = max(0.0, 1.0 - math.sqrt(dx * dx + dy * dy + dz * dz) / radius)
            crowded += q * q * q
            weight += q
        sums[0, i], sums[1, i], sums[2, i] = stands_for[i] * crowded, stands_for[i] * weight, stands_for[i] * count[i]


@njit(
    void(
        f4[:, ::1], f4[:, ::1], f4[::1], f4[::1], i4[:, ::1], i4[::1], f4[::1], records(RULES), f4[:, ::1], f4[:, ::1]
    ),
    parallel=True,
    cache=True,
)
def _sway(
    place: Floats, velocity: Floats, mass: Floats, share: Floats, others: Ints, count: Ints, stands_for: Floats,
    given: Records, sums: Floats, out: Floats,
) -> None:  # fmt: skip
    radius, firm, viscous, h = given[0].radius, given[0].firm, given[0].viscous, given[0].h
    for i in prange(place.shape[1]):
        u, v, w = float(velocity[0, i]), float(velocity[1, i]), float(velocity[2, i])
        ax, ay, az = 0.0, 0.0, 0.0
        for k in range(count[i]):
            j = others[i, k]
            dx, dy, dz = place[0, j] - place[0, i], place[1, j] - place[1, i], place[2, j] - place[2, i]
            d = math.sqrt(dx * dx + dy * dy + dz * dz)
            q = min(1.0, d / radius)
            both = stands_for[i] * math.sqrt(share[i] * share[j])
            # Reduced mass: what parts them changes by the pull over it.
            lighter = min(mass[i], mass[j])
            crowded = 0.5 * (sums[0, i] + sums[0, j])
            pull = spline(q) - firm * crowded * (1.0 - q) * (1.0 - q)
            many = 0.5 * (sums[2, i] + sums[2, j])
            stiff = h * h * both * (_STEEPEST + 2.0 * firm * crowded) * many / (radius * lighter)
            by = both * pull * h / (mass[i] * (1.0 + stiff) * max(d, 1e-6))
            # Of two masses each gives the other the same momentum.
            along = viscous * stands_for[i] * (1.0 - q) / max(1e-9, max(sums[1, i], sums[1, j])) * lighter / mass[i]
            ax += by * dx + along * (velocity[0, j] - u)
            ay += by * dy + along * (velocity[1, j] - v)
            az += by * dz + along * (velocity[2, j] - w)
        out[0, i], out[1, i], out[2, i] = ax, ay, az


@guarded
def sway(force: Cohesion, read: Read, together: Together, share: Floats) -> Floats:
    """What a cohesion adds to velocities in a step, px/s (3, n)."""
    radius, h = read(force.radius), together.h
    around = near(together.place, share, radius)
    of = (around.others, around.count, around.stands_for)
    there, going = around.sorted(together.place), around.sorted(together.velocity)
    sums, found = np.zeros((3, len(share)), np.float32), np.zeros_like(there)
    _density(there, *of, radius, sums)
    viscous = -0.5 * math.expm1(-read(force.viscosity) * h)
    given = one(RULES, radius=radius, firm=_FIRM * read(force.firmness) / 100, viscous=viscous, h=h)
    _sway(there, going, around.sorted(together.mass), around.sorted(share), *of, given, sums, found)
    return around.unsorted(found)
