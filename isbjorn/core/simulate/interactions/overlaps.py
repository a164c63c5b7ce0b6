"""Overlaps of bodies: the pairs that may touch, and one pass that undoes their overlaps, pair by pair (Gauss and Seidel).

Position-based contacts with friction (Macklin, Müller, Chentanez and Kim 2014, "Unified particle physics for real-time
applications", 5.2 and 6.1). Bodies are stored cell by cell, and cells by 27 colours: cells of one colour have no neighbour in
common, so they are worked on in parallel with the same result for any number of threads.
"""

from __future__ import annotations

import math
from itertools import pairwise
from typing import Any

import numpy as np
from numba import prange

from isbjorn.core.arrays import Floats, Ints, Longs
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.simulate.interactions.grid import around, grid_of, stride_over

# The margin around bodies in which pairs are looked for, of their mean radius: from, to.
_MARGIN, _MOST_MARGIN = 0.15, 0.6
# Pairs of one body at most, and how many of them are found in the first pass over the grid.
_MOST_EACH, _USUAL_EACH = 96, 16
# Small bodies near a very large one: at most this many are examined.
_MOST_EXAMINED = 2048
# With fewer bodies than these, threads cost more than they save.
_FEW = 4000
# In a heap, a body one radius higher counts as lighter by this factor (a natural logarithm), at most by `_MOST_LEAN`, if both are
# slower than this many steps of the acceleration that presses them.
_LEAN, _CALM_STEPS, _MOST_LEAN = 0.25, 8.0, 1.8
# Bits of a cell's coordinate in the sorting key. Farther cells share keys, which is harmless: they are far apart.
_CELL_BITS = 19

# A row of `Overlaps.bodies`: position; free motion since the step began, and how far it was carried; displacement that drives it;
# radius, inverse mass, share of the force, height in the heap, calmness, and whether older overlaps drive it (1) or not (0).
POSITION, MOVED, CARRIED, KICK, RADIUS, INVERSE_MASS, SHARE, HEIGHT, CALM, DRIVEN, COLUMNS = (
    0, 3, 6, 9, 12, 13, 14, 15, 16, 17, 18,
)  # fmt: skip
_PAIR = "f4[:,::1], f8, i4[::1], i4[::1], f8, i8[::1]"
_NEAR = "f4[:,::1], f4[::1], f4[::1], i8[::1], i8[::1], i8[::1], f8, f8"


@inline_kernel(f"i4({_NEAR}, i8, i8[::1], i4[::1], i8, i8)", cache=True)
def _neighbours(
    place: Floats, radius: Floats, share: Floats, order: Longs, starts: Longs, size: Longs, cell: float, margin: float, i: int,
    cells: Longs, into: Ints, first: int, room: int,
) -> int:  # fmt: skip
    """Count the bodies that may touch body i; write the first `room` of them into `into` from `first` on. cells: 27 scratch."""
    if share[i] == 0:
        return 0
    x, y, z, r = float(place[0, i]), float(place[1, i]), float(place[2, i]), radius[i]
    runs = around(x, y, z, 1.0 / cell, size, starts, cells)
    stride = stride_over(starts, cells, runs, _MOST_EXAMINED)
    count, seen = 0, i % stride
    for c in range(runs):
        for k in range(starts[cells[c]], starts[cells[c] + 1]):
            if stride > 1:
                seen += 1
                if seen % stride != 0:
                    continue
            j = order[k]
            # The smaller of two holds the pair: few large bodies are near a small one, but many small ones near a large one.
            if radius[j] < r or (radius[j] == r and j <= i) or share[j] == 0:
                continue
            dx, dy, dz = place[0, j] - x, place[1, j] - y, place[2, j] - z
            reach = r + radius[j] + margin
            if dx * dx + dy * dy + dz * dz < reach * reach:
                if count < room:
                    into[first + count] = j
                count += 1
                if count == _MOST_EACH:
                    return count
    return count


@njit(f"void({_NEAR}, i4[::1], i4[::1])", parallel=True, cache=True)
def _count_pairs(
    place: Floats, radius: Floats, share: Floats, order: Longs, starts: Longs, size: Longs, cell: float, margin: float,
    counts: Ints, usual: Ints,
) -> None:  # fmt: skip
    """Pairs of each body, from 1 on in counts (n + 1,), and the first of them in usual (n × `_USUAL_EACH`,)."""
    for i in prange(place.shape[1]):
        counts[i + 1] = _neighbours(
            place,
            radius,
            share,
            order,
            starts,
            size,
            cell,
            margin,
            i,
            np.empty(27, np.int64),
            usual,
            i * _USUAL_EACH,
            _USUAL_EACH,
        )


