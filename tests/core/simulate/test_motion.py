"""Motion: closed forms, the same at any frame, rate, order of visits and number of threads."""

import math
import threading
import unittest
from fractions import Fraction

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from isbjorn.core import Shot, Solver, render_frame
from isbjorn.core.errors import Stale
from isbjorn.core.simulate.checkpoints import StateCache
from tests.shots import drag, gravity, one_emitter
from tests.threads import MANY, threads

ARRAYS = ("id", "position", "velocity", "age", "life", "size", "opacity", "colour")
BUSY = {
    "rate": 400,
    "cadence": "jittered",
    "spread": 80,
    "speed": {"value": 200, "spread": 90},
    "lifespan": {"value": 2, "spread": 1},
}


def busy(**changes: object) -> Shot:
    """Many particles under everything that there is."""
    forces = [gravity(300, strength={"value": 3, "spread": 1}), drag(0.7, strength={"value": 0.7, "spread": 0.4})]
    return one_emitter(emitter={**BUSY, **changes.pop("emitter", {})}, forces=forces, **changes)  # type: ignore[dict-item]


class ClosedForms(unittest.TestCase):
    def test_a_throw_under_gravity_is_a_parabola(self) -> None:
        found = Solver(one_emitter(emitter={"speed": 300, "direction": 60}, forces=[gravity(250)])).at(100)
        t = found.age.astype(float)
        np.testing.assert_allclose(found.position[:, 0], 300 * math.cos(math.radians(60)) * t, atol=0.02)
        np.testing.assert_allclose(found.position[:, 1], 300 * math.sin(math.radians(60)) * t - 125 * t**2, atol=0.02)
        np.testing.assert_allclose(found.velocity[:, 1], 300 * math.sin(math.radians(60)) - 250 * t, atol=0.02)

    def test_drag_slows_exactly(self) -> None:
        for k in (1e-6, 0.5, 8.0, 1e5):
            found = Solver(one_emitter(emitter={"speed": 200}, forces=[drag(k)])).at(100)
            t = found.age.astype(float)
            expected = -200 * np.expm1(-k * t) / k
            # On the lattice it is exact; within a step, Hermite follows e^(-kt) as long as k h is not large.
            tolerance = 0.02 if k < 100 else 200 / 60
            np.testing.assert_allclose(found.position[:, 1], expected, atol=tolerance)

    def test_terminal_speed_is_reached_and_held(self) -> None:
        found = Solver(one_emitter(emitter={"lifespan": 8}, forces=[gravity(500), drag(4)])).at(249)
        old = found.age > 4
        np.testing.assert_allclose(found.velocity[old, 1], -500 / 4, rtol=1e-3)

    def test_any_drag_is_stable(self) -> None:
        for k in (0, 1e-9, 1, 1e3, 1e6):
            found = Solver(one_emitter(forces=[gravity(981), drag(k)])).at(200)
            self.assertTrue(np.isfinite(found.position).all() and np.isfinite(found.velocity).all())
            self.assertLess(np.abs(found.velocity).max(), 2100)

    def test_mass_of_forces_does_not_depend_on_their_order(self) -> None:
        one, two = busy(), busy()
        turned = two.model_copy(update={"forces": two.forces[::-1], "links": two.links[::-1]})
        np.testing.assert_array_equal(Solver(one).at(100).position, Solver(turned).at(100).position)

    def test_only_what_is_linked_reaches(self) -> None:
        shot = one_emitter(forces=[gravity(500)], links=[])
        np.testing.assert_allclose(Solver(shot).at(50).velocity[:, 1], 100, rtol=1e-6)


