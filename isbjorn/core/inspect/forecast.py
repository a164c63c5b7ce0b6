"""What a frame will take, before it is drawn: everything that is done for it is counted, and has its price.

The prices are those of a machine on which `speed` is 1, found by fitting the demonstration's shots, each within a factor of two. A
frame is counted as it comes in a row: its state is a frame's steps from the one before.
"""

from __future__ import annotations

import math
import statistics
import threading
import time
from collections import defaultdict
from collections.abc import Callable

import numpy as np
from pydantic import BaseModel, Field

from isbjorn.core.arrays import Doubles
from isbjorn.core.caching import IdentityCache, bytes_of
from isbjorn.core.document import Emitter, Group, Number, Shot
from isbjorn.core.document.emitter_parts.ripples import Ripples
from isbjorn.core.document.parts.solids import Solid
from isbjorn.core.emit.pieces.flights import PieceBirths
from isbjorn.core.evaluate import curves
from isbjorn.core.evaluate.geometry.mesh_trees import tree_bytes
from isbjorn.core.evaluate.geometry.solids import mesh_of_solid
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.frame import Solver, draw_particles
from isbjorn.core.render.composite.compositor import is_simple
from isbjorn.core.render.composite.effects import EffectMoment, reach_of, working
from isbjorn.core.render.draw.ripples import water_of
from isbjorn.core.render.models.bodies import faces_of, has_models
from isbjorn.core.render.models.covers import seen_mattes
from isbjorn.core.render.raster.blends import MODES
from isbjorn.core.render.scene.atlas import is_plain
from isbjorn.core.runtime.memory import BYTES_PER_PARTICLE
from isbjorn.core.simulate.integrators.constant import is_steady
from isbjorn.core.simulate.strands.joints import joints_of
from isbjorn.core.simulate.track import HELD, known_births, weight_of

# Milliseconds: of a thing alone, or of a million units of it (particles, or pixels).
PRICES: dict[str, float] = {
    "frame": 1.4, "emitter": 5.8, "exposed emitter": 2.2, "trail": 4.2, "steady step": 7.0, "step": 69.0, "look": 270.0,
    "disc": 200.0, "smear": 2100.0, "sprite": 2100.0, "stroke": 2100.0, "cover": 1.1, "smear cover": 18.0, "sprite cover": 4.5,
    "layer": 9.0, "deform": 160.0, "effect": 13.0, "plate": 200.0, "shade": 4.3, "skin": 110.0, "wave": 46.0, "water": 29.0,
    "model": 2.5, "face": 700.0, "model cover": 25.0, "lit cover": 500.0,
}  # fmt: skip
_LONGEST_S = 600.0
# Even moments to which drops of a tenth of a second are shared out, about.
_NODES = 30
# What the task of `speed` takes where it is 1.
_USUAL_S = 20e-3
# Number of measurements; wait before the second one, doubled each time.
_MEASURED, _AGAIN_S = 4, 15.0
Counted = defaultdict[str, float]


class Cost(BaseModel):
    """About what is taken, in ms: whatever the picture's size, and for each million of its pixels."""

    fixed_ms: float
    mpx_ms: float

    def ms(self, width: int, height: int) -> float:
        """At a size of the picture."""
        return self.fixed_ms + self.mpx_ms * width * height / 1e6


class Forecast(Cost):
    """About what a frame will take, and of that, each emitter."""

    memory_bytes: int = Field(description="Bytes of the particle states of one moment.")
    models_bytes: int = Field(description="Bytes of all models, once.")
    emitters: dict[str, Cost] = Field(description="By id of the emitter; without effects of groups.")


def _reference() -> Shot:
    """A small shot that does a little of everything."""
    one = {
        "rate": 600, "lifespan": 2, "size": {"value": 6, "spread": 2}, "blend": "add", "finish": [{"kind": "glow", "radius": 12}]
    }  # fmt: skip
    stars = {"rate": 200, "body": {"kind": "star"}, "across": 40}
    emitters = [{"id": "a", **one}, {"id": "b", **stars}]
    forces = [{"kind": "turbulence", "id": "air"}]
    links = [{"force": "air", "emitter": "a"}]
    return Shot.model_validate({"width": 480, "height": 270, "emitters": emitters, "forces": forces, "links": links})


