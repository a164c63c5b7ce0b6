"""The plate under a shot at any moment: retimed by seconds, decoded, brought to linear light and to size."""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path
from typing import Any, Literal, TypeVar

import cv2
import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Codes, Floats, is_coded
from isbjorn.core.caching import CacheName, RecentCache
from isbjorn.core.document import Plate, Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.external_files import finds
from isbjorn.core.evaluate.hearing import read_sounds_with
from isbjorn.core.evaluate.plate_time import plate_frame
from isbjorn.core.imaging.colour import Encoding, decoding_table, to_linear
from isbjorn.core.imaging.display_encoding import lit
from isbjorn.core.imaging.shrink import FINE_LEVELS, shrunk, shrunk_planes
from isbjorn.core.media.read.movies import MOVIES, Movie
from isbjorn.core.media.read.stills import PICTURES, is_pattern, probe_still, read_depth, read_still, sequence_files
from isbjorn.core.runtime.memory import share_of
from isbjorn.core.runtime.shared_cache import SharedCache

P = TypeVar("P", np.float32, np.uint16)
# A cached frame begins with its shape; larger ones are not cached.
_HEAD, _MOST_SHELVED = 24, 16 << 20


def _samples(path: Path) -> Floats:
    # Few shots have sounds: their reader is loaded for those.
    from isbjorn.core.media.read.sound import samples_of

    return samples_of(path)


read_sounds_with(_samples)


class _Frames:
    """A movie, sequence or still as numbered frames from 0."""

    def __init__(self, media: str, allow: Callable[[Path, str], None] | None = None) -> None:
        self.media, self._allow = media, allow
        suffix = Path(media).suffix.lower()
        self.movie: Movie | None = None
        self.files: list[Path | None] = []
        if is_pattern(media):
            found = sequence_files(media)
            first, last = min(found), max(found)
            self.files = [found.get(n) for n in range(first, last + 1)]
            self.first_number = first
        elif suffix in MOVIES:
            self.movie = Movie(Path(media))
        elif suffix in PICTURES:
            self.files = [Path(media)]
        else:
            raise IsbjornError(
                f"'{suffix or 'no ending'}' is not a type of plate.",
                media,
                "Use a movie, a still or a numbered sequence.",
            )

    @property
    def rate(self) -> Fraction | None:
        return self.movie.rate if self.movie else None

    def __len__(self) -> int:
        return self.movie.frames if self.movie else len(self.files)

    def read(self, number: int, wanted: Encoding | None = None) -> tuple[npt.NDArray[Any], Encoding, bool]:
        if self.movie:
            return self.movie.read(number), wanted or self.movie.encoding, False
        return read_still(self.path_of(number), wanted)

    def path_of(self, number: int) -> Path:
        """The file of a frame. Raises IsbjornError if it is missing, or may not be read."""
        path = self.files[number]
        if path is None:
            raise IsbjornError(
                f"frame {self.first_number + number} of the sequence is missing.",
                "plate",
                "Render or restore it.",
            )
        if self._allow is not None:
            # A file of a sequence may be a link to anywhere.
            self._allow(path, self.media)
        return path


def _size(w: int, h: int, width: int, height: int, fit: str, scale: float) -> tuple[float, int, int]:
    """By how much a picture grows, and its size then: `fill` crops, `fit` leaves borders, `pixels` keeps px."""
    grow = {"fill": max(width / w, height / h), "fit": min(width / w, height / h), "pixels": scale}[fit]
    return grow, max(1, round(w * grow)), max(1, round(h * grow))


def _smaller(w: int, h: int, width: int, height: int, fit: str, scale: float) -> tuple[int, int] | None:
    """The size that a picture has then, if it is no larger than before and fills a frame of that size; else None."""
    grow, new_w, new_h = _size(w, h, width, height, fit, scale)
    return (new_w, new_h) if grow <= 1 and new_w >= width and new_h >= height else None


