"""Where particles were: while the shutter was open, and along the trail behind them. All from states of the motion."""

from __future__ import annotations

import math
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numba import f4, f8, i8, prange, void

from isbjorn.core.appearance.particles import ParticleSolver
from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.records import Records, records
from isbjorn.core.render.raster.blurred_discs import PIECES
from isbjorn.core.render.scene.camera import VIEW, Projection, pixel_of
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.time import lattice_index

_BLOCK = 512
_SAMPLES, _LONGEST_S = 28, 20.0


@dataclass(frozen=True)
class Ways:
    """ids (n,); places (n, m, 3) px; times (n, m) s of shot time, between each one's birth and death; births, deaths (n,) s."""

    ids: Longs
    places: Doubles
    times: Doubles
    births: Doubles
    deaths: Doubles


def ways(solver: ParticleSolver, number: int, moments: list[Fraction]) -> Ways:
    """Positions of all particles that lived at one of the moments (in order), each from its birth until its death.

    Between its birth and the first moment after it, and from the last before its death, it goes straight on.
    """
    seen = [solver.place(number, at) for at in moments]
    counts = [len(known) for known, *_ in seen]
    starts = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    ids = np.concatenate([known for known, *_ in seen]).astype(np.int64, copy=False)
    order = np.concatenate(
        [np.argsort(known, kind="stable") + first for (known, *_), first in zip(seen, starts, strict=False)]
    )
    # As states have them: all x behind each other, then all y.
    places, velocities = (
        np.ascontiguousarray(np.concatenate([s[k].T for s in seen], axis=1), np.float32) for k in (1, 2)
    )
    lives, born = (np.concatenate([s[k] for s in seen]).astype(np.float64) for k in (3, 4))
    m, most = len(moments), len(ids)
    merged_ids, births, deaths = np.empty(most, np.int64), np.empty(most), np.empty(most)
    out, times = np.empty((most, m, 3)), np.empty((most, m))
    t = np.array([float(at) for at in moments])
    n = _merge(ids, order, starts, places, velocities, lives, born, t, merged_ids, out, times, births, deaths)
    return Ways(merged_ids[:n], out[:n], times[:n], births[:n], deaths[:n])


@njit(
    "i8(i8[::1], i8[::1], i8[::1], f4[:,::1], f4[:,::1], f8[::1], f8[::1], f8[::1], i8[::1], f8[:,:,::1], f8[:,::1], f8[::1],"
    " f8[::1])",
    cache=True,
)
def _merge(
    ids: Longs, order: Longs, starts: Longs, places: Floats, velocities: Floats, lives: Doubles, born: Doubles, t: Doubles,
    merged_ids: Longs, out: Doubles, times: Doubles, births: Doubles, deaths: Doubles,
) -> int:  # fmt: skip
    """Merge the particles seen at each moment, each sorted by ids through `order`, to one row per particle; return their number."""
    m, n = len(t), 0
    at, row = starts[:-1].copy(), np.empty(m, np.int64)
    while True:
        least, any_left = np.int64(0), False
        for j in range(m):
            if at[j] < starts[j + 1] and (not any_left or ids[order[at[j]]] < least):
                least, any_left = ids[order[at[j]]], True
        if not any_left:
            return n
        first, last = -1, -1
        for j in range(m):
            row[j] = -1
            if at[j] < starts[j + 1] and ids[order[at[j]]] == least:
                row[j] = order[at[j]]
                at[j] += 1
                first, last = (j if first < 0 else first), j
        one, end = row[first], row[last]
        merged_ids[n], births[n], deaths[n] = least, born[one], born[one] + lives[one]
        left = max(0.0, deaths[n] - t[last]) if np.isfinite(deaths[n]) else 0.0
        for j in range(m):
            times[n, j] = min(max(t[j], births[n]), deaths[n])
            for c in range(3):
                if row[j] >= 0:
                    out[n, j, c] = places[c, row[j]]
                elif j < first:
                    out[n, j, c] = places[c, one] - velocities[c, one] * (t[first] - births[n])
                elif j > last:
                    out[n, j, c] = places[c, end] + velocities[c, end] * left
                else:
                    # Taken away before its time: it stays where it was last seen.
                    out[n, j, c] = places[c, end]
        n += 1


