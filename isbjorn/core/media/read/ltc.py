"""Linear timecode in a sound (SMPTE ST 12-1): 80 bits a frame, biphase mark, the last sixteen of them a word to lock to."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from isbjorn.core.arrays import Floats
from isbjorn.core.media.read.sound import listened

RATES = (24.0, 25.0, 30000 / 1001, 30.0)
_BITS, _SYNC, _SYNC_BITS = 80, 0b0011111111111101, 16
# Lengths of a half bit and a whole one, at 24 to 30 frames per second; the middle separates them. What is longer is a gap.
_BETWEEN_PER_S, _LONGEST_PER_S = 3000.0, 1500.0
_SILENT, _OF_PEAK = 0.01, 0.3
_LOOKED_AT_S = 120.0
_FIELDS = ((0, 4), (8, 2), (16, 4), (24, 3), (32, 4), (40, 3), (48, 4), (56, 2))


@dataclass(frozen=True)
class Timecode:
    """Where a timecode stood when its frame was over: at a sample of all that was heard, seconds of its day, frames a second."""

    sample: int
    seconds: float
    rate: float


class Reader:
    """Reads the timecode of an incoming sound, forward, at about normal speed. rate: samples per second."""

    def __init__(self, rate: int) -> None:
        self.rate = rate
        self._heard, self._state, self._since = 0, 0, 0
        self._half = False
        self._bits: list[int] = []
        self._last: tuple[int, int] | None = None

    def feed(self, samples: Floats) -> list[Timecode]:
        """Take more sound, float32 (n,) in [-1, 1]; return the timecodes whose frames ended in it."""
        if len(samples) == 0:
            return []
        # A symmetric wave, whatever its offset.
        samples = samples - 0.5 * (samples.max() + samples.min())
        level = max(_SILENT, _OF_PEAK * float(np.abs(samples).max()))
        signs = np.where(samples > level, 1, np.where(samples < -level, -1, 0))
        at = np.flatnonzero(signs)
        found = []
        if len(at):
            states = signs[at]
            changes = np.flatnonzero(np.diff(np.concatenate([[self._state], states])))
            for where in (at[changes] + self._heard).tolist():
                timecode = self._edge(where)
                if timecode is not None:
                    found.append(timecode)
            self._state = int(states[-1])
        self._heard += len(samples)
        return found

    def _edge(self, at: int) -> Timecode | None:
        """The wave changes its side."""
        gone, self._since = at - self._since, at
        if gone > self.rate / _LONGEST_PER_S:
            self._bits, self._half, self._last = [], False, None
            return None
        if gone > self.rate / _BETWEEN_PER_S:
            # A whole bit without a change in its middle. After half of one it was out of step.
            self._half = False
            return self._bit(0, at)
        self._half = not self._half
        return None if self._half else self._bit(1, at)

    def _bit(self, bit: int, at: int) -> Timecode | None:
        self._bits.append(bit)
        del self._bits[:-_BITS]
        if len(self._bits) < _BITS or int("".join(map(str, self._bits[-_SYNC_BITS:])), 2) != _SYNC:
            return None
        values = [sum(self._bits[first + n] << n for n in range(count)) for first, count in _FIELDS]
        frames, seconds, minutes, hours = (values[n] + 10 * values[n + 1] for n in (0, 2, 4, 6))
        if frames > 30 or seconds > 59 or minutes > 59 or hours > 23:
            return None
        before, self._last = self._last, (at, frames)
        if before is None:
            return None
        heard = self.rate / (at - before[0])
        rate = min(RATES, key=lambda r: abs(r - heard))
        if abs(rate - heard) > 0.15 * rate:
            return None
        return Timecode(at, hours * 3600 + minutes * 60 + seconds + (frames + 1) / rate, rate)


def timecode_in(path: str) -> tuple[float, float, float] | None:
    """The first timecode in the first two minutes of a file: second in the file, second of the day, frames per second.

    None where there is none. Raises IsbjornError for an invalid sound.
    """
    sound = listened(Path(path))
    reader, heard = Reader(sound.rate), 0
    for block in sound.blocks():
        for timecode in reader.feed(block[:, 0])[:1]:
            return timecode.sample / sound.rate, timecode.seconds, timecode.rate
        heard += len(block)
        if heard > _LOOKED_AT_S * sound.rate:
            break
    return None


def _frame(frame: int, rate: float) -> Iterator[int]:
    """The bits of a frame, counted from midnight."""
    nominal = round(rate)
    parts = (frame % nominal, frame // nominal % 60, frame // nominal // 60 % 60, frame // nominal // 3600 % 24)
    values = [digit for part in parts for digit in (part % 10, part // 10)]
    bits = [0] * _BITS
    for value, (first, count) in zip(values, _FIELDS, strict=True):
        for n in range(count):
            bits[first + n] = value >> n & 1
    for n in range(_SYNC_BITS):
        bits[_BITS - 1 - n] = _SYNC >> n & 1
    return iter(bits)


def written(start_frame: int, frames: int, rate: float, samples_per_s: int = 48_000, level: float = 0.5) -> Floats:
    """The sound of a timecode that runs from a frame of the day on, float32 (n,): what a machine would send."""
    edges: list[float] = []
    bit = 0
    for frame in range(start_frame, start_frame + frames):
        for value in _frame(frame, rate):
            edges.append(bit)
            if value:
                edges.append(bit + 0.5)
            bit += 1
    at = np.round(np.array(edges) * samples_per_s / rate / _BITS).astype(np.int64)
    turns = np.zeros(round(frames * samples_per_s / rate) + 2, np.int64)
    np.add.at(turns, at, 1)
    return (level * (1 - 2 * (np.cumsum(turns) % 2))).astype(np.float32)
