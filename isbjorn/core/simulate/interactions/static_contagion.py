"""A contagion among particles that never move: the moment of each infection is computed once, for all time.

It is the stepped contagion (`contagion`) without steps: arrival times of least cost. The particle with the least remaining time
is settled and updates its neighbours (Dijkstra 1959).
"""

from __future__ import annotations

import hashlib
import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numba import prange

from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.document import Shot
from isbjorn.core.document.fields.references import numbers_of
from isbjorn.core.document.parts.interactions import Contagion
from isbjorn.core.errors import Stale
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.runtime.memory import Cache
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate.interactions import contagion
from isbjorn.core.simulate.interactions.grid import around, grid_of
from isbjorn.core.simulate.state import State
from isbjorn.core.simulate.state_layout import CAUGHT

if TYPE_CHECKING:
    from collections.abc import Callable

    from isbjorn.core.simulate.interactions.group import InteractionGroup
    from isbjorn.core.simulate.interactions.interaction_view import InteractingParticles
    from isbjorn.core.simulate.track import Track

_MOST_NEAREST = 16
# At most this many pairs: some seconds. Denser groups are stepped, where each looks at some of its neighbours.
_MOST_PAIRS = 6e8
_AT_ONCE = 20_000


def _rests(shot: Shot, track: Track) -> bool:
    """Whether an emitter's particles stay where they are born, for ever, and all come in bursts."""
    e, births, reaching = track.emitter, track.births, shot.reaching(track.emitter)
    moved = (e.speed, e.inherit)
    return (
        e.born_of is None
        and e.strand is None
        and e.stays == "behind"
        and births.period_s is None
        and births.steady
        and e.rate.value == 0
        and e.lifespan.value == 0
        and not e.lifespan.timed
        and not any(n.value or n.spread or n.timed for n in moved)
        and not any(f.starts for f in reaching if f.stage == "motion")
    )


def still_contagion(interaction_group: InteractionGroup) -> Contagion | None:
    """The contagion of a group of particles that never move, if nothing about it changes with time."""
    if len(interaction_group.interactions) != 1 or not isinstance(interaction_group.interactions[0], Contagion):
        return None
    force = interaction_group.interactions[0]
    zones = [z for z in interaction_group.shot.zones if z.id in (force.zone, force.seeds)]
    numbers = [n for thing in (force, *zones) for _, n in numbers_of(thing)]
    still = (
        not interaction_group.readings.played
        and force.then == "is immune"
        and force.slows == "nothing"
        and not any(n.timed or n.over_life is not None for n in numbers)
        and all(interaction_group.readings.still(zone) for zone in zones)
        and all(_rests(interaction_group.shot, track) for track in interaction_group.tracks)
    )
    return force if still else None


@njit("void(f4[:,::1], f4[::1], i8[::1], i8[::1], f8, f8, i8, f4[::1])", parallel=True, cache=True, error_model="numpy")
def _reaches(
    place: Floats, share: Floats, starts: Longs, size: Longs, cell: float, radius: float, nearest: int, far: Floats
) -> None:
    """The squared distance up to which each can be infected, (n,): the radius, or the last of its nearest neighbours that count."""
    for i in prange(place.shape[1]):
        far[i] = radius * radius
        if nearest == 0:
            continue
        cells, best = np.empty(27, np.int64), np.full(_MOST_NEAREST, np.inf)
        for c in range(around(place[0, i], place[1, i], place[2, i], 1.0 / cell, size, starts, cells)):
            for j in range(starts[cells[c]], starts[cells[c] + 1]):
                if j == i or share[j] <= 0:
                    continue
                dx, dy, dz = place[0, j] - place[0, i], place[1, j] - place[1, i], place[2, j] - place[2, i]
                d2 = dx * dx + dy * dy + dz * dz
                contagion.put_among(best, nearest, d2)
        far[i] = min(far[i], np.float32(best[nearest - 1]))


