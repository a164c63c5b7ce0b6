"""Readings: what numbers and places are at any moment, and the paths and outlines that they run on."""

import math
import unittest
from typing import Any

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from isbjorn.core import Shot
from isbjorn.core.document import PathPoint, Source
from isbjorn.core.evaluate import bezier
from isbjorn.core.evaluate.geometry.outlines import letter_lines, path_lines
from isbjorn.core.evaluate.readings import Readings, mapped
from isbjorn.core.simulate.fingerprint import Identity
from tests.shots import force, one_emitter


def marker(**fields: Any) -> dict[str, Any]:
    return {"id": "m", **fields}


def keys(*pairs: tuple[float, float]) -> dict[str, Any]:
    return {"value": 0, "keys": [{"at_s": t, "value": v, "joint": "straight"} for t, v in pairs]}


class Places(unittest.TestCase):
    def read(self, t: float, *markers: dict[str, Any], which: str = "m", **shot: Any) -> Any:
        readings = Readings(Shot.model_validate({"markers": list(markers), **shot}))
        return readings.frames(readings.things[which], np.array([t]))

    def test_carriers_swing_stretch_and_turn_what_they_carry(self) -> None:
        carrier = {"id": "c", "across": 100, "turn": 90, "scale": 300}
        rider = marker(across=10, up=5, turn=7, scale=50, carried_by="c")
        found = self.read(0, carrier, rider)
        np.testing.assert_allclose(found.place[0], [95, 10, 0], atol=1e-9)
        self.assertEqual((found.turn[0], found.size[0]), (97, 0.5))
        sized = self.read(0, carrier, {**rider, "carry_size": True})
        np.testing.assert_allclose(sized.place[0], [85, 30, 0], atol=1e-9)
        self.assertEqual(sized.size[0], 1.5)
        free = self.read(0, carrier, {**rider, "carry_place": False, "carry_turn": False})
        np.testing.assert_allclose(free.place[0], [10, 5, 0])

    def test_a_chain_of_carriers(self) -> None:
        chain = [
            {"id": f"c{n}", "across": 10, "turn": 90, **({"carried_by": f"c{n - 1}"} if n else {})} for n in range(4)
        ]
        found = self.read(0, *chain, which="c3")
        # 10 right, 10 up, 10 left, 10 down: back where it began.
        np.testing.assert_allclose(found.place[0], [0, 0, 0], atol=1e-9)

    def test_along_a_path_beyond_its_ends_it_stays_and_round_a_closed_one_it_comes_again(self) -> None:
        points = [{"x": 0, "y": 0}, {"x": 100, "y": 0}]
        for along, x in ((-50, 0), (25, 25), (180, 100)):
            path = {"points": points, "along": along}
            self.assertAlmostEqual(self.read(0, marker(path=path)).place[0, 0], x)
        square = [{"x": 0, "y": 0}, {"x": 100, "y": 0}, {"x": 100, "y": 100}, {"x": 0, "y": 100}]
        for along, place in ((12.5, (50, 0)), (100, (0, 0)), (-12.5, (0, 50)), (237.5, (100, 50))):
            closed = self.read(0, marker(path={"points": square, "closed": True, "along": along}))
            np.testing.assert_allclose(closed.place[0, :2], place, atol=1e-6)

    def test_speed_is_the_slope_of_the_place(self) -> None:
        readings = Readings(Shot.model_validate({"markers": [marker(across=keys((0, 0), (2, 100)))]}))
        thing = readings.things["m"]
        np.testing.assert_allclose(readings.velocity(thing, np.array([1.0]))[0], [50, 0, 0], atol=1e-6)
        np.testing.assert_allclose(readings.velocity(thing, np.array([5.0]))[0], 0, atol=1e-9)

    def test_in_a_loop_time_comes_round(self) -> None:
        shot = {"loop": True, "last_frame": 49, "markers": [marker(across=keys((0, 0), (1, 50), (2, 0)))]}
        readings = Readings(Shot.model_validate(shot))
        number = readings.things["m"].across
        np.testing.assert_allclose(readings.number(number, np.array([0.5, 2.5, -1.5, 4.5])), 25)

    def test_still_is_still_with_all_that_carries(self) -> None:
        moving = {"id": "c", "turn": keys((0, 0), (1, 1))}
        shot = Shot.model_validate({"markers": [moving, marker(carried_by="c"), {"id": "alone"}]})
        readings = Readings(shot)
        self.assertEqual([readings.still(t) for t in shot.markers], [False, False, True])


