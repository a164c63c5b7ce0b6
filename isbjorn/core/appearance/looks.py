"""What living particles look like: size, opacity, colour and angle at their own age. Never touches a simulated state."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
from numba import prange

from isbjorn.core.appearance import colours
from isbjorn.core.appearance.in_pieces import base_turn, beginning, finite, seen_age, sizes_of, turned_home
from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.document import Emitter, Number
from isbjorn.core.document.fields.curves import Curve
from isbjorn.core.document.fields.values import SINCE, bounds_of
from isbjorn.core.emit.newborn import BirthSource, brightness, spread_of
from isbjorn.core.emit.pieces.flights import PieceSource
from isbjorn.core.evaluate import curves, gradients
from isbjorn.core.evaluate.curves import AGES, TABLE
from isbjorn.core.evaluate.readings import Readings, measure_name
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.random import (
    ANGLE,
    BETWEEN_CURVES,
    BLUE,
    BRIGHTNESS,
    GREEN,
    OPACITY,
    RED,
    SIZE,
    SPIN,
    draw01,
    draw_around,
    draws01,
)
from isbjorn.core.records import value_of
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate.fingerprint import is_measured
from isbjorn.core.simulate.state import State
from isbjorn.core.simulate.strands.joints import joint_numbers

_SPAN = 16
# Rows of numbers that are read by age.
OF_SIZE, OF_OPACITY, OF_BRIGHTNESS, OF_RED, OF_GREEN, OF_BLUE = range(6)


@inline_kernel("f8(f8[:,::1], f8[:,::1], f4[:,::1], i8, u8, i8, i8, i8, i8, f8)", cache=True, forceinline=True)
def _number(
    bases: Doubles, spreads: Doubles, curves: Floats, row: int, key: np.uint64, birth: int, attribute: int, i: int,
    j: int, f: float,
) -> float:  # fmt: skip
    """A number as one particle has it at an age, its curve apart (never below 0)."""
    value = bases[row, min(i, bases.shape[1] - 1)]
    if spreads[row, 0] != 0.0:
        value += spreads[row, 0] * draw_around(key, birth, attribute, spreads[row, 1] > 0)
    c = curves[2 * row, j] + f * (curves[2 * row, j + 1] - curves[2 * row, j])
    if curves[2 * row + 1, 0] >= 0:
        to = curves[2 * row + 1, j] + f * (curves[2 * row + 1, j + 1] - curves[2 * row + 1, j])
        c += draw01(key, birth, BETWEEN_CURVES + 16 * attribute) * (to - c)
    return max(0.0, value * c)


@njit(
    "void(u8, i8[::1], f4[::1], f8[:,::1], f8[:,::1], f8[::1], f4[:,::1], f4[:,::1], f8[::1], b1, f4[::1], f4[::1], f4[:,::1])",
    parallel=True,
    cache=True,
    error_model="numpy",
)
def _dress(
    key: np.uint64, births: npt.NDArray[np.int64], age01: Floats, bases: Doubles, spreads: Doubles, tops: Doubles,
    curves: Floats, ramp: Floats, fades: Doubles, shaded: bool, size: Floats, opacity: Floats, colour: Floats,
) -> None:  # fmt: skip
    last = ramp.shape[0] - 1
    for i in prange(len(births)):
        k = births[i]
        at = age01[i] * last
        j = min(int(at), last - 1)
        f = at - j
        size[i] = min(tops[OF_SIZE], _number(bases, spreads, curves, OF_SIZE, key, k, SIZE, i, j, f))
        seen = min(100.0, _number(bases, spreads, curves, OF_OPACITY, key, k, OPACITY, i, j, f)) / 100.0
        seen *= ramp[j, 3] + f * (ramp[j + 1, 3] - ramp[j, 3])
        fade_last = value_of(fades, i)
        if fade_last > 0:
            seen *= min(1.0, (1.0 - age01[i]) / fade_last)
        opacity[i] = min(1.0, max(0.0, seen))
        gain = min(tops[OF_BRIGHTNESS], _number(bases, spreads, curves, OF_BRIGHTNESS, key, k, BRIGHTNESS, i, j, f))
        for c in range(3):
            colour[i, c] = gain * (ramp[j, c] + f * (ramp[j + 1, c] - ramp[j, c]))
        if shaded:
            colour[i, 0] *= min(tops[OF_RED], _number(bases, spreads, curves, OF_RED, key, k, RED, i, j, f)) / 100.0
            colour[i, 1] *= (
                min(tops[OF_GREEN], _number(bases, spreads, curves, OF_GREEN, key, k, GREEN, i, j, f)) / 100.0
            )
            colour[i, 2] *= min(tops[OF_BLUE], _number(bases, spreads, curves, OF_BLUE, key, k, BLUE, i, j, f)) / 100.0


@njit(
    "void(u8, i8[::1], f4[::1], f8[:,::1], f8[:,::1], f8, f4[:,::1], f4[::1])",
    parallel=True,
    cache=True,
    error_model="numpy",
)
def _size(
    key: np.uint64, births: npt.NDArray[np.int64], age01: Floats, bases: Doubles, spreads: Doubles, top: float, curves: Floats,
    size: Floats,
) -> None:  # fmt: skip
    last = curves.shape[1] - 1
    for i in prange(len(births)):
        at = age01[i] * last
        j = min(int(at), last - 1)
        size[i] = min(top, _number(bases, spreads, curves, OF_SIZE, key, births[i], SIZE, i, j, at - j))


_kernel: Callable[..., None] = kernel_lock(_dress)
_sized: Callable[..., None] = kernel_lock(_size)
# So far apart are the numbers by which joints of one strand draw.
_JOINTS_APART = 40


@dataclass(frozen=True)
class Looks:
    """Size in px, opacity in [0, 1], linear colour (n, 3) and angle in degrees of particles, float32 (n,)."""

    size: Floats
    opacity: Floats
    colour: Floats
    angle: Floats


class AppearanceInput:
    """Reads an emitter's numbers of age for living particles at a moment."""

    def __init__(self, source: BirthSource, state: State, t: float) -> None:
        self.source, self.state, self.t = source, state, t
        self._at_birth: dict[str, Doubles] | None = None

    def base(self, number: Number) -> Doubles:
        """A number without spread and curve, float64 (1,) or (n,)."""
        if not number.timed:
            return np.array([number.value])
        readings = self.source.readings
        if number.reads == "birth" and not (number.source is not None and number.source.measure in SINCE):
            return readings.number(number, self.state.moments, self._birth() if is_measured(number) else None)
        if not is_measured(number):
            return readings.number(number, np.array([self.t]))
        now = np.full(self.state.count, self.t)
        return readings.number(number, now, self._now(number))

    def _birth(self) -> dict[str, Doubles]:
        if self._at_birth is None:
            births, moments = self.state.births, self.state.moments
            place, velocity, _ = self.source.leave(births, moments)
            self._at_birth = self.source.measured(place.T.astype(np.float64), moments)
            self._at_birth["speed"] = np.linalg.norm(velocity, axis=0).astype(np.float64)
        return self._at_birth

    def _now(self, number: Number) -> dict[str, Doubles]:
        source, readings, place = number.source, self.source.readings, self.state.place.T.astype(np.float64)
        assert source is not None
        match source.measure:
            case "speed":
                measure = np.linalg.norm(self.state.velocity, axis=0).astype(np.float64)
            case "since touch" | "since caught":
                measure = self.state.measured(source.measure, self.t).astype(np.float64)
            case "emitter speed":
                speed = np.linalg.norm(readings.velocity(self.source.emitter, np.array([self.t])), axis=1)
                measure = np.repeat(speed, len(place))
            case "distance":
                to = readings.frames(readings.things[source.thing or ""], np.array([self.t])).place
                measure = np.linalg.norm(place - to, axis=1)
            case _:
                light = self.source.light
                if light is None:
                    return {}
                measure = brightness(light, place, np.full(len(place), self.t))
        return {measure_name(source): measure}


