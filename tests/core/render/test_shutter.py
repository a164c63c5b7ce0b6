"""What a shutter leaves of anything that changes, against 128 sharp moments."""

import unittest
from fractions import Fraction
from typing import Any

import numpy as np

from isbjorn.core import Solver, render_frame
from tests.core.simulate.test_forces import ONE
from tests.shots import one_emitter

MOMENTS = 128


class Mean(unittest.TestCase):
    def compare(self, emitter: dict[str, Any], frame: int = 25, angle: float = 180) -> tuple[float, float, float]:
        """Mean and largest error as shares of the peak, and that of the light as a share of it."""
        whole = {"width": 320, "height": 180, "last_frame": 99}
        emitter = {**ONE, "lifespan": 4, "blend": "add", **emitter}
        blurred = render_frame(one_emitter(emitter=emitter, camera={"shutter": angle}, **whole), frame)
        sharp = one_emitter(emitter=emitter, **whole)
        solver = Solver(sharp)
        mean = np.zeros_like(blurred, np.float64)
        for k in range(MOMENTS):
            at = frame + Fraction(2 * k + 1, 2 * MOMENTS) * Fraction(int(angle), 360)
            mean += render_frame(sharp, at, solver=solver) / MOMENTS
        error, there = np.abs(blurred - mean)[..., 0], mean[..., 0] > 0.01 * mean.max()
        light = abs(float(blurred[..., 0].sum()) / float(mean[..., 0].sum()) - 1)
        return float(error[there].mean() / mean.max()), float(error.max() / mean.max()), light

    def test_spin(self) -> None:
        for body in ({"kind": "square", "aspect": 20}, {"kind": "star"}):
            mean, most, light = self.compare({"body": body, "size": 90, "spin": 720})
            self.assertLess(mean, 0.03)
            self.assertLess(most, 0.15)
            self.assertLess(light, 0.01)

    def test_growth(self) -> None:
        grows = {"value": 60, "over_life": {"points": [{"at": 0.24, "value": 0.2}, {"at": 0.27, "value": 1.5}]}}
        for body in ({"kind": "hard disc"}, {"kind": "soft disc"}, {"kind": "star"}):
            mean, most, light = self.compare({"body": body, "size": grows})
            self.assertLess(mean, 0.03, body)
            self.assertLess(most, 0.15, body)
            self.assertLess(light, 0.03, body)

    def test_growth_under_an_open_shutter_all_the_frame(self) -> None:
        grows = {"value": 100, "over_life": {"points": [{"at": 0.25, "value": 1}, {"at": 0.26, "value": 2}]}}
        for body in ({"kind": "hard disc"}, {"kind": "soft disc"}, {"kind": "star"}):
            mean, most, light = self.compare({"body": body, "size": grows}, angle=360)
            self.assertLess(mean, 0.03, body)
            self.assertLess(most, 0.15, body)
            self.assertLess(light, 0.01, body)

    def test_small_discs_at_rest_are_as_bright_as_sharp_ones(self) -> None:
        for body in ("hard disc", "soft disc"):
            for size in (1, 2, 3, 4.4, 6):
                with self.subTest(body=body, size=size):
                    *_, light = self.compare({"body": {"kind": body}, "size": size, "speed": 0})
                    self.assertLess(light, 0.002)

    def test_what_grows_and_dies_or_is_born_meanwhile_keeps_its_light(self) -> None:
        points = [{"at": 0, "value": 0.2}, {"at": 0.5, "value": 1.5}, {"at": 1, "value": 0.3}]
        for body in ({"kind": "hard disc"}, {"kind": "star"}):
            for life in (0.03, 0.05, 1.02):
                for joint in (points, [*points[:2], {"at": 1, "value": 2}]):
                    with self.subTest(body=body, life=life):
                        grows = {"value": 60, "over_life": {"points": joint}}
                        born = {"bursts": [{"count": 1, "at_s": 0.005 if life < 1 else 0}]}
                        at = {"lifespan": life, "size": grows, **born}
                        *_, light = self.compare({"body": body, **at}, frame=0 if life < 1 else 25, angle=360)
                        self.assertLess(light, 0.01)

    def test_tumbling(self) -> None:
        for body in ({"kind": "square", "aspect": 1}, {"kind": "star"}):
            for spin in ({"spin_x": 720}, {"spin_y": 720, "turn_x": 30}):
                mean, most, light = self.compare({"body": body, "size": 90, **spin})
                self.assertLess(mean, 0.03, (body, spin))
                self.assertLess(most, 0.15, (body, spin))
                self.assertLess(light, 0.01, (body, spin))

    def test_small_fast_stars_leave_no_beads(self) -> None:
        mean, most, light = self.compare(
            {"body": {"kind": "star"}, "size": 6, "speed": 3000, "direction": 0, "across": -130}, frame=1
        )
        self.assertLess(mean, 0.03)
        self.assertLess(most, 0.15)
        self.assertLess(light, 0.01)

    def test_trails(self) -> None:
        mean, most, light = self.compare(
            {"size": 8, "speed": 900, "direction": 0, "across": -140, "trail": {"length": 4, "head_shown": False}},
            frame=6,
        )
        self.assertLess(mean, 0.03)
        self.assertLess(most, 0.15)
        self.assertLess(light, 0.01)


if __name__ == "__main__":
    unittest.main()