class _Speed:
    """How fast this machine is: by some frames of a small shot, a tenth of a second in all, in the time of the thread that draws
    them: the machine may be busy with something else meanwhile, as at a start, and is slower then; that is found out later."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self.forget()

    def forget(self) -> None:
        """Measure again on the next request."""
        self._found, self._times, self._due = 0.0, 0, -math.inf

    def __call__(self) -> float:
        with self._lock:
            now = time.monotonic()
            if self._times < _MEASURED and now >= self._due:
                self._found = max(self._found, self.measured())
                self._times, self._due = self._times + 1, now + _AGAIN_S * 2**self._times
            return self._found

    @staticmethod
    def measured(clock: Callable[[], float] = time.thread_time) -> float:
        """As fast as it is by one clock, now."""
        solver = Solver(_reference())
        taken = []
        for frame in range(60, 71):
            start = clock()
            draw_particles(solver, frame)
            taken.append(clock() - start)
        return _USUAL_S / statistics.median(taken[2:])


speed = _Speed()


def _over_life(number: Number) -> tuple[float, Doubles]:
    """The most that a number is by its keys, and by what it is multiplied at even ages."""
    most = max([number.value, *(k.value for k in number.keys)])
    if number.over_life is None:
        return most, np.ones(1)
    return most, np.maximum(curves.evaluate(number.over_life, np.linspace(0, 1, 33)), 0)


def _means(number: Number) -> tuple[float, float]:
    most, shares = _over_life(number)
    return float(most * shares.mean()), float((most**2 + number.spread**2 / 3) * (shares**2).mean())


_means_of: IdentityCache[tuple[float, float]] = IdentityCache(_means, what="Means for the forecast")


def _mean(number: Number) -> float:
    """The mean of a number over life, about."""
    return _means_of(number)[0]


def _mean_square(number: Number) -> float:
    """The mean of its square over all particles, about."""
    return _means_of(number)[1]


def alive_about(shot: Shot, emitter: Emitter, readings: Readings, t: float, most: int) -> float:
    """How many of an emitter are alive at a moment, about."""
    births = known_births(shot, emitter, readings)
    life = emitter.lifespan.value or _LONGEST_S
    until = min(t, births.end_s)
    begin = t - life if births.period_s is not None else max(t - life, births.begin_s)
    return max(0.0, min(float(most), births.about(begin - 1e-6, until) if until > begin else 0.0))


def counted(
    shot: Shot, emitter: Emitter, readings: Readings, t: float, n: float, far_px: float, exposed: bool
) -> tuple[Counted, Counted]:
    """What is done for an emitter of which n are alive: things, and what grows with the picture (in px of the shot)."""
    things, area = Counted(float), Counted(float)
    things["emitter"] += 1
    n *= joints_of(emitter)
    steps = n * shot.simulation_rate / float(shot.frame_rate) / 1e6
    if is_steady(shot, emitter, readings):
        things["steady step"] += steps
    else:
        held = HELD if emitter.strand is not None else 0
        things["step"] += steps * (1 + held + sum(weight_of(force, emitter) for force in shot.reaching(emitter)))
    blurred = exposed and emitter.motion_blur
    things["look"] += n / 1e6 * (3 if blurred else 1)
    things["exposed emitter"] += float(blurred)
    things["deform"] += n / 1e6 * sum(d.on for d in emitter.deformers) * (4 if blurred else 1)
    size = math.sqrt(_mean_square(emitter.size)) + 2
    # Of strands, only the bodies that are set are drawn; one at the foot is little beside its line.
    bodies = n if emitter.strand is None or emitter.strand.bodies == "at all joints" else 0.0
    cover = bodies * size * size / 1e6
    heads = 1 + (emitter.heads.count if emitter.heads is not None else 0)
    plain = is_plain(emitter) and MODES[emitter.blend] == 0
    kind = ("smear" if blurred else "disc") if plain else "sprite"
    travelled = _mean(emitter.speed) / float(shot.frame_rate) / 2 if blurred else 0.0
    if has_models(emitter):
        _models(shot, emitter, bodies * heads, cover * heads, things, area, travelled)
        return things, area
    things[kind] += bodies * heads / 1e6
    wider = (1 + travelled / size) * (1 + max(0.0, emitter.stretch.value) / 100 * _mean(emitter.speed) / 100)
    area[{"disc": "cover", "smear": "smear cover", "sprite": "sprite cover"}[kind]] += cover * heads * wider
    births = known_births(shot, emitter, readings)
    if isinstance(births, PieceBirths):
        _standing(shot, births, things, area)
    if emitter.skin is not None:
        _skin(shot, n, things, area)
    if emitter.ripples is not None:
        fallen = sum(known_births(shot, e, readings).about(t - 0.1, t) for e in shot.falling_into(emitter))
        _ripples(shot, emitter.ripples, fallen, things, area)
    if emitter.strand is not None:
        # Drawn as often as none is seen to jump: of eight times about a half.
        times = 4 if blurred else 1
        things["stroke"] += n * 2 * times / 1e6
    elif emitter.trail is not None:
        length = emitter.trail.length.value
        points = length if emitter.trail.by == "frames" else length / max(4.0, _mean(emitter.speed) / 25)
        times = 8 if blurred else 1
        things["trail"] += times
        things["stroke"] += n * points * times / 1e6
    if emitter.lines is not None:
        things["stroke"] += n * emitter.lines.most / 1e6
    if any(m.on and m.kind == "depth" and m.id in emitter.hidden_by for m in shot.mattes):
        # About half of the slices have particles that are cut.
        area["layer"] += 12 * shot.width * shot.height / 1e6
    own = not is_simple(emitter) and (working(emitter.finish) or bool(emitter.hidden_by))
    if own or emitter.use.kind != "picture":
        _layer(shot, emitter, readings, t, far_px + size, area)
    elif not is_simple(emitter) and plain and not blurred:
        area["layer"] += 1.5 * shot.width * shot.height / 1e6
    return things, area


def _standing(shot: Shot, births: PieceBirths, things: Counted, area: Counted) -> None:
    """Pieces that stand: at most all of them, drawn as one on a layer of their own."""
    cut = births.flights.cut
    things["sprite"] += len(cut) / 1e6
    area["sprite cover"] += cut.extent[0] * cut.extent[1] / 1e6
    area["layer"] += shot.width * shot.height / 1e6


def _models(
    shot: Shot, emitter: Emitter, bodies: float, cover: float, things: Counted, area: Counted, travelled: float
) -> None:
    """Bodies that are models, in all poses and from all places on the lens in which they are drawn."""
    times = 1.0
    if shot.camera.shutter.value > 0 and emitter.motion_blur:
        times = min(24.0, 1 + 2 * travelled / 1.5)
    if shot.camera.kind == "perspective" and shot.camera.aperture.value > 0:
        times *= 4 if times > 1 else 12
    things["model"] += times
    things["face"] += bodies * faces_of(emitter) * times / 1e6
    area["model cover"] += cover * times


def _covers(shot: Shot, readings: Readings, t: float, things: Counted, area: Counted) -> None:
    """Models that are drawn under all particles, and the light on them."""
    for matte in seen_mattes(shot):
        things["model"] += 1
        things["face"] += len(mesh_of_solid(matte.model).faces) / 1e6
        across = float(readings.number(matte.size, np.array([t]))[0])
        cover = min(shot.width * shot.height, across * across) / 1e6
        area["model cover"] += cover * matte.visible
        area["lit cover"] += cover * (matte.catches.value > 0 or matte.catches.timed)


def models_bytes(shot: Shot) -> int:
    """About how much memory the models of a shot take: their meshes, and the trees of those that are met or hide."""
    drawn = [body for e in shot.emitters if e.on for body in (e.body, *e.mixed) if isinstance(body, Solid)]
    sources = [e.shape for e in shot.emitters if e.on and isinstance(e.shape, Solid)]
    forms = (*(f for f in shot.forces if f.on), *shot.zones)
    met = [thing.modelled[0] for thing in forms if thing.modelled is not None]
    mattes = [matte.model for matte in shot.mattes if matte.on and matte.modelled is not None]
    meshes = {mesh_of_solid(solid) for solid in (*drawn, *sources, *mattes, *met)}
    trees = {mesh_of_solid(solid) for solid in met}
    return sum(map(bytes_of, meshes)) + sum(map(tree_bytes, trees))


def stepping_ms(shot: Shot, emitter: Emitter, readings: Readings, t: float, n: float) -> float:
    """What stepping n particles of an emitter for one frame takes, in ms."""
    things, _ = counted(shot, emitter, readings, t, n, 0.0, False)
    return (PRICES["step"] * things["step"] + PRICES["steady step"] * things["steady step"]) / speed()


def _skin(shot: Shot, n: float, things: Counted, area: Counted) -> None:
    """One skin over n particles."""
    area["skin"] += shot.width * shot.height / 1e6
    things["disc"] += n / 1e6


def _ripples(shot: Shot, ripples: Ripples, births: float, things: Counted, area: Counted) -> None:
    """A water surface, into which this many particles fall in a tenth of a second."""
    width, length = ripples.width.value, ripples.length.value
    water = water_of(ripples, width, length)
    down, along = water.modes
    # In each frame its moment, and the tenths of a second that have passed.
    each = 1 + 10 / float(shot.frame_rate)
    things["wave"] += each * down * along * (_NODES + min(births, water.most_at_once)) / 1e6
    seen = width * length * max(0.1, math.cos(math.radians(ripples.tilt.value)))
    area["water"] += min(seen, shot.width * shot.height) / 1e6


def _layer(
    shot: Shot, unit: Emitter | Group | Shot, readings: Readings, t: float, far_px: float, area: Counted
) -> None:
    """A layer with what is done to it, where there is anything."""
    whole = shot.width * shot.height / 1e6
    at = EffectMoment(lambda number: readings.now(number, t), 1.0, 0)
    steps = [step for step in unit.finish if step.on]
    reach = sum(reach_of(step, at) for step in steps)
    side = 2 * (far_px + min(reach, 1e4))
    there = min(shot.width, side) * min(shot.height, side) / 1e6 if math.isfinite(reach) else whole
    area["layer"] += 2 * whole + there
    area["effect"] += there * len(steps)
    if not isinstance(unit, Shot) and unit.use.kind != "picture":
        area["effect"] += 2 * whole


def forecast(shot: Shot, readings: Readings, t: float, shares: dict[str, int], far_px: dict[str, float]) -> Forecast:
    """About what a frame at shot time t will take on this machine.

    shares: how many of each emitter may be alive; far_px: how far each goes from where it was born.
    """
    shutter = shot.camera.shutter
    exposed = shutter.value > 0 or shutter.timed
    every_thing, every_area = Counted(float, {"frame": 1.0}), Counted(float)
    each: dict[str, Cost] = {}
    memory = 0.0
    whole = shot.width * shot.height / 1e6
    for emitter in shot.emitters:
        if not emitter.on:
            continue
        n = alive_about(shot, emitter, readings, t, shares[emitter.id])
        things, area = counted(shot, emitter, readings, t, n, far_px.get(emitter.id, float(shot.width)), exposed)
        each[emitter.id] = _cost(things, area, whole)
        memory += n * BYTES_PER_PARTICLE * joints_of(emitter)
        for total, own in ((every_thing, things), (every_area, area)):
            for name, count in own.items():
                total[name] += count
    for group in shot.groups:
        members = [e for e in shot.emitters if e.on and e.group == group.id]
        if group.on and members:
            far = max(far_px.get(e.id, float(shot.width)) for e in members)
            spread = max(abs(a.across.value - b.across.value) for a in members for b in members)
            _layer(shot, group, readings, t, far + spread, every_area)
            if group.skin is not None:
                most = (alive_about(shot, e, readings, t, shares[e.id]) * joints_of(e) for e in members)
                _skin(shot, sum(most), every_thing, every_area)
    if working(shot.finish):
        _layer(shot, shot, readings, t, float(shot.width), every_area)
    _covers(shot, readings, t, every_thing, every_area)
    every_area["plate"] += whole * float(shot.plate is not None and shot.plate.on)
    every_area["shade"] += whole
    every = _cost(every_thing, every_area, whole)
    return Forecast(
        fixed_ms=every.fixed_ms, mpx_ms=every.mpx_ms, memory_bytes=int(memory), models_bytes=models_bytes(shot), emitters=each
    )  # fmt: skip


def _cost(things: Counted, area: Counted, mpx: float) -> Cost:
    return Cost(fixed_ms=round(_priced(things) / speed(), 3), mpx_ms=round(_priced(area) / mpx / speed(), 3))


def _priced(counts: Counted) -> float:
    return sum(PRICES[name] * count for name, count in counts.items())
