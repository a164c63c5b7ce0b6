"""Guides and forecast: what is drawn is what is used, and what is foretold comes true."""

import unittest

import numpy as np

from isbjorn.core import Solver
from isbjorn.core.inspect.guides import guides
from isbjorn.core.media.exchange.points import write_points
from tests.core.media.test_media import InFolder
from tests.shots import drag, gravity, one_emitter


class Flights(unittest.TestCase):
    def test_a_predicted_path_is_the_path_that_is_flown(self) -> None:
        forces = [gravity(200), drag(0.4)]
        shot = one_emitter(
            emitter={"spread": 90, "speed": {"value": 150, "spread": 60}, "lifespan": {"value": 3, "spread": 1}},
            forces=forces,
        )
        flight = np.array(guides(shot).emitters[0].flights[7])
        found = Solver(shot)
        flown = []
        for frame in range(0, 120):
            particles = found.at(frame)
            at = np.flatnonzero(particles.id == 7)
            if len(at):
                flown.append(particles.position[at[0], :2] * [1, -1] + [640, 360])
        for place in flown[::10]:
            steps = np.diff(flight, axis=0)
            along = np.clip(((place - flight[:-1]) * steps).sum(1) / np.maximum((steps**2).sum(1), 1e-9), 0, 1)
            self.assertLess(np.linalg.norm(flight[:-1] + along[:, None] * steps - place, axis=1).min(), 1.5)

    def test_the_fan_is_a_second_long_and_as_wide_as_the_spread(self) -> None:
        fan = np.array(guides(one_emitter(emitter={"spread": 90, "speed": 200})).emitters[0].fan)
        self.assertEqual(fan[0].tolist(), [640, 360])
        np.testing.assert_allclose(np.linalg.norm(fan[1:-1] - fan[0], axis=1), 200, atol=0.02)
        np.testing.assert_allclose(fan[1], [640 - 200 / 2**0.5, 360 - 200 / 2**0.5], atol=0.02)


class Forecasts(unittest.TestCase):
    def test_alive_at_most_is_what_comes(self) -> None:
        shot = one_emitter(emitter={"rate": 300, "lifespan": {"value": 2, "spread": 0.5}, "cadence": "jittered"})
        forecast = guides(shot).emitters[0].forecast
        solver = Solver(shot)
        most = max(len(solver.at(f)) for f in range(0, 250, 5))
        self.assertTrue(0.75 * forecast.alive_at_most < most <= forecast.alive_at_most + 2)
        self.assertEqual((forecast.life_from_s, forecast.life_to_s), (1.5, 2.5))
        self.assertEqual(forecast.full_from_frame, 63)

    def test_a_short_limit_is_foretold(self) -> None:
        forecast = guides(one_emitter(emitter={"rate": 1000, "limit": 100})).emitters[0].forecast
        self.assertEqual((forecast.wanted_at_most, forecast.share, forecast.alive_at_most), (2000, 100, 100))

    def test_an_emitter_that_is_off_still_has_guides(self) -> None:
        self.assertEqual(len(guides(one_emitter(emitter={"on": False})).emitters), 1)


class Tables(InFolder):
    def test_points_as_csv_and_arrays(self) -> None:
        shot = one_emitter()
        found = Solver(shot).at(50)
        write_points(shot, found, self.folder / "p.csv")
        lines = (self.folder / "p.csv").read_text().splitlines()
        self.assertEqual(len(lines), len(found) + 1)
        self.assertIn("position_y_px", lines[0])
        write_points(shot, found, self.folder / "p.npz")
        with np.load(self.folder / "p.npz") as kept:
            np.testing.assert_array_equal(kept["position"], found.position)


if __name__ == "__main__":
    unittest.main()