@inline_kernel("void(f8[::1], i8[::1], i8[::1], i8)", cache=True, forceinline=True)
def _up(time: Doubles, heap: Longs, at: Longs, k: int) -> None:
    """Let one rise in the heap to where it belongs."""
    i = heap[k]
    while k > 0:
        above = (k - 1) // 2
        if time[heap[above]] <= time[i]:
            break
        heap[k] = heap[above]
        at[heap[k]] = k
        k = above
    heap[k] = i
    at[i] = k


@inline_kernel("void(f8[::1], i8[::1], i8[::1], i8)", cache=True, forceinline=True)
def _down(time: Doubles, heap: Longs, at: Longs, count: int) -> None:
    """Let the first of the heap sink to where it belongs."""
    i, k = heap[0], 0
    while True:
        below = 2 * k + 1
        if below >= count:
            break
        if below + 1 < count and time[heap[below + 1]] < time[heap[below]]:
            below += 1
        if time[heap[below]] >= time[i]:
            break
        heap[k] = heap[below]
        at[heap[k]] = k
        k = below
    heap[k] = i
    at[i] = k


@njit(
    "i8(f4[:,::1], f4[::1], i8[::1], i8[::1], f8, f4[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], i8[::1], i8[::1], i8, i8)",
    cache=True,
    error_model="numpy",
)
def _on(
    place: Floats, share: Floats, starts: Longs, size: Longs, cell: float, far: Floats, pace: Doubles, wait: Doubles,
    lasts: Doubles,
    moments: Doubles, time: Doubles, heap: Longs, at: Longs, count: int, most: int,
) -> int:  # fmt: skip
    """Let this many update their neighbours; how many are left in the heap. at: position of each in it, -1: not yet, -2: done."""
    cells = np.empty(27, np.int64)
    for _ in range(most):
        if count == 0:
            break
        j = heap[0]
        at[j] = -2
        count -= 1
        if count > 0:
            heap[0] = heap[count]
            _down(time, heap, at, count)
        if share[j] <= 0:
            continue
        until = time[j] + lasts[j] if lasts[j] > 0 else np.inf
        x, y, z = place[0, j], place[1, j], place[2, j]
        for c in range(around(x, y, z, 1.0 / cell, size, starts, cells)):
            for i in range(starts[cells[c]], starts[cells[c] + 1]):
                if at[i] == -2 or share[i] <= 0:
                    continue
                dx, dy, dz = place[0, i] - x, place[1, i] - y, place[2, i] - z
                d2 = dx * dx + dy * dy + dz * dz
                if d2 > far[i]:
                    continue
                arrives = max(time[j], moments[i]) + wait[i] + np.sqrt(d2) / (pace[i] * share[i])
                if arrives < time[i] and arrives <= until:
                    time[i] = arrives
                    if at[i] < 0:
                        heap[count] = i
                        count += 1
                        _up(time, heap, at, count - 1)
                    else:
                        _up(time, heap, at, at[i])
    return count


_find_reaches = kernel_lock(_reaches)


@dataclass(frozen=True)
class Caught:
    """When each particle of a group catches a contagion, for all time.

    born: its emitters' particles in their states at birth; moments: s of shot time, infinite: never, one array for each; none where
    too many are near each other.
    """

    born: tuple[State, ...]
    moments: tuple[Doubles, ...]

    def state(self, number: int, t: float) -> State:
        """One emitter's state at a moment, by its place in the group."""
        born, caught = self.born[number], self.moments[number]
        here = born.moments <= t
        state = born if here.all() else born.only(np.flatnonzero(here))
        when, values = caught[here], state.values.copy()
        values[CAUGHT] = np.where(when <= t, np.maximum(0, when - state.moments), -1)
        return State(state.births, state.moments, values)


# By all that it depends on: an edit of looks finds it again.
_CAUGHT: Cache[Caught] = Cache(
    "states",
    0.25,
    what="Infections of still particles",
    depends_on="the motion of all emitters that it reaches, with all keys",
)


