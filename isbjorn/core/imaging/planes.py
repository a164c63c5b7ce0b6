"""Frames of movies as the planes in which they are coded: brightness, and two of colour, which may be smaller."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Floats

# Converting at full width, rounding to the nearest; FFmpeg's default is a code and more too dark.
EXACTLY = 0x2000 | 0x4000 | 0x40000
# How much lower the planes of colour are, by formats of planes: to the side, downward; and the bits of a code.
_FORMATS = {
    **{f"yuv{name}p": (across, down, 8) for name, across, down in (("420", 1, 1), ("422", 1, 0), ("444", 0, 0))},
    **{f"yuvj{name}p": (across, down, 8) for name, across, down in (("420", 1, 1), ("422", 1, 0), ("444", 0, 0))},
    **{
        f"yuv{name}p{bits}le": (across, down, bits)
        for name, across, down in (("420", 1, 1), ("422", 1, 0), ("444", 0, 0))
        for bits in (10, 12)
    },
}
_FULL_RANGE = 2
# Shares of red and of blue in brightness (ITU-R BT.601, 709 and 2020).
_SHARES = {"ITU601": (0.299, 0.114), "ITU709": (0.2126, 0.0722), "BT2020": (0.2627, 0.0593)}
_BT601, _BT2020 = (5, 6), (9, 10)

Plane = npt.NDArray[np.uint8] | npt.NDArray[np.uint16]


@dataclass(frozen=True)
class Planes:
    """A frame: brightness and colour (rows, at least as many columns as are used), uint8 or uint16.

    width, height: pixels of the frame. across, down: 1 where the planes of colour have half of its columns, or rows. to_rgb: what
    makes codes of 8 bits of them, float32 (6,): the factor of brightness and what is added to it, then of colour what goes to
    red, to green from blue, to green from red, to blue. middle: the code of no colour.
    """

    luma: Plane
    blue: Plane
    red: Plane
    width: int
    height: int
    across: int
    down: int
    to_rgb: Floats
    middle: float


def matrix_of(frame: Any) -> str:
    """FFmpeg's name of the matrix by which a frame was coded: what it says, else that of its size."""
    if frame.colorspace in _BT2020:
        return "BT2020"
    return "ITU601" if frame.colorspace in _BT601 or (frame.colorspace == 2 and frame.height < 720) else "ITU709"


def planes_of(frame: Any) -> Planes | None:
    """Views of the planes of a PyAV frame; None for other pixel formats, or with alpha."""
    known = _FORMATS.get(frame.format.name)
    if known is None:
        return None
    across, down, bits = known
    luma, blue, red = (
        np.frombuffer(plane, np.uint8 if bits == 8 else "<u2").reshape(plane.height, -1) for plane in frame.planes
    )
    whole = frame.color_range == _FULL_RANGE or frame.format.name.startswith("yuvj")
    unit = float(1 << (bits - 8))
    first, lit, hued = (
        (0.0, 255 * unit + unit - 1, 255 * unit + unit - 1) if whole else (16 * unit, 219 * unit, 224 * unit)
    )
    of_red, of_blue = _SHARES[matrix_of(frame)]
    of_green = 1 - of_red - of_blue
    per_luma, per_hue = 255 / lit, 255 / hued
    to_rgb = np.array(
        [
            per_luma, -first * per_luma, 2 * (1 - of_red) * per_hue, -2 * of_blue * (1 - of_blue) / of_green * per_hue,
            -2 * of_red * (1 - of_red) / of_green * per_hue, 2 * (1 - of_blue) * per_hue,
        ],
        np.float32,
    )  # fmt: skip
    return Planes(luma, blue, red, frame.width, frame.height, across, down, to_rgb, 128 * unit)
