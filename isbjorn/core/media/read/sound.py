"""The sound of a movie, cut to a stretch of it, to the sample."""

from __future__ import annotations

import wave
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any, ClassVar

import av
import numpy as np

from isbjorn.core.arrays import Floats
from isbjorn.core.document import Plate, Shot
from isbjorn.core.errors import IsbjornError, reason_of
from isbjorn.core.evaluate import hearing
from isbjorn.core.media.read.movies import FILE_OPTIONS, MOVIES
from isbjorn.core.runtime.shared_cache import SharedCache, keep_on
from isbjorn.core.runtime.whole import whole

# A sound is one file: no list of others, no address.
SOUNDS = (".wav", ".flac", ".mp3", ".m4a", ".aac", ".ogg", ".oga", ".opus", ".aif", ".aiff")
_SOUND_FORMATS = FILE_OPTIONS["format_whitelist"] + ",wav,w64,flac,mp3,aac,ogg,aiff"
SOUND_OPTIONS = {"protocol_whitelist": "file", "format_whitelist": _SOUND_FORMATS}
_RATES, _USUAL_RATE = (32_000, 44_100, 48_000, 88_200, 96_000), 48_000
_LOUDEST = 16.0
_LEAST_RATE, _MOST_RATE, _MOST_CHANNELS = 4_000, 768_000, 64
# This many seconds are searched for a value that is a number.
_LOOKED_AT_S = 60
# What is looked for before a place, so that a codec has what it builds on.
_RUN_UP_S = 0.5


@dataclass(frozen=True)
class MixedSound:
    """A stretch of a movie's sound. start_s: seconds of the movie from its first picture, may be negative; outside the sound there
    is silence, or it repeats after `round_s`."""

    path: Path
    start_s: Fraction
    length_s: Fraction
    rate: int
    layout: str
    channels: int
    round_s: Fraction | None = None
    # Silence before it.
    delay_s: Fraction = Fraction(0)

    def at_rate(self, rate: int) -> MixedSound:
        """The same at another number of samples a second."""
        return replace(self, rate=rate)

    @property
    def samples(self) -> int:
        """How many there are of each channel."""
        return round((self.length_s + self.delay_s) * self.rate)

    def blocks(self) -> Iterator[Floats]:
        """The samples in [-1, 1], float32 (n, channels), piece by piece; all together `samples`."""
        given, silence = 0, round(self.delay_s * self.rate)
        for block in self._with_silence(silence):
            block = block[: self.samples - given]
            if len(block):
                given += len(block)
                yield block
            if given >= self.samples:
                return

    def _with_silence(self, silence: int) -> Iterator[Floats]:
        yield from self._silence(silence)
        start, wanted = self.start_s, self.length_s
        while wanted > 0:
            if self.round_s:
                start %= self.round_s
            now = wanted if self.round_s is None else min(wanted, self.round_s - start)
            yield from self._stretch(start, now)
            start, wanted = start + now, wanted - now
        # Rounding must not leave a sample missing.
        yield from self._silence(self.rate)

    def _silence(self, count: int) -> Iterator[Floats]:
        while count > 0:
            yield np.zeros((min(count, self.rate), self.channels), np.float32)
            count -= self.rate

    def _stretch(self, start: Fraction, length: Fraction) -> Iterator[Floats]:
        """From a place onward: exactly round(length · rate) samples, silence where there are none."""
        first, count = round(start * self.rate), round(length * self.rate)
        at, end = first, first + count
        try:
            for here, samples in self._decoded(start):
                if here >= end:
                    break
                if here > at:
                    yield from self._silence(here - at)
                    at = here
                piece = samples[max(0, at - here) : end - here]
                if len(piece):
                    yield piece
                    at += len(piece)
        except av.FFmpegError as error:
            raise IsbjornError(
                f"the sound cannot be decoded ({reason_of(error)}).",
                self.path.name,
                "Deliver without sound, or export the movie again.",
            ) from None
        yield from self._silence(end - at)

    def _decoded(self, start: Fraction) -> Iterator[tuple[int, Floats]]:
        """Decoded pieces: the place of the first sample, counted from the first picture; and the samples."""
        with av.open(str(self.path), options=SOUND_OPTIONS) as container:
            stream = container.streams.audio[0]
            zero = _zero(container)
            sought = start + zero - Fraction(_RUN_UP_S)
            if sought > 0 and stream.time_base is not None:
                container.seek(int(sought / stream.time_base), stream=stream, backward=True)
            resampler = av.AudioResampler(format="flt", layout=self.layout, rate=self.rate)
            at: int | None = None
            frames: Any = container.decode(stream)
            for frame in frames:
                if at is None:
                    if frame.pts is None:
                        continue
                    at = round((frame.pts * frame.time_base - zero) * self.rate)
                for made in resampler.resample(frame):
                    samples = _values(made, self.channels)
                    yield at, samples
                    at += len(samples)
            if at is not None:
                for made in resampler.resample(None):
                    samples = _values(made, self.channels)
                    yield at, samples
                    at += len(samples)


