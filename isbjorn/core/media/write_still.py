"""Writing picture files, whole or not at all."""

from __future__ import annotations

import os
from fractions import Fraction
from pathlib import Path

import numpy as np
import numpy.typing as npt
import OpenImageIO as oiio

from isbjorn.core.errors import IsbjornError
from isbjorn.core.media.colour import convert, shade_table
from isbjorn.core.media.formats import Format
from isbjorn.core.picture.compose import straight, to_shades

Floats = npt.NDArray[np.float32]


def _pixels(picture: Floats, form: Format, alpha: bool) -> tuple[npt.NDArray[np.generic], str]:
    """The pixels to store, and OpenImageIO's name of their type."""
    if form.exact_light:
        kept = picture if alpha else picture[..., :3]
        return np.ascontiguousarray(kept), "half" if form.name == "exr-half" else "float"
    shown = straight(picture) if alpha else picture
    if form.name == "png8":
        codes = to_shades(np.ascontiguousarray(shown), shade_table("srgb"))
        if alpha:
            codes = np.concatenate([codes, np.round(shown[..., 3:] * 255).astype(np.uint8)], axis=2)
        return codes, "uint8"
    encoded = convert(np.clip(shown if alpha else shown[..., :3], 0, 1), "linear", "srgb")
    return np.round(np.clip(encoded, 0, 1) * 65535).astype(np.uint16), "uint16"


def write_still(path: Path, picture: Floats, form: Format, alpha: bool, rate: Fraction, timecode: str) -> None:
    """Write a linear, premultiplied (height, width, 4) picture. EXR keeps it so; PNG is sRGB with straight alpha.

    Raises IsbjornError when the folder or the disk refuses; the file then is what it was before.
    """
    pixels, kind = _pixels(picture, form, alpha)
    height, width, channels = pixels.shape
    spec = oiio.ImageSpec(width, height, channels, kind)
    spec.attribute("oiio:UnassociatedAlpha", int(not form.exact_light))
    spec.attribute("oiio:ColorSpace", "lin_rec709_scene" if form.exact_light else "srgb_rec709_scene")
    spec.attribute("Software", "Isbjorn")
    if form.exact_light:
        spec.attribute("FramesPerSecond", oiio.TypeRational, (rate.numerator, rate.denominator))
        spec.attribute("compression", "zip:1")
    else:
        spec.attribute("png:compressionLevel", 1)
    spec.attribute("TimeCodeText", timecode)
    partial = path.with_name(f".{path.name}.part{path.suffix}")
    try:
        out = oiio.ImageOutput.create(str(partial))
        if out is None or not out.open(str(partial), spec):
            raise OSError(oiio.geterror() if out is None else out.geterror())
        done = out.write_image(pixels)
        if not out.close() or not done:
            raise OSError(out.geterror() or "the disk took only a part of it")
        os.replace(partial, path)
    except OSError as error:
        partial.unlink(missing_ok=True)
        raise IsbjornError(
            f"the picture could not be written ({error}).",
            str(path),
            "Is there room on the disk, and may you write there?",
        ) from None
