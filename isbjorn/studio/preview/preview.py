"""The live picture: frames of a shot as the delivery makes them, drawn at the size shown, encoded and cached."""

from __future__ import annotations

import hashlib
import math
import threading
import time
from collections.abc import Callable, Hashable
from dataclasses import dataclass, replace
from typing import Any, Literal
from weakref import WeakKeyDictionary

import cv2
import numpy as np
import numpy.typing as npt
import simplejpeg
from pydantic import BaseModel, Field

from isbjorn.core.arrays import Floats
from isbjorn.core.caching import CacheName, RecentCache
from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError, Stale
from isbjorn.core.frame import Layers, Rough, Solver, draw_depth, draw_particles, ground, shades_over_ground
from isbjorn.core.imaging.colour import shade_table
from isbjorn.core.imaging.display_encoding import over, to_shades
from isbjorn.core.inspect import particles as inspect
from isbjorn.core.inspect.lookout import Note, lookout
from isbjorn.core.inspect.particles import Followed, Seen
from isbjorn.core.inspect.portrait import portrait
from isbjorn.core.render.composite.layer_cache import LOOKERS, LayerCache
from isbjorn.core.render.scene.camera import Orbit, projection
from isbjorn.core.runtime.memory import release_memory, resident_bytes, share_of
from isbjorn.core.simulate.checkpoints import StateCache
from isbjorn.core.simulate.interactions.group import Running
from isbjorn.core.simulate.shared_states import SharedCaches
from isbjorn.studio.preview.plates import StudioPlates

View = Literal["plate", "particles", "alpha", "layers", "under"]
_STILL: dict[str, Any] = {"quality": 92, "colorsubsampling": "444"}
_MOVING: dict[str, Any] = {"quality": 86, "colorsubsampling": "420"}
_SOLVERS_KEPT = 8
# The lane behind a portrait, in linear light.
_GREY = 0.0097
# No picture that is looked at has more pixels, whatever the shape of its shot.
_MOST_PIXELS = 8192 * 4608
# Nor is any side of it longer, which every encoder and browser takes.
_LONGEST_SIDE = 16_384
_LANES_KEPT = 4
# A coarse picture and one in full.
_SIZES_KNOWN = 2
# A larger picture is drawn into new memory each time; it takes long enough as it is.
_SCRATCH_BYTES = 40 << 20
# A small moving picture is not worth more seconds, and a JPEG has no more rows.
_STRIP_S, _MOST_ROWS = 20.0, 65_000
# A moving picture waits no longer than this, in total, for playback and drags.
_LONGEST_HELD_S = 60.0
# One body, two, four … up to 256 over each other.
_DEEPEST = 8
_PICTURES_NAME = CacheName(
    "pictures", "Encoded frames", "everything that is seen of the shot, the frame, and how it is shown"
)
_DEPTH_SHADES = np.array(
    [[16, 18, 20], [24, 66, 84], [44, 132, 140], [150, 196, 128], [250, 226, 120], [255, 255, 255]]
)


class Figures(BaseModel):
    """What is known of a drawn frame."""

    alive: int
    drawn: int
    specks: int
    outside: int
    clear: int
    behind: int
    left_out: int = 0
    refused: dict[str, int]
    ms: float
    memory_bytes: int
    born: int = Field(default=0, description="Number of living particles born within the last second.")
    centre: tuple[float, float] = Field(
        default=(0.0, 0.0), description="Mean position, in px from the picture's centre."
    )
    reach: int | None = Field(default=None, description="Frame up to which states of interacting particles are cached.")


def reach_of(solver: Solver) -> int | None:
    """The frame up to which the states of a shot's interacting emitters are stored; None without interactions."""
    shot, reached_s = solver.shot, solver.reach_s
    if reached_s is None:
        return None
    return min(shot.last_frame, max(shot.first_frame, shot.first_frame + int(reached_s * float(shot.frame_rate))))


