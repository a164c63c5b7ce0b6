"""Curves and gradients: published values, no overshoot, never below zero."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from isbjorn.core import Solver
from isbjorn.core.document import Curve, Gradient
from isbjorn.core.evaluate import curves, gradients
from isbjorn.core.evaluate.presets import presets
from tests.shots import one_emitter


def curve_of(*points: tuple[float, float], joint: str = "smooth", **more: object) -> Curve:
    return Curve.model_validate({"points": [{"at": a, "value": v, "joint": joint, **more} for a, v in points]})


class Curves(unittest.TestCase):
    def test_css_cubic_bezier_published_values(self) -> None:
        # CSS Easing: `ease` is cubic-bezier(0.25, 0.1, 0.25, 1); at 0.5 its value is 0.8024.
        ease = curve_of((0, 0), (1, 1), ease=(0.25, 0.1, 0.25, 1.0))
        np.testing.assert_allclose(curves.evaluate(ease, [0, 0.5, 1]), [0, 0.80240, 1], atol=1e-4)
        linear = curve_of((0, 0), (1, 1), ease=(0.0, 0.0, 1.0, 1.0))
        np.testing.assert_allclose(curves.evaluate(linear, [0.25, 0.7]), [0.25, 0.7], atol=1e-9)

    def test_straight_and_hold(self) -> None:
        self.assertAlmostEqual(curves.evaluate(curve_of((0, 0), (1, 4), joint="straight"), 0.25)[0], 1)
        held = curves.evaluate(curve_of((0, 1), (0.5, 3), (1, 3), joint="hold"), [0.49, 0.5])
        np.testing.assert_array_equal(held, [1, 3])

    def test_an_exact_value_at_an_exact_age_with_a_smooth_joint(self) -> None:
        falling = curve_of((0, 1), (0.2, 0.1), (1, 0.1))
        self.assertAlmostEqual(curves.evaluate(falling, 0.2)[0], 0.1, places=12)
        slope = np.diff(curves.evaluate(falling, [0.2 - 1e-5, 0.2, 0.2 + 1e-5])) / 1e-5
        self.assertAlmostEqual(slope[0], slope[1], delta=0.002)

    @given(st.lists(st.tuples(st.floats(0, 1), st.floats(0, 10)), min_size=1, max_size=8))
    def test_a_smooth_curve_never_leaves_its_points(self, points: list[tuple[float, float]]) -> None:
        ordered = sorted(points)
        values = curves.evaluate(curve_of(*ordered), np.linspace(0, 1, 101))
        heights = [v for _, v in ordered]
        self.assertGreaterEqual(values.min(), min(heights) - 1e-9)
        self.assertLessEqual(values.max(), max(heights) + 1e-9)

    def test_a_table_is_never_below_zero(self) -> None:
        dip = Curve.model_validate(
            {"points": [{"at": 0, "value": 0, "ease": (0.5, -2.0, 0.5, 1.0)}, {"at": 1, "value": 1}]}
        )
        self.assertEqual(curves.table(dip).min(), 0)
        self.assertEqual(curves.table(None).tolist(), [1.0] * curves.TABLE)

    def test_presets_are_whole_curves(self) -> None:
        found = presets()
        self.assertGreater(len(found.curves), 8)
        self.assertTrue(all(len(p.picture) == 49 and min(p.picture) >= 0 for p in found.curves))


class Gradients(unittest.TestCase):
    def test_oklab_published_values(self) -> None:
        # Ottosson 2020: white is L = 1; pure sRGB red is about (0.628, 0.225, 0.126).
        np.testing.assert_allclose(gradients.oklab(np.array([1.0, 1.0, 1.0])), [1, 0, 0], atol=1e-3)
        np.testing.assert_allclose(gradients.oklab(np.array([1.0, 0, 0])), [0.62796, 0.22486, 0.12585], atol=1e-3)
        some = np.random.default_rng(1).random((50, 3))
        np.testing.assert_allclose(gradients.from_oklab(gradients.oklab(some)), some, atol=1e-9)

    def test_colour_and_opacity_are_separate_tracks(self) -> None:
        found = gradients.table(Gradient.model_validate({
            "colours": [{"at": 0, "colour": "#ff0000"}, {"at": 1, "colour": "#0000ff"}],
            "opacities": [{"at": 0.5, "opacity": 1}, {"at": 1, "opacity": 0}],
        }))  # fmt: skip
        np.testing.assert_allclose(found[0], [1, 0, 0, 1], atol=1e-3)
        np.testing.assert_allclose(found[-1], [0, 0, 1, 0], atol=1e-3)
        self.assertAlmostEqual(found[768, 3], 0.5, delta=0.01)

    def test_hex_round_trip(self) -> None:
        for colour in ("#000000", "#ffffff", "#7cc7f2", "#010203"):
            self.assertEqual(gradients.linear_to_hex(gradients.hex_to_linear(colour)), colour)


class Ages(unittest.TestCase):
    def test_each_particle_reads_its_curve_at_its_own_age(self) -> None:
        size = {
            "value": 10,
            "over_life": {
                "points": [{"at": 0, "value": 0, "joint": "straight"}, {"at": 1, "value": 1, "joint": "straight"}]
            },
        }
        found = Solver(one_emitter(emitter={"size": size, "lifespan": {"value": 2, "spread": 1}})).at(120)
        np.testing.assert_allclose(found.size, 10 * found.age01, atol=0.02)

    def test_fade_last_ends_at_nothing(self) -> None:
        found = Solver(one_emitter(emitter={"fade_last": 25})).at(120)
        np.testing.assert_allclose(found.opacity, np.minimum(1, (1 - found.age01) / 0.25), atol=1e-3)

    def test_spread_never_makes_a_negative_size_or_opacity(self) -> None:
        found = Solver(
            one_emitter(emitter={"size": {"value": 1, "spread": 5}, "opacity": {"value": 5, "spread": 90}})
        ).at(100)
        self.assertTrue((found.size >= 0).all() and (found.opacity >= 0).all() and (found.opacity <= 1).all())


if __name__ == "__main__":
    unittest.main()
