"""What is heard in sounds that are known, and what it drives."""

from __future__ import annotations

import struct
import tempfile
import unittest
import wave
from pathlib import Path
from typing import Any

import numpy as np

from isbjorn.core import Solver
from isbjorn.core.deliver import deliver
from isbjorn.core.document import Hearing, Shot
from isbjorn.core.document.files import parse_shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate import hearing
from isbjorn.core.evaluate.external_files import digest_of
from isbjorn.core.evaluate.hearing import PER_S, RATE, Heard, analysed
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.media.read.sound import listened, prepared, samples_of
from isbjorn.core.runtime.shared_cache import LASTING, SharedCache


def sine(hz: float, seconds: float, size: float = 0.5) -> np.ndarray:
    return (size * np.sin(2 * np.pi * hz * np.arange(int(seconds * RATE)) / RATE)).astype(np.float32)


def clicks(at: list[int], seconds: float, sizes: list[float] | None = None) -> np.ndarray:
    out = np.zeros(int(seconds * RATE), np.float32)
    for n, first in enumerate(at):
        out[first : first + 40] = (sizes or [0.8] * len(at))[n] * np.hanning(42)[1:-1]
    return out


def write(path: Path, samples: np.ndarray, rate: int = RATE) -> dict[str, Any]:
    """Write a file of 16 bits; what a document says of it."""
    with wave.open(str(path), "wb") as out:
        out.setnchannels(1)
        out.setsampwidth(2)
        out.setframerate(rate)
        out.writeframes(np.round(np.clip(samples, -1, 1) * 32767).astype("<i2").tobytes())
    return {"media": str(path), "digest": digest_of(path)}


def level(found: Heard, **more: Any) -> np.ndarray:
    return hearing._measured(found, Hearing(**{"attack_s": 0, "release_s": 0, **more}))


class Bands(unittest.TestCase):
    def test_a_tone_is_in_its_band_only_and_as_loud_as_it_is(self) -> None:
        found = analysed(sine(440, 4))
        inside = slice(PER_S, 3 * PER_S)
        for low, high, wanted in ((300, 600, 0.5), (20, 300, 0), (600, 20_000, 0), (20, 20_000, 0.5)):
            with self.subTest(band=(low, high)):
                np.testing.assert_allclose(
                    level(found, what="band", from_hz=low, to_hz=high)[inside], wanted, atol=2e-3
                )
        np.testing.assert_allclose(level(found)[inside], 0.5, rtol=0.03)
        np.testing.assert_allclose(level(found, what="peak")[inside], 0.5, atol=1e-3)
        np.testing.assert_allclose(level(found, what="middle", scale="decibels")[inside], 20 * np.log10(0.5), atol=0.03)
        self.assertTrue((level(found, what="bass", scale="decibels")[inside] < -45).all())
        self.assertTrue((level(found, threshold_db=-5)[inside] == 0).all())

    def test_power_of_noise_is_that_of_its_samples(self) -> None:
        noise = np.random.default_rng(4).normal(0, 0.1, 4 * RATE).astype(np.float32)
        found = analysed(noise)
        # White, so evenly spread over frequency: 20 Hz to 20 kHz are 19,980 of 24,000 Hz.
        power = found.power.sum(axis=1)[PER_S : 3 * PER_S].mean()
        self.assertAlmostEqual(power, 0.01 * (20_480 - 20) / 24_000, delta=2e-4)
        self.assertAlmostEqual(float((found.rms[PER_S : 3 * PER_S] ** 2).mean()), 0.01, delta=2e-4)
        wide = level(found, what="band", from_hz=4000, to_hz=8000)[PER_S : 3 * PER_S]
        self.assertAlmostEqual(float((wide**2).mean()) / 2, 0.01 * 4000 / 24_000, delta=1.5e-4)

    def test_a_sweep_crosses_bands_in_order(self) -> None:
        t = np.arange(8 * RATE) / RATE
        sweep = 0.5 * np.sin(2 * np.pi * 40 * 8 / np.log(300) * (300 ** (t / 8) - 1)).astype(np.float32)
        found = analysed(sweep)
        tops = []
        for low in (60, 240, 960, 3840):
            values = level(found, what="band", from_hz=low, to_hz=2 * low)
            loud = np.flatnonzero(values > 0.4) / PER_S
            # From 40 Hz on by a factor of 300 in 8 s.
            begin, end = (8 * np.log(f / 40) / np.log(300) for f in (low, 2 * low))
            self.assertAlmostEqual(loud[0], begin, delta=0.12)
            self.assertAlmostEqual(loud[-1], end, delta=0.12)
            tops.append(loud.mean())
        self.assertEqual(tops, sorted(tops))

    def test_it_rises_by_its_attack_and_falls_by_its_release(self) -> None:
        found = analysed(np.concatenate([np.zeros(RATE, np.float32), sine(1000, 2), np.zeros(2 * RATE, np.float32)]))
        values = level(found, attack_s=0.2, release_s=0.5)
        for after in (0.2, 0.4, 0.8):
            self.assertAlmostEqual(values[round((1 + after) * PER_S)], 0.5 * (1 - np.exp(-after / 0.2)), delta=0.02)
        for after in (0.5, 1.0):
            self.assertAlmostEqual(values[round((3 + after) * PER_S)], 0.5 * np.exp(-after / 0.5), delta=0.015)


