"""Writing movies in closed segments that are joined at the end, so that a broken delivery resumes and none is half there."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import av.filter
import numpy as np

from isbjorn.core.arrays import Floats
from isbjorn.core.errors import IsbjornError, reason_of
from isbjorn.core.imaging.colour import convert, shade_table
from isbjorn.core.imaging.display_encoding import straight, to_shades
from isbjorn.core.imaging.planes import EXACTLY
from isbjorn.core.media.read.sound import Mix, MixedSound
from isbjorn.core.media.write.formats import FORMATS, Codec, Format
from isbjorn.core.media.write.targets import Target
from isbjorn.core.runtime.parallel import usual_priority
from isbjorn.core.runtime.whole import whole

SEGMENT_FRAMES = 24
# An encoder that would print each of its settings to the terminal.
os.environ.setdefault("SVT_LOG", "1")
_LIMITED = 1
# Primaries, transfer and matrix of ITU-T H.273, as the Rec.709 that a movie is in unless another space is asked for.
_USUAL = (1, 1, 1)
_REC2020 = 9
_MATRICES = {1: "ITU709", _REC2020: "BT2020"}
_SOUND = {
    "mp4": ("aac", {"b": "256k"}),
    "webm": ("libopus", {"b": "192k"}),
    "matroska": ("flac", {}),
    "mov": ("pcm_s24le", {}),
}
_OPUS_RATE = 48_000
# How many pictures earlier than it is seen one is decoded: of a few, and at most.
_REORDERED, _MOST_REORDERED = 2, 64


@dataclass(frozen=True)
class MovieSound:
    """How a movie's pictures are encoded. fields: whether the upper or the lower lines of interlaced pictures come first."""

    form: Format
    alpha: bool
    rate: Fraction
    colour: Target | None = None
    fields: str = "none"

    @property
    def codec(self) -> Codec:
        """How segments are encoded."""
        codec = _codec(self.form)
        return replace(_codec(FORMATS["ffv1"]), encoding=codec.encoding) if codec.whole else codec

    @property
    def codes(self) -> tuple[int, int, int]:
        """Primaries, transfer and matrix."""
        if self.colour is None:
            return _USUAL
        primaries, transfer = self.colour.codes
        return primaries, transfer, _REC2020 if primaries == _REC2020 else 1

    @property
    def options(self) -> dict[str, str]:
        return self.codec.options if self.fields == "none" else self.codec.options | self.codec.interlaced


def _codec(form: Format) -> Codec:
    if form.codec is None:
        raise IsbjornError(f"{form.label} is not a movie format.", "format", "Select a movie format.")
    return form.codec


def _plain(picture: Floats, track: MovieSound) -> Floats:
    """The part of a picture that a movie holds, light, straight if there is alpha."""
    height, width = (side - side % 2 if track.form.even_size else side for side in picture.shape[:2])
    part = np.ascontiguousarray(picture[:height, :width])
    return straight(part) if track.alpha else np.ascontiguousarray(part[..., :3])


def _levels(plain: Floats, track: MovieSound) -> Floats:
    """Light as a movie's values, in [0, 1]."""
    if track.colour is not None:
        return np.clip(track.colour.applied(plain), 0, 1)
    return np.clip(convert(np.clip(plain, 0, 1), "linear", track.codec.encoding), 0, 1)


def shown_values(picture: Floats, track: MovieSound) -> Floats:
    """What a movie of a picture shows, over black, in [0, 1] (height, width, 3)."""
    levels = _levels(_plain(picture, track), track)
    return levels[..., :3] * levels[..., 3:] if track.alpha else levels


def _frame(picture: Floats, track: MovieSound) -> Any:
    """A video frame, Rec.709 with the Rec.1886 display curve unless another space is asked for; even size, straight alpha."""
    alpha, codec = track.alpha, track.codec
    plain = _plain(picture, track)
    if codec.deep or track.colour is not None:
        deep = np.round(_levels(plain, track) * 65535).astype(np.uint16)
        frame = av.VideoFrame.from_ndarray(deep, format="rgba64le" if alpha else "rgb48le")
    else:
        shown = np.clip(plain, 0, 1)
        codes = to_shades(np.ascontiguousarray(shown), shade_table("rec709"))
        if alpha:
            codes = np.concatenate([codes, np.round(shown[..., 3:] * 255).astype(np.uint8)], axis=2)
        frame = av.VideoFrame.from_ndarray(codes, format="rgba" if alpha else "rgb24")
    primaries, transfer, matrix = track.codes
    pixels = codec.with_alpha if alpha else codec.pixels
    made = frame.reformat(
        format=pixels, dst_colorspace=_MATRICES[matrix], dst_color_range="MPEG", interpolation=EXACTLY
    )
    # ProRes takes its frame header values from the frames.
    made.color_primaries, made.color_trc, made.colorspace = primaries, transfer, matrix
    made.color_range = _LIMITED
    return made


