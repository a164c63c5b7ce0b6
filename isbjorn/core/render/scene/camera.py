"""From places in the shot to pixels of the picture."""

from __future__ import annotations

import functools
from dataclasses import dataclass, fields
from typing import Any

import numpy as np
import numpy.typing as npt
from numba import f4, f8, i4, i8, prange, types, void

from isbjorn.core.appearance.particles import Particles
from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document import Emitter, Number, Shot
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.records import Records, make_record, record, records
from isbjorn.core.render.raster.discs import RECORD, write_record
from isbjorn.core.render.raster.overdraw import DISCS, affordable, covered, within
from isbjorn.core.render.raster.profiles import pack_body
from isbjorn.core.runtime.parallel import kernel_lock

_NEAREST_PX = 1.0
# How the bodies of an emitter are drawn.
LOOKS = record(covers=1, profile=1, inner=1)
# A projection as kernels read it; lens: 0 when flat.
VIEW = record(width=1, height=1, scale_x=1, scale_y=1, lens=1, eye=3, axes=(3, 3))
SPECK_RADIUS = 0.15
_THREE: Any = types.UniTuple(f8, 3)  # type: ignore[no-untyped-call]


@dataclass(frozen=True)
class Orbit:
    """A free look at the shot, round the picture's centre: degrees to the side and upward, and how many times as far away."""

    side: float = 30.0
    above: float = 20.0
    far: float = 1.6


@dataclass(frozen=True)
class Projection:
    """The projection of places to pixels: size of the picture, pixels per px, the camera's position, axes and lens.

    eye: (3,) px. axes: rows are the camera's right, up and toward-the-viewer axes, (3, 3). lens_px: distance at which a thing keeps
    its size, None when flat.
    """

    width: int
    height: int
    scale_x: float
    scale_y: float
    lens_px: float | None
    eye: npt.NDArray[np.float64]
    axes: npt.NDArray[np.float64]

    @functools.cached_property
    def packed(self) -> Records:
        """All of it as a `VIEW`, (1,), for kernels."""
        size = {"width": self.width, "height": self.height, "scale_x": self.scale_x, "scale_y": self.scale_y}
        return make_record(VIEW, **size, lens=self.lens_px or 0.0, eye=self.eye, axes=self.axes)

    def place(self, position: npt.ArrayLike) -> tuple[Floats, Floats]:
        """Pixels from the top left corner, float32 (n, 2), and the magnification of each, float32 (n,); 0 behind the camera."""
        places = np.asarray(position)
        places = (places if places.dtype == np.float32 else places.astype(np.float64, copy=False)).reshape(-1, 3)
        pixels, grown = np.empty((len(places), 2), np.float32), np.empty(len(places), np.float32)
        _placed(places, self.packed, pixels, grown)
        return pixels, grown


@inline_kernel("UniTuple(f8, 3)(f8, f8, f8, f8[:,::1])", cache=True, forceinline=True)
def _turned(x: float, y: float, z: float, axes: Doubles) -> tuple[float, float, float]:
    """The offset (x, y, z) from the camera in its own axes: right, up, and toward the viewer."""
    return (
        x * axes[0, 0] + y * axes[0, 1] + z * axes[0, 2], x * axes[1, 0] + y * axes[1, 1] + z * axes[1, 2],
        x * axes[2, 0] + y * axes[2, 1] + z * axes[2, 2],
    )  # fmt: skip


@inline_kernel(_THREE(records(VIEW), i8, f8, f8, f8), cache=True, forceinline=True, error_model="numpy")
def pixel_of(views: Records, k: int, x: float, y: float, z: float) -> tuple[float, float, float]:
    """`Projection.place` of one place through one of some projections."""
    view = views[k]
    x, y, z = x - view.eye[0], y - view.eye[1], z - view.eye[2]
    right = x * view.axes[0, 0] + y * view.axes[0, 1] + z * view.axes[0, 2]
    up = x * view.axes[1, 0] + y * view.axes[1, 1] + z * view.axes[1, 2]
    near = x * view.axes[2, 0] + y * view.axes[2, 1] + z * view.axes[2, 2]
    times = 1.0
    if view.lens > 0:
        times = view.lens / -near if -near > _NEAREST_PX else 0.0
    return view.width / 2 + right * times * view.scale_x, view.height / 2 - up * times * view.scale_y, times


