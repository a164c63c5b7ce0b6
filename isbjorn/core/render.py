"""One frame of a shot, from document to pixels."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
import numpy.typing as npt

from isbjorn.core.document import Shot
from isbjorn.core.life.gradient import hex_to_linear
from isbjorn.core.media.light import PlateLight
from isbjorn.core.media.plates import PlateReader
from isbjorn.core.motion import solver
from isbjorn.core.motion.cache import StateCache
from isbjorn.core.motion.identity import needs_light
from isbjorn.core.motion.solver import Particles
from isbjorn.core.picture.compose import over
from isbjorn.core.picture.draw import draw_records
from isbjorn.core.picture.project import Drawn, Orbit, projection, to_draw

Floats = npt.NDArray[np.float32]


class Solver(solver.Solver):
    """Gives the particles of a shot at any frame, in any order, always the same.

    cache: kept states, to be shared between solvers of edited versions of a shot. plates: reads the plate for births, drivers
    and surfaces that hang on its brightness.
    """

    def __init__(self, shot: Shot, cache: StateCache | None = None, plates: PlateReader | None = None) -> None:
        lit = shot.plate is not None and any(e.on and needs_light(shot, e) for e in shot.emitters)
        super().__init__(shot, cache, PlateLight(shot, plates or PlateReader()) if lit else None)


@dataclass(frozen=True)
class Layers:
    """The particles of a frame drawn on nothing, and the facts of their drawing."""

    picture: Floats
    particles: Particles
    drawn: Drawn


def draw_particles(
    motion: solver.Solver,
    frame: int | Fraction,
    scale: float = 1.0,
    stale: Callable[[], bool] | None = None,
    out: Floats | None = None,
    orbit: Orbit | None = None,
) -> Layers:
    """Draw the particles of a frame on transparent ground; into `out`, if it is given and of the right size. orbit: a free look."""
    shot = motion.shot
    particles = motion.at(frame, stale)
    view = projection(shot, scale, float(shot.seconds(frame)), orbit)
    bodies = to_draw(shot, particles, view)
    if out is not None and out.shape[:2] != (view.height, view.width):
        out = None
    picture = draw_records(bodies.records, view.width, view.height, out)
    return Layers(picture, particles, bodies)


def ground(shot: Shot, frame: int | Fraction, scale: float, plates: PlateReader) -> Floats | None:
    """What lies under the particles: the plate over the background colour; None if nothing does."""
    view = projection(shot, scale)
    plate = plates.at(shot, shot.seconds(frame), view.width, view.height)
    if shot.background is None:
        return plate
    flat = np.empty((view.height, view.width, 4), np.float32)
    flat[:] = [*hex_to_linear(shot.background), 1.0]
    return flat if plate is None else over(plate, flat)


def render_frame(
    shot: Shot,
    frame: int | Fraction,
    scale: float = 1.0,
    over_plate: bool = True,
    *,
    solver: Solver | None = None,
    plates: PlateReader | None = None,
) -> Floats:
    """Render a frame; float32 (height, width, 4), scene-linear Rec.709, premultiplied alpha.

    scale: pixels per px of the shot's design size. over_plate: over plate and background, or on transparent ground.
    solver, plates: kept between calls by those who render many frames. Raises IsbjornError when the plate cannot be read.
    """
    layers = draw_particles(solver or Solver(shot, plates=plates), frame, scale)
    if not over_plate:
        return layers.picture
    below = ground(shot, frame, scale, plates or PlateReader())
    return layers.picture if below is None else over(layers.picture, below)