class Maps(unittest.TestCase):
    @given(st.floats(-1e3, 1e3), st.floats(-1e3, 1e3), st.floats(-9, 9), st.floats(-9, 9), st.floats(-1e4, 1e4))
    def test_a_source_never_makes_more_than_its_ends(
        self, low: float, high: float, a: float, b: float, m: float
    ) -> None:
        source = Source(measure="speed", low=low, high=high, makes_low=a, makes_high=b)
        made = float(mapped(source, m))
        self.assertTrue(min(a, b) - 1e-9 <= made <= max(a, b) + 1e-9)

    def test_it_may_fall_and_it_may_step(self) -> None:
        falling = Source(measure="speed", low=0, high=10, makes_low=1, makes_high=0)
        np.testing.assert_allclose(mapped(falling, [-5, 0, 5, 10, 50]), [1, 1, 0.5, 0, 0])
        step = Source(measure="speed", low=4, high=4, makes_low=0, makes_high=7)
        np.testing.assert_allclose(mapped(step, [3, 4, 5]), [0, 7, 7])


class Paths(unittest.TestCase):
    def test_a_quarter_circle_is_as_long_as_it_should_be(self) -> None:
        k = 0.5522847498 * 100
        line = bezier.flat((PathPoint(x=100, y=0, leave=(0, k)), PathPoint(x=0, y=100, arrive=(k, 0))), False)
        self.assertAlmostEqual(float(bezier.lengths(line)[-1]), 50 * math.pi, delta=0.1)
        np.testing.assert_allclose(np.hypot(line[:, 0], line[:, 1]), 100, atol=0.05)

    def test_letters_stand_level_and_are_as_high_as_a_line(self) -> None:
        lines = letter_lines("Skarvøy")
        every = np.concatenate(lines)
        self.assertLess(float(np.ptp(every[:, 1])), 1.3)
        self.assertTrue(all(np.allclose(line[0], line[-1]) for line in lines))

    def test_svg_holes_stay_holes(self) -> None:
        lines = path_lines(("M0 0H100V100H0Z M25 25V75H75V25Z",))
        self.assertEqual(len(lines), 2)


class Identities(unittest.TestCase):
    def motion(self, shot: Shot) -> str:
        return Identity(shot, shot.emitters[0], None).motion

    def test_what_does_not_move_it_is_not_in_it(self) -> None:
        base = one_emitter(forces=[force("wind")])
        same = (
            {"name": "Other"}, {"width": 640}, {"background": "#112233"}, {"last_frame": 99}, {"markers": [{"id": "far"}]},
            {"camera": {"kind": "perspective"}},
        )  # fmt: skip
        for change in same:
            other = Shot.model_validate({**base.model_dump(mode="json"), **change})
            with self.subTest(change):
                self.assertEqual(self.motion(other), self.motion(base))

    def test_what_moves_it_is(self) -> None:
        base = one_emitter(forces=[force("wind", zone="z")], zones=[{"id": "z"}])
        given_ = base.model_dump(mode="json")
        other = ({"seed": 9}, {"simulation_rate": 30}, {"px_per_metre": 7}, {"loop": True}, {"links": []},
                 {"zones": [{"id": "z", "radius": 5}]})  # fmt: skip
        for change in other:
            with self.subTest(change):
                self.assertNotEqual(self.motion(Shot.model_validate({**given_, **change})), self.motion(base))


if __name__ == "__main__":
    unittest.main()
