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
from isbjorn.core.simulate.forces import surface
from isbjorn.core.simulate.forces.row import Setting, base

CODE = 32
# What overlaps by more than slightly, of a radius, when a step begins is brought apart first; the newborn until they hardly do.
_FIRST_ROUNDS, _SLIGHT, _HARDLY, _MARGIN, _MOST_MARGIN = 40, 0.05, 0.005, 0.15, 0.6
_MOST_EACH, _SLIDES = 96, 3
# Small bodies beside one that is very large: so many are looked at.
_MOST_LOOKED_AT = 2048
# What overlapped before drives a pair apart no faster, in px/s.
_FASTEST_APART = 80.0
# Who is younger, in s, is not driven by what it was born into at all.
_SETTLING_S = 0.25
_FEW = 4000
# Of the way of a body that begins to fall: what it may move by in a step and still be held by friction.
_RESTING = 0.25
# In a heap, one a body higher up counts as so much lighter (a natural logarithm, to a most), if both are slower than so many steps
# of what presses them.
_LEAN, _CALM_STEPS, _MOST_LEAN = 0.25, 8.0, 1.8


def pack(force: Push, setting: Setting) -> Doubles:
    """Rows of a push."""
    return base(force, CODE, setting, 0.01)


@njit(
    "void(f4[:,::1], f4[::1], f4[::1], i8[::1], i8[::1], i8[::1], f8, f8, b1, i4[::1], i4[::1])",
    parallel=True,
    cache=True,
)
def _pairs(
    place: Floats, radius: Floats, share: Floats, order: Longs, starts: Longs, size: Longs, cell: float, margin: float,
    filling: bool, ends: Ints, others: Ints,
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
                reach = radius[i] + radius[j] + margin
                if dx * dx + dy * dy + dz * dz < reach * reach:
                    if filling:
                        others[ends[i] + count] = j
                    count += 1
        if not filling:
            ends[i + 1] = count


# A body as a row: place; how far it went by itself since the part began, and how far it was carried besides; what of the moves
# drives it on; radius, inverse mass, share felt, how high and how calm it lies, and whether older overlaps drive it (1) or not (0).
_PLACE, _GONE, _CARRIED, _KICK, _RADIUS, _LIGHT, _SHARE, _HEIGHT, _CALM, _DRIVEN, _BODY = (
    0,
    3,
    6,
    9,
    12,
    13,
    14,
    15,
    16,
    17,
    18,
)
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
                # Nearly the exponential function (Padé).
                half = 0.5 * min(_MOST_LEAN, max(-_MOST_LEAN, calm * (a[_HEIGHT] - b[_HEIGHT])))
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
                # In one place: apart by their numbers.
                turn = 2.399963 * (i + 1)
                dx, dy, dz = math.cos(turn), math.sin(turn), 0.0
            by = over * math.sqrt(a[_SHARE] * b[_SHARE]) / whole
            mx, my, mz = by * dx, by * dy, by * dz
            sx = (a[_GONE] + a[_KICK]) - (b[_GONE] + b[_KICK])
            sy = (a[_GONE + 1] + a[_KICK + 1]) - (b[_GONE + 1] + b[_KICK + 1])
            sz = (a[_GONE + 2] + a[_KICK + 2]) - (b[_GONE + 2] + b[_KICK + 2])
            cx, cy, cz = a[_CARRIED] - b[_CARRIED], a[_CARRIED + 1] - b[_CARRIED + 1], a[_CARRIED + 2] - b[_CARRIED + 2]
            along, by_carrying = sx * dx + sy * dy + sz * dz, cx * dx + cy * dy + cz * dz
            # Of an overlap, what they came nearer by themselves drives them; what is older drives them no faster than so; and what
            # they were carried does not.
            came = max(0.0, -along)
            rest = max(0.0, over - came - max(0.0, -by_carrying))
            new = min(1.0, (came + min(rest, older * min(a[_DRIVEN], b[_DRIVEN]))) / over)
            kx, ky, kz = mx * new, my * new, mz * new
            if friction > 0:
                sx, sy, sz = sx - along * dx, sy - along * dy, sz - along * dz
                cx, cy, cz = cx - by_carrying * dx, cy - by_carrying * dy, cz - by_carrying * dz
                slid = math.sqrt((sx + cx) ** 2 + (sy + cy) ** 2 + (sz + cz) ** 2)
                if slid > 1e-9:
                    held = min(1.0, friction * over / slid) / whole
                    mx, my, mz = mx - held * (sx + cx), my - held * (sy + cy), mz - held * (sz + cz)
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


@leaf("f8(f4[:,::1], f4[:,::1])", cache=True)
def _farthest(place: Floats, before: Floats) -> float:
    """How far one moved, px, more than all did on average."""
    n, far = place.shape[1], 0.0
    mx, my, mz = 0.0, 0.0, 0.0
    for i in range(n):
        mx, my, mz = (
            mx + (place[0, i] - before[0, i]),
            my + (place[1, i] - before[1, i]),
            mz + (place[2, i] - before[2, i]),
        )
    mx, my, mz = mx / n, my / n, mz / n
    for i in range(n):
        dx, dy, dz = place[0, i] - before[0, i] - mx, place[1, i] - before[1, i] - my, place[2, i] - before[2, i] - mz
        far = max(far, dx * dx + dy * dy + dz * dz)
    return math.sqrt(far)


class _Contacts:
    """The pairs that may come to touch in a part of a step, among bodies that lie cell by cell, and those by colours: cells of one
    colour have no neighbour in common, so they are worked on in parallel; few are not worth it.

    radius px, light (inverse masses), share, driven (n,): see `_BODY`; speed: how fast one moves among the others, px in a step.
    """

    def __init__(self, radius: Floats, light: Floats, share: Floats, driven: Floats, speed_px: float) -> None:
        self._own = (radius, light, share, driven)
        some = radius[share > 0]
        usual = float(some.mean())
        # The faster they move, the more pairs are looked for, so that they need not be looked for again so soon.
        self._margin = min(max(speed_px, _MARGIN * usual), _MOST_MARGIN * usual)
        self._cell = max(1e-3, 2 * float(some.max()) + self._margin)

    def find(self, place: Floats) -> None:
        """Find the pairs among places (3, n)."""
        self._place = place.copy()
        self.order, self.starts, self.colours = _coloured(place, self._cell)
        n = len(self.order)
        # Where the row of each body is.
        self.rows = np.empty(n, np.int64)
        self.rows[self.order] = np.arange(n)
        self.bodies = np.zeros((n, _BODY), np.float32)
        radius, light, share, driven = (np.ascontiguousarray(a[self.order]) for a in self._own)
        self.bodies[:, _RADIUS], self.bodies[:, _LIGHT], self.bodies[:, _SHARE] = radius, light, share
        self.bodies[:, _DRIVEN] = driven
        there = np.ascontiguousarray(place[:, self.order])
        grid = grid_of(there, self._cell)
        ends, none = np.zeros(n + 1, np.int32), np.zeros(1, np.int32)
        among: Any = (there, radius, share, grid.order, grid.starts, grid.size, grid.cell, self._margin)
        _pairs(*among, False, ends, none)  # type: ignore[call-arg]
        self._ends = np.cumsum(ends, dtype=np.int64).astype(np.int32)
        self._others = np.zeros(max(1, int(self._ends[-1])), np.int32)
        _pairs(*among, True, self._ends, self._others)  # type: ignore[call-arg]

    def is_outdated(self, place: Floats) -> bool:
        """Whether some have moved among the others by so much that others than the known pairs may touch."""
        return _farthest(place, self._place) > 0.5 * self._margin

    def lean(self, place: Floats, velocity: Floats, gain: Floats) -> None:
        """Say how high each lies in a heap, against what all of them take on in a step (3, n), and how calm it is: masses that fall
        with height carry a weight through in fewer rounds (Macklin et al. 2014, 5.2)."""
        weight = np.mean(gain[:, self.order], axis=1)
        size = float(np.linalg.norm(weight))
        if size < 1e-9:
            self.bodies[:, _HEIGHT : _CALM + 1] = 0
            return
        up, mean = -weight / size, float(np.mean(self.bodies[:, _RADIUS]))
        self.bodies[:, _HEIGHT] = _LEAN * (up @ place[:, self.order]) / max(mean, 1e-6)
        speed = np.linalg.norm(velocity[:, self.order], axis=0) / (_CALM_STEPS * size)
        self.bodies[:, _CALM] = 1 / (1 + speed**2) ** 2

    def undo(self, older: float, friction: float) -> None:
        """Undo the overlaps of all pairs once, each after the one before it (Gauss and Seidel), in the rows of bodies.

        older: of an overlap that was there before, so many px drive them.
        """
        of: Any = (self.bodies, older, self._ends, self._others, friction, self.starts)
        if len(self.order) < _FEW:
            _apart_alone(*of, len(self.starts) - 1)  # type: ignore[call-arg]
        else:
            for first, last in pairwise(self.colours.tolist()):
                if last > first:
                    _apart_beside(*of, first, last)  # type: ignore[call-arg]


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
    "void(f4[:,::1], f4[:,::1], f4[::1], f4[:,::1], f4[:,::1], f4[::1], f8, f4[:,::1], i8[::1], f8[:,:,::1], f8[:,::1], "
    "f4[:,:,::1], b1, i8, i8)",
    parallel=True,
    cache=True,
)
def _go(
    place: Floats, velocity: Floats, radius: Floats, gain: Floats, drift: Floats, fixed: Floats, h: float, bodies: Floats,
    at: Longs, rows: Doubles, paths: Doubles, mattes: Floats, solid: bool, first: int, last: int,
) -> None:  # fmt: skip
    """Let each go on for h seconds, swept against surfaces: they turn it round, and rub by what they turn round (Coulomb). Where it
    comes to, and how, is written into the rows `at` of bodies. drift: how far each is carried besides, px (3, n)."""
    for i in prange(first, last):
        body = bodies[at[i]]
        for c in range(3):
            body[_PLACE + c], body[_GONE + c], body[_CARRIED + c], body[_KICK + c] = place[c, i], 0.0, 0.0, 0.0
        if fixed[i] > 0 or h == 0:
            continue
        u, v, w = (
            float(velocity[0, i] + gain[0, i]),
            float(velocity[1, i] + gain[1, i]),
            float(velocity[2, i] + gain[2, i]),
        )
        x, y, z = float(place[0, i]), float(place[1, i]), float(place[2, i])
        cx, cy, cz = drift[0, i] / h, drift[1, i] / h, drift[2, i] / h
        # What it gains, it gains evenly.
        dx, dy, dz = (u - 0.5 * gain[0, i] + cx) * h, (v - 0.5 * gain[1, i] + cy) * h, (w - 0.5 * gain[2, i] + cz) * h
        left, r = h, float(radius[i])
        bx, by, bz = 0.0, 0.0, 0.0
        past, px, py, pz = -1, 0.0, 0.0, 0.0
        for _ in range(_SLIDES if solid else 1):
            free, which, nx, ny, nz = 1.0, -1, 0.0, 0.0, 0.0
            if solid:
                free, which, nx, ny, nz = contact.trace(rows, 0, paths, mattes, False, x, y, z, dx, dy, dz, r, past)
            x, y, z = x + dx * free, y + dy * free, z + dz * free
            went = left * free
            bx, by, bz = bx + cx * went, by + cy * went, bz + cz * went
            if which < 0:
                break
            if contact.hollow(rows, 0, which, r) > 0:
                # It slides along the hollow, and is laid onto it in the end.
                past, px, py, pz = which, nx, ny, nz
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
            toward = (u + cx) * nx + (v + cy) * ny + (w + cz) * nz
            if toward < 0:
                # What carries it into the surface is stopped by it.
                cx, cy, cz = cx - toward * nx, cy - toward * ny, cz - toward * nz
            dx, dy, dz = (u + cx) * left, (v + cy) * left, (w + cz) * left
        if past >= 0:
            d, nx, ny, nz = surface.distance(rows, 0, past, paths, mattes, x, y, z)
            if d < r:
                x, y, z = x + nx * (r - d), y + ny * (r - d), z + nz * (r - d)
                out = u * px + v * py + w * pz
                u, v, w = u - out * px, v - out * py, w - out * pz
                u, v, w = contact.turned_with(u, v, w, px, py, pz, nx, ny, nz)
        body[_CARRIED], body[_CARRIED + 1], body[_CARRIED + 2] = bx, by, bz
        body[_GONE], body[_GONE + 1], body[_GONE + 2] = x - place[0, i] - bx, y - place[1, i] - by, z - place[2, i] - bz
        body[_PLACE], body[_PLACE + 1], body[_PLACE + 2] = x, y, z
        place[0, i], place[1, i], place[2, i] = x, y, z
        velocity[0, i], velocity[1, i], velocity[2, i] = u, v, w


