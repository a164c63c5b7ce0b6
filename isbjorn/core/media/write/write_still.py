"""Writing picture files, whole or not at all."""

from __future__ import annotations

import math
import os
from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np
import numpy.typing as npt
import OpenImageIO as oiio

from isbjorn.core.arrays import Floats
from isbjorn.core.errors import IsbjornError
from isbjorn.core.imaging.colour import convert, shade_table
from isbjorn.core.imaging.display_encoding import straight, to_shades
from isbjorn.core.media.write.formats import Format, Layer, PictureInfo, Still
from isbjorn.core.media.write.targets import NOT_SAID, PRIMARIES, Target
from isbjorn.core.runtime.whole import replace_whole

_COMPRESSIONS = {"zip": "zip:1", "zips": "zips:1", "dwaa": "dwaa:45"}
_SPACES = {"srgb": "srgb_rec709_scene", "rec709": "Rec709", "linear": "lin_rec709_scene"}


def _floats(picture: Floats, alpha: bool, colour: Target | None) -> Floats:
    """Values to be stored as numbers of any size, premultiplied. Of light they stay as they are, without cover too."""
    if colour is None:
        kept = np.array(picture if alpha else picture[..., :3], np.float32)
    elif colour.linear or not alpha:
        kept = colour.applied(picture if alpha else picture[..., :3])
    else:
        kept = colour.applied(straight(picture))
        kept[..., :3] *= kept[..., 3:]
    if alpha:
        np.clip(kept[..., 3], 0, 1, out=kept[..., 3])
    return np.ascontiguousarray(kept)


def _pixels(picture: Floats, still: Still, alpha: bool, colour: Target | None = None) -> npt.NDArray[np.generic]:
    """The pixels to store: linear ones premultiplied, else straight; whole numbers over their range, 10 bits as 16."""
    if still.encoding == "linear":
        return _floats(picture, alpha, colour)
    if colour is not None:
        levels = np.clip(colour.applied(straight(picture) if alpha else picture[..., :3]), 0, 1)
        if still.kind == "uint8":
            return np.round(levels * 255).astype(np.uint8)
    else:
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


def _spec(shape: tuple[int, ...], form: Format, about: PictureInfo) -> oiio.ImageSpec:
    still, timecode, colour = form.still, about.timecode, about.colour
    assert still is not None
    height, width, channels = shape
    linear = still.encoding == "linear"
    kind = {"uint10": "uint16"}.get(still.kind, still.kind)
    spec = oiio.ImageSpec(width, height, channels, kind)
    spec.attribute("oiio:UnassociatedAlpha", int(not linear))
    known = _SPACES[still.encoding] if colour is None else colour.interop_id
    primaries = PRIMARIES["rec709"] if colour is None else colour.primaries
    if known:
        spec.attribute("oiio:ColorSpace", known)
    spec.attribute("Software", "Isbjorn")
    if form.suffix == ".exr":
        spec.attribute("framesPerSecond", oiio.TypeRational, (about.rate.numerator, about.rate.denominator))
        spec.attribute("smpte:TimeCode", oiio.TypeTimeCode, smpte_words(timecode, about.rate))
        if primaries is not None:
            spec.attribute("chromaticities", oiio.TypeDesc("float[8]"), primaries)
    else:
        # Rows are predicted from the row above only: half the time of choosing a filter, and no larger.
        spec.attribute("png:compressionLevel", 1)
        spec.attribute("png:filter", 32)
        spec.attribute("TimeCodeText", timecode)
    if colour is not None:
        spec.attribute("ocio:ColorSpace", colour.title)
        if form.suffix == ".png" and NOT_SAID not in colour.codes:
            # Primaries, transfer, no matrix, full range: ITU-T H.273.
            spec.attribute("CICP", oiio.TypeDesc("int[4]"), (*colour.codes, 0, 1))
    # Of the shot's time, not of the day's: a frame made again is the same to the last byte.
    spec.attribute("DateTime", f"1970:01:01 {timecode[:8].replace(';', ':')}")
    for name, value in still.attributes.items():
        spec.attribute(name, value)
    if about.compression:
        spec.attribute("compression", _COMPRESSIONS.get(about.compression, about.compression))
    return spec


def _with_layers(
    pixels: npt.NDArray[np.generic], spec: oiio.ImageSpec, still: Still, layers: Sequence[Layer]
) -> npt.NDArray[np.generic]:
    """The pixels of all layers concatenated; the spec is extended to name them. Data is stored as 32 bits per value."""
    own = ("R", "G", "B", "A")[: pixels.shape[2]]
    names, kinds = list(own), [still.kind] * len(own)
    for layer in layers:
        names += layer.channels
        kinds += ["float" if layer.data else still.kind] * len(layer.channels)
        for name, text in layer.attributes.items():
            spec.attribute(name, text)
    spec.nchannels, spec.channelnames = len(names), tuple(names)
    spec.channelformats = tuple(oiio.TypeDesc(kind) for kind in kinds)
    return np.ascontiguousarray(np.concatenate([pixels, *(layer.values for layer in layers)], axis=2, dtype=np.float32))


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


def still_bytes(picture: Floats, form: Format, alpha: bool, about: PictureInfo, layers: Sequence[Layer] = ()) -> bytes:
    """A linear, premultiplied (height, width, 4) picture as a file. EXR keeps it so; PNG is sRGB with straight alpha.

    layers: beside it, where the format holds them; colours among them are as the picture's. The same picture is the same file to
    the byte. Raises OSError if the encoder refuses.
    """
    still = form.still
    if still is None:
        raise IsbjornError(f"{form.label} is not a still format.", "format", "Select a sequence.")
    pixels = _pixels(picture, still, alpha, about.colour)
    spec = _spec(pixels.shape, form, about)
    if layers:
        coloured = [
            layer
            if layer.data
            else replace(layer, values=_floats(layer.values, layer.values.shape[2] == 4, about.colour))
            for layer in layers
        ]
        pixels = _with_layers(pixels, spec, still, coloured)
    return encoded(pixels, spec, form.suffix)


def write_still(
    path: Path, picture: Floats, form: Format, alpha: bool, about: PictureInfo, layers: Sequence[Layer] = ()
) -> None:
    """Write a picture's file (`still_bytes`). Raises IsbjornError when the folder or the disk refuses; the file then is what it
    was before."""
    try:
        replace_whole(path, still_bytes(picture, form, alpha, about, layers))
    except OSError as error:
        raise IsbjornError(
            f"the picture could not be written ({error.strerror or error}).",
            str(path),
            "Check the free disk space and the folder's permissions.",
        ) from None