def fitted(picture: Floats, width: int, height: int, fit: str, scale: float) -> Floats:
    """Bring a linear, premultiplied picture (h, w, 4) to a size."""
    h, w = picture.shape[:2]
    grow, new_w, new_h = _size(w, h, width, height, fit, scale)
    if (new_w, new_h) != (w, h):
        how = cv2.INTER_AREA if grow < 1 else cv2.INTER_CUBIC
        picture = np.asarray(cv2.resize(picture, (new_w, new_h), interpolation=how), np.float32)
        if grow > 1:
            # A cubic overshoots: no light below nothing, no more cover than full.
            np.maximum(picture, 0, out=picture)
            np.minimum(picture[..., 3], 1, out=picture[..., 3])
    return _within(picture, width, height)


def _within(picture: npt.NDArray[P], width: int, height: int) -> npt.NDArray[P]:
    """The middle of a picture in a frame: cropped, or with clear borders."""
    new_h, new_w = picture.shape[:2]
    if (new_w, new_h) == (width, height):
        return np.ascontiguousarray(picture)
    out = np.zeros((height, width, picture.shape[2]), picture.dtype)
    x, y = (width - new_w) // 2, (height - new_h) // 2
    left, top = max(0, x), max(0, y)
    right, bottom = min(width, x + new_w), min(height, y + new_h)
    out[top:bottom, left:right] = picture[top - y : bottom - y, left - x : right - x]
    return out


# Movies that stay open.
_OPEN_FILES = 8
_FRAMES_NAME = CacheName("plates", "Frames of plates", "the file and its date, the frame, how it is read, and its size")


def _closed(_: object, frames: _Frames) -> None:
    """Close the file of frames that are forgotten."""
    if frames.movie:
        frames.movie.close()


