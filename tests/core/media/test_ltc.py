"""Linear timecode: what is read is what was sent, through noise, at any level, in pieces; and nothing out of other sounds."""

from __future__ import annotations

import tempfile
import unittest
import wave
from pathlib import Path

import numpy as np

from isbjorn.core.errors import IsbjornError
from isbjorn.core.media.read.ltc import RATES, Reader, timecode_in, written
from isbjorn.core.media.read.sound import listened


class Reading(unittest.TestCase):
    def test_each_rate_says_its_seconds_at_the_end_of_its_frames(self) -> None:
        for rate in RATES:
            start = round(rate) * (3600 + 23 * 60 + 45) + 7
            found = Reader(48_000).feed(written(start, 50, rate))
            # The first one is only known by the second.
            self.assertEqual(len(found), 48, rate)
            for n, reported in enumerate(found, 2):
                self.assertEqual(reported.rate, rate)
                # The word is over where the next frame begins.
                self.assertAlmostEqual(reported.sample / 48_000, n / rate, delta=2 / 48_000)
                frame = start + n - 1
                seconds = frame // round(rate) + (frame % round(rate) + 1) / rate
                self.assertAlmostEqual(reported.seconds, seconds, delta=1e-9)

    def test_pieces_noise_level_and_turned_round(self) -> None:
        clean = written(90_000, 40, 25, 44_100)
        noise = np.random.default_rng(2).normal(0, 1, len(clean)).astype(np.float32)
        for samples in (clean * 0.1, -clean, clean + 0.05 * noise, clean * 0.2 + 0.1):
            reader, found = Reader(44_100), []
            for first in range(0, len(samples), 777):
                found += reader.feed(samples[first : first + 777])
            self.assertGreater(len(found), 36)
            self.assertAlmostEqual(found[-1].seconds, 3600 + 40 / 25, delta=0.05)

    def test_a_gap_and_a_jump_are_found_again(self) -> None:
        parts = [written(0, 20, 25), np.zeros(9600, np.float32), written(25 * 3600 * 10, 20, 25)]
        found = Reader(48_000).feed(np.concatenate(parts))
        self.assertAlmostEqual(found[-1].seconds, 36_000 + 20 / 25, delta=0.05)
        self.assertTrue(all(reported.seconds < 1 or reported.seconds >= 36_000 for reported in found))

    def test_other_sounds_say_nothing(self) -> None:
        t = np.arange(96_000) / 48_000
        draws = np.random.default_rng(1)
        for samples in (
            np.sin(2 * np.pi * 1000 * t),
            np.sin(2 * np.pi * 2000 * t),
            draws.uniform(-1, 1, 96_000),
            0 * t,
        ):
            self.assertEqual(Reader(48_000).feed(samples.astype(np.float32)), [])
        self.assertEqual(Reader(48_000).feed(np.zeros(0, np.float32)), [])


class Files(unittest.TestCase):
    def test_a_file_says_where_it_lies(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "tape.wav"
            samples = np.concatenate([np.zeros(24_000, np.float32), written(25 * 3600 * 10, 100, 25)])
            with wave.open(str(path), "wb") as out:
                out.setparams((1, 2, 48_000, 0, "NONE", ""))
                out.writeframes((samples * 32767).astype("<i2").tobytes())
            found = timecode_in(str(path))
            assert found is not None
            at_s, seconds, rate = found
            self.assertEqual(rate, 25)
            self.assertAlmostEqual(seconds - at_s, 36_000 - 0.5, delta=1e-4)
            self.assertEqual(listened(path).rate, 48_000)
            path.write_bytes(b"no sound")
            with self.assertRaises(IsbjornError):
                timecode_in(str(path))


if __name__ == "__main__":
    unittest.main()
