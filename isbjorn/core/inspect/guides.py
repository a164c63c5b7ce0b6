"""What is drawn on the picture to guide the eye, and the forecast before a run: exactly what the engine will use."""

from __future__ import annotations

import math
from collections.abc import Callable, Hashable
from dataclasses import dataclass
from typing import Any

import numpy as np
from pydantic import BaseModel, Field

from isbjorn.core.caching import IdentityCache
from isbjorn.core.document import Curve, Emitter, Number, Shot
from isbjorn.core.document.editing.diff import Edited, changes_between
from isbjorn.core.document.editing.effective_shot import effective_shot
from isbjorn.core.document.fields.references import LISTS, numbers_of
from isbjorn.core.emit.pieces.flights import PieceSource
from isbjorn.core.emit.shapes import outline
from isbjorn.core.emit.shapes.base import Light, ShapeSetting
from isbjorn.core.evaluate import curves, gradients
from isbjorn.core.evaluate.curves import TABLE
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.inspect.fields import arrows_of
from isbjorn.core.inspect.flights import centre_ways, fan_of, flights_of, through_deformers
from isbjorn.core.inspect.forecast import Cost, Forecast, forecast
from isbjorn.core.inspect.handles import (
    Grip,
    Path2,
    Shown,
    Sight,
    deformer_shown,
    force_shown,
    light_shown,
    marker_shown,
    matte_shown,
    on_picture,
    place_grips,
    ripples_shown,
    shape_grips,
    strand_shown,
    zone_shown,
)
from isbjorn.core.inspect.piece_fronts import PieceFront, fronts_shown
from isbjorn.core.render.scene.camera import Orbit, Projection, projection
from isbjorn.core.runtime.memory import BYTES_PER_PARTICLE
from isbjorn.core.simulate.checkpoints import StateCache
from isbjorn.core.simulate.fingerprint import reads_plate
from isbjorn.core.simulate.track import Track, shares_of

_GRAPH, _LOOKED_AT = 400, 4
_TONES = 65
# Their lanes are shown where they are in use.
_SELDOM = ("stretch", "red", "green", "blue")


class Lane(BaseModel):
    """A value over life as the engine reads it: `curve` is the multiplier at even ages, `to` that of a second curve; low and high
    the spread at each. thing and field are its address in the document."""

    name: str
    unit: str
    base: float = Field(description="What the curve multiplies.")
    thing: str
    field: str
    curve: list[float]
    to: list[float] | None
    low: list[float]
    high: list[float]


class Course(BaseModel):
    """What an emitter will do, before it runs."""

    alive_at_most: int = Field(description="Maximum number alive at once.")
    wanted_at_most: int = Field(description="Number alive without limits.")
    share: int = Field(description="Limit of this emitter after the shot's limit is divided.")
    born_per_s: float
    life_from_s: float
    life_to_s: float | None = Field(description="None: endless.")
    full_from_frame: int | None = Field(description="Frame at which the number alive reaches its peak.")
    memory_bytes: int
    farthest_px: float = Field(description="Distance in px that the flights of the fan reach from the source.")


class Guides(BaseModel):
    """Guides of one emitter at a moment. Places are px of the design size, from the top left corner."""

    emitter: str
    shown: Shown
    fan: Path2 = Field(
        description="Outline of the fan: from the centre along one second of flight, across the full angle, and back."
    )
    flights: list[Path2] = Field(description="Predicted paths from birth to death.")
    lanes: list[Lane]
    ramp: list[str] = Field(description="Colours over life at even ages, in encoded sRGB.")
    ramp_opacity: list[float]
    forecast: Course
    pieces: list[PieceFront] = Field(default=[], description="Fronts over its pieces, if it is in pieces.")


class Graph(BaseModel):
    """A number that shot time changes: its values from the first frame to the last, evenly, without what is measured."""

    path: str = Field(description="JSON pointer of the number in the document.")
    values: list[float]


