"""One frame of a shot, from document to pixels."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from typing import Literal

import numpy as np

from isbjorn.core.appearance import particles as solver
from isbjorn.core.appearance.particles import Particles, gathered
from isbjorn.core.arrays import Bytes, Codes, Floats
from isbjorn.core.document import Shot
from isbjorn.core.document.editing.effective_shot import effective_shot
from isbjorn.core.evaluate.gradients import hex_to_linear
from isbjorn.core.imaging.display_encoding import over, to_shades, to_shades_over
from isbjorn.core.media.read.light import light_of
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.render.composite import mattes
from isbjorn.core.render.composite.compositor import Compositor, all_simple, depth_of, reads_ground
from isbjorn.core.render.composite.layer_cache import LayerCache
from isbjorn.core.render.draw.context import RenderContext
from isbjorn.core.render.models.covers import looked_at
from isbjorn.core.render.raster.discs import draw_records
from isbjorn.core.render.scene.camera import Counts, Orbit, projection, to_draw
from isbjorn.core.simulate.checkpoints import StateCache
from isbjorn.core.simulate.fingerprint import reads_pictures, reads_plate


class Solver(solver.ParticleSolver):
    """Gives the particles of a shot at any frame, in any order, always the same.

    cache: cached states, shared between solvers of edited versions of a shot. plates: reads the plate for births, drivers and
    surfaces that depend on it, and the pictures that are drawn as bodies. before: of the shot before an edit, from which is
    taken what the edit does not touch. held: interacting particles are shown where they were before the edit.
    """

    def __init__(
        self,
        shot: Shot,
        cache: StateCache | None = None,
        plates: PlateReader | None = None,
        before: Solver | None = None,
        held: bool = False,
    ) -> None:
        shot = effective_shot(shot)
        lit = any(
            e.on and reads_plate(shot, e) and (shot.plate is not None or reads_pictures(e)) for e in shot.emitters
        )
        self.plates = plates or PlateReader()
        light = light_of(shot, self.plates, before.light if before is not None else None) if lit else None
        super().__init__(shot, cache, light, before, held)


Between = Literal["held", "nearest", "blended"]
# What is left out to save time: nothing, the open shutter, also particles beyond this number per emitter.
Rough = Literal[0, 1, 2]
FEW = 10_000


@dataclass(frozen=True)
class Layers:
    """The particles of a frame, in parts, drawn on nothing, or on the ground where they depend on it; and what is known of it."""

    picture: Floats
    parts: list[Particles]
    drawn: Counts
    grounded: bool = False

    @property
    def particles(self) -> Particles:
        """All of them as one."""
        return gathered(self.parts)


def draw_particles(
    motion: Solver,
    frame: int | Fraction,
    scale: float = 1.0,
    stale: Callable[[], bool] | None = None,
    out: Floats | None = None,
    orbit: Orbit | None = None,
    over_plate: bool = False,
    known: LayerCache | None = None,
    lasts_s: Fraction | None = None,
    between: Between = "held",
    rough: Rough = 0,
) -> Layers:
    """Draw the particles of a frame, on transparent ground unless they change the layers below them and `over_plate` is given.

    out: drawn into, if it is given and of the right size. orbit: a free view. known: the cache of the last picture; only what
    changed is drawn. lasts_s: seconds of shot time that the frame spans, if different from its rate. between: how the plate is read
    where the moment is between two of its frames. rough: for a draft, 1 as if the shutter were closed, 2 also with fewer particles.
    """
    shot = motion.shot
    if all_simple(shot) and (orbit is None or not looked_at(shot)):
        particles = motion.at(frame, stale)
        view = projection(shot, scale, float(shot.seconds(frame)), orbit)
        bodies = to_draw(shot, particles, view)
        if out is not None and out.shape[:2] != (view.height, view.width):
            out = None
        return Layers(draw_records(bodies.records, view.width, view.height, out), [particles], bodies.counts)
    compositor = compositor_of(motion, frame, scale, stale, orbit, lasts_s, rough)
    compositor.known = known
    grounded = over_plate and orbit is None and reads_ground(shot)
    below = ground(shot, frame, scale, motion.plates, between) if grounded else None
    picture = compositor.laid(below)
    parts = [
        compositor.particles[n] if n in compositor.particles else motion.every(n, shot.seconds(frame), stale)
        for n in motion.tracks
    ]
    return Layers(picture, parts, compositor.context.counts, below is not None)


def compositor_of(
    motion: Solver,
    frame: int | Fraction,
    scale: float = 1.0,
    stale: Callable[[], bool] | None = None,
    orbit: Orbit | None = None,
    lasts_s: Fraction | None = None,
    rough: Rough = 0,
) -> Compositor:
    """The layers of a frame, ready to be drawn; for callers that need them one by one, like `render.passes`."""
    shot, seconds = motion.shot, motion.shot.seconds(frame)
    context = RenderContext(shot, motion, seconds, scale, motion.plates, orbit, stale, lasts_s=lasts_s)
    context.shut, context.most = rough > 0, FEW if rough > 1 else None
    plate: Floats | Codes | None = None
    if shot.plate is not None and any(m.on and mattes.KINDS[m.kind].reads_plate for m in shot.mattes):
        plate = motion.plates.kept_at(shot, seconds, context.view.width, context.view.height)
    return Compositor(context, int(frame), plate)


def draw_depth(motion: Solver, frame: int | Fraction, scale: float = 1.0, orbit: Orbit | None = None) -> Floats:
    """Number of bodies that overlap at each pixel of a frame, float32 (height, width)."""
    return depth_of(compositor_of(motion, frame, scale, None, orbit).context)


def plate_between(
    shot: Shot, seconds: Fraction, plates: PlateReader, width: int, height: int, between: Between
) -> Floats | None:
    """The plate at a moment between two of its frames: the one that is on, the nearer one, or a mix of both by their distance."""
    if between == "held" or shot.plate is None or not shot.plate.on:
        return plates.at(shot, seconds, width, height)
    period = 1 / plates.rate(shot)
    if between == "nearest":
        return plates.at(shot, seconds + period / 2, width, height)
    start = seconds - Fraction(shot.plate.offset_s).limit_denominator(10**6)
    share = float(start / period - start // period)
    first, then = (plates.at(shot, at, width, height) for at in (seconds, seconds + period))
    if first is None or then is None or share == 0:
        return first
    first += np.float32(share) * (then - first)
    return first


def ground(
    shot: Shot, frame: int | Fraction, scale: float, plates: PlateReader, between: Between = "held"
) -> Floats | None:
    """The ground below the particles: the plate over the background colour; None without both."""
    view = projection(shot, scale)
    plate = plate_between(shot, shot.seconds(frame), plates, view.width, view.height, between)
    if shot.background is None:
        return plate
    flat = np.empty((view.height, view.width, 4), np.float32)
    flat[:] = [*hex_to_linear(shot.background), 1.0]
    return flat if plate is None else over(plate, flat)


def shades_over_ground(
    picture: Floats, shot: Shot, frame: int | Fraction, scale: float, plates: PlateReader, table: Bytes
) -> Bytes:
    """Particles over their ground, as 8-bit display values (height, width, 3)."""
    view = projection(shot, scale)
    below: Floats | Codes | None = None
    if shot.background is None:
        below = plates.kept_at(shot, shot.seconds(frame), view.width, view.height)
    else:
        below = ground(shot, frame, scale, plates)
    return to_shades(picture, table) if below is None else to_shades_over(picture, below, table)


def render_frame(
    shot: Shot,
    frame: int | Fraction,
    scale: float = 1.0,
    over_plate: bool = True,
    *,
    solver: Solver | None = None,
    plates: PlateReader | None = None,
    stale: Callable[[], bool] | None = None,
    lasts_s: Fraction | None = None,
    between: Between = "held",
) -> Floats:
    """Render a frame; float32 (height, width, 4), scene-linear Rec.709, premultiplied alpha.

    scale: pixels per px of the shot's design size. over_plate: over plate and background, or on transparent ground. solver, plates:
    reused between calls when many frames are rendered. stale: reports that the result is no longer wanted; then Stale is raised.
    lasts_s, between: as in `draw_particles`. Raises IsbjornError when the plate cannot be read.
    """
    shot = effective_shot(shot)
    solver = solver or Solver(shot, plates=plates)
    layers = draw_particles(solver, frame, scale, stale, over_plate=over_plate, lasts_s=lasts_s, between=between)
    if not over_plate or layers.grounded:
        return layers.picture
    below = ground(shot, frame, scale, plates or PlateReader(), between)
    return layers.picture if below is None else over(layers.picture, below)
