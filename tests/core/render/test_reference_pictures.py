"""The tiled drawing against a plain one: every body over the whole picture, one after the other, in float64."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from isbjorn.core.document import Round
from isbjorn.core.render.raster.discs import TILE_H, TILE_W, draw, records_of
from isbjorn.core.render.raster.profiles import SMALLEST, SPECK_AREA, area, edge, mean_cover, pack_body

HARD, SOFT = 0, 1


def scene(seed: int, count: int, width: int, height: int, largest: float) -> tuple[np.ndarray, ...]:
    rng = np.random.default_rng(seed)
    centre = (rng.random((count, 2)) * [width + 40, height + 40] - 20).astype(np.float32)
    radius = (largest * rng.random(count) ** 3 + 0.05).astype(np.float32)
    opacity = rng.random(count).astype(np.float32)
    profile = rng.integers(0, 2, count)
    inner = np.where(profile == HARD, 1.0, rng.choice([0.0, 0.4, 0.9], count))
    look = np.stack([*rng.random((3, count)) * 3, rng.integers(0, 2, count), profile, inner], axis=1).astype(np.float32)
    return centre, radius, opacity, look


def weight(q: np.ndarray, soft: bool) -> np.ndarray:
    q = np.clip(q, 0, 1)
    return q * q * (3 - 2 * q) if soft else q


def even(c0: float, c1: float, cx: float, cy: float, light: float, soft: bool) -> float:
    """The c0 with which the pixels of a small body add up to its light, by bisection."""
    y, x = np.mgrid[-8:9, -8:9] + 0.5
    away = (x - cx + math.floor(cx)) ** 2 + (y - cy + math.floor(cy)) ** 2
    low, high = 0.0, c0 + 2
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (middle, high) if weight(middle - c1 * away, soft).sum() < light else (low, middle)
    return low


def plainly(
    centre: np.ndarray, radius: np.ndarray, opacity: np.ndarray, look: np.ndarray, width: int, height: int
) -> np.ndarray:
    y, x = np.mgrid[0:height, 0:width] + 0.5
    out = np.zeros((height, width, 4))
    for (cx, cy), r, a, (red, green, blue, covers, profile, inner) in zip(
        centre.astype(float), radius.astype(float), opacity.astype(float), look.astype(float), strict=True
    ):
        size = math.pi * r * r * mean_cover(int(profile), inner)
        soft = profile == SOFT
        if size < SPECK_AREA:
            # The quadratic B-spline, a partition of unity (de Boor 1978).
            tent = [
                np.where(np.abs(d) < 0.5, 0.75 - d * d, np.where(np.abs(d) < 1.5, 0.5 * (1.5 - np.abs(d)) ** 2, 0))
                for d in (x - cx, y - cy)
            ]
            w = tent[0] * tent[1] * size
        else:
            smallest = math.pi * SMALLEST**2 / 2
            if size < smallest and r < SMALLEST:
                a, r, inner, soft, size = a * size / smallest, SMALLEST, 0.0, True, smallest
            c0, c1 = edge(inner, r, SOFT if soft else HARD)
            if r < 3.6:
                c0 = even(c0, c1, cx, cy, size, soft)
            w = weight(c0 - c1 * ((x - cx) ** 2 + (y - cy) ** 2), soft)
        w = w * a
        out = out * (1 - covers * w[..., None]) + w[..., None] * [red, green, blue, covers]
    return out


class Reference(unittest.TestCase):
    def check(self, seed: int, count: int, width: int, height: int, largest: float) -> None:
        bodies = scene(seed, count, width, height, largest)
        np.testing.assert_allclose(draw(*bodies, width, height), plainly(*bodies, width, height), atol=3e-4, rtol=3e-4)

    def test_tiny_bodies(self) -> None:
        self.check(1, 1500, 150, 90, 1.5)

    def test_bodies_of_all_sizes(self) -> None:
        self.check(2, 300, 200, 110, 60)

    def test_a_single_body_over_many_tiles(self) -> None:
        self.check(3, 1, 4 * TILE_W + 5, 4 * TILE_H + 3, 90)

    @settings(max_examples=15)
    @given(st.integers(0, 10**6), st.integers(1, 150), st.integers(1, 140), st.floats(0.2, 25))
    def test_any_picture_size(self, seed: int, width: int, height: int, largest: float) -> None:
        self.check(seed, 40, width, height, largest)


class Profiles(unittest.TestCase):
    @given(st.floats(1.06, 500), st.floats(0, 1), st.sampled_from([HARD, SOFT]))
    def test_an_edge_is_at_least_a_pixel_wide_and_keeps_the_area(
        self, radius: float, inner: float, profile: int
    ) -> None:
        c0, c1 = edge(inner, radius, profile)
        outside, inside = math.sqrt(c0 / c1), math.sqrt(max(0.0, (c0 - 1) / c1))
        self.assertGreaterEqual(outside - inside, 1 - 1e-6)
        # q falls evenly in r²: the area is that of the mean of the two radii's squares.
        self.assertAlmostEqual((outside**2 + inside**2) / 2, radius**2 * (1 + inner**2) / 2, delta=1e-3 * radius**2)

    @settings(deadline=None)
    @given(
        st.floats(0.05, 8),
        st.sampled_from([(HARD, 1.0), (SOFT, 0.9), (SOFT, 0.5), (SOFT, 0.0)]),
        st.floats(0, 1),
        st.floats(0, 1),
    )
    def test_light_does_not_depend_on_the_sub_pixel_position(
        self, radius: float, kind: tuple[int, float], x: float, y: float
    ) -> None:
        look = np.array([[1, 1, 1, 1, *kind]], np.float32)
        centre = np.array([[16 + x, 16 + y]], np.float32)
        picture = draw(centre, np.array([radius], np.float32), np.ones(1, np.float32), look, 32, 32)
        light = math.pi * radius**2 * mean_cover(*kind)
        self.assertAlmostEqual(float(picture[..., 3].sum()) / light, 1, delta=0.015)
        self.assertLessEqual(float(picture[..., 3].max()), 1 + 1e-6)

    def test_softness_is_the_share_of_the_radius_that_is_edge(self) -> None:
        self.assertEqual(pack_body(Round.model_validate({"softness": 30})), (SOFT, 0.7))
        self.assertEqual(pack_body(Round(kind="hard disc")), (HARD, 1.0))
        self.assertAlmostEqual(area(Round(kind="hard disc"), 2), 4 * math.pi)
        self.assertAlmostEqual(area(Round(), 2), 2 * math.pi)

    def test_records_are_finite_for_any_body(self) -> None:
        radius = np.array([0, 1e-30, 1e-3, 0.7, 1.4999, 1.5, 1e4], np.float32)
        look = np.tile(np.array([1, 1, 1, 1, SOFT, 0.5], np.float32), (len(radius), 1))
        centre = np.zeros((len(radius), 2), np.float32)
        self.assertTrue(np.isfinite(records_of(centre, radius, np.ones(len(radius), np.float32), look)).all())


if __name__ == "__main__":
    unittest.main()
