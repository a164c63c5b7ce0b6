"""From places in the shot to pixels of the picture."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from numba import njit, prange

from isbjorn.core.document import Shot
from isbjorn.core.motion.solver import Particles
from isbjorn.core.parallel import guarded
from isbjorn.core.picture.bodies import pack_body
from isbjorn.core.picture.draw import RECORD, write_record

Floats = npt.NDArray[np.float32]
_NEAREST_PX = 1.0
SPECK_RADIUS = 0.15


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
            grown = np.where(distance > _NEAREST_PX, self.camera_px / np.maximum(distance, _NEAREST_PX), 0).astype(
                np.float32
            )
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
    """Drawing records (n, 12) in drawing order, and how many bodies are seen, too small to be seen, or not in the picture."""

    records: Floats
    seen: int
    specks: int
    outside: int


def _rank(shot: Shot, particles: Particles, emitter: int) -> npt.NDArray[np.int64]:
    first, last = np.searchsorted(particles.emitter, (emitter, emitter + 1))
    match shot.emitters[emitter].order:
        case "youngest first":
            return np.arange(last - 1, first - 1, -1)
        case "farthest first":
            return first + np.argsort(particles.position[first:last, 2], kind="stable")
        case _:
            return np.arange(first, last)


@njit(
    "void(i8[::1], f4[:,:], f4[::1], f4[::1], f4[:,::1], i4[::1], f4[:,::1], f8[::1], f4[:,::1], i8[::1])",
    parallel=True,
    cache=True,
)
def _pack(
    order: npt.NDArray[np.int64],
    position: Floats,
    size: Floats,
    opacity: Floats,
    colour: Floats,
    emitter: npt.NDArray[np.int32],
    looks: Floats,
    view: npt.NDArray[np.float64],
    out: Floats,
    counts: npt.NDArray[np.int64],
) -> None:
    width, height, scale_x, scale_y, camera = view
    specks, outside, seen = 0, 0, 0
    for at in prange(len(order)):
        i = order[at]
        grown = 1.0
        if camera > 0:
            distance = camera - position[i, 2]
            grown = camera / distance if distance > _NEAREST_PX else 0.0
        x = width / 2 + position[i, 0] * grown * scale_x
        y = height / 2 - position[i, 1] * grown * scale_y
        r = size[i] * 0.25 * (scale_x + scale_y) * grown
        shown = opacity[i] if r > 0 else 0.0
        inside = x + r > 0 and x - r < width and y + r > 0 and y - r < height
        if not inside:
            # Far outside of every tile: left out without a hole in the order.
            x, r = -1e9, 0.0
            outside += 1
        elif shown > 0:
            seen += 1
            if r < SPECK_RADIUS:
                specks += 1
        else:
            x = -1e9
        write_record(out, at, x, y, r, shown, colour, i, looks, emitter[i])
    counts[0], counts[1], counts[2] = seen, specks, outside


@guarded
def to_draw(shot: Shot, particles: Particles, view: Projection) -> Drawn:
    """Order, project and pack the particles of a moment."""
    orders = [_rank(shot, particles, number) for number in range(len(shot.emitters))]
    order = np.concatenate(orders).astype(np.int64) if orders else np.empty(0, np.int64)
    looks = np.zeros((max(1, len(shot.emitters)), 3), np.float32)
    for number, emitter in enumerate(shot.emitters):
        looks[number] = (emitter.blend == "normal", *pack_body(emitter.body))
    lens = np.array([view.width, view.height, view.scale_x, view.scale_y, view.camera_px or 0.0], np.float64)
    records, counts = np.empty((len(order), RECORD), np.float32), np.zeros(3, np.int64)
    _pack(
        order,
        particles.position,
        particles.size,
        particles.opacity,
        particles.colour,
        particles.emitter,
        looks,
        lens,
        records,
        counts,
    )
    return Drawn(records, seen=int(counts[0]), specks=int(counts[1]), outside=int(counts[2]))
