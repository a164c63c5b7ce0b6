"""Picture files and numbered sequences through OpenImageIO."""

from __future__ import annotations

import math
import os
import re
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt
import OpenImageIO as oiio

from isbjorn.core.errors import IsbjornError
from isbjorn.core.imaging.colour import Encoding, to_linear

PICTURES = (".png", ".jpg", ".jpeg", ".tif", ".tiff", ".exr", ".dpx")
LARGEST_PIXELS = 16_384 * 16_384
_LONGEST_NUMBER, _MOST_CHANNELS = 18, 64
# Larger ones are brought down as they are read, strip by strip, so that none fills the memory.
_WHOLE_PIXELS, _STRIP_ROWS = 36_000_000, 256
_LINEAR_FILES = (".exr",)
_REMEDY = "Use PNG, JPEG, TIFF, EXR or DPX pictures."


def is_pattern(path: str) -> bool:
    """Whether a path names a numbered sequence: `pier.####.exr` or `pier.%04d.exr`."""
    return re.search(r"#+|%0?\d*d", Path(path).name) is not None


def sequence_files(pattern: str) -> dict[int, Path]:
    """The files of a numbered sequence by their number, in order. Raises IsbjornError when there is none."""
    path = Path(pattern)
    parts = re.split(r"#+|%0?\d*d", path.name, maxsplit=1)
    match = re.compile(re.escape(parts[0]) + r"(-?\d+)" + re.escape(parts[1]) + "$")
    found: dict[int, Path] = {}
    try:
        names = os.listdir(path.parent)
    except (OSError, ValueError) as error:
        raise IsbjornError(
            f"the folder cannot be read ({getattr(error, 'strerror', error)}).",
            str(path.parent),
            "Check the plate's folder.",
        ) from None
    for name in names:
        if (hit := match.match(name)) and len(hit[1]) < _LONGEST_NUMBER:
            found[int(hit[1])] = path.parent / name
    if not found:
        raise IsbjornError(
            "no numbered picture matches this name.", str(pattern), "Check the name and the number of digits."
        )
    return dict(sorted(found.items()))


def pattern_of(path: Path) -> str | None:
    """The pattern of the sequence that a file belongs to, if its name ends in a number and it has neighbours."""
    hit = re.match(r"^(.*?)(\d+)(\.[^.]+)$", path.name)
    if not hit:
        return None
    pattern = str(path.parent / f"{hit[1]}{'#' * len(hit[2])}{hit[3]}")
    return pattern if len(sequence_files(pattern)) > 1 else None


def is_there(path: Path) -> bool:
    """Whether there is such a file; not for names that no disk takes."""
    try:
        return path.is_file()
    except (OSError, ValueError):
        return False


def _open(path: Path) -> Any:
    if not is_there(path):
        raise IsbjornError("the picture file is missing.", path.name, "Restore it, or select another plate.")
    hints = oiio.ImageSpec()
    hints.attribute("oiio:UnassociatedAlpha", 1)
    source = oiio.ImageInput.open(str(path), hints)
    if source is None:
        raise IsbjornError(f"this picture cannot be read ({oiio.geterror().strip()}).", str(path), _REMEDY)
    spec = source.spec()
    fits = 0 < spec.width <= 65_536 and 0 < spec.height <= 65_536 and 0 < spec.nchannels <= _MOST_CHANNELS
    if (
        not fits
        or spec.width * spec.height > LARGEST_PIXELS
        or (spec.tile_width != 0 and spec.width * spec.height > 2 * _WHOLE_PIXELS)
    ):
        source.close()
        raise IsbjornError(
            f"{spec.width} × {spec.height} px is too large.", path.name, "The limit is 16384 × 16384 px."
        )
    return source


def probe_still(path: Path) -> dict[str, Any]:
    """Width, height and encoding of a picture file."""
    source = _open(path)
    spec = source.spec()
    source.close()
    return {"width": spec.width, "height": spec.height, "encoding": encoding_of(path, spec)}


