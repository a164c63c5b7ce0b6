"""Delivery formats: one entry makes a format, for the command line, the API and the page.

An entry says what a file can hold and how it is written: a still picture for each frame, a movie's codec, or a special function. An
external package (`ISBJORN_EXTENSIONS`) registers its formats in the same way.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import Literal

from isbjorn.core.arrays import Floats
from isbjorn.core.document.fields.kinds import loaded
from isbjorn.core.errors import IsbjornError
from isbjorn.core.imaging.colour import Encoding
from isbjorn.core.media.write.targets import Target


@dataclass(frozen=True)
class Still:
    """A picture file for each frame. kind: what a channel is stored as; encoding: of its values, linear ones premultiplied;
    attributes: further attributes for OpenImageIO."""

    kind: Literal["uint8", "uint10", "uint16", "half", "float"]
    encoding: Encoding = "srgb"
    attributes: dict[str, int | str] = field(default_factory=dict)


@dataclass(frozen=True)
class Codec:
    """A movie. name: FFmpeg's encoder; pixels, with_alpha: its pixel formats; container: FFmpeg's muxer. deep: fed with 16 bits a
    channel; copied: its header comes from the segments; tag: what the container calls it."""

    name: str
    pixels: str
    container: str
    options: dict[str, str] = field(default_factory=dict)
    with_alpha: str = ""
    deep: bool = False
    copied: bool = False
    tag: str = ""
    # What the values mean; and whether it is encoded as a whole, from segments without loss.
    encoding: Encoding = "rec709"
    whole: bool = False
    # Options for interlaced pictures; none: it takes none.
    interlaced: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class PictureInfo:
    """Metadata of a picture. colour: the space of its values; None: the format's own. compression: one that the format offers;
    empty: its default."""

    rate: Fraction
    timecode: str
    colour: Target | None = None
    compression: str = ""


@dataclass(frozen=True)
class Layer:
    """Channels beside a picture, (height, width, n) float32. data: values that are no colours, and kept as they are, with all of
    their bits. attributes: of the file, that say what they mean."""

    channels: tuple[str, ...]
    values: Floats
    data: bool = False
    attributes: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Format:
    """A delivery format. One of still, codec, writer and points says how it is written; writer: `module:function`, called as
    `write_still` for each frame."""

    name: str
    label: str
    suffix: str
    still: Still | None = None
    codec: Codec | None = None
    writer: str = ""
    # Particles in place of pictures: a table for each frame, or one file of all.
    points: Literal["", "table", "whole"] = ""
    # All frames small on one picture.
    sheet: bool = False
    alpha: bool = False
    even_size: bool = False
    compressions: tuple[str, ...] = ()
    # Bits that a pixel, or a particle, takes, about.
    bits: float = 24
    # ms that writing a million pixels (or particles) takes one thread, about, on a machine where `forecast.speed` is 1.
    write_ms: float = 200
    # Pixels across and down that it takes at least.
    smallest: tuple[int, int] = (2, 2)

    @property
    def movie(self) -> bool:
        return self.codec is not None

    @property
    def single(self) -> bool:
        """Whether all frames come in one file."""
        return self.movie or self.points == "whole" or self.sheet

    @property
    def sounds(self) -> bool:
        """Whether sound goes with it: in a movie, or beside a sequence of pictures."""
        return self.still is not None or (self.codec is not None and not self.codec.whole)

    @property
    def fields(self) -> bool:
        """Whether it takes interlaced pictures: formats whose chroma has full vertical resolution."""
        return self.still is not None or (self.codec is not None and bool(self.codec.interlaced))

    @property
    def layers(self) -> bool:
        """Whether it holds layers beside the picture."""
        return self.still is not None and self.suffix == ".exr"

    @property
    def exact_light(self) -> bool:
        """Whether values above 1 and light without cover are preserved."""
        return self.still is not None and self.still.encoding == "linear"

    def write(self, path: Path, picture: Floats, alpha: bool, about: PictureInfo, layers: Sequence[Layer] = ()) -> None:
        """Write a frame, as `write_still` does."""
        more = {"layers": layers} if layers else {}
        loaded(self.writer or "isbjorn.core.media.write.write_still:write_still")(
            path, picture, self, alpha, about, **more
        )


class _Formats:
    """All formats, by their names, in the order in which they were registered."""

    def __init__(self) -> None:
        self._known: dict[str, Format] = {}

    def register(self, form: Format) -> Format:
        """Offer a format. Raises IsbjornError if its name is taken, or it does not say how it is written."""
        if form.name in self._known:
            raise IsbjornError(f"the format '{form.name}' already exists.", "formats", "Use another name.")
        if sum(map(bool, (form.still, form.codec, form.writer, form.points, form.sheet))) != 1:
            raise IsbjornError(
                f"'{form.name}' must declare exactly one way of writing.",
                "formats",
                "Declare a still, a codec, a writer or points.",
            )
        self._known[form.name] = form
        return form

    def __contains__(self, name: object) -> bool:
        return name in self._known

    def __getitem__(self, name: str) -> Format:
        if name not in self._known:
            raise IsbjornError(f"'{name[:40]}' is not a format.", "format", f"Use one of: {', '.join(self._known)}.")
        return self._known[name]

    def __iter__(self) -> Iterator[Format]:
        return iter(self._known.values())


FORMATS = _Formats()
_FIELDS = {"flags": "+ildct+ilme"}
_EXR = ("zip", "zips", "piz", "dwaa")
# What comes out must not depend on how many cores there are.
_X265 = "log-level=error:open-gop=0:no-info=1:frame-threads=1:pools=1"
for _form in (
    Format("png8", "PNG sequence, 8 bit", ".png", Still("uint8"), bits=8, write_ms=235, alpha=True),
    Format("png16", "PNG sequence, 16 bit", ".png", Still("uint16"), bits=22, write_ms=350, alpha=True),
    Format(
        "tiff8", "TIFF sequence, 8 bit", ".tif", Still("uint8", "srgb", {"compression": "zip"}),
        bits=8, write_ms=265, alpha=True,
    ),
    Format(
        "tiff16", "TIFF sequence, 16 bit", ".tif", Still("uint16", "srgb", {"compression": "zip"}),
        bits=20, write_ms=625, alpha=True,
    ),
    Format(
        "tiff-float", "TIFF sequence, float", ".tif", Still("float", "linear", {"compression": "zip"}),
        bits=50, write_ms=1040, alpha=True,
    ),
    Format(
        "exr-half", "EXR sequence, half float", ".exr",
        Still("half", "linear", {"compression": "zip:1"}), bits=22, write_ms=195, alpha=True,
        compressions=_EXR,
    ),
    Format(
        "exr-float", "EXR sequence, float", ".exr",
        Still("float", "linear", {"compression": "zip:1"}), bits=70, write_ms=440, alpha=True,
        compressions=_EXR,
    ),
    Format("dpx10", "DPX sequence, 10 bit", ".dpx", Still("uint10", "rec709", {"oiio:BitsPerSample": 10}), bits=32, write_ms=120),
    Format(
        "jpeg", "JPEG sequence", ".jpg",
        Still("uint8", "srgb", {"compression": "jpeg:95", "jpeg:subsampling": "4:4:4"}), bits=2.5, write_ms=31,
    ),
    Format(
        "mp4", "H.264 movie, MP4", ".mp4", bits=0.6, write_ms=175, even_size=True,
        codec=Codec("libx264", "yuv420p", "mp4", {"crf": "14", "preset": "medium"}, copied=True),
    ),
    Format(
        "h265", "H.265 movie, 10 bit, MP4", ".mp4", bits=0.3, write_ms=375, even_size=True, smallest=(64, 64),
        codec=Codec(
            "libx265", "yuv420p10le", "mp4", {"crf": "16", "preset": "fast", "x265-params": _X265}, deep=True, copied=True,
            tag="hvc1",
        ),
    ),
    Format(
        "av1", "AV1 movie, 10 bit, MP4", ".mp4", bits=0.2, write_ms=190, even_size=True, smallest=(64, 64),
        codec=Codec("libsvtav1", "yuv420p10le", "mp4", {"crf": "22", "preset": "8", "svtav1-params": "lp=1"}, deep=True),
    ),
    Format(
        "mov", "ProRes 4444 movie with alpha, MOV", ".mov", bits=5.5, write_ms=490, alpha=True, even_size=True,
        codec=Codec(
            "prores_ks", "yuv444p10le", "mov", {"profile": "4", "vendor": "apl0", "alpha_bits": "16"}, "yuva444p10le",
            deep=True, interlaced=_FIELDS,
        ),
    ),
    Format(
        "prores-hq", "ProRes 422 HQ movie, MOV", ".mov", bits=3.9, write_ms=345, even_size=True,
        codec=Codec("prores_ks", "yuv422p10le", "mov", {"profile": "3", "vendor": "apl0"}, deep=True, interlaced=_FIELDS),
    ),
    Format(
        "dnxhr", "DNxHR HQX movie, 10 bit, MOV", ".mov", bits=3.6, write_ms=190, even_size=True, smallest=(256, 120),
        codec=Codec("dnxhd", "yuv422p10le", "mov", {"profile": "dnxhr_hqx"}, deep=True),
    ),
    Format(
        "ffv1", "FFV1 movie without loss, with alpha, MKV", ".mkv", bits=14, write_ms=375, alpha=True,
        codec=Codec(
            "ffv1", "yuv444p16le", "matroska", {"level": "3", "slicecrc": "1"}, "yuva444p16le", deep=True, copied=True,
            interlaced=_FIELDS,
        ),
    ),
    Format(
        "webm", "VP9 movie with alpha, WebM", ".webm", bits=0.3, write_ms=445, alpha=True, even_size=True,
        codec=Codec(
            "libvpx-vp9", "yuv420p", "webm", {"crf": "18", "b": "0", "deadline": "good", "cpu-used": "5", "row-mt": "0"},
            "yuva420p",
        ),
    ),
    Format(
        "apng", "Animated PNG, with alpha", ".png", bits=10, write_ms=380, alpha=True,
        codec=Codec("apng", "rgb24", "apng", {"pred": "up"}, "rgba", encoding="srgb", whole=True),
    ),
    Format(
        "webp", "Animated WebP, with alpha", ".webp", bits=1, write_ms=380, alpha=True,
        codec=Codec("libwebp_anim", "yuv420p", "webp", {"quality": "90"}, "yuva420p", encoding="srgb", whole=True),
    ),
    Format("gif", "Animated GIF", ".gif", bits=5, write_ms=270, codec=Codec("gif", "pal8", "gif", encoding="srgb", whole=True)),
    Format("contact", "Contact sheet, PNG", ".png", bits=1, write_ms=30, sheet=True),
    Format("usd", "Particles as points, OpenUSD", ".usdc", points="whole", bits=350, write_ms=2000),
    Format("csv", "Particles as tables, CSV", ".csv", points="table", bits=2000, write_ms=25000),
    Format("parquet", "Particles as tables, Parquet", ".parquet", points="table", bits=450, write_ms=3000),
    Format("npz", "Particles as arrays, NPZ", ".npz", points="table", bits=400, write_ms=6000),
):  # fmt: skip
    FORMATS.register(_form)