def caught_at_rest(interaction_group: InteractionGroup, force: Contagion, stale: Callable[[], bool] | None) -> Caught:
    """When each particle of a group that never moves catches a contagion. Raises Stale if `stale` reports that it is no longer
    wanted."""
    return _CAUGHT.get(interaction_group.depends_on(math.inf), lambda: _caught(interaction_group, force, stale))


def _caught(interaction_group: InteractionGroup, force: Contagion, stale: Callable[[], bool] | None) -> Caught:
    tracks = interaction_group.tracks
    born = tuple(track.newborn(-1e9, float(interaction_group.shot.length_s) + 1.0, stale) for track in tracks)
    until = max((float(s.moments.max()) for s in born if s.count), default=0.0)
    particles, ends = interaction_group.particles(list(zip(tracks, born, strict=True)), until, 1 / interaction_group.hz)
    moments = _shared(
        interaction_group,
        len(particles.births),
        lambda: _arrivals(interaction_group, force, born, particles, until, stale),
    )
    if moments is None:
        return Caught(born, ())
    return Caught(born, tuple(moments[a:b] for a, b in zip(ends, ends[1:], strict=False)))


def _shared(interaction_group: InteractionGroup, count: int, work_out: Callable[[], Doubles | None]) -> Doubles | None:
    """Moments (n,) from the cache of another process; otherwise computed and stored for others."""
    shared_caches, key = interaction_group.tracks[0].cache.shared_caches, repr(interaction_group.depends_on(math.inf))
    motion = hashlib.sha256(key.encode()).hexdigest()
    there = None if shared_caches is None else shared_caches.more("still", motion, key, 0)
    if there is not None and len(there) == 8 * count:
        return there.view(np.float64)
    moments = work_out()
    if shared_caches is not None and moments is not None:
        shared_caches.put_more("still", motion, key, 0, [moments])
    return moments


def _arrivals(
    interaction_group: InteractionGroup,
    force: Contagion,
    born: tuple[State, ...],
    particles: InteractingParticles,
    until: float,
    stale: Callable[[], bool] | None,
) -> Doubles | None:
    """When each catches it, (n,) s; None where too many are near each other."""
    tracks, read = interaction_group.tracks, interaction_group.reader(until)
    strengths = [
        interaction_group.strengths(force, track, state, until) for track, state in zip(tracks, born, strict=True)
    ]
    radius = max(read(force.radius), 1e-3)
    grid = grid_of(particles.place, radius)
    near = np.diff(grid.starts).astype(np.float64)
    if float((near * near).sum()) * 9 > _MOST_PAIRS:
        return None
    order = grid.order
    place, share = np.ascontiguousarray(particles.place[:, order]), (np.concatenate(strengths)[order] / np.float32(100))
    time = np.where(share > 0, contagion.seeded(force, read, particles)[order], np.inf)
    pace, wait, lasts = (
        contagion.drawn_by_each(force, n, read, particles, draw, {})[order] for n, draw in contagion.drawn(force)
    )
    far = np.empty(len(order), np.float32)
    _find_reaches(place, share, grid.starts, grid.size, grid.cell, radius, force.nearest, far)
    seeds = np.flatnonzero(np.isfinite(time))
    heap, at, left = np.empty(len(order), np.int64), np.full(len(order), -1, np.int64), len(seeds)
    # In a row by their moments they are a heap.
    heap[:left] = seeds[np.argsort(time[seeds], kind="stable")]
    at[heap[:left]] = np.arange(left)
    pace, moments = np.maximum(pace, 1e-9), particles.moments[order]
    while left:
        if stale is not None and stale():
            raise Stale
        left = _on(
            place, share, grid.starts, grid.size, grid.cell, far, pace, wait, lasts, moments, time, heap, at, left, _AT_ONCE
        )  # fmt: skip
    by_number = np.empty(len(order))
    by_number[order] = time
    return by_number
