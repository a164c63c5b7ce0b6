"""Where particles were: while the shutter was open, and along the trail behind them. All from states of the motion."""

from __future__ import annotations

import math
from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from isbjorn.core.appearance.particles import Solver
from isbjorn.core.arrays import Doubles, Longs
from isbjorn.core.time import lattice_index

_SAMPLES, _LONGEST_S = 28, 20.0


@dataclass(frozen=True)
class Ways:
    """ids (n,); places (n, m, 3) px; times (n, m) s of shot time, between each one's birth and death; births, deaths (n,) s."""

    ids: Longs
    places: Doubles
    times: Doubles
    births: Doubles
    deaths: Doubles


def ways(solver: Solver, number: int, moments: list[Fraction]) -> Ways:
    """Where everyone was who lived at one of the moments (in order), each until its death and from its birth.

    Between its birth and the first moment after it, and from the last before its death, it goes straight on.
    """
    seen = [solver.place(number, at) for at in moments]
    ids, first = np.unique(np.concatenate([s[0] for s in seen]), return_index=True)
    lives = np.concatenate([s[3] for s in seen])[first].astype(np.float64)
    births = np.concatenate([s[4] for s in seen])[first]
    deaths = births + lives
    n, m = len(ids), len(moments)
    places, velocities = np.full((n, m, 3), np.nan), np.zeros((n, m, 3))
    here = np.zeros((n, m), bool)
    for j, (known, place, velocity, _, _) in enumerate(seen):
        at = np.searchsorted(ids, known)
        places[at, j], velocities[at, j], here[at, j] = place, velocity, True
    t = np.array([float(at) for at in moments])
    times = np.clip(t[None], births[:, None], deaths[:, None])
    rows = np.arange(n)
    start, end = here.argmax(axis=1), m - 1 - here[:, ::-1].argmax(axis=1)
    born = places[rows, start] - velocities[rows, start] * (t[start] - births)[:, None]
    with np.errstate(invalid="ignore"):
        left = np.where(np.isfinite(deaths), deaths - t[end], 0.0)
    died = places[rows, end] + velocities[rows, end] * np.maximum(left, 0)[:, None]
    column = np.arange(m)[None]
    places = np.where((column < start[:, None])[..., None], born[:, None], places)
    places = np.where((column > end[:, None])[..., None], died[:, None], places)
    # Taken away before its time: it stays where it was last seen.
    gone = np.isnan(places)
    if gone.any():
        places = np.where(gone, places[rows, end][:, None], places)
    return Ways(ids, places, times, births, deaths)


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
