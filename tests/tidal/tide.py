"""The engine of a tide: rows of numbers, its force, its outline."""

from __future__ import annotations

import numpy as np
from numba import njit

from isbjorn.core.evaluate.lines import circle
from isbjorn.core.simulate.forces.accumulators import ACCELERATION
from isbjorn.core.simulate.forces.force_layout import OWN, PLACE, base, place


def pack(force, setting):  # type: ignore[no-untyped-def]
    rows = base(force, 0, setting)
    place(force, setting, rows)
    rows[:, OWN] = setting.read(force.reach)
    return rows


@njit("void(f8[:,:,::1], i8, i8, f8[:,::1], u8, i8, f8[::1], f8, f8, f8, f8[::1])", cache=True)
def feel(rows, s, r, paths, key, birth, at, strength, share, mass, sums):  # type: ignore[no-untyped-def]
    sums[ACCELERATION] += strength * share * (at[1] - rows[s, r, PLACE + 1]) / rows[s, r, OWN]


def lines(force, read, far):  # type: ignore[no-untyped-def]
    return [circle(read(force.ring)), np.array([[-far, 0, 0], [far, 0, 0]])]
