"""The flights of pieces: births at their release, or so early that they arrive in time.

Piece i of n has the birth number i from its release on, and `ARRIVING` + i on its way to its place, unless it is the same flight.
"""

from __future__ import annotations

import functools
from dataclasses import dataclass
from typing import Any

import numpy as np

from isbjorn.core.arrays import Bools, Doubles, Floats, Longs
from isbjorn.core.document import Emitter
from isbjorn.core.document.model.pieces import Pieces
from isbjorn.core.emit.listed import ListedBirths
from isbjorn.core.emit.newborn import SHORTEST_LIFE_S, BirthSource
from isbjorn.core.emit.pieces.cut import PieceCut, cut_of
from isbjorn.core.emit.pieces.fronts import moments_of
from isbjorn.core.emit.pieces.matching import matched
from isbjorn.core.emit.shapes import colours, scatter
from isbjorn.core.emit.shapes.base import Scattered, ShapeSetting
from isbjorn.core.evaluate.gradients import from_oklab, oklab
from isbjorn.core.evaluate.readings import Readings

ARRIVING = 1 << 24
# A flight lasts at least this long, so that it can be seen to come from somewhere.
_SHORTEST_S = 1 / 30
# Width of the picture from which points take their colours.
_SHEET = 1024


@dataclass(frozen=True)
class Flights:
    """The k flights of an emitter's pieces, in the order of their numbers: numbers (k,); moments of birth s (k,); lifespans s (k,),
    infinite where a piece never dies; piece (k,), the piece that it shows, of `cut`; place (k,), the piece of `arrived` whose place
    it arrives at, -1: of none; leaves (k,): whether it begins at its own place.

    cut: the pieces that leave. arrived: the pieces that stand after the arrival. released, due (n,) s: when each piece of `cut`
    leaves, and when each of `arrived` is in its place; infinite if never, or always. begins (k, 2): places of flights that do not
    leave, in the emitter's coordinates.
    """

    numbers: Longs
    moments: Doubles
    lives: Floats
    piece: Longs
    place: Longs
    leaves: Bools
    begins: Doubles
    cut: PieceCut
    arrived: PieceCut
    released: Doubles
    due: Doubles

    @property
    def arrives(self) -> bool:
        """Whether any of them has a place to arrive at."""
        return bool((self.place >= 0).any())

    def rows(self, numbers: Longs) -> Longs:
        """The flights with birth numbers (m,), as indices."""
        return np.where(numbers >= ARRIVING, numbers - ARRIVING + self._leaving, numbers)

    @functools.cached_property
    def _leaving(self) -> int:
        """How many flights begin at their own places: they are the first."""
        return int(self.leaves.sum())


def _pairs(count: int, others: int) -> tuple[Longs, Longs]:
    """As many flights as the larger of two numbers of pieces: each piece of both has at least one."""
    k = max(count, others)
    return (np.arange(k) * count) // k, (np.arange(k) * others) // k


def _returning(pieces: Pieces, emitter: Emitter, key: int, readings: Readings, cut: PieceCut) -> Flights:
    """Pieces that leave, and arrive at the same shape or at another."""
    assert pieces.release is not None
    assert pieces.assemble is not None
    arrived = cut if pieces.assemble.into is None else cut_of(emitter, key, readings, pieces.assemble.into)

    released = moments_of(pieces.release, emitter, cut, key, readings)
    due = moments_of(pieces.assemble, emitter, arrived, key ^ 1, readings)
    if arrived is cut:
        piece = place = np.arange(len(cut))
    else:
        piece, place = _pairs(len(cut), len(arrived))
        # Those of one set in its own order: each goes to the place that suits it.
        to = matched(pieces.assemble, arrived.places[place, :2], cut.places[piece, :2], cut.rank[piece], key)
        place = place[to]
    moments = released[piece]
    lives = np.maximum(due[place] - moments, _SHORTEST_S).astype(np.float32)
    due = due.copy()
    np.maximum.at(due, place, moments + lives)
    lives = (due[place] - moments).astype(np.float32)
    k = len(piece)
    return Flights(
        np.arange(k), moments, lives, piece, place, np.ones(k, bool), np.zeros((k, 2)), cut, arrived, released,
        _latest(due, place, moments + lives),
    )  # fmt: skip


def _latest(due: Doubles, place: Longs, ends: Doubles) -> Doubles:
    """When the last flight to each place is over: to the bit, so that nothing is drawn twice or not at all."""
    out = np.full(len(due), -np.inf)
    np.maximum.at(out, place, ends)
    return np.where(np.isfinite(out), out, due)


def flights_of(emitter: Emitter, key: int, readings: Readings) -> Flights:
    """All flights of an emitter in pieces; computed once for the readings of a shot."""
    known: Flights | None = readings.kept.get(("flights", emitter.id))
    if known is None:
        known = readings.kept["flights", emitter.id] = _made(emitter, key, readings)
    return known


