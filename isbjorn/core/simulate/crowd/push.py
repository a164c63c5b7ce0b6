"""Push: bodies that do not overlap, by position-based contacts (Macklin, Müller, Chentanez and Kim 2014, "Unified particle
physics for real-time applications") in small steps (Macklin et al. 2019, "Small steps in physics simulation").

What the world does to the particles in a step is done in as many parts as there are rounds. In each, they go on, swept against
surfaces; then overlaps are undone pair by pair, each by the inverse of its masses, with friction of what two slid along each other,
up to its share of the overlap (2014, 6.1). Velocities change by what places were moved. What overlapped when the step began is
undone first, so that it drives nobody apart (4.4). All moves are swept, so that none is pushed through a surface.
"""

from __future__ import annotations

import math
from itertools import pairwise
from typing import Any

import numpy as np
from numba import prange

from isbjorn.core.arrays import Bools, Doubles, Floats, Ints, Longs
from isbjorn.core.document.meetings import Push
from isbjorn.core.jit import leaf, njit
from isbjorn.core.runtime.parallel import guarded
from isbjorn.core.simulate import contact
from isbjorn.core.simulate.crowd.grid import around, grid_of, stride_over
from isbjorn.core.simulate.crowd.together import Part, Read, Together
from isbjorn.core.simulate.forces.row import Setting, base

CODE = 32
# What overlaps by more than slightly, of a radius, when a step begins is brought apart first; the newborn until they hardly do.
_FIRST_ROUNDS, _SLIGHT, _HARDLY, _MARGIN = 40, 0.05, 0.005, 0.15
_MOST_EACH, _SLIDES = 96, 3
# Small bodies beside one that is very large: so many are looked at.
_MOST_LOOKED_AT = 2048
# What overlapped before drives a pair apart no faster, in px/s.
_FASTEST_APART = 200.0
# Who is younger, in s, is not driven by what it was born into at all.
_SETTLING_S = 0.25
_FEW = 4000
# In a heap, one a body higher up counts as so much lighter (a natural logarithm, to a most), if both are slower than so many steps
# of what presses them.
_LEAN, _CALM_STEPS, _MOST_LEAN = 0.25, 8.0, 3.0


def pack(force: Push, setting: Setting) -> Doubles:
    """Rows of a push."""
    return base(force, CODE, setting, 0.01)


@njit(
    "void(f4[:,::1], f4[::1], f4[::1], i8[::1], i8[::1], i8[::1], f8, b1, i4[::1], i4[::1])", parallel=True, cache=True
)
def _pairs(
    place: Floats, radius: Floats, share: Floats, order: Longs, starts: Longs, size: Longs, cell: float, filling: bool,
    ends: Ints, others: Ints,
) -> None:  # fmt: skip
    """Who may come to touch whom: their number into `ends` (n + 1,) from 1 on, or themselves into `others`, where it says."""
    for i in prange(place.shape[1]):
        if share[i] == 0:
            continue
        cells = np.empty(27, np.int64)
        x, y, z = float(place[0, i]), float(place[1, i]), float(place[2, i])
        runs = around(x, y, z, 1.0 / cell, size, starts, cells)
        stride = stride_over(starts, cells, runs, _MOST_LOOKED_AT)
        count, at = 0, i % stride
        for c in range(runs):
            for k in range(starts[cells[c]], starts[cells[c] + 1]):
                at += 1
                if at % stride != 0:
                    continue
                j = order[k]
                # A pair stands with the smaller of the two: few large ones are beside it, however many small ones are beside those.
                if radius[j] < radius[i] or (radius[j] == radius[i] and j <= i) or share[j] == 0 or count == _MOST_EACH:
                    continue
                dx, dy, dz = place[0, j] - x, place[1, j] - y, place[2, j] - z
                reach = radius[i] + radius[j] + _MARGIN * min(radius[i], radius[j])
                if dx * dx + dy * dy + dz * dz < reach * reach:
                    if filling:
                        others[ends[i] + count] = j
                    count += 1
        if not filling:
            ends[i + 1] = count


