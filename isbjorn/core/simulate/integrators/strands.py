"""The mover of strands: their joints are stepped in the world as all particles are, and then held together."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.document import Shot
from isbjorn.core.document.fields.references import numbers_of
from isbjorn.core.emit.newborn import BirthSource, share_of_life
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.random import BOW, STRAND, draws01
from isbjorn.core.records import Records
from isbjorn.core.simulate.forces import zones
from isbjorn.core.simulate.integrators.stepped import SteppedIntegrator
from isbjorn.core.simulate.state import State
from isbjorn.core.simulate.strands.hold import HELD, TAUT, hold
from isbjorn.core.simulate.strands.joints import joints_of
from isbjorn.core.simulate.table_types import Zones


@dataclass(frozen=True)
class StrandBirths:
    """Strands (m,) as they are born: where their roots are, px (m, 3), the ways out of them, and where their feet are to be
    held, in the own coordinates of the zone that holds them."""

    births: Longs
    moments: Doubles
    place: Doubles
    way: Doubles
    foot: Doubles


class StrandIntegrator(SteppedIntegrator):
    """Strands in a world. A state has the joints of each behind each other, root first, all with its birth number."""

    def __init__(self, shot: Shot, source: BirthSource, readings: Readings) -> None:
        super().__init__(shot, source, readings)
        strand = source.emitter.strand
        assert strand is not None
        self.strand, self.joints = strand, joints_of(source.emitter)
        self.rooted = strand.root == "held"
        self.zone = next((z for z in shot.zones if z.id == strand.foot), None)
        e = source.emitter
        # Roots that stay where they are need to be found once.
        numbers = [
            n
            for path, n in numbers_of(e)
            if path.split(".")[0] in ("shape", "across", "up", "depth", "direction", "tilt", "spread")
        ]
        self.rests = readings.still(e) and not any(n.timed for n in numbers)
        self.smooth = True
        self._known: StrandBirths | None = None

    def begin(self, births: npt.NDArray[np.int64], moments: Doubles, lives: Floats) -> State:
        """Births by their number, each straight out of its root; or in a bow to where its foot is held."""
        one = super().begin(births, moments, lives)
        n = self.joints
        values = np.repeat(one.values, n, axis=1)
        if self.rooted:
            values[3:6] = 0
        if len(births):
            place, _, _, way = self.source.leaving(births, moments)
            lengths = self._lengths(births, moments, lives, moments)
            if self.zone is None:
                along = (np.arange(n) / (n - 1))[None, :, None] * (lengths[:, None] * way)[:, None, :]
            else:
                foot = self._hung(place, way, births, moments, lives)
                side = np.where(draws01(self.key, births, BOW) < 0.5, -1.0, 1.0)
                along = _bow(foot - place, lengths, n, side)
            values[0:3] += along.reshape(-1, 3).T.astype(np.float32)
        return State(np.repeat(births, n), np.repeat(moments, n), values)

    def _lengths(self, births: Longs, moments: Doubles, lives: Floats, t: Doubles | float) -> Doubles:
        """Lengths of strands in px, float64 (m,)."""
        number, at = self.strand.length, np.broadcast_to(np.asarray(t, np.float64), births.shape)
        length = self.source.read(number, births, at, STRAND)
        age01 = np.clip((at - moments) / lives, 0, 1)
        return np.maximum(1.0, length * share_of_life(number, self.key, births, STRAND, age01))

    def _born(self, births: Longs, moments: Doubles, lives: Floats) -> StrandBirths:
        """What strands are from their births on: they are asked for step by step."""
        known = self._known
        if known is None or not np.array_equal(known.births, births) or not np.array_equal(known.moments, moments):
            place, _, _, way = self.source.leaving(births, moments)
            local = np.zeros((0, 3))
            if self.zone is not None:
                local = self._in_zone(place, way, births, moments, lives)
            self._known = known = StrandBirths(births, moments, place, way, local)
        return known

    def _each(self, state: State) -> tuple[Longs, Doubles, Floats]:
        """Birth numbers, moments of birth s and lifespans s of the strands (m,) of a state."""
        births, moments, lives = (
            np.ascontiguousarray(a[:: self.joints]) for a in (state.births, state.moments, state.lives)
        )
        return births, moments, lives  # type: ignore[return-value]

    def _in_zone(self, place: Doubles, way: Doubles, births: Longs, moments: Doubles, lives: Floats) -> Doubles:
        """Where in the zone feet are held, in its coordinates (m, 3): at the point nearest to where each would hang."""
        assert self.zone is not None
        slack = self.readings.number(self.strand.slack, moments) / 100
        hung = place + way * (self._lengths(births, moments, lives, moments) * (1 - slack))[:, None]
        local = _own_places(self.zone.shape, zones.packed([self.zone], self.readings, moments), hung)
        return np.asarray(local / np.maximum(self.readings.frames(self.zone, moments).size, 1e-9)[:, None])

    def _hung(self, place: Doubles, way: Doubles, births: Longs, moments: Doubles, lives: Floats) -> Doubles:
        """Where feet are held at birth, (m, 3)."""
        assert self.zone is not None
        return self.readings.frames(self.zone, moments).of(*self._in_zone(place, way, births, moments, lives).T)

    def _roots(self, born: StrandBirths, t: float) -> tuple[Doubles, Doubles]:
        """Where the roots of strands are held at a moment, and the ways out of them, each (m, 3)."""
        # Spawned strands stay at the place of their birth.
        if self.rests or self.source.spawners is not None:
            return born.place, born.way
        place, _, _, way = self.source.leaving(born.births, np.full(len(born.births), t))
        return place, way

    def _wanted(self, born: StrandBirths, t: float) -> Doubles:
        """Where feet are to be held at a moment, (m, 3): at the point of the zone nearest to where each would hang at its birth;
        the zone may have moved since. A strand may be too short for that."""
        assert self.zone is not None
        here = self.readings.frames(self.zone, np.array([t]))
        return here.of(*born.foot.T)

    def reach(self, state: State, t: float) -> tuple[Doubles, Doubles]:
        """How far feet are to be held from the roots of strands, px (m,); and how long those are."""
        births, moments, lives = self._each(state)
        born = self._born(births, moments, lives)
        away = self._wanted(born, t) - self._roots(born, t)[0]
        return np.linalg.norm(away, axis=1), self._lengths(births, moments, lives, t)

    def _feet(self, born: StrandBirths, t: float, roots: Doubles, lengths: Doubles) -> Doubles:
        """Where feet are held at a moment, (m, 3): no farther from their roots than the strands are long."""
        feet = self._wanted(born, t)
        if not self.rooted:
            return feet
        away = feet - roots
        short = np.minimum(1.0, TAUT * lengths / np.maximum(np.linalg.norm(away, axis=1), 1e-9))
        return np.asarray(roots + away * short[:, None])

    def _held(self, born: StrandBirths, lives: Floats, begin: float, until: float) -> tuple[Doubles, Records]:
        """Lengths (m,) of strands over a step, and what holds their ends, (m,) of `HELD`."""
        held, moments = np.zeros(len(lives), HELD), born.moments
        lengths = self._lengths(born.births, moments, lives, until)
        if self.rooted:
            held["root"], _ = self._roots(born, begin)
            held["root_to"], held["out"] = self._roots(born, until)
            young = moments > begin
            held["root"][young] = born.place[young]
        if self.zone is not None:
            held["footed"] = 1
            held["foot"] = self._feet(born, begin, held["root"], lengths)
            held["foot_to"] = self._feet(born, until, held["root_to"], lengths)
        return lengths, held

    def _roam(self, state: State, index: int, until: int, end: float, solid: bool = True) -> None:
        for n in range(index, until):
            self._one(state, n, (n + 1) / self.hz, solid)
        if end > until / self.hz:
            self._one(state, until, end, solid)

    def _one(self, state: State, index: int, t: float, solid: bool) -> None:
        """From lattice step `index` to shot time t, which is no later than the next."""
        if state.count == 0:
            return
        before = state.values[0:6].copy()
        whole = t >= (index + 1) / self.hz
        super()._roam(state, index, index + whole, -1e9 if whole else t, solid=False)
        births, moments, lives = self._each(state)
        strand = self.strand
        lengths, held = self._held(self._born(births, moments, lives), lives, index / self.hz, t)
        tables, _ = self.tables(index)
        hold(
            state.values, before, moments, self.joints, lengths, held, self.rooted, self.rooted and strand.upright,
            self.readings.now(strand.stiffness, t), self.readings.now(strand.damping, t) / 100,
            self.readings.now(strand.foot_weight, t), index / self.hz, t, self.solid and solid, tables.rows, 0, tables.paths,
            tables.solids,
        )  # fmt: skip


def _bow(chord: Doubles, lengths: Doubles, n: int, side: Doubles) -> Doubles:
    """Places (m, n, 3) of joints from the root on, in a bow of a circle over the way to the foot, chord (m, 3): of as much
    turn as the length asks for; side (m,): -1 or 1, to which it goes in the picture plane."""
    far = np.maximum(np.linalg.norm(chord, axis=1), 1e-9)
    seg = lengths / (n - 1)
    # Of n - 1 equal pieces, each turned by φ against the one before: sin((n - 1) φ/2) / sin(φ/2) pieces is how far they lead.
    wanted = np.minimum(far / seg, (n - 1) * TAUT)
    low, high = np.zeros(len(far)), np.full(len(far), 2 * np.pi / (n - 1))
    for _ in range(50):
        turn = 0.5 * (low + high)
        leads = np.sin((n - 1) * turn / 2) / np.maximum(np.sin(turn / 2), 1e-12)
        low, high = np.where(leads > wanted, turn, low), np.where(leads > wanted, high, turn)
    ahead = chord / far[:, None]
    beside = np.stack([-ahead[:, 1], ahead[:, 0], np.zeros(len(far))], axis=1)
    flat = np.linalg.norm(beside, axis=1)
    beside = np.where((flat > 1e-6)[:, None], beside / np.maximum(flat, 1e-6)[:, None], [1.0, 0.0, 0.0])
    angles = (np.arange(n - 1)[None] - (n - 2) / 2) * turn[:, None]
    steps = np.cos(angles)[..., None] * ahead[:, None] - (side[:, None] * np.sin(angles))[..., None] * beside[:, None]
    places = np.cumsum(steps * seg[:, None, None], axis=1)
    return np.concatenate([np.zeros((len(far), 1, 3)), places], axis=1)


def _own_places(shape: str, packed: Zones, place: Doubles) -> Doubles:
    """The places (m, 3) within a zone at m moments nearest to others, in its own coordinates, px."""
    zone = packed[0][:, 0]
    if shape == "model":
        place = zones.within_model(packed, place)
    d = place - zone[:, 1:4]
    if shape == "sphere":
        far = np.linalg.norm(d, axis=1)
        d = d * np.minimum(1.0, zone[:, 9] / np.maximum(far, 1e-9))[:, None]
    c, s = zone[:, 4], zone[:, 5]
    x, y, z = d[:, 0] * c + d[:, 1] * s, -d[:, 0] * s + d[:, 1] * c, d[:, 2]
    if shape == "box":
        x, y, z = (np.clip(a, -half, half) for a, half in ((x, zone[:, 6]), (y, zone[:, 7]), (z, zone[:, 8])))
    elif shape == "half":
        y = np.minimum(y, 0.0)
    return np.stack([x, y, z], axis=1)
