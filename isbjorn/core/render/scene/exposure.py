"""How particles change while the shutter is open: which exist, how far each turns, and how it grows."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from isbjorn.core.appearance.particles import Particles, Shapes
from isbjorn.core.arrays import Bools, Doubles, Floats, Longs
from isbjorn.core.document import Number
from isbjorn.core.emit.newborn import share_of_life
from isbjorn.core.jit import inline_kernel
from isbjorn.core.random import SIZE
from isbjorn.core.render.raster.blurred_discs import PIECES

# A body whose size changes by less than this share while the shutter is open changes linearly enough.
_EVEN = 0.03
# For bodies that turn or grow: the number of moments at which their sizes are sampled.
KNOTS = 25


@dataclass(frozen=True)
class ExposureChange:
    """How particles (n,) change while the shutter is open: turned in degrees; sizes at its opening, middle and close, px (n, 3),
    and which of them are known (n, 3), because the particle is alive then; and those three moments, s."""

    turned: Floats
    sizes: Floats
    there: Bools
    moments: tuple[float, float, float]

    def where(self, which: Bools) -> ExposureChange:
        """Some of them, by a mask (n,)."""
        return ExposureChange(self.turned[which], self.sizes[which], self.there[which], self.moments)


def change_of(
    every: Particles, first: Shapes, middle: Particles, last: Shapes, moments: tuple[float, float, float]
) -> ExposureChange:
    """The change of particles from the first to the last of three moments; those that live in one half only are extrapolated."""
    n = len(every)
    angles, sizes = (np.repeat(a[:, None], 3, axis=1) for a in (every.angle, every.size))
    there = np.zeros((n, 3), np.bool_)
    parts: tuple[Shapes | Particles, ...] = (first, middle, last)
    for column, part in enumerate(parts):
        order = np.argsort(part.id, kind="stable")
        _found_again(every.id, part.id, order, part.angle, part.size, column, angles, sizes, there)
    turned = angles[:, 2] - angles[:, 0]
    one_half = there[:, 1] & (there[:, 0] ^ there[:, 2])
    return ExposureChange(np.where(one_half, 2 * turned, turned).astype(np.float32), sizes, there, moments)


@dataclass(frozen=True)
class Growth:
    """Sizes of particles (n,) while the shutter is open, and the part of that time in which each is alive.

    change: of the particles; size: at which each is drawn, px; lived (n, 2): from when to when, s; number, key, births: the
    emitter's size, the key of its draws, and births by their number; born (n,), lives (n,) s.
    """

    change: ExposureChange
    size: Floats
    lived: Doubles
    number: Number
    key: int
    births: Longs
    born: Doubles
    lives: Doubles

    def at(self, times: Doubles) -> Doubles:
        """Sizes in px at moments (n, m): linear between the three known ones; where a particle is born or dies meanwhile, or
        changes by much, from its curve over life."""
        known = self.change.sizes.astype(np.float64)
        opens, _, closes = self.change.moments
        share = np.clip((times - opens) / max(closes - opens, 1e-12), 0, 1)
        half = np.minimum(share, 1 - share) * 2
        side = np.where(share < 0.5, known[:, :1], known[:, 2:])
        found: Doubles = side + half * (known[:, 1:2] - side)
        least, most = known.min(axis=1), known.max(axis=1)
        curved = np.flatnonzero(~self.change.there.all(axis=1) | (most - least > _EVEN * most))
        if len(curved) and self.number.over_life is not None:
            there, sizes = self.change.there[curved], known[curved]
            shares = np.where(there, self._shares(curved, np.broadcast_to(self.change.moments, sizes.shape)), 0)
            # What the curve multiplies, where that is known.
            known_by = np.asarray(shares > 1e-3, np.bool_)
            count = known_by.sum(axis=1)
            base = np.where(known_by, sizes / np.where(known_by, shares, 1), 0).sum(axis=1) / np.maximum(count, 1)
            exact = base[:, None] * self._shares(curved, times[curved])
            found[curved] = np.where((count > 0)[:, None], exact, found[curved])
        return found

    def _shares(self, some: Longs, times: Doubles) -> Doubles:
        """What the curve over life multiplies sizes by at moments (k, m) of some of them (k,)."""
        age01 = np.clip((times - self.born[some, None]) / self.lives[some, None], 0, 1)
        columns = [share_of_life(self.number, self.key, self.births[some], SIZE, age) for age in age01.T]
        return np.stack(columns, axis=1)

    def in_pieces(self) -> tuple[Floats, Floats]:
        """The size in each piece of the time, of the mean light in it, as a share of the one that is drawn; and by how much its
        square differs from that at either end of the piece, as a share of it; (n, PIECES)."""
        opens, _, closes = self.change.moments
        ends = np.linspace(opens, closes, PIECES + 1)
        at = np.clip(ends[None], self.lived[:, :1], self.lived[:, 1:])
        sizes = self.at(np.concatenate([at, 0.5 * (at[:, 1:] + at[:, :-1])], axis=1)) ** 2
        begin, end, middle = sizes[:, :PIECES], sizes[:, 1 : PIECES + 1], sizes[:, PIECES + 1 :]
        mean = (begin + 4 * middle + end) / 6
        spread = 0.5 * np.abs(end - begin) / np.maximum(mean, 1e-12)
        own = np.maximum(self.size.astype(np.float64), 1e-6)[:, None]
        return (np.sqrt(mean) / own).astype(np.float32), spread.astype(np.float32)

    def in_knots(self) -> Doubles:
        """Sizes as shares of the drawn one at `KNOTS` moments, even over the time that each is alive, (n, KNOTS)."""
        share = np.linspace(0, 1, KNOTS)
        times = self.lived[:, :1] + share * (self.lived[:, 1:] - self.lived[:, :1])
        return np.asarray(self.at(times) / np.maximum(self.size.astype(np.float64), 1e-6)[:, None])


@inline_kernel("void(i8[::1], i8[::1], i8[::1], f4[::1], f4[::1], i8, f4[:,::1], f4[:,::1], b1[:,::1])", cache=True)
def _found_again(
    every: Longs, ids: Longs, order: Longs, angle: Floats, size: Floats, column: int, angles: Floats, sizes: Floats,
    there: npt.NDArray[np.bool_],
) -> None:  # fmt: skip
    """Write angles and sizes of a moment for every particle that existed then; `every` is sorted, and `ids` through `order`."""
    j = 0
    for i in range(len(every)):
        while j < len(order) and ids[order[j]] < every[i]:
            j += 1
        if j < len(order) and ids[order[j]] == every[i]:
            there[i, column] = True
            angles[i, column], sizes[i, column] = angle[order[j]], size[order[j]]


@inline_kernel("void(i8[::1], i8[::1], b1[::1])", cache=True)
def _among(known: Longs, ids: Longs, out: Bools) -> None:
    """Which of ids are among those that are known: mostly each is the one that follows the one before."""
    at, count = 0, len(known)
    for i in range(len(ids)):
        if at >= count or known[at] != ids[i]:
            at = np.searchsorted(known, ids[i])
        out[i] = at < count and known[at] == ids[i]
        at += out[i]


def is_among(known: Longs, ids: Longs) -> Bools:
    """Which of ids (n,) are among those that are known, which are sorted."""
    out = np.empty(len(ids), np.bool_)
    _among(np.ascontiguousarray(known), np.ascontiguousarray(ids), out)
    return out


def by_id(parts: list[Particles]) -> Particles:
    """The particles of some parts, none of them in two, in the order of their ids."""
    order = np.argsort(np.concatenate([p.id for p in parts]), kind="stable")
    # They come in the order of their births, which is mostly that of their ids.
    plain = bool((order[1:] > order[:-1]).all())
    arrays = {}
    for name in Particles.names():
        joined = parts[0][name] if len(parts) == 1 else np.concatenate([p[name] for p in parts])
        arrays[name] = joined if plain else joined[order]
    return Particles(**arrays, refused={})  # type: ignore[arg-type]