# A body as a row: place, how far it went since the part began, what of the moves drives it on; radius, inverse mass, share felt,
# how high and how calm it lies, and whether it is driven by older overlaps (1) or not (0).
_PLACE, _GONE, _KICK, _RADIUS, _LIGHT, _SHARE, _HEIGHT, _CALM, _DRIVEN, _BODY = 0, 3, 6, 9, 10, 11, 12, 13, 14, 15
_PAIR = "f4[:,::1], f8, i4[::1], i4[::1], f8, i8[::1]"


@leaf(f"void({_PAIR}, i8)", cache=True, fastmath={"contract"})
def _apart_in(
    bodies: Floats, older: float, ends: Ints, others: Ints, friction: float, starts: Longs, cell: int
) -> None:
    """Undo the overlaps of those in a cell with all that stand with them."""
    for i in range(starts[cell], starts[cell + 1]):
        a = bodies[i]
        for k in range(ends[i], ends[i + 1]):
            b = bodies[others[k]]
            dx, dy, dz = a[0] - b[0], a[1] - b[1], a[2] - b[2]
            reach = a[_RADIUS] + b[_RADIUS]
            d2 = dx * dx + dy * dy + dz * dz
            la, lb = a[_LIGHT], b[_LIGHT]
            if d2 >= reach * reach or la + lb == 0:
                continue
            calm = min(a[_CALM], b[_CALM])
            if calm > 0:
                # Of two who lie in a heap, the upper one is moved more: what weighs on them comes through in fewer rounds.
                lean = math.exp(min(_MOST_LEAN, max(-_MOST_LEAN, calm * (a[_HEIGHT] - b[_HEIGHT]))))
                la, lb = la * lean, lb / lean
            whole = la + lb
            d = math.sqrt(d2)
            over = reach - d
            if over <= 0:
                continue
            if d > 1e-6:
                dx, dy, dz = dx / d, dy / d, dz / d
            else:
                # In one place: apart by their numbers.
                turn = 2.399963 * (i + 1)
                dx, dy, dz = math.cos(turn), math.sin(turn), 0.0
            by = over * math.sqrt(a[_SHARE] * b[_SHARE]) / whole
            mx, my, mz = by * dx, by * dy, by * dz
            sx = (a[_GONE] + a[_KICK]) - (b[_GONE] + b[_KICK])
            sy = (a[_GONE + 1] + a[_KICK + 1]) - (b[_GONE + 1] + b[_KICK + 1])
            sz = (a[_GONE + 2] + a[_KICK + 2]) - (b[_GONE + 2] + b[_KICK + 2])
            along = sx * dx + sy * dy + sz * dz
            # Of an overlap, what they came nearer drives them; what is older drives them no faster than so.
            new = min(1.0, (max(0.0, -along) + older * min(a[_DRIVEN], b[_DRIVEN])) / over)
            kx, ky, kz = mx * new, my * new, mz * new
            if friction > 0:
                sx, sy, sz = sx - along * dx, sy - along * dy, sz - along * dz
                slid = math.sqrt(sx * sx + sy * sy + sz * sz)
                if slid > 1e-9:
                    held = min(1.0, friction * over / slid) / whole
                    mx, my, mz = mx - held * sx, my - held * sy, mz - held * sz
                    kx, ky, kz = kx - held * sx, ky - held * sy, kz - held * sz
            a[_KICK], a[_KICK + 1], a[_KICK + 2] = a[_KICK] + la * kx, a[_KICK + 1] + la * ky, a[_KICK + 2] + la * kz
            b[_KICK], b[_KICK + 1], b[_KICK + 2] = b[_KICK] - lb * kx, b[_KICK + 1] - lb * ky, b[_KICK + 2] - lb * kz
            a[0], a[1], a[2] = a[0] + la * mx, a[1] + la * my, a[2] + la * mz
            b[0], b[1], b[2] = b[0] - lb * mx, b[1] - lb * my, b[2] - lb * mz


@njit(f"void({_PAIR}, i8, i8)", parallel=True, cache=True)
def _apart_beside(
    bodies: Floats, older: float, ends: Ints, others: Ints, friction: float, starts: Longs, first: int, last: int
) -> None:
    for cell in prange(first, last):
        _apart_in(bodies, older, ends, others, friction, starts, cell)


