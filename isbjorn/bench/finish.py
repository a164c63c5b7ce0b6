"""What bodies and finish cost: motion blur, trails and lines of a frame, blur against OpenCV's own, glow."""

from __future__ import annotations

from functools import partial
from typing import Any

import cv2
import numpy as np

from isbjorn.bench.shots import fountain
from isbjorn.bench.timing import ratio, seconds
from isbjorn.core.arrays import Floats
from isbjorn.core.document import Camera, Emitter, Lines, Number, Rectangle, Shot, Star, Trail
from isbjorn.core.frame import Solver, draw_particles
from isbjorn.core.imaging.blur import blur
from isbjorn.core.render.composite.effects import glow_of

_W, _H = 1280, 720
_SIGMAS = (5, 20, 60)


def _with(shot: Shot, **emitter: Any) -> Shot:
    return shot.model_copy(update={"emitters": (shot.emitters[0].model_copy(update=emitter),)})


def drawn_ms() -> dict[str, float]:
    """A frame of 20,000 particles at 1280 × 720, its state known: sharp, with a shutter of 180°, as stars, with trails of 12
    frames (5,000 particles); and 3,000 particles joined by lines."""
    plain = fountain(20_000, 3.0)
    few = fountain(5_000, 3.0)
    net = Shot(emitters=(Emitter(
        id="net", shape=Rectangle(width=Number(value=1200), height=Number(value=680)), rate=Number(value=1000),
        lifespan=Number(value=3), pre_roll_s=3, speed=Number(value=4), size=Number(value=3),
        lines=Lines(distance=Number(value=40), most=4),
    ),))  # fmt: skip
    cases = {
        "sharp": plain,
        "motion blur": plain.model_copy(update={"camera": Camera(shutter=Number(value=180))}),
        "stars": _with(plain, body=Star()),
        "trails": _with(few, trail=Trail(length=Number(value=12))),
        "lines": net,
    }
    found = {}
    for name, shot in cases.items():
        solver = Solver(shot)
        found[name] = round(1e3 * seconds(partial(draw_particles, solver, 150)), 1)
    return found


def _opencv(given: Floats, sigma: float) -> Floats:
    return np.asarray(cv2.GaussianBlur(given, (0, 0), sigma, borderType=cv2.BORDER_REFLECT_101), np.float32)


def blur_ms() -> dict[str, Any]:
    """Blur of a float32 picture of four channels at 1280 × 720: ms, how many times as fast as OpenCV's own float32 blur, pair by
    pair, and the largest difference of the two around a point of light, as a share of the peak."""
    rng = np.random.default_rng(2)
    picture = rng.random((_H, _W, 4)).astype(np.float32)
    point = np.zeros((_H, _W, 1), np.float32)
    point[_H // 2, _W // 2] = 1
    found: dict[str, Any] = {"ms": {}, "vs_opencv": {}, "error_of_peak": {}}
    for sigma in _SIGMAS:
        theirs = partial(_opencv, sigma=sigma)
        mine, times = ratio(partial(blur, picture, sigma), partial(theirs, picture))
        found["ms"][str(sigma)] = round(mine * 1e3, 1)
        found["vs_opencv"][str(sigma)] = round(times, 1)
        wanted = theirs(point).reshape(_H, _W)
        away = np.abs(blur(point, sigma).reshape(_H, _W) - wanted).max()
        found["error_of_peak"][str(sigma)] = round(float(away / wanted.max()), 5)
    return found


def glow_ms() -> dict[str, float]:
    """The light of a glow over a picture of 1280 × 720, by its radius in px."""
    picture = np.random.default_rng(3).random((_H, _W, 4)).astype(np.float32)
    return {str(r): round(1e3 * seconds(partial(glow_of, picture, r, 0.2, "#ffffff"), 5), 1) for r in (8, 24, 80)}
