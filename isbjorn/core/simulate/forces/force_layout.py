"""A thing of the world as a row of numbers, one for each lattice step, or a single one if nothing of it changes.

Columns: its kind and how its strength is computed, its place and direction, then 28 of its kind from `OWN` on.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document import Curve, Emitter, Number, PathPoint, Placed, Shot
from isbjorn.core.document.fields.values import bounds_of
from isbjorn.core.emit.directions import aimed
from isbjorn.core.emit.shapes.base import Light
from isbjorn.core.evaluate import bezier
from isbjorn.core.evaluate.curves import table
from isbjorn.core.evaluate.geometry.placed_models import ModelRows
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.jit import inline_kernel
from isbjorn.core.random import FORCE_FIRST, draw01, draw_around

CODE, ATTRIBUTE, VALUE, SPREAD, BELL, CURVE, CURVE_TO, ZONE = 0, 1, 2, 3, 4, 5, 6, 7
PLACE, WAY, WAY_SPREAD, TILT_SPREAD, WAY_DEG, TILT_DEG, OWN = 8, 11, 14, 15, 16, 17, 18
MEASURE, MARK, LOW, HIGH, MAKES_LOW, MAKES_HIGH, ADDS, LEAST, MOST = 46, 47, 50, 51, 52, 53, 54, 55, 56
WIDTH = 57
BY_SPEED, BY_DISTANCE, BY_TOUCH, BY_CAUGHT = 1, 2, 3, 4
MEASURES = {"speed": BY_SPEED, "distance": BY_DISTANCE, "since touch": BY_TOUCH, "since caught": BY_CAUGHT}
BETWEEN = 4


@dataclass
class ForceSetting:
    """For which emitter and when forces are packed: moments (n,) of shot time, and the tables that rows refer to."""

    shot: Shot
    emitter: Emitter
    readings: Readings
    t: Doubles
    light: Light | None
    curves: list[Floats]
    paths: list[Doubles]
    mattes: list[Floats]
    models: ModelRows
    zones: dict[str, int]

    def read(self, number: Number) -> Doubles:
        """A number at the moments, without what is measured of the particles."""
        return self.readings.number(number, self.t)

    def curve(self, curve: Curve | None) -> float:
        """The place of a curve in the table of curves; -1 without one."""
        if curve is None:
            return -1.0
        self.curves.append(table(curve))
        return float(len(self.curves) - 1)

    def path(self, points: tuple[PathPoint, ...], closed: bool) -> tuple[float, float]:
        """The first point of a path in the table of points, and how many it has."""
        line = bezier.flat(points, closed)
        first = sum(len(p) for p in self.paths)
        self.paths.append(line)
        return float(first), float(len(line))


def place(thing: Placed, setting: ForceSetting, rows: Doubles) -> tuple[Doubles, Doubles]:
    """Put a thing's place into rows (n, `WIDTH`); its turn in degrees and its size as a factor, (n,)."""
    frames = setting.readings.frames(thing, setting.t)
    where, turn, size = frames.place, frames.turn, frames.size
    if getattr(thing, "frame", "shot") == "emitter":
        under = setting.readings.frames(setting.emitter, setting.t)
        where, turn = under.of(*where.T), turn + under.turn
    rows[:, PLACE : PLACE + 3] = where
    return turn, size


def aim(thing: Any, turn: Doubles, setting: ForceSetting, rows: Doubles) -> None:
    """Write a thing's direction into rows, with its spread if particles differ."""
    way, tilt = setting.read(thing.direction) + turn, setting.read(thing.tilt)
    rows[:, WAY : WAY + 3] = aimed(way, tilt)
    rows[:, WAY_SPREAD], rows[:, TILT_SPREAD] = thing.direction.spread, thing.tilt.spread
    rows[:, WAY_DEG], rows[:, TILT_DEG] = way, tilt


def base(thing: Any, code: int, setting: ForceSetting, unit: float = 1.0) -> Doubles:
    """Rows (n, `WIDTH`) of a thing with its strength, converted to px and seconds by the factor `unit`.

    Its draws depend on its own seed, or on its id, so that other things never disturb them.
    """
    rows = np.zeros((len(setting.t), WIDTH))
    rows[:, CODE], rows[:, ATTRIBUTE] = code, FORCE_FIRST + 8 * thing.own_draws
    rows[:, CURVE] = rows[:, CURVE_TO] = -1.0
    rows[:, ZONE] = setting.zones.get(thing.zone or "", -1)
    number: Number | None = getattr(thing, "strength", None)
    if number is None:
        return rows
    rows[:, VALUE], rows[:, SPREAD] = setting.read(number) * unit, number.spread * unit
    rows[:, LEAST], rows[:, MOST] = np.array(bounds_of(number)) * unit
    rows[:, BELL] = number.spread_shape == "bell"
    rows[:, CURVE], rows[:, CURVE_TO] = setting.curve(number.over_life), setting.curve(number.over_life_to)
    source = number.source
    if source is not None and source.measure in MEASURES:
        rows[:, MEASURE] = MEASURES[source.measure]
        if source.thing is not None:
            rows[:, MARK : MARK + 3] = setting.readings.frames(setting.readings.things[source.thing], setting.t).place
        factor = unit if source.combine == "add" else 1.0
        rows[:, LOW], rows[:, HIGH], rows[:, ADDS] = source.low, source.high, source.combine == "add"
        rows[:, MAKES_LOW], rows[:, MAKES_HIGH] = source.makes_low * factor, source.makes_high * factor
    return rows