@njit(f"void({_NEAR}, i4[::1], i4[::1], i4[::1])", parallel=True, cache=True)
def _fill_pairs(
    place: Floats, radius: Floats, share: Floats, order: Longs, starts: Longs, size: Longs, cell: float, margin: float,
    ends: Ints, usual: Ints, others: Ints,
) -> None:  # fmt: skip
    """Write the pairs of body i into others[ends[i] : ends[i + 1]]; those beyond the usual number are looked for again."""
    for i in prange(place.shape[1]):
        first, count = ends[i], ends[i + 1] - ends[i]
        if count > _USUAL_EACH:
            _neighbours(
                place, radius, share, order, starts, size, cell, margin, i, np.empty(27, np.int64), others, first, count
            )
        else:
            for k in range(count):
                others[first + k] = usual[i * _USUAL_EACH + k]


@inline_kernel(f"void({_PAIR}, i8)", cache=True, fastmath={"contract"})
def _separate_cell(
    bodies: Floats, older: float, ends: Ints, others: Ints, friction: float, starts: Longs, cell: int
) -> None:
    """Undo the overlaps of all pairs that the bodies of a cell hold."""
    for i in range(starts[cell], starts[cell + 1]):
        a = bodies[i]
        for k in range(ends[i], ends[i + 1]):
            b = bodies[others[k]]
            dx, dy, dz = a[0] - b[0], a[1] - b[1], a[2] - b[2]
            reach = a[RADIUS] + b[RADIUS]
            d2 = dx * dx + dy * dy + dz * dz
            la, lb = a[INVERSE_MASS], b[INVERSE_MASS]
            if d2 >= reach * reach or la + lb == 0:
                continue
            calm = min(a[CALM], b[CALM])
            if calm > 0:
                # In a heap the upper of two is moved more: a weight gets through to the ground in fewer rounds. The factor is
                # nearly the exponential function (Padé).
                half = 0.5 * min(_MOST_LEAN, max(-_MOST_LEAN, calm * (a[HEIGHT] - b[HEIGHT])))
                lean = (1.0 + half) / (1.0 - half)
                la, lb = la * lean, lb / lean
            whole = la + lb
            d = math.sqrt(d2)
            over = reach - d
            if over <= 0:
                continue
            if d > 1e-6:
                dx, dy, dz = dx / d, dy / d, dz / d
            else:
                # Both are in one place: their numbers give the direction.
                turn = 2.399963 * (i + 1)
                dx, dy, dz = math.cos(turn), math.sin(turn), 0.0
            by = over * math.sqrt(a[SHARE] * b[SHARE]) / whole
            mx, my, mz = by * dx, by * dy, by * dz
            sx = (a[MOVED] + a[KICK]) - (b[MOVED] + b[KICK])
            sy = (a[MOVED + 1] + a[KICK + 1]) - (b[MOVED + 1] + b[KICK + 1])
            sz = (a[MOVED + 2] + a[KICK + 2]) - (b[MOVED + 2] + b[KICK + 2])
            cx, cy, cz = a[CARRIED] - b[CARRIED], a[CARRIED + 1] - b[CARRIED + 1], a[CARRIED + 2] - b[CARRIED + 2]
            along, by_carrying = sx * dx + sy * dy + sz * dz, cx * dx + cy * dy + cz * dz
            # What the two moved towards each other drives them apart; an older overlap does so up to a limit; and what they were
            # carried does not at all.
            came = max(0.0, -along)
            rest = max(0.0, over - came - max(0.0, -by_carrying))
            new = min(1.0, (came + min(rest, older * min(a[DRIVEN], b[DRIVEN]))) / over)
            kx, ky, kz = mx * new, my * new, mz * new
            if friction > 0:
                sx, sy, sz = sx - along * dx, sy - along * dy, sz - along * dz
                cx, cy, cz = cx - by_carrying * dx, cy - by_carrying * dy, cz - by_carrying * dz
                slid = math.sqrt((sx + cx) ** 2 + (sy + cy) ** 2 + (sz + cz) ** 2)
                if slid > 1e-9:
                    held = min(1.0, friction * over / slid) / whole
                    mx, my, mz = mx - held * (sx + cx), my - held * (sy + cy), mz - held * (sz + cz)
                    kx, ky, kz = kx - held * sx, ky - held * sy, kz - held * sz
            a[KICK], a[KICK + 1], a[KICK + 2] = a[KICK] + la * kx, a[KICK + 1] + la * ky, a[KICK + 2] + la * kz
            b[KICK], b[KICK + 1], b[KICK + 2] = b[KICK] - lb * kx, b[KICK + 1] - lb * ky, b[KICK + 2] - lb * kz
            a[0], a[1], a[2] = a[0] + la * mx, a[1] + la * my, a[2] + la * mz
            b[0], b[1], b[2] = b[0] - lb * mx, b[1] - lb * my, b[2] - lb * mz


