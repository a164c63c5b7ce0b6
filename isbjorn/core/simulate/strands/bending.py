"""Bending of strands: implicit steps of the energy of second differences, which keeps momentum and is stable at any stiffness."""

from __future__ import annotations

from isbjorn.core.arrays import Doubles
from isbjorn.core.jit import inline_kernel


@inline_kernel("void(f8[:,::1], f8[:,::1], i8)", cache=True, error_model="numpy")
def factored(band: Doubles, parts: Doubles, n: int) -> None:
    """A symmetric matrix of five diagonals as L D Lᵀ. band (3, n): its diagonals; parts (4, n): D, the two of L, and 1 / D."""
    for i in range(n):
        d, a = band[0, i], band[1, i]
        if i > 0:
            d -= parts[0, i - 1] * parts[1, i - 1] ** 2
            a -= parts[0, i - 1] * parts[1, i - 1] * parts[2, i - 1]
        if i > 1:
            d -= parts[0, i - 2] * parts[2, i - 2] ** 2
        parts[0, i], parts[1, i], parts[2, i], parts[3, i] = d, a / d, band[2, i] / d, 1.0 / d


@inline_kernel("void(f8[:,::1], f8[::1], i8)", cache=True, error_model="numpy")
def _solved(parts: Doubles, x: Doubles, n: int) -> None:
    """Solve for the factors of `factored`, in place."""
    x[1] -= parts[1, 0] * x[0]
    for i in range(2, n):
        x[i] -= parts[1, i - 1] * x[i - 1] + parts[2, i - 2] * x[i - 2]
    x[n - 1] *= parts[3, n - 1]
    x[n - 2] = x[n - 2] * parts[3, n - 2] - parts[1, n - 2] * x[n - 1]
    for k in range(3, n + 1):
        i = n - k
        x[i] = x[i] * parts[3, i] - parts[1, i] * x[i + 1] - parts[2, i] * x[i + 2]


@inline_kernel("void(f8[:,::1], f8[::1], f8[::1], f8, f8, i8)", cache=True, error_model="numpy")
def bending(band: Doubles, light: Doubles, mass: Doubles, rate: float, clamp: float, n: int) -> None:
    """The matrix of an implicit step of bending: masses, and `rate` times the squares of second differences; clamp: of the first
    difference at the root. A joint that does not move (light 0) has an identity row."""
    for i in range(n):
        band[0, i], band[1, i], band[2, i] = mass[i], 0.0, 0.0
    for i in range(1, n - 1):
        band[0, i - 1] += rate
        band[0, i] += 4.0 * rate
        band[0, i + 1] += rate
        band[1, i - 1] -= 2.0 * rate
        band[1, i] -= 2.0 * rate
        band[2, i - 1] += rate
    band[0, 1] += clamp
    for i in range(n):
        if light[i] == 0.0:
            band[0, i], band[1, i], band[2, i] = 1.0, 0.0, 0.0
            if i > 0:
                band[1, i - 1] = 0.0
            if i > 1:
                band[2, i - 2] = 0.0


@inline_kernel("void(f8[::1], f8, f8[::1], i8)", cache=True, error_model="numpy")
def _add_bending(x: Doubles, rate: float, out: Doubles, n: int) -> None:
    """Add `rate` times the slope of half the squares of all second differences of x (n,) to out."""
    for i in range(1, n - 1):
        second = rate * (x[i - 1] - 2.0 * x[i] + x[i + 1])
        out[i - 1] += second
        out[i] -= 2.0 * second
        out[i + 1] += second


@inline_kernel("f8(i8, i8, i8)", cache=True, forceinline=True, error_model="numpy")
def _tie(i: int, j: int, n: int) -> float:
    """How the second differences of n places tie the ith to the jth: an entry of their product."""
    total = 0.0
    for k in range(max(1, max(i, j) - 1), min(n - 2, min(i, j) + 1) + 1):
        total += (-2.0 if k == i else 1.0) * (-2.0 if k == j else 1.0)
    return total


@inline_kernel(
    "void(f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[:,::1], f8, f8, f8, f8, f8, i8, f8[::1])",
    cache=True,
    error_model="numpy",
)
def bent(
    x: Doubles, was: Doubles, v: Doubles, light: Doubles, mass: Doubles, parts: Doubles, rate: float, damped: float, clamp: float,
    out: float, hs: float, n: int, right: Doubles,
) -> None:  # fmt: skip
    """One coordinate of an implicit step of bending over hs seconds, in x and v (n,); was: before the step; right: to be
    overwritten.

    damped: what is undone of `rate`, by how fast it bends; out: where the first joint would be, from a root that keeps its
    direction.
    """
    for i in range(n):
        right[i] = mass[i] * x[i]
    if damped > 0:
        _add_bending(was, damped, right, n)
    if clamp > 0:
        late = 2.0 * damped
        right[1] += (clamp - late) * (x[0] + out) + late * (x[0] + was[1] - was[0])
    for i in range(n):
        if light[i] == 0:
            right[i] = x[i]
    # Those that do not move are known: what they pull at the others.
    for j in range(n):
        if light[j] == 0:
            for i in range(max(0, j - 2), min(n - 1, j + 2) + 1):
                if light[i] > 0:
                    right[i] -= rate * _tie(i, j, n) * x[j]
    _solved(parts, right, n)
    for i in range(n):
        if light[i] > 0:
            v[i] += (right[i] - x[i]) / hs
            x[i] = right[i]
