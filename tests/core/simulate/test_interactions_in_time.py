"""A crowd over the shot: how far it has been stepped, and how the two ends of a loop cross over."""

import unittest
from fractions import Fraction

import numpy as np

from isbjorn.core.document import Shot
from isbjorn.core.frame import Solver, render_frame
from tests.core.simulate.test_interactions import school


class Reach(unittest.TestCase):
    def test_it_reports_how_far_states_are_stored(self) -> None:
        solver = Solver(Shot.model_validate(school()))
        self.assertIsNone(solver.reach_s)
        solver.at(50)
        far = solver.reach_s
        assert far is not None
        self.assertAlmostEqual(far, 2.0, delta=0.4)
        solver.at(10)
        self.assertEqual(solver.reach_s, far)
        other = school()
        other["emitters"][0]["speed"] = 333
        self.assertIsNone(Solver(Shot.model_validate(other), solver.cache, before=solver).reach_s)


class Held(unittest.TestCase):
    """While there is no time to run a crowd, it is seen where it was before an edit."""

    def test_looks_are_those_of_the_edit_and_places_those_of_before(self) -> None:
        given = school(seed=3)
        sparks = {
            "id": "d",
            "born_of": "b",
            "rate": 4,
            "lifespan": 0.5,
            "size": 3,
            "shape": {"kind": "point"},
            "speed": 5,
        }
        given["emitters"].append(sparks)
        before = Solver(Shot.model_validate(given))
        at_rest = before.at(40)
        edited = school(seed=3)
        edited["emitters"] = [{**e, "size": 20, "speed": 150} for e in edited["emitters"]] + [sparks]
        shot = Shot.model_validate(edited)
        held = Solver(shot, before.cache, before=before, held=True)
        seen = held.at(40)
        np.testing.assert_array_equal(seen.id, at_rest.id)
        np.testing.assert_array_equal(seen.position[seen.emitter != 2], at_rest.position[at_rest.emitter != 2])
        crowd = seen.emitter < 2
        np.testing.assert_allclose(seen.size[crowd], 20)
        self.assertIsNone(held.reach_s, "nothing was run for it")
        # Particles that fly alone follow the edit; interacting ones are cached under another key.
        self.assertGreater(float(np.linalg.norm(seen.velocity[seen.emitter == 2], axis=1).mean()), 140)
        own = Solver(shot, before.cache, before=before).at(40)
        self.assertFalse(np.array_equal(own.position, seen.position))
        np.testing.assert_array_equal(own.position, Solver(shot).at(40).position)

    def test_what_was_no_crowd_before_is_run(self) -> None:
        alone = school()
        alone["links"] = []
        before = Solver(Shot.model_validate(alone))
        shot = Shot.model_validate(school())
        held = Solver(shot, before.cache, before=before, held=True)
        np.testing.assert_array_equal(held.at(12).position, Solver(shot).at(12).position)


class Loops(unittest.TestCase):
    """Interacting particles do not loop by themselves: the two ends cross-fade."""

    def whole(self, crossover_s: float) -> Shot:
        swarm = {
            "id": "e", "shape": {"kind": "disc", "radius": 90}, "rate": 30, "lifespan": 3, "speed": 60, "spread": 360,
            "size": {"value": 14, "spread": 0},
        }  # fmt: skip
        flock = {"kind": "flock", "id": "f"}
        return Shot.model_validate({
            "width": 640, "height": 360, "last_frame": 49, "loop": True, "crossover_s": crossover_s, "emitters": [swarm],
            "forces": [flock],
            "links": [{"force": "f", "emitter": "e"}], "background": "#000000",
        })  # fmt: skip

    def test_as_many_live_in_a_loop_as_the_rate_says(self) -> None:
        solver = Solver(self.whole(0))
        for frame in (0, 20, 49):
            p = solver.at(frame)
            self.assertEqual(len(np.unique(p.id)), len(p))
            self.assertAlmostEqual(len(p), 90, delta=2)

    def test_the_seam_is_no_larger_than_any_step(self) -> None:
        steps = {}
        for crossover_s in (0, 1):
            solver = Solver(self.whole(crossover_s))
            seen = {f: render_frame(solver.shot, f, 0.5, solver=solver)[..., 0] for f in (0, 10, 11, 47, 48, 49)}
            steps[crossover_s] = [
                float(np.abs(seen[a] - seen[b]).mean()) for a, b in ((10, 11), (47, 48), (48, 49), (49, 0))
            ]
        self.assertGreater(steps[0][3], 2 * steps[0][0], "without it, it jumps")
        self.assertLess(steps[1][3], 1.3 * max(steps[1][:3]))

    def test_trails_cross_over_too(self) -> None:
        document = self.whole(1).model_dump(mode="json")
        document["emitters"][0] |= {"trail": {"length": 8}, "blend": "add"}
        shot = Shot.model_validate(document)
        solver = Solver(shot)
        light = [float(render_frame(shot, f, 0.5, solver=solver)[..., 0].sum()) for f in (0, 20, 37, 48)]
        self.assertLess(max(light), 1.25 * min(light))

    def test_at_the_end_those_from_before_the_start_are_alone(self) -> None:
        shot = self.whole(1)
        solver = Solver(shot)
        self.assertEqual(solver.crossing(0, Fraction(1)), 0)
        self.assertAlmostEqual(solver.crossing(0, Fraction(3, 2)), 0.5)
        before, first = solver.of(0, Fraction(-1, 10**6)), solver.at(0)
        np.testing.assert_allclose(np.sort(before.position[:, 0]), np.sort(first.position[:, 0]), atol=0.01)
        end, start = (render_frame(shot, f, 0.5, solver=solver) for f in (Fraction(49999, 1000), 0))
        self.assertLess(float(np.abs(end - start).mean()), 1e-3)


if __name__ == "__main__":
    unittest.main()