@njit(
    "void(f4[:,::1], f4[:,::1], f4[::1], f8, f4[:,::1], i8[::1], f8[:,:,::1], f8[:,::1], f4[:,:,::1], b1, i8, i8)",
    parallel=True,
    cache=True,
)
def _shift(
    place: Floats, velocity: Floats, radius: Floats, h: float, bodies: Floats, at: Longs, rows: Doubles, paths: Doubles,
    mattes: Floats, solid: bool, first: int, last: int,
) -> None:  # fmt: skip
    """Move to the places in the rows `at` of bodies as surfaces let it, along them where they are in the way; no farther than a
    body is large. What of it drives them on in a part of h seconds (0: nothing) changes their velocities, as far as they got."""
    for i in prange(first, last):
        body = bodies[at[i]]
        x, y, z = float(place[0, i]), float(place[1, i]), float(place[2, i])
        dx, dy, dz = body[_PLACE] - x, body[_PLACE + 1] - y, body[_PLACE + 2] - z
        length, r = math.sqrt(dx * dx + dy * dy + dz * dz), float(radius[i])
        if length == 0:
            continue
        f = r / length if length > r else 1.0
        dx, dy, dz = dx * f, dy * f, dz * f
        if not solid:
            x, y, z = x + dx, y + dy, z + dz
        else:
            past = -1
            for _ in range(_SLIDES):
                free, which, nx, ny, nz = contact.trace(rows, 0, paths, mattes, False, x, y, z, dx, dy, dz, r, past)
                x, y, z = x + dx * free, y + dy * free, z + dz * free
                if which < 0:
                    break
                past = which if contact.hollow(rows, 0, which, r) > 0 else past
                left = 1.0 - free
                into = min(0.0, dx * nx + dy * ny + dz * nz)
                dx, dy, dz = left * (dx - into * nx), left * (dy - into * ny), left * (dz - into * nz)
            d, which, nx, ny, nz = contact.closest(rows, 0, paths, mattes, x, y, z)
            if which >= 0 and d < r:
                x, y, z = x + nx * (r - d), y + ny * (r - d), z + nz * (r - d)
        if h > 0:
            # What a surface holds is driven no farther.
            got = math.sqrt((x - place[0, i]) ** 2 + (y - place[1, i]) ** 2 + (z - place[2, i]) ** 2)
            share = min(1.0, got / length) / h
            for c in range(3):
                velocity[c, i] += body[_KICK + c] * share
        place[0, i], place[1, i], place[2, i] = x, y, z


