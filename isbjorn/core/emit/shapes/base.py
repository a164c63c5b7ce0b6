"""What all shapes share."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document import Matte, Number
from isbjorn.core.document.parts.shapes import Area
from isbjorn.core.evaluate.readings import Readings

Lines = list[Doubles]


class Light(Protocol):
    """The brightness of the plate, as sources by the plate need it."""

    width: float
    height: float

    def numbers(self, t: Doubles) -> npt.NDArray[np.int64]:
        """The frame that the plate shows at moments t (n,) of shot time; -1 where it shows none."""

    def sheet(self, number: int) -> npt.NDArray[np.float32]:
        """The brightness of a frame as it looks, float32 (h, w) in [0, 1]; black for -1."""

    def grey(self, media: str) -> npt.NDArray[np.float32]:
        """The brightness of a picture file that fills the frame, as it looks, float32 (h, w) in [0, 1]."""

    def matte(self, matte: Matte, t: float, readings: Readings) -> npt.NDArray[np.float32]:
        """How full a matte is at a moment of shot time, without the camera, float32 (h, w) in [0, 1]."""

    def picture(self, media: str, frame: int, width: int, height: int) -> npt.NDArray[np.float32]:
        """The linear colours of a frame of a picture file that fills a size, float32 (height, width, 3)."""

    def colours(self, number: int) -> npt.NDArray[np.float32]:
        """The linear colours of a frame, float32 (h, w, 3); black for -1."""


@dataclass(frozen=True)
class ShapeSetting:
    """When a shape is read: moments (n,) of shot time in s, the readings of the shot, and the plate."""

    t: Doubles
    readings: Readings
    light: Light | None = None

    def read(self, number: Number) -> Doubles:
        """A number at the moments, (n,)."""
        return self.readings.number(number, self.t)


@dataclass(frozen=True)
class Painted:
    """A picture that fills the rectangle of a shape. media: its file; empty: the plate. frame: its frame; None: it plays."""

    media: str
    frame: int | None


@dataclass(frozen=True)
class ShapeEngine:
    """How a shape scatters, how it is outlined, how many of its draws make its place, and how much of it there is to fill at the
    setting's only moment: px, px² or px³, and which power that is. colours: linear colours (n, 3) of the shape where draws fall;
    None: white. flat: its outline encloses an area in the picture plane, which can be cut into pieces; letters: the outlines of
    each letter, or of each word, in reading order; painted: what its pieces show instead of one colour."""

    scatter: Callable[[Any, Doubles, ShapeSetting], Scattered]
    outline: Callable[[Any, ShapeSetting], Lines]
    dimensions: Callable[[Any], int] = lambda _: 1
    measure: Callable[[Any, ShapeSetting], tuple[float, int] | None] | None = None
    colours: Callable[[Any, Doubles], Floats] | None = None
    flat: bool = False
    letters: Callable[[Any, bool, ShapeSetting], list[Lines]] | None = None
    painted: Callable[[Any], Painted | None] = lambda _: None


@dataclass(frozen=True)
class Scattered:
    """Places (n, 3) px, and at each the unit direction away from the shape and the one along it, (n, 3)."""

    place: Doubles
    outward: Doubles
    along: Doubles


def vectors(*parts: Doubles) -> Doubles:
    """Two or three coordinates (n,) as (n, 3)."""
    x = np.asarray(parts[0], np.float64)
    return np.stack([*np.broadcast_arrays(*parts), *([np.zeros_like(x)] * (3 - len(parts)))], axis=1)


def unit(v: Doubles) -> Doubles:
    """Vectors (n, 3) of length 1; those of no length point up."""
    length = np.linalg.norm(v, axis=1, keepdims=True)
    return np.where(length > 1e-12, v / np.maximum(length, 1e-12), [0.0, 1.0, 0.0])


def shell(area: Area, extent: Doubles, setting: ShapeSetting) -> tuple[Doubles, Doubles]:
    """From which to which distance of the centre a shape is filled, given the distance (n,) of its edge."""
    if area.fill == "inside":
        return np.zeros_like(extent), extent
    if area.fill == "edge":
        return extent, extent
    thick = setting.read(area.thickness)
    inward = {"inward": 1.0, "outward": 0.0, "both": 0.5}[area.shell_side]
    return np.maximum(0, extent - thick * inward), extent + thick * (1 - inward)


_AXES = {"right": (0, 1), "left": (0, -1), "upper": (1, 1), "lower": (1, -1), "near": (2, 1), "far": (2, -1)}


def halved(found: Scattered, half: str) -> Scattered:
    """Fold all to one half, which keeps what is even even."""
    if half == "whole":
        return found
    axis, sign = _AXES[half]
    flip = found.place[:, axis] * sign < 0
    parts = [part.copy() for part in (found.place, found.outward, found.along)]
    for part in parts:
        part[flip, axis] *= -1
    return Scattered(*parts)


def kept_half(lines: Lines, half: str) -> Lines:
    """Outlines folded to one half."""
    if half == "whole":
        return lines
    axis, sign = _AXES[half]
    out = []
    for line in lines:
        line = line.copy()
        line[:, axis] = np.maximum(0, line[:, axis] * sign) * sign
        out.append(line)
    return out


def half_of(half: str) -> float:
    """The share of a shape that is left of it."""
    return 1.0 if half == "whole" else 0.5


def by_area(shape: Area) -> int:
    """Draws of a place in a flat shape."""
    return {"inside": 2, "edge": 1, "shell": 2}[shape.fill]


def by_volume(shape: Area) -> int:
    """Draws of a place in a solid."""
    return {"inside": 3, "edge": 2, "shell": 3}[shape.fill]
