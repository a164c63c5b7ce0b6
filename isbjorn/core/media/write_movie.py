"""Writing movies in closed segments that are joined at the end, so that a broken delivery resumes and none is half there."""

from __future__ import annotations

from collections.abc import Iterable
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np

from isbjorn.core.arrays import Floats
from isbjorn.core.errors import IsbjornError
from isbjorn.core.media.colour import convert, shade_table
from isbjorn.core.media.formats import Codec, Format
from isbjorn.core.media.whole import whole
from isbjorn.core.render.shades import straight, to_shades

SEGMENT_FRAMES = 48
_BT709, _LIMITED = 1, 1


def _codec(form: Format) -> Codec:
    if form.codec is None:
        raise IsbjornError(f"{form.label} is no movie.", "format", "Choose a movie.")
    return form.codec


def _frame(picture: Floats, form: Format, alpha: bool) -> Any:
    """A video frame, Rec.709 with the Rec.1886 display curve; even size, straight alpha."""
    height, width = (side - side % 2 if form.even_size else side for side in picture.shape[:2])
    picture = np.ascontiguousarray(picture[:height, :width])
    shown = np.clip(straight(picture) if alpha else picture[..., :3], 0, 1)
    codec = _codec(form)
    if codec.deep:
        levels = np.clip(convert(shown, "linear", "rec709"), 0, 1) * 65535
        frame = av.VideoFrame.from_ndarray(
            np.round(levels).astype(np.uint16), format="rgba64le" if alpha else "rgb48le"
        )
    else:
        codes = to_shades(np.ascontiguousarray(shown), shade_table("rec709"))
        if alpha:
            codes = np.concatenate([codes, np.round(shown[..., 3:] * 255).astype(np.uint8)], axis=2)
        frame = av.VideoFrame.from_ndarray(codes, format="rgba" if alpha else "rgb24")
    pixels = codec.with_alpha if alpha else codec.pixels
    made = frame.reformat(format=pixels, dst_colorspace="ITU709", dst_color_range="MPEG")
    # ProRes takes what stands in its frame headers from the frames.
    made.color_primaries = made.color_trc = made.colorspace = _BT709
    made.color_range = _LIMITED
    return made


def _stream(container: Any, form: Format, alpha: bool, rate: Fraction, size: tuple[int, int]) -> Any:
    """The one stream of a movie: the same for a segment and for the whole, so that segments can be joined."""
    codec = _codec(form)
    stream = container.add_stream(codec.name, rate=rate, options=codec.options)
    stream.width, stream.height = size
    stream.pix_fmt = codec.with_alpha if alpha else codec.pixels
    stream.time_base = 1 / rate
    context = stream.codec_context
    context.time_base = 1 / rate
    context.color_primaries = context.color_trc = context.colorspace = _BT709
    context.color_range = _LIMITED
    return stream


def write_segment(path: Path, pictures: Iterable[Floats], form: Format, alpha: bool, rate: Fraction) -> None:
    """Encode linear, premultiplied pictures to one closed segment, which appears under its name only when whole."""
    with _Disk(path), whole(path) as file, _container(file, form) as container:
        stream: Any = None
        for number, picture in enumerate(pictures):
            frame = _frame(picture, form, alpha)
            if stream is None:
                stream = _stream(container, form, alpha, rate, (frame.width, frame.height))
            frame.pts, frame.time_base = number, 1 / rate
            container.mux(stream.encode(frame))
        container.mux(stream.encode(None))


def _container(file: Any, form: Format, options: dict[str, str] | None = None) -> Any:
    """A container that is written to an open file, so that what the disk refuses is heard of."""
    return av.open(file, "w", format=_codec(form).container, options=options or {})


def join_segments(segments: list[Path], target: Path, form: Format, alpha: bool, rate: Fraction, timecode: str) -> None:
    """Join segments to one movie without encoding again; it appears under its name only when whole."""
    codec = _codec(form)
    options = {"write_tmcd": "1"} if codec.container in ("mp4", "mov") else {}
    with _Disk(target), whole(target) as file, _container(file, form, options) as out:
        out.metadata["timecode"] = timecode
        stream: Any = None
        start = 0
        for segment in segments:
            with av.open(str(segment)) as source:
                read: Any = source.streams.video[0]
                if stream is None and codec.copied:
                    # What the header keeps of the codec (parameter sets) must be that of the segments.
                    stream = out.add_stream_from_template(read)
                    stream.time_base = 1 / rate
                    if codec.tag:
                        stream.codec_context.codec_tag = codec.tag
                elif stream is None:
                    stream = _stream(out, form, alpha, rate, (read.width, read.height))
                    out.start_encoding()
                count = 0
                packets: Any = source.demux(read)
                for packet in packets:
                    if packet.size == 0:
                        continue
                    packet.pts = start + round(packet.pts * read.time_base * rate)
                    packet.dts = start + round(packet.dts * read.time_base * rate)
                    packet.duration = 1
                    packet.time_base, packet.stream = 1 / rate, stream
                    out.mux(packet)
                    count += 1
                start += count


class _Disk:
    """Turns what the disk or the encoder refuses into an error that a person can act on."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        if isinstance(error, (OSError, av.FFmpegError)):
            raise IsbjornError(
                f"the movie could not be written ({error}).",
                str(self.path),
                "Is there room on the disk, and may you write there?",
            ) from error
