"""Contagion: a state that spreads from neighbour to neighbour.

A particle catches it at the least of T(j) + w + d(j)/c over the neighbours j that pass it on, with w its own time to catch, d the
distance and c its own pace: arrival times of the least cost (Dijkstra 1959), found by rounds in which each looks at its neighbours
until nothing changes. So they depend neither on an order nor on the steps; for moving particles, the distance between two is the
one at the step, and passing begins no sooner than both are near.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import prange

from isbjorn.core.arrays import Bools, Bytes, Doubles, Floats, Longs
from isbjorn.core.document import Number
from isbjorn.core.document.parts.interactions import Contagion
from isbjorn.core.emit.births import places_in_line
from isbjorn.core.emit.newborn import brightness
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.random import FORCE_FIRST, draws01, draws_around
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate import contact
from isbjorn.core.simulate.forces import zones
from isbjorn.core.simulate.forces.force_layout import ForceSetting, base
from isbjorn.core.simulate.interactions.grid import Grid, around, grid_of, stride_over
from isbjorn.core.simulate.interactions.interaction_view import (
    K_CAUGHT,
    K_GONE_AT,
    K_HOW,
    K_NEAR_SINCE,
    InteractingParticles,
    Read,
)
from isbjorn.core.simulate.table_types import ZONES, Zones

CODE = 33
_MOST_ROUNDS, _MOST_NEAREST, _MOST_LOOKED_AT = 64, 16, 192
# Draws of the force, after those of its strength.
_PACE, _WAIT, _LASTS, _SEED = 4, 5, 6, 7


def pack(force: Contagion, setting: ForceSetting) -> Doubles:
    """Rows of a contagion."""
    return base(force, CODE, setting)


@inline_kernel("i8(i8, i8[::1], i8[::1], i8[::1])", cache=True, forceinline=True)
def _around_cell(cell: int, size: Longs, starts: Longs, out: Longs) -> int:
    """The occupied cells around a cell, itself included, into out (27,), and their number."""
    nx, ny = size[0], size[1]
    return around(float(cell % nx), float(cell // nx % ny), float(cell // (nx * ny)), 1.0, size, starts, out)


@inline_kernel("void(f8[::1], i8, f8)", cache=True, forceinline=True)
def put_among(best: Doubles, count: int, value: float) -> None:
    """Insert a value into the smallest ones, which ascend, if it is one of them."""
    if value < best[count - 1]:
        at = count - 1
        while at > 0 and best[at - 1] > value:
            best[at] = best[at - 1]
            at -= 1
        best[at] = value


@njit("void(i8[::1], i8[::1], b1[::1], u1[::1])", cache=True)
def _light_cells(starts: Longs, size: Longs, passes: Bools, lit: Bytes) -> None:
    """Mark the cells near one with an infectious particle. passes: which are infectious, in the order of cells."""
    cells = np.empty(27, np.int64)
    for cell in range(len(starts) - 1):
        for k in range(starts[cell], starts[cell + 1]):
            if passes[k]:
                for c in range(_around_cell(cell, size, starts, cells)):
                    lit[cells[c]] = 1
                break


@njit(
    "void(f4[:,::1], f4[::1], i8[::1], i8[::1], u1[::1], f8, i8, b1[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8,"
    " b1[::1], f8[::1], f8[::1])",
    parallel=True,
    cache=True,
    error_model="numpy",
)
def _reach(
    place: Floats, share: Floats, starts: Longs, size: Longs, lit: Bytes, radius: float, nearest: int, passes: Bools,
    caught: Doubles, over: Doubles, since: Doubles, pace: Doubles, wait: Doubles, now: float, open_: Bools, out: Doubles,
    near: Doubles,
) -> None:  # fmt: skip
    """When each susceptible particle is infected by those that are infectious, into out (n,) s; and since when one has been near.

    All in the order of cells, which `starts` parts: place (3, n); passes: which are considered, and from and until when each is
    infectious; since: from when one was near as the step began; now: when it began; open_: which are susceptible. lit: cells near
    one that holds an infectious particle.
    """
    for cell in prange(len(starts) - 1):
        if lit[cell] == 0 or starts[cell] == starts[cell + 1]:
            continue
        cells, best = np.empty(27, np.int64), np.empty(_MOST_NEAREST)
        count = _around_cell(cell, size, starts, cells)
        # Where too many are near, some are looked at, evenly.
        step = stride_over(starts, cells, count, _MOST_LOOKED_AT if nearest == 0 else 8 * _MOST_LOOKED_AT)
        for i in range(starts[cell], starts[cell + 1]):
            if not open_[i] or share[i] <= 0:
                continue
            x, y, z = place[0, i], place[1, i], place[2, i]
            far = np.float32(radius * radius)
            if nearest > 0:
                # As far as the last of the nearest ones that count.
                best[:] = np.inf
                for c in range(count):
                    for j in range(starts[cells[c]] + i % step, starts[cells[c] + 1], step):
                        if j == i or share[j] <= 0:
                            continue
                        dx, dy, dz = place[0, j] - x, place[1, j] - y, place[2, j] - z
                        d2 = dx * dx + dy * dy + dz * dz
                        put_among(best, nearest, d2)
                far = min(far, np.float32(best[nearest - 1]))
            for c in range(count):
                for j in range(starts[cells[c]] + i % step, starts[cells[c] + 1], step):
                    dx, dy, dz = place[0, j] - x, place[1, j] - y, place[2, j] - z
                    d2 = dx * dx + dy * dy + dz * dz
                    if d2 > far or not passes[j] or j == i or share[j] <= 0:
                        continue
                    begins = max(caught[j], since[i] if np.isfinite(since[i]) else now)
                    near[i] = min(near[i], begins)
                    arrives = max(now, begins + wait[i] + np.sqrt(d2) / (pace[i] * share[i]))
                    if arrives <= over[j]:
                        out[i] = min(out[i], arrives)


_reached = kernel_lock(_reach)


@njit(f"void({ZONES}, f4[:,::1], b1[::1])", parallel=True, cache=True)
def _inside(zone: Zones, place: Floats, seeds: Bytes) -> None:
    """Mark particles in a zone."""
    for i in prange(len(seeds)):
        x, y, z = float(place[0, i]), float(place[1, i]), float(place[2, i])
        seeds[i] = seeds[i] or zones.weight(zone, 0, 0, x, y, z) > 0


_find_seeds = kernel_lock(_inside)


def drawn_by_each(
    force: Contagion, number: Number, read: Read, particles: InteractingParticles, attribute: int, kept: dict[str, Any]
) -> Doubles:
    """A number of the force as each particle draws it, (n,)."""
    value = np.full(particles.place.shape[1], read(number), np.float64)
    if number.spread:
        known = kept.get(f"draws {attribute}")
        # Drawn once, as long as they are the same particles.
        if known is None or not np.array_equal(known[0], particles.births) or known[1] != number.spread_shape:
            drawn = np.empty(len(particles.births))
            for part in particles.parts:
                own = slice(part.first, part.last)
                first = FORCE_FIRST + 8 * force.own_draws + attribute
                drawn[own] = draws_around(part.key, particles.births[own], first, number.spread_shape == "bell")
            known = kept[f"draws {attribute}"] = (particles.births, number.spread_shape, drawn)
        value += number.spread * known[2]
    return np.maximum(0, value)


def drawn(force: Contagion) -> tuple[tuple[Number, int], ...]:
    """The numbers that vary per particle, with their draws: its pace, its time to catch, and how long it has the state."""
    return (force.pace, _PACE), (force.wait, _WAIT), (force.lasts, _LASTS)


def seeded(force: Contagion, read: Read, particles: InteractingParticles) -> Doubles:
    """When each has it from the beginning, s of shot time, (n,), if it is there all that time; infinite for all but seeds."""
    n = particles.place.shape[1]
    seeds = np.zeros(n, bool)
    share = read(force.seed_share) / 100
    for part in particles.parts:
        own = slice(part.first, part.last)
        seeds[own] = places_in_line(particles.births[own]) < force.seed_first
        if share > 0:
            drawn = draws01(part.key, particles.births[own], FORCE_FIRST + 8 * force.own_draws + _SEED)
            seeds[own] |= drawn < share
    zone = particles.zone(force.seeds)
    if zone is not None:
        # It has it from the moment on at which it is found there.
        _find_seeds(zone, particles.place, seeds)
    return np.where(seeds, np.maximum(force.begin_s, particles.moments), np.inf)


def _grid(particles: InteractingParticles, radius: float, kept: dict[str, Any]) -> Grid:
    """The grid of places; the cached one if no particle has moved."""
    known = kept.get("grid")
    if known is not None and known[1] == radius and np.array_equal(known[0], particles.place):
        grid: Grid = known[2]
        return grid
    grid = grid_of(particles.place, radius)
    kept["grid"] = (particles.place, radius, grid)
    return grid


def _paces(force: Contagion, read: Read, particles: InteractingParticles, kept: dict[str, Any]) -> Doubles:
    """How fast it goes to each, px/s (n,), where the plate slows it."""
    pace = drawn_by_each(force, force.pace, read, particles, _PACE, kept)
    if force.slows != "nothing":
        lost = read(force.slowed) / 100
        for part in particles.parts:
            own = slice(part.first, part.last)
            if part.light is None or own.start == own.stop:
                continue
            bright = brightness(part.light, particles.place[:, own].T.astype(np.float64), np.array([particles.now]))
            pace[own] *= 1 - lost * (bright if force.slows == "where it is bright" else 1 - bright)
    return np.maximum(pace, 1e-9)


class _ByCell:
    """Numbers of particles in the order of cells; as they were, where nothing has changed."""

    def __init__(self, kept: dict[str, Any], grid: Grid) -> None:
        if kept.get("sorted by") is not grid:
            kept["sorted by"], kept["sorted"] = grid, {}
        self.known, self.grid = kept["sorted"], grid

    def __call__(self, name: str, values: Any) -> Any:
        had = self.known.get(name)
        if had is None or not np.array_equal(had[0], values):
            had = self.known[name] = (values, np.ascontiguousarray(values[..., self.grid.order]))
        return had[1]


def _spread(
    force: Contagion, read: Read, particles: InteractingParticles, share: Floats, caught: Doubles, lasts: Doubles, since: Doubles,
    free: Bools, kept: dict[str, Any],
) -> tuple[Doubles, Doubles]:  # fmt: skip
    """When each is infected by the end of the step, s (n,), infinite: not yet; and since when an infectious one has been near."""
    radius, now = max(read(force.radius), 1e-3), particles.now
    grid = _grid(particles, radius, kept)
    order = grid.order
    by_cell = _ByCell(kept, grid)
    there, strengths = by_cell("place", particles.place), by_cell("share", share)
    pace = by_cell("pace", _paces(force, read, particles, kept))
    wait = by_cell("wait", drawn_by_each(force, force.wait, read, particles, _WAIT, kept))
    last, first, was, open_ = by_cell("lasts", lasts), caught[order], since[order], free[order]
    have, out, near = first, np.full(len(order), np.inf), np.full(len(order), np.inf)
    ends = bool(last.any())
    over = np.where(last > 0, have + last, np.inf) if ends else np.full(len(order), np.inf)
    passes = np.isfinite(have) & (over > now)
    for _ in range(_MOST_ROUNDS):
        lit = np.zeros(len(grid.starts) - 1, np.uint8)
        _light_cells(grid.starts, grid.size, passes, lit)
        _reached(
            there, strengths, grid.starts, grid.size, lit, radius, force.nearest, passes, have, over, was, pace, wait, now, open_,
            out, near,
        )  # fmt: skip
        found = np.where(open_ & (out <= now + particles.h), np.minimum(out, first), first)
        # Only particles that are infected now, or earlier than assumed, can change anything.
        passes = found != have
        if not passes.any():
            break
        have = found
        over = np.where(last > 0, have + last, np.inf) if ends else over
    by_number = np.empty((2, len(order)))
    by_number[:, order] = have, near
    return by_number[0], by_number[1]


def state_pass(
    force: Contagion, read: Read, particles: InteractingParticles, percent: Floats, kept: dict[str, Any]
) -> None:
    """Which are infected in a finished step, from `kin.now` to h s later: in place, in the rows of states. kept: from step to
    step."""
    t = particles.now + particles.h
    values, moments, share = particles.values, particles.moments, percent / np.float32(100)
    had = values[K_CAUGHT] >= 0
    caught = np.where(had, moments + values[K_CAUGHT], np.inf)
    lasts = drawn_by_each(force, force.lasts, read, particles, _LASTS, kept)
    over = np.where(lasts > 0, caught + lasts, np.inf)
    ended = had & (over <= t)
    if force.then == "dies":
        gone = ended & (values[K_HOW] != contact.GONE)
        values[K_GONE_AT, gone] = (over - moments)[gone]
        values[K_HOW, gone] = contact.GONE
    elif force.then == "can catch it again":
        again = had & (over + force.rest_s <= t)
        values[K_CAUGHT, again] = values[K_NEAR_SINCE, again] = -1
        caught[again], had = np.inf, had & ~again
    # It can infect particles that exist and are not infected.
    free = ~had & (share > 0) & (values[K_HOW] != contact.GONE)
    if not free.any():
        return
    begins = np.maximum(seeded(force, read, particles), particles.now)
    caught = np.where(free, np.where(begins <= t, begins, np.inf), caught)
    if not np.isfinite(caught).any():
        return
    since = np.where(values[K_NEAR_SINCE] >= 0, moments + values[K_NEAR_SINCE], np.inf)
    caught, near = _spread(force, read, particles, share, caught, lasts, since, free, kept)
    values[K_NEAR_SINCE, free] = np.where(np.isfinite(near), near - moments, -1)[free]
    new = free & np.isfinite(caught)
    values[K_CAUGHT, new] = np.maximum(0, caught[new] - moments[new])