def _made(emitter: Emitter, key: int, readings: Readings) -> Flights:
    pieces = emitter.pieces
    assert pieces is not None
    cut = cut_of(emitter, key, readings)
    if pieces.returns:
        return _returning(pieces, emitter, key, readings, cut)

    n, release, assemble = len(cut), pieces.release, pieces.assemble
    alone = BirthSource(emitter, key, readings, readings.light)
    every = np.arange(n)
    released, due = np.full(n, np.inf), np.full(n, -np.inf)
    parts: list[tuple[Any, ...]] = []
    if release is not None:
        released = moments_of(release, emitter, cut, key, readings)
        lives = alone.lifespans(every, released)
        parts.append((every, released, lives, every, np.full(n, -1), np.ones(n, bool), np.zeros((n, 2))))
    if assemble is not None:
        due = moments_of(assemble, emitter, cut, key ^ 1, readings)
        if release is not None:
            # It arrives before it leaves.
            due = np.minimum(due, released)
        lives = np.maximum(alone.lifespans(every + ARRIVING, due), np.float32(_SHORTEST_S))
        lives = np.where(np.isfinite(lives), lives, np.float32(3)).astype(np.float32)
        start = emitter.model_copy(update={"shape": assemble.start})
        shift = np.stack(
            [readings.number(number, due - lives) for number in (assemble.start_x, assemble.start_y)], axis=1
        )
        begins = (
            scatter(start, key, every + ARRIVING, ShapeSetting(due - lives, readings, readings.light)).place[:, :2]
            + shift
        )
        begins = begins[matched(assemble, begins, cut.places[:, :2], cut.rank, key)]
        moments = due - lives.astype(np.float64)
        due = moments + lives
        parts.append((every + ARRIVING, moments, lives, every, every, np.zeros(n, bool), begins))
    if not parts:
        # They never leave, but have the looks of particles that could.
        never = np.full(n, np.inf)
        parts.append((every, never, np.ones(n, np.float32), every, np.full(n, -1), np.ones(n, bool), np.zeros((n, 2))))
    numbers, moments, lives, piece, place, leaves, begins = (np.concatenate(rows) for rows in zip(*parts, strict=True))
    return Flights(numbers, moments, lives, piece, place, leaves, begins, cut, cut, released, due)


class PieceBirths(ListedBirths):
    """The births of an emitter in pieces: those that ever happen."""

    def __init__(self, emitter: Emitter, key: int, readings: Readings, frame_rate: float, last_s: float) -> None:
        self.flights = flights_of(emitter, key, readings)
        there = np.flatnonzero(np.isfinite(self.flights.moments))
        order = there[np.lexsort((self.flights.numbers[there], self.flights.moments[there]))]
        numbers, moments = self.flights.numbers[order], self.flights.moments[order]
        super().__init__(emitter, key, readings, frame_rate, last_s, numbers, moments, looped=True)


class PieceSource(BirthSource):
    """Reads the births of pieces: each leaves its own place, or begins where its way to it does."""

    def __init__(self, emitter: Emitter, key: int, readings: Readings, light: Any = None) -> None:
        super().__init__(emitter, key, readings, light)
        self.flights = flights_of(emitter, key, readings)

    def lifespans(self, births: Longs, t: Doubles, measured: dict[str, Doubles] | None = None) -> Floats:  # noqa: ARG002
        return np.asarray(self.flights.lives[self.flights.rows(births)])

    @property
    def longest_life(self) -> float:
        return float(self.flights.lives.max(initial=np.float32(SHORTEST_LIFE_S)))

    def some(self, count: int) -> Longs:
        numbers = self.flights.numbers
        return (
            numbers[np.linspace(0, len(numbers) - 1, count).astype(np.int64)] if len(numbers) else np.empty(0, np.int64)
        )

    def own_colours(self, births: Longs, age01: Floats) -> Floats:
        """Colours of what leaves; on the way to another shape, mixed in Oklab with the colours there."""
        f, pieces = self.flights, self.emitter.pieces
        rows = f.rows(births)
        leaving = self._colours_of(self.emitter, f.cut, f.piece[rows])
        if f.arrived is f.cut or pieces is None or pieces.assemble is None:
            return leaving
        there = self.emitter.model_copy(update={"shape": pieces.assemble.into})
        arriving = self._colours_of(there, f.arrived, f.place[rows])
        share = (age01 * age01 * (3 - 2 * age01)).astype(np.float64)[:, None]
        mixed = oklab(leaving.astype(np.float64)) * (1 - share) + oklab(arriving.astype(np.float64)) * share
        return np.maximum(0, from_oklab(mixed)).astype(np.float32)

    def _colours_of(self, emitter: Emitter, cut: PieceCut, piece: Longs) -> Floats:
        """The colours of pieces (n,) of a cut of an emitter's shape, linear, float32 (n, 3)."""
        painted, light = cut.painted, self.readings.light
        if painted is None or not painted.media or light is None:
            return colours(emitter, self.key, piece)
        width, height = cut.extent
        wide = min(_SHEET, max(1, round(width)))
        tall = max(1, round(wide * height / max(width, 1e-6)))
        sheet = light.picture(painted.media, painted.frame or 0, wide, tall)
        x, y = cut.places[piece, 0] / width + 0.5, 0.5 - cut.places[piece, 1] / height
        column = np.clip((x * wide).astype(np.int64), 0, wide - 1)
        row = np.clip((y * tall).astype(np.int64), 0, tall - 1)
        return np.asarray(sheet[row, column], np.float32)

    def scattered(self, births: Longs, t: Doubles) -> Scattered:  # noqa: ARG002
        f = self.flights
        rows = f.rows(births)
        leaves = f.leaves[rows, None]
        own = f.cut.places[f.piece[rows]]
        begin = np.concatenate([f.begins[rows], np.zeros((len(rows), 1))], axis=1)
        outward = np.where(leaves, f.cut.outward[f.piece[rows]], [0.0, 1.0, 0.0])
        along = np.broadcast_to(np.array([1.0, 0.0, 0.0]), own.shape)
        return Scattered(np.where(leaves, own, begin), outward, along)

    def targets(self, births: Longs, moments: Doubles) -> tuple[Doubles, Bools]:
        """Where births (m,) arrive at the end of their lives, px of the shot (m, 3), and which of them do."""
        f = self.flights
        rows = f.rows(births)
        place = f.place[rows]
        ends = moments + f.lives[rows]
        return self.readings.frames(self.emitter, ends).of(*f.arrived.places[place].T), place >= 0