@leaf(f"void({_PAIR}, i8)", cache=True)
def _apart_alone(
    bodies: Floats, older: float, ends: Ints, others: Ints, friction: float, starts: Longs, last: int
) -> None:
    for cell in range(last):
        _apart_in(bodies, older, ends, others, friction, starts, cell)


@njit("void(i8[::1], f4[:,::1], f4[:,::1], f4[:,::1])", parallel=True, cache=True)
def _lay_out(order: Longs, place: Floats, gone: Floats, bodies: Floats) -> None:
    for i in prange(len(order)):
        for c in range(3):
            bodies[i, _PLACE + c], bodies[i, _GONE + c], bodies[i, _KICK + c] = (
                place[c, order[i]],
                gone[c, order[i]],
                0.0,
            )


@njit("void(i8[::1], f4[:,::1], f4[:,::1], f4[:,::1])", parallel=True, cache=True)
def _take_up(order: Longs, bodies: Floats, place: Floats, kick: Floats) -> None:
    for i in prange(len(order)):
        for c in range(3):
            place[c, order[i]], kick[c, order[i]] = bodies[i, _PLACE + c], bodies[i, _KICK + c]


class _Contacts:
    """Who may come to touch whom in a step, among bodies that lie cell by cell, and those by colours: cells of one colour have no
    neighbour in common, so they are worked on beside each other; few are not worth it."""

    def __init__(self, place: Floats, radius: Floats, light: Floats, share: Floats, driven: Floats) -> None:
        cell = max(1e-3, 2 * float(radius[share > 0].max()) * (1 + _MARGIN))
        self.order, self.starts, self.colours = _coloured(place, cell)
        n = len(self.order)
        self._bodies = np.empty((n, _BODY), np.float32)
        own = [np.ascontiguousarray(a[self.order]) for a in (radius, light, share)]
        self._bodies[:, _RADIUS], self._bodies[:, _LIGHT], self._bodies[:, _SHARE] = own
        self._bodies[:, _HEIGHT:] = 0
        self._bodies[:, _DRIVEN] = driven[self.order]
        there = np.ascontiguousarray(place[:, self.order])
        grid = grid_of(there, cell)
        ends, none = np.zeros(n + 1, np.int32), np.zeros(1, np.int32)
        _pairs(there, own[0], own[2], grid.order, grid.starts, grid.size, grid.cell, False, ends, none)
        self._ends = np.cumsum(ends, dtype=np.int64).astype(np.int32)
        self._others = np.zeros(max(1, int(self._ends[-1])), np.int32)
        _pairs(there, own[0], own[2], grid.order, grid.starts, grid.size, grid.cell, True, self._ends, self._others)

    def lean(self, place: Floats, velocity: Floats, gain: Floats) -> None:
        """Say how high each lies in a heap, against what all of them take on in a step (3, n), and how calm it is: masses that fall
        with height carry a weight through in fewer rounds (Macklin et al. 2014, 5.2)."""
        weight = np.mean(gain[:, self.order], axis=1)
        size = float(np.linalg.norm(weight))
        if size < 1e-9:
            self._bodies[:, _HEIGHT : _CALM + 1] = 0
            return
        up, mean = -weight / size, float(np.mean(self._bodies[:, _RADIUS]))
        self._bodies[:, _HEIGHT] = _LEAN * (up @ place[:, self.order]) / max(mean, 1e-6)
        speed = np.linalg.norm(velocity[:, self.order], axis=0) / (_CALM_STEPS * size)
        self._bodies[:, _CALM] = 1 / (1 + speed**2) ** 2

    def undo(self, place: Floats, gone: Floats, older: float, friction: float) -> Floats:
        """Undo the overlaps of all pairs once, each after the one before it (Gauss and Seidel): moves places (3, n), and gives what
        of the moves drives them on, (3, n).

        gone: how far each went since the part began; older: of an overlap that was there before, so many px drive them.
        """
        kick = np.empty_like(place)
        _lay_out(self.order, place, gone, self._bodies)
        of: Any = (self._bodies, older, self._ends, self._others, friction, self.starts)
        if len(self.order) < _FEW:
            _apart_alone(*of, len(self.starts) - 1)  # type: ignore[call-arg]
        else:
            for first, last in pairwise(self.colours.tolist()):
                if last > first:
                    _apart_beside(*of, first, last)  # type: ignore[call-arg]
        _take_up(self.order, self._bodies, place, kick)
        return kick


