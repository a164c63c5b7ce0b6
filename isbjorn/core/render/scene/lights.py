"""Where lights fall on particles that are lit by them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt
from numba import f4, prange, void

from isbjorn.core.arrays import Floats
from isbjorn.core.document import Lamp
from isbjorn.core.evaluate.gradients import hex_to_linear
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.records import Records, record, records
from isbjorn.core.runtime.parallel import kernel_lock

if TYPE_CHECKING:
    from isbjorn.core.render.draw.context import RenderContext

# Radius and falloff px; light: linear colour times strength.
LAMP = record(place=3, radius=1, falloff=1, power=1, light=3)
_BLOCK = 256
_FAST = {"contract", "nnan", "ninf", "nsz", "arcp"}


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


@inline_kernel("void(f4[::1], f4[::1], f4[::1], f4, f4, f4, f4, f4, f4[::1])", cache=True, fastmath=_FAST)
def _levels(
    x: Floats, y: Floats, z: Floats, left: float, up: float, near: float, radius: float, falloff: float, level: Floats
) -> None:  # fmt: skip
    """How bright a lamp at a place is at others, in [0, 1], as straight falls off."""
    nothing, one = np.float32(0), np.float32(1)
    for i in range(np.uint32(len(level))):
        dx, dy, dz = x[i] - left, y[i] - up, z[i] - near
        away = np.sqrt(dx * dx + dy * dy + dz * dz) - radius
        level[i] = min(one, max(nothing, one - away / falloff))


@inline_kernel("void(f4[::1], f4)", cache=True, fastmath=_FAST)
def _curved(level: Floats, power: float) -> None:
    if power == np.float32(2):
        for i in range(np.uint32(len(level))):
            level[i] *= level[i]
    elif power != np.float32(1):
        for i in range(np.uint32(len(level))):
            if np.float32(0) < level[i] < np.float32(1):
                level[i] = level[i] ** power


@inline_kernel("void(f4[::1], f4, f4[::1])", cache=True, fastmath=_FAST)
def _add(level: Floats, light: float, sums: Floats) -> None:
    for i in range(np.uint32(len(sums))):
        sums[i] += level[i] * light


@inline_kernel("void(f4[:,::1], f4, f4[:,::1], f4[::1], f4[:,::1], f4[::1])", cache=True, fastmath=_FAST)
def _shine(sums: Floats, share: float, colour: Floats, opacity: Floats, shown: Floats, seen: Floats) -> None:
    """Colours and opacities under light, of which a share is lit by it alone. sums: the light, by its channels."""
    one, hair, rest = np.float32(1), np.float32(1e-9), np.float32(1) - share
    for i in range(np.uint32(len(seen))):
        red, green, blue = rest + share * sums[0, i], rest + share * sums[1, i], rest + share * sums[2, i]
        # What no light reaches is not black, but not there.
        there = min(one, max(red, max(green, blue)))
        each = one / max(there, hair)
        shown[i, 0] = colour[i, 0] * (red * each)
        shown[i, 1] = colour[i, 1] * (green * each)
        shown[i, 2] = colour[i, 2] * (blue * each)
        seen[i] = opacity[i] * there


@njit(
    void(records(LAMP), f4, f4[:, :], f4[:, ::1], f4[::1], f4[:, ::1], f4[::1]),
    parallel=True,
    cache=True,
    error_model="numpy",
)
def _light_each(
    lamps: Records, share: float, position: Floats, colour: Floats, opacity: Floats, shown: Floats, seen: Floats
) -> None:
    for block in prange((len(opacity) + _BLOCK - 1) // _BLOCK):
        first, last = block * _BLOCK, min(len(opacity), (block + 1) * _BLOCK)
        count = last - first
        places, sums, level = (
            np.empty((3, count), np.float32),
            np.zeros((3, count), np.float32),
            np.empty(count, np.float32),
        )
        for c in range(3):
            places[c] = position[first:last, c]
        for m in range(len(lamps)):
            lamp = lamps[m]
            left, up, near = lamp.place[0], lamp.place[1], lamp.place[2]
            _levels(places[0], places[1], places[2], left, up, near, lamp.radius, lamp.falloff, level)
            _curved(level, lamp.power)
            for c in range(3):
                _add(level, lamp.light[c], sums[c])
        _shine(sums, share, colour[first:last], opacity[first:last], shown[first:last], seen[first:last])


_light: Callable[..., None] = kernel_lock(_light_each)


def lit(
    lamps: Records, share: float, position: npt.NDArray[np.floating], colour: Floats, opacity: Floats
) -> tuple[Floats, Floats]:
    """Colours (n, 3) and opacities (n,) where the lights fall, of which a share is lit by them alone; lamps: see `rows_of`."""
    colour, opacity = np.ascontiguousarray(colour, np.float32), np.ascontiguousarray(opacity, np.float32)
    shown, seen = np.empty_like(colour), np.empty_like(opacity)
    _light(lamps, np.float32(share), np.asarray(position, np.float32), colour, opacity, shown, seen)
    return shown, seen