def encoding_of(path: Path, spec: Any) -> Encoding:
    """A sane default: EXR is linear, floating pictures are linear, the rest sRGB, DPX Rec.709."""
    if path.suffix.lower() in _LINEAR_FILES or str(spec.format) in ("float", "half", "double"):
        return "linear"
    return "rec709" if path.suffix.lower() == ".dpx" else "srgb"


def _kind(spec: Any) -> str:
    return {"uint8": "uint8", "uint16": "uint16", "uint10": "uint16", "uint12": "uint16"}.get(str(spec.format), "float")


def _channels(pixels: npt.NDArray[Any]) -> npt.NDArray[Any]:
    """Three or four channels of any that a file may have."""
    if pixels.shape[2] == 2:
        return np.concatenate([np.repeat(pixels[..., :1], 3, axis=2), pixels[..., 1:]], axis=2)
    return np.repeat(pixels, 3, axis=2) if pixels.shape[2] == 1 else pixels


def _reduced(source: Any, path: Path, encoding: Encoding) -> tuple[npt.NDArray[np.float32], Encoding, bool]:
    """A very large picture in linear light, brought down by a whole number, premultiplied."""
    spec = source.spec()
    by = math.ceil(math.sqrt(spec.width * spec.height / _WHOLE_PIXELS))
    rows = _STRIP_ROWS * by
    straight = bool(spec.get_int_attribute("oiio:UnassociatedAlpha", 0))
    strips = []
    for top in range(0, spec.height - by + 1, rows):
        low = min(spec.height - (spec.height % by), top + rows)
        read = source.read_scanlines(spec.y + top, spec.y + low, 0, 0, min(4, spec.nchannels), _kind(spec))
        if read is None:
            raise IsbjornError("the file is damaged or incomplete.", path.name, "Export it again.")
        linear = to_linear(_channels(np.asarray(read).reshape(low - top, spec.width, -1)), encoding)
        if linear.shape[2] == 4 and straight:
            linear[..., :3] *= linear[..., 3:]
        small = (spec.width // by, (low - top) // by)
        strips.append(cv2.resize(linear[:, : small[0] * by], small, interpolation=cv2.INTER_AREA))
    return np.ascontiguousarray(np.concatenate(strips), np.float32), "linear", True


def _pixels(source: Any, path: Path, channels: range, kind: str) -> npt.NDArray[Any]:
    """Some channels of a picture, (height, width, channels)."""
    spec = source.spec()
    pixels = source.read_image(0, 0, channels.start, channels.stop, kind)
    if pixels is None:
        raise IsbjornError(
            f"the file is damaged or incomplete ({source.geterror().strip()}).", str(path), "Export it again."
        )
    return np.asarray(pixels).reshape(spec.height, spec.width, -1)


def read_still(path: Path, wanted: Encoding | None = None) -> tuple[npt.NDArray[Any], Encoding, bool]:
    """Pixels (height, width, 3 or 4) in uint8, uint16 or float32; the encoding (the file's own, unless one is wanted); whether
    alpha is premultiplied. One of more than 36 million pixels comes smaller, and linear.

    Raises IsbjornError for a missing, truncated or foreign file.
    """
    source = _open(path)
    try:
        spec = source.spec()
        encoding = wanted or encoding_of(path, spec)
        if spec.width * spec.height > _WHOLE_PIXELS and spec.tile_width == 0:
            return _reduced(source, path, encoding)
        pixels = _channels(_pixels(source, path, range(min(4, spec.nchannels)), _kind(spec)))
        associated = pixels.shape[2] == 4 and not spec.get_int_attribute("oiio:UnassociatedAlpha", 0)
        return np.ascontiguousarray(pixels), encoding, associated
    finally:
        source.close()


def read_depth(path: Path) -> npt.NDArray[np.float32]:
    """The depth that a picture file holds, float32 (height, width): its channel Z, or else its first one; codes as shares of white.

    Raises IsbjornError for a missing, truncated or foreign file.
    """
    source = _open(path)
    try:
        spec = source.spec()
        names = [str(name).rpartition(".")[2].lower() for name in spec.channelnames]
        first = next((names.index(name) for name in ("z", "depth") if name in names), 0)
        return np.asarray(_pixels(source, path, range(first, first + 1), "float")[..., 0], np.float32)
    finally:
        source.close()