class Scene(BaseModel):
    """All guides of a shot at a moment."""

    frame: int
    moving: bool = Field(description="Whether the guides change from frame to frame.")
    emitters: list[Guides]
    world: list[Shown] = Field(description="Forces, zones and markers.")
    graphs: list[Graph]
    tones: list[Graph] = Field(description="Curves of grades: output at even encoded input values.")
    picture: Path2 = Field(description="Outline of the shot's frame in the free view; empty without one.")
    cost: Forecast | None = Field(default=None, description="Estimated cost of a frame.")
    problem: str = Field(default="", description="Reason why there are no guides.")

    @property
    def far_px(self) -> dict[str, float] | None:
        """How far the flights of each emitter come; None where there are no guides."""
        return None if self.problem else {one.emitter: one.forecast.farthest_px for one in self.emitters}


def _spans(number: Number) -> dict[str, Any]:
    ages = np.linspace(0, 1, 129)

    def read(given: Any) -> Any:
        return np.maximum(curves.evaluate(given, ages), 0)

    values = np.ones(129) if number.over_life is None else read(number.over_life)
    second = None if number.over_life_to is None else read(number.over_life_to)
    ends = [number.value - number.spread, number.value + number.spread]
    if number.value >= 0:
        ends[0] = max(0.0, ends[0])
    every = np.stack([c * end for c in ([values] if second is None else [values, second]) for end in ends])
    return {
        "curve": values.round(5).tolist(),
        "to": None if second is None else second.round(5).tolist(),
        "low": every.min(axis=0).round(4).tolist(),
        "high": every.max(axis=0).round(4).tolist(),
    }


_spans_of: IdentityCache[dict[str, Any]] = IdentityCache(_spans, what="Spans of the timeline")


def _lane(name: str, number: Number, thing: str, field: str, unit: str) -> Lane:
    return Lane.model_construct(name=name, unit=unit, base=number.value, thing=thing, field=field, **_spans_of(number))