def _values(frame: Any, channels: int) -> Floats:
    """The samples of a piece (n, channels); of files of floats, what is no number is silence, and nothing is beyond measure."""
    values = np.ascontiguousarray(frame.to_ndarray().reshape(-1, channels), np.float32)
    return np.clip(np.nan_to_num(values, copy=False, posinf=0.0, neginf=0.0), -_LOUDEST, _LOUDEST)


def _zero(container: Any) -> Fraction:
    """The moment at which a movie shows its first picture, in seconds of its clock."""
    if not container.streams.video:
        return Fraction(0)
    video = container.streams.video[0]
    return Fraction(video.start_time * video.time_base) if video.start_time is not None else Fraction(0)


def sound_of(plate: Plate, path: Path, start_s: Fraction, length_s: Fraction) -> MixedSound | None:
    """The plate's sound in a stretch of shot time; None where the plate has none. Raises IsbjornError for a damaged movie."""
    if path.suffix.lower() not in MOVIES:
        return None
    try:
        with av.open(str(path), options=FILE_OPTIONS) as container:
            if not container.streams.audio:
                return None
            audio = container.streams.audio[0]
            rate = audio.rate if audio.rate in _RATES else _USUAL_RATE
            layout, channels = audio.layout.name, len(audio.layout.channels)
            video = container.streams.video[0] if container.streams.video else None
            lasts = Fraction(container.duration or 0, av.time_base)
            if video is not None and video.duration and video.time_base:
                lasts = Fraction(video.duration * video.time_base)
    except (av.FFmpegError, IndexError, OSError) as error:
        raise IsbjornError(
            f"its sound cannot be read ({reason_of(error)}).", path.name, "Deliver without sound."
        ) from None
    offset = Fraction(plate.offset_s).limit_denominator(10**6)
    comes_round = lasts if plate.beyond == "loop" and lasts > 0 else None
    return MixedSound(path, start_s - offset, length_s, rate, layout, channels, comes_round)


def write_wave(path: Path, sound: MixedSound | Mix) -> None:
    """Write a WAV file of 24 bits, whole or not at all. Raises IsbjornError when the disk refuses."""
    try:
        with whole(path) as file, wave.open(file, "wb") as out:  # type: ignore[call-overload]
            out.setnchannels(sound.channels)
            out.setsampwidth(3)
            out.setframerate(sound.rate)
            out.setnframes(sound.samples)
            for block in sound.blocks():
                whole_numbers = np.clip(np.round(block.astype(np.float64) * 8388607), -8388608, 8388607).astype("<i4")
                out.writeframesraw(whole_numbers.view(np.uint8).reshape(-1, 4)[:, :3].tobytes())
    except (OSError, wave.Error) as error:
        raise IsbjornError(
            f"the sound could not be written ({reason_of(error)}).", str(path), "Check the free disk space."
        ) from None


@dataclass(frozen=True)
class Mix:
    """Several sounds of one length and rate, mixed, each with its gain factor; clipped at full scale."""

    parts: tuple[tuple[MixedSound, float], ...]

    @property
    def rate(self) -> int:
        return self.parts[0][0].rate

    layout: ClassVar[str] = "stereo"
    channels: ClassVar[int] = 2

    @property
    def samples(self) -> int:
        """How many there are of each channel."""
        return self.parts[0][0].samples

    def at_rate(self, rate: int) -> Mix:
        """The same at another number of samples a second."""
        return Mix(tuple((part.at_rate(rate), gain) for part, gain in self.parts))

    def blocks(self) -> Iterator[Floats]:
        """The samples in [-1, 1], float32 (n, channels), a second at a time."""
        each = [_by_second(part) for part, _ in self.parts]
        for pieces in zip(*each, strict=True):
            total = sum(
                (piece * np.float32(gain) for piece, (_, gain) in zip(pieces, self.parts, strict=True)),
                np.zeros((1, 2), np.float32),
            )
            yield np.clip(total, -1, 1).astype(np.float32)


def _by_second(sound: MixedSound) -> Iterator[Floats]:
    """The samples of a sound in pieces of a second; the last is shorter."""
    held: list[Floats] = []
    count = 0
    for block in sound.blocks():
        held.append(block)
        count += len(block)
        while count >= sound.rate:
            every = np.concatenate(held)
            yield every[: sound.rate]
            held, count = [every[sound.rate :]], count - sound.rate
    if count:
        yield np.concatenate(held)


def mixed(parts: list[tuple[MixedSound, float]]) -> MixedSound | Mix | None:
    """Sounds mixed, each with its gain factor; a single unchanged one stays as it is; None without any."""
    if not parts:
        return None
    if len(parts) == 1 and parts[0][1] == 1:
        return parts[0][0]
    common = [(part.at_rate(_USUAL_RATE), gain) for part, gain in parts]
    # One channel is heard from both sides as it is; more than two become two.
    return Mix(tuple((p if p.channels == 1 else replace(p, layout="stereo", channels=2), gain) for p, gain in common))