class _Fielded:
    """Marks frames as interlaced, which only a filter can."""

    def __init__(self, first: Any, fields: str) -> None:
        graph = av.filter.Graph()
        source = graph.add_buffer(
            width=first.width, height=first.height, format=first.format, time_base=first.time_base
        )
        marking = graph.add("setfield", "tff" if fields == "upper first" else "bff")
        sink = graph.add("buffersink")
        source.link_to(marking)
        marking.link_to(sink)
        graph.configure()
        self.graph = graph

    def marked(self, frame: Any) -> Any:
        self.graph.push(frame)
        return self.graph.pull()


def _stream(container: Any, track: MovieSound, size: tuple[int, int]) -> Any:
    """The one stream of pictures: the same for a segment and for the whole, so that segments can be joined."""
    stream = container.add_stream(track.codec.name, rate=track.rate, options=track.options)
    stream.width, stream.height = size
    stream.pix_fmt = track.codec.with_alpha if track.alpha else track.codec.pixels
    stream.time_base = 1 / track.rate
    context = stream.codec_context
    context.time_base = 1 / track.rate
    # What comes out must not depend on how many cores there are.
    context.thread_count = 1
    context.color_primaries, context.color_trc, context.colorspace = track.codes
    context.color_range = _LIMITED
    return stream


def write_segment(path: Path, pictures: Iterable[Floats], track: MovieSound) -> None:
    """Encode linear, premultiplied pictures to one closed segment, which appears under its name only when whole."""
    with _Disk(path), whole(path) as file, _container(file, track) as container:
        stream: Any = None
        fielded: _Fielded | None = None
        decoded: int | None = None

        def write(packets: list[Any]) -> None:
            nonlocal decoded
            for packet in packets:
                # x265 reports a decoding time that was never set if there are fewer pictures than it looks ahead.
                if packet.dts is not None and not 0 <= packet.pts - packet.dts <= _MOST_REORDERED:
                    packet.dts = packet.pts - _REORDERED if decoded is None else min(packet.pts, decoded + 1)
                decoded = packet.dts
                container.mux(packet)

        for number, picture in enumerate(pictures):
            frame = _frame(picture, track)
            if stream is None:
                stream = _stream(container, track, (frame.width, frame.height))
            frame.pts, frame.time_base = number, 1 / track.rate
            if track.fields != "none":
                fielded = fielded or _Fielded(frame, track.fields)
                frame = fielded.marked(frame)
            write(stream.encode(frame))
            if number == 0:
                usual_priority()
        if stream is not None:
            write(stream.encode(None))


def _container(file: Any, track: MovieSound, options: dict[str, str] | None = None) -> Any:
    """A container that is written to an open file, so that what the disk refuses is heard of."""
    # Without the names that some containers draw at random: the same pictures are the same file.
    return av.open(file, "w", format=track.codec.container, options={"fflags": "+bitexact", **(options or {})})


def sound_rate(form: Format, sound: MixedSound | Mix) -> MixedSound | Mix:
    """The sound at a rate that a movie of this format takes."""
    return sound.at_rate(_OPUS_RATE) if _codec(form).container == "webm" else sound


class _Sounding:
    """The sound of a movie, written as far as its pictures are."""

    def __init__(self, out: Any, container: str, sound: MixedSound | Mix) -> None:
        name, options = _SOUND[container]
        self.out, self.sound = out, sound
        self.stream = out.add_stream(name, rate=sound.rate, layout=sound.layout, options=options)
        self.blocks, self.given = sound.blocks(), 0

    def until(self, seconds: Fraction | None) -> None:
        """Write what is heard until then; None: all of it."""
        while seconds is None or self.given < seconds * self.sound.rate:
            block = next(self.blocks, None)
            if block is None:
                if seconds is None:
                    self.out.mux(self.stream.encode(None))
                return
            frame = av.AudioFrame.from_ndarray(block.reshape(1, -1), format="flt", layout=self.sound.layout)
            frame.sample_rate, frame.pts, frame.time_base = self.sound.rate, self.given, Fraction(1, self.sound.rate)
            self.given += len(block)
            self.out.mux(self.stream.encode(frame))


def _stamps(segment: Path, rate: Fraction) -> list[int]:
    """Which picture each packet of a segment holds, in the order in which they are decoded."""
    with av.open(str(segment)) as source:
        read: Any = source.streams.video[0]
        packets: Any = source.demux(read)
        return [round(packet.pts * read.time_base * rate) for packet in packets if packet.size]


