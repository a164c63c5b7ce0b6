"""Writing picture files, whole or not at all."""

from __future__ import annotations

import math
import os
from fractions import Fraction
from pathlib import Path

import numpy as np
import numpy.typing as npt
import OpenImageIO as oiio

from isbjorn.core.arrays import Floats
from isbjorn.core.errors import IsbjornError
from isbjorn.core.media.colour import convert, shade_table
from isbjorn.core.media.formats import Format, Still
from isbjorn.core.media.whole import replace_whole
from isbjorn.core.render.shades import straight, to_shades

# Red, green, blue and white of ITU-R BT.709.
_SPACES = {"srgb": "srgb_rec709_scene", "rec709": "Rec709"}
_REC709 = (0.64, 0.33, 0.30, 0.60, 0.15, 0.06, 0.3127, 0.3290)


def _pixels(picture: Floats, still: Still, alpha: bool) -> npt.NDArray[np.generic]:
    """The pixels to store: linear ones premultiplied, else straight; whole numbers over their range, 10 bits as 16."""
    if still.encoding == "linear":
        kept = np.array(picture if alpha else picture[..., :3], np.float32)
        if alpha:
            np.clip(kept[..., 3], 0, 1, out=kept[..., 3])
        return np.ascontiguousarray(kept)
    shown = np.clip(straight(picture) if alpha else picture[..., :3], 0, 1)
    if still.kind == "uint8":
        codes = to_shades(np.ascontiguousarray(shown), shade_table(still.encoding))
        if alpha:
            codes = np.concatenate([codes, np.round(shown[..., 3:] * 255).astype(np.uint8)], axis=2)
        return codes
    levels = np.clip(convert(shown, "linear", still.encoding), 0, 1)
    if still.kind == "uint10":
        # Each of the 1023 codes as the code of 16 bits that is cut to it again.
        return (np.round(levels * 1023).astype(np.uint16) << 6) | 32
    return np.round(levels * 65535).astype(np.uint16)


def smpte_words(text: str, rate: Fraction) -> tuple[int, int]:
    """A timecode as the two words of SMPTE ST 12-1, as OpenEXR keeps them: digits in BCD, bit 6 drop frame.

    There is room for 40 frames a second: at higher rates frames are counted in pairs (or more), as the standard has it, and bit 15
    marks the later ones.
    """
    hours, minutes, seconds, frame = (int(part) for part in text.replace(";", ":").split(":"))
    together = max(1, math.ceil(round(rate) / 30))
    word = 0
    for value, shift in ((frame // together, 0), (seconds, 8), (minutes, 16), (hours, 24)):
        word |= (value // 10 << 4 | value % 10) << shift
    return word | (";" in text) << 6 | (frame % together != 0) << 15, 0


def _spec(shape: tuple[int, ...], still: Still, suffix: str, rate: Fraction, timecode: str) -> oiio.ImageSpec:
    height, width, channels = shape
    linear = still.encoding == "linear"
    kind = {"uint10": "uint16"}.get(still.kind, still.kind)
    spec = oiio.ImageSpec(width, height, channels, kind)
    spec.attribute("oiio:UnassociatedAlpha", int(not linear))
    spec.attribute("oiio:ColorSpace", "lin_rec709_scene" if linear else _SPACES[still.encoding])
    spec.attribute("Software", "Isbjorn")
    if suffix == ".exr":
        spec.attribute("framesPerSecond", oiio.TypeRational, (rate.numerator, rate.denominator))
        spec.attribute("smpte:TimeCode", oiio.TypeTimeCode, smpte_words(timecode, rate))
        spec.attribute("chromaticities", oiio.TypeDesc("float[8]"), _REC709)
    else:
        spec.attribute("png:compressionLevel", 1)
        spec.attribute("TimeCodeText", timecode)
    # Of the shot's time, not of the day's: a frame made again is the same to the last byte.
    spec.attribute("DateTime", f"1970:01:01 {timecode[:8].replace(';', ':')}")
    for name, value in still.attributes.items():
        spec.attribute(name, value)
    return spec


def encoded(pixels: npt.NDArray[np.generic], spec: oiio.ImageSpec, suffix: str) -> bytes:
    """A picture file as bytes, made in memory. Raises OSError if the encoder refuses."""
    handle = os.memfd_create("picture")
    try:
        place = f"/proc/self/fd/{handle}"
        out = oiio.ImageOutput.create(f"picture{suffix}")
        if out is None or not out.open(place, spec):
            raise OSError(oiio.geterror() if out is None else out.geterror())
        done = out.write_image(pixels)
        if not out.close() or not done:
            raise OSError(out.geterror() or "the picture could not be encoded")
        with os.fdopen(os.dup(handle), "rb") as file:
            file.seek(0)
            return file.read()
    finally:
        os.close(handle)


def write_still(path: Path, picture: Floats, form: Format, alpha: bool, rate: Fraction, timecode: str) -> None:
    """Write a linear, premultiplied (height, width, 4) picture. EXR keeps it so; PNG is sRGB with straight alpha.

    Raises IsbjornError when the folder or the disk refuses; the file then is what it was before.
    """
    if form.still is None:
        raise IsbjornError(f"{form.label} is no still picture.", "format", "Choose a sequence.")
    pixels = _pixels(picture, form.still, alpha)
    try:
        replace_whole(path, encoded(pixels, _spec(pixels.shape, form.still, path.suffix, rate, timecode), path.suffix))
    except OSError as error:
        raise IsbjornError(
            f"the picture could not be written ({error.strerror or error}).",
            str(path),
            "Is there room on the disk, and may you write there?",
        ) from None