def figures_of(layers: Layers, began: float) -> Figures:
    """What is known of a frame that was drawn from a moment of `time.perf_counter` on."""
    return Figures(
        alive=sum(map(len, layers.parts)),
        drawn=layers.drawn.seen,
        specks=layers.drawn.specks,
        outside=layers.drawn.outside,
        clear=layers.drawn.clear,
        behind=layers.drawn.behind,
        left_out=layers.drawn.left_out,
        refused={name: missed for part in layers.parts for name, missed in part.refused.items()},
        ms=round((time.perf_counter() - began) * 1e3, 2),
        memory_bytes=resident_bytes(),
        born=sum(int(np.count_nonzero(part.age < 1)) for part in layers.parts),
        centre=_centre([part.position for part in layers.parts]),
    )


def _centre(parts: list[Floats]) -> tuple[float, float]:
    """The mean of places, each part (n, 3), in px; the picture's centre of none."""
    count = sum(map(len, parts))
    if count == 0:
        return 0.0, 0.0
    x, y = sum(part[:, :2].sum(axis=0, dtype=np.float64) for part in parts) / count
    return round(float(x), 2), round(float(y), 2)


@dataclass(frozen=True)
class Wish:
    """A frame to be seen: which, how large, and what of it."""

    frame: int
    width: int
    view: View = "plate"
    orbit: tuple[float, float, float] | None = None  # a free look: degrees to the side and upward, how far
    moving: bool = False  # seen in passing, while it plays: encoded faster, a little coarser in colour
    rough: Rough = 0  # what is left out, as in `draw_particles`
    held: str = ""  # digest of an earlier document, in whose states interacting emitters are shown


@dataclass(frozen=True)
class ShownPicture:
    """An encoded frame."""

    jpeg: bytes
    figures: Figures
    width: int
    height: int


def scale_for(shot: Shot, width: int, most_pixels: int = _MOST_PIXELS) -> float:
    """Pixels per px at which a shot is so wide; fewer for one that would have too many pixels, or a side longer than a JPEG's."""
    longest = max(shot.width, shot.height)
    return min(width / shot.width, math.sqrt(most_pixels / (shot.width * shot.height)), _LONGEST_SIDE / longest)


class _Lane:
    """Requests for the same thing wait for each other; others do not."""

    def __init__(self) -> None:
        self.lock = threading.Lock()
        self.scratch: Floats | None = None
        self.solver: Solver | None = None
        self._known: RecentCache[tuple[int, Rough], LayerCache] = RecentCache(_SIZES_KNOWN)

    def known(self, width: int, rough: Rough) -> LayerCache:
        """What is known of the last picture so wide: a hand that moves something sees coarse ones, and one in full at its end."""
        limit = share_of("layers") // LOOKERS // _SIZES_KNOWN
        return self._known.get((width, rough), lambda: LayerCache(limit_bytes=limit))

    def forget(self) -> None:
        """Forget what is known of pictures."""
        self._known.clear()


def _looks(wish: Wish) -> Hashable:
    return wish.width, wish.view, wish.orbit, wish.rough, wish.held


def digest_of(shot: Shot) -> str:
    """The identity of everything that can be seen of a shot."""
    return hashlib.sha256(shot.model_dump_json(exclude={"name"}).encode()).hexdigest()


