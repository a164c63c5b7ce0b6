"""How much can be drawn of what is asked for: the cost of a picture is bounded before it is begun.

What bodies cover is counted in whole pictures. So the same are left out at any size of the picture, and none is where a shot is
within reason. Which are left out depends on their birth numbers: the others stay the same from frame to frame.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Bools, Floats

_GOLDEN = 0.6180339887498949
# Whole pictures that an emitter may cover at a moment, by how it is drawn; each takes some seconds of a plain machine at 720 lines.
DISCS, SPRITES, BLENDED, SMEARED, STROKES = 4000.0, 500.0, 200.0, 120.0, 60.0


def covered(
    x: npt.ArrayLike, y: npt.ArrayLike, across: npt.ArrayLike, down: npt.ArrayLike, width: float, height: float
) -> npt.NDArray[np.float64]:
    """The share of a picture that boxes about (x, y) of half sizes (across, down) px cover, (n,)."""
    x, y, across, down = (np.asarray(v, np.float64) for v in (x, y, across, down))
    wide = np.clip(np.minimum(x + across, width) - np.maximum(x - across, 0), 0, None)
    tall = np.clip(np.minimum(y + down, height) - np.maximum(y - down, 0), 0, None)
    return np.asarray(wide * tall / (width * height))


def within(radius: Floats, most: float, width: float, height: float) -> bool:
    """Whether discs of radii (n,) px cover at most this many pictures, wherever they are."""
    return 4 * float(np.dot(radius, radius)) <= most * width * height


def affordable(numbers: npt.NDArray[np.int64], cost: npt.NDArray[np.float64], most: float) -> Bools | None:
    """Mask (n,) of the particles that are drawn, by their ids, within a budget of cost; None: all."""
    total = float(np.nansum(cost))
    if total <= most:
        return None
    # The birth and the joint of a strand distinguish ids within an emitter. The whole id is too large for a fraction of it.
    own = (numbers & ((1 << 37) - 1)) + 7919 * (numbers >> 54)
    return np.asarray((own * _GOLDEN) % 1.0 < most / total)
