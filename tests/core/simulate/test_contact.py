"""Contact: nothing gets through, and every outcome is what it says."""

import math
import unittest
from typing import Any

import numpy as np

from isbjorn.core import Solver
from tests.core.media.test_media import InFolder
from tests.core.simulate.test_forces import ONE, flown
from tests.shots import force, gravity, one_emitter


class Bounces(unittest.TestCase):
    def test_heights_follow_the_restitution(self) -> None:
        floor = force("surface", up=-200, restitution=80, friction=0)
        states = flown(330, [gravity(600), floor], {"size": 10}, rate="100")
        heights = np.array([float(s.position[0, 1]) + 195 for s in states])
        peaks = [h for a, h, b in zip(heights, heights[1:], heights[2:], strict=False) if h > a and h >= b and h > 1]
        self.assertAlmostEqual(peaks[0] / 195, 0.64, delta=0.012)
        self.assertAlmostEqual(peaks[1] / peaks[0], 0.64, delta=0.02)

    def test_what_has_come_to_rest_lies_still(self) -> None:
        states = flown(500, [gravity(900), force("surface", up=-100, restitution=30)], {"size": 8})
        rest = [float(s.position[0, 1]) for s in states[-80:]]
        self.assertLess(np.ptp(rest), 0.05)
        self.assertAlmostEqual(rest[-1], -96, delta=0.2)

    def test_friction_takes_speed_along_the_surface(self) -> None:
        thrown = {"speed": 300, "direction": -45}
        for friction in (0.0, 0.4):
            floor = force("surface", up=-50, restitution=50, friction=friction)
            after = flown(20, [floor], thrown)[-1].velocity[0]
            across = 300 / math.sqrt(2)
            self.assertAlmostEqual(float(after[1]), 0.5 * across, delta=0.5)
            self.assertAlmostEqual(float(after[0]), across - friction * 1.5 * across, delta=0.5)

    def test_outcomes(self) -> None:
        def thrown(outcome: str) -> Any:
            return flown(60, [force("surface", up=-50, outcome=outcome)], {"speed": 200, "direction": -60, "size": 4})

        stuck = thrown("stick")[-1]
        self.assertAlmostEqual(float(stuck.position[0, 1]), -48, delta=0.05)
        np.testing.assert_array_equal(stuck.velocity[0], 0)
        slid = thrown("slide")[-1]
        self.assertAlmostEqual(float(slid.position[0, 1]), -48, delta=0.2)
        self.assertGreater(float(slid.velocity[0, 0]), 50)
        self.assertEqual(len(thrown("die")[-1]), 0)
        marked = thrown("mark")[-1]
        self.assertLess(float(marked.position[0, 1]), -200)
        self.assertAlmostEqual(float(marked.touched[0]), 48 / (200 * math.sin(math.pi / 3)), delta=0.02)
        self.assertEqual(float(flown(2, [force("surface", up=-50)])[-1].touched[0]), -1)


class NothingGetsThrough(unittest.TestCase):
    def test_ten_thousand_fast_small_bodies_stay_in_their_box_for_a_minute(self) -> None:
        box = force("surface", shape="box", side="inside", width=400, height=300, deep=200, restitution=100, friction=0)
        shot = one_emitter(
            emitter={
                "rate": 0, "bursts": [{"count": 10_000}], "lifespan": 0, "spread": 360, "in_depth": True,
                "speed": {"value": 1500, "spread": 1400}, "size": {"value": 1, "spread": 0.9},
                "shape": {"kind": "sphere", "radius": 90},
            },
            forces=[box], last_frame=1500, simulation_rate=30,
        )  # fmt: skip
        solver = Solver(shot)
        for frame in (300, 1500):
            found = solver.at(frame)
            self.assertEqual(len(found), 10_000)
            outside = (np.abs(found.position) > np.array([200, 150, 100]) + 1e-3).any(axis=1)
            self.assertEqual(int(outside.sum()), 0)
        # Nothing was lost on the way: a wall without loss keeps the speed.
        first = Solver(shot).at(0)
        order = np.argsort(found.id)
        np.testing.assert_allclose(
            np.linalg.norm(found.velocity[order], axis=1), np.linalg.norm(first.velocity, axis=1), rtol=1e-3
        )

    def test_every_surface_at_any_speed(self) -> None:
        cases = {
            "plane": ({}, lambda p: p[:, 1] > 0),
            "sphere": ({"radius": 60, "side": "inside"}, lambda p: np.linalg.norm(p, axis=1) < 60.01),
            "rectangle": ({"width": 5000, "deep": 5000}, lambda p: p[:, 1] > 0),
            "path": ({"points": [{"x": -4000, "y": 0}, {"x": 4000, "y": 0}]}, lambda p: p[:, 1] > 0),
        }
        for shape, (fields, holds) in cases.items():
            start = {"up": 40} if shape != "sphere" else {}
            shot = one_emitter(
                emitter={"speed": {"value": 20_000, "spread": 19_000}, "spread": 120, "direction": 270, "rate": 300, "size": 0.5,
                         **start},
                forces=[force("surface", shape=shape, **fields)],
            )  # fmt: skip
            with self.subTest(shape):
                self.assertTrue(holds(Solver(shot).at(100).position).all())

    def test_no_particle_enters_a_box_from_outside(self) -> None:
        shot = one_emitter(
            emitter={"up": 300, "speed": 900, "direction": 270, "spread": 60, "rate": 500, "size": 3},
            forces=[force("surface", shape="box", width=200, height=100, deep=200, turn=20)],
        )  # fmt: skip
        p = Solver(shot).at(100).position
        c, s = math.cos(math.radians(20)), math.sin(math.radians(20))
        x, y = p[:, 0] * c + p[:, 1] * s, -p[:, 0] * s + p[:, 1] * c
        self.assertEqual(int(((np.abs(x) < 99.9) & (np.abs(y) < 49.9)).sum()), 0)
        self.assertGreater(int((np.abs(x) > 101).sum()), 100)


