"""From places in the shot to pixels of the picture."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from isbjorn.core.document import Shot
from isbjorn.core.motion.solver import Particles
from isbjorn.core.picture.bodies import pack_body

Floats = npt.NDArray[np.float32]
_NEAREST_PX = 1.0


@dataclass(frozen=True)
class Projection:
    """How a shot's px become pixels: size of the picture, pixels per px, and the camera's distance (None when flat)."""

    width: int
    height: int
    scale_x: float
    scale_y: float
    camera_px: float | None

    def place(self, position: npt.ArrayLike) -> tuple[Floats, Floats]:
        """Pixels from the top left corner, float32 (n, 2), and the magnification of each, float32 (n,); 0 behind the camera."""
        p = np.asarray(position, dtype=np.float32).reshape(-1, 3)
        grown = np.ones(len(p), np.float32)
        if self.camera_px is not None:
            distance = self.camera_px - p[:, 2]
            grown = np.where(distance > _NEAREST_PX, self.camera_px / np.maximum(distance, _NEAREST_PX), 0).astype(np.float32)
        out = np.empty((len(p), 2), np.float32)
        out[:, 0] = self.width / 2 + p[:, 0] * grown * self.scale_x
        out[:, 1] = self.height / 2 - p[:, 1] * grown * self.scale_y
        return out, grown


def projection(shot: Shot, scale: float = 1.0) -> Projection:
    """The projection of a shot at a delivery scale. In perspective, z = 0 keeps its size: pinhole of focal / filmback."""
    width, height = max(1, round(shot.width * scale)), max(1, round(shot.height * scale))
    camera = shot.camera
    distance = shot.width * camera.focal_mm.value / camera.filmback_mm.value if camera.kind == "perspective" else None
    return Projection(width, height, width / shot.width, height / shot.height, distance)


@dataclass(frozen=True)
class Drawn:
    """What `draw` needs of each body, in drawing order, and a count of those too small to be seen or not in the picture."""

    centre: Floats
    radius: Floats
    opacity: Floats
    colour: Floats
    specks: int
    outside: int


def _rank(shot: Shot, particles: Particles, emitter: int) -> npt.NDArray[np.int64]:
    own = np.flatnonzero(particles.emitter == emitter)
    match shot.emitters[emitter].order:
        case "youngest first":
            return own[::-1]
        case "farthest first":
            return own[np.argsort(particles.position[own, 2], kind="stable")]
        case _:
            return own


def to_draw(shot: Shot, particles: Particles, view: Projection) -> Drawn:
    """Order, project and pack the particles of a moment."""
    orders = [_rank(shot, particles, number) for number in range(len(shot.emitters))]
    order = np.concatenate(orders) if orders else np.empty(0, np.int64)
    looks = np.zeros((max(1, len(shot.emitters)), 3), np.float32)
    for number, emitter in enumerate(shot.emitters):
        looks[number] = (emitter.blend == "normal", *pack_body(emitter.body))
    centre, grown = view.place(particles.position[order])
    radius = particles.size[order] * (0.5 * (view.scale_x + view.scale_y) / 2) * grown
    opacity = particles.opacity[order]
    colour = np.concatenate([particles.colour[order], looks[particles.emitter[order]]], axis=1, dtype=np.float32)
    seen = (radius > 0) & (opacity > 0)
    inside = (
        (centre[:, 0] + radius > 0) & (centre[:, 0] - radius < view.width)
        & (centre[:, 1] + radius > 0) & (centre[:, 1] - radius < view.height)
    )
    keep = seen & inside
    return Drawn(
        np.ascontiguousarray(centre[keep]), radius[keep].astype(np.float32), opacity[keep], colour[keep],
        specks=int(np.sum(keep & (radius < 0.15))), outside=int(np.sum(~inside)),
    )
