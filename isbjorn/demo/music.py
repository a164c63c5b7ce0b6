"""*Night music*: a made-up piece of sixteen beats, which drives *Northern lights, live* and the fountain. Synthesised from the
numbers below."""

from __future__ import annotations

import wave
from pathlib import Path

import numpy as np

from isbjorn.core.arrays import Doubles

RATE, BPM, BEATS = 48_000, 96, 16
SECONDS = BEATS * 60 / BPM
_BEAT = 60 / BPM
# Four chords of four beats each, as semitones over A; the bells' tune, as beats and semitones; where the drum falls.
_CHORDS = ((0, 7, 12, 16), (-4, 3, 8, 15), (-7, 5, 12, 17), (-5, 2, 11, 14))
_TUNE = (
    (0.0, 28), (1.0, 31), (1.5, 33), (2.5, 36), (4.0, 35), (5.0, 31), (6.5, 27), (8.0, 29), (9.0, 33), (9.5, 36), (10.5, 41),
    (12.0, 38), (13.0, 35), (14.0, 31), (14.5, 33), (15.0, 35),
)  # fmt: skip
_DRUM = (0, 2, 4, 6, 8, 10, 12, 13, 14, 15)


def _hz(semitones: float) -> float:
    return 110 * 2 ** (semitones / 12)


def _put(out: Doubles, at_s: float, sound: Doubles, left: float, right: float) -> None:
    """Lay a sound into the piece; what rings beyond its end comes round to its beginning."""
    where = (round(at_s * RATE) + np.arange(len(sound))) % len(out)
    np.add.at(out, where, np.stack([sound * left, sound * right], axis=1))


def music() -> Doubles:
    """The piece, (n, 2) in [-1, 1]; its end flows into its beginning."""
    out = np.zeros((round(SECONDS * RATE), 2))
    rng = np.random.default_rng(96)
    for k, chord in enumerate(_CHORDS):
        lasts = 4 * _BEAT + 1.2
        t = np.arange(round(lasts * RATE)) / RATE
        swell = np.sin(np.pi * np.clip(t / lasts, 0, 1)) ** 1.3
        for n, note in enumerate(chord):
            hz, drift = _hz(note), 1 + 0.0016 * np.sin(2 * np.pi * (0.31 + 0.07 * n) * t)
            phase = 2 * np.pi * np.cumsum(hz * drift) / RATE
            pad = sum(np.sin(m * phase) / m**1.7 for m in (1, 2, 3, 5))
            _put(out, 4 * k * _BEAT - 0.6, 0.055 * swell * pad, 1 - 0.16 * n, 0.52 + 0.16 * n)
    for beat, note in _TUNE:
        t = np.arange(round(2.4 * RATE)) / RATE
        ring = np.exp(-t / 0.55)
        bell = (
            np.sin(2 * np.pi * _hz(note) * t + 2.6 * np.exp(-t / 0.16) * np.sin(2 * np.pi * 3.5 * _hz(note) * t)) * ring
        )
        side = 0.5 + 0.35 * np.sin(beat * 1.7)
        _put(out, beat * _BEAT, 0.19 * bell, 1 - side, side)
    for beat in _DRUM:
        t = np.arange(round(0.5 * RATE)) / RATE
        fall = 2 * np.pi * np.cumsum(46 + 70 * np.exp(-t / 0.03)) / RATE
        _put(out, beat * _BEAT, 0.62 * np.sin(fall) * np.exp(-t / 0.13), 0.7, 0.7)
    for half in range(2 * BEATS):
        t = np.arange(round(0.09 * RATE)) / RATE
        hiss = np.diff(rng.normal(0, 1, len(t) + 1)) * np.exp(-t / 0.018)
        _put(out, half / 2 * _BEAT, (0.05 if half % 2 else 0.018) * hiss, 0.9, 0.6)
    return np.asarray(np.tanh(1.25 * out) * 0.82)


def write_music(path: Path) -> None:
    """Write the piece as WAV of 16 bits."""
    with wave.open(str(path), "wb") as out:
        out.setnchannels(2)
        out.setsampwidth(2)
        out.setframerate(RATE)
        out.writeframes(np.round(music() * 32767).astype("<i2").tobytes())