@inline_kernel(
    void(i8[::1], i8[::1], f8[:, :, ::1], f8[:, ::1], records(VIEW), f8, f4[:, :, ::1], f4[:, ::1]), parallel=True, cache=True,
    error_model="numpy",
)  # fmt: skip
def _seen(
    ids: Longs,
    merged_ids: Longs,
    places: Doubles,
    times: Doubles,
    views: Records,
    whole: float,
    out: Floats,
    shares: Floats,
) -> None:
    count, m = len(ids), len(views)
    for block in prange((count + _BLOCK - 1) // _BLOCK):
        row = 0
        for i in range(block * _BLOCK, min(count, (block + 1) * _BLOCK)):
            # Usually the next one; the joints of strands are not adjacent.
            row = min(row + 1, len(merged_ids) - 1)
            if merged_ids[row] != ids[i]:
                row = min(np.searchsorted(merged_ids, ids[i]), len(merged_ids) - 1)
            for k in range(m):
                at = k * PIECES // (m - 1)
                x, y, _ = pixel_of(views, k, places[row, k, 0], places[row, k, 1], places[row, k, 2])
                out[i, at, 0], out[i, at, 1] = x, y
            for k in range(m - 1):
                shares[i, k * PIECES // (m - 1)] = max(0.0, times[row, k + 1] - times[row, k]) / whole
            if m == PIECES // 2 + 1:
                # Each half is parted once more, so that a body that grows has its size in each part.
                for at in range(1, PIECES, 2):
                    out[i, at, 0] = 0.5 * (out[i, at - 1, 0] + out[i, at + 1, 0])
                    out[i, at, 1] = 0.5 * (out[i, at - 1, 1] + out[i, at + 1, 1])
                    shares[i, at - 1] *= 0.5
                    shares[i, at] = shares[i, at - 1]


@kernel_lock
def on_the_picture(way: Ways, ids: Longs, views: list[Projection], whole_s: float) -> tuple[Floats, Floats]:
    """Places on the picture, float32 (n, PIECES + 1, 2), of some of those on their ways, by ids (n,), at moments that are seen
    through projections, of which there are PIECES + 1 or half of the pieces and one; and the share of the time `whole_s` during
    which each is alive in each piece, float32 (n, PIECES)."""
    places, shares = np.empty((len(ids), PIECES + 1, 2), np.float32), np.empty((len(ids), PIECES), np.float32)
    if len(way.ids):
        packed = np.concatenate([view.packed.view(np.uint8) for view in views]).view(VIEW)
        _seen(np.ascontiguousarray(ids), way.ids, way.places, way.times, packed, whole_s, places, shares)
    return places, shares


def trail_moments(seconds: Fraction, length_s: float, hz: int) -> list[Fraction]:
    """Moments of a trail, the oldest first: on the lattice, always the same ones, with both ends."""
    start = seconds - Fraction(length_s).limit_denominator(10**6)
    stride = max(1, round(length_s * hz / _SAMPLES))
    first, last = lattice_index(start, hz) // stride + 1, lattice_index(seconds, hz) // stride
    inner = [Fraction(i * stride, hz) for i in range(first, last + 1)]
    return [start, *(at for at in inner if start < at < seconds), seconds]


def trail_seconds(by: str, length: float, rate: Fraction, speed: float, longest: float) -> float:
    """How far back a trail is looked at: exactly its frames, or long enough for its px at a third of the usual speed."""
    if by == "frames":
        return max(1e-3, min(length / float(rate), 600.0))
    found = 3 * length / max(speed, 1e-3)
    return max(1e-2, min(found, _LONGEST_S, longest if math.isfinite(longest) else _LONGEST_S))
