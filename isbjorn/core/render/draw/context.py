"""A moment of a shot, ready to be drawn, emitter by emitter; and what the open shutter makes of each."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import cached_property
from typing import TypeVar

import numpy as np

from isbjorn.core.appearance.particles import Particles, ParticleSolver, gathered
from isbjorn.core.arrays import Bools, Floats
from isbjorn.core.document import Number, Shot
from isbjorn.core.document.emitter_parts.skin import Skin
from isbjorn.core.errors import Stale
from isbjorn.core.records import Records
from isbjorn.core.render.draw.emitters import EmitterRasteriser
from isbjorn.core.render.draw.pieces import draw_standing
from isbjorn.core.render.draw.ripples import draw_ripples
from isbjorn.core.render.draw.skin import draw_skin
from isbjorn.core.render.draw.strands import draw_strands, tangents
from isbjorn.core.render.draw.trails import draw_trails
from isbjorn.core.render.models.bodies import has_models, tumbles_px
from isbjorn.core.render.models.hold_out import HoldOut
from isbjorn.core.render.raster.blurred_discs import PIECES
from isbjorn.core.render.raster.pixel_pass import lay
from isbjorn.core.render.scene.atlas import Pictures
from isbjorn.core.render.scene.camera import Counts, Orbit, Projection, projection
from isbjorn.core.render.scene.exposure import ExposureChange, by_id, change_of, is_among
from isbjorn.core.render.scene.lights import rows_of
from isbjorn.core.render.scene.plate_depth import PlateDepth
from isbjorn.core.render.scene.trajectories import ways
from isbjorn.core.simulate.strands.joints import along_strands

P = TypeVar("P")
_WIDE_SHUTTER, _EXPOSURES, _JUMP_PX = 180.0, 8, 1.5
# Models are drawn in at most this many poses while the shutter is open.
_POSES = 24
# Of a ball's radius, under a skin: what it goes in a frame without being smeared, and from one moment to the next where it is.
_HIDDEN, _STEP = 0.75, 0.25


@dataclass
class RenderContext:
    """A moment of a shot, ready to be drawn."""

    shot: Shot
    solver: ParticleSolver
    seconds: Fraction
    scale: float
    pictures: Pictures
    orbit: Orbit | None = None
    stale: Callable[[], bool] | None = None
    counts: Counts = field(default_factory=Counts)
    # Whether it is one of the two ends of a loop that cross over.
    crossing: bool = False
    # Seconds of shot time that the frame spans; None: from its rate.
    lasts_s: Fraction | None = None
    # Whether it is one moment of those that an open shutter sees, or drawn as if the shutter were closed.
    shut: bool = False
    # No more particles of an emitter are drawn, spread evenly over its births; used when there is no time for all.
    most: int | None = None
    # Which of some particles are drawn, where only a part of them is.
    chosen: Callable[[Particles, RenderContext], Bools] | None = None
    # Models that hide what is behind them, by id and moment.
    hold_outs: dict[tuple[str, Fraction], HoldOut] = field(default_factory=dict)
    # The depth of the plate, by the id of its matte and moment.
    plate_depths: dict[tuple[str, Fraction], PlateDepth] = field(default_factory=dict)
    # How the camera sees moments that were asked for.
    _views: dict[Fraction, Projection] = field(default_factory=dict)
    # Function drawn in place of colours, of places (n, 3) and velocities (n, 3), those at rest where they are None.
    measure: Callable[[Floats, Floats | None], Floats] | None = None
    # What models show meanwhile, pixel by pixel: `depth` in place of the first value, or `facing`, their normals.
    measured: str = ""

    def read(self, number: Number) -> float:
        """A number of shot time at the moment."""
        return self.solver.readings.now(number, float(self.seconds))

    @cached_property
    def view(self) -> Projection:
        return self.at(self.seconds)

    @cached_property
    def lamps(self) -> Records:
        """The lights as they are at the moment."""
        return rows_of(self.shot.lights, self)

    def at(self, seconds: Fraction) -> Projection:
        """The projection at another moment."""
        known = self._views.get(seconds)
        if known is None:
            known = self._views[seconds] = projection(
                self.shot, self.scale, float(seconds), self.orbit, self.solver.readings
            )
        return known

    @property
    def frame_s(self) -> Fraction:
        """Seconds of the shot that go by in a frame."""
        return 1 / self.shot.frame_rate if self.lasts_s is None else self.lasts_s

    @cached_property
    def open(self) -> list[Fraction]:
        """Moments at which the shutter opens, is open and closes; empty if it is not used."""
        angle = 0.0 if self.shut or self.orbit is not None else self.read(self.shot.camera.shutter)
        if angle <= 0:
            return []
        frame = self.frame_s
        if frame <= 0:
            return []
        turn = Fraction(angle / 360).limit_denominator(10**6)
        first = (
            self.seconds + Fraction(self.read(self.shot.camera.shutter_phase) / 360).limit_denominator(10**6) * frame
        )
        pieces = PIECES if angle > _WIDE_SHUTTER else 2
        return [first + turn * frame * k / pieces for k in range(pieces + 1)]

    def exposures(self, count: int = _EXPOSURES) -> list[Fraction]:
        """Moments, even over the time that the shutter is open, at which lines are drawn."""
        first, last = self.open[0], self.open[-1]
        return [first + (last - first) * Fraction(2 * k + 1, 2 * count) for k in range(count)]

    def draw(self, number: int, onto: Floats, blend: str | None = None, bare: bool = False) -> Particles:
        """Draw an emitter, by its place in the cast; its particles at the moment. bare: every body white, opaque and additive,
        which counts the overlaps."""
        emitter = self.shot.emitters[number]
        if self.stale is not None and self.stale():
            raise Stale
        if number not in self.solver.tracks:
            return self.solver.none()
        share = 0.0 if self.crossing else self.solver.crossing(number, self.seconds)
        if share > 0:
            return self._crossed(lambda one, layer: one.draw(number, layer, blend, bare), share, onto)
        standing: list[Particles] = []
        if emitter.pieces is not None:
            standing = draw_standing(EmitterRasteriser(self, emitter, number, blend or emitter.blend, bare), onto)
        flying = self._flying(number, onto, blend, bare)
        return gathered([*standing, flying]) if standing else flying

    def _flying(self, number: int, onto: Floats, blend: str | None = None, bare: bool = False) -> Particles:
        """Draw the living particles of an emitter: all but its pieces that stand."""
        emitter = self.shot.emitters[number]
        blurred = bool(self.open) and emitter.motion_blur
        particles = self.solver.of(number, self.seconds, self.stale, most=None if emitter.strand else self.most)
        pen = EmitterRasteriser(self, emitter, number, blend or emitter.blend, bare)
        if emitter.strand is not None:
            self._strands(pen, particles, blurred, onto)
            return particles
        if emitter.ripples is not None and not bare:
            if self.measure is None:
                draw_ripples(pen, onto)
            if not emitter.ripples.bodies:
                pen.count(particles)
                return particles
        if blurred and has_models(emitter) and not bare and self.measure is None:
            moments = self._moments_of([number])
            if moments:
                self._mean(lambda one, layer: one._flying(number, layer, blend), moments, onto)
                pen.count(particles)
                return particles
            blurred = False
        drawn, change = self._blurred(number, particles) if blurred else (particles, None)
        if emitter.lines is not None and not bare:
            pen.lines(particles, onto)
        if emitter.trail is not None and not bare:
            if blurred:
                self.exposed(pen, draw_trails, onto)
            else:
                draw_trails(pen, onto)
        if emitter.heads is not None:
            size, seen = (n.value / 100 for n in (emitter.heads.size, emitter.heads.opacity))
            for k in range(emitter.heads.count, 0, -1):
                back = self.seconds - Fraction(emitter.heads.gap_s).limit_denominator(10**6) * k
                pen.bodies(self.solver.of(number, back, self.stale), onto, size**k, seen**k)
        if emitter.skin is not None and not bare:
            moments = self._moments_of([number]) if blurred else []
            if moments:
                self._mean(lambda one, layer: one._flying(number, layer, blend), moments, onto)
                pen.balls(particles, emitter.skin)
            else:
                pen.skin(particles, onto, blend or emitter.blend)
            return particles
        shown = (emitter.lines is None or emitter.lines.bodies) and (emitter.trail is None or emitter.trail.head_shown)
        if shown:
            way = ways(self.solver, number, self.open) if blurred else None
            pen.bodies(drawn, onto, way=way, count=True, change=change)
        return particles

    def draw_as_one(self, numbers: list[int], skin: Skin, onto: Floats, blend: str) -> dict[int, Particles]:
        """Draw one skin over the particles of some emitters, by their places in the cast; the particles of each."""
        there = (
            [] if self.crossing else [self.solver.crossing(n, self.seconds) for n in numbers if n in self.solver.tracks]
        )
        if (share := max(there, default=0.0)) > 0:
            return self._crossed(lambda one, layer: one.draw_as_one(numbers, skin, layer, blend), share, onto)
        found, balls = self._balls_of(numbers, skin, blend)
        moments = self._moments_of([n for n in found if self.shot.emitters[n].motion_blur])
        if moments:
            self._mean(lambda one, layer: one.draw_as_one(numbers, skin, layer, blend), moments, onto)
        elif balls:
            centre, radius, colour, opacity, near = (np.concatenate(rows) for rows in zip(*balls, strict=True))
            draw_skin(self, skin, centre, radius, colour, opacity, near, onto, blend)
        return found

    def _balls_of(
        self, numbers: list[int], skin: Skin, blend: str
    ) -> tuple[dict[int, Particles], list[tuple[Floats, Floats, Floats, Floats, Floats]]]:
        """The particles of some emitters, by their places in the cast, as the balls of a skin."""
        found = {n: self.solver.of(n, self.seconds, self.stale) for n in numbers if n in self.solver.tracks}
        pens = {n: EmitterRasteriser(self, self.shot.emitters[n], n, blend) for n in found if len(found[n])}
        return found, [pen.balls(found[n], skin) for n, pen in pens.items()]

    def _moments_of(self, numbers: list[int]) -> list[Fraction]:
        """The moments of the open shutter at which one skin over some emitters is drawn; none where one picture is enough."""
        if not self.open or not numbers or self.measure is not None:
            return []
        count = max(self._exposures_of(number, self.shot.emitters[number].skin is not None) for number in numbers)
        return self.exposures(count) if count > 1 else []

    def _mean(self, draw: Callable[[RenderContext, Floats], object], moments: list[Fraction], onto: Floats) -> None:
        """Draw what is seen at some moments, and the mean of these pictures: what is bent below goes with it."""
        mean = np.zeros_like(onto)
        for at in moments:
            layer = onto.copy()
            draw(replace(self, seconds=at, shut=True, counts=Counts()), layer)
            mean += layer * np.float32(1 / len(moments))
        onto[:] = mean

    def _crossed(self, draw: Callable[[RenderContext, Floats], P], share: float, onto: Floats) -> P:
        """What is drawn at the end of a loop, as far as it gives way to what was there before its start; the particles of
        the end."""
        come = onto.copy()
        drawn = draw(replace(self, crossing=True), onto)
        before = replace(self, seconds=self.seconds - self.shot.length_s, crossing=True, counts=Counts())
        draw(before, come)
        onto += np.float32(share) * (come - onto)
        return drawn

    def exposed(
        self,
        pen: EmitterRasteriser,
        draw: Callable[[EmitterRasteriser, Floats], None],
        onto: Floats,
        count: int = _EXPOSURES,
    ) -> None:
        """Lines as they are on the mean of the time that the shutter is open."""
        mean = np.zeros_like(onto)
        for at in self.exposures(count):
            moment = replace(self, seconds=at, counts=Counts())
            layer = np.zeros_like(onto)
            draw(
                EmitterRasteriser(moment, pen.emitter, pen.number, "add" if pen.emitter.blend == "add" else "normal"),
                layer,
            )
            mean += layer * np.float32(1 / count)
        lay(mean, onto, pen.emitter.blend)

    def _strands(self, pen: EmitterRasteriser, p: Particles, blurred: bool, onto: Floats) -> None:
        """Draw strands, and the bodies on them."""
        strand, number = pen.emitter.strand, pen.number
        if strand is None:
            return
        count = self._exposures_of(number) if blurred and not pen.bare and strand.line else 0
        if count > 1:
            self.exposed(
                pen,
                lambda one, layer: draw_strands(one, self.solver.of(number, one.context.seconds, self.stale), layer),
                onto,
                count,
            )
        else:
            draw_strands(pen, self.solver.of(number, self.exposures(1)[0], self.stale) if count else p, onto)
        pen.count(p)
        if strand.bodies == "none" or len(p) == 0:
            return
        turned = replace(p, angle=(p.angle + np.degrees(tangents(p, pen))).astype(np.float32))
        on = np.ones(len(p), bool) if strand.bodies == "at all joints" else along_strands(pen.emitter, len(p)) == 1
        way = ways(self.solver, number, self.open) if blurred else None
        pen.bodies(turned.where(on), onto, way=way)

    def _exposures_of(self, number: int, skinned: bool = False) -> int:
        """At how many moments of the open shutter strands are drawn: so that none is seen to jump. skinned: balls under a skin,
        which hides what is little against their radius."""
        way = ways(self.solver, number, [self.open[0], self.open[-1]])
        first, last = (self.view.place(way.places[:, k])[0] for k in (0, 1))
        gone = float(np.linalg.norm(last - first, axis=1).max(initial=0.0))
        jump = _JUMP_PX
        if skinned and gone > jump:
            sizes = self.solver.of(number, self.seconds, self.stale).size
            radius = 0.5 * self.view.scale_x * float(np.median(sizes)) if len(sizes) else 0.0
            if gone <= _HIDDEN * radius:
                return 1
            jump = max(jump, _STEP * radius)
        if has_models(self.shot.emitters[number]):
            particles = self.solver.of(number, self.seconds, self.stale)
            gone += tumbles_px(
                self.shot.emitters[number], particles, float(self.open[-1] - self.open[0]), self.view.scale_x
            )
            return min(_POSES, max(1, math.ceil(gone / jump)))
        return min(_EXPOSURES, max(1, math.ceil(gone / jump)))

    def _blurred(self, number: int, now: Particles) -> tuple[Particles, ExposureChange]:
        """All particles alive while the shutter is open, each with its looks at the moment nearest to the middle of its exposure;
        and the change of each meanwhile."""
        middle_s = self.open[len(self.open) // 2]
        # Where the shutter is open around the moment, its middle is the moment.
        middle = now if middle_s == self.seconds else self.solver.of(number, middle_s, self.stale)
        last, first = (self.solver.shapes(number, at, self.stale) for at in (self.open[-1], self.open[0]))
        parts, known = [middle], np.sort(middle.id)
        others = [(self.seconds, now.id), (self.open[-1], last.id), (self.open[0], first.id)]
        for at, ids in others[middle is now :]:
            new = ~is_among(known, ids)
            if new.any():
                parts.append(self.solver.of(number, at, self.stale, new))
                known = np.sort(np.concatenate([known, ids[new]]))
        every = by_id(parts)
        moments = float(self.open[0]), float(middle_s), float(self.open[-1])
        return every, change_of(every, first, middle, last, moments)