def _ramp_of(colour: Any) -> tuple[list[str], list[float]]:
    ramp = gradients.table(colour)[:: TABLE // 64]
    return gradients.linear_to_hexes(ramp[:, :3]), ramp[:, 3].astype(np.float64).round(4).tolist()


_ramp: IdentityCache[tuple[list[str], list[float]]] = IdentityCache(_ramp_of, what="Ramps of gradients")


def _unit(thing: Any, field: str) -> str:
    return next(m.unit for m in type(thing).model_fields[field].metadata if hasattr(m, "unit"))


def _lanes(shot: Shot, emitter: Emitter) -> list[Lane]:
    names = ["size", "opacity", "brightness", "speed", "spin"]
    names += [n for n in _SELDOM if getattr(emitter, n) != type(emitter).model_fields[n].default]
    found = [_lane(n, getattr(emitter, n), emitter.id, n, _unit(emitter, n)) for n in names]
    if emitter.pieces is not None and emitter.pieces.cut != "points":
        # Pieces are as large as they were cut: the curve alone changes that.
        found[0] = _lane(
            "size", emitter.size.model_copy(update={"value": 100.0, "spread": 0.0}), emitter.id, "size", "%"
        )
    for force in shot.reaching(emitter):
        strength = getattr(force, "strength", None)
        if strength is not None:
            found.append(_lane(force.name, strength, force.id, "strength", _unit(force, "strength")))
    return found


def _forecast(shot: Shot, track: Track, share: int, farthest: float) -> Course:
    e, births, shot_end = track.emitter, track.births, float(shot.length_s)
    begin = max(births.begin_s, -track.source.longest_life) if math.isinf(births.begin_s) else births.begin_s
    longest = track.source.longest_life
    # What is drawn around the slot of a birth is no more than the rate says in the long run.
    wanted = max(0, math.ceil(track.demand) - (2 if births.stream_counts else 0))
    full_s = begin + longest
    end = min(shot_end, births.end_s)
    full = math.ceil(full_s * shot.frame_rate) + shot.first_frame if full_s < end else None
    alive = min(wanted, share)
    life = e.lifespan
    return Course(
        alive_at_most=alive,
        wanted_at_most=wanted,
        share=share,
        born_per_s=round(births.per_second(max(begin, 0.0), max(end, 0.001)), 3),
        life_from_s=max(0.001, life.value - life.spread) if life.value else 0,
        life_to_s=None if math.isinf(longest) else longest,
        full_from_frame=None if full is None else max(shot.first_frame, full),
        memory_bytes=alive * BYTES_PER_PARTICLE,
        farthest_px=round(farthest, 1),
    )


def _guides(
    shot: Shot, emitter: Emitter, share: int, t: float, orbit: Orbit | None, light: Light | None, readings: Readings
) -> Guides:
    view = projection(shot, 1.0, t, orbit)
    track = Track(shot, emitter, share, StateCache(), readings, light)
    flights, farthest = flights_of(track, view, t, light)
    at = np.array([t])
    sight = Sight(view, readings.frames(emitter, at))
    fan = fan_of(emitter, track, view, t)
    aimed = emitter.toward == "direction" and emitter.recording is None
    place, way = place_grips(readings, view, emitter, t)
    middle, _ = centre_ways(emitter, track, t)
    turn = math.radians(middle - float(readings.frames(emitter, at).turn[0]))
    ahead = (math.cos(turn), math.sin(turn))
    size = max(1e-6, float(readings.frames(emitter, at).size[0]))
    leave = [
        sight.grip("Direction and speed", "turn", (0, 0), ["direction", "speed"], factor=size).model_copy(update={"at": fan[17]}),
        sight.grip("Spread", "spread", (0, 0), ["spread"], way=ahead).model_copy(update={"at": fan[1]}),
    ]  # fmt: skip
    born = emitter.recording is None
    lines = outline(emitter.shape, ShapeSetting(at, readings, light)) if born else []
    drawn = Sight(view, readings.frames(emitter, at), through_deformers(track, t))
    bent, bending = deformer_shown(readings, view, emitter, t)
    water, wetting = ripples_shown(readings, view, emitter, t)
    hanging, lengthening = strand_shown(readings, sight, emitter, ahead, t)
    fronts, edges, fronting = _fronts(track, readings, sight, t)
    shown = Shown(
        id=emitter.id, kind="emitter", centre=sight.centre, lines=[drawn.points(line) for line in lines], soft=[*bent,
        *water, *hanging, *edges], way=way,
        grips=[*(shape_grips(readings, emitter, sight, t) if born else []), *(leave if aimed else []), *place,
        *bending, *wetting, *lengthening, *fronting],
    )  # fmt: skip
    # What the engine made needs no validation: thousands of points would be looked at one by one.
    return Guides.model_construct(
        emitter=emitter.id,
        shown=shown,
        fan=fan if emitter.recording is None else [],
        flights=flights,
        lanes=_lanes(shot, emitter),
        ramp=_ramp(emitter.colour)[0],
        ramp_opacity=_ramp(emitter.colour)[1],
        forecast=_forecast(shot, track, share, farthest),
        pieces=fronts,
    )


def _fronts(
    track: Track, readings: Readings, sight: Sight, t: float
) -> tuple[list[PieceFront], list[Path2], list[Grip]]:
    source = track.source
    return fronts_shown(source, readings, sight, t) if isinstance(source, PieceSource) else ([], [], [])


def _is_moving(shot: Shot) -> bool:
    readings = Readings(shot)
    numbers = [n for thing in (shot.camera, *shot.finish) for _, n in numbers_of(thing)]
    return (
        any(n.timed for n in numbers)
        or any(_is_timed(thing) for thing in shot.things)
        or any(not readings.still(thing) for thing in shot.placed)
        or any(f.evolving for f in shot.forces)
    )


_is_timed: IdentityCache[bool] = IdentityCache(
    lambda thing: any(n.timed for _, n in numbers_of(thing)), what="Whether parts change with time"
)


@dataclass
class Before:
    """Guides as they were asked for last of a shot, and what they were made of: what an edit does not touch is taken from them."""

    whole: Shot
    readings: Readings
    at: Hashable
    light: Light | None
    shares: dict[str, int]
    scene: Scene
    graphs: dict[str, list[Graph]]

    def most(self, shot: Shot, first: int, last: int, width: int) -> Cost | None:
        """About what a frame takes where a span of the shot takes longest, at a width; None if that is not known of it."""
        if self.scene.problem or not self.shares.keys() >= {e.id for e in shot.emitters}:
            return None
        acts, far = effective_shot(shot), self.scene.far_px or {}
        moments = {float(shot.seconds(first + (last - first) * n // _LOOKED_AT)) for n in range(_LOOKED_AT + 1)}
        costs = [forecast(acts, self.readings, t, self.shares, far) for t in sorted(moments)]
        return max(costs, key=lambda cost: cost.ms(width, width * shot.height // shot.width))


class Memory:
    """The latest results for one shot. Thread-safe: each thread reads the current ones, and stores its results."""

    def __init__(self) -> None:
        self.before: Before | None = None


def guides(
    shot: Shot,
    frame: int | None = None,
    orbit: Orbit | None = None,
    light: Light | None = None,
    thing: str | None = None,
    memory: Memory | None = None,
) -> Scene:
    """Guides of everything of a shot at a frame: of every emitter, on or off, in the order of the cast.

    thing: the force whose field is also wanted. memory: results for the shot before an edit.
    """
    shot = effective_shot(shot)
    frame = shot.first_frame if frame is None else shot.nearest_frame(frame)
    t = float(shot.seconds(frame))
    every_on = tuple(e if e.on else e.model_copy(update={"on": True}) for e in shot.emitters)
    whole = shot.model_copy(update={"emitters": every_on})
    view, at = projection(whole, 1.0, t, orbit), (frame, orbit, shot.camera)
    old = memory.before if memory is not None else None
    known = changes_between(old.whole, whole) if old is not None and old.at == at and old.light is light else None
    if old is None or known is None:
        old, known = None, Edited(whole, *[frozenset(thing.id for thing in whole.things)] * 2)
    whole, touched = known.shot, known.touched
    readings = Readings(whole, old.readings if old else None, known.moved)
    readings.light = light
    shares = shares_of(whole, readings)
    if not all(e.on for e in shot.emitters):
        shares |= shares_of(shot, Readings(shot, readings, frozenset()))
    had = {one.emitter: one for one in old.scene.emitters} if old else {}
    found = [
        had[e.id] if old and e.id not in touched and old.shares[e.id] == shares[e.id]
        else _guides(whole, e, shares[e.id], t, orbit, light if reads_plate(shot, e) else None, readings)
        for e in whole.emitters
    ]  # fmt: skip
    graphs = _graphs(whole, readings, old.graphs if old else {}, touched)
    scene = Scene.model_construct(
        frame=frame,
        moving=_is_moving(whole),
        emitters=found,
        world=_world(whole, readings, view, t, thing, {one.id: one for one in old.scene.world} if old else {}, touched),
        graphs=[graph for some in graphs.values() for graph in some],
        tones=_tones(shot),
        cost=forecast(shot, readings, t, shares, {one.emitter: one.forecast.farthest_px for one in found}),
        picture=_own_picture(shot, view) if orbit is not None else [],
    )
    if memory is not None:
        memory.before = Before(whole, readings, at, light, shares, scene, graphs)
    return scene


def no_guides(shot: Shot, frame: int | None, problem: str) -> Scene:
    """The scene of a shot whose guides cannot be computed, and why."""
    return Scene(
        frame=shot.first_frame if frame is None else frame, moving=False, emitters=[], world=[], graphs=[], tones=[], picture=[],
        problem=problem,
    )  # fmt: skip


def _world(
    shot: Shot, readings: Readings, view: Projection, t: float, thing: str | None, had: dict[str, Shown],
    touched: frozenset[str],
) -> list[Shown]:  # fmt: skip
    found = []
    for force in shot.forces:
        reached = next(
            (e for e in shot.emitters if any(x.force == force.id and x.emitter in (e.id, e.group) for x in shot.links)),
            None,
        )
        before = had.get(force.id)
        stays = force.id not in touched and (force.frame == "shot" or reached is None or reached.id not in touched)
        if before is not None and stays and force.id != thing and not before.arrows:
            found.append(before)
            continue
        shown = force_shown(shot, readings, view, force, reached, t)
        if force.id == thing:
            shown.arrows = arrows_of(shot, readings, view, force, reached, t)
        found.append(shown)
    others: list[tuple[Any, Callable[[], Shown]]] = [
        *((zone, lambda zone=zone: zone_shown(shot, readings, view, zone, t)) for zone in shot.zones),
        *((marker, lambda marker=marker: marker_shown(readings, view, marker, t)) for marker in shot.markers),
        *((lamp, lambda lamp=lamp: light_shown(readings, view, lamp, t)) for lamp in shot.lights),
        *((matte, lambda matte=matte: matte_shown(readings, view, matte, t)) for matte in shot.mattes),
    ]
    return found + [had[one.id] if one.id in had and one.id not in touched else make() for one, make in others]


def _graphs(
    shot: Shot, readings: Readings, had: dict[str, list[Graph]], touched: frozenset[str]
) -> dict[str, list[Graph]]:
    """Numbers that change in shot time, by the identity of their owner: its address in the document."""
    last = float(shot.seconds(shot.last_frame))
    t = np.linspace(0, last, max(2, min(_GRAPH, shot.frame_count)))
    owners: list[tuple[str, Any]] = [("camera", shot.camera)]
    owners += [(f"finish/{n}", step) for n, step in enumerate(shot.finish)]
    for field in LISTS:
        owners += [(f"{field}/{n}", thing) for n, thing in enumerate(getattr(shot, field))]
    return {
        owner: had[owner] if owner in had and getattr(thing, "id", None) not in {None, *touched} else [
            Graph.model_construct(
                path=f"/{owner}/{path.replace('.', '/')}", values=readings.number(number, t).round(4).tolist()
            )
            for path, number in numbers_of(thing)
            if number.timed
        ]
        for owner, thing in owners
    }  # fmt: skip


def _tones(shot: Shot) -> list[Graph]:
    owners: list[tuple[str, Any]] = [(f"/finish/{n}", step) for n, step in enumerate(shot.finish)]
    for field in ("emitters", "groups"):
        for n, thing in enumerate(getattr(shot, field)):
            owners += [(f"/{field}/{n}/finish/{k}", step) for k, step in enumerate(thing.finish)]
    for n, emitter in enumerate(shot.emitters):
        for name in ("release", "assemble") if emitter.pieces is not None else ():
            owners.append((f"/emitters/{n}/pieces/{name}", getattr(emitter.pieces, name)))
    at = np.linspace(0, 1, _TONES)
    return [
        Graph.model_construct(path=f"{path}/{name}", values=np.clip(curves.evaluate(value, at), 0, 1).round(4).tolist())
        for path, part in owners
        if part is not None
        for name, value in part
        if isinstance(value, Curve)
    ]


def _own_picture(shot: Shot, view: Projection) -> Path2:
    x, y = shot.width / 2, shot.height / 2
    return on_picture(view, [(-x, y, 0), (x, y, 0), (x, -y, 0), (-x, -y, 0), (-x, y, 0)])
