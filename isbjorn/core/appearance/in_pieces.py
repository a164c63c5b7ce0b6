"""What pieces look like: as large as they were cut, turned as the whole is where they leave and arrive; and those that stand."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from isbjorn.core.arrays import Bools, Doubles, Floats, Longs
from isbjorn.core.emit.births import NOW_S
from isbjorn.core.emit.newborn import share_of_life
from isbjorn.core.emit.pieces.cut import PieceCut
from isbjorn.core.emit.pieces.flights import ARRIVING, Flights, PieceSource
from isbjorn.core.random import FRONT_ORDER, SIZE, draws01
from isbjorn.core.simulate.state import State
from isbjorn.core.simulate.state_layout import LIFE, ROWS

# Swings per second of a piece that trembles.
_TREMBLES_HZ = 11.0


def sizes_of(source: PieceSource, state: State, age01: Floats) -> Floats | None:
    """Sizes of flying pieces in px, float32 (n,): as they were cut, times the curve over life; None of points."""
    f, e = source.flights, source.emitter
    if f.cut.sheet is None:
        return None
    rows = f.rows(state.births)
    size = f.cut.sizes[f.piece[rows]]
    if f.arrived is not f.cut:
        size = size ** (1.0 - age01) * f.arrived.sizes[f.place[rows]] ** age01
    grown = source.readings.frames(e, state.moments).size
    life = share_of_life(e.size, source.key, state.births, SIZE, seen_age(source, state.births, age01))
    return np.asarray(size * grown * np.maximum(life, 0), np.float32)


def seen_age(source: PieceSource, births: Longs, age01: Floats) -> Floats:
    """The age in [0, 1] by which flying pieces look, float32 (n,), of their own age (n,): mirrored, it is 0 at every place of the
    whole, at the beginning and at the end of a way."""
    f, pieces = source.flights, source.emitter.pieces
    if pieces is None or not pieces.mirrored or len(births) == 0:
        return age01
    rows = f.rows(births)
    back = np.where(f.leaves[rows], 2 * np.minimum(age01, 1 - age01), 1 - age01)
    return np.where(f.place[rows] >= 0, back, age01).astype(np.float32)


def finite(lives: Floats) -> Doubles:
    """Lifespans (n,) in s, 0 where they are without end."""
    return np.where(np.isfinite(lives), lives, 0).astype(np.float64)


def beginning(source: PieceSource, births: Longs, angle: Doubles) -> Doubles:
    """Angles (n,) in degrees at the beginning of flights: those that leave their places are not turned."""
    f = source.flights
    return np.where(f.leaves[f.rows(births)], 0.0, angle)


def turned_home(source: PieceSource, births: Longs, raw: Doubles, end: Doubles, age01: Floats) -> Doubles:
    """Angles (n,) in degrees so that pieces that arrive are turned by whole turns then. raw: by what they have turned since they
    began; end: by what they would have at the end of their lives."""
    f = source.flights
    arrive = f.place[f.rows(births)] >= 0
    left = np.round(end / 360) * 360 - end
    return np.where(arrive, raw + np.where(np.isfinite(left), left, 0) * age01.astype(np.float64) ** 2, raw)


def base_turn(source: PieceSource, state: State, age01: Floats) -> Doubles:
    """The turn of the whole at the beginning and at the end of each flight, degrees (n,)."""
    e, ends = source.emitter, state.moments + finite(state.lives)
    begin, end = (source.readings.frames(e, t).turn for t in (state.moments, ends))
    f = source.flights
    arrive = f.place[f.rows(state.births)] >= 0
    return np.asarray(begin + np.where(arrive, (end - begin) * age01, 0.0))


@dataclass(frozen=True)
class Standing:
    """The pieces that stand at a moment. early, late: as the states of particles at birth and at the end of their lives (None: they
    have no such look), in the same order; share (n,): how far each is from its late look to its early one; weight (n,) in [0, 1]:
    the part of the time, while the shutter is open, in which it stands; cut, piece (n,): what each shows."""

    early: State | None
    late: State | None
    share: Floats
    weight: Floats
    cut: PieceCut
    piece: Longs


def _stands(since: Doubles, until: Doubles, t: float) -> tuple[Bools, Doubles]:
    """Which pieces stand at a moment, from `since` until just before `until` (n,); and how far into that time it is, in [0, 1]."""
    with np.errstate(invalid="ignore"):
        share = np.nan_to_num((t - since) / np.maximum(until - since, 1e-9), nan=0.0, posinf=0.0, neginf=0.0)
    return (t >= since) & (t + NOW_S < until), np.clip(share, 0, 1)


def _in_round(since: Doubles, until: Doubles, t: float, period_s: float | None) -> tuple[Doubles, Doubles]:
    """When pieces stand in the round of a loop that a moment is in: those that never leave, or came never, do so at its ends."""
    if period_s is None:
        return since, until
    begins = np.where(np.isfinite(since), since, 0.0)
    ends = np.where(np.isfinite(until), until, period_s + np.where(np.isfinite(since), 0.0, 1e-9))
    shift = np.floor((t - begins) / period_s) * period_s
    return begins + shift, ends + shift


def standing_at(source: PieceSource, t: float, opened: tuple[float, float] | None) -> list[Standing]:
    """The pieces of an emitter that stand at shot time t (within the loop, if there is one). opened: when the shutter opens and
    closes, if it is open for a while."""
    f, pieces = source.flights, source.emitter.pieces
    assert pieces is not None
    period_s, never = source.readings.loop_s, np.full(len(f.due), np.inf)
    if not pieces.returns:
        both = pieces.assemble is not None
        return [_those(source, f.cut, f.due, f.released, t, opened, both=both, late=both and pieces.release is None)]
    if period_s is not None and f.arrived is f.cut:
        # From its arrival to its next release, over the seam.
        return [_those(source, f.cut, f.due - period_s, f.released, t, opened, both=True)]
    return [
        _those(source, f.cut, np.full(len(f.cut), -np.inf), f.released, t, opened),
        _those(source, f.arrived, f.due, never, t, opened, late=True),
    ]


def _those(
    source: PieceSource, cut: PieceCut, since: Doubles, until: Doubles, t: float, opened: tuple[float, float] | None,
    both: bool = False, late: bool = False,
) -> Standing:  # fmt: skip
    f, readings = source.flights, source.readings
    since, until = _in_round(since, until, t, readings.loop_s)
    there, share = _stands(since, until, t)
    weight = there.astype(np.float64)
    if opened is not None and opened[1] > opened[0]:
        opens, closes = opened
        weight = np.clip(np.minimum(until, closes) - np.maximum(since, opens), 0, closes - opens) / (closes - opens)
        there = weight > 0
    piece = np.flatnonzero(there)
    frame = readings.frames(source.emitter, np.full(len(piece), t))
    places = frame.of(*cut.places[piece].T) + _trembling(source, piece, until[piece], t)
    early = late_state = None
    pieces = source.emitter.pieces
    assert pieces is not None
    if not late:
        early = _state(f, piece, np.full(len(piece), t), places)
    if late or both:
        numbers = _flight_to(f, piece) if pieces.returns else piece + ARRIVING
        late_state = _state(f, numbers, _begun(f, numbers, t, readings.loop_s), places)
    if early is None:
        share = np.zeros(len(there))
    s = share[piece]
    return Standing(
        early, late_state, (s * s * (3 - 2 * s)).astype(np.float32), weight[piece].astype(np.float32), cut, piece
    )


def _flight_to(f: Flights, place: Longs) -> Longs:
    """The number of a flight that arrives at each place (m,)."""
    found = np.zeros(len(f.arrived), np.int64)
    found[f.place] = f.numbers
    return found[place]


def _begun(f: Flights, numbers: Longs, t: float, period_s: float | None) -> Doubles:
    """When flights (m,) that are over at shot time t began, s: in a loop, in the latest round that suits."""
    rows = f.rows(numbers)
    begun = f.moments[rows]
    if period_s is not None:
        begun = begun - np.ceil((begun + f.lives[rows] - t) / period_s - 1e-9) * period_s
    return np.asarray(begun)


def _state(f: Flights, numbers: Longs, moments: Doubles, places: Doubles) -> State:
    """Pieces at rest, as particles that were born at some moments."""
    lives = f.lives[f.rows(numbers)]
    values = np.zeros((ROWS, len(numbers)), np.float32)
    values[0:3], values[LIFE] = places.T, np.where(np.isfinite(lives), lives, np.float32(1))
    return State(numbers.astype(np.int64), moments, values)


def _trembling(source: PieceSource, piece: Longs, until: Doubles, t: float) -> Doubles:
    """How far pieces are from their places just before they leave, px (n, 3)."""
    out = np.zeros((len(piece), 3))
    release = source.emitter.pieces.release if source.emitter.pieces is not None else None
    if release is None:
        return out
    amount = source.readings.now(release.tremble, t)
    if amount <= 0:
        return out
    share = 1 - (until - t) / release.tremble_s
    some = np.flatnonzero((share > 0) & (share <= 1))
    # It grows, and is over when the piece leaves.
    far = amount * share[some] * (1 - share[some] ** 8)
    for axis in (0, 1):
        phase, pace = (draws01(source.key ^ (axis + 2), piece[some], FRONT_ORDER + k) for k in (0, 1))
        turns = phase + t * _TREMBLES_HZ * (0.7 + 0.6 * pace)
        out[some, axis] = far * np.sin(2 * np.pi * turns)
    return out
