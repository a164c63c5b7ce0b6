"""Forces of the world, one file each: how it is packed to rows of numbers, and what a particle feels of it.

`PACK` is the table of kinds; `feel` in `isbjorn.core.motion.world` asks each by its code.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from isbjorn.core.document import (
    Attractor,
    Displacement,
    Drag,
    Follow,
    Gravity,
    Remove,
    Surface,
    Turbulence,
    Vortex,
    Wind,
)
from isbjorn.core.motion.forces import (
    attractor,
    displacement,
    drag,
    follow,
    gravity,
    remove,
    surface,
    turbulence,
    vortex,
    wind,
)
from isbjorn.core.motion.forces.row import Doubles, Setting

PACK: dict[type, Callable[[Any, Setting], Doubles]] = {
    Gravity: gravity.pack,
    Drag: drag.pack,
    Wind: wind.pack,
    Turbulence: turbulence.pack,
    Attractor: attractor.pack,
    Vortex: vortex.pack,
    Follow: follow.pack,
    Remove: remove.pack,
    Surface: surface.pack,
    Displacement: displacement.pack,
}
