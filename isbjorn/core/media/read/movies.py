"""Frame-exact reading of movies through PyAV."""

from __future__ import annotations

import bisect
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
import numpy.typing as npt

from isbjorn.core.errors import IsbjornError, reason_of
from isbjorn.core.imaging.colour import Encoding
from isbjorn.core.imaging.planes import EXACTLY, Planes, matrix_of, planes_of
from isbjorn.core.media.read.stills import is_there

_SRGB_TRANSFER = 13
_FORMATS = "mov,mp4,m4a,3gp,3g2,mj2,matroska,webm,avi,mxf"
# A movie is one file: no list of others, no address, whatever its name says.
FILE_OPTIONS = {"protocol_whitelist": "file", "format_whitelist": _FORMATS}
_LARGEST_PIXELS = 8192 * 8192
MOVIES = (".mp4", ".mov", ".m4v", ".mkv", ".webm", ".avi", ".mxf")


class Movie:
    """A movie whose frames are read by number, in any order. One thread at a time."""

    def __init__(self, path: Path) -> None:
        if not is_there(path):
            raise IsbjornError("the movie file is missing.", path.name, "Restore it, or select another plate.")
        self.path = path
        try:
            self._container = av.open(str(path), options=FILE_OPTIONS)
            stream = self._container.streams.video[0]
        except (av.FFmpegError, IndexError, ValueError, OSError) as error:
            raise IsbjornError(
                f"this movie cannot be read ({reason_of(error)}).", path.name, "Use MP4, MOV, MKV or WebM."
            ) from None
        stream.thread_type = "AUTO"
        self._stream = stream
        self._stamps, self._keys = self._index()
        rate = stream.average_rate or stream.guessed_rate
        if not self._stamps or rate is None:
            raise IsbjornError("the movie has no frames.", path.name, "Check that the file is complete.")
        self.rate = Fraction(rate)
        self.frames = len(self._stamps)
        self.width, self.height = stream.codec_context.width, stream.codec_context.height
        if not 0 < self.width * self.height <= _LARGEST_PIXELS:
            raise IsbjornError(
                f"{self.width} × {self.height} px is too large.", path.name, "The limit is 8192 × 8192 px."
            )
        self.encoding: Encoding = "srgb" if stream.codec_context.color_trc == _SRGB_TRANSFER else "rec709"
        self._decoded: Any = None
        self._last: Any = None
        self._next = -1

    def _index(self) -> tuple[list[int], list[int]]:
        """Presentation stamps of all frames in order, and of the key frames, read without decoding."""
        stamps, keys = [], []
        try:
            for packet in self._container.demux(self._stream):
                if packet.pts is not None and packet.size:
                    stamps.append(packet.pts)
                    if packet.is_keyframe:
                        keys.append(packet.pts)
        except av.FFmpegError as error:
            raise IsbjornError(
                f"the movie is damaged or incomplete ({reason_of(error)}).", self.path.name, "Export it again."
            ) from None
        return sorted(set(stamps)), sorted(keys)

    def _frames(self, number: int) -> Any:
        key = self._keys[max(0, bisect.bisect_right(self._keys, self._stamps[number]) - 1)]
        self._container.seek(key, stream=self._stream)
        return self._container.decode(self._stream)

    def read(self, number: int) -> npt.NDArray[np.uint8]:
        """Frame `number` (0 is the first) as uint8 (height, width, 3 or 4), in the movie's encoding."""
        return _pixels(self._frame(number))

    def planes(self, number: int) -> Planes | None:
        """Frame `number` as it is coded; None where that is not in planes of three, or with alpha."""
        return planes_of(self._frame(number))

    def _frame(self, number: int) -> Any:
        if number == self._next - 1 and self._last is not None:
            return self._last
        wanted = self._stamps[number]
        if self._decoded is None or not 0 <= number - self._next < 12:
            self._decoded = self._frames(number)
        try:
            for frame in self._decoded:
                if frame.pts is not None and frame.pts >= wanted:
                    self._next, self._last = number + 1, frame
                    return frame
        except av.FFmpegError as error:
            self._decoded = None
            raise IsbjornError(
                f"frame {number} cannot be decoded ({reason_of(error)}).", self.path.name, "Export the movie again."
            ) from None
        self._decoded = None
        raise IsbjornError(f"the movie ends before frame {number}.", self.path.name, "Check that the file is complete.")

    def close(self) -> None:
        self._container.close()


def _pixels(frame: Any) -> npt.NDArray[np.uint8]:
    alpha = any(c.is_alpha for c in frame.format.components)
    found = frame.reformat(format="rgba" if alpha else "rgb24", src_colorspace=matrix_of(frame), interpolation=EXACTLY)
    return np.ascontiguousarray(found.to_ndarray())
