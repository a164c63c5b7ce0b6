"""What is drawn on the picture to guide the eye, and the forecast before a run: exactly what the engine will use."""

from __future__ import annotations

import functools
import math

import numpy as np
import numpy.typing as npt
from pydantic import BaseModel, Field

from isbjorn.core.birth.newborn import lifespans
from isbjorn.core.birth.where import outline
from isbjorn.core.document import Emitter, Link, Number, Shot
from isbjorn.core.life import curve, gradient
from isbjorn.core.life.curve import TABLE
from isbjorn.core.motion.cache import StateCache
from isbjorn.core.motion.step import advance
from isbjorn.core.motion.track import Track, shares_of
from isbjorn.core.picture.project import Projection, projection

_FLIGHTS = 40
_SAMPLES = 28
_LONGEST_FLIGHT_S = 30.0
BYTES_PER_PARTICLE = 76
Path2 = list[tuple[float, float]]


class Lane(BaseModel):
    """A value over life as the engine reads it: `curve` is the multiplier at even ages; low and high the spread at each."""

    name: str
    unit: str
    curve: list[float]
    low: list[float]
    high: list[float]


class Forecast(BaseModel):
    """What an emitter will cost and do, before it runs."""

    alive_at_most: int = Field(description="Never more than this many at once.")
    wanted_at_most: int = Field(description="How many it would be without limits.")
    share: int = Field(description="Its limit, once the shot's is divided.")
    born_per_s: float
    life_from_s: float
    life_to_s: float | None = Field(description="None: without end.")
    full_from_frame: int | None = Field(description="Frame from which as many are alive as ever will be.")
    memory_bytes: int
    farthest_px: float = Field(description="How far the flights of the fan come from the source.")


class Guides(BaseModel):
    """Guides of one emitter. Places are px of the design size, from the top left corner."""

    emitter: str
    centre: tuple[float, float]
    outline: Path2
    fan: Path2 = Field(description="From the centre along one second of flight, across the full angle, and back.")
    flights: list[Path2] = Field(description="Predicted paths from birth to death.")
    lanes: list[Lane]
    ramp: list[str] = Field(description="Colours over life at even ages, encoded sRGB.")
    ramp_opacity: list[float]
    forecast: Forecast


def _on_picture(view: Projection, places: npt.ArrayLike) -> Path2:
    pixels, _ = view.place(places)
    return [(x, y) for x, y in np.round(pixels.astype(np.float64), 2).tolist()]


def _fan(emitter: Emitter, view: Projection) -> Path2:
    x, y, z = emitter.across.value, emitter.up.value, emitter.depth.value
    half, length = math.radians(emitter.spread.value) / 2, emitter.speed.value
    axis = math.radians(emitter.direction.value)
    turns = np.linspace(axis + half, axis - half, 33)
    rim = [(x + length * math.cos(t), y + length * math.sin(t), z) for t in turns]
    return _on_picture(view, [(x, y, z), *rim, (x, y, z)])


def _flights(track: Track, view: Projection) -> tuple[list[Path2], float]:
    births = np.arange(_FLIGHTS, dtype=np.int64)
    lives = np.minimum(lifespans(track.source, births), _LONGEST_FLIGHT_S)
    state = track.begin(births, np.zeros(_FLIGHTS), lives)
    stride = max(1, math.ceil(float(lives.max()) * track.hz / _SAMPLES))
    samples, index = [state.place.T.copy()], 0
    while index < lives.max() * track.hz:
        advance(state.values, births, state.moments, track.forces, track.key, index, index + stride, track.hz)
        index += stride
        samples.append(state.place.T.copy())
    paths = np.array(samples)
    alive = 1 + np.ceil(lives * track.hz / stride).astype(int)
    in_flight = np.arange(len(samples))[:, None] <= alive
    distance = np.linalg.norm(paths - paths[0], axis=2)
    drawn = _on_picture(view, paths.reshape(-1, 3))
    return [drawn[i::_FLIGHTS][: alive[i] + 1] for i in range(_FLIGHTS)], float((distance * in_flight).max())


def _lane(name: str, unit: str, number: Number) -> Lane:
    ages = np.linspace(0, 1, 129)
    values = np.ones(129) if number.over_life is None else np.maximum(curve.evaluate(number.over_life, ages), 0)
    low, high = max(0.0, number.value - number.spread), number.value + number.spread
    return Lane.model_construct(
        name=name,
        unit=unit,
        curve=values.round(5).tolist(),
        low=(values * low).round(4).tolist(),
        high=(values * high).round(4).tolist(),
    )


def _forecast(shot: Shot, track: Track, share: int, farthest: float) -> Forecast:
    life = track.emitter.lifespan
    shot_end = float(shot.length_s)
    births = track.births
    lasting = min(shot_end, births.end_s) - births.begin_s
    longest = math.inf if life.value == 0 else life.value + life.spread
    wanted = births.rate * max(0.0, min(longest, lasting))
    full_s = births.begin_s + longest
    full = math.ceil(full_s * shot.frame_rate) + shot.first_frame if full_s < min(shot_end, births.end_s) else None
    alive = min(math.ceil(wanted), share)
    return Forecast(
        alive_at_most=alive,
        wanted_at_most=math.ceil(wanted),
        share=share,
        born_per_s=births.rate,
        life_from_s=max(0.001, life.value - life.spread) if life.value else 0,
        life_to_s=None if life.value == 0 else longest,
        full_from_frame=None if full is None else max(shot.first_frame, full),
        memory_bytes=alive * BYTES_PER_PARTICLE,
        farthest_px=round(farthest, 1),
    )


@functools.lru_cache(maxsize=256)
def _guides_of(shot: Shot, share: int) -> Guides:
    """Guides of the one emitter of a shot that was cut down to it and what reaches it."""
    emitter, view = shot.emitters[0], projection(shot)
    track = Track(shot, emitter, share, StateCache())
    flights, farthest = _flights(track, view)
    x, y, z = emitter.across.value, emitter.up.value, emitter.depth.value
    ramp = gradient.table(emitter.colour)[:: TABLE // 64]
    lanes = [
        ("size", "px", emitter.size),
        ("opacity", "%", emitter.opacity),
        ("brightness", "×", emitter.brightness),
    ]
    # What the engine made needs no validation: thousands of points would be looked at one by one.
    return Guides.model_construct(
        emitter=emitter.id,
        centre=_on_picture(view, [(x, y, z)])[0],
        outline=_on_picture(view, [(x + px, y + py, z) for px, py in outline(emitter.shape)]),
        fan=_fan(emitter, view),
        flights=flights,
        lanes=[_lane(*lane) for lane in lanes],
        ramp=[gradient.linear_to_hex(c[:3]) for c in ramp],
        ramp_opacity=[round(float(c[3]), 4) for c in ramp],
        forecast=_forecast(shot, track, share, farthest),
    )


def guides(shot: Shot) -> list[Guides]:
    """Guides of every emitter, on or off, in the order of the cast."""
    whole = shot.model_copy(update={"emitters": tuple(e.model_copy(update={"on": True}) for e in shot.emitters)})
    shares = shares_of(whole) | shares_of(shot)
    found = []
    for emitter in whole.emitters:
        forces = shot.reaching(emitter)
        links = tuple(Link(force=f.id, emitter=emitter.id) for f in forces)
        alone = {
            "name": "",
            "plate": None,
            "limit": 0,
            "emitters": (emitter,),
            "forces": forces,
            "links": links,
        }
        found.append(_guides_of(shot.model_copy(update=alone), shares[emitter.id]))
    return found