def join_segments(
    segments: list[Path], target: Path, track: MovieSound, timecode: str, sound: MixedSound | Mix | None = None
) -> None:
    """Join segments to one movie without encoding again; it appears under its name only when whole."""
    codec = track.codec
    options = {"write_tmcd": "1"} if codec.container in ("mp4", "mov") else {}
    with _Disk(target), whole(target) as file, _container(file, track, options) as out:
        out.metadata["timecode"] = timecode
        stream: Any = None
        heard: _Sounding | None = None
        start = 0
        # Every segment is decoded as long before it is seen as the one that needs it most: so there is a packet for each frame.
        ahead = max((k - at for one in segments for k, at in enumerate(_stamps(one, track.rate))), default=0)
        for segment in segments:
            with av.open(str(segment)) as source:
                read: Any = source.streams.video[0]
                if stream is None and codec.copied:
                    # What the header keeps of the codec (parameter sets) must be that of the segments.
                    stream = out.add_stream_from_template(read)
                    stream.time_base = 1 / track.rate
                    if codec.tag:
                        stream.codec_context.codec_tag = codec.tag
                elif stream is None:
                    stream = _stream(out, track, (read.width, read.height))
                if sound is not None and heard is None:
                    heard = _Sounding(out, codec.container, sound)
                if start == 0 and not codec.copied:
                    out.start_encoding()
                count = 0
                packets: Any = source.demux(read)
                for packet in packets:
                    if packet.size == 0:
                        continue
                    packet.pts = start + round(packet.pts * read.time_base * track.rate)
                    packet.dts = start + count - ahead
                    packet.duration = 1
                    packet.time_base, packet.stream = 1 / track.rate, stream
                    out.mux(packet)
                    count += 1
                start += count
                if heard is not None:
                    heard.until(start / track.rate)
        if heard is not None:
            heard.until(None)


def _decoded(segments: list[Path]) -> Iterator[Any]:
    for segment in segments:
        with av.open(str(segment)) as source:
            yield from source.decode(video=0)


def _paletted(frames: Iterable[Any], rate: Fraction) -> Iterator[Any]:
    """Frames in the 256 colours that serve all of them best. All are held in memory until then."""
    graph: Any = None
    for count, frame in enumerate(frames):
        plain = frame.reformat(format="rgb24", src_colorspace="ITU709", interpolation=EXACTLY)
        plain.pts, plain.time_base = count, 1 / rate
        if graph is None:
            graph = av.filter.Graph()
            source = graph.add_buffer(width=plain.width, height=plain.height, format=plain.format, time_base=1 / rate)
            split, made, use = (
                graph.add("split"),
                graph.add("palettegen", "stats_mode=full"),
                graph.add("paletteuse", "dither=sierra2_4a"),
            )
            sink = graph.add("buffersink")
            source.link_to(split)
            split.link_to(made, 0, 0)
            split.link_to(use, 1, 0)
            made.link_to(use, 0, 1)
            use.link_to(sink)
            graph.configure()
        graph.push(plain)
    if graph is None:
        return
    graph.push(None)
    while True:
        try:
            yield graph.pull()
        except (EOFError, av.BlockingIOError):
            return


def encode_whole(segments: list[Path], target: Path, track: MovieSound) -> None:
    """Encode segments to a file that is no row of them (animated PNG, WebP, GIF), which appears under its name only when whole."""
    codec = _codec(track.form)
    pixels = codec.with_alpha if track.alpha else codec.pixels
    with _Disk(target), whole(target) as file:
        loops = {"apng": {"plays": "0"}, "gif": {"loop": "0"}, "webp": {"loop": "0"}}[codec.container]
        with av.open(file, "w", format=codec.container, options={"fflags": "+bitexact", **loops}) as out:
            stream: Any = None
            frames = _decoded(segments)
            for number, frame in enumerate(_paletted(frames, track.rate) if pixels == "pal8" else frames):
                if stream is None:
                    stream = out.add_stream(codec.name, rate=track.rate, options=codec.options)
                    stream.width, stream.height, stream.pix_fmt = frame.width, frame.height, pixels
                    stream.time_base = stream.codec_context.time_base = 1 / track.rate
                made = (
                    frame
                    if pixels == "pal8"
                    else frame.reformat(format=pixels, src_colorspace="ITU709", interpolation=EXACTLY)
                )
                made.pts, made.time_base = number, 1 / track.rate
                out.mux(stream.encode(made))
            if stream is not None:
                out.mux(stream.encode(None))


class _Disk:
    """Turns what the disk or the encoder refuses into an error that a person can act on."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        if isinstance(error, (OSError, av.FFmpegError)):
            raise IsbjornError(
                f"the movie could not be written ({reason_of(error)}).",
                str(self.path),
                "Check the free disk space and the folder's permissions.",
            ) from error