def _surfaces(part: Part) -> tuple[Any, ...]:
    return part.rows, part.paths, part.mattes, part.solid, part.first, part.last


class _Bodies:
    """Bodies in a step: places at px, velocities px/s (3, n), radii px (n,), who does not move (n,), and the pairs among them."""

    def __init__(
        self, together: Together, at: Floats, velocity: Floats, radius: Floats, contacts: _Contacts
    ) -> None:  # fmt: skip
        self.together, self.at, self.velocity, self.radius, self.contacts = together, at, velocity, radius, contacts
        self._none = np.zeros_like(at)

    def go(self, gain: Floats, drift: Floats, h: float) -> None:
        """Let each go on by itself for h seconds, with what it gains in velocity and is carried by (3, n)."""
        for part in self.together.parts:
            _go(
                self.at, self.velocity, self.radius, gain, drift, self.together.fixed, h, self.contacts.bodies,
                self.contacts.rows, *_surfaces(part),
            )  # fmt: skip

    def shift(self, h: float) -> None:
        """Bring each to where the pairs have moved it."""
        for part in self.together.parts:
            _shift(
                self.at, self.velocity, self.radius, h, self.contacts.bodies, self.contacts.rows, *_surfaces(part)
            )  # fmt: skip

    def part(self, apart_px: Floats) -> None:
        """Move places apart until no overlap is undone by more than so many px (n,); velocities stay."""
        for _ in range(_FIRST_ROUNDS):
            self.go(self._none, self._none, 0.0)
            self.contacts.undo(0.0, 0.0)
            if not _any_farther(self.contacts.bodies, self.contacts.order, self.at, apart_px):
                break
            self.shift(0.0)