@dataclass(frozen=True)
class _Fixed:
    """What of an emitter's looks depends on no moment: its numbers in the order of rows, what they vary by and at most are, their
    curves, its ramp, whether channels are scaled; and values without spread and curve, where none of them changes."""

    numbers: tuple[Number, ...]
    spreads: Doubles
    tops: Doubles
    curves: Floats
    ramp: Floats
    shaded: bool
    bases: Doubles | None


def _fixed(source: BirthSource) -> _Fixed:
    known: _Fixed | None = source.kept.get("looks")
    if known is not None:
        return known
    e = source.emitter
    numbers = (e.size, e.opacity, e.brightness, e.red, e.green, e.blue)
    none = np.full(TABLE, -1, np.float32)
    tables = np.stack(
        [
            c
            for n in numbers
            for c in (curves.table(n.over_life), none if n.over_life_to is None else curves.table(n.over_life_to))
        ]
    )
    ramp = gradients.table(e.colour)
    if e.colour_by != "age":
        # Its colours are read elsewhere; its opacity stays that of the age.
        ramp = ramp.copy()
        ramp[:, :3] = 1
    shaded = any(
        n != type(e).model_fields[name].default for n, name in zip(numbers[3:], ("red", "green", "blue"), strict=True)
    )
    timed = any(n.timed for n in numbers)
    made = source.kept["looks"] = _Fixed(
        numbers, np.array([[n.spread, n.spread_shape == "bell"] for n in numbers], np.float64),
        np.array([bounds_of(n)[1] for n in numbers], np.float64), tables, ramp, shaded,
        None if timed else np.array([[n.value] for n in numbers], np.float64),
    )  # fmt: skip
    return made