def _coloured(place: Floats, cell: float) -> tuple[Longs, Longs, Longs]:
    """Particles by cells and those by colours: their order, the starts of cells in it, the first cell of each colour."""
    at = np.floor(place.astype(np.float64) / cell).astype(np.int64)
    colour = (at[0] % 3) + 3 * (at[1] % 3) + 9 * (at[2] % 3)
    order = np.lexsort((at[0], at[1], at[2], colour))
    sorted_at, sorted_colour = at[:, order], colour[order]
    new = np.ones(len(order), bool)
    new[1:] = (np.diff(sorted_at, axis=1) != 0).any(axis=0)
    starts = np.flatnonzero(new)
    colours = np.searchsorted(sorted_colour[starts], np.arange(28))
    return order, np.append(starts, len(order)), colours.astype(np.int64)


@njit(
    "void(f4[:,::1], f4[:,::1], f4[::1], f4[:,::1], f4[:,::1], f4[::1], f8, f8[:,:,::1], f8[:,::1], f4[:,:,::1], b1, i8, i8)",
    parallel=True,
    cache=True,
)
def _go(
    place: Floats, velocity: Floats, radius: Floats, gain: Floats, drift: Floats, fixed: Floats, h: float, rows: Doubles,
    paths: Doubles, mattes: Floats, solid: bool, first: int, last: int,
) -> None:  # fmt: skip
    """Let each go on for h seconds, swept against surfaces: they turn it round, and rub by what they turn round (Coulomb)."""
    for i in prange(first, last):
        if fixed[i] > 0:
            continue
        u, v, w = (
            float(velocity[0, i] + gain[0, i]),
            float(velocity[1, i] + gain[1, i]),
            float(velocity[2, i] + gain[2, i]),
        )
        x, y, z = float(place[0, i]), float(place[1, i]), float(place[2, i])
        dx, dy, dz = u * h + drift[0, i], v * h + drift[1, i], w * h + drift[2, i]
        left = h
        for _ in range(_SLIDES if solid else 1):
            free, which, nx, ny, nz = 1.0, -1, 0.0, 0.0, 0.0
            if solid:
                free, which, nx, ny, nz = contact.trace(
                    rows, 0, paths, mattes, False, x, y, z, dx, dy, dz, float(radius[i])
                )
            x, y, z = x + dx * free, y + dy * free, z + dz * free
            if which < 0:
                break
            into = u * nx + v * ny + w * nz
            left *= 1.0 - free
            if into < 0:
                e = (
                    rows[0, which, contact.RESTITUTION]
                    if int(rows[0, which, contact.OUTCOME]) == contact.BOUNCE
                    else 0.0
                )
                pressed = -(gain[0, i] * nx + gain[1, i] * ny + gain[2, i] * nz)
                # What presses no harder than its own weight lies still: else it would tremble for ever.
                if -into < 2.0 * max(0.0, pressed) + 1e-6:
                    e = 0.0
                e = min(max(e, 0.0), 1.0)
                tx, ty, tz = u - into * nx, v - into * ny, w - into * nz
                slide = math.sqrt(tx * tx + ty * ty + tz * tz)
                kept = (
                    max(0.0, 1.0 + rows[0, which, contact.FRICTION] * (1.0 + e) * into / slide)
                    if slide > 1e-12
                    else 0.0
                )
                u, v, w = tx * kept - e * into * nx, ty * kept - e * into * ny, tz * kept - e * into * nz
            dx, dy, dz = u * left, v * left, w * left
        place[0, i], place[1, i], place[2, i] = x, y, z
        velocity[0, i], velocity[1, i], velocity[2, i] = u, v, w


