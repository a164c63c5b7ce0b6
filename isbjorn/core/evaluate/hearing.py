"""The analysis of a sound: levels, bands, onsets and beats, computed once for the whole sound, on a fixed grid.

Power spectra are Hann-windowed, `PER_S` a second; onsets by spectral flux (Dixon 2006, "Onset detection revisited"), set to the
sample at which the energy rises most; tempo and beats by autocorrelation and dynamic programming (Ellis 2007, "Beat tracking by
dynamic programming").
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document.fields.sounds import Hearing, Sound
from isbjorn.core.evaluate.external_files import path_of
from isbjorn.core.jit import njit
from isbjorn.core.runtime.memory import Cache
from isbjorn.core.runtime.shared_cache import LASTING, load_arrays, store_arrays

RATE, PER_S, LONGEST_S = 48_000, 120, 900
_HOP, _WINDOW, _CHUNK = RATE // PER_S, 2048, 512
# Edges of the frequency bands: sixteen per octave.
_LOW_HZ, _OCTAVES, _EACH = 20.0, 10, 16
EDGES: Doubles = _LOW_HZ * 2.0 ** (np.arange(_OCTAVES * _EACH + 1) / _EACH)
# Of onsets: samples of a window, hop, and the grid that comes of it.
_FLUX_WINDOW, _FLUX_HOP = 1024, 240
_FLUX_PER_S = RATE // _FLUX_HOP
_FLOOR_DB, _SILENCE = -90.0, 1e-9
# Dixon's thresholds: neighbours that it must top, over how much before it the mean is taken, by how much it must exceed that. And
# it must be this multiple of the usual level in the 150 ms before: beating within a chord is no onset.
_TOPS, _BEFORE, _EXCEEDS, _KEEPS, _LEAST = 3, 3, 0.35, 0.84, 0.03
_USUAL, _TIMES = 30, 3.5
_USUAL_BPM, _OCTAVES_WIDE, _SLOWEST_BPM, _FASTEST_BPM, _TIGHT = 120.0, 0.65, 40.0, 240.0, 100.0
# Version of the analysis, part of the file's name.
_GROUP = "heard-1"


@dataclass(frozen=True)
class Heard:
    """The analysis of a sound, n moments a 120th of a second apart from its beginning: rms and peak (n,) in [0, 1]; power (n, 160),
    mean squares in the bands between `EDGES`; onsets (m,) s and strengths (m,) in ]0, 1]; beats (k,) s; tempo in beats per minute,
    0 where there is none."""

    seconds: float
    rms: Floats
    peak: Floats
    power: Floats
    onsets: Doubles
    strengths: Floats
    beats: Doubles
    tempo: float


def analysed(samples: Floats) -> Heard:
    """Listen to samples (n,) of one channel, `RATE` a second."""
    samples = np.ascontiguousarray(samples[: LONGEST_S * RATE], np.float32)
    count = max(1, math.ceil(len(samples) / _HOP))
    squares, peak = _levels(samples, count)
    flux = _flux(samples)
    onsets, strengths = _onsets(flux, samples)
    tempo = _tempo(flux) if len(onsets) >= 4 else 0.0
    beats = _beats(flux, tempo, onsets) if tempo else np.zeros(0)
    return Heard(len(samples) / RATE, np.sqrt(squares), peak, _power(samples, count), onsets, strengths, beats, tempo)


def _levels(samples: Floats, count: int) -> tuple[Floats, Floats]:
    """Mean squares over a window of two hops around each moment, and the largest sample in it."""
    padded = np.zeros((count + 2) * _HOP, np.float32)
    padded[_HOP : _HOP + len(samples)] = samples
    hops = padded.reshape(-1, _HOP)
    squares = (hops.astype(np.float64) ** 2).mean(axis=1)
    largest = np.abs(hops).max(axis=1)
    mean = (squares[:-1] + squares[1:])[:count] / 2
    return mean.astype(np.float32), np.maximum(largest[:-1], largest[1:])[:count]


def _shares() -> Floats:
    """The share of each bin of a spectrum in each band, (bins, bands): a bin is as wide as the distance between bins."""
    wide = RATE / _WINDOW
    middle = np.arange(_WINDOW // 2 + 1) * wide
    low, high = np.maximum(middle - wide / 2, 0)[:, None], (middle + wide / 2)[:, None]
    inside = np.minimum(high, EDGES[None, 1:]) - np.maximum(low, EDGES[None, :-1])
    return np.asarray(np.maximum(inside, 0) / (high - low), np.float32)


def _frames(samples: Floats, window: int, hop: int, count: int) -> Iterator[tuple[int, npt.NDArray[np.complex64]]]:
    """Spectra of Hann windows around the moments k · hop, some at a time: the first one's number, and they."""
    shape = np.hanning(window + 1)[:-1].astype(np.float32)
    padded = np.zeros((count - 1) * hop + window, np.float32)
    half = window // 2
    padded[half : half + len(samples)] = samples[: len(padded) - half]
    windows = np.lib.stride_tricks.sliding_window_view(padded, window)[::hop]
    for first in range(0, count, _CHUNK):
        yield first, np.fft.rfft(windows[first : first + _CHUNK] * shape, axis=1).astype(np.complex64)


