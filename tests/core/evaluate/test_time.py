"""Exact rates and timecode."""

import unittest
from fractions import Fraction

from hypothesis import given
from hypothesis import strategies as st

from isbjorn.core.time import frame_rate, lattice_index, rate_text, seconds_of_frame, timecode


class FrameRates(unittest.TestCase):
    def test_decimals_of_the_trade_are_read_as_exact_rates(self) -> None:
        for text, exact in (
            ("29.97", Fraction(30000, 1001)),
            ("23.976", Fraction(24000, 1001)),
            ("59.94", Fraction(60000, 1001)),
        ):
            self.assertEqual(frame_rate(text), exact)
        self.assertEqual(frame_rate(25), 25)
        self.assertEqual(rate_text(frame_rate("30000/1001")), "30000/1001")

    def test_what_is_no_rate_is_refused(self) -> None:
        for text in ("0", "-25", "fast", "1/0", "nan", "inf", "100000"):
            with self.subTest(text), self.assertRaises(ValueError):
                frame_rate(text)

    def test_no_drift_after_a_day_of_frames(self) -> None:
        frames = 24 * 3600 * 30
        self.assertEqual(seconds_of_frame(frames, 0, Fraction(30000, 1001)), Fraction(frames * 1001, 30000))

    @given(st.integers(-10_000, 10_000), st.sampled_from(["24", "25", "30000/1001", "60"]))
    def test_the_lattice_step_is_the_last_at_or_before_a_frame(self, frame: int, rate: str) -> None:
        seconds = seconds_of_frame(frame, 0, frame_rate(rate))
        index = lattice_index(seconds, 60)
        self.assertTrue(Fraction(index, 60) <= seconds < Fraction(index + 1, 60))


class Timecode(unittest.TestCase):
    def test_published_values(self) -> None:
        # SMPTE ST 12-1: frames 00 and 01 of each minute are dropped, but for every tenth.
        drop, plain = Fraction(30000, 1001), Fraction(25)
        cases = (
            (0, "00:00:00;00"),
            (1799, "00:00:59;29"),
            (1800, "00:01:00;02"),
            (17982, "00:10:00;00"),
            (107892, "01:00:00;00"),
        )
        for frame, text in cases:
            self.assertEqual(timecode(frame, drop), text)
        self.assertEqual(timecode(90_000 + 13, plain), "01:00:00:13")
        self.assertEqual(timecode(1800, Fraction(60000, 1001)), "00:00:30;00")

    @given(st.integers(0, 2_589_407))
    def test_drop_frame_counts_every_frame_once(self, frame: int) -> None:
        self.assertNotEqual(timecode(frame, Fraction(30000, 1001)), timecode(frame + 1, Fraction(30000, 1001)))


if __name__ == "__main__":
    unittest.main()
