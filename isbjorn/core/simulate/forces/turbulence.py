"""Turbulence: eddies of air without sources or sinks, which draw particles to their velocity."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Turbulence
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.jit import inline_kernel
from isbjorn.core.simulate.forces.accumulators import AIR, GRIP
from isbjorn.core.simulate.forces.force_layout import OWN, PLACE, ForceSetting, base, place
from isbjorn.core.simulate.noise import flow

CODE = 4
# Columns: the relaxation rate, the input of `flow`, and the offset of an emitter's own part of the noise.
RESPONSE = OWN
NOISE = OWN + 1
OFFSET = NOISE + 9 + 16
# How fast lattice points turn: each at the sum of one of the first four rates and one of the others. In a loop they all come round
# after one turn; else the correlation of the noise with itself, the mean cosine of the sixteen sums, stays below 0.5 for the next
# 60 turns once it has fallen (found by search; see the tests).
_ROUND = (0.0, 1.0, 0.0, 1.0, 1.0, 2.0, 1.0, 2.0)
_NEVER_ROUND = (0.0, 0.6744, 0.2126, -0.1552, 1.0568, 1.3197, 1.8086, 2.3133)


def put_noise(columns: tuple[Any, ...], turns: Doubles | float, round_: bool, rows: Doubles) -> None:
    """Put a noise into rows as `flow` reads it: one over its size, octaves, their ratios of frequency and amplitude,
    stretches along x, y and z, seed, whether it is cellular; and how often it has turned, if it comes round or not."""
    for number, column in enumerate(columns):
        rows[:, NOISE + number] = column
    for n, times in enumerate(_ROUND if round_ else _NEVER_ROUND):
        rows[:, NOISE + 9 + 2 * n] = np.cos(2 * np.pi * turns * times)
        rows[:, NOISE + 10 + 2 * n] = np.sin(2 * np.pi * turns * times)


def pack_noise(thing: Any, setting: ForceSetting, rows: Doubles) -> None:
    """Write a noise into rows: the input of `flow`, then the offset of an emitter's own part of it."""
    read = setting.read
    columns = (1 / np.maximum(1.0, read(thing.size)), thing.octaves, read(thing.lacunarity), read(thing.gain))
    stretch = (read(n) / 100 for n in (thing.along_x, thing.along_y, thing.along_z))
    columns = (*columns, *stretch, thing.seed % (1 << 48), thing.noise == "cellular")
    put_noise(columns, turned(thing, setting), setting.readings.loop_s is not None, rows)
    place(thing, setting, rows)
    number = next(i for i, e in enumerate(setting.shot.emitters) if e.id == setting.emitter.id)
    rows[:, OFFSET] = read(thing.apart) * number


def turned(thing: Any, setting: ForceSetting) -> Doubles:
    """How many turns a noise has evolved at the moments: the integral of its rate; in a loop, whole turns come round."""
    number, loop_s, t = thing.evolve, setting.readings.loop_s, setting.t
    if loop_s is not None:
        return np.asarray(t / loop_s * round(float(setting.readings.plain(number, np.zeros(1))[0]) * loop_s))
    if not number.timed:
        return np.asarray(number.value * t)
    per_s = setting.readings.hz if setting.readings.played else 60
    way = _summed(thing, setting.readings, math.ceil((float(np.max(np.abs(t))) + 0.1) * per_s), per_s)
    grid = np.arange(len(way)) * (1 / per_s)
    return np.asarray(np.where(t >= 0, np.interp(t, grid, way), t * setting.readings.number(number, np.zeros(1))[0]))


def _summed(thing: Any, readings: Readings, cells: int, per_s: int) -> Doubles:
    """The evolution of a noise at the ends of at least this many cells, from second 0 on, so that it does not depend on the query.
    Final values are cached: a show continues from there."""
    sums: Doubles = readings.kept.get(("evolved", thing.id), np.zeros(1))
    if len(sums) <= cells:
        middles = (np.arange(len(sums) - 1, cells) + 0.5) / per_s
        known = int((middles <= readings.known_s).sum()) + len(sums)
        more = np.cumsum([sums[-1], *readings.number(thing.evolve, middles)])
        sums = np.concatenate([sums[:-1], more])
        readings.kept["evolved", thing.id] = sums[:known]
    return sums / per_s


def pack(force: Turbulence, setting: ForceSetting) -> Doubles:
    """Rows of a turbulence."""
    rows = base(force, CODE, setting)
    rows[:, RESPONSE] = setting.read(force.grip)
    pack_noise(force, setting, rows)
    return rows


@inline_kernel(
    "void(f8[:,:,::1], i8, i8, f8[:,::1], u8, i8, f8[::1], f8, f8, f8, f8[::1])", cache=True, forceinline=True
)
def feel(
    rows: Doubles, s: int, r: int, paths: Doubles, key: np.uint64, birth: int, at: Doubles, strength: float, share: float,
    mass: float, sums: Doubles,
) -> None:  # fmt: skip
    """The zone weakens its grip, not its speed."""
    x, y, z = at[0], at[1], at[2]
    off = rows[s, r, OFFSET]
    vx, vy, vz = flow(
        rows, s, r, NOISE, x - rows[s, r, PLACE] + off, y - rows[s, r, PLACE + 1] + 0.7 * off, z - rows[s, r, PLACE + 2]
    )
    grip = max(0.0, rows[s, r, RESPONSE]) * share / mass
    sums[GRIP] += grip
    sums[AIR] += grip * strength * vx
    sums[AIR + 1] += grip * strength * vy
    sums[AIR + 2] += grip * strength * vz