class Strikes(unittest.TestCase):
    def test_clicks_are_found_where_they_are_no_more_and_no_fewer(self) -> None:
        at = [100, 48_000, 60_000, 100_123, 200_001, 209_601, 400_000]
        found = analysed(clicks(at, 10))
        self.assertEqual(len(found.onsets), len(at))
        np.testing.assert_allclose(found.onsets, np.array(at) / RATE, atol=1e-3)

    def test_soft_and_loud_ones_are_distinguished(self) -> None:
        found = analysed(clicks([48_000, 96_000, 144_000], 5, [0.8, 0.2, 0.4]))
        np.testing.assert_allclose(found.strengths, [1, 0.25, 0.5], atol=0.08)
        moments, _ = hearing._strikes(found, Hearing(what="onsets", threshold_db=-9))
        np.testing.assert_allclose(moments, [1, 3], atol=1e-3)
        values = level(found, what="onsets", release_s=0.1)
        self.assertAlmostEqual(values[PER_S], 1, delta=0.01)
        self.assertAlmostEqual(values[PER_S + 12], np.exp(-1), delta=0.02)

    def test_a_note_that_lasts_begins_once(self) -> None:
        note = np.concatenate([np.zeros(RATE, np.float32), sine(330, 3), np.zeros(RATE, np.float32)])
        note[RATE : RATE + 480] *= np.linspace(0, 1, 480)
        note[4 * RATE - 4800 : 4 * RATE] *= np.linspace(1, 0, 4800)
        found = analysed(note)
        self.assertEqual(len(found.onsets), 1)
        self.assertAlmostEqual(found.onsets[0], 1, delta=0.01)

    def test_silence_and_hiss_have_none_to_speak_of(self) -> None:
        for samples in (
            np.zeros(3 * RATE),
            np.zeros(0),
            np.full(200, 1e-5),
            np.random.default_rng(1).normal(0, 1e-6, RATE),
        ):
            found = analysed(samples.astype(np.float32))
            self.assertEqual((len(found.onsets), len(found.beats), found.tempo), (0, 0, 0.0))

    def test_tempo_and_beats(self) -> None:
        rng = np.random.default_rng(2)
        for bpm in (92, 128, 150):
            with self.subTest(bpm):
                out = np.zeros(20 * RATE, np.float32)
                wanted = np.arange(0.4, 19.5, 60 / bpm)
                for k, t in enumerate(wanted):
                    first, n = int(t * RATE), 6000
                    fades = np.exp(-np.arange(n) / 1000)
                    drum = np.sin(2 * np.pi * 55 * np.arange(n) / RATE) if k % 2 == 0 else rng.normal(0, 0.4, n)
                    out[first : first + n] += (0.7 * drum * fades).astype(np.float32)[: len(out) - first]
                found = analysed(out)
                self.assertAlmostEqual(found.tempo, bpm, delta=0.01 * bpm)
                gaps = np.array([np.abs(found.beats - t).min() for t in wanted])
                self.assertGreater(float((gaps < 0.02).mean()), 0.95)
                self.assertLessEqual(len(found.beats), len(wanted) + 1)


