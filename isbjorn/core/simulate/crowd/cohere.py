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
from numba import njit, prange

from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.document.meetings import Cohesion
from isbjorn.core.runtime.parallel import guarded
from isbjorn.core.simulate.crowd.grid import around, grid_of, stride_over
from isbjorn.core.simulate.crowd.together import Read, Together
from isbjorn.core.simulate.forces.row import Setting, base

CODE = 31
_FIRM = 0.6
_STEEPEST = 8.0


def pack(force: Cohesion, setting: Setting) -> Doubles:
    """Rows of a cohesion."""
    return base(force, CODE, setting)


@njit("f8(f8)", cache=True, forceinline=True)
def spline(q: float) -> float:
    """The pull of a pair at a share of the radius, -1 … 1."""
    p = (1.0 - q) * q
    c = 64.0 * p * p * p
    return c if q > 0.5 else 2.0 * c - 1.0


@njit("void(f4[:,::1], f4[::1], i8[::1], i8[::1], i8[::1], f8, f8, f4[:,::1])", parallel=True, cache=True)
def _density(
    place: Floats, share: Floats, order: Longs, starts: Longs, size: Longs, cell: float, radius: float, sums: Floats
) -> None:
    """sums (3, n): near density, sum of the weights of viscosity, number of neighbours."""
    for i in prange(place.shape[1]):
        if share[i] == 0:
            continue
        cells = np.empty(27, np.int64)
        x, y, z = float(place[0, i]), float(place[1, i]), float(place[2, i])
        runs = around(x, y, z, 1.0 / cell, size, starts, cells)
        stride = stride_over(starts, cells, runs)
        near, weight, count, at = 0.0, 0.0, 0.0, i % stride
        for c in range(runs):
            for k in range(starts[cells[c]], starts[cells[c] + 1]):
                at += 1
                if at % stride != 0:
                    continue
                j = order[k]
                if j == i or share[j] == 0:
                    continue
                dx, dy, dz = place[0, j] - x, place[1, j] - y, place[2, j] - z
                d2 = dx * dx + dy * dy + dz * dz
                if d2 < radius * radius:
                    q = 1.0 - math.sqrt(d2) / radius
                    near += stride * q * q * q
                    weight += stride * q
                    count += stride
        sums[0, i], sums[1, i], sums[2, i] = near, weight, count


@njit(
    "void(f4[:,::1], f4[:,::1], f4[::1], f4[::1], i8[::1], i8[::1], i8[::1], f8, f8[::1], f4[:,::1], f4[:,::1])",
    parallel=True,
    cache=True,
)
def _sway(
    place: Floats, velocity: Floats, mass: Floats, share: Floats, order: Longs, starts: Longs, size: Longs, cell: float,
    given: Doubles, sums: Floats, out: Floats,
) -> None:  # fmt: skip
    radius, firm, viscous, h = given[0], given[1], given[2], given[3]
    for i in prange(place.shape[1]):
        if share[i] == 0:
            continue
        cells = np.empty(27, np.int64)
        x, y, z = float(place[0, i]), float(place[1, i]), float(place[2, i])
        u, v, w = float(velocity[0, i]), float(velocity[1, i]), float(velocity[2, i])
        runs = around(x, y, z, 1.0 / cell, size, starts, cells)
        stride = stride_over(starts, cells, runs)
        ax, ay, az, at = 0.0, 0.0, 0.0, i % stride
        for c in range(runs):
            for k in range(starts[cells[c]], starts[cells[c] + 1]):
                at += 1
                if at % stride != 0:
                    continue
                j = order[k]
                if j == i or share[j] == 0:
                    continue
                dx, dy, dz = place[0, j] - x, place[1, j] - y, place[2, j] - z
                d2 = dx * dx + dy * dy + dz * dz
                if d2 >= radius * radius:
                    continue
                d = math.sqrt(d2)
                q = d / radius
                both = stride * math.sqrt(share[i] * share[j])
                # Reduced mass: what parts them changes by the pull over it.
                lighter = min(mass[i], mass[j])
                crowded = 0.5 * (sums[0, i] + sums[0, j])
                pull = spline(q) - firm * crowded * (1.0 - q) * (1.0 - q)
                many = 0.5 * (sums[2, i] + sums[2, j])
                stiff = h * h * both * (_STEEPEST + 2.0 * firm * crowded) * many / (radius * lighter)
                by = both * pull * h / (mass[i] * (1.0 + stiff) * max(d, 1e-6))
                # Of two masses each gives the other the same momentum.
                along = viscous * stride * (1.0 - q) / max(1e-9, max(sums[1, i], sums[1, j])) * lighter / mass[i]
                ax += by * dx + along * (velocity[0, j] - u)
                ay += by * dy + along * (velocity[1, j] - v)
                az += by * dz + along * (velocity[2, j] - w)
        out[0, i], out[1, i], out[2, i] = ax, ay, az


@guarded
def sway(force: Cohesion, read: Read, together: Together, share: Floats) -> Floats:
    """What a cohesion adds to velocities in a step, px/s (3, n)."""
    radius, h = read(force.radius), together.h
    grid = grid_of(together.place, radius)
    sums, out = np.zeros((3, len(share)), np.float32), np.zeros_like(together.place)
    of = (grid.order, grid.starts, grid.size, grid.cell)
    _density(together.place, share, *of, radius, sums)
    given = np.array([radius, _FIRM * read(force.firmness) / 100, -0.5 * math.expm1(-read(force.viscosity) * h), h])
    _sway(together.place, together.velocity, together.mass, share, *of, given, sums, out)
    return out