@njit(f"void({_PAIR}, i8, i8)", parallel=True, cache=True)
def _separate_in_parallel(
    bodies: Floats, older: float, ends: Ints, others: Ints, friction: float, starts: Longs, first: int, last: int
) -> None:
    for cell in prange(first, last):
        _separate_cell(bodies, older, ends, others, friction, starts, cell)


@inline_kernel(f"void({_PAIR}, i8)", cache=True)
def _separate_in_order(
    bodies: Floats, older: float, ends: Ints, others: Ints, friction: float, starts: Longs, last: int
) -> None:
    for cell in range(last):
        _separate_cell(bodies, older, ends, others, friction, starts, cell)


@inline_kernel("f8(f4[:,::1], f4[:,::1])", cache=True)
def farthest(place: Floats, previous: Floats) -> float:
    """The largest distance in px that a body moved relative to the mean motion of all; places (3, n) now and previously."""
    n, far = place.shape[1], 0.0
    mx, my, mz = 0.0, 0.0, 0.0
    for i in range(n):
        mx += place[0, i] - previous[0, i]
        my += place[1, i] - previous[1, i]
        mz += place[2, i] - previous[2, i]
    mx, my, mz = mx / n, my / n, mz / n
    for i in range(n):
        dx = place[0, i] - previous[0, i] - mx
        dy = place[1, i] - previous[1, i] - my
        dz = place[2, i] - previous[2, i] - mz
        far = max(far, dx * dx + dy * dy + dz * dz)
    return math.sqrt(far)


@inline_kernel("void(f4[:,::1], i8[::1], f4[:,::1], f4[:,::1], f4[:,::1])", cache=True)
def _weigh(bodies: Floats, order: Longs, place: Floats, velocity: Floats, gain: Floats) -> None:
    """Write how high in the heap and how calm each body is; gain: the velocity in px/s that each is given in a step (3, n)."""
    n = len(order)
    gx, gy, gz, mean = 0.0, 0.0, 0.0, 0.0
    for i in range(n):
        gx, gy, gz, mean = gx + gain[0, i], gy + gain[1, i], gz + gain[2, i], mean + bodies[i, RADIUS]
    gx, gy, gz, mean = gx / n, gy / n, gz / n, max(mean / n, 1e-6)
    weight = math.sqrt(gx * gx + gy * gy + gz * gz)
    for row in range(n):
        i = order[row]
        if weight < 1e-9:
            bodies[row, HEIGHT], bodies[row, CALM] = 0.0, 0.0
            continue
        height = -(gx * place[0, i] + gy * place[1, i] + gz * place[2, i]) / weight
        speed2 = velocity[0, i] ** 2 + velocity[1, i] ** 2 + velocity[2, i] ** 2
        bodies[row, HEIGHT] = _LEAN * height / mean
        bodies[row, CALM] = 1.0 / (1.0 + speed2 / (_CALM_STEPS * weight) ** 2) ** 2


@inline_kernel("b1(f4[:,::1], i8[::1], f4[:,::1], f4[::1])", cache=True)
def _any_farther(bodies: Floats, order: Longs, place: Floats, px: Floats) -> bool:
    for n in range(len(order)):
        i = order[n]
        for c in range(3):
            if abs(bodies[n, POSITION + c] - place[c, i]) > px[i]:
                return True
    return False