class Driving(unittest.TestCase):
    """A sound in a shot."""

    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def shot(self, samples: np.ndarray, emitter: dict[str, Any], **more: Any) -> Shot:
        sound = {"id": "s", "name": "Drum", **write(self.folder / "s.wav", samples), **more.pop("sound", {})}
        return parse_shot(
            {"width": 64, "height": 64, "last_frame": 99, "sounds": [sound], "emitters": [emitter], **more}
        )

    def by(self, **hears: Any) -> dict[str, Any]:
        given = {"attack_s": 0, "release_s": 0, **hears}
        return {
            "measure": "sound",
            "sound": "s",
            "low": 0,
            "high": 0.5,
            "makes_low": 0,
            "makes_high": 200,
            "combine": "add",
            "hears": given,
        }

    def test_a_rate_follows_it(self) -> None:
        samples = np.concatenate([np.zeros(RATE, np.float32), sine(500, 1), np.zeros(2 * RATE, np.float32)])
        shot = self.shot(samples, {"rate": {"value": 0, "source": self.by()}, "lifespan": 9, "cadence": "even"})
        found = Solver(shot)
        self.assertEqual(len(found.at(24)), 0)
        self.assertAlmostEqual(len(found.at(37)), 200 * 0.48, delta=4)
        self.assertAlmostEqual(len(found.at(99)), 200, delta=4)

    def test_any_number_and_place_and_the_camera_follow_it(self) -> None:
        samples = np.concatenate([np.zeros(RATE, np.float32), sine(500, 3)])
        emitter = {
            "across": {"value": 10, "source": self.by()}, "rate": 100, "lifespan": 1, "shape": {"kind": "point"}, "speed": 0,
            "size": {"value": 5, "reads": "life", "source": self.by()}, "stays": "along",
        }  # fmt: skip
        camera = {"pan": {"value": 0, "source": self.by() | {"makes_high": 30}}}
        shot = self.shot(samples, emitter, camera=camera)
        readings = Readings(shot)
        self.assertAlmostEqual(readings.now(shot.emitters[0].across, 2.0), 210, delta=3)
        self.assertAlmostEqual(readings.now(shot.camera.pan, 2.0), 30, delta=0.5)
        p = Solver(shot).at(50)
        np.testing.assert_allclose(p.position[:, 0], 210, atol=3)
        np.testing.assert_allclose(p.size, 205, atol=3)
        self.assertTrue((Solver(shot).at(20).size == 5).all())

    def test_bursts_are_born_on_onsets_to_the_sample(self) -> None:
        at = [12_000, 60_000, 100_000]
        emitter = {"id": "e", "rate": 0, "lifespan": 0, "bursts": [{"count": 7, "sound": "s"}]}
        shot = self.shot(clicks(at, 4), emitter, sound={"offset_s": 0.1})
        found = Solver(shot)
        births = found.tracks[0].births
        _, moments = births.between(-1, 5)
        np.testing.assert_allclose(moments, np.repeat(np.array(at) / RATE + 0.1, 7), atol=1e-3)
        self.assertEqual([len(found.at(frame)) for frame in (8, 9, 33, 34, 99)], [0, 7, 7, 14, 21])
        # At the same visit in any order, and at any rate.
        other = Solver(shot.model_copy(update={"rate": "50", "last_frame": 199}))
        np.testing.assert_array_equal(other.at(120).position, found.at(60).position)

    def test_a_curve_bends_it_and_off_is_silence(self) -> None:
        curve = {"points": [{"at": 0, "value": 0, "joint": "hold"}, {"at": 0.6, "value": 1, "joint": "hold"}]}
        half = sine(500, 4, 0.25)
        for size, wanted in ((half, 0), (half * 1.5, 200)):
            shot = self.shot(size, {"across": {"value": 0, "source": self.by(curve=curve)}})
            self.assertEqual(Readings(shot).now(shot.emitters[0].across, 2.0), wanted)
        shot = self.shot(half, {"across": {"value": 3, "source": self.by()}}, sound={"on": False})
        self.assertEqual(Readings(shot).now(shot.emitters[0].across, 2.0), 3)

    def test_the_plates_own_goes_with_it_and_a_loop_comes_round(self) -> None:
        samples = np.concatenate([sine(500, 1), np.zeros(3 * RATE, np.float32)])
        given = {"across": {"value": 0, "source": self.by()}, "lifespan": 1}
        shot = self.shot(samples, given, sound={"of_plate": True}, plate={"media": "p.png", "offset_s": 2}, loop=True)
        readings = Readings(shot)
        values = readings.number(shot.emitters[0].across, np.array([1.0, 2.5, 3.5, 6.5]))
        np.testing.assert_allclose(values, [0, 200, 0, 200], atol=8)

    def test_other_rates_and_files(self) -> None:
        path = self.folder / "o.wav"
        write(path, clicks([22_050], 2)[:88_200], 44_100)
        found = listened(path)
        self.assertEqual((found.rate, found.channels), (RATE, 1))
        self.assertAlmostEqual(analysed(samples_of(path)).onsets[0], 0.5, delta=2e-3)
        # Of floats, what is no number is silence.
        floats = clicks([24_000], 1).astype("<f4")
        floats[40_000:40_010] = np.nan
        floats[41_000] = np.inf
        head = struct.pack("<4sI4s4sIHHIIHH4sI", b"RIFF", 36 + floats.nbytes, b"WAVE", b"fmt ", 16, 3, 1, RATE, 4 * RATE, 4, 32,
                           b"data", floats.nbytes)  # fmt: skip
        path.write_bytes(head + floats.tobytes())
        heard = analysed(samples_of(path))
        self.assertTrue(np.isfinite(heard.rms).all() and np.isfinite(heard.power).all())
        np.testing.assert_allclose(heard.onsets, [0.5], atol=1e-3)
        (self.folder / "n.wav").write_bytes(b"RIFF none")
        with self.assertRaisesRegex(IsbjornError, "this sound cannot be read"):
            listened(self.folder / "n.wav")

    def test_cached_points_are_used_and_damaged_ones_computed_again(self) -> None:
        self.addCleanup(LASTING.clear)
        path, shared_cache = self.folder / "s.wav", SharedCache(self.folder / "cache", 64 << 20)
        digest = write(path, sine(100, 2))["digest"]
        seconds, tempo, onsets = prepared(str(path), digest, str(shared_cache.folder), shared_cache.limit_bytes)
        self.assertEqual((round(seconds, 6), tempo, onsets), (2, 0.0, 1))
        kept = hearing._stored(digest)
        assert kept is not None
        np.testing.assert_array_equal(kept.rms, analysed(samples_of(path)).rms)
        shared_cache.put(hearing._GROUP, digest, [np.zeros(9, np.uint8)])
        self.assertIsNone(hearing._stored(digest))

    def test_ties_are_held(self) -> None:
        shot = self.shot(sine(100, 1), {"across": {"value": 0, "source": self.by()}})
        given = shot.model_dump(mode="json")
        with self.assertRaisesRegex(IsbjornError, "not in the cast"):
            parse_shot({**given, "sounds": []})
        with self.assertRaisesRegex(IsbjornError, "of which sound"):
            parse_shot({"emitters": [{"across": {"value": 0, "source": {"measure": "sound"}}}]})
        with self.assertRaisesRegex(IsbjornError, "is empty"):
            parse_shot(
                {
                    **given,
                    "emitters": [{"across": {"value": 0, "source": self.by(what="band", from_hz=300, to_hz=200)}}],
                }
            )

    def test_it_is_in_movies_at_its_place_and_level(self) -> None:
        shot = self.shot(clicks([24_000, 72_000], 3), {"rate": 1}, sound={"offset_s": 0.5, "gain_db": -6})
        *_, path = deliver(shot, self.folder / "out", "a{version}", format="png8", first=10, last=59, processes=1)
        with wave.open(str(path)) as found:
            self.assertEqual((found.getframerate(), found.getnchannels(), found.getnframes()), (RATE, 2, 96_000))
            raw = np.frombuffer(found.readframes(96_000), np.uint8).reshape(-1, 2, 3)
        values = (
            raw[..., 0].astype(np.int32)
            | raw[..., 1].astype(np.int32) << 8
            | raw[..., 2].astype(np.int8).astype(np.int32) << 16
        ) / 2**23
        # Frame 10 is 0.4 s; the first click 1 s, the second 2 s.
        loud = np.flatnonzero(np.abs(values[:, 0]) > 0.3)
        self.assertAlmostEqual(loud[0], 0.6 * RATE + 20, delta=20)
        self.assertAlmostEqual(loud[-1], 1.6 * RATE + 20, delta=20)
        self.assertAlmostEqual(float(np.abs(values).max()), 0.8 * 10 ** (-6 / 20), delta=0.02)
        quiet = self.shot(clicks([24_000], 3), {"rate": 1}, sound={"heard": False})
        made = deliver(quiet, self.folder / "out", "b{version}", format="png8", first=0, last=1, processes=1)
        self.assertEqual([p.suffix for p in made], [".png", ".png"])

    def test_states_depend_on_its_values_and_not_on_the_playback_volume(self) -> None:
        given = {"rate": {"value": 0, "source": self.by()}}
        motion = lambda **more: Solver(self.shot(sine(100, 1), given, sound=more)).tracks[0].motion  # noqa: E731
        self.assertEqual(motion(), motion(gain_db=-3, heard=False, name="Other"))
        self.assertNotEqual(motion(), motion(offset_s=0.1))


if __name__ == "__main__":
    unittest.main()
