"""Forces and their reach, directions and places through the document, as a person sets them."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from isbjorn.core import Shot, Solver
from tests.shots import drag, gravity, one_emitter


def two_emitters(links: list[tuple[str, str]]) -> Shot:
    """Emitters a and b at rest, gravity g to the right and drag d, joined as given."""
    still = {"rate": 10, "cadence": "even", "speed": 0, "spread": 0, "lifespan": 5, "shape": {"kind": "point"}}
    return Shot.model_validate(
        {
            "emitters": [{**still, "id": "a"}, {**still, "id": "b", "speed": 100, "direction": 90}],
            "forces": [gravity(100, direction=0), drag(2)],
            "links": [{"force": f, "emitter": e} for f, e in links],
        }
    )


class Reach(unittest.TestCase):
    def speeds(self, links: list[tuple[str, str]]) -> dict[str, np.ndarray]:
        found = Solver(two_emitters(links)).at(100)
        return {name: found.velocity[found.emitter == number] for number, name in enumerate("ab")}

    def test_a_force_acts_only_on_emitters_that_it_reaches(self) -> None:
        speeds = self.speeds([("g", "a")])
        self.assertGreater(speeds["a"][:, 0].max(), 300)
        np.testing.assert_allclose(speeds["b"][:, 0], 0, atol=1e-9)
        np.testing.assert_allclose(speeds["b"][:, 1], 100)

    def test_drag_on_one_leaves_the_other_free(self) -> None:
        speeds = self.speeds([("g", "a"), ("d", "b")])
        self.assertLess(speeds["b"][0, 1], 5)
        self.assertGreater(speeds["a"][0, 0], 300)

    def test_a_force_that_is_off_does_nothing(self) -> None:
        shot = two_emitters([("g", "a")])
        off = shot.model_copy(update={"forces": (shot.forces[0].model_copy(update={"on": False}), shot.forces[1])})
        np.testing.assert_array_equal(Solver(off).at(100).velocity[:40], 0)

    def test_an_emitter_that_is_off_is_not_there_and_the_other_is_unmoved(self) -> None:
        shot = two_emitters([("g", "a"), ("g", "b")])
        off = shot.model_copy(
            update={"emitters": (shot.emitters[0].model_copy(update={"on": False}), shot.emitters[1])}
        )
        both, one = Solver(shot).at(80), Solver(off).at(80)
        self.assertEqual(set(one.emitter.tolist()), {1})
        np.testing.assert_array_equal(one.position, both.position[both.emitter == 1])

    def test_gravities_add_up(self) -> None:
        forces = [gravity(300, direction=0), {**gravity(400, direction=90), "id": "up"}]
        found = Solver(one_emitter(emitter={"speed": 0}, forces=forces)).at(75)
        speed = np.hypot(found.velocity[:, 0], found.velocity[:, 1])
        np.testing.assert_allclose(speed, 500 * found.age, rtol=1e-3, atol=0.05)
        np.testing.assert_allclose(found.velocity[1:, 1] * 3, found.velocity[1:, 0] * 4, rtol=1e-3, atol=0.1)

    def test_metres_can_be_meant(self) -> None:
        # A stone falls 4.905 m in its first second; at 50 px per metre that is 245.25 px.
        forces = [{"kind": "gravity", "id": "g", "strength": 9.81}]
        found = Solver(one_emitter(emitter={"speed": 0, "rate": 25}, forces=forces, px_per_metre=50)).at(25)
        oldest = found.position[np.argmax(found.age)]
        self.assertAlmostEqual(float(oldest[1]), -245.25, delta=0.05)

    def test_a_spread_of_strength_is_drawn_by_each_particle_once(self) -> None:
        forces = [gravity(0, strength={"value": 3, "spread": 1})]
        solver = Solver(one_emitter(emitter={"speed": 0, "lifespan": 4}, forces=forces))
        early, late = solver.at(50), solver.at(75)
        shared = np.intersect1d(early.id, late.id)
        shared = shared[shared < 40]
        pull = [dict(zip(p.id.tolist(), (-p.velocity[:, 1] / p.age).tolist(), strict=True)) for p in (early, late)]
        for particle in shared.tolist():
            self.assertAlmostEqual(pull[0][particle], pull[1][particle], delta=0.5)
            self.assertTrue(199 < pull[0][particle] < 401)
        self.assertGreater(np.ptp([pull[0][p] for p in shared.tolist()]), 100)


class Leaving(unittest.TestCase):
    @settings(max_examples=25)
    @given(st.floats(-720, 720), st.floats(0, 360), st.floats(1, 500))
    def test_nothing_leaves_outside_its_fan(self, direction: float, spread: float, speed: float) -> None:
        found = Solver(one_emitter(emitter={"direction": direction, "spread": spread, "speed": speed})).at(30)
        way = np.array([math.cos(math.radians(direction)), math.sin(math.radians(direction))])
        along = (found.velocity[:, :2] @ way) / speed
        self.assertGreaterEqual(float(along.min()), math.cos(math.radians(min(spread, 360) / 2)) - 1e-4)
        np.testing.assert_allclose(np.linalg.norm(found.velocity, axis=1), speed, rtol=1e-4)

    def test_flat_stays_flat_and_depth_goes_deep(self) -> None:
        flat = Solver(one_emitter(emitter={"spread": 360})).at(50)
        deep = Solver(one_emitter(emitter={"spread": 360, "in_depth": True})).at(50)
        self.assertEqual(float(np.abs(flat.position[:, 2]).max()), 0)
        self.assertGreater(float(np.abs(deep.position[:, 2]).max()), 50)

    def test_a_source_with_a_spread_of_place_is_scattered_and_a_speed_never_turns_back(self) -> None:
        emitter = {"across": {"value": 100, "spread": 30}, "speed": {"value": 10, "spread": 50}, "rate": 500}
        found = Solver(one_emitter(emitter=emitter)).at(50)
        self.assertTrue(69.9 < found.position[:, 0].min() < 75 and 125 < found.position[:, 0].max() < 130.1)
        self.assertGreaterEqual(float(found.velocity[:, 1].min()), 0)

    def test_a_life_is_never_shorter_than_a_thousandth(self) -> None:
        found = Solver(one_emitter(emitter={"lifespan": {"value": 0.5, "spread": 2}, "rate": 500})).at(50)
        self.assertGreaterEqual(float(found.life.min()), 1e-3)


class Arrays(unittest.TestCase):
    def test_what_a_script_gets(self) -> None:
        shot = one_emitter(emitter={"in_depth": True, "spread": 90})
        found = Solver(shot).at(60)
        count = len(found)
        for name in found.names():
            self.assertEqual(len(found[name]), count, name)
        self.assertEqual((found.position.shape, found.colour.shape), ((count, 3), (count, 3)))
        self.assertEqual(found.position.dtype, np.float32)
        self.assertEqual(len(set(found.id.tolist())), count)
        np.testing.assert_allclose(found.age01, found.age / found.life, rtol=1e-5)
        self.assertTrue((np.diff(found.age) <= 0).all(), "oldest first")

    def test_an_empty_shot_gives_empty_arrays(self) -> None:
        found = Solver(Shot()).at(0)
        self.assertEqual((len(found), found["position"].shape), (0, (0, 3)))


if __name__ == "__main__":
    unittest.main()