def _power(samples: Floats, count: int) -> Floats:
    out = np.zeros((count, len(EDGES) - 1), np.float32)
    shares = _shares()
    # A sine of amplitude a has the mean square a² / 2: by Parseval, one side of the spectrum twice.
    scale = 2.0 / (_WINDOW * float((np.hanning(_WINDOW + 1)[:-1] ** 2).sum()))
    for first, spectra in _frames(samples, _WINDOW, _HOP, count):
        out[first : first + len(spectra)] = (spectra.real**2 + spectra.imag**2) * np.float32(scale) @ shares
    return out


def _flux(samples: Floats) -> Floats:
    """By how much magnitudes rise, summed over all frequencies, at even moments (n,)."""
    count = max(2, math.ceil(len(samples) / _FLUX_HOP))
    out, last = np.zeros(count, np.float32), np.zeros(_FLUX_WINDOW // 2 + 1, np.float32)
    for first, spectra in _frames(samples, _FLUX_WINDOW, _FLUX_HOP, count):
        sizes = np.abs(spectra)
        rises = np.diff(np.concatenate([last[None], sizes]), axis=0)
        out[first : first + len(sizes)] = np.maximum(rises, 0).sum(axis=1)
        last = sizes[-1]
    return out


def _onsets(flux: Floats, samples: Floats) -> tuple[Doubles, Floats]:
    # What ends with the file is no onset, though it sounds like a click.
    flux = flux[: max(1, (len(samples) - _FLUX_WINDOW // 2) // _FLUX_HOP)]
    most = float(flux.max(initial=0))
    # Of a full-scale click some hundred; what is softer than -80 dB is no onset.
    if most < 0.01:
        return np.zeros(0), np.zeros(0, np.float32)
    found = _tops((flux - flux.mean()).astype(np.float64) / max(float(flux.std()), 1e-9), flux, _LEAST * most)
    moments = np.array([_exactly(samples, n) for n in found]) / RATE
    return moments, np.asarray(flux[found] / most, np.float32)


@njit("i8[::1](f8[::1], f4[::1], f8)", cache=True)
def _tops(f: Doubles, flux: Floats, least: float) -> npt.NDArray[np.int64]:
    """Dixon's peaks of a flux that was brought to mean 0 and deviation 1."""
    found = np.empty(len(f), np.int64)
    count, threshold = 0, -np.inf
    for n in range(len(f)):
        end, top, total = min(len(f), n + _TOPS + 1), True, 0.0
        for k in range(max(0, n - _TOPS), end):
            top = top and f[n] >= f[k]
        begin = max(0, n - _BEFORE * _TOPS)
        for k in range(begin, end):
            total += f[k]
        top = top and f[n] >= total / (end - begin) + _EXCEEDS and f[n] >= threshold and flux[n] >= least
        if top:
            begin = max(0, n - _USUAL)
            top = n - begin <= 2 or flux[n] >= _TIMES * np.median(flux[begin : n - 2])
        if top and (count == 0 or n - found[count - 1] > _TOPS):
            found[count] = n
            count += 1
        threshold = f[n] if threshold == -np.inf else max(f[n], _KEEPS * threshold + (1 - _KEEPS) * f[n])
    return found[:count].copy()


def _exactly(samples: Floats, n: int) -> int:
    """The sample, around a moment of the flux, at which the energy rises most."""
    reach, short = _FLUX_WINDOW, 96
    first = n * _FLUX_HOP - reach
    part = np.zeros(2 * reach)
    here = samples[max(0, first) : first + 2 * reach]
    part[max(0, -first) : max(0, -first) + len(here)] = here
    total = np.concatenate([[0], np.cumsum(part**2)])
    at = np.arange(short, len(part) - short)
    rise = (total[at + short] - total[at]) - (total[at] - total[at - short])
    # Of moments that are alike, the last: then it begins.
    return max(0, first + int(at[np.flatnonzero(rise >= rise.max() * (1 - 1e-6))[-1]]))


def _tempo(flux: Floats) -> float:
    """Beats a minute: the lag at which the flux is most like itself, tempi about 120 before others."""
    f = np.sqrt(flux.astype(np.float64))
    f -= f.mean()
    size = 1 << (2 * len(f) - 1).bit_length()
    alike = np.fft.irfft(np.abs(np.fft.rfft(f, size)) ** 2, size)[: len(f)]
    lags = np.arange(
        math.floor(60 * _FLUX_PER_S / _FASTEST_BPM), min(len(f), math.ceil(60 * _FLUX_PER_S / _SLOWEST_BPM))
    )
    if len(lags) < 3:
        return 0.0
    bpm = 60 * _FLUX_PER_S / lags
    # What is left of the overlap at a lag is weighed as if all were; and a beat is alike at two of its periods, too.
    alike *= len(f) / np.maximum(len(f) - np.arange(len(f)), 1)
    alike = np.concatenate([alike[: len(f) * 3 // 4], np.zeros(len(f))])
    duple = alike[lags] + 0.5 * alike[2 * lags] + 0.25 * (alike[2 * lags - 1] + alike[2 * lags + 1])
    rated = duple * np.exp(-0.5 * (np.log2(bpm / _USUAL_BPM) / _OCTAVES_WIDE) ** 2)
    best = int(np.argmax(rated))
    if rated[best] <= 0:
        return 0.0
    shift = 0.0
    if 0 < best < len(rated) - 1:
        a, b, c = rated[best - 1 : best + 2]
        shift = 0.5 * (a - c) / (a - 2 * b + c) if a - 2 * b + c != 0 else 0.0
    return float(60 * _FLUX_PER_S / (lags[best] + shift))


@njit("i8[::1](f8[::1], f8)", cache=True)
def _walk(flux: Doubles, period: float) -> npt.NDArray[np.int64]:
    """Ellis's best row of beats: each counts its flux, and loses by the square of the log of its gap over the period."""
    n = len(flux)
    score, came = flux.copy(), np.full(n, -1, np.int64)
    low, high = round(period / 2), round(2 * period)
    for t in range(n):
        best, whence = 0.0, -1
        for gap in range(max(1, low), min(t, high) + 1):
            away = math.log(gap / period)
            rated = score[t - gap] - _TIGHT * away * away
            if rated > best:
                best, whence = rated, t - gap
        score[t] += best
        came[t] = whence
    start = max(0, n - round(period) - 1)
    at = start + int(np.argmax(score[start:]))
    found = np.empty(n, np.int64)
    count = 0
    while at >= 0:
        found[count] = at
        count += 1
        at = came[at]
    return found[:count][::-1].copy()


def _beats(flux: Floats, tempo: float, onsets: Doubles) -> Doubles:
    """Moments of beats, s; each set to an onset where there is one near."""
    f = np.sqrt(flux.astype(np.float64))
    found = _walk(f / max(float(f.std()), 1e-9), 60 * _FLUX_PER_S / tempo) / _FLUX_PER_S
    found = found[(found >= onsets[0] - 0.06) & (found <= onsets[-1] + 0.06)]
    near = np.clip(np.searchsorted(onsets, found), 1, len(onsets) - 1)
    near -= np.abs(found - onsets[near - 1]) < np.abs(found - onsets[near])
    return np.unique(np.where(np.abs(onsets[near] - found) < 0.03, onsets[near], found))


# Files

# The reader of sound files: samples of one channel, `RATE` per second; raises IsbjornError. Set by what reads files.
_READERS: list[Callable[[Path], Floats]] = []
_HEARD: Cache[Heard] = Cache(
    "heard", 0.5, what="Analyses of sounds", depends_on="the sound's digest, and how it is heard"
)


def is_heard(digest: str) -> bool:
    """Whether the analysis of a sound is cached."""
    return any(digest in shared_cache.names(_GROUP) for shared_cache in LASTING)


def read_sounds_with(read: Callable[[Path], Floats]) -> None:
    """Set the reader of sound files: samples of one channel, float32 (n,), `RATE` per second; it raises IsbjornError."""
    _READERS[:] = [read]


def prepare(path: Path, digest: str) -> Heard:
    """Analyse a sound file and cache the result."""
    found = analysed(_READERS[0](path))
    store_arrays(_GROUP, digest, **found.__dict__)
    return found


def _stored(digest: str) -> Heard | None:
    """The cached analysis of a sound; None if it is missing or damaged."""
    found = load_arrays(_GROUP, digest, Heard.__dataclass_fields__)
    if found is None:
        return None
    n = len(found["rms"])
    if found["power"].shape != (n, len(EDGES) - 1) or len(found["peak"]) != n:
        return None
    arrays: dict[str, Any] = {**found}
    return Heard(**arrays | {"seconds": float(found["seconds"]), "tempo": float(found["tempo"])})


def heard(sound: Sound) -> Heard:
    """What is heard in a sound. Raises IsbjornError where its file is missing, another one, or damaged."""

    def listen() -> Heard:
        known = _stored(sound.digest)
        if known is not None:
            return known
        return prepare(path_of(sound.media, sound.digest), sound.digest)

    return _HEARD.get(sound.digest, listen)


# What is measured of it


@njit("f8[::1](f8[::1], f8, f8)", cache=True)
def _followed(level: Doubles, rises: float, falls: float) -> Doubles:
    """An envelope that goes a share of the way to the level at each moment: another one upward and downward."""
    out = np.empty(len(level))
    at = 0.0
    for i in range(len(level)):
        at += (level[i] - at) * (rises if level[i] > at else falls)
        out[i] = at
    return out


def _share(seconds: float) -> float:
    return 1.0 if seconds <= 0 else 1 - math.exp(-1 / (seconds * PER_S))


_MEASURED: Cache[Doubles] = Cache(
    "heard", 0.2, what="Measures of sounds", depends_on="the sound's digest, and what is measured"
)


def measured(sound: Sound, hearing: Hearing) -> Doubles:
    """The value of a sound driver at moments a 120th of a second apart from the sound's beginning, (n,), before its curve."""
    key = (sound.digest, hearing.model_dump_json(exclude={"curve"}))
    return _MEASURED.get(key, lambda: _measured(heard(sound), hearing))


def _measured(found: Heard, hearing: Hearing) -> Doubles:
    if hearing.what in ("onsets", "beats"):
        return _struck(found, hearing)
    if hearing.what == "peak":
        level = found.peak.astype(np.float64)
    elif hearing.band is None:
        level = found.rms.astype(np.float64) * math.sqrt(2)
    else:
        level = np.sqrt(2 * (found.power.astype(np.float64) @ _within(*hearing.band)))
    level = np.minimum(level, 1.0)
    level[level < max(10 ** (hearing.threshold_db / 20), _SILENCE)] = 0
    if hearing.scale == "linear":
        return _followed(level, _share(hearing.attack_s), _share(hearing.release_s))
    loud = np.maximum(20 * np.log10(np.maximum(level, _SILENCE)), _FLOOR_DB)
    return _followed(loud - _FLOOR_DB, _share(hearing.attack_s), _share(hearing.release_s)) + _FLOOR_DB


def _within(low: float, high: float) -> Doubles:
    """The share of each stored band between two frequencies, by octaves."""
    wide = np.log2(EDGES[1:] / EDGES[:-1])
    inside = np.log2(np.minimum(EDGES[1:], high) / np.maximum(EDGES[:-1], low))
    return np.clip(inside / wide, 0, 1)


def struck(sound: Sound, hearing: Hearing) -> tuple[Doubles, Doubles]:
    """Moments of onsets or beats in s of the sound, and their strengths, of those at or above the threshold."""
    return _strikes(heard(sound), hearing)


def _strikes(found: Heard, hearing: Hearing) -> tuple[Doubles, Doubles]:
    if hearing.what == "beats":
        return found.beats, np.ones(len(found.beats))
    loud = found.strengths >= 10 ** (hearing.threshold_db / 20)
    return found.onsets[loud], found.strengths[loud].astype(np.float64)


def _struck(found: Heard, hearing: Hearing) -> Doubles:
    moments, strengths = _strikes(found, hearing)
    out = np.zeros(len(found.rms))
    # At the first moment at or after it; from there it fades.
    at = np.minimum(np.ceil(moments * PER_S - 1e-6).astype(np.int64), len(out) - 1)
    np.maximum.at(out, at, strengths)
    return _followed(out, 1.0, _share(hearing.release_s))


def measure(sound: Sound, hearing: Hearing, t: Doubles, plate_s: float = 0.0) -> Doubles:
    """A hearing at moments of shot time (n,): straight between those of the grid; silence before and after the sound.

    plate_s: shot time at which the plate begins.
    """
    silence = _FLOOR_DB if hearing.scale == "decibels" and hearing.what not in ("onsets", "beats") else 0.0
    if not sound.on:
        return np.full(len(t), silence)
    values = measured(sound, hearing)
    at = (t - begins(sound, plate_s)) * PER_S
    left = np.clip(np.floor(at).astype(np.int64), 0, len(values) - 1)
    right = np.minimum(left + 1, len(values) - 1)
    between = values[left] + np.clip(at - left, 0, 1) * (values[right] - values[left])
    return np.where((at < 0) | (at > len(values) - 1), silence, between)


def begins(sound: Sound, plate_s: float = 0.0) -> float:
    """Shot time at which a sound begins."""
    return plate_s if sound.of_plate else sound.offset_s