def dress(source: BirthSource, state: State, age01: Floats, t: float, length_s: float) -> Looks:
    """Looks of living particles at shot time t; age01 (n,) is each one's own age in [0, 1]; length_s is the shot's."""
    e, room, fixed = source.emitter, AppearanceInput(source, state, t), _fixed(source)
    bases = fixed.bases
    if bases is None:
        bases = np.ascontiguousarray(np.stack(np.broadcast_arrays(*(room.base(n) for n in fixed.numbers))))
    count = state.count
    looks = Looks(
        np.empty(count, np.float32),
        np.empty(count, np.float32),
        np.empty((count, 3), np.float32),
        _angles(source, state, age01, t, room),
    )
    seen01 = seen_age(source, state.births, age01) if isinstance(source, PieceSource) else age01
    _kernel(
        np.uint64(source.key), state.births, seen01, bases, fixed.spreads, fixed.tops, fixed.curves, fixed.ramp,
        np.ascontiguousarray(room.base(e.fade_last) / 100), fixed.shaded,
        looks.size, looks.opacity, looks.colour,
    )  # fmt: skip
    if isinstance(source, PieceSource) and (own := sizes_of(source, state, age01)) is not None:
        looks = replace(looks, size=own)
    if e.colour_by != "age" or colours.is_varied(e):
        looks = replace(looks, colour=_recoloured(looks, room, e, age01, length_s))
    if e.tint:
        looks = replace(looks, colour=(looks.colour * _tints(source, state)).astype(np.float32))
    return looks


def shape_of(source: BirthSource, state: State, age01: Floats, t: float) -> tuple[Floats, Floats]:
    """Sizes and angles alone, as `dress` gives them, float32 (n,)."""
    room, fixed = AppearanceInput(source, state, t), _fixed(source)
    if isinstance(source, PieceSource) and (own := sizes_of(source, state, age01)) is not None:
        return own, _angles(source, state, age01, t, room)
    size = np.empty(state.count, np.float32)
    base = room.base(fixed.numbers[0])[None] if fixed.bases is None else fixed.bases[:1]
    _sized(
        np.uint64(source.key),
        state.births,
        age01,
        np.ascontiguousarray(base),
        fixed.spreads,
        fixed.tops[OF_SIZE],
        fixed.curves,
        size,
    )
    return size, _angles(source, state, age01, t, room)


def number_now(number: Number, readings: Readings, age01: Floats, t: float) -> Doubles:
    """A number of age with its curve, without what is drawn or measured, at shot time t; (n,)."""
    value = readings.number(number, np.array([t]))[0]
    return np.asarray(value * np.interp(age01, AGES, curves.table(number.over_life)))


