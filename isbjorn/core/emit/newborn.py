"""Newborn particles: place, velocity, lifespan and mass of births by their number and moment."""

from __future__ import annotations

import math
from typing import Any, Protocol

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.document import Emitter, Number
from isbjorn.core.document.fields.values import bounds_of
from isbjorn.core.emit.directions import aimed, all_round, fanned, turned
from isbjorn.core.emit.shapes import colours, scatter
from isbjorn.core.emit.shapes.base import Light, Scattered, ShapeSetting
from isbjorn.core.evaluate.curves import AGES, table
from isbjorn.core.evaluate.readings import Readings, Transform, measure_name
from isbjorn.core.random import (
    ACROSS,
    BETWEEN_CURVES,
    DEPTH,
    DIRECTION,
    FAN_A,
    FAN_B,
    INHERIT,
    LIFESPAN,
    MASS,
    SPEED,
    TILT,
    UP,
    draws01,
    draws_around,
)

SHORTEST_LIFE_S = 1e-3


def spread_of(number: Number, key: int, births: Longs, attribute: int) -> Doubles | float:
    """What each birth drew of a number's spread, in its unit."""
    if number.spread == 0:
        return 0.0
    return number.spread * draws_around(key, births, attribute, number.spread_shape == "bell")


def drawn(number: Number, base: Doubles | float, key: int, births: Longs, attribute: int) -> Doubles:
    """A number of births (n,), each with its own draw of the spread about `base`, within the range of its field; float64 (n,)."""
    low, high = bounds_of(number)
    value = base + spread_of(number, key, births, attribute)
    return np.broadcast_to(np.clip(value, low, high), births.shape)


def share_of_life(number: Number, key: int, births: Longs, attribute: int, age01: npt.NDArray[np.floating]) -> Doubles:
    """By what a number of births (n,) is multiplied at ages in [0, 1]: by its curve, or by each one's own between two."""
    if number.over_life is None:
        return np.ones(len(births))
    share = np.interp(age01, AGES, table(number.over_life))
    if number.over_life_to is not None:
        u = draws01(key, births, BETWEEN_CURVES + 16 * attribute)
        share = share + u * (np.interp(age01, AGES, table(number.over_life_to)) - share)
    return np.asarray(share)


class Bearers(Protocol):
    """Particles that spawn others."""

    def origins(self, numbers: Longs, moments: Doubles) -> tuple[Doubles, Doubles]:
        """Where the parent of each birth is at that moment, px (n, 3), and how it moves, px/s (n, 3)."""
        ...