def _fitting(rows: list[npt.NDArray[np.uint8]]) -> list[npt.NDArray[np.uint8]]:
    """Pictures that fit one under the other into a JPEG."""
    high = _MOST_ROWS // len(rows)
    if rows[0].shape[0] <= high:
        return rows
    size = (max(1, rows[0].shape[1] * high // rows[0].shape[0]), high)
    return [np.asarray(cv2.resize(row, size, interpolation=cv2.INTER_AREA), np.uint8) for row in rows]


def _exposure(pictures: list[Floats]) -> float:
    """What pictures are multiplied by so that what is bright in them is seen as bright; none gets darker."""
    bright = float(np.percentile(np.concatenate([p[..., :3].max(axis=2).ravel() for p in pictures]), 99.6))
    return min(12.0, max(1.0, 0.75 / max(bright, 1e-4)))


class Preview:
    """Draws and keeps frames. Safe to call from many threads; one draws at a time."""

    def __init__(
        self, plates: StudioPlates, limit_bytes: int | None = None, shared_caches: SharedCaches | None = None
    ) -> None:
        self.plates = plates
        self.limit_bytes = share_of("pictures") if limit_bytes is None else limit_bytes
        self.states = StateCache(shared_caches=shared_caches)
        self._pictures: RecentCache[tuple[str, Wish], ShownPicture] = RecentCache(
            limit_bytes=self.limit_bytes,
            least=0,
            size=lambda shown: len(shown.jpeg),
            evicted=self._gone,
            name=_PICTURES_NAME,
        )
        self._solvers: RecentCache[str, Solver] = RecentCache(_SOLVERS_KEPT)
        # Keys of cached frames, by view and quality.
        self._frames: dict[tuple[str, Hashable], set[int]] = {}
        self._lock = threading.Lock()
        self._lanes: RecentCache[Hashable, _Lane] = RecentCache(_LANES_KEPT)
        # Particles are inspected one at a time; of the Lookout, one for each shot. They are no lanes: a page's last picture would
        # be forgotten for them.
        self._inspecting = threading.Lock()
        self._watched: WeakKeyDictionary[Solver, threading.Lock] = WeakKeyDictionary()

    def running(self, lane: Hashable) -> Running | None:
        """Progress of the simulation for which a lane waits, or None."""
        own = self._lanes.peek(lane)
        return None if own is None or own.solver is None else own.solver.running

    def known(self, digest: str, wish: Wish) -> ShownPicture | None:
        """A frame that is already computed."""
        # One that is played may be seen as a still: it is the finer of the two.
        return self._pictures.peek((digest, replace(wish, moving=False))) or self._pictures.peek((digest, wish))

    def full(self) -> bool:
        """Whether more frames would push out others."""
        return self._pictures.bytes > 0.9 * self.limit_bytes

    def frames(self, digest: str, wish: Wish) -> set[int]:
        """Which frames are computed at the wish's size and view."""
        with self._lock:
            return set(self._frames.get((digest, _looks(wish)), ()))

    def computed(self, digest: str, wish: Wish) -> list[tuple[int, int]]:
        """Ranges of frames that are computed at the wish's size and view."""
        frames = sorted(self.frames(digest, wish))
        ranges: list[tuple[int, int]] = []
        for frame in frames:
            if ranges and frame == ranges[-1][1] + 1:
                ranges[-1] = (ranges[-1][0], frame)
            else:
                ranges.append((frame, frame))
        return ranges

    def _lane(self, name: Hashable) -> _Lane:
        with self._lock:
            lane = self._lanes.get(name, _Lane)
            for old in self._lanes.values()[:-LOOKERS]:
                old.forget()
            return lane

    def draw(
        self, shot: Shot, digest: str, wish: Wish, stale: Callable[[], bool] | None = None, lane: Hashable = None
    ) -> ShownPicture:
        """A frame, drawn if it is not cached. Raises Stale when it is no longer wanted, IsbjornError when the plate cannot be read.

        lane: frames of one lane are drawn one after the other, in parallel with others.
        """
        found = self.known(digest, wish)
        if found is not None:
            return found
        own = self._lane(lane)
        with own.lock:
            if stale is not None and stale():
                raise Stale
            start = time.perf_counter()
            solver = self._held(shot, wish.held) if wish.held else self._solver(shot, digest, own.solver)
            if not wish.held:
                own.solver = solver
            orbit = None if wish.orbit is None else Orbit(*wish.orbit)
            over_plate = wish.view == "plate"
            scale = scale_for(shot, wish.width)
            # A still view is edited again and again; playback shows a new picture each time.
            known = None if wish.moving else own.known(wish.width, wish.rough)
            layers = draw_particles(
                solver, wish.frame, scale, stale, own.scratch, orbit, over_plate, known, rough=wish.rough
            )
            own.scratch = layers.picture if layers.picture.nbytes <= _SCRATCH_BYTES else None
            rgb = self._deep(solver, wish, scale, orbit) if wish.view == "layers" else self._seen(shot, wish, layers)
        # Encoding needs no kernel: meanwhile another thread may draw the next frame.
        jpeg = simplejpeg.encode_jpeg(rgb, colorspace="RGB", fastdct=True, **(_MOVING if wish.moving else _STILL))
        figures = figures_of(layers, start).model_copy(update={"reach": reach_of(solver)})
        shown = ShownPicture(jpeg, figures, rgb.shape[1], rgb.shape[0])
        self.keep(digest, wish, shown)
        release_memory()
        return shown

    def _seen(self, shot: Shot, wish: Wish, layers: Layers) -> npt.NDArray[np.uint8]:
        picture = layers.picture
        if wish.view == "alpha":
            grey = np.round(np.clip(picture[..., 3:], 0, 1) * 255).astype(np.uint8)
            return np.ascontiguousarray(np.repeat(grey, 3, axis=2))
        if wish.orbit is not None:
            # From the side there is no plate.
            picture = over(picture, np.full_like(picture, 0.018) + np.array([0, 0, 0, 0.982], np.float32))
        elif wish.view == "under":
            below = ground(shot, wish.frame, scale_for(shot, wish.width), self.plates)
            picture = np.zeros_like(picture) if below is None else below
        elif wish.view == "plate" and not layers.grounded:
            scale = scale_for(shot, wish.width)
            return shades_over_ground(picture, shot, wish.frame, scale, self.plates, shade_table("srgb"))
        return to_shades(picture, shade_table("srgb"))

    @staticmethod
    def _deep(solver: Solver, wish: Wish, scale: float, orbit: Orbit | None) -> npt.NDArray[np.uint8]:
        """The number of overlapping bodies as grey: each doubling is a step from dark to bright."""
        deep = draw_depth(solver, wish.frame, scale, orbit)
        level = np.clip(np.log2(1 + deep) / _DEEPEST, 0, 1)
        stops = np.linspace(0, 1, len(_DEPTH_SHADES))
        return np.stack([np.interp(level, stops, channel) for channel in _DEPTH_SHADES.T], axis=-1).astype(np.uint8)

    def _solver(self, shot: Shot, digest: str, before: Solver | None = None) -> Solver:
        """The solver of a shot. before: of the shot before an edit."""
        return self._solvers.get(digest, lambda: Solver(shot, self.states, self.plates, before))

    def _held(self, shot: Shot, digest: str) -> Solver:
        """The solver of a shot whose interacting emitters are shown in another document's state; raises Stale if that is no longer
        cached."""
        before = self._solvers.peek(digest)
        if before is None:
            raise Stale
        return Solver(shot, self.states, self.plates, before, held=True)

    def keep(self, digest: str, wish: Wish, shown: ShownPicture) -> None:
        """Keep a frame, drawn here or elsewhere; the least used go when there are too many."""
        with self._lock:
            self._frames.setdefault((digest, _looks(wish)), set()).add(wish.frame)
            self._pictures.put((digest, wish), shown)

    def _gone(self, key: tuple[str, Wish], _: object) -> None:
        """Forget the frame of a picture that was evicted."""
        digest, wish = key
        at = digest, _looks(wish)
        self._frames.get(at, set()).discard(wish.frame)
        if not self._frames.get(at, True):
            del self._frames[at]

    def watched(self, shot: Shot, frame: int) -> list[Note]:
        """What the Lookout says of a shot at a frame."""
        solver = self._solver(shot, digest_of(shot))
        with self._lock:
            turn = self._watched.setdefault(solver, threading.Lock())
        with turn:
            return lookout(solver, frame)

    def inspected(self, shot: Shot, frame: int) -> list[Seen]:
        """The numbers of the particles in the picture."""
        solver = self._solver(shot, digest_of(shot))
        with self._inspecting:
            return inspect.shown(solver, frame)

    def followed(self, shot: Shot, frame: int, x: float, y: float) -> Followed | None:
        """The particle under a place of the picture, and its way."""
        solver = self._solver(shot, digest_of(shot))
        with self._inspecting:
            return inspect.followed(solver, frame, x, y)

    def portrait(self, shot: Shot, number: int, frame: int, count: int, cell: int) -> bytes:
        """A particle at even ages, side by side, on neutral grey, as JPEG."""
        picture = portrait(shot, number, shot.seconds(frame), count, cell, self.plates)
        grey = np.full_like(picture, _GREY)
        grey[..., 3] = 1
        shades = to_shades(over(picture, grey), shade_table("srgb"))
        return bytes(simplejpeg.encode_jpeg(shades, quality=92, colorspace="RGB", colorsubsampling="444"))

    def thumb_name(self, shot: Shot) -> str:
        """The cache key of a shot's small moving picture."""
        return digest_of(shot)[:24]

    @staticmethod
    def _blank(shot: Shot, scale: float) -> Floats:
        view = projection(shot, scale)
        return np.full((view.height, view.width, 4), _GREY, np.float32)

    @staticmethod
    def _give_way(held: Callable[[], bool], stale: Callable[[], bool], most_s: float) -> float:
        """Wait until playback and drags end; return the waiting time, s."""
        begun = time.monotonic()
        while held() and time.monotonic() < begun + most_s and not stale():
            time.sleep(0.05)
        return time.monotonic() - begun

    def strip(
        self, shot: Shot, count: int, width: int, exposed: bool = False, gone: Callable[[], bool] = lambda: False,
        held: Callable[[], bool] = lambda: False,
    ) -> bytes:  # fmt: skip
        """Small frames of the shot's first two seconds, one under the other, as one JPEG; without a plate that cannot be read.
        Raises Stale when the caller is gone. held: whether it should wait for a while."""
        step = max(1, round(2 * float(shot.frame_rate)) // count)
        pictures: list[Floats] = []
        ended, held_s = time.monotonic() + _STRIP_S, 0.0
        solver = Solver(shot, self.states, self.plates)
        scale = scale_for(shot, width, width * width * 2)

        def stale() -> bool:
            return gone() or time.monotonic() > ended + held_s

        for number in range(count):
            held_s += self._give_way(held, gone, _LONGEST_HELD_S - held_s)
            if gone():
                raise Stale
            frame = min(shot.first_frame + number * step, shot.last_frame)
            try:
                try:
                    below = ground(shot, frame, scale, self.plates)
                    layers = draw_particles(solver, frame, scale, stale, over_plate=True)
                except IsbjornError:
                    below, layers = None, draw_particles(solver, frame, scale, stale)
            except (Stale, IsbjornError):
                if gone():
                    raise Stale from None
                # Too much for a small picture, or not to be drawn: what there is of it so far, or nothing.
                pictures += [pictures[-1] if pictures else self._blank(shot, scale)] * (count - len(pictures))
                break
            picture, below = layers.picture, None if layers.grounded else below
            pictures.append(picture.copy() if below is None else over(picture, below))
        gain = _exposure(pictures) if exposed else 1.0
        rows = _fitting([to_shades(np.ascontiguousarray(p * np.float32(gain)), shade_table("srgb")) for p in pictures])
        return bytes(simplejpeg.encode_jpeg(np.concatenate(rows), quality=82, colorspace="RGB", colorsubsampling="420"))
