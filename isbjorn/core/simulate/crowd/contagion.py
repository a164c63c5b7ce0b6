"""Contagion: a state that goes from neighbour to neighbour.

One catches it at the least of T(j) + w + d(j)/c over the neighbours j that pass it on, with w its own time to catch, d the distance
and c its own pace: arrival times of the least cost (Dijkstra 1959), found by rounds in which each looks at its neighbours until
nothing changes. So they hang neither on an order nor on the steps; of particles that move, the way from one to the other is as it
is at the step, and begins no sooner than both are near.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit, prange

from isbjorn.core.arrays import Bytes, Doubles, Floats, Longs
from isbjorn.core.document import Number
from isbjorn.core.document.meetings import Contagion
from isbjorn.core.emit.births import places_in_line
from isbjorn.core.emit.newborn import brightness
from isbjorn.core.random import FORCE_FIRST, draws01, draws_around
from isbjorn.core.runtime.parallel import guarded
from isbjorn.core.simulate import contact
from isbjorn.core.simulate.crowd.grid import Grid, around, grid_of
from isbjorn.core.simulate.crowd.together import Kin, Read
from isbjorn.core.simulate.forces import zones
from isbjorn.core.simulate.forces.row import Setting, base
from isbjorn.core.simulate.rows import CAUGHT, GONE_AT, HOW, NEAR_SINCE

CODE = 33
_MOST_ROUNDS, _MOST_NEAREST = 64, 16
# Draws of the force, after those of its strength.
_PACE, _WAIT, _LASTS, _SEED = 4, 5, 6, 7


def pack(force: Contagion, setting: Setting) -> Doubles:
    """Rows of a contagion."""
    return base(force, CODE, setting)


@njit(
    "void(f4[:,::1], f4[::1], i8[::1], i8[::1], f8, i8[::1], u1[::1], f8, i8, f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8,"
    " b1[::1], f8[::1], f8[::1])",
    parallel=True,
    cache=True,
    error_model="numpy",
)
def _reach(
    place: Floats, share: Floats, order: Longs, starts: Longs, per_px: float, size: Longs, lit: Bytes, radius: float,
    nearest: int, caught: Doubles, over: Doubles, since: Doubles, pace: Doubles, wait: Doubles, now: float, open_: Bytes,
    out: Doubles, near: Doubles,
) -> None:  # fmt: skip
    """When each that may catch it does, from those who have it now, into out (n,) s; and since when one of those is near.

    place (3, n), and what else there is of particles, by their numbers; order, starts: of the grid; lit: cells that hold one who
    passes it on. caught, over: from and until when each passes it on; since: from when one was near as the step began; now: when it
    began; open_: who may catch it.
    """
    for i in prange(len(share)):
        if not open_[i] or share[i] <= 0:
            continue
        x, y, z = float(place[0, i]), float(place[1, i]), float(place[2, i])
        cells = np.empty(27, np.int64)
        count = around(x, y, z, per_px, size, starts, cells)
        any_lit = False
        for c in range(count):
            any_lit = any_lit or lit[cells[c]] > 0
        near[i], out[i] = np.inf, np.inf
        if not any_lit:
            continue
        far = radius * radius
        if nearest > 0:
            # As far as the last of so many nearest.
            best = np.full(_MOST_NEAREST, np.inf)
            for c in range(count):
                for k in range(starts[cells[c]], starts[cells[c] + 1]):
                    j = order[k]
                    if j == i or share[j] <= 0:
                        continue
                    d2 = (place[0, j] - x) ** 2 + (place[1, j] - y) ** 2 + (place[2, j] - z) ** 2
                    if d2 < best[nearest - 1]:
                        at = nearest - 1
                        while at > 0 and best[at - 1] > d2:
                            best[at] = best[at - 1]
                            at -= 1
                        best[at] = d2
            far = min(far, best[nearest - 1])
        for c in range(count):
            if lit[cells[c]] == 0:
                continue
            for k in range(starts[cells[c]], starts[cells[c] + 1]):
                j = order[k]
                if j == i or not np.isfinite(caught[j]) or over[j] <= now or share[j] <= 0:
                    continue
                d2 = (place[0, j] - x) ** 2 + (place[1, j] - y) ** 2 + (place[2, j] - z) ** 2
                if d2 > far:
                    continue
                begins = max(caught[j], since[i] if np.isfinite(since[i]) else now)
                near[i] = min(near[i], begins)
                arrives = max(now, begins + wait[i] + np.sqrt(d2) / (pace[i] * share[i]))
                if arrives <= over[j]:
                    out[i] = min(out[i], arrives)


_reached = guarded(_reach)


@njit("void(f4[:,::1], f8, i8[::1], f8[::1], f8[::1], f8, u1[::1])", cache=True)
def _light_cells(
    place: Floats, per_px: float, size: Longs, caught: Doubles, over: Doubles, now: float, lit: Bytes
) -> None:
    """Mark the cells in which someone passes it on."""
    nx, ny, nz = size[0], size[1], size[2]
    for i in range(len(caught)):
        if np.isfinite(caught[i]) and over[i] > now:
            x, y, z = np.floor(place[0, i] * per_px), np.floor(place[1, i] * per_px), np.floor(place[2, i] * per_px)
            lit[((int(z) & (nz - 1)) * ny + (int(y) & (ny - 1))) * nx + (int(x) & (nx - 1))] = 1


def _own(force: Contagion, number: Number, read: Read, kin: Kin, attribute: int) -> Doubles:
    """A number of the force as each particle draws it, (n,)."""
    value = np.full(kin.place.shape[1], read(number), np.float64)
    if number.spread:
        first = FORCE_FIRST + 8 * force.own_draws + attribute
        for part in kin.parts:
            own = slice(part.first, part.last)
            value[own] += number.spread * draws_around(
                part.key, kin.births[own], first, number.spread_shape == "bell"
            )  # fmt: skip
    return np.maximum(0, value)


def _seeded(force: Contagion, read: Read, kin: Kin, t: float) -> Doubles:
    """When each has it from the beginning, s of shot time, (n,); infinite for all but seeds."""
    n = kin.place.shape[1]
    seeds = np.zeros(n, bool)
    share = read(force.seed_share) / 100
    for part in kin.parts:
        own = slice(part.first, part.last)
        seeds[own] = places_in_line(kin.births[own]) < force.seed_first
        if share > 0:
            drawn = draws01(part.key, kin.births[own], FORCE_FIRST + 8 * force.own_draws + _SEED)
            seeds[own] |= drawn < share
    if kin.seed_zone is not None:
        # It has it from the moment on at which it is found there.
        for i in np.flatnonzero(~seeds):
            x, y, z = (float(v) for v in kin.place[:, i])
            seeds[i] = zones.weight(kin.seed_zone, 0, 0, x, y, z) > 0
    begins = np.maximum(force.begin_s, np.maximum(kin.moments, kin.now))
    return np.where(seeds & (begins <= t), begins, np.inf)


def _grid(kin: Kin, radius: float, kept: dict[str, Any]) -> Grid:
    """The grid of places, as it was where nobody has moved."""
    known = kept.get("grid")
    if known is not None and known[1] == radius and np.array_equal(known[0], kin.place):
        grid: Grid = known[2]
        return grid
    grid = grid_of(kin.place, radius)
    kept["grid"] = (kin.place, radius, grid)
    return grid


def _paces(force: Contagion, read: Read, kin: Kin) -> Doubles:
    """How fast it goes to each, px/s (n,), where the plate slows it."""
    pace = _own(force, force.pace, read, kin, _PACE)
    if force.slows != "nothing":
        lost = read(force.slowed) / 100
        for part in kin.parts:
            own = slice(part.first, part.last)
            if part.light is None or own.start == own.stop:
                continue
            bright = brightness(part.light, kin.place[:, own].T.astype(np.float64), np.array([kin.now]))
            pace[own] *= 1 - lost * (bright if force.slows == "where it is bright" else 1 - bright)
    return pace


def turn(force: Contagion, read: Read, kin: Kin, percent: Floats, kept: dict[str, Any]) -> None:
    """Who catches it in a step that has been made, from `kin.now` to h s later: in place, in the rows of
    states. kept: between steps."""
    now, t = kin.now, kin.now + kin.h
    values, moments, share = kin.values, kin.moments, percent / np.float32(100)
    had = values[CAUGHT] >= 0
    caught = np.where(had, moments + values[CAUGHT], np.inf)
    lasts = _own(force, force.lasts, read, kin, _LASTS)
    over = np.where(lasts > 0, caught + lasts, np.inf)
    ended = had & (over <= t)
    if force.then == "dies":
        gone = ended & (values[HOW] != contact.GONE)
        values[GONE_AT, gone] = (over - moments)[gone]
        values[HOW, gone] = contact.GONE
    elif force.then == "can catch it again":
        again = had & (over + force.rest_s <= t)
        values[CAUGHT, again] = values[NEAR_SINCE, again] = -1
        caught[again], had = np.inf, had & ~again
    # It can be caught by who does not have it, and is there.
    free = ~had & (share > 0) & (values[HOW] != contact.GONE)
    since = np.where(values[NEAR_SINCE] >= 0, moments + values[NEAR_SINCE], np.inf)
    first = np.where(free, np.minimum(_seeded(force, read, kin, t), np.inf), np.inf)
    caught = np.where(free, first, caught)
    over = np.where(lasts > 0, caught + lasts, np.inf)
    radius = max(read(force.radius), 1e-3)
    passes = np.isfinite(caught) & (over > now)
    if passes.any():
        grid, pace, wait = _grid(kin, radius, kept), _paces(force, read, kin), _own(force, force.wait, read, kin, _WAIT)
        pace = np.maximum(pace, 1e-9)
        out, near = np.full(len(share), np.inf), np.full(len(share), np.inf)
        for _ in range(_MOST_ROUNDS):
            lit = np.zeros(len(grid.starts) - 1, np.uint8)
            _light_cells(kin.place, 1 / grid.cell, grid.size, caught, over, now, lit)
            _reached(
                kin.place, share, grid.order, grid.starts, 1 / grid.cell, grid.size, lit, radius, force.nearest, caught, over,
                since, pace, wait, now, free, out, near,
            )  # fmt: skip
            found = np.where(free, np.minimum(np.where(out <= t, out, np.inf), first), caught)
            if np.array_equal(found, caught):
                break
            caught = found
            over = np.where(lasts > 0, caught + lasts, np.inf)
        values[NEAR_SINCE] = np.where(free & np.isfinite(near), near - moments, np.where(free, -1, values[NEAR_SINCE]))
    new = free & np.isfinite(caught)
    values[CAUGHT, new] = np.maximum(0, caught[new] - moments[new])
