"""Drag: speed is lost at a rate; v' = -k v, or in proportion to speed. Integrated exactly by the step."""

from __future__ import annotations

import math

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Drag
from isbjorn.core.jit import inline_kernel
from isbjorn.core.simulate.forces.accumulators import DRAG, QUADRATIC
from isbjorn.core.simulate.forces.force_layout import OWN, ForceSetting, base

CODE = 2
IS_QUADRATIC = OWN
AT_PX_S = 100.0


def pack(force: Drag, setting: ForceSetting) -> Doubles:
    """Rows of a drag."""
    rows = base(force, CODE, setting)
    rows[:, IS_QUADRATIC] = force.law == "quadratic"
    return rows


@inline_kernel("void(f8[:,:,::1], i8, i8, f8, f8[::1])", cache=True, forceinline=True)
def resist(rows: Doubles, s: int, r: int, strength: float, sums: Doubles) -> None:
    """Add a rate in 1/s, never below 0."""
    k = max(0.0, strength)
    if rows[s, r, IS_QUADRATIC] > 0:
        sums[QUADRATIC] += k / AT_PX_S
    else:
        sums[DRAG] += k


@inline_kernel(
    "void(f8[:,:,::1], i8, i8, f8[:,::1], u8, i8, f8[::1], f8, f8, f8, f8[::1])", cache=True, forceinline=True
)
def feel(
    rows: Doubles, s: int, r: int, paths: Doubles, key: np.uint64, birth: int, at: Doubles, strength: float, share: float,
    mass: float, sums: Doubles,
) -> None:  # fmt: skip
    """The lighter, the stronger."""
    resist(rows, s, r, max(0.0, strength) * share / mass, sums)


@inline_kernel("f8(f8)", cache=True, forceinline=True)
def _log_cosh(x: float) -> float:
    return abs(x) + math.log1p(math.exp(-2.0 * abs(x))) - math.log(2.0)


@inline_kernel("f8(f8, f8, f8, f8, f8)", cache=True)
def quadratic_rate(q: float, k: float, speed: float, pull: float, h: float) -> float:
    """The mean of q·speed over h seconds, in 1/s, for s' = pull - k s - q s²: the rate at which quadratic drag takes speed.

    The equation is Riccati's: with s = y'/(q y), the integral of q s is the logarithm of y, in closed form. So the terminal
    speed is exact at any step. pull: acceleration along the way, in px/s²; k: the linear drag beside it.
    """
    if pull >= 0:
        omega = math.sqrt(0.25 * k * k + pull * q)
        if omega * h < 1e-6:
            grown = math.log1p((q * speed + 0.5 * k) * h)
        else:
            # cosh x + c sinh x, by its logarithm, so that it has room.
            c, x = (q * speed + 0.5 * k) / omega, omega * h
            grown = x + math.log(0.5 * (1.0 + c) + 0.5 * (1.0 - c) * math.exp(-2.0 * x))
        return max(0.0, grown / h - 0.5 * k)
    # Against its way: it slows down, may stop, and goes the other way.
    omega = math.sqrt(-pull * q)
    if omega * h < 1e-6:
        return math.log1p(q * speed * h) / h
    angle = math.atan2(q * speed, omega)
    if omega * h < angle:
        return max(0.0, math.log(math.cos(omega * h) + q * speed / omega * math.sin(omega * h)) / h)
    back = omega * h - angle
    return (-math.log(max(1e-12, math.cos(angle))) + _log_cosh(back)) / h
