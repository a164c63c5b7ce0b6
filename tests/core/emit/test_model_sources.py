"""Models as sources: births on faces, edges and corners, and inside, against closed forms."""

import unittest
from typing import Any

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Shot
from isbjorn.core.document.parts.models import ModelShape
from isbjorn.core.emit.shapes import measure, outline
from isbjorn.core.emit.shapes.base import ShapeSetting
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.frame import Solver
from tests.shots import chi_square


def shot(shape: dict[str, Any], count: int = 4000, **more: Any) -> Shot:
    e = {
        "id": "e", "rate": 0, "bursts": [{"count": count}], "lifespan": 0, "speed": 0,
        "shape": {"kind": "model", "size": 200} | shape,
    }  # fmt: skip
    return Shot.model_validate({"emitters": [e | more]})


def places(shape: dict[str, Any], **more: Any) -> Doubles:
    return Solver(shot(shape, **more)).at(1).position.astype(np.float64)


class Places(unittest.TestCase):
    def test_faces_are_even_by_area(self) -> None:
        # A box of 200 × 100 × 50: two faces each of 20,000, 10,000 and 5,000 px².
        p = places({"form": "box", "height": 50, "deep": 25})
        on = [np.isclose(np.abs(p[:, axis]), half, atol=1e-3).sum() for axis, half in ((2, 25), (1, 50), (0, 100))]
        self.assertEqual(sum(on), len(p))
        np.testing.assert_allclose(np.array(on) / len(p), np.array([40, 20, 10]) / 70, atol=0.03)

    def test_a_face_is_even_all_over(self) -> None:
        for spacing in ("random", "even"):
            p = places({"form": "card"}, spacing=spacing, count=6400)
            counts = np.histogram2d(p[:, 0], p[:, 1], bins=8, range=[[-100, 100]] * 2)[0]
            self.assertLess(chi_square(counts), 3.5, spacing)

    def test_edges_are_even_by_length_and_only_the_sharp_ones(self) -> None:
        p = places({"form": "box", "births": "edges"})
        flush = np.isclose(np.abs(p), 100, atol=1e-3).sum(axis=1)
        self.assertTrue((flush >= 2).all())
        along = np.where(np.isclose(np.abs(p), 100, atol=1e-3), np.nan, p)
        self.assertLess(chi_square(np.histogram(along[~np.isnan(along)], bins=20, range=(-100, 100))[0]), 3.5)
        # A cylinder's round side has no sharp edge, its two ends have.
        p = places({"form": "cone", "top": 100, "births": "edges", "sharp": 30})
        np.testing.assert_allclose(np.abs(p[:, 0]), 100, atol=1e-3)

    def test_corners(self) -> None:
        p = places({"form": "box", "births": "corners"}, count=800)
        np.testing.assert_allclose(np.abs(p), 100, atol=1e-3)
        self.assertEqual(len(np.unique(np.round(p), axis=0)), 8)

    def test_inside_is_even_by_volume(self) -> None:
        # In a ball, a half of the volume is within 0.7937 of the radius.
        r = np.linalg.norm(places({"form": "ball", "births": "inside", "detail": 4}, count=8000), axis=1)
        self.assertLessEqual(float(r.max()), 100.01)
        self.assertAlmostEqual(float((r < 79.37).mean()), 0.5, delta=0.02)
        # Not in the hole of a ring.
        ring = places({"form": "torus", "births": "inside", "thickness": 20})
        flat = np.hypot(ring[:, 0], ring[:, 1])
        self.assertTrue(((flat - 80) ** 2 + ring[:, 2] ** 2 < 20.5**2).all())

    def test_it_is_turned_and_sized(self) -> None:
        p = places({"form": "card", "height": 1, "angle": 90})
        self.assertLess(float(np.abs(p[:, 0]).max()), 1.1)
        self.assertGreater(float(np.abs(p[:, 1]).max()), 95)
        p = places({"form": "card", "height": 100, "turn_y": 90})
        self.assertLess(float(np.abs(p[:, 0]).max()), 0.1)
        self.assertGreater(float(np.abs(p[:, 2]).max()), 95)

    def test_births_leave_along_the_normals(self) -> None:
        moving = shot({"form": "box"}, toward="outward", in_depth=True, spread=0, speed=100)
        p = Solver(moving).at(0)
        v = Solver(moving).at(1).velocity
        self.assertEqual(len(p), len(v))
        np.testing.assert_allclose(np.sort(np.abs(v), axis=1)[:, :2], 0, atol=0.01)
        np.testing.assert_allclose(np.abs(v).max(axis=1), 100, atol=0.01)


class Measures(unittest.TestCase):
    def setUp(self) -> None:
        self.setting = ShapeSetting(np.zeros(1), Readings(Shot()))

    def measured(self, **given: Any) -> tuple[float, int] | None:
        return measure(ModelShape.model_validate({"size": 200} | given), self.setting)

    def test_lengths_areas_and_volumes_in_px(self) -> None:
        self.assertAlmostEqual(self.measured(births="faces")[0], 6 * 200**2, delta=1)  # type: ignore[index]
        self.assertAlmostEqual(self.measured(births="edges")[0], 12 * 200, delta=0.1)  # type: ignore[index]
        self.assertAlmostEqual(self.measured(births="inside")[0], 200**3, delta=10)  # type: ignore[index]

    def test_its_outline_is_its_edges(self) -> None:
        lines = outline(ModelShape(), self.setting)
        self.assertEqual(len(lines), 12)
        np.testing.assert_allclose(np.abs(np.concatenate(lines)), 100, atol=1e-3)


if __name__ == "__main__":
    unittest.main()