class BirthSource:
    """Reads an emitter at the moments of its births."""

    def __init__(self, emitter: Emitter, key: int, readings: Readings, light: Light | None = None) -> None:
        self.emitter, self.key, self.readings, self.light = emitter, key, readings, light
        # For spawned particles: where their parents are.
        self.spawners: Bearers | None = None
        # What others made of the emitter once and for all.
        self.kept: dict[str, Any] = {}
        numbers = (getattr(emitter, name) for name in type(emitter).model_fields)
        self._sources = [n.source for n in numbers if isinstance(n, Number) and n.source is not None]

    def read(
        self, number: Number, births: Longs, t: Doubles, attribute: int, measured: dict[str, Doubles] | None = None
    ) -> Doubles:
        """A number at birth with its spread, float64 (n,)."""
        return drawn(number, self.readings.number(number, t, measured), self.key, births, attribute)

    def lifespans(self, births: Longs, t: Doubles, measured: dict[str, Doubles] | None = None) -> Floats:
        """Seconds from birth to death of births (n,), float32 (n,); infinite where life is without end."""
        life = self.emitter.lifespan
        if not life.timed:
            if life.value == 0:
                return np.full(len(births), np.inf, np.float32)
            lasts_s = drawn(life, life.value, self.key, births, LIFESPAN)
            return np.maximum(SHORTEST_LIFE_S, lasts_s).astype(np.float32)
        if measured is None and life.source is not None:
            measured = self.measured(self.leave(births, t)[0].T.astype(np.float64), t)
        base = self.readings.number(life, t, measured)
        lasts_s = np.maximum(SHORTEST_LIFE_S, drawn(life, base, self.key, births, LIFESPAN))
        return np.where(base == 0, np.inf, lasts_s).astype(np.float32)

    @property
    def longest_life(self) -> float:
        """The longest lifespan that can be drawn, in seconds."""
        life = self.emitter.lifespan
        values = [k.value for k in life.keys] or [life.value]
        if 0 in values:
            return math.inf
        # Smooth keys never overshoot; eased ones may.
        high = max(values) * (2.0 if any(k.ease for k in life.keys) else 1.0)
        if life.flutter is not None:
            f = life.flutter
            high = high + abs(f.amount) if f.combine == "add" else high * (1 + abs(f.amount))
        if life.source is not None:
            most = max(abs(life.source.makes_low), abs(life.source.makes_high))
            high = high + most if life.source.combine == "add" else high * most
        return max(SHORTEST_LIFE_S, high + life.spread)

    def measured(self, place: Doubles, t: Doubles) -> dict[str, Doubles]:
        """What is measured at places (n, 3) at moments (n,): the source's speed, distances, the plate's brightness."""
        e, found = self.emitter, {}
        for source in self._sources:
            if source.measure == "emitter speed":
                found["emitter speed"] = np.linalg.norm(self.readings.velocity(e, t), axis=1)
            elif source.measure == "distance" and source.thing in self.readings.things:
                to = self.readings.frames(self.readings.things[source.thing], t).place
                found[measure_name(source)] = np.linalg.norm(place - to, axis=1)
            elif source.measure == "plate" and self.light is not None:
                found["plate"] = brightness(self.light, place, t)
        return found

    def own_colours(self, births: Longs, age01: Floats) -> Floats:  # noqa: ARG002
        """The linear colours (n, 3) of the shape where births (n,) are born; white where it has none."""
        return colours(self.emitter, self.key, births)

    def some(self, count: int) -> Longs:
        """Numbers of births that stand for all, (count,)."""
        return np.arange(count, dtype=np.int64)

    def scattered(self, births: Longs, t: Doubles) -> Scattered:
        """Where births (n,) are on the emitter's shape, in its coordinates."""
        return scatter(self.emitter, self.key, births, ShapeSetting(t, self.readings, self.light))

    def leave(self, births: Longs, t: Doubles) -> tuple[Floats, Floats, Floats]:
        """Places in px, velocities in px/s, and the share of these that is the particles' own, at birth, each float32 (3, n)."""
        place, velocity, own, _ = self.leaving(births, t)
        return tuple(np.ascontiguousarray(part.T, np.float32) for part in (place, velocity, own))  # type: ignore[return-value]

    def leaving(self, births: Longs, t: Doubles) -> tuple[Doubles, Doubles, Doubles, Doubles]:
        """As `leave`, float64 (n, 3); and the unit vectors of their ways, at rest too."""
        e, key = self.emitter, self.key
        frames = self.readings.frames(e, t)
        on = self.scattered(births, t)
        place = frames.of(*on.place.T)
        inherits = bool(e.inherit.value or e.inherit.timed or e.inherit.spread)
        carried = np.zeros_like(place)
        if self.spawners is not None:
            where, carried = self.spawners.origins(births, t)
            place = place + where
        elif inherits or e.toward == "travel":
            carried = self.readings.velocity(e, t)
        for row, number, attribute in ((0, e.across, ACROSS), (1, e.up, UP), (2, e.depth, DEPTH)):
            if number.spread:
                place[:, row] += spread_of(number, key, births, attribute)
        measured = self.measured(place, t)

        direction = self.read(e.direction, births, t, DIRECTION, measured)
        u, v = draws01(key, births, FAN_A), draws01(key, births, FAN_B)
        if e.toward == "anywhere":
            way = all_round(e.in_depth, u, v)
        else:
            axis = self._axis(births, t, direction, frames, on.outward, on.along, measured, carried)
            way = fanned(axis, self.readings.number(e.spread, t, measured), e.in_depth, u, v)
        speed = self.read(e.speed, births, t, SPEED, measured)
        own = velocity = way * speed[:, None]
        if inherits:
            share = self.read(e.inherit, births, t, INHERIT, measured) / 100
            velocity = velocity + carried * share[:, None]
        return place, velocity, own, way

    def _axis(
        self, births: Longs, t: Doubles, direction: Doubles, frames: Transform, outward: Doubles, along: Doubles,
        measured: dict[str, Doubles], carried: Doubles,
    ) -> Doubles:  # fmt: skip
        """The middle of the fan of each birth."""
        e = self.emitter
        match e.toward:
            case "direction":
                return aimed(direction + frames.turn, self.read(e.tilt, births, t, TILT, measured))
            case "outward":
                return turned(outward, direction + frames.turn)
            case "along":
                return turned(along, direction + frames.turn)
            case _:
                v = carried
                length = np.linalg.norm(v, axis=1, keepdims=True)
                resting = aimed(frames.turn, np.zeros(len(t)))
                return turned(np.where(length > 1e-6, v / np.maximum(length, 1e-6), resting), direction)

    def masses(self, births: Longs, t: Doubles) -> Floats:
        """Mass of births, float32 (n,)."""
        return np.maximum(1e-3, self.read(self.emitter.mass, births, t, MASS)).astype(np.float32)


def brightness(light: Light, place: Doubles, t: Doubles) -> Doubles:
    """The plate's brightness in [0, 1] under places (n, 3) in the picture plane, at moments (n,)."""
    out, numbers = np.zeros(len(place)), light.numbers(np.broadcast_to(t, (len(place),)))
    for number in np.unique(numbers):
        here = numbers == number
        out[here] = read_sheet(light.sheet(int(number)), light, place[here])
    return out


def read_sheet(sheet: Floats, light: Light, place: Doubles) -> Doubles:
    """What a sheet (h, w) that fills the picture has under places (n, 3); 0 beyond its edges."""
    column = (place[:, 0] / light.width + 0.5) * sheet.shape[1]
    row = (0.5 - place[:, 1] / light.height) * sheet.shape[0]
    inside = (column >= 0) & (column < sheet.shape[1]) & (row >= 0) & (row < sheet.shape[0])
    c, r = np.clip(column, 0, sheet.shape[1] - 1).astype(int), np.clip(row, 0, sheet.shape[0] - 1).astype(int)
    return np.where(inside, sheet[r, c], 0.0)