def _recoloured(looks: Looks, room: AppearanceInput, e: Emitter, age01: Floats, length_s: float) -> Floats:
    """Colours by another measure than age (these are their brightness), and varied in hue, saturation and lightness."""
    source, state, colour = room.source, room.state, looks.colour
    if e.colour_by == "plate":
        place, _, _ = source.leave(state.births, state.moments)
        under = colours.plate_colours(source.light, place.T.astype(np.float64), state.moments)
        colour = (colour * under).astype(np.float32)
    elif e.colour_by == "source":
        colour = (colour * source.own_colours(state.births, age01)).astype(np.float32)
    elif e.colour_by != "age":
        at = colours.along(e, source, state, room.t, length_s)
        colour = colours.tinted(e.colour, at, colour, dealt=e.colour_by == "random")
    if colours.is_varied(e):
        colour = colours.varied(e, source, state, colour)
    return colour


def _tints(source: BirthSource, state: State) -> Doubles:
    """The keyed colour at birth of each particle, linear (n, 3)."""
    tints = sorted(source.emitter.tint, key=lambda tint: tint.at_s)
    at = source.readings.round(state.moments)
    lab = gradients.oklab(np.array([gradients.hex_to_linear(tint.colour) for tint in tints]))
    mixed = np.stack([np.interp(at, [tint.at_s for tint in tints], lab[:, c]) for c in range(3)], axis=1)
    return np.maximum(0, gradients.from_oklab(mixed))


def _angles(source: BirthSource, state: State, age01: Floats, t: float, room: AppearanceInput) -> Floats:
    """Angle at birth and what the spin has turned since: its over-life curve is integrated over each life."""
    e, key, births = source.emitter, source.key, state.births
    if e.strand is not None:
        # Bodies on a strand are turned one by one.
        births = births + (joint_numbers(e, len(births)) << _JOINTS_APART)
    angle = np.broadcast_to(room.base(e.angle) + spread_of(e.angle, key, births, ANGLE), births.shape)
    if isinstance(source, PieceSource) and source.flights.cut.sheet is not None:
        return _angles_of_pieces(source, state, age01, t, room, angle)
    if e.spin.value == 0 and e.spin.spread == 0 and not e.spin.timed:
        return np.asarray(angle, np.float32)
    spin = room.base(e.spin) + spread_of(e.spin, key, births, SPIN)
    # What has arrived at the end of its life turns no further.
    age = np.minimum(t - state.moments, state.lives)
    return np.asarray(angle + spin * _spun(source, births, age01, age, state.lives), np.float32)


def _spun(source: BirthSource, births: Longs, age01: Floats, age: Doubles, lives: Floats) -> Doubles:
    """Seconds of full spin of births (n,) up to an age, each by its own curve."""
    spin = source.emitter.spin
    share = _run(source, spin.over_life, age01, age, lives)
    if spin.over_life_to is None:
        return share
    other = _run(source, spin.over_life_to, age01, age, lives)
    return share + draws01(source.key, births, BETWEEN_CURVES + _SPAN * SPIN) * (other - share)


def _angles_of_pieces(
    source: PieceSource, state: State, age01: Floats, t: float, room: AppearanceInput, angle: Doubles
) -> Floats:
    """Pieces leave as they stood, and arrive turned by whole turns; those that come from elsewhere begin at their angle."""
    e, key, births = source.emitter, source.key, state.births
    begin = beginning(source, births, angle)
    spin = room.base(e.spin) + spread_of(e.spin, key, births, SPIN)
    now = _spun(source, births, age01, t - state.moments, state.lives)
    end = _spun(source, births, np.ones_like(age01), finite(state.lives), state.lives)
    turned = turned_home(source, births, begin + spin * now, begin + spin * end, age01)
    return np.asarray(base_turn(source, state, age01) + turned, np.float32)


def _run(source: BirthSource, curve: Curve | None, age01: Floats, age: Doubles, lives: Floats) -> Doubles:
    """Seconds of full spin up to an age: the integral of a curve over each life."""
    if curve is None:
        return age
    known: tuple[Doubles, float] | None = source.kept.get(f"run {id(curve)}")
    if known is None:
        values = curves.table(curve).astype(np.float64)
        total = np.concatenate([[0.0], np.cumsum((values[1:] + values[:-1]) / 2)]) / (TABLE - 1)
        known = source.kept[f"run {id(curve)}"] = total, float(values[0])
    total, first = known
    ends = np.isfinite(lives)
    part = np.interp(age01, AGES, total) * np.where(ends, lives, 0)
    return np.where(ends, part, age * first)