def sounds_of(
    shot: Shot, find: Callable[[str], Path], start_s: Fraction, length_s: Fraction, with_plate: bool
) -> list[tuple[MixedSound, float]]:
    """The sounds of a stretch of shot time, each with its gain: the shot's sounds, and the plate's, if that is wanted and not
    already in the cast. Raises IsbjornError for damaged ones."""
    found: list[tuple[MixedSound, float]] = []
    plate = shot.plate
    has_plate_sound = any(one.of_plate for one in shot.sounds)
    if plate is not None and plate.on and with_plate and not has_plate_sound:
        own = sound_of(plate, find(plate.media), start_s, length_s)
        found += [] if own is None else [(own, 1.0)]
    for one in shot.sounds:
        if not one.on or not one.heard:
            continue
        path, gain = find(one.media), 10 ** (one.gain_db / 20)
        if one.of_plate and plate is not None:
            own = sound_of(plate, path, start_s, length_s)
            found += [] if own is None else [(own, gain)]
            continue
        begins = Fraction(one.offset_s).limit_denominator(10**6)
        found.append((replace(opened(path), start_s=start_s - begins, length_s=length_s), gain))
    return found


def opened(path: Path) -> MixedSound:
    """A file's whole sound, as one channel or two. Raises IsbjornError for an invalid file."""
    try:
        with av.open(str(path), options=SOUND_OPTIONS) as container:
            if not container.streams.audio:
                raise IsbjornError("it contains no sound.", path.name, "Select another file.")
            stream = container.streams.audio[0]
            rate = stream.rate if stream.rate in _RATES else _USUAL_RATE
            channels = len(stream.layout.channels)
            if not _LEAST_RATE <= (stream.rate or 0) <= _MOST_RATE or not 1 <= channels <= _MOST_CHANNELS:
                raise IsbjornError(
                    f"a sound with {stream.rate or 0:,} samples per second and {channels} channels cannot be read.",
                    path.name,
                    f"Use {_LEAST_RATE:,} to {_MOST_RATE:,} samples per second and 1 to {_MOST_CHANNELS} channels.",
                )
            lasts = Fraction(container.duration or 0, av.time_base)
            if stream.duration and stream.time_base:
                lasts = max(lasts, Fraction(stream.duration * stream.time_base))
    except (av.FFmpegError, IndexError, OSError, ValueError) as error:
        raise IsbjornError(
            f"this sound cannot be read ({reason_of(error)}).",
            path.name,
            f"Use {', '.join(SOUNDS)}, or a movie.",
        ) from None
    one = channels == 1
    return MixedSound(path, Fraction(0), lasts, rate, "mono" if one else "stereo", 1 if one else 2)


def listened(path: Path) -> MixedSound:
    """A file's sound, up to the limit for analysis, mixed to one channel. Raises IsbjornError for an invalid file."""
    every = opened(path)
    longest = min(every.length_s, Fraction(hearing.LONGEST_S))
    return replace(every, length_s=longest, rate=hearing.RATE, layout="mono", channels=1)


def samples_of(path: Path) -> Floats:
    """The samples of what `listened` gives, float32 (n,)."""
    sound = listened(path)
    out = np.zeros(sound.samples, np.float32)
    at = 0
    for block in sound.blocks():
        out[at : at + len(block)] = block[:, 0]
        at += len(block)
    return out


def prepared(path: str, digest: str, shared_cache: str, limit_bytes: int) -> tuple[float, float, int]:
    """Analyse a sound in a separate process and cache the result; its seconds, its tempo, and the number of onsets.

    Raises IsbjornError for what is no sound.
    """
    keep_on(SharedCache(Path(shared_cache), limit_bytes))
    _check_samples(Path(path))
    found = hearing.prepare(Path(path), digest)
    return found.seconds, found.tempo, len(found.onsets)


def _check_samples(path: Path) -> None:
    """Raise IsbjornError for a file in which there is no sample, or none of its first minute that is a number."""
    sound, numbers, seen = listened(path), 0, 0
    with av.open(str(path), options=SOUND_OPTIONS) as container:
        try:
            for frame in container.decode(container.streams.audio[0]):
                values = frame.to_ndarray()
                seen += frame.samples
                numbers += int(np.isfinite(values).sum())
                if seen > _LOOKED_AT_S * max(1, frame.sample_rate) or numbers:
                    break
        except (av.FFmpegError, ValueError) as error:
            raise IsbjornError(
                f"the sound cannot be decoded ({reason_of(error)}).", path.name, "Save it again."
            ) from None
    if not numbers or sound.length_s <= 0:
        raise IsbjornError(
            "it is silent or contains invalid samples.", path.name, "Save it again, or select another file."
        )
