"""What hides particles: drawn shapes, the plate where it is bright, dark or of a colour, and files. 1 hides in full."""

from __future__ import annotations

import math
from fractions import Fraction
from typing import TYPE_CHECKING

import cv2
import numpy as np
import numpy.typing as npt

from isbjorn.core.document import Matte
from isbjorn.core.life import bezier
from isbjorn.core.life.gradient import hex_to_linear, oklab
from isbjorn.core.picture.gauss import blur

if TYPE_CHECKING:
    from isbjorn.core.picture.drawing import Brush

Floats = npt.NDArray[np.float32]
Doubles = npt.NDArray[np.float64]
_FINER = 4


def shape_outline(matte: Matte, width: float, height: float) -> Doubles:
    """The outline of a drawn shape in its own px, closed, (n, 3)."""
    if matte.form == "path":
        return np.asarray(bezier.flat(matte.points, True), np.float64)
    if matte.form == "ellipse":
        t = np.linspace(0, 2 * math.pi, 97)
        return np.stack([np.cos(t) * width / 2, np.sin(t) * height / 2, np.zeros(97)], axis=1)
    x, y = width / 2, height / 2
    return np.array([[-x, -y, 0], [x, -y, 0], [x, y, 0], [-x, y, 0], [-x, -y, 0]], np.float64)


def _ramp(value: Floats, low: float, high: float) -> Floats:
    q = np.clip((value - low) / max(high - low, 1e-4), 0, 1)
    return np.asarray(q * q * (3 - 2 * q), np.float32)


def _brightness(picture: Floats) -> Floats:
    """As it looks, in [0, 1]."""
    light = picture[..., :3] @ np.array([0.2126, 0.7152, 0.0722], np.float32)
    return np.asarray(np.clip(light, 0, 1) ** np.float32(1 / 2.2), np.float32)


def matte_of(matte: Matte, brush: Brush, plate: Floats | None) -> Floats:
    """A matte at a moment, float32 (height, width) in [0, 1]; nothing where the plate or the file has nothing."""
    view = brush.view
    found = np.zeros((view.height, view.width), np.float32)
    match matte.kind:
        case "shape":
            frames = brush.solver.readings.frames(matte, np.array([float(brush.seconds)]))
            own = shape_outline(matte, brush.read(matte.width), brush.read(matte.height))
            repeated = type(frames)(
                *(np.repeat(p[:1], len(own), axis=0) for p in (frames.place, frames.turn, frames.size))
            )
            pixels, _ = view.place(repeated.of(*own.T))
            big = np.zeros((view.height * _FINER, view.width * _FINER), np.uint8)
            # The middle of the first pixel lies at half of it; in 256ths, so that nothing is rounded outward.
            fine = (np.clip(pixels, -30_000, 30_000).astype(np.float64) * _FINER - 0.5) * 256
            cv2.fillPoly(big, [np.floor(fine).astype(np.int32)], (255,), shift=8)
            small = cv2.resize(big, (view.width, view.height), interpolation=cv2.INTER_AREA)
            found = small.astype(np.float32) / np.float32(255)
        case "bright" | "dark" if plate is not None:
            light = _brightness(plate)
            found = _ramp(light, brush.read(matte.low) / 100, brush.read(matte.high) / 100)
            found = np.asarray(1 - found, np.float32) if matte.kind == "dark" else found
        case "colour" if plate is not None:
            away = oklab(np.maximum(plate[..., :3].astype(np.float64), 0)) - oklab(hex_to_linear(matte.colour))
            distance = np.sqrt((away**2).sum(axis=2))
            near, soft = brush.read(matte.near) / 100, brush.read(matte.soft) / 100
            found = 1 - _ramp(distance.astype(np.float32), near, near + max(soft, 1e-4))
        case "file" if matte.media:
            rate = brush.pictures.own_rate(matte.media) or brush.shot.frame_rate
            number = math.floor(brush.seconds * Fraction(rate)) % brush.pictures.count(matte.media)
            sheet = brush.pictures.filling(matte.media, number, view.width, view.height)
            found = sheet[..., 3] if matte.channel == "alpha" else _brightness(sheet)
    feather = brush.read(matte.feather) * view.scale_x
    if feather > 0.2:
        found = blur(np.ascontiguousarray(found, np.float32), feather / 2)
    return np.asarray(1 - found if matte.inverted else found, np.float32)
