"""What all painted plates share: size, colours, and how they are saved."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Floats

WIDTH, HEIGHT, RATE = 1280, 720, 25
Painter = Callable[[int], npt.NDArray[np.uint8]]


def mix(a: Floats, b: Floats, t: Floats) -> Floats:
    return a + (b - a) * t[..., None]


def rgb(text: str) -> Floats:
    return np.array([int(text[i : i + 2], 16) / 255 for i in (0, 2, 4)], np.float32)


def grid() -> tuple[Floats, Floats]:
    """x and y of every pixel as shares of the picture's size, from the top left, (height, width)."""
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH].astype(np.float32)
    return x / WIDTH, y / HEIGHT


def graded(y: Floats, stops: dict[float, str]) -> Floats:
    """Colours down the picture, encoded (height, width, 3)."""
    at, colours = list(stops), [rgb(c) for c in stops.values()]
    return np.stack([np.interp(y, at, [c[i] for c in colours]) for i in range(3)], axis=-1).astype(np.float32)


def shade(picture: Floats) -> npt.NDArray[np.uint8]:
    """Encoded values in [0, 1] as 8 bit."""
    return (np.clip(picture, 0, 1) * 255 + 0.5).astype(np.uint8)


def painted(paint: Painter, count: int) -> Iterator[npt.NDArray[np.uint8]]:
    """Frames in their order, painted two at a time."""
    with ThreadPoolExecutor(2) as pool:
        ahead = deque(pool.submit(paint, number) for number in range(min(4, count)))
        for number in range(4, count + 4):
            yield ahead.popleft().result()
            if number < count:
                ahead.append(pool.submit(paint, number))


def write_movie(path: Path, paint: Painter, count: int, on_frame: Callable[[], None] | None = None) -> None:
    """Paint frames to an H.264 movie tagged sRGB; it appears only when whole."""
    partial = path.with_name(f".{path.name}.part{path.suffix}")
    with av.open(str(partial), "w") as container:
        stream = container.add_stream("libx264", rate=Fraction(RATE), options={"crf": "17", "preset": "veryfast"})
        stream.width, stream.height, stream.pix_fmt = WIDTH, HEIGHT, "yuv420p"
        context = stream.codec_context
        context.color_primaries, context.color_trc, context.colorspace, context.color_range = 1, 13, 1, 1
        context.gop_size = 25
        for number, picture in enumerate(painted(paint, count)):
            frame = av.VideoFrame.from_ndarray(picture, format="rgb24")
            frame = frame.reformat(format="yuv420p", dst_colorspace="ITU709", dst_color_range="MPEG")
            frame.pts = number
            container.mux(stream.encode(frame))
            if on_frame:
                on_frame()
        container.mux(stream.encode(None))
    partial.replace(path)