class Exactness(unittest.TestCase):
    def same(self, a: object, b: object) -> None:
        for name in ARRAYS:
            np.testing.assert_array_equal(a[name], b[name], err_msg=name)  # type: ignore[index]

    def test_any_frame_at_once_is_the_frame_reached_by_playing(self) -> None:
        shot = busy()
        played = Solver(shot)
        frames = {f: played.at(f) for f in range(0, 120)}
        for frame in (119, 3, 77, 78, 0):
            self.same(Solver(shot).at(frame), frames[frame])

    @settings(max_examples=15)
    @given(st.lists(st.integers(0, 249), min_size=1, max_size=6))
    def test_what_was_visited_before_never_shows(self, visits: list[int]) -> None:
        shot = busy()
        wandering = Solver(shot)
        for frame in visits:
            wandering.at(frame)
        self.same(wandering.at(133), Solver(shot).at(133))

    def test_one_thread_or_many(self) -> None:
        shot = busy(emitter={"size": {"value": 30, "spread": 20}})
        with threads(1):
            alone, picture = Solver(shot).at(90), render_frame(shot, 90, 0.5)
        with threads(MANY):
            self.same(Solver(shot).at(90), alone)
            np.testing.assert_array_equal(render_frame(shot, 90, 0.5), picture)

    def test_many_callers_at_once(self) -> None:
        shot = busy()
        solver, wrong = Solver(shot), []
        expected = {f: Solver(shot).at(f).position for f in range(20, 60, 5)}

        def call(frame: int) -> None:
            for _ in range(3):
                if not np.array_equal(solver.at(frame).position, expected[frame]):
                    wrong.append(frame)
                render_frame(shot, frame, 0.1, solver=solver)

        threads = [threading.Thread(target=call, args=(f,)) for f in expected]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(wrong, [])

    def test_a_small_memory_limit_changes_nothing(self) -> None:
        shot = busy()
        tight = Solver(shot, StateCache(limit_bytes=100_000))
        for frame in (10, 200, 30, 150):
            self.same(tight.at(frame), Solver(shot).at(frame))
        self.assertLessEqual(tight.cache.bytes, 100_000)

    def test_one_in_so_many_flies_as_it_does_among_all(self) -> None:
        turbulence = {"kind": "turbulence", "id": "air", "strength": 90}
        for shot in (busy(), busy(emitter={"limit": 300}), one_emitter(emitter=BUSY, forces=[turbulence])):
            every, few = Solver(shot), Solver(shot)
            for frame in (40, 41, 13, Fraction(83, 2)):
                whole, ids, _ = every.state(0, shot.seconds(frame))
                some, some_ids, _ = few.state(0, shot.seconds(frame), every=4)
                which = np.flatnonzero(whole.births % 4 == 0)
                self.assertGreater(len(which), 40)
                np.testing.assert_array_equal(some_ids, ids[which])
                np.testing.assert_array_equal(some.values, whole.values[:, which])
                # Stepped on from the states of all that are there, which is a short way.
                after, _, _ = every.state(0, shot.seconds(frame + 1), every=4)
                alone, _, _ = few.state(0, shot.seconds(frame + 1), every=4)
                np.testing.assert_array_equal(after.values, alone.values)
        # No particle is left out where others depend on all of them.
        trailing = Solver(busy(emitter={"trail": {"by": "frames", "length": 5}}))
        self.assertEqual(trailing.state(0, Fraction(2), every=4)[0].count, trailing.state(0, Fraction(2))[0].count)

    def test_stale_work_is_dropped(self) -> None:
        with self.assertRaises(Stale):
            Solver(busy()).at(200, lambda: True)


class Seconds(unittest.TestCase):
    def test_the_same_seconds_at_every_rate_show_the_same_places(self) -> None:
        reference = Solver(busy(rate="50", last_frame=499)).at_seconds(Fraction(5))
        for rate in ("24", "25", "29.97", "30", "50", "60"):
            shot = busy(rate=rate, last_frame=599)
            # At 30000/1001 no frame falls on 5 s: the sub-frame that does is asked for.
            frame = Fraction(5) * shot.frame_rate
            found = Solver(shot).at(frame)
            np.testing.assert_array_equal(found.id, reference.id)
            np.testing.assert_array_equal(found.position, reference.position)

    def test_sub_frames_lie_on_the_flight(self) -> None:
        solver = Solver(one_emitter(emitter={"speed": 300}, forces=[gravity(250), drag(0.5)]))
        places = [solver.at(Fraction(n, 10)) for n in range(500, 520)]
        flight = [p.position[list(p.id).index(150), 1] for p in places]
        bends = np.diff(flight, 3)
        self.assertLess(np.abs(bends).max(), 0.01)

    def test_the_first_frame_number_only_shifts_the_numbers(self) -> None:
        a, b = busy(), busy(first_frame=1001, last_frame=1250)
        np.testing.assert_array_equal(Solver(a).at(40).position, Solver(b).at(1041).position)

    def test_pre_roll_fills_the_first_frame(self) -> None:
        self.assertEqual(len(Solver(one_emitter()).at(0)), 1)
        self.assertAlmostEqual(len(Solver(one_emitter(emitter={"pre_roll_s": 3})).at(0)), 200, delta=1)

    def test_a_life_without_end(self) -> None:
        found = Solver(one_emitter(emitter={"lifespan": 0})).at(249)
        self.assertEqual(len(found), 997)
        self.assertTrue((found.age01 == 0).all())

    def test_a_jump_to_the_end_of_a_very_long_life_is_bounded(self) -> None:
        shot = one_emitter(last_frame=30_000, emitter={"rate": 1000, "lifespan": 0, "limit": 1_000_000})
        # All of them early on; later as many as can be stepped from their births in some seconds, of a million.
        for frame, least, most in ((300, 11_900, 12_100), (30_000, 30_000, 40_000)):
            alive = len(Solver(shot).at(frame))
            self.assertGreater(alive, least)
            self.assertLess(alive, most)


