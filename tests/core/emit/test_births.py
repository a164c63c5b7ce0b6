"""Births: exact moments and counts, even places, true angles, limits that are reported."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from isbjorn.core import Solver
from isbjorn.core.document import Emitter
from isbjorn.core.emit.admission import fair_shares
from isbjorn.core.emit.shapes import outline
from isbjorn.core.emit.shapes.base import ShapeSetting
from isbjorn.core.evaluate.readings import Readings
from tests.shots import births, chi_square, newborn, one_emitter


class Moments(unittest.TestCase):
    def births(self, **fields: object) -> tuple[int, np.ndarray]:
        numbers, moments = births(**fields).between(-1e9, 10.0)
        np.testing.assert_array_equal(np.sort(numbers), np.arange(len(numbers)))
        return (int(numbers[0]) if len(numbers) else 0), moments

    def test_the_count_is_the_integral_of_the_rate(self) -> None:
        self.assertEqual(len(self.births(rate=123.5, cadence="even")[1]), 1236)
        self.assertAlmostEqual(len(self.births(rate=123.5, cadence="jittered")[1]), 1235, delta=1)
        self.assertAlmostEqual(len(self.births(rate=1000, cadence="random")[1]), 10_000, delta=500)

    def test_what_they_come_to_is_reckoned_as_it_is_listed(self) -> None:
        keys = {"value": 0, "keys": [{"at_s": 0, "value": 10, "joint": "straight"}, {"at_s": 6, "value": 300}]}
        bursts = [{"at_s": 1, "count": 500, "over_s": 2, "times": 3, "every_s": 2.5}, {"at_s": 2, "count": 90}]
        for fields in (
            {"rate": 80},
            {"rate": keys, "end_s": 4},
            {"rate": 0, "bursts": bursts},
            {"rate": 40, "bursts": bursts},
        ):
            some = births(**fields)
            for after, until in ((-1, 10), (0.5, 3.2), (1.5, 2.0), (2.0, 2.0), (4.5, 9)):
                with self.subTest(fields=fields, after=after, until=until):
                    listed = len(some.between(after, until)[0])
                    self.assertAlmostEqual(some.about(after, until), listed, delta=2 + 0.01 * listed)

    def test_a_window_and_pre_roll_bound_the_births(self) -> None:
        first, moments = self.births(rate=50, start_s=2, end_s=4, pre_roll_s=1, cadence="even")
        self.assertEqual((first, len(moments)), (0, 150))
        self.assertEqual((moments[0], round(moments[-1], 6)), (1.0, 3.98))

    def test_one_birth_a_frame_falls_on_each_frame(self) -> None:
        _, moments = self.births(rate=25, cadence="even")
        np.testing.assert_allclose(np.diff(moments), 1 / 25)

    def test_jittered_births_keep_to_their_own_slot(self) -> None:
        _, moments = self.births(rate=10, cadence="jittered")
        np.testing.assert_array_equal(np.floor(moments * 10), np.arange(len(moments)))
        self.assertGreater(np.std(np.diff(moments)), 0.01)

    def test_random_gaps_are_exponential(self) -> None:
        gaps = np.diff(self.births(rate=2000, cadence="random")[1])
        self.assertAlmostEqual(gaps.std() / gaps.mean(), 1.0, delta=0.05)

    @settings(max_examples=60)
    @given(st.floats(0, 9), st.floats(0, 3), st.sampled_from(["even", "jittered", "random"]), st.floats(0.1, 500))
    def test_births_do_not_depend_on_how_time_is_divided(
        self, at: float, more: float, cadence: str, rate: float
    ) -> None:
        found = births(rate=rate, cadence=cadence, pre_roll_s=0.5)
        whole = found.between(-1.0, at + more)[1]
        parts = np.concatenate([found.between(-1.0, at)[1], found.between(at, at + more)[1]])
        np.testing.assert_array_equal(whole, parts)

    def test_no_rate_no_births(self) -> None:
        self.assertEqual(len(self.births(rate=0)[1]), 0)


class Places(unittest.TestCase):
    def test_disc_is_even_by_area(self) -> None:
        place, _ = newborn(shape={"kind": "disc", "radius": 80})
        radius, angle = np.hypot(place[0], place[1]), np.arctan2(place[1], place[0])
        self.assertLessEqual(radius.max(), 80.001)
        rings, sectors = (
            ((radius / 80) ** 2 * 16).astype(int).clip(0, 15),
            ((angle / math.tau + 0.5) * 16).astype(int).clip(0, 15),
        )
        self.assertLess(chi_square(np.bincount(rings * 16 + sectors, minlength=256)), 4)

    def test_rectangle_is_even_by_area_and_turned(self) -> None:
        place, _ = newborn(shape={"kind": "rectangle", "width": 200, "height": 50, "angle": 90})
        self.assertLess(np.abs(place[0]).max(), 25.001)
        cells = ((place[0] / 50 + 0.5) * 10).astype(int).clip(0, 9) * 10 + ((place[1] / 200 + 0.5) * 10).astype(
            int
        ).clip(0, 9)
        self.assertLess(chi_square(np.bincount(cells, minlength=100)), 4)

    def test_line_and_edges_are_even_by_length(self) -> None:
        line, _ = newborn(shape={"kind": "line", "length": 100, "angle": 0})
        self.assertLess(chi_square(np.bincount((line[0] + 50).astype(int).clip(0, 99), minlength=100)), 4)
        ring, _ = newborn(shape={"kind": "disc", "radius": 40, "fill": "edge"})
        np.testing.assert_allclose(np.hypot(ring[0], ring[1]), 40, rtol=1e-5)
        frame, _ = newborn(shape={"kind": "rectangle", "width": 300, "height": 100, "fill": "edge"})
        upright = np.isclose(np.abs(frame[0]), 150, atol=1e-3) & (np.abs(frame[1]) < 49.999)
        self.assertAlmostEqual(upright.mean(), 200 / 800, delta=0.01)

    def test_the_drawn_outline_is_exactly_what_is_filled(self) -> None:
        for shape in ({"kind": "disc", "radius": 60}, {"kind": "rectangle", "width": 90, "height": 40, "angle": 30}):
            emitter = Emitter.model_validate({"shape": shape})
            setting = ShapeSetting(np.zeros(1), Readings(one_emitter()))
            drawn = np.concatenate(outline(emitter.shape, setting))[:, :2]
            place, _ = newborn(shape=shape)
            for angle in np.linspace(0, math.pi, 7):
                way = np.array([math.cos(angle), math.sin(angle)])
                self.assertAlmostEqual(float((drawn @ way).max()), float((way @ place[:2]).max()), delta=1.2)


class Directions(unittest.TestCase):
    def angles(self, **fields: object) -> np.ndarray:
        _, velocity = newborn(speed=100, direction=90, **fields)
        return np.degrees(np.arctan2(velocity[1], velocity[0])) - 90

    def test_spread_is_the_full_angle_and_even(self) -> None:
        angles = self.angles(spread=60)
        self.assertTrue(-30.001 < angles.min() < -29.9 and 29.9 < angles.max() < 30.001)
        self.assertLess(chi_square(np.histogram(angles, 60, (-30, 30))[0]), 4)

    def test_all_round_is_all_round(self) -> None:
        self.assertLess(chi_square(np.histogram((self.angles(spread=360) + 360) % 360, 36, (0, 360))[0]), 4)

    def test_in_depth_the_cap_is_even(self) -> None:
        # Archimedes: on a sphere, height over the pole is even.
        for spread in (40.0, 180.0, 360.0):
            _, velocity = newborn(speed=100, direction=90, spread=spread, in_depth=True)
            height = velocity[1] / 100
            low = math.cos(math.radians(spread / 2))
            self.assertGreaterEqual(height.min(), low - 1e-5)
            self.assertLess(chi_square(np.histogram(height, 40, (low, 1))[0]), 4)

    def test_a_bell_gathers_in_the_middle_and_keeps_its_bounds(self) -> None:
        _, velocity = newborn(speed={"value": 100, "spread": 40, "spread_shape": "bell"})
        speed = np.hypot(velocity[0], velocity[1])
        self.assertTrue(speed.min() > 59.9 and speed.max() < 140.1)
        # A normal one that is cut at two of its deviations.
        self.assertAlmostEqual(float(np.std(speed)), 20 * 0.8796, delta=0.8)


class Limits(unittest.TestCase):
    def test_never_more_than_the_limit_and_the_rest_is_reported(self) -> None:
        solver = Solver(one_emitter(emitter={"rate": 1000, "limit": 300, "lifespan": 2}))
        for frame in (10, 60, 249):
            found = solver.at(frame)
            self.assertLessEqual(len(found), 300)
        self.assertEqual(len(found), 300)
        born = round(1000 * 249 / 25) + 1
        self.assertEqual(found.refused["e"], born - 5 * 300)

    def test_a_limit_that_does_not_bind_changes_nothing(self) -> None:
        free, bound = (Solver(one_emitter(emitter={"rate": 100, "limit": n})).at(100) for n in (10**6, 250))
        np.testing.assert_array_equal(free.position, bound.position)
        self.assertEqual(bound.refused, {})

    def test_small_demands_are_served_in_full(self) -> None:
        self.assertEqual(fair_shares([50, 5000, 900], [10**6] * 3, 1950), [50, 1000, 900])
        self.assertEqual(sum(fair_shares([1e9, 1e9, 1e9], [10**6] * 3, 100)), 100)

    def test_a_shot_limit_is_shared(self) -> None:
        shot = one_emitter(emitter={"rate": 1000}, limit=500)
        other = shot.emitters[0].model_copy(
            update={"id": "f", "rate": shot.emitters[0].rate.model_copy(update={"value": 50.0})}
        )
        found = Solver(shot.model_copy(update={"emitters": (*shot.emitters, other)})).at(200)
        self.assertAlmostEqual(int((found.emitter == 1).sum()), 100, delta=2)
        self.assertLessEqual(len(found), 500)


if __name__ == "__main__":
    unittest.main()
