"""Drag: speed is lost at a rate; v' = -k v, or in proportion to speed. Integrated exactly by the step."""

from __future__ import annotations

from numba import njit

from isbjorn.core.document import Drag
from isbjorn.core.motion.forces.felt import DRAG, QUADRATIC, Felt
from isbjorn.core.motion.forces.row import OWN, Doubles, Doubles3, Setting, base

CODE = 2
AT_PX_S = 100.0


def pack(force: Drag, setting: Setting) -> Doubles:
    """Rows of a drag."""
    rows = base(force, CODE, setting)
    rows[:, OWN] = force.law == "quadratic"
    return rows


@njit("void(f8[:,:,::1], i8, i8, f8, f8, f8, f8[::1])", cache=True, forceinline=True)
def feel(rows: Doubles3, s: int, r: int, strength: float, share: float, mass: float, felt: Felt) -> None:
    """A rate never below 0."""
    k = max(0.0, strength) * share / mass
    if rows[s, r, OWN] > 0:
        felt[QUADRATIC] += k / AT_PX_S
    else:
        felt[DRAG] += k