@njit([void(places[:, :], records(VIEW), f4[:, ::1], f4[::1]) for places in (f4, f8)], cache=True, error_model="numpy")
def _placed(position: Doubles, views: Records, pixels: Floats, grown: Floats) -> None:
    """`Projection.place` of places (n, 3), with a projection that is packed."""
    view = views[0]
    axes, eye = view.axes.copy(), view.eye.copy()
    for i in range(len(position)):
        x, y, z = _turned(position[i, 0] - eye[0], position[i, 1] - eye[1], position[i, 2] - eye[2], axes)
        times = 1.0
        if view.lens > 0:
            times = view.lens / -z if -z > _NEAREST_PX else 0.0
        pixels[i, 0] = view.width / 2 + x * times * view.scale_x
        pixels[i, 1] = view.height / 2 - y * times * view.scale_y
        grown[i] = times


def axes_of(pan: float, pitch: float, roll: float) -> npt.NDArray[np.float64]:
    """The camera's axes as rows, turned to the left, upward and counter-clockwise, in this order about its current axes."""
    a, b, c = np.radians([pan, pitch, roll])
    about_y = np.array([[np.cos(a), 0, np.sin(a)], [0, 1, 0], [-np.sin(a), 0, np.cos(a)]])
    about_x = np.array([[1, 0, 0], [0, np.cos(b), -np.sin(b)], [0, np.sin(b), np.cos(b)]])
    about_z = np.array([[np.cos(c), -np.sin(c), 0], [np.sin(c), np.cos(c), 0], [0, 0, 1]])
    return np.asarray((about_y @ about_x @ about_z).T)


def projection(
    shot: Shot, scale: float = 1.0, t: float = 0.0, orbit: Orbit | None = None, readings: Readings | None = None
) -> Projection:
    """The projection of a shot at a moment and a delivery scale, through its camera or by a free look. readings: of the shot.

    Perspective is a pinhole of focal length over filmback; at rest, the picture plane keeps its size.
    """
    width, height = max(1, round(shot.width * scale)), max(1, round(shot.height * scale))
    camera, readings = shot.camera, readings or Readings(shot)
    per_mm = shot.width / camera.filmback_mm.value
    rest = per_mm * camera.focal_mm.value
    size = (width, height, width / shot.width, height / shot.height)
    if orbit is not None:
        axes = axes_of(orbit.side, -orbit.above, 0)
        return Projection(*size, rest, axes[2] * rest * orbit.far, axes)

    def read(number: Number) -> float:
        return readings.now(number, t)

    axes = axes_of(read(camera.pan), read(camera.pitch), read(camera.roll))
    eye = np.array([read(camera.across), read(camera.up), rest - read(camera.forward)])
    lens = per_mm * read(camera.focal_mm) if camera.kind == "perspective" else None
    return Projection(*size, lens, eye, axes)


@dataclass
class Counts:
    """How many bodies are seen, too small to be seen, not in the picture, transparent, (of those outside) behind the camera, and
    left out because together they would cost too much."""

    seen: int = 0
    specks: int = 0
    outside: int = 0
    clear: int = 0
    behind: int = 0
    left_out: int = 0

    def add(self, more: Counts) -> None:
        """Count more."""
        for f in fields(self):
            setattr(self, f.name, getattr(self, f.name) + getattr(more, f.name))

    def since(self, before: Counts) -> Counts:
        """What was counted meanwhile."""
        return Counts(**{f.name: getattr(self, f.name) - getattr(before, f.name) for f in fields(self)})


@dataclass(frozen=True)
class Projected:
    """Drawing records (n, 12) in drawing order, and what is known of them."""

    records: Floats
    counts: Counts


def rank(emitter: Emitter, particles: Particles, view: Projection) -> npt.NDArray[np.int64]:
    """The drawing order of the particles of one emitter, given in the order of their births."""
    n = len(particles)
    match emitter.order:
        case "youngest first":
            return np.arange(n - 1, -1, -1)
        case "farthest first" | "nearest first":
            near = particles.position @ view.axes[2].astype(np.float32)
            return np.argsort(near if emitter.order == "farthest first" else -near, kind="stable")
        case "largest first" | "smallest first":
            large = particles.size
            return np.argsort(-large if emitter.order == "largest first" else large, kind="stable")
        case _:
            return np.arange(n)