@inline_kernel("f8(f4[:,::1], i8, f8)", cache=True, forceinline=True)
def read_curve(curves: Floats, row: int, age01: float) -> float:
    """A curve of the table at an age in [0, 1]."""
    at = min(max(age01, 0.0), 1.0) * (curves.shape[1] - 1)
    j = min(int(at), curves.shape[1] - 2)
    return curves[row, j] + (at - j) * (curves[row, j + 1] - curves[row, j])


@inline_kernel(
    "f8(f8[:,:,::1], i8, i8, f4[:,::1], u8, i8, f8, f8, f8, f8, f8, f8, f8, f8, f8)", cache=True, forceinline=True
)
def strength(
    rows: Doubles, s: int, r: int, curves: Floats, key: np.uint64, birth: int, age01: float, x: float, y: float,
    z: float, u: float, v: float, w: float, touch: float, caught: float,
) -> float:  # fmt: skip
    """The strength that a particle feels: value and keys, then source, spread and curve, in the order of every number.

    touch, caught: seconds since it touched something, or caught a state; -1: not yet.
    """
    value = rows[s, r, VALUE]
    measure = int(rows[s, r, MEASURE])
    if measure != 0:
        if measure == BY_SPEED:
            m = math.sqrt(u * u + v * v + w * w)
        elif measure == BY_TOUCH:
            m = touch
        elif measure == BY_CAUGHT:
            m = caught
        else:
            dx, dy, dz = x - rows[s, r, MARK], y - rows[s, r, MARK + 1], z - rows[s, r, MARK + 2]
            m = math.sqrt(dx * dx + dy * dy + dz * dz)
        low, span = rows[s, r, LOW], rows[s, r, HIGH] - rows[s, r, LOW]
        share = min(max((m - low) / span, 0.0), 1.0) if span != 0 else (1.0 if m >= low else 0.0)
        made = rows[s, r, MAKES_LOW] + share * (rows[s, r, MAKES_HIGH] - rows[s, r, MAKES_LOW])
        value = value + made if rows[s, r, ADDS] > 0 else value * made
        value = min(max(value, rows[s, r, LEAST]), rows[s, r, MOST])
    attribute = int(rows[s, r, ATTRIBUTE])
    if rows[s, r, SPREAD] != 0.0:
        value += rows[s, r, SPREAD] * draw_around(key, birth, attribute, rows[s, r, BELL] > 0)
    first = int(rows[s, r, CURVE])
    if first >= 0:
        c = read_curve(curves, first, age01)
        second = int(rows[s, r, CURVE_TO])
        if second >= 0:
            u = draw01(key, birth, attribute + BETWEEN)
            c += u * (read_curve(curves, second, age01) - c)
        value *= c
    # Neither a draw nor a curve takes it out of the range of its field.
    return min(max(value, rows[s, r, LEAST]), rows[s, r, MOST])


@inline_kernel("UniTuple(f8,3)(f8[:,:,::1], i8, i8, u8, i8)", cache=True, forceinline=True)
def way_of(rows: Doubles, s: int, r: int, key: np.uint64, birth: int) -> tuple[float, float, float]:
    """The unit vector of a thing's direction, as a particle has it."""
    if rows[s, r, WAY_SPREAD] == 0.0 and rows[s, r, TILT_SPREAD] == 0.0:
        return rows[s, r, WAY], rows[s, r, WAY + 1], rows[s, r, WAY + 2]
    attribute = int(rows[s, r, ATTRIBUTE])
    turn = np.radians(rows[s, r, WAY_DEG] + rows[s, r, WAY_SPREAD] * draw_around(key, birth, attribute + 1, False))
    tilt = np.radians(rows[s, r, TILT_DEG] + rows[s, r, TILT_SPREAD] * draw_around(key, birth, attribute + 2, False))
    return np.cos(tilt) * np.cos(turn), np.cos(tilt) * np.sin(turn), np.sin(tilt)
