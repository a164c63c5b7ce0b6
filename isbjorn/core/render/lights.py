"""Where lights fall on particles that are lit by them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt
from numba import f4, f8, prange, void

from isbjorn.core.arrays import Floats
from isbjorn.core.document import Lamp
from isbjorn.core.evaluate.gradients import hex_to_linear
from isbjorn.core.jit import njit
from isbjorn.core.records import Records, record, records
from isbjorn.core.runtime.parallel import guarded

if TYPE_CHECKING:
    from isbjorn.core.render.context import RenderContext

# Radius and falloff px; light: linear colour times strength.
LAMP = record(place=3, radius=1, falloff=1, power=1, light=3)


def rows_of(lamps: Sequence[Lamp], context: RenderContext) -> Records:
    """Lights that are on, (m,) of `LAMP`."""
    rows = np.zeros(sum(lamp.on for lamp in lamps), LAMP)
    for row, lamp in zip(rows, (lamp for lamp in lamps if lamp.on), strict=True):
        frames = context.solver.readings.frames(lamp, np.array([float(context.seconds)]))
        size = float(frames.size[0])
        row["place"], row["radius"] = frames.place[0], context.read(lamp.radius) * size
        row["falloff"], row["power"] = max(1e-6, context.read(lamp.falloff) * size), context.read(lamp.power)
        row["light"] = context.read(lamp.strength) / 100 * hex_to_linear(lamp.colour)
    return rows


@njit(
    void(records(LAMP), f8, f4[:, :], f4[:, ::1], f4[::1], f4[:, ::1], f4[::1]),
    parallel=True,
    cache=True,
    error_model="numpy",
)
def _light_each(
    lamps: Records, share: float, position: Floats, colour: Floats, opacity: Floats, shown: Floats, seen: Floats
) -> None:
    for i in prange(len(opacity)):
        red, green, blue = 0.0, 0.0, 0.0
        for m in range(len(lamps)):
            lamp = lamps[m]
            dx, dy = position[i, 0] - lamp.place[0], position[i, 1] - lamp.place[1]
            dz = position[i, 2] - lamp.place[2]
            d2 = dx * dx + dy * dy + dz * dz
            if d2 >= (lamp.radius + lamp.falloff) ** 2:
                continue
            level = 1 - (np.sqrt(d2) - lamp.radius) / lamp.falloff
            if level <= 0:
                continue
            level = min(level, 1.0)
            if level < 1.0 and lamp.power != 1.0:
                level = level**lamp.power
            red, green = red + level * lamp.light[0], green + level * lamp.light[1]
            blue += level * lamp.light[2]
        red, green, blue = 1 - share + share * red, 1 - share + share * green, 1 - share + share * blue
        # What no light reaches is not black, but not there.
        there = min(1.0, max(red, max(green, blue)))
        whole = max(there, 1e-9)
        shown[i, 0] = colour[i, 0] * (red / whole)
        shown[i, 1] = colour[i, 1] * (green / whole)
        shown[i, 2] = colour[i, 2] * (blue / whole)
        seen[i] = opacity[i] * there


_light: Callable[..., None] = guarded(_light_each)


def lit(
    lamps: Records, share: float, position: npt.NDArray[np.floating], colour: Floats, opacity: Floats
) -> tuple[Floats, Floats]:
    """Colours (n, 3) and opacities (n,) where the lights fall, of which a share is lit by them alone; lamps: see `rows_of`."""
    colour, opacity = np.ascontiguousarray(colour, np.float32), np.ascontiguousarray(opacity, np.float32)
    shown, seen = np.empty_like(colour), np.empty_like(opacity)
    _light(lamps, share, np.asarray(position, np.float32), colour, opacity, shown, seen)
    return shown, seen
