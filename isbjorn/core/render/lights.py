"""Where lights fall on particles that are lit by them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt
from numba import njit, prange

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document import Lamp
from isbjorn.core.evaluate.gradients import hex_to_linear
from isbjorn.core.runtime.parallel import guarded

if TYPE_CHECKING:
    from isbjorn.core.render.context import RenderContext

_PLACE, _RADIUS, _FALL, _POWER, _RED, _WIDTH = 0, 3, 4, 5, 6, 9


def rows_of(lamps: Sequence[Lamp], context: RenderContext) -> Doubles:
    """Lights that are on as rows (m, 9): place (3), radius and falloff px, power, colour times strength, linear (3)."""
    rows = np.zeros((sum(lamp.on for lamp in lamps), _WIDTH))
    for row, lamp in zip(rows, (lamp for lamp in lamps if lamp.on), strict=True):
        frames = context.solver.readings.frames(lamp, np.array([float(context.seconds)]))
        size = float(frames.size[0])
        row[_PLACE : _PLACE + 3] = frames.place[0]
        row[_RADIUS], row[_FALL] = context.read(lamp.radius) * size, max(1e-6, context.read(lamp.falloff) * size)
        row[_POWER] = context.read(lamp.power)
        row[_RED:] = context.read(lamp.strength) / 100 * hex_to_linear(lamp.colour)
    return rows


@njit("void(f8[:,::1], f8, f4[:,::1], f4[:,::1], f4[::1])", parallel=True, cache=True, error_model="numpy")
def _light_each(lamps: Doubles, share: float, position: Floats, colour: Floats, opacity: Floats) -> None:
    for i in prange(len(opacity)):
        red, green, blue = 0.0, 0.0, 0.0
        for m in range(len(lamps)):
            dx, dy, dz = position[i, 0] - lamps[m, 0], position[i, 1] - lamps[m, 1], position[i, 2] - lamps[m, 2]
            level = 1 - (np.sqrt(dx * dx + dy * dy + dz * dz) - lamps[m, 3]) / lamps[m, 4]
            if level <= 0:
                continue
            level = min(level, 1.0)
            if level < 1.0 and lamps[m, 5] != 1.0:
                level = level ** lamps[m, 5]
            red, green, blue = red + level * lamps[m, 6], green + level * lamps[m, 7], blue + level * lamps[m, 8]
        red, green, blue = 1 - share + share * red, 1 - share + share * green, 1 - share + share * blue
        # What no light reaches is not black, but not there.
        there = min(1.0, max(red, max(green, blue)))
        whole = max(there, 1e-9)
        colour[i, 0] *= red / whole
        colour[i, 1] *= green / whole
        colour[i, 2] *= blue / whole
        opacity[i] *= there


_light: Callable[..., None] = guarded(_light_each)


def lit(
    lamps: Doubles, share: float, position: npt.NDArray[np.floating], colour: Floats, opacity: Floats
) -> tuple[Floats, Floats]:
    """Colours (n, 3) and opacities (n,) where the lights fall, of which a share is lit by them alone; lamps: see `rows_of`."""
    colour, opacity = np.array(colour, np.float32, order="C"), np.array(opacity, np.float32, order="C")
    _light(lamps, share, np.ascontiguousarray(position, np.float32), colour, opacity)
    return colour, opacity
