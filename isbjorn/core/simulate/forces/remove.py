"""Kill zone: takes particles away inside its zone, or outside it."""

from __future__ import annotations

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Remove
from isbjorn.core.simulate.forces.force_layout import OWN, ForceSetting, base

CODE = 8
TAKES_INSIDE = OWN


def pack(force: Remove, setting: ForceSetting) -> Doubles:
    """Rows of a kill zone."""
    rows = base(force, CODE, setting)
    rows[:, TAKES_INSIDE] = force.side == "inside"
    return rows