@njit(
    void(i8[::1], f4[:, :], f4[::1], f4[::1], f4[:, ::1], i4[::1], records(LOOKS), records(VIEW), f4[:, ::1], i8[::1]),
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
    looks: Records,
    views: Records,
    out: Floats,
    counts: npt.NDArray[np.int64],
) -> None:
    width, height, scale_x, scale_y = views[0].width, views[0].height, views[0].scale_x, views[0].scale_y
    lens, axes, eye = views[0].lens, views[0].axes.copy(), views[0].eye.copy()
    turned = axes[0, 0] != 1.0 or axes[1, 1] != 1.0 or axes[2, 2] != 1.0
    specks, outside, seen, clear, behind = 0, 0, 0, 0, 0
    for at in prange(len(order)):
        i = order[at]
        grown = 1.0
        px, py, pz = position[i, 0] - eye[0], position[i, 1] - eye[1], position[i, 2] - eye[2]
        if turned:
            px, py, pz = _turned(px, py, pz, axes)
        if lens > 0:
            grown = lens / -pz if -pz > _NEAREST_PX else 0.0
        x = width / 2 + px * grown * scale_x
        y = height / 2 - py * grown * scale_y
        r = size[i] * 0.25 * (scale_x + scale_y) * grown
        shown = opacity[i] if r > 0 else 0.0
        inside = x + r > 0 and x - r < width and y + r > 0 and y - r < height
        if not inside:
            # Far outside of every tile: left out without a hole in the order.
            x, r = -1e9, 0.0
            outside += 1
            if grown <= 0:
                behind += 1
        elif shown > 0:
            seen += 1
            if r < SPECK_RADIUS:
                specks += 1
        else:
            x = -1e9
            clear += 1
        body = looks[emitter[i]]
        write_record(out, at, x, y, r, shown, colour, i, body.covers > 0, int(body.profile), body.inner)
    counts[0], counts[1], counts[2], counts[3], counts[4] = seen, specks, outside, clear, behind


@inline_kernel("void(f4[:,::1], f4[::1], f4[::1], f4[::1], f8, f8, i8[::1])", cache=True)
def _tally(
    centre: Floats,
    radius: Floats,
    opacity: Floats,
    grown: Floats,
    width: float,
    height: float,
    counts: npt.NDArray[np.int64],
) -> None:
    for i in range(len(radius)):
        x, y, r = centre[i, 0], centre[i, 1], radius[i]
        if grown[i] > 0 and x + r > 0 and x - r < width and y + r > 0 and y - r < height:
            shown = opacity[i] > 0 and r > 0
            counts[0] += shown
            counts[1] += shown and r < SPECK_RADIUS
            counts[3] += not shown
        else:
            counts[2] += 1
            counts[4] += not grown[i] > 0


def tallied(centre: Floats, radius: Floats, opacity: Floats, grown: Floats, width: int, height: int) -> Counts:
    """Bodies as they are seen: centres (n, 2) and radii (n,) in px of the picture, opacities, magnifications (n,)."""
    counts = np.zeros(5, np.int64)
    centre, radius, opacity, grown = (np.ascontiguousarray(a, np.float32) for a in (centre, radius, opacity, grown))
    _tally(centre, radius, opacity, grown, width, height, counts)
    return Counts(*counts.tolist())


def _affordable(particles: Particles, view: Projection) -> tuple[Particles, int]:
    """The particles that can be drawn as discs, and how many cannot."""
    scale = 0.25 * (view.scale_x + view.scale_y)
    if view.lens_px is None and within(particles.size * np.float32(scale), DISCS, view.width, view.height):
        return particles, 0
    (x, y), grown = view.place(particles.position)[0].T, view.place(particles.position)[1]
    radius = particles.size * np.float32(scale) * grown
    cost = 0.8 * covered(x, y, radius, radius, view.width, view.height) * (particles.opacity > 0)
    keep = affordable(particles.id, cost, DISCS)
    return (particles, 0) if keep is None else (particles.where(keep), int((~keep).sum()))


@kernel_lock
def to_draw(shot: Shot, particles: Particles, view: Projection) -> Projected:
    """Order, project and pack the particles of a moment."""
    particles, left_out = _affordable(particles, view)
    orders, first = [], 0
    for number, last in enumerate(np.searchsorted(particles.emitter, np.arange(len(shot.emitters)) + 1)):
        orders.append(first + rank(shot.emitters[number], particles.between(first, int(last)), view))
        first = int(last)
    order = np.concatenate(orders).astype(np.int64) if orders else np.empty(0, np.int64)
    if shot.camera.sorting == "by depth" and view.lens_px is not None:
        # Across emitters, particle by particle.
        near = (particles.position @ view.axes[2].astype(np.float32))[order]
        order = order[np.argsort(near, kind="stable")]
    looks = np.zeros(max(1, len(shot.emitters)), LOOKS)
    for number, emitter in enumerate(shot.emitters):
        looks[number] = (emitter.blend != "add", *pack_body(emitter.body))
    records, counts = np.empty((len(order), RECORD), np.float32), np.zeros(5, np.int64)
    _pack(
        order,
        particles.position,
        particles.size,
        particles.opacity,
        particles.colour,
        particles.emitter,
        looks,
        view.packed,
        records,
        counts,
    )
    seen, specks, outside, clear, behind = (int(n) for n in counts)
    return Projected(records, Counts(seen, specks, outside, clear, behind, left_out))
