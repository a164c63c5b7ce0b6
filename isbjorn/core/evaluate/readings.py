"""What numbers and places of a shot are at moments of shot time."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Number, Placed, Shot, Source
from isbjorn.core.document.fields.references import number_at, references_of
from isbjorn.core.document.fields.values import bounds_of
from isbjorn.core.evaluate import bezier, hearing
from isbjorn.core.evaluate.curves import along, evaluate
from isbjorn.core.evaluate.flutter import swing
from isbjorn.core.evaluate.performed import lanes_of

_HALF_S, _JUST = 5e-4, 1e-9


@dataclass(frozen=True)
class Transform:
    """Where a thing is at n moments: place (n, 3) px, turn (n,) degrees, size (n,) as a factor."""

    place: Doubles
    turn: Doubles
    size: Doubles

    def of(self, x: Doubles, y: Doubles, z: Doubles) -> Doubles:
        """Coordinates (n,) of a thing as places in the shot, (n, 3)."""
        px, py = bezier.rotated(x * self.size, y * self.size, self.turn)
        return self.place + np.stack([px, py, z * self.size], axis=1)


def mapped(source: Source, measured: npt.ArrayLike) -> Doubles:
    """What a source makes of a measure: from `low` … `high` to `makes_low` … `makes_high`, level beyond."""
    m = np.asarray(measured, np.float64)
    span = source.high - source.low
    inside = np.clip(m, min(source.low, source.high), max(source.low, source.high))
    share = (inside - source.low) / span if span != 0 else (m >= source.low).astype(np.float64)
    if source.measure == "sound" and source.hears.curve is not None:
        share = evaluate(source.hears.curve, share)
    return np.asarray(source.makes_low + share * (source.makes_high - source.makes_low))


def combined(value: Doubles, how: str, by: Doubles) -> Doubles:
    """A driver joined to a value."""
    return value + by if how == "add" else value * by


def _at_rest(number: Number) -> float:
    """A number that nothing changes, within the range of its field."""
    low, high = bounds_of(number)
    return float(min(max(number.value, low), high))


class Readings:
    """Reads the numbers of a shot. In a loop, time repeats.

    before: readings of the shot before an edit. Results for things that the edit did not move are taken from it.
    """

    def __init__(self, shot: Shot, before: Readings | None = None, moved: frozenset[str] = frozenset()) -> None:
        self.things: dict[str, Any] = {thing.id: thing for thing in shot.things}
        self.loop_s = float(shot.length_s) if shot.loop else None
        # After how long keys and swings come round; until when there is something to see.
        self.round_s, self.until_s = self.loop_s, float(shot.length_s)
        # Lanes that controls play, by the identity of the number; and whether a lane is being played: nothing after its end is
        # known.
        self.played = lanes_of(shot.takes, shot.controls) if shot.takes else {}
        self.live = False
        for one in self.played.values():
            if one.performance.until_s is not None:
                self.live, self.until_s = True, one.performance.until_s
                self.round_s = self.round_s or one.performance.comes_round_s
        self._led: dict[str, bool] = {}
        self.hz = shot.simulation_rate
        self.plate_s = shot.plate.offset_s if shot.plate is not None else 0.0
        self._cuts: dict[str, Doubles] = {}
        # The brightness of the plate, for what depends on it; None: unknown.
        self.light: Any = None
        # What others work out of these readings once, by what it is.
        self.kept: dict[tuple[str, str], Any] = {}
        if before is not None:
            self.kept |= {key: value for key, value in list(before.kept.items()) if key[1] not in moved}
        # What never moves is read once, and never written to. By the thing itself, which is held as long.
        self._still: dict[int, tuple[Placed, Transform]] = {}
        self._stays_still: dict[int, tuple[Placed, bool]] = {}

    @property
    def known_s(self) -> float:
        """Up to when numbers are known for good; what a performance leads is not, beyond its end."""
        ends = [one.performance.end_s + one.take.at_s for one in self.played.values() if one.performance.live]
        return min(ends, default=math.inf)

    def round(self, t: npt.ArrayLike) -> Doubles:
        """Moments as the keys see them: within the loop, if there is one."""
        at = np.atleast_1d(np.asarray(t, np.float64))
        return at if self.round_s is None else at - np.floor(at / self.round_s) * self.round_s

    def plain(self, number: Number, t: Doubles) -> Doubles:
        """Value or keys and flutter at moments t (n,), float64 (n,)."""
        value = along(number.keys, self.round(t)) if number.keys else np.full(len(t), number.value)
        if number.flutter is not None:
            f = number.flutter
            by = f.amount * swing(f, t, self.round_s)
            value = combined(value, f.combine, by if f.combine == "add" else 1 + by)
        return value

    def number(self, number: Number, t: npt.ArrayLike, measured: dict[str, Doubles] | None = None) -> Doubles:
        """All of a number but its spread and its curve, at moments t (n,), float64 (n,).

        measured: what was measured of the particles of these moments, by `measure` or `measure:thing`.
        """
        t = np.atleast_1d(np.asarray(t, np.float64))
        if self.played and (played := self.played.get(id(number))) is not None:
            # A lane recorded in a loop repeats with it; a lane that is being played continues.
            return played.over(t if self.live else self.round(t), self.own(number, t, measured))
        return self.own(number, t, measured)

    def own(self, number: Number, t: Doubles, measured: dict[str, Doubles] | None = None) -> Doubles:
        """As `number`, at moments (n,), when nothing is played."""
        # The one place where drivers meet the range of the field.
        if not number.timed:
            return np.full(len(t), _at_rest(number), np.float64)
        low, high = bounds_of(number)
        source = number.source
        value = self.plain(number, t)
        if source is None:
            return np.clip(value, low, high)
        measure: Doubles | None
        if source.measure == "number":
            other = number_at(self.things, source.thing or "")
            measure = None if other is None else self.number(other, t)
        elif source.measure == "sound":
            sound = self.things.get(source.sound or "")
            measure = None if sound is None else hearing.measure(sound, source.hears, self.round(t), self.plate_s)
        else:
            measure = (measured or {}).get(measure_name(source))
        return np.clip(
            value if measure is None else combined(value, source.combine, mapped(source, measure)), low, high
        )

    def led(self, thing: Any) -> bool:
        """Whether a thing, or anything that it depends on, is led by what was performed."""
        if not self.played or thing is None:
            return False
        if thing.id not in self._led:
            seen, todo, found = {thing.id}, [thing], False
            while todo and not found:
                one = todo.pop()
                found = id(getattr(one, "value", None)) in self.played
                for name in {reference.id for reference in references_of(one)} - seen:
                    seen.add(name)
                    todo += [self.things[name]] if name in self.things else []
            self._led[thing.id] = found
        return self._led[thing.id]

    def limits(self, number: Number) -> tuple[float, float]:
        """The lowest and the highest that a number can be, whatever drives it, but for its spread and its curve."""
        values = [k.value for k in number.keys] or [number.value]
        low, high = min(values), max(values)
        if any(k.ease for k in number.keys):
            # Eased keys may overshoot, by as much as they go.
            low, high = low - (high - low), high + (high - low)
        ways: list[tuple[str, float, float]] = []
        if number.flutter is not None:
            by = abs(number.flutter.amount)
            ways.append(("add", -by, by) if number.flutter.combine == "add" else ("multiply", 1 - by, 1 + by))
        if number.source is not None:
            made = sorted((number.source.makes_low, number.source.makes_high))
            ways.append((number.source.combine, made[0], made[1]))
        for how, least, most in ways:
            ends = [low + least, high + most] if how == "add" else [low * least, low * most, high * least, high * most]
            # A source of nothing leaves it as it is.
            low, high = min(low, *ends), max(high, *ends)
        bounds = bounds_of(number)
        return max(low, bounds[0]), min(high, bounds[1])

    def now(self, number: Number, t: float) -> float:
        """A number at one moment."""
        if not number.timed and id(number) not in self.played:
            return _at_rest(number)
        return float(self.number(number, t)[0])

    def still(self, thing: Placed) -> bool:
        """Whether a thing never moves, turns or grows."""
        known = self._stays_still.get(id(thing))
        if known is None:
            known = self._stays_still[id(thing)] = (thing, self._stays(thing))
        return known[1]

    def _stays(self, thing: Placed) -> bool:
        own = (thing.across, thing.up, thing.depth, thing.turn, thing.scale)
        carrier = self.things.get(thing.carried_by or "")
        return (
            not any(n.timed for n in own)
            and (thing.path is None or not thing.path.along.timed)
            and (carrier is None or self.still(carrier))
        )

    def frames(self, thing: Placed, t: npt.ArrayLike) -> Transform:
        """Where a thing is at moments t (n,), with all that carries it."""
        t = np.atleast_1d(np.asarray(t, np.float64))
        if self.still(thing):
            known = self._still.get(id(thing))
            if known is None:
                known = self._still[id(thing)] = (thing, self._frames(thing, np.zeros(1)))
            one = known[1]
            if len(t) == 1:
                return one
            return Transform(*(np.repeat(part, len(t), axis=0) for part in (one.place, one.turn, one.size)))
        return self._frames(thing, t)

    def _frames(self, thing: Placed, t: Doubles) -> Transform:
        place = np.stack([self.number(n, t) for n in (thing.across, thing.up, thing.depth)], axis=1)
        turn, size = self.number(thing.turn, t), self.number(thing.scale, t) / 100
        if thing.path is not None:
            line = bezier.flat(thing.path.points, thing.path.closed)
            on, way = bezier.at_length(line, self.number(thing.path.along, t) / 100, thing.path.closed)
            place = place + on
            turn = turn + bezier.turn_of(way) if thing.path.turns else turn
        carrier = self.things.get(thing.carried_by or "")
        if carrier is None:
            return Transform(place, turn, size)
        under = self.frames(carrier, t)
        x, y, z = place.T
        if thing.carry_size:
            x, y, z, size = x * under.size, y * under.size, z * under.size, size * under.size
        if thing.carry_turn:
            x, y = bezier.rotated(x, y, under.turn)
            turn = turn + under.turn
        place = np.stack([x, y, z], axis=1)
        return Transform(place + under.place if thing.carry_place else place, turn, size)

    def cuts(self, thing: Any) -> Doubles:
        """Moments at which a thing is elsewhere at once, with no way between: after a held key, and where a loop comes round."""
        if thing.id not in self._cuts:
            moments: set[float] = set()
            numbers = [thing.across, thing.up, thing.depth, thing.turn, thing.scale]
            numbers += [] if thing.path is None else [thing.path.along]
            for number in numbers:
                for a, b in itertools.pairwise(number.keys):
                    if a.value != b.value and (a.joint == "hold" or b.at_s - a.at_s < _HALF_S):
                        moments.add(b.at_s)
                driver = number.source
                if driver is not None and driver.measure == "number" and driver.thing:
                    other = number_at(self.things, driver.thing)
                    keys = () if other is None else other.keys
                    moments |= {b.at_s for a, b in itertools.pairwise(keys) if a.value != b.value and a.joint == "hold"}
            carrier = self.things.get(thing.carried_by or "")
            if carrier is not None:
                moments |= set(self.cuts(carrier).tolist())
            if self.round_s is not None and not self.still(thing):
                moments = {at for at in moments if 0 < at < self.round_s} | {0.0}
            self._cuts[thing.id] = np.array(sorted(moments))
        return self._cuts[thing.id]

    def _between_cuts(self, cuts: Doubles, t: Doubles) -> tuple[Doubles, Doubles]:
        """The moments from and to which a way is looked at around each moment: as far as the next cut."""
        before, after = t - _HALF_S, t + _HALF_S
        if len(cuts) == 0:
            return before, after
        if self.round_s is not None:
            rounds = np.floor(t / self.round_s)[:, None] + np.array([-1.0, 0.0, 1.0])
            at = (rounds[:, :, None] * self.round_s + cuts).reshape(len(t), -1)
        else:
            at = np.broadcast_to(cuts, (len(t), len(cuts)))
        moment = t[:, None]
        last = np.max(np.where(at <= moment, at, -np.inf), axis=1)
        following = np.min(np.where(at > moment, at, np.inf), axis=1)
        return np.maximum(before, last), np.minimum(after, following - _JUST)

    def velocity(self, thing: Any, t: npt.ArrayLike) -> Doubles:
        """Velocity of a thing in px/s at moments t (n,), (n, 3): over a thousandth of a second around each, not over a cut."""
        t = np.atleast_1d(np.asarray(t, np.float64))
        if self.still(thing):
            return np.zeros((len(t), 3))
        before, after = self._between_cuts(self.cuts(thing), t)
        if self.led(thing):
            # What a hand will do next is not known.
            before, after = np.maximum(before, t - _HALF_S), np.minimum(after, t)
        way = self.frames(thing, after).place - self.frames(thing, before).place
        return np.asarray(way / np.maximum(after - before, 1e-6)[:, None])


def measure_name(source: Source) -> str:
    """The name under which a measure of the particles is handed over."""
    return source.measure if source.thing is None else f"{source.measure}:{source.thing}"