class InsideASphere(unittest.TestCase):
    def fallen(self, gravity_px: float = 981, **surface: Any) -> list[Any]:
        bowl = force("surface", shape="sphere", side="inside", radius=360, **surface)
        start = {"across": 250, "up": -150, "size": 20}
        return flown(3000, [gravity(gravity_px), bowl], start, last_frame=3000)

    def test_without_friction_it_swings_for_ever_and_loses_nothing(self) -> None:
        states = self.fallen(restitution=0, friction=0)
        place = np.array([s.position[0] for s in states], np.float64)
        np.testing.assert_allclose(np.linalg.norm(place, axis=1).max(), 350, atol=0.02)
        # Conserved from the first touch on: half the square of the speed, plus the height times the pull.
        energy = np.array([0.5 * float((s.velocity[0] ** 2).sum()) + 981 * float(s.position[0, 1]) for s in states])
        touched = next(n for n, p in enumerate(place) if np.linalg.norm(p) > 349.99) + 1
        np.testing.assert_allclose(energy[touched:], energy[touched], rtol=5e-3)
        self.assertLess(place[touched:, 1].min(), -349.5, "it passes the bottom")

    def test_what_rubs_or_bounces_comes_to_rest_at_the_bottom(self) -> None:
        for surface in ({"restitution": 60, "friction": 0.1}, {"restitution": 0, "friction": 0.05}):
            last = self.fallen(**surface)[-1]
            self.assertLess(float(np.linalg.norm(last.velocity[0])), 0.01)
            # Friction holds it where the slope is no steeper than it.
            self.assertLess(abs(float(last.position[0, 0] / last.position[0, 1])), surface["friction"] + 1e-3)

    def test_what_goes_round_the_wall_keeps_its_speed(self) -> None:
        ring = force("surface", shape="sphere", side="inside", radius=110, restitution=0, friction=0)
        for state in flown(250, [ring], {"across": 100, "speed": 900, "direction": 90, "size": 20})[10:]:
            self.assertAlmostEqual(float(np.linalg.norm(state.velocity[0])), 900, delta=2)
            self.assertAlmostEqual(float(np.linalg.norm(state.position[0])), 100, delta=0.02)


class Stirred(unittest.TestCase):
    """What a vortex carries against surfaces."""

    def test_it_goes_along_what_it_touches_and_is_as_fast_as_it_says(self) -> None:
        surfaces = {
            "plane": {"up": -60}, "box": {"shape": "box", "side": "inside", "width": 150, "height": 130, "deep": 100},
            "sphere": {"shape": "sphere", "side": "inside", "radius": 80},
        }  # fmt: skip
        for shape, fields in surfaces.items():
            for outcome in ("slide", "bounce"):
                with self.subTest(shape=shape, outcome=outcome):
                    wall = force("surface", outcome=outcome, **{"shape": shape, **fields})
                    stir = force("vortex", strength=150, radius=200, across=20)
                    many = {**ONE, "bursts": [{"count": 60}], "size": 6, "shape": {"kind": "disc", "radius": 50}}
                    solver = Solver(one_emitter(emitter=many, forces=[wall, stir]))
                    for frame in (50, 150):
                        before, now, after = (solver.at(frame + k) for k in (-1, 0, 1))
                        seen = np.linalg.norm(after.position - before.position, axis=1) * 25 / 2
                        reported = np.linalg.norm(now.velocity, axis=1)
                        self.assertGreater(float(seen.min()), 1, "nothing sticks")
                        self.assertAlmostEqual(float(seen.mean() / reported.mean()), 1, delta=0.01)

    def test_in_a_corner_of_a_box_the_pull_is_held_by_the_floor(self) -> None:
        box = force("surface", shape="box", side="inside", width=400, height=300, deep=40, restitution=0)
        states = flown(100, [gravity(981), box, force("vortex", strength=200, radius=150)], {"across": 190, "up": -140})
        for state in states[50:]:
            self.assertLess(float(np.linalg.norm(state.velocity[0])), 250)


class Mattes(InFolder):
    def test_the_plates_matte_is_solid(self) -> None:
        import cv2

        plate = np.zeros((720, 1280, 3), np.uint8)
        plate[460:, :] = 255
        path = self.folder / "floor.png"
        cv2.imwrite(str(path), plate)
        shot = one_emitter(
            emitter={**ONE, "bursts": [{"count": 50}], "size": 4, "spread": 60, "speed": 90},
            forces=[gravity(500), force("surface", shape="matte", restitution=0, friction=0.2)],
            plate={"media": str(path)},
        )  # fmt: skip
        found = Solver(shot).at(120)
        # The matte is cut from cells of 4 px.
        np.testing.assert_allclose(found.position[:, 1], -100 + 2, atol=4.5)


if __name__ == "__main__":
    unittest.main()