class PlateReader:
    """Reads plates for any shot, keeping open files and the frames last used at their size. Safe to share between threads.

    shared_cache: where processes hand each other such frames.
    """

    def __init__(
        self, root: Path | None = None, limit_bytes: int | None = None, shared_cache: SharedCache | None = None
    ) -> None:
        self.root, self.shared_cache = root, shared_cache
        finds(self)
        self._open: RecentCache[tuple[str, float], _Frames] = RecentCache(_OPEN_FILES, evicted=_closed)
        self._kept: RecentCache[tuple[Any, ...], Floats | Codes] = RecentCache(
            limit_bytes=share_of("plates") if limit_bytes is None else limit_bytes, name=_FRAMES_NAME
        )
        self._lock = threading.Lock()

    def resolve(self, media: str) -> str:
        """The place of a plate: relative names are looked for under the reader's root."""
        return media if self.root is None or Path(media).is_absolute() else str(self.root / media)

    def allow(self, path: Path, media: str) -> None:
        """Raise IsbjornError for a file that may not be read; here any may."""

    def forget(self) -> None:
        """Close all files and forget their frames."""
        with self._lock:
            for key in self._open:
                if (frames := self._open.pop(key)) is not None:
                    _closed(key, frames)
            self._kept.clear()
        if self.shared_cache is not None:
            self.shared_cache.clear()

    def probed(self, media: str) -> dict[str, Any]:
        """What a plate is (see `probe`), if it may be read."""
        return probe(self.resolve(media), self.allow)

    def _frames(self, media: str) -> tuple[_Frames, float]:
        path = self.resolve(media)
        watched = Path(path).parent if is_pattern(path) else Path(path)
        try:
            changed = watched.stat().st_mtime
        except (OSError, ValueError):
            changed = 0.0
        key = (path, changed)
        return self._open.get(key, lambda: _Frames(path, self.allow)), changed

    def at(self, shot: Shot, seconds: Fraction, width: int, height: int) -> Floats | None:
        """The plate of a shot at a moment, float32 (height, width, 4), linear, premultiplied, which the caller may change; None
        without a plate.

        Raises IsbjornError when the plate is missing, damaged or not a picture.
        """
        kept = self.kept_at(shot, seconds, width, height)
        return None if kept is None else _own(kept)

    def kept_at(self, shot: Shot, seconds: Fraction, width: int, height: int) -> Floats | Codes | None:
        """As `at`, but as cached: linear light, or display codes; read-only."""
        with self._lock:
            number = self._number(shot, seconds)
            return None if number is None else self._frame(shot, number, width, height)

    def number(self, shot: Shot, seconds: Fraction) -> int | None:
        """The frame that the plate of a shot shows at a moment; None where it shows none."""
        with self._lock:
            return self._number(shot, seconds)

    def rate(self, shot: Shot) -> Fraction:
        """Frames per second of a shot's plate; those of the shot where the plate has no rate."""
        with self._lock:
            plate = shot.plate
            if plate is None or not plate.on:
                return shot.frame_rate
            frames, _ = self._frames(plate.media)
            return frames.rate or (Fraction(plate.rate) if plate.rate else shot.frame_rate)

    def frame(self, shot: Shot, number: int, width: int, height: int) -> Floats:
        """One of the frames of a shot's plate, as `at` gives them."""
        with self._lock:
            kept = self._frame(shot, number, width, height)
        return _own(kept)

    # Pictures as bodies and mattes

    def count(self, media: str) -> int:
        """How many frames a file or a sequence has. Raises IsbjornError when it is missing or damaged."""
        with self._lock:
            return len(self._frames(media)[0])

    def own_rate(self, media: str) -> Fraction | None:
        """Frames per second, if the file has a rate."""
        with self._lock:
            return self._frames(media)[0].rate

    def stamp(self, media: str) -> float:
        """When the file, or the folder of the sequence, was last changed."""
        with self._lock:
            return self._frames(media)[1]

    def still(self, media: str, number: int, side: int) -> Floats:
        """A frame within a square, float32 (side, side, 4), linear, premultiplied."""
        return self._other(media, number, side, side, "fit")

    def filling(self, media: str, number: int, width: int, height: int) -> Floats:
        """A frame that fills a size, float32 (height, width, 4), linear, premultiplied."""
        return self._other(media, number, width, height, "fill")

    def depth(
        self, media: str, number: int, width: int, height: int, fit: Literal["fill", "fit", "pixels"], scale: float
    ) -> Floats:
        """The depth that a frame of a file holds, as it is stored, float32 (height, width); 0 beyond its edges.

        The channel Z of an EXR, or else its first one; of movies and other pictures, codes as shares of white. No two are mixed.
        """
        with self._lock:
            frames, changed = self._frames(media)
            key = ("depth", media, changed, number, fit, width, height, scale)
            found = self._found(key, lambda: self._read_depth(frames, number, width, height, fit, scale))
        return np.asarray(found, np.float32)

    def _read_depth(
        self, frames: _Frames, number: int, width: int, height: int, fit: Literal["fill", "fit", "pixels"], scale: float
    ) -> Floats:
        if frames.movie is not None:
            pixels = frames.movie.read(number)
            values = pixels[..., :3].mean(axis=2, dtype=np.float32) / np.float32(np.iinfo(pixels.dtype).max)
        else:
            values = read_depth(frames.path_of(number))
        values = np.nan_to_num(values, nan=0.0, posinf=0.0, neginf=0.0)
        _, new_w, new_h = _size(values.shape[1], values.shape[0], width, height, fit, scale)
        resized = cv2.resize(values, (new_w, new_h), interpolation=cv2.INTER_NEAREST)
        return np.asarray(_within(resized[..., None], width, height)[..., 0], np.float32)

    def _other(self, media: str, number: int, width: int, height: int, fit: Literal["fill", "fit"]) -> Floats:
        with self._lock:
            frames, changed = self._frames(media)
            key = (media, changed, number, fit, width, height)
            one = Plate(media=media, fit=fit)
            kept = self._found(key, lambda: self._read(frames, number, one, width, height, 1.0))
        return lit(kept) if is_coded(kept) else kept.astype(np.float32, copy=False)

    def _number(self, shot: Shot, seconds: Fraction) -> int | None:
        plate = shot.plate
        if plate is None or not plate.on:
            return None
        frames, _ = self._frames(plate.media)
        rate = frames.rate or (Fraction(plate.rate) if plate.rate else shot.frame_rate)
        return plate_frame(plate, seconds, rate, len(frames))

    def _frame(self, shot: Shot, number: int, width: int, height: int) -> Floats | Codes:
        plate = shot.plate
        assert plate is not None
        frames, changed = self._frames(plate.media)
        key = (plate.media, changed, number, plate.encoding, plate.fit, width, height, shot.width)
        return self._found(key, lambda: self._read(frames, number, plate, width, height, width / shot.width))

    def _found(self, key: tuple[Any, ...], read: Callable[[], Floats | Codes]) -> Floats | Codes:
        """A frame from memory, the shared cache or the file. It must not be changed."""
        found = self._kept.peek(key)
        if found is None:
            found = self._stored(key)
            if found is None:
                found = read()
                if self.shared_cache is not None and is_coded(found) and found.nbytes <= _MOST_SHELVED:
                    self.shared_cache.put(*_cache_names(key), [np.array(found.shape, np.int64), found])
            self._kept.put(key, found)
        return found

    def _stored(self, key: tuple[Any, ...]) -> Codes | None:
        there = None if self.shared_cache is None else self.shared_cache.get(*_cache_names(key))
        if there is None or len(there) < _HEAD or len(there) % 2:
            return None
        (height, width, channels), codes = there[:_HEAD].view(np.int64).tolist(), there[_HEAD:].view(np.uint16)
        if channels != 3 or min(height, width) < 1 or 3 * height * width != len(codes):
            return None
        return codes.reshape(height, width, 3)

    def _read(
        self, frames: _Frames, number: int, plate: Plate, width: int, height: int, scale: float
    ) -> Floats | Codes:
        wanted: Encoding | None = None if plate.encoding == "auto" else plate.encoding
        if frames.movie is not None:
            table = decoding_table(wanted or frames.movie.encoding, FINE_LEVELS)
            planes = None if table is None else frames.movie.planes(number)
            if planes is not None and table is not None:
                smaller = _smaller(planes.width, planes.height, width, height, plate.fit, scale)
                if smaller is not None:
                    return _within(shrunk_planes(planes, table, *smaller), width, height)
                return fitted(
                    lit(shrunk_planes(planes, table, planes.width, planes.height)), width, height, plate.fit, scale
                )
        pixels, encoding, associated = frames.read(number, wanted)
        if pixels.dtype == np.uint8 and pixels.shape[2] == 3:
            smaller = _smaller(pixels.shape[1], pixels.shape[0], width, height, plate.fit, scale)
            table = decoding_table(encoding, 256)
            if smaller is not None and table is not None:
                return _within(shrunk(pixels, table, *smaller), width, height)
        linear = to_linear(pixels, encoding)
        if linear.shape[2] == 3:
            linear = np.asarray(cv2.cvtColor(linear, cv2.COLOR_RGB2RGBA), np.float32)
        elif not associated:
            linear[..., :3] *= linear[..., 3:]
        if pixels.dtype.kind == "f":
            np.nan_to_num(linear, copy=False, nan=0.0, posinf=65504.0, neginf=0.0)
        return fitted(linear, width, height, plate.fit, scale)