class Overlaps:
    """The pairs of bodies that may touch in a part of a step.

    radius in px, inverse_mass, share of the force, driven (1: older overlaps drive it, 0: not), each (n,) float32; speed_px: how
    far a body moves among the others in a step. The faster, the wider the margin in which pairs are looked for, so that they must
    be looked for less often.
    """

    def __init__(self, radius: Floats, inverse_mass: Floats, share: Floats, driven: Floats, speed_px: float) -> None:
        self._bodies = np.zeros((len(radius), COLUMNS), np.float32)
        self._bodies[:, RADIUS], self._bodies[:, INVERSE_MASS] = radius, inverse_mass
        self._bodies[:, SHARE], self._bodies[:, DRIVEN] = share, driven
        touching = radius[share > 0]
        mean = float(touching.mean())
        self._margin = min(max(speed_px, _MARGIN * mean), _MOST_MARGIN * mean)
        self._cell = max(1e-3, 2 * float(touching.max()) + self._margin)

    def find(self, place: Floats) -> None:
        """Find the pairs at places (3, n) in px; `order` lists the bodies by row, `rows` the row of each body."""
        self._found_at = place.copy()
        self.order, self._starts, self._colours = _by_cells(place, self._cell)
        n = len(self.order)
        self.rows = np.empty(n, np.int64)
        self.rows[self.order] = np.arange(n)
        self.bodies = self._bodies[self.order]
        radius, share = self.bodies[:, RADIUS].copy(), self.bodies[:, SHARE].copy()
        sorted_place = np.ascontiguousarray(place[:, self.order])
        grid = grid_of(sorted_place, self._cell)
        among: Any = (sorted_place, radius, share, grid.order, grid.starts, grid.size, grid.cell, self._margin)
        counts, usual = np.zeros(n + 1, np.int32), np.empty(n * _USUAL_EACH, np.int32)
        _count_pairs(*among, counts, usual)  # type: ignore[call-arg]
        self._ends = np.cumsum(counts, dtype=np.int32)
        self._others = np.empty(max(1, int(self._ends[-1])), np.int32)
        _fill_pairs(*among, self._ends, usual, self._others)  # type: ignore[call-arg]

    def is_outdated(self, place: Floats) -> bool:
        """Whether a body has moved so far since `find` that pairs may be missing."""
        return farthest(place, self._found_at) > 0.5 * self._margin

    def weigh(self, place: Floats, velocity: Floats, gain: Floats) -> None:
        """Make bodies lighter with their height in a heap: a weight gets through to the ground in fewer rounds (2014, 5.2).

        place in px, velocity in px/s, gain: px/s that each is given in a step; all (3, n) float32.
        """
        _weigh(self.bodies, self.order, place, velocity, gain)

    def undo(self, older: float, friction: float) -> None:
        """Undo the overlaps of all pairs once, one after the other.

        older: how many px of an older overlap drive the two apart; friction: its coefficient.
        """
        of: Any = (self.bodies, older, self._ends, self._others, friction, self._starts)
        if len(self.order) < _FEW:
            _separate_in_order(*of, len(self._starts) - 1)  # type: ignore[call-arg]
        else:
            for first, last in pairwise(self._colours.tolist()):
                if last > first:
                    _separate_in_parallel(*of, first, last)  # type: ignore[call-arg]

    def exceed(self, place: Floats, px: Floats) -> bool:
        """Whether a body was moved from its place by more than this many px (n,) along an axis."""
        return _any_farther(self.bodies, self.order, place, px)


def _by_cells(place: Floats, cell: float) -> tuple[Longs, Longs, Longs]:
    """Sort bodies by colour and cell: their order (n,), where each cell starts in it, and the first cell of each colour (28,)."""
    at = np.floor(place.astype(np.float64) / cell).astype(np.int64)
    third = at % 3
    colour = third[0] + 3 * third[1] + 9 * third[2]
    at = (at - at.min(axis=1, keepdims=True)) & ((1 << _CELL_BITS) - 1)
    key = (((((colour << _CELL_BITS) | at[2]) << _CELL_BITS) | at[1]) << _CELL_BITS) | at[0]
    order = np.argsort(key, kind="stable")
    key = key[order]
    starts = np.flatnonzero(np.diff(key, prepend=-1))
    colours = np.searchsorted(key[starts] >> (3 * _CELL_BITS), np.arange(28))
    return order, np.append(starts, len(order)), colours.astype(np.int64)
