"""What can be delivered. One entry a format."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

FormatName = Literal["png8", "png16", "exr-half", "exr-float", "mp4", "mov", "webm"]


@dataclass(frozen=True)
class Format:
    """A delivery format. alpha: whether it can carry it; exact_light: whether light beyond 1 and without cover is kept."""

    name: FormatName
    label: str
    suffix: str
    movie: bool
    alpha: bool
    exact_light: bool
    even_size: bool = False


FORMATS: dict[str, Format] = {
    f.name: f
    for f in (
        Format("png8", "PNG sequence, 8 bit", ".png", False, True, False),
        Format("png16", "PNG sequence, 16 bit", ".png", False, True, False),
        Format("exr-half", "EXR sequence, half float", ".exr", False, True, True),
        Format("exr-float", "EXR sequence, float", ".exr", False, True, True),
        Format("mp4", "H.264 movie, MP4", ".mp4", True, False, False, even_size=True),
        Format("mov", "ProRes 4444 movie with alpha, MOV", ".mov", True, True, False, even_size=True),
        Format("webm", "VP9 movie with alpha, WebM", ".webm", True, True, False, even_size=True),
    )
}