@leaf("b1(f4[:,::1], i8[::1], f4[:,::1], f4[::1])", cache=True)
def _any_farther(bodies: Floats, order: Longs, place: Floats, px: Floats) -> bool:
    """Whether any body was moved from its place by more than so many px along an axis."""
    for n in range(len(order)):
        i = order[n]
        for c in range(3):
            if abs(bodies[n, _PLACE + c] - place[c, i]) > px[i]:
                return True
    return False


@guarded
def settle(force: Push, read: Read, together: Together, share: Floats) -> Bools:
    """Move places and velocities in `together`, so that bodies do not overlap; which of them it has moved on, (n,)."""
    n = len(share)
    radius = together.radius * np.float32(read(force.girth) / 100)
    share = np.where(radius > 0, share, 0).astype(np.float32)
    if not share.any():
        return np.zeros(n, np.bool_)
    place, fixed = together.place, together.fixed
    light = np.where(fixed > 0, 0, 1 / together.mass).astype(np.float32)
    light[share == 0] = 0
    young = together.age < _SETTLING_S
    friction, part_s = read(force.friction), together.h / force.rounds
    at, velocity = together.before.copy(), together.started.copy()
    # What the world does to them in the step, without what they touch: to velocities, and to places besides.
    gain = ((together.velocity - velocity) / force.rounds).astype(np.float32)
    drift = ((place - at - 0.5 * together.h * (velocity + together.velocity)) / force.rounds).astype(np.float32)
    contacts = _Contacts(radius, light, share, (~young).astype(np.float32), _farthest(place, at))
    bodies = _Bodies(together, at, velocity, radius, contacts)
    contacts.find(at)
    apart_px = (np.where(young, _HARDLY, _SLIGHT) * radius).astype(np.float32)
    bodies.part(apart_px)
    contacts.lean(at, velocity, gain * np.float32(force.rounds))
    for _ in range(force.rounds):
        if contacts.is_outdated(at):
            contacts.find(at)
            contacts.lean(at, velocity, gain * np.float32(force.rounds))
        bodies.go(gain, drift, part_s)
        contacts.undo(_FASTEST_APART * part_s, friction)
        bodies.shift(part_s)
    if contacts.is_outdated(at):
        contacts.find(at)
    bodies.part(apart_px)
    # What friction holds lies still: it moved by less in the step than its weight alone would have moved it.
    still_px = min(_RESTING, friction) * np.linalg.norm(gain, axis=0) * force.rounds * together.h
    rests = (np.linalg.norm(at - together.before, axis=0) < still_px) & ~young
    at[:, rests], velocity[:, rests] = together.before[:, rests], 0
    moves = np.asarray((fixed == 0) & (share > 0), np.bool_)
    place[:, moves], together.velocity[:, moves] = at[:, moves], velocity[:, moves]
    return moves
