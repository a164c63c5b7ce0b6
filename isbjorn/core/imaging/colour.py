"""Colour in and out through OpenColorIO's built-in configuration. Working space: linear Rec.709."""

from __future__ import annotations

import functools
from typing import Any, Literal

import cv2
import numpy as np
import numpy.typing as npt
import PyOpenColorIO as ocio

from isbjorn.core.arrays import Floats
from isbjorn.core.imaging.display_encoding import shade_levels

Encoding = Literal["srgb", "rec709", "linear", "acescg"]
WORKING = "Linear Rec.709 (sRGB)"
SPACES: dict[str, str] = {
    "srgb": "sRGB Encoded Rec.709 (sRGB)",
    "rec709": "Gamma 2.4 Encoded Rec.709",
    "linear": WORKING,
    "acescg": "ACEScg",
}
_CURVES = ("srgb", "rec709")


@functools.cache
def _config() -> Any:
    return ocio.Config.CreateFromFile("ocio://default")


@functools.cache
def _processor(source: str, target: str) -> Any:
    return _config().getProcessor(source, target).getDefaultCPUProcessor()


def convert(picture: Floats, source: Encoding, target: Encoding) -> Floats:
    """Convert the first three channels of (height, width, 3 or 4), not premultiplied, between encodings; a copy."""
    out = np.ascontiguousarray(picture, dtype=np.float32).copy()
    if source != target:
        processor = _processor(SPACES[source], SPACES[target])
        processor.applyRGB(out) if out.shape[-1] == 3 else processor.applyRGBA(out)
    return out


@functools.cache
def decoding_table(encoding: Encoding, levels: int) -> Floats | None:
    """Linear light of each code value of an integer picture, float32 (levels,); None if channels depend on each other."""
    if encoding not in _CURVES:
        return None
    grey = np.repeat(np.linspace(0, 1, levels, dtype=np.float32)[:, None], 3, axis=1).reshape(1, levels, 3)
    return np.ascontiguousarray(convert(grey, encoding, "linear")[0, :, 1])


@functools.cache
def shade_table(encoding: Encoding) -> npt.NDArray[np.uint8]:
    """The table for `picture.compose.to_shades` that ends in an 8-bit encoding."""
    levels = np.repeat(shade_levels()[:, None], 3, axis=1).reshape(1, -1, 3)
    encoded = convert(levels, "linear", encoding)[0, :, 1]
    return np.clip(np.round(encoded * 255), 0, 255).astype(np.uint8)


def to_linear(pixels: npt.NDArray[Any], encoding: Encoding) -> Floats:
    """Decoded pixels (height, width, channels) of any type to linear float32, with integers read as [0, 1].

    Alpha, the fourth channel, stays as it is.
    """
    if pixels.dtype.kind == "f":
        return convert(pixels.astype(np.float32), encoding, "linear")
    top = np.iinfo(pixels.dtype).max
    table = decoding_table(encoding, int(top) + 1)
    if table is None:
        return convert((pixels / np.float32(top)).astype(np.float32), encoding, "linear")
    out = np.asarray(cv2.LUT(pixels, table), np.float32) if pixels.dtype == np.uint8 else table[pixels]
    if pixels.shape[-1] == 4:
        out[..., 3] = pixels[..., 3].astype(np.float32) / top
    return out
