"""The integrator of particles whose world changes with place, time or age: packs the world to tables and steps through them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.caching import RecentCache
from isbjorn.core.document import Shot
from isbjorn.core.document.fields.references import numbers_of
from isbjorn.core.emit.newborn import BirthSource, spread_of
from isbjorn.core.evaluate.curves import TABLE, table
from isbjorn.core.evaluate.geometry.placed_models import ModelRows
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.random import BETWEEN_CURVES, SIZE, SPEED, draws01
from isbjorn.core.simulate import contact, state_layout
from isbjorn.core.simulate.fingerprint import is_measured
from isbjorn.core.simulate.forces import pack, zones
from isbjorn.core.simulate.forces.force_layout import MEASURES, WIDTH, ForceSetting
from isbjorn.core.simulate.integrators import batched, world
from isbjorn.core.simulate.integrators.arriving import arrivals_of
from isbjorn.core.simulate.state import State, merged
from isbjorn.core.simulate.state_layout import CAUGHT, HINDERED, MOVED, NEAR_SINCE, PUSHED_ROWS, ROWS, STATE_ROWS
from isbjorn.core.simulate.steps import blend, gather
from isbjorn.core.simulate.table_types import Solids, Zones

_CHUNK, _CHUNKS_KEPT = 64, 24


@dataclass(frozen=True)
class Tables:
    """The world as numbers: a row for each step of a chunk, or one for all steps."""

    rows: Doubles
    zoned: Zones
    curves: Floats
    paths: Doubles
    solids: Solids
    settings: Doubles

    def since(self, n: int) -> Tables:
        """The tables from their nth step on."""
        if n == 0 or len(self.rows) == 1:
            return self
        zoned = self.zoned[0][n:], self.zoned[1]
        return Tables(self.rows[n:], zoned, self.curves, self.paths, self.solids, self.settings[n:])


def pack_world(shot: Shot, source: BirthSource, readings: Readings, stage: str, t: Doubles, whole: float) -> Tables:
    """Tables of what reaches an emitter at the moments t (n,). stage: `motion`, or what acts on the `look`; whole: a step in s."""
    emitter, light = source.emitter, source.light
    index = {zone.id: number for number, zone in enumerate(shot.zones)}
    speed = emitter.speed
    second = np.full(TABLE, -1.0, np.float32) if speed.over_life_to is None else table(speed.over_life_to)
    size = emitter.size
    size_to = np.full(TABLE, -1.0, np.float32) if size.over_life_to is None else table(size.over_life_to)
    curves = [table(speed.over_life), second, table(size.over_life), size_to]
    setting = ForceSetting(shot, emitter, readings, t, light, curves, [], [], ModelRows(), index)
    wanted = [f for f in shot.reaching(emitter) if f.stage == stage]
    # Forces add up, so in one order whatever the cast's; displacements follow each other in the cast's.
    packed = [pack(f, setting) for f in (wanted if stage == "look" else sorted(wanted, key=lambda f: f.id))]
    zoned = zones.packed(shot.zones, readings, t)
    settings = np.zeros((len(t), world.SETTINGS))
    settings[:, world.LIMIT] = readings.number(emitter.speed_limit, t)
    if size.timed and size.reads == "life":
        settings[:, world.SIZE_NOW] = readings.number(size, t)
    if emitter.stays == "along":
        settings[:, world.ORIGIN_0 : world.ORIGIN_0 + 3] = readings.frames(emitter, t - whole / 2).place
        settings[:, world.ORIGIN_1 : world.ORIGIN_1 + 3] = readings.frames(emitter, t + whole / 2).place
    mattes = np.stack(setting.mattes) if setting.mattes else np.zeros((1, 2, 2), np.float32)
    return Tables(
        np.ascontiguousarray(np.stack(packed, axis=1) if packed else np.zeros((len(t), 0, WIDTH))),
        zoned,
        np.ascontiguousarray(np.stack(setting.curves)),
        np.ascontiguousarray(np.concatenate(setting.paths) if setting.paths else np.zeros((0, 3))),
        (np.ascontiguousarray(mattes), setting.models.trees),
        settings,
    )


def is_timed(shot: Shot, source: BirthSource, readings: Readings) -> bool:
    """Whether anything of the world that reaches an emitter changes with shot time."""
    emitter, reaching = source.emitter, shot.reaching(source.emitter)
    used = {f.zone for f in reaching}
    marks = [n.source.thing for f in reaching for _, n in numbers_of(f) if n.source is not None]
    things = [*reaching, *(z for z in shot.zones if z.id in used)]
    things += [readings.things[m] for m in marks if m in readings.things]
    if any(not readings.still(thing) for thing in things) or emitter.speed_limit.timed:
        return True
    # What is touched is touched by the size that is seen.
    if emitter.size.timed and emitter.size.reads == "life" and any(f.solid for f in reaching):
        return True
    if not readings.still(emitter) and (emitter.stays == "along" or any(f.frame == "emitter" for f in reaching)):
        return True
    return any(f.evolving or f.reads_plate for f in reaching) or any(
        n.timed for thing in things for _, n in numbers_of(thing)
    )


class SteppedIntegrator:
    """Particles in a world. values rows 7 on: mass, first velocity (3), size, first touch, how it is, when it went."""

    def __init__(self, shot: Shot, source: BirthSource, readings: Readings) -> None:
        self.shot, self.source, self.readings, self.key, self.hz = (
            shot,
            source,
            readings,
            source.key,
            shot.simulation_rate,
        )
        self.timed = is_timed(shot, source, readings)
        reaching = shot.reaching(source.emitter)
        self.solid = any(f.solid for f in reaching)
        pushed = any(f.pushes for f in reaching)
        self.state_rows = PUSHED_ROWS if pushed else STATE_ROWS if any(f.catching for f in reaching) else ROWS
        self.stirred = any(f.carries for f in reaching)
        self.along = source.emitter.stays == "along"
        calm_by = set(MEASURES)
        limited = source.emitter.speed_limit.value > 0 or source.emitter.speed_limit.timed
        self.smooth = not limited and all(f.calm for f in reaching)
        moving = [f for f in reaching if f.stage == "motion"]
        strengths = [f.strength for f in moving if hasattr(f, "strength")]
        limits = [f.speed_limit for f in moving if hasattr(f, "speed_limit")]
        self.drifts = (
            all(f.goes_abreast for f in moving)
            and not any(n.source is not None and n.source.measure in calm_by for n in strengths)
            and not any(n.value > 0 or n.timed for n in [source.emitter.speed_limit, *limits])
            and not self.along
            and source.emitter.speed.over_life is None
        )
        self._kept: RecentCache[int, Tables] = RecentCache(_CHUNKS_KEPT)
        # Where particles are led to, if they arrive somewhere.
        self.arrivals = arrivals_of(source)

    def begin(self, births: npt.NDArray[np.int64], moments: Doubles, lives: Floats) -> State:
        """Births by their number, each as it is at its birth moment."""
        e, values = self.source.emitter, np.zeros((self.state_rows, len(births)), np.float32)
        place, velocity, own = self.source.leave(births, moments)
        if self.along:
            place = (place - self.readings.frames(e, moments).place.T).astype(np.float32)
        if e.speed.over_life is not None:
            share: Floats | np.float32 = table(e.speed.over_life)[0]
            if e.speed.over_life_to is not None:
                u = draws01(self.key, births, BETWEEN_CURVES + 16 * SPEED).astype(np.float32)
                share = share + u * (table(e.speed.over_life_to)[0] - share)
            velocity = velocity + own * (share - 1)
        values[0:3], values[3:6], values[6] = place, velocity, lives
        values[state_layout.MASS] = self.source.masses(births, moments)
        values[state_layout.FIRST_VELOCITY : state_layout.FIRST_VELOCITY + 3] = own
        drawn = spread_of(e.size, self.key, births, SIZE)
        if not (e.size.timed and e.size.reads == "life"):
            measured = self.source.measured(place.T.astype(np.float64), moments) if is_measured(e.size) else None
            drawn = np.maximum(0, self.readings.number(e.size, moments, measured) + drawn)
        values[state_layout.SIZE] = drawn
        values[state_layout.TOUCHED] = -1
        if self.state_rows > ROWS:
            values[CAUGHT], values[NEAR_SINCE] = -1, -1
        if self.state_rows > HINDERED:
            values[HINDERED] = 0
        return State(births, moments, values)

    def tables(self, index: int) -> tuple[Tables, int]:
        """The world from lattice step `index` on, and the step up to which it holds."""
        if not self.timed:
            first, many = 0, 1
        elif self.readings.live:
            # In a live performance, only the steps up to its end are known, and they are computed together.
            first, many = index, int(min(_CHUNK, max(1, self.readings.known_s * self.hz + 0.5 - index)))
            for begun in self._kept:
                kept = self._kept.peek(begun)
                if kept is not None and begun <= index < begun + len(kept.rows):
                    first, many = begun, len(kept.rows)
        else:
            first, many = index - index % _CHUNK, _CHUNK
        found = self._kept.peek(first)
        if found is None:
            steps = np.arange(first, first + many) if self.timed else np.zeros(1)
            t = (steps + 0.5) / self.hz
            found = pack_world(self.shot, self.source, self.readings, "motion", t, 1 / self.hz)
            self._kept.put(first, found)
        if not self.timed:
            return found, 1 << 60
        return found.since(index - first), first + many

    def _roam(self, state: State, index: int, until: int, end: float, solid: bool = True) -> None:
        """Step in place from lattice step `index` to `until`, and on to shot time `end` if it is later."""
        if self.arrivals is None:
            self._go(state, index, until, end, solid)
            return
        for step in range(index, until):
            before = state.values[:6].copy()
            self._go(state, step, step + 1, -1e9, solid)
            self.arrivals.steer(state, before, step / self.hz, (step + 1) / self.hz)
        if end > until / self.hz:
            before = state.values[:6].copy()
            self._go(state, until, until, end, solid)
            self.arrivals.steer(state, before, until / self.hz, end)

    def _go(self, state: State, index: int, until: int, end: float, solid: bool) -> None:
        e = self.source.emitter
        while True:
            t, holds = self.tables(index)
            to = min(until, holds)
            if self.drifts:
                batched.drift(
                    state.values, state.births, state.moments, t.rows, t.zoned, t.curves, self.key, index, to, self.hz,
                    end if to == until else -1e9,
                )  # fmt: skip
                if to == until:
                    return
                index = to
                continue
            world.roam(
                state.values, state.births, state.moments, t.rows, t.zoned, t.curves, t.paths, t.solids, t.settings,
                self.solid and solid, e.speed.over_life is not None, self.key, index, to, self.hz, end if to == until else -1e9,
            )  # fmt: skip
            if to == until:
                return
            index = to

    def advance(self, state: State, index: int, until: int) -> None:
        """Step in place from lattice step `index` to `until`."""
        if until > index:
            self._roam(state, index, until, -1e9)

    def fly(self, state: State, index: int, until: int) -> None:
        """As `advance`, past everything that may be touched."""
        self._roam(state, index, until, -1e9, solid=False)

    def alive(self, state: State, t: float) -> npt.NDArray[np.int64]:
        """The columns of the particles that live beyond shot time t and were not removed."""
        return np.flatnonzero((state.moments + state.lives > t) & (state.values[state_layout.HOW] != contact.GONE))

    def between(self, state: State, newborn: State, index: int, t: float) -> State:
        """The living particles at a moment after lattice step `index`: the same step, up to that moment."""
        there = merged(state, self.alive(state, t), newborn)
        self._roam(there, index, index, t)
        return self.shown(there, index, t)

    def blended(
        self, state: State, after: State, newborn: State, index: int, t: float, straight: bool = False
    ) -> State:
        """As `between`, but by cubic Hermite (or straight) to the state at the next step; particles that die before it are
        stepped."""
        kept, right = self.alive(state, t), (index + 1) / self.hz
        there = merged(state, kept, newborn)
        lasting = np.flatnonzero(there.moments + there.lives > right)
        # Those of the next state are in the same order: first older particles, then those born meanwhile.
        old = int(np.searchsorted(lasting, len(kept)))
        theirs = np.arange(len(lasting))
        theirs[old:] += len(self.alive(state, right)) - old
        blend(there.values, there.moments, lasting, after.values, theirs, index, self.hz, t, straight)
        if self.state_rows > ROWS:
            # What is caught within the step has its moment in the next state.
            there.values[CAUGHT, lasting] = after.values[CAUGHT, theirs]
        if self.state_rows > HINDERED:
            there.values[HINDERED:, lasting] = after.values[HINDERED:, theirs]
        dying = np.flatnonzero(there.moments + there.lives <= right)
        if len(dying):
            part = State(there.births[dying], there.moments[dying], np.ascontiguousarray(there.values[:, dying]))
            self._roam(part, index, index, t)
            there.values[:, dying] = part.values
        return self.shown(there, index, t)

    def seen(self, state: State, index: int) -> State:
        """A lattice state as it is looked at."""
        return self.shown(State(state.births, state.moments, state.values.copy()), index, index / self.hz)

    def placed(self, state: State, t: float) -> tuple[Floats, npt.NDArray[np.bool_]]:
        """Places (3, n) of a state in the shot, and which particles were removed."""
        place = state.place.copy()
        if self.along:
            place += self.readings.frames(self.source.emitter, np.array([t])).place.T.astype(np.float32)
        return place, state.values[state_layout.HOW] == contact.GONE

    def shown(self, state: State, index: int, t: float) -> State:
        """A state at a moment as it is looked at: of those that are there, in the shot. It is changed."""
        here = np.flatnonzero(state.values[state_layout.HOW] != contact.GONE)
        if len(here) < state.count:
            values = np.empty((state.values.shape[0], len(here)), np.float32)
            gather(state.values, here, values)
            state = State(state.births[here], state.moments[here], values)
        if self.along:
            origin = self.readings.frames(self.source.emitter, np.array([t])).place[0]
            state.values[0:3] += origin[:, None].astype(np.float32)
        if self.stirred:
            # What was performed is known as far as this step, not beyond.
            tables, _ = self.tables(index - 1 if self.readings.played else index)
            world.stir(
                state.values, state.births, state.moments, tables.rows, tables.zoned, tables.curves, tables.paths,
                tables.solids, tables.settings, self.solid, self.key, t,
            )  # fmt: skip
        if state.values.shape[0] > HINDERED:
            # Pushed bodies may move differently from a single one.
            moved = state.values[MOVED : MOVED + 3]
            state.values[3:6] = np.where(state.values[HINDERED] > 0, moved, state.values[3:6])
        caught = state.values[CAUGHT] if state.values.shape[0] > CAUGHT else None
        return State(state.births, state.moments, state.values, state.values[state_layout.TOUCHED], caught)
