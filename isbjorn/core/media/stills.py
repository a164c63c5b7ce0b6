"""Picture files and numbered sequences through OpenImageIO."""

from __future__ import annotations

import os
import re
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import OpenImageIO as oiio

from isbjorn.core.errors import IsbjornError
from isbjorn.core.media.colour import Encoding

PICTURES = (".png", ".jpg", ".jpeg", ".tif", ".tiff", ".exr", ".dpx")
LARGEST_PIXELS = 16_384 * 16_384
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
    except OSError as error:
        raise IsbjornError(
            f"the folder cannot be read ({error.strerror}).", str(path.parent), "Check the plate's place."
        ) from None
    for name in names:
        if hit := match.match(name):
            found[int(hit[1])] = path.parent / name
    if not found:
        raise IsbjornError("no numbered picture matches.", str(pattern), "Check the name and the number of digits.")
    return dict(sorted(found.items()))


def pattern_of(path: Path) -> str | None:
    """The pattern of the sequence that a file belongs to, if its name ends in a number and it has neighbours."""
    hit = re.match(r"^(.*?)(\d+)(\.[^.]+)$", path.name)
    if not hit:
        return None
    pattern = str(path.parent / f"{hit[1]}{'#' * len(hit[2])}{hit[3]}")
    return pattern if len(sequence_files(pattern)) > 1 else None


def _open(path: Path) -> Any:
    if not path.is_file():
        raise IsbjornError("the picture is not there any more.", str(path), "Put it back or choose another plate.")
    hints = oiio.ImageSpec()
    hints.attribute("oiio:UnassociatedAlpha", 1)
    source = oiio.ImageInput.open(str(path), hints)
    if source is None:
        raise IsbjornError(f"this is not a picture that can be read ({oiio.geterror().strip()}).", str(path), _REMEDY)
    spec = source.spec()
    if spec.width * spec.height > LARGEST_PIXELS or spec.width < 1 or spec.height < 1:
        source.close()
        raise IsbjornError(f"{spec.width} × {spec.height} pixels are too many.", str(path), "At most 16384 × 16384.")
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


def read_still(path: Path) -> tuple[npt.NDArray[Any], Encoding, bool]:
    """Pixels (height, width, 3 or 4) in uint8, uint16 or float32; the default encoding; whether alpha is premultiplied.

    Raises IsbjornError for a missing, truncated or foreign file.
    """
    source = _open(path)
    try:
        spec = source.spec()
        kind = {"uint8": "uint8", "uint16": "uint16", "uint10": "uint16", "uint12": "uint16"}.get(
            str(spec.format), "float"
        )
        pixels = source.read_image(0, 0, 0, min(4, spec.nchannels), kind)
        if pixels is None:
            raise IsbjornError(
                f"the file is damaged or cut short ({source.geterror().strip()}).",
                str(path),
                "Make it again.",
            )
        pixels = np.asarray(pixels).reshape(spec.height, spec.width, -1)
        if pixels.shape[2] == 2:
            pixels = np.concatenate([np.repeat(pixels[..., :1], 3, axis=2), pixels[..., 1:]], axis=2)
        elif pixels.shape[2] == 1:
            pixels = np.repeat(pixels, 3, axis=2)
        associated = pixels.shape[2] == 4 and not spec.get_int_attribute("oiio:UnassociatedAlpha", 0)
        return np.ascontiguousarray(pixels), encoding_of(path, spec), associated
    finally:
        source.close()