@njit("void(f4[:,::1], f4[::1], f4[:,::1], f8[:,:,::1], f8[:,::1], f4[:,:,::1], b1, i8, i8)", parallel=True, cache=True)
def _shift(
    place: Floats, radius: Floats, to: Floats, rows: Doubles, paths: Doubles, mattes: Floats, solid: bool, first: int,
    last: int,
) -> None:  # fmt: skip
    """Move to other places as surfaces let it, along them where they are in the way; no farther than a body is large."""
    for i in prange(first, last):
        x, y, z = float(place[0, i]), float(place[1, i]), float(place[2, i])
        dx, dy, dz = to[0, i] - x, to[1, i] - y, to[2, i] - z
        length, r = math.sqrt(dx * dx + dy * dy + dz * dz), float(radius[i])
        if length == 0:
            continue
        f = r / length if length > r else 1.0
        dx, dy, dz = dx * f, dy * f, dz * f
        if not solid:
            x, y, z = x + dx, y + dy, z + dz
        else:
            for _ in range(_SLIDES):
                free, which, nx, ny, nz = contact.trace(rows, 0, paths, mattes, False, x, y, z, dx, dy, dz, r)
                x, y, z = x + dx * free, y + dy * free, z + dz * free
                if which < 0:
                    break
                left = 1.0 - free
                into = min(0.0, dx * nx + dy * ny + dz * nz)
                dx, dy, dz = left * (dx - into * nx), left * (dy - into * ny), left * (dz - into * nz)
            d, which, nx, ny, nz = contact.closest(rows, 0, paths, mattes, x, y, z)
            if which >= 0 and d < r:
                x, y, z = x + nx * (r - d), y + ny * (r - d), z + nz * (r - d)
        place[0, i], place[1, i], place[2, i] = x, y, z


def _shifted(together: Together, place: Floats, radius: Floats, to: Floats) -> None:
    for part in together.parts:
        _shift(place, radius, to, *_surfaces(part))


def _surfaces(part: Part) -> tuple[Any, ...]:
    return part.rows, part.paths, part.mattes, part.solid, part.first, part.last


@guarded
def settle(force: Push, read: Read, together: Together, share: Floats) -> Bools:
    """Move places and velocities in `together`, so that bodies do not overlap; whom it has moved on, (n,)."""
    n = len(share)
    radius = together.radius * np.float32(read(force.girth) / 100)
    share = np.where(radius > 0, share, 0).astype(np.float32)
    if not share.any():
        return np.zeros(n, np.bool_)
    place = together.place
    light = np.where(together.fixed > 0, 0, 1 / together.mass).astype(np.float32)
    light[share == 0] = 0
    young = together.age < _SETTLING_S
    contacts = _Contacts(place, radius, light, share, (~young).astype(np.float32))
    friction, part_s = read(force.friction), together.h / force.rounds
    at, velocity = together.before.copy(), together.started.copy()
    for _ in range(_FIRST_ROUNDS):
        to = at.copy()
        contacts.undo(to, np.zeros_like(to), 0.0, 0.0)
        moved = np.abs(to - at).max(axis=0)
        if not (moved > np.where(young, _HARDLY, _SLIGHT) * radius).any():
            break
        _shifted(together, at, radius, to)
    # What the world does to them in the step, without what they touch: to velocities, and to places besides.
    gain = ((together.velocity - velocity) / force.rounds).astype(np.float32)
    beside = place - together.before - 0.5 * together.h * (velocity + together.velocity)
    drift = (beside / force.rounds).astype(np.float32)
    fixed = together.fixed
    contacts.lean(at, velocity, gain * np.float32(force.rounds))
    for _ in range(force.rounds):
        begun = at.copy()
        for part in together.parts:
            _go(at, velocity, radius, gain, drift, fixed, part_s, *_surfaces(part))
        to, gone = at.copy(), at.copy()
        kick = contacts.undo(to, gone - begun, _FASTEST_APART * part_s, friction)
        _shifted(together, at, radius, to)
        # Whom a surface holds is driven no farther.
        wanted = np.linalg.norm(to - gone, axis=0)
        share_s = np.minimum(1, np.linalg.norm(at - gone, axis=0) / np.maximum(wanted, 1e-9)) / part_s
        velocity += (kick * share_s).astype(np.float32)
    moves = np.asarray((fixed == 0) & (share > 0), np.bool_)
    place[:, moves], together.velocity[:, moves] = at[:, moves], velocity[:, moves]
    return moves
