"""The demonstration: our own, whole, and without a seam."""

import unittest

import numpy as np

from isbjorn.core import Solver, render_frame
from isbjorn.core.inspect.guides import guides
from isbjorn.demo import harbour
from isbjorn.demo.beacon import beacon, first_shot


class Harbour(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.paint = staticmethod(harbour.frames(width=160, height=90))

    def test_the_loop_has_no_seam(self) -> None:
        first, after = self.paint(0).astype(int), self.paint(harbour.FRAMES).astype(int)
        last = self.paint(harbour.FRAMES - 1).astype(int)
        # Only the film grain differs between frame 100 and frame 0, and the last frame is a step away like any other.
        self.assertLess(np.abs(first - after).mean(), 3)
        step = np.abs(self.paint(1).astype(int) - first).mean()
        self.assertLess(np.abs(first - last).mean(), step * 1.5)

    def test_it_moves_only_on_the_water_and_at_the_lamps(self) -> None:
        frames = np.stack([self.paint(n).astype(float).mean(axis=2) for n in (0, 8, 16, 24, 32)])
        moving = frames.std(axis=0)
        water = int(harbour.HORIZON * 90)
        self.assertGreater(moving[water:].mean(), 2 * moving[: water - 12].mean())

    def test_the_same_picture_every_time(self) -> None:
        np.testing.assert_array_equal(self.paint(17), harbour.frames(width=160, height=90)(17))


class Shots(unittest.TestCase):
    def test_beacon_burns_from_its_first_frame(self) -> None:
        shot = beacon("pier.mp4").model_copy(update={"plate": None})
        solver = Solver(shot)
        first, later = solver.at(0), solver.at(200)
        self.assertGreater(len(first), 700)
        self.assertAlmostEqual(len(first) / len(later), 1, delta=0.15)
        picture = render_frame(shot, 100, 0.25, solver=solver)
        bright = picture[..., :3].sum(axis=2)
        rows, columns = np.nonzero(bright > 0.5 * bright.max())
        # The fire is in the basket: at the middle, in the lower half.
        self.assertAlmostEqual(float(columns.mean()) / picture.shape[1], 0.5, delta=0.03)
        self.assertGreater(float(rows.mean()) / picture.shape[0], 0.55)

    def test_nothing_of_beacon_starves_or_pops(self) -> None:
        for guide in guides(beacon("pier.mp4")).emitters:
            self.assertLess(guide.forecast.wanted_at_most, guide.forecast.share + 1)
        for emitter in beacon("pier.mp4").emitters:
            assert emitter.opacity.over_life is not None
            points = emitter.opacity.over_life.points
            self.assertEqual((points[0].value, points[-1].value), (0, 0))

    def test_a_new_shot_stays_in_its_picture(self) -> None:
        shot = first_shot("New")
        found = Solver(shot).at(120)
        inside = (np.abs(found.position[:, 0]) < 640) & (np.abs(found.position[:, 1]) < 360)
        self.assertGreater(inside.mean(), 0.98)


if __name__ == "__main__":
    unittest.main()
