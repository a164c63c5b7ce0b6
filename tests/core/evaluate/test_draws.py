"""Random numbers: published values, even, independent, and never in each other's way."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from isbjorn.core import random as draws
from isbjorn.core.random import draw01, draw_around, mix, stream_key

KEY = np.uint64(987_654_321)


def many(attribute: int, count: int = 20_000, key: np.uint64 = KEY) -> np.ndarray:
    return np.array([draw01(key, birth, attribute) for birth in range(count)])


class Mixing(unittest.TestCase):
    def test_published_values(self) -> None:
        # SplitMix64 (Steele, Lea, Flood 2014): the finaliser of 1 × golden gamma, 2 × …, from seed 0.
        golden, expected = 0x9E3779B97F4A7C15, (0xE220A8397B1DCDAF, 0x6E789E6AA1B965F4, 0x06C45D188009454F)
        for step, value in enumerate(expected, 1):
            self.assertEqual(int(mix(np.uint64(golden * step % 2**64))), value)

    def test_one_bit_changes_half_of_the_result(self) -> None:
        flips = []
        for bit in range(64):
            a, b = int(mix(np.uint64(12345))), int(mix(np.uint64(12345 ^ (1 << bit))))
            flips.append((a ^ b).bit_count())
        self.assertAlmostEqual(float(np.mean(flips)), 32, delta=2)
        self.assertGreater(min(flips), 14)

    def test_seeds_make_different_streams(self) -> None:
        keys = {int(stream_key(np.uint64(shot), np.uint64(emitter))) for shot in range(60) for emitter in range(60)}
        self.assertEqual(len(keys), 3600)


class Even(unittest.TestCase):
    def test_uniform(self) -> None:
        for attribute in (draws.SLOT, draws.SPEED, draws.FORCE_FIRST + 8):
            counts = np.histogram(many(attribute), 50, (0, 1))[0]
            statistic = ((counts - 400) ** 2 / 400).sum()
            self.assertLess(statistic, 49 + 4 * (2 * 49) ** 0.5)

    def test_attributes_and_neighbours_do_not_correlate(self) -> None:
        one, other = many(draws.SPEED), many(draws.SIZE)
        self.assertLess(abs(np.corrcoef(one, other)[0, 1]), 0.03)
        self.assertLess(abs(np.corrcoef(one[1:], one[:-1])[0, 1]), 0.03)
        self.assertLess(abs(np.corrcoef(one, many(draws.SPEED, key=np.uint64(987_654_322)))[0, 1]), 0.03)

    def test_pairs_fill_the_square(self) -> None:
        grid = np.histogram2d(many(draws.PLACE_A), many(draws.PLACE_B), 20, ((0, 1), (0, 1)))[0]
        statistic = ((grid - 50) ** 2 / 50).sum()
        self.assertLess(statistic, 399 + 4 * (2 * 399) ** 0.5)

    @given(st.integers(0, 2**63 - 1), st.integers(0, 2**40), st.integers(0, 10**6))
    def test_always_within_bounds_and_the_same(self, key: int, birth: int, attribute: int) -> None:
        value = draw01(np.uint64(key), birth, attribute)
        self.assertTrue(0 <= value < 1)
        self.assertEqual(value, draw01(np.uint64(key), birth, attribute))
        for bell in (False, True):
            self.assertTrue(-1 <= draw_around(np.uint64(key), birth, attribute, bell) <= 1)

    def test_a_bell_has_its_deviation_at_half(self) -> None:
        drawn = np.array([draw_around(KEY, birth, draws.SIZE, True) for birth in range(20_000)])
        self.assertAlmostEqual(float(drawn.mean()), 0, delta=0.01)
        within = float((np.abs(drawn) < 0.5).mean())
        self.assertAlmostEqual(within, 0.6827 / 0.9545, delta=0.01)

    def test_attribute_numbers_are_never_shared(self) -> None:
        names = [name for name in vars(draws) if name.isupper() and not name.startswith("_")]
        names = [name for name in names if isinstance(getattr(draws, name), int) and name != "FORCE_FIRST"]
        self.assertGreater(len(names), 15)
        numbers = [getattr(draws, name) for name in names]
        self.assertEqual(len(set(numbers)), len(names))
        self.assertLess(max(numbers), draws.FORCE_FIRST)


if __name__ == "__main__":
    unittest.main()