def _own(kept: Floats | Codes) -> Floats:
    """The light of a cached frame, as a copy that the caller may change."""
    return lit(kept) if is_coded(kept) else np.array(kept, np.float32)


def _cache_names(key: tuple[Any, ...]) -> tuple[str, str]:
    """Group and name of a frame in the shared cache: one group for each media file."""
    return tuple(hashlib.sha256(repr(part).encode()).hexdigest()[:32] for part in (key[0], key))  # type: ignore[return-value]


def probe(media: str, allow: Callable[[Path, str], None] | None = None) -> dict[str, Any]:
    """What a plate file is: kind, frames, rate (text or None), width, height, encoding. Opens and reads one frame.

    Raises IsbjornError for what is not a plate.
    """
    frames = _Frames(media, allow)
    pixels, encoding, _ = frames.read(0)
    try:
        if frames.movie:
            movie = frames.movie
            return {
                "kind": "movie",
                "frames": movie.frames,
                "rate": str(movie.rate),
                "width": movie.width,
                "height": movie.height,
                "encoding": encoding,
            }
        first = frames.files[0]
        facts = (
            probe_still(first) if first else {"width": pixels.shape[1], "height": pixels.shape[0], "encoding": encoding}
        )
        return {
            "kind": "sequence" if is_pattern(media) else "still",
            "frames": len(frames),
            "rate": None,
            **facts,
        }
    finally:
        if frames.movie:
            frames.movie.close()