class Draws(unittest.TestCase):
    def test_changing_one_spread_never_reshuffles_another(self) -> None:
        plain = Solver(busy()).at(80)
        for field, change in (
            ("size", {"value": 10, "spread": 5}),
            ("opacity", {"value": 50, "spread": 50}),
            ("brightness", {"value": 2, "spread": 1}),
        ):
            with self.subTest(field):
                found = Solver(busy(emitter={field: change})).at(80)
                np.testing.assert_array_equal(found.position, plain.position)
        slower = Solver(busy(emitter={"speed": {"value": 200, "spread": 10}})).at(80)
        np.testing.assert_array_equal(slower.life, plain.life)

    def test_a_higher_rate_keeps_the_draws_of_each_birth(self) -> None:
        few, many = (
            Solver(busy(emitter={"rate": r, "lifespan": {"value": 9, "spread": 1}})).at(40) for r in (100, 300)
        )
        lives = dict(zip(many.id.tolist(), many.life.tolist(), strict=True))
        self.assertTrue(all(lives[i] == life for i, life in zip(few.id.tolist(), few.life.tolist(), strict=True)))

    def test_an_added_force_keeps_the_draws_of_others(self) -> None:
        shot = busy()
        strength = shot.forces[0].strength.model_copy(update={"value": 0.0, "spread": 0.0})
        none = shot.forces[0].model_copy(update={"id": "none", "strength": strength})
        more = shot.model_copy(update={"forces": (none, *shot.forces)})
        np.testing.assert_array_equal(Solver(shot).at(60).position, Solver(more).at(60).position)

    def test_another_seed_is_another_shot(self) -> None:
        self.assertFalse(np.array_equal(Solver(busy()).at(60).position, Solver(busy(seed=2)).at(60).position))


class Kept(unittest.TestCase):
    def test_a_look_edit_finds_its_states_again(self) -> None:
        cache = StateCache()
        shot = busy()
        Solver(shot, cache).at(200)
        before = cache.bytes
        Solver(busy(emitter={"size": 99, "blend": "add", "fade_last": 50}), cache).at(200)
        self.assertEqual(cache.bytes, before)

    def test_a_later_stop_keeps_the_states_before_it(self) -> None:
        cache = StateCache()
        Solver(busy(emitter={"end_s": 6}), cache).at(125)
        track = Solver(busy(emitter={"end_s": 8}), cache).tracks[0]
        index, state = cache.nearest(track.motion, lambda at: track.identity.at(at / 60), 300)
        self.assertEqual(index, 300)
        self.assertIsNotNone(state)
        shorter = Solver(busy(emitter={"end_s": 4}), cache).tracks[0]
        self.assertIsNone(cache.nearest(shorter.motion, lambda at: shorter.identity.at(at / 60), 300)[1])
        np.testing.assert_array_equal(
            Solver(busy(emitter={"end_s": 8}), cache).at(200).position,
            Solver(busy(emitter={"end_s": 8})).at(200).position,
        )

    def test_a_particle_takes_at_most_96_bytes(self) -> None:
        solver = Solver(busy())
        self.assertLessEqual(solver.cache.bytes / max(1, len(solver.at(250))), 96)


if __name__ == "__main__":
    unittest.main()
