"""What is under the pointer: a particle's numbers, its past and its future; and the numbers of many, to be shown beside them."""

from __future__ import annotations

import math
from fractions import Fraction

import numpy as np
from pydantic import BaseModel, Field

from isbjorn.core.appearance.particles import Particles, ParticleSolver
from isbjorn.core.inspect.handles import Path2, on_picture
from isbjorn.core.render.scene.camera import Orbit, Projection, projection

_SAMPLES, _LONGEST_S, _NEAR_PX, _MOST = 48, 20.0, 24.0, 400


class Seen(BaseModel):
    """A particle as it is at a frame. at: px of the design size from the top left corner; radius in the same."""

    id: int
    birth: int = Field(description="Birth number within its emitter.")
    emitter: str
    at: tuple[float, float]
    radius: float
    position: tuple[float, float, float]
    velocity: tuple[float, float, float]
    speed: float
    age: float
    life: float | None = Field(description="None: endless.")
    size: float
    opacity: float
    angle: float


class Followed(BaseModel):
    """The particle that was pressed on, and where it was and will be."""

    seen: Seen
    past: Path2
    future: Path2


def _seen(solver: ParticleSolver, p: Particles, i: int, view: Projection) -> Seen:
    pixels, grown = view.place(p.position[i : i + 1])
    x, y, z = (round(float(v), 2) for v in p.position[i])
    u, v, w = (round(float(v), 2) for v in p.velocity[i])
    return Seen(
        id=int(p.id[i]), birth=int(p.id[i] & ((1 << 37) - 1)), emitter=solver.shot.emitters[int(p.emitter[i])].id,
        at=(round(float(pixels[0, 0]), 2), round(float(pixels[0, 1]), 2)), radius=round(float(p.size[i] / 2 * grown[0]), 2),
        position=(x, y, z), velocity=(u, v, w), speed=round(math.hypot(u, v, w), 2), age=round(float(p.age[i]), 4),
        life=round(float(p.life[i]), 4) if math.isfinite(p.life[i]) else None, size=round(float(p.size[i]), 3),
        opacity=round(float(p.opacity[i]), 4), angle=round(float(p.angle[i]), 2),
    )  # fmt: skip


def shown(solver: ParticleSolver, frame: int, orbit: Orbit | None = None) -> list[Seen]:
    """The particles of a frame within the picture, an even sample where there are more than can be read."""
    shot = solver.shot
    view = projection(shot, 1.0, float(shot.seconds(frame)), orbit)
    p = solver.at(frame)
    pixels, grown = view.place(p.position)
    inside = (grown > 0) & (pixels >= 0).all(axis=1) & (pixels[:, 0] < view.width) & (pixels[:, 1] < view.height)
    which = np.flatnonzero(inside)
    if len(which) > _MOST:
        which = which[np.linspace(0, len(which) - 1, _MOST).astype(int)]
    return [_seen(solver, p, int(i), view) for i in which]


def followed(solver: ParticleSolver, frame: int, x: float, y: float, orbit: Orbit | None = None) -> Followed | None:
    """The particle at a place of the picture (px from the top left corner), the topmost where several are; None if none is near."""
    shot = solver.shot
    seconds = shot.seconds(frame)
    view = projection(shot, 1.0, float(seconds), orbit)
    p = solver.at(frame)
    if len(p) == 0:
        return None
    pixels, grown = view.place(p.position)
    away = np.hypot(pixels[:, 0] - x, pixels[:, 1] - y) - p.size / 2 * grown
    away = np.where((grown > 0) & (p.opacity > 0), np.maximum(away, 0), np.inf)
    best = float(away.min())
    if best > _NEAR_PX:
        return None
    # Of those as near, the one that is drawn last.
    i = int(np.flatnonzero(away <= best + 1e-6)[-1])
    number, key = int(p.emitter[i]), int(p.id[i])
    age, life = float(p.age[i]), float(p.life[i])
    past = _way(solver, number, key, seconds, -min(age, _LONGEST_S), view)
    future = _way(solver, number, key, seconds, min(life - age, _LONGEST_S), view)
    return Followed(seen=_seen(solver, p, i, view), past=past[::-1], future=future)


def _way(solver: ParticleSolver, number: int, key: int, seconds: Fraction, span: float, view: Projection) -> Path2:
    """Where a particle is at even moments from now over a span (into the past if it is below 0), from its own states."""
    places = []
    for k in range(_SAMPLES + 1):
        at = seconds + Fraction(span * k / _SAMPLES).limit_denominator(10**6)
        ids, place, _, _, _ = solver.place(number, at)
        here = np.flatnonzero(ids == key)
        if len(here):
            places.append(place[here[0]])
        elif places:
            break
    return on_picture(view, np.array(places)) if places else []
