"""How particles change while the shutter is open: who is there, how far each turns, and how it grows."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from isbjorn.core.appearance.particles import Particles, Shapes
from isbjorn.core.arrays import Bools, Doubles, Floats, Longs
from isbjorn.core.jit import leaf
from isbjorn.core.render.blurred_discs import PIECES


@dataclass(frozen=True)
class Change:
    """How particles (n,) change while the shutter is open: turned in degrees, and sizes at its opening, middle and close."""

    turned: Floats
    sizes: Floats


def change_of(every: Particles, first: Shapes, middle: Particles, last: Shapes) -> Change:
    """What becomes of particles from the first to the last of three moments; who lives in one half only is taken on evenly."""
    n = len(every)
    angles, sizes = (np.repeat(a[:, None], 3, axis=1) for a in (every.angle, every.size))
    there = np.zeros((n, 3), np.bool_)
    moments: tuple[Shapes | Particles, ...] = (first, middle, last)
    for column, part in enumerate(moments):
        order = np.argsort(part.id, kind="stable")
        _found_again(every.id, part.id, order, part.angle, part.size, column, angles, sizes, there)
    turned = angles[:, 2] - angles[:, 0]
    one_half = there[:, 1] & (there[:, 0] ^ there[:, 2])
    return Change(np.where(one_half, 2 * turned, turned).astype(np.float32), sizes)


@leaf("void(i8[::1], i8[::1], i8[::1], f4[::1], f4[::1], i8, f4[:,::1], f4[:,::1], b1[:,::1])", cache=True)
def _found_again(
    every: Longs, ids: Longs, order: Longs, angle: Floats, size: Floats, column: int, angles: Floats, sizes: Floats,
    there: npt.NDArray[np.bool_],
) -> None:  # fmt: skip
    """Put angles and sizes of a moment beside everyone who was there; `every` is sorted, and `ids` through `order`."""
    j = 0
    for i in range(len(every)):
        while j < len(order) and ids[order[j]] < every[i]:
            j += 1
        if j < len(order) and ids[order[j]] == every[i]:
            there[i, column] = True
            angles[i, column], sizes[i, column] = angle[order[j]], size[order[j]]


@leaf("void(i8[::1], i8[::1], b1[::1])", cache=True)
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


def growth(change: Change | None, p: Particles) -> Doubles | None:
    """By how much each grows while the shutter is open, as a share of the size that it is drawn with."""
    if change is None:
        return None
    return np.asarray((change.sizes[:, 2] - change.sizes[:, 0]) / np.maximum(p.size, 1e-6), np.float64)


@leaf("void(f4[:,::1], f4[::1], f4[:,::1])", cache=True, error_model="numpy")
def _sizes_in(sizes: Floats, drawn: Floats, out: Floats) -> None:
    for i in range(len(drawn)):
        per = np.float32(1) / max(drawn[i], np.float32(1e-6))
        for k in range(PIECES):
            # Straight from its opening to its middle, and from there to its close.
            at = np.float32(2 * (k + 0.5) / PIECES)
            side, share = (sizes[i, 0], np.float32(1) - at) if at < 1 else (sizes[i, 2], at - np.float32(1))
            out[i, k] = (sizes[i, 1] + share * (side - sizes[i, 1])) * per


def sizes_in(change: Change | None, p: Particles) -> Floats | None:
    """The size in each of the four pieces of the time, as a share of the one that it is drawn with, (n, 4)."""
    if change is None:
        return None
    out = np.empty((len(p), PIECES), np.float32)
    _sizes_in(change.sizes, p.size, out)
    return out
