"""What living particles look like: size, colour and opacity at their own age. Never touches a simulated state."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit, prange

from isbjorn.core.birth.newborn import drawn, pack_number
from isbjorn.core.document import Emitter
from isbjorn.core.life import curve, gradient
from isbjorn.core.life.draws import BRIGHTNESS, OPACITY, SIZE
from isbjorn.core.motion.track import State
from isbjorn.core.parallel import guarded

Floats = npt.NDArray[np.float32]
Doubles = npt.NDArray[np.float64]


@njit("void(u8, i8[:], f4[:], f8[:,:], f4[:,:], f4[:,:], f8, f4[:], f4[:], f4[:,:])", parallel=True, cache=True)
def _dress(
    key: np.uint64,
    births: npt.NDArray[np.int64],
    age01: Floats,
    numbers: Doubles,
    curves: Floats,
    ramp: Floats,
    fade_last: float,
    size: Floats,
    opacity: Floats,
    colour: Floats,
) -> None:
    last = ramp.shape[0] - 1
    for i in prange(len(births)):
        k = births[i]
        at = age01[i] * last
        j = min(int(at), last - 1)
        f = np.float32(at - j)
        size[i] = max(0.0, drawn(numbers, 0, 0, key, k, SIZE)) * (curves[0, j] + f * (curves[0, j + 1] - curves[0, j]))
        seen = min(100.0, max(0.0, drawn(numbers, 1, 0, key, k, OPACITY))) / 100.0
        seen *= curves[1, j] + f * (curves[1, j + 1] - curves[1, j])
        seen *= ramp[j, 3] + f * (ramp[j + 1, 3] - ramp[j, 3])
        if fade_last > 0:
            seen *= min(1.0, (1.0 - age01[i]) / fade_last)
        opacity[i] = min(1.0, max(0.0, seen))
        gain = max(0.0, drawn(numbers, 2, 0, key, k, BRIGHTNESS))
        gain *= curves[2, j] + f * (curves[2, j + 1] - curves[2, j])
        for c in range(3):
            colour[i, c] = gain * (ramp[j, c] + f * (ramp[j + 1, c] - ramp[j, c]))


@guarded
def dress(emitter: Emitter, key: int, state: State, age01: Floats) -> tuple[Floats, Floats, Floats]:
    """Size in px (n,), opacity in [0, 1] (n,) and linear colour (n, 3) of particles, float32.

    age01 (n,) is each particle's own age in [0, 1].
    """
    numbers = np.stack([pack_number(n) for n in (emitter.size, emitter.opacity, emitter.brightness)])
    curves = np.stack([curve.table(n.over_life) for n in (emitter.size, emitter.opacity, emitter.brightness)])
    size, opacity = np.empty(state.count, np.float32), np.empty(state.count, np.float32)
    colour = np.empty((state.count, 3), np.float32)
    _dress(
        np.uint64(key),
        state.births,
        age01,
        numbers,
        curves,
        gradient.table(emitter.colour),
        emitter.fade_last.value / 100,
        size,
        opacity,
        colour,
    )
    return size, opacity, colour
