"""One way for every number: keys, flutter, sources, spread, two curves; things that move and carry others; loops."""

import math
import unittest
from fractions import Fraction
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from isbjorn.core import IsbjornError, Shot, Solver
from isbjorn.core.document import Flutter, Number
from isbjorn.core.document.files import parse_shot
from isbjorn.core.evaluate.curves import along
from isbjorn.core.evaluate.flutter import swing
from isbjorn.core.evaluate.keys import keys_through
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.simulate.checkpoints import StateCache
from tests.shots import births, force, one_emitter


def keyed(*keys: tuple[float, float], joint: str = "straight", **more: Any) -> dict[str, Any]:
    return {"value": keys[0][1], "keys": [{"at_s": t, "value": v, "joint": joint} for t, v in keys], **more}


def at(solver: Solver, frame: int) -> dict[int, int]:
    """Which row each particle has at a frame."""
    return {int(number): row for row, number in enumerate(solver.at(frame).id)}


class Keys(unittest.TestCase):
    def test_a_keyed_number_of_birth_changes_only_those_born_from_then_on(self) -> None:
        solver = Solver(one_emitter(emitter={"size": keyed((0, 10), (2, 30)), "lifespan": 5}))
        found = solver.at(75)
        moments = 3 - found.age
        np.testing.assert_allclose(found.size, np.interp(moments, [0, 2], [10, 30]), atol=1e-3)
        early, late = solver.at(40), solver.at(75)
        rows = {int(n): r for r, n in enumerate(late.id)}
        for row, number in enumerate(early.id.tolist()):
            self.assertEqual(early.size[row], late.size[rows[number]])

    def test_read_through_life_all_change_together(self) -> None:
        found = Solver(one_emitter(emitter={"size": keyed((0, 10), (4, 30), reads="life")})).at(50)
        np.testing.assert_allclose(found.size, 20, atol=1e-3)

    def test_hold_smooth_and_eased_keys(self) -> None:
        t = np.array([0.0, 0.5, 0.999, 1.0])
        shot = Readings(Shot())
        held = Number.model_validate(keyed((0, 1), (1, 5), joint="hold"))
        np.testing.assert_allclose(shot.number(held, t), [1, 1, 1, 5])
        ease = {"value": 0, "keys": [{"at_s": 0, "value": 0, "ease": [0.42, 0, 0.58, 1]}, {"at_s": 1, "value": 10}]}
        eased = shot.number(Number.model_validate(ease), np.array([0.25, 0.5, 0.75]))
        np.testing.assert_allclose(eased, [1.2916, 5, 8.7084], atol=1e-3)
        smooth = Number.model_validate(keyed((0, 0), (1, 1), (2, 1), joint="smooth"))
        self.assertLessEqual(float(shot.number(smooth, np.linspace(0, 2, 99)).max()), 1 + 1e-12)

    def test_a_turning_direction_draws_a_spiral(self) -> None:
        found = Solver(one_emitter(emitter={"direction": keyed((0, 0), (4, 720)), "lifespan": 9})).at(100)
        angle = np.unwrap(np.arctan2(found.velocity[:, 1], found.velocity[:, 0]))
        np.testing.assert_allclose(np.diff(angle), math.radians(1.8), atol=1e-3)

    def test_keyed_rates_give_their_integral(self) -> None:
        found = births(rate=keyed((0, 0), (4, 400)), cadence="even").between(-1, 4)[1]
        self.assertAlmostEqual(len(found), 800, delta=2)
        self.assertAlmostEqual(float(np.mean(found < 2)), 0.25, delta=0.005)

    def test_keyed_strengths_push_when_they_are_high(self) -> None:
        pull = force("gravity", strength=keyed((0, 0), (1, 0), (1, 5), (2, 5), (2, 0)), direction=0)
        states = [Solver(one_emitter(emitter={"rate": 0, "bursts": [{"count": 1}], "speed": 0, "lifespan": 9},
                                     forces=[pull])).at(f) for f in (25, 50, 100)]  # fmt: skip
        np.testing.assert_allclose([s.velocity[0, 0] for s in states], [0, 500, 500], atol=0.5)

    def test_the_states_before_a_changed_key_are_kept(self) -> None:
        cache = StateCache()

        def shot(last: float) -> Shot:
            return one_emitter(emitter={"speed": keyed((0, 50), (1, 80), (2, 90), (6, 100), (8, last))})

        Solver(shot(100), cache).at(50)
        track = Solver(shot(300), cache).tracks[0]
        self.assertEqual(cache.nearest(track.motion, lambda n: track.identity.at(n / 60), 400)[0], 120)
        np.testing.assert_array_equal(Solver(shot(300), cache).at(220).position, Solver(shot(300)).at(220).position)

    @settings(max_examples=20)
    @given(st.lists(st.tuples(st.floats(0, 9), st.floats(1, 400)), min_size=1, max_size=5), st.integers(0, 249))
    def test_an_edit_of_any_key_never_shows_an_old_state(self, keys: list[tuple[float, float]], frame: int) -> None:
        cache = StateCache()
        for change in (0, 37):
            ordered = sorted(keys)
            ordered[-1] = (ordered[-1][0], ordered[-1][1] + change)
            shot = one_emitter(emitter={"speed": keyed(*ordered, joint="smooth"), "rate": 20})
            Solver(shot, cache).at(max(0, frame - 20))
            np.testing.assert_array_equal(Solver(shot, cache).at(frame).position, Solver(shot).at(frame).position)


class Flutters(unittest.TestCase):
    def test_it_swings_so_many_times_within_its_bounds(self) -> None:
        t = np.linspace(0, 20, 20_001)
        found = swing(Flutter(times_per_s=3, amount=1, seed=4), t)
        self.assertLessEqual(float(np.abs(found).max()), 1)
        crossings = int(np.sum(np.diff(np.sign(found)) != 0))
        self.assertAlmostEqual(crossings, 2 * 3 * 20, delta=2)
        self.assertLess(float(np.abs(np.diff(found)).max()), 0.03, "smooth")

    def test_a_fluttering_plume(self) -> None:
        plume = {"direction": {"value": 90, "flutter": {"times_per_s": 3, "amount": 45}}, "lifespan": 4}
        found = Solver(one_emitter(emitter=plume)).at(100)
        angle = np.degrees(np.arctan2(found.velocity[:, 1], found.velocity[:, 0]))
        self.assertTrue(44.9 < angle.min() < 75 and 105 < angle.max() < 135.1)

    def test_multiplied_it_is_a_share(self) -> None:
        number = Number.model_validate({"value": 50, "flutter": {"amount": 0.2, "combine": "multiply"}})
        found = Readings(Shot()).number(number, np.linspace(0, 9, 999))
        self.assertTrue(40 <= found.min() < 44 and 56 < found.max() <= 60)


class Sources(unittest.TestCase):
    def sized(self, source: dict[str, Any], **more: Any) -> Any:
        emitter = {"size": {"value": 10, "source": {"low": 0, "high": 200, **source}, "reads": "life"}, "lifespan": 4}
        return Solver(one_emitter(emitter={**emitter, **more.pop("emitter", {})}, **more)).at(100)

    def test_distance_to_a_marker(self) -> None:
        found = self.sized({"measure": "distance", "thing": "m"}, markers=[{"id": "m", "up": 100}])
        away = np.clip(np.linalg.norm(found.position - [0, 100, 0], axis=1) / 200, 0, 1)
        np.testing.assert_allclose(found.size, 10 * away, rtol=1e-4, atol=1e-5)

    def test_speed_of_the_particle_and_of_the_emitter(self) -> None:
        found = self.sized({"measure": "speed"}, forces=[force("gravity", strength=1)])
        speed = np.clip(np.linalg.norm(found.velocity, axis=1) / 200, 0, 1)
        np.testing.assert_allclose(found.size, 10 * speed, rtol=1e-4)
        moving = self.sized({"measure": "emitter speed"}, emitter={"across": keyed((0, 0), (10, 1000))})
        np.testing.assert_allclose(moving.size, 5, rtol=1e-3)

    def test_another_number_added(self) -> None:
        source = {"measure": "number", "thing": "e.rate", "low": 0, "high": 100, "makes_high": 7, "combine": "add"}
        np.testing.assert_allclose(self.sized(source).size, 17, rtol=1e-5)

    def test_a_force_by_distance(self) -> None:
        near = {"measure": "distance", "thing": "m", "low": 0, "high": 100, "makes_low": 1, "makes_high": 0}
        pull = force("gravity", strength={"value": 1, "source": near}, direction=0)
        far = one_emitter(emitter={"speed": 0, "up": 300}, forces=[pull], markers=[{"id": "m"}])
        close = one_emitter(emitter={"speed": 0, "up": 50}, forces=[pull], markers=[{"id": "m"}])
        self.assertEqual(float(np.abs(Solver(far).at(20).velocity).max()), 0)
        self.assertGreater(float(Solver(close).at(20).velocity[0, 0]), 20)

    def test_the_order_of_drivers(self) -> None:
        number = keyed((0, 10), flutter={"amount": 0}, spread=0)
        curve = {"points": [{"at": 0, "value": 0.5}]}
        shot = one_emitter(emitter={"size": {**number, "over_life": curve}})
        np.testing.assert_allclose(Solver(shot).at(50).size, 5)

    def test_ties_are_never_loose_nor_round(self) -> None:
        def reported(**fields: Any) -> str:
            with self.assertRaises(IsbjornError) as caught:
                parse_shot(fields)
            return str(caught.exception)

        nobody = {"value": 1, "source": {"measure": "distance", "thing": "nobody"}}
        self.assertIn("nobody", reported(emitters=[{"size": nobody}]))
        self.assertIn(
            "no number", reported(emitters=[{"size": {"value": 1, "source": {"measure": "number", "thing": "x.y"}}}])
        )
        me = {"value": 1, "source": {"measure": "number", "thing": "e.size"}}
        self.assertIn("drive itself", reported(emitters=[{"id": "e", "size": me}]))
        ring = [{"id": "a", "carried_by": "b"}, {"id": "b", "carried_by": "a"}]
        self.assertIn("carry itself", reported(markers=ring))
        self.assertIn("Zone: z is not", reported(forces=[{"kind": "gravity", "zone": "z"}]))
        self.assertIn("loop", reported(loop=True, emitters=[{"lifespan": 0}]))


class TwoCurves(unittest.TestCase):
    def test_each_particle_takes_its_own_place_between(self) -> None:
        two = {"over_life": {"points": [{"at": 0, "value": 0.2}]}, "over_life_to": {"points": [{"at": 0, "value": 1}]}}
        shot = one_emitter(emitter={"size": {"value": 10, **two}, "rate": 2000})
        found = Solver(shot).at(100)
        self.assertTrue(1.99 < found.size.min() < 2.1 and 9.9 < found.size.max() < 10.01)
        self.assertAlmostEqual(float(found.size.mean()), 6, delta=0.1)
        later = Solver(shot).at(101)
        rows = {int(n): r for r, n in enumerate(later.id)}
        pairs = [(found.size[r], later.size[rows[int(n)]]) for r, n in enumerate(found.id) if int(n) in rows]
        self.assertTrue(all(abs(a - b) < 1e-4 for a, b in pairs))

    def test_speed_over_life_is_what_is_left_of_it(self) -> None:
        falls = {"value": 100, "over_life": {"points": [{"at": 0, "value": 1}, {"at": 0.2, "value": 0.1}]}}
        found = Solver(one_emitter(emitter={"speed": falls, "lifespan": 5})).at(120)
        old = found.age01 > 0.21
        np.testing.assert_allclose(found.velocity[old, 1], 10, atol=1e-3)
        fresh = found.age01 < 0.005
        self.assertGreater(float(found.velocity[fresh, 1].min()), 90)

    def test_spin_over_life_is_integrated(self) -> None:
        points = [{"at": 0, "value": 1, "joint": "straight"}, {"at": 1, "value": 0, "joint": "straight"}]
        eases = {"value": 90, "over_life": {"points": points}}
        found = Solver(one_emitter(emitter={"spin": eases, "angle": 10, "lifespan": 4})).at(100)
        u = found.age01.astype(float)
        np.testing.assert_allclose(found.angle, 10 + 90 * 4 * (u - u * u / 2), atol=0.2)


class Moving(unittest.TestCase):
    def test_births_come_from_where_the_source_is_and_take_its_speed_along(self) -> None:
        moving = {"across": keyed((0, -300), (10, 300)), "speed": 0, "inherit": 50, "lifespan": 4}
        found = Solver(one_emitter(emitter=moving)).at(100)
        moments = 4 - found.age
        np.testing.assert_allclose(found.velocity[:, 0], 30, atol=0.02)
        np.testing.assert_allclose(found.position[:, 0], -300 + 60 * moments + 30 * found.age, atol=0.05)

    def test_carried_along_or_left_behind(self) -> None:
        moving = {"across": keyed((0, 0), (10, 1000)), "speed": 0, "lifespan": 4}
        along = Solver(one_emitter(emitter={**moving, "stays": "along"})).at(100)
        np.testing.assert_allclose(along.position[:, 0], 400, atol=0.02)
        behind = Solver(one_emitter(emitter=moving)).at(100)
        self.assertAlmostEqual(float(np.ptp(behind.position[:, 0])), 400, delta=5)

    def test_as_dense_at_any_speed(self) -> None:
        # Slow, then five times as fast: per px travelled, the distances between births stay alike.
        path = {"across": keyed((0, -400), (5, -200), (10, 800)), "speed": 0, "lifespan": 9, "cadence": "even"}
        found = Solver(one_emitter(emitter={**path, "rate": 0.5, "rate_per": "px"})).at(249)
        gaps = np.diff(np.sort(found.position[:, 0]))
        np.testing.assert_allclose(gaps, 2, atol=0.02)
        resting = Solver(one_emitter(emitter={"rate": 5, "rate_per": "px"})).at(100)
        self.assertEqual(len(resting), 0)

    def test_one_birth_a_frame_stands_still(self) -> None:
        shot = one_emitter(emitter={"rate": 1, "rate_per": "frame", "cadence": "even", "lifespan": 2}, rate="29.97")
        a, b = (Solver(shot).at(f).position for f in (70, 71))
        np.testing.assert_allclose(a, b, atol=1e-3)

    def test_a_path_with_its_speed_and_its_turn(self) -> None:
        points = [{"x": 0, "y": 0}, {"x": 100, "y": 0}, {"x": 100, "y": 300}]
        path = {"points": points, "along": keyed((0, 0), (4, 100)), "turns": True}
        found = Solver(one_emitter(emitter={"path": path, "direction": 0, "speed": 10, "lifespan": 9})).at(100)
        moments = 4 - found.age
        first = moments < 0.99
        np.testing.assert_allclose(found.velocity[first, 0], 10, atol=1e-2)
        later = moments > 1.01
        np.testing.assert_allclose(found.velocity[later, 1], 10, atol=1e-2)
        np.testing.assert_allclose(
            (found.position[later, 1] - 10 * found.age[later]), 100 * moments[later] - 100, atol=0.1
        )

    def test_carried_by_another_thing_and_by_its_turn(self) -> None:
        marker = {"id": "m", "across": 100, "turn": keyed((0, 0), (4, 90)), "scale": 200}
        shot = one_emitter(
            emitter={"across": 50, "carried_by": "m", "carry_size": True, "speed": 0, "lifespan": 9}, markers=[marker]
        )
        found = Solver(shot).at(100)
        turn = np.radians(22.5 * (4 - found.age))
        np.testing.assert_allclose(found.position[:, 0], 100 + 100 * np.cos(turn), atol=0.02)
        np.testing.assert_allclose(found.position[:, 1], 100 * np.sin(turn), atol=0.02)

    def test_directions_along_outward_and_with_the_way(self) -> None:
        ring = {"shape": {"kind": "disc", "radius": 50, "fill": "edge"}, "speed": 100, "spread": 0, "direction": 0}
        for toward, expected in (("outward", 1.0), ("along", 0.0)):
            found = Solver(one_emitter(emitter={**ring, "toward": toward, "lifespan": 0.02})).at(30)
            start = found.position - found.velocity * found.age[:, None]
            away = np.sum(start * found.velocity, axis=1) / (50 * 100)
            np.testing.assert_allclose(away, expected, atol=1e-3)
        travel = one_emitter(
            emitter={"up": keyed((0, 300), (10, -300)), "toward": "travel", "direction": 0, "speed": 80}
        )
        np.testing.assert_allclose(Solver(travel).at(60).velocity[:, 1], -80, atol=0.01)
        every = Solver(one_emitter(emitter={"toward": "anywhere", "rate": 3000})).at(50)
        self.assertLess(abs(float(np.mean(every.velocity[:, 1]))), 3)

    def test_a_recorded_way_becomes_few_keys(self) -> None:
        t = np.arange(0, 10, 0.04)
        hand = np.stack([100 * np.sin(t), 30 * t], axis=1) + np.random.default_rng(1).normal(0, 0.3, (250, 2))
        keys = keys_through(t, hand, 3.0)
        self.assertLess(len(keys[0]), 45)
        there = np.stack([along(way, t) for way in keys], axis=1)
        self.assertLessEqual(float(np.abs(there - hand).max()), 3.0)
        even = keys_through(t, np.stack([7 * t, -2 * t], axis=1), 0.1)
        self.assertEqual([len(way) for way in even], [2, 2], "an even way is its two ends")


class Bursts(unittest.TestCase):
    def test_so_many_at_a_moment_again_and_again(self) -> None:
        burst = {"at_s": 0.5, "count": 40, "times": 3, "every_s": 1}
        numbers, moments = births(rate=0, bursts=[burst]).between(-1, 9)
        self.assertEqual([int(np.sum(moments == m)) for m in (0.5, 1.5, 2.5)], [40, 40, 40])
        self.assertEqual(len(set(numbers.tolist())), 120)
        _, spread = births(rate=0, bursts=[{**burst, "over_s": 0.4}], delay_s=1).between(-1, 2)
        self.assertTrue((spread >= 1.5).all() and (spread <= 1.9).all() and len(spread) == 40)

    def test_a_burst_keeps_its_draws_when_the_rate_changes(self) -> None:
        fields = {"bursts": [{"count": 50, "at_s": 1}], "speed": {"value": 100, "spread": 80}, "lifespan": 9}
        few, many = (Solver(one_emitter(emitter={**fields, "rate": r})).at(60) for r in (10, 90))
        own = [p.velocity[p.id >= 1 << 36] for p in (few, many)]
        np.testing.assert_array_equal(*own)


class Loops(unittest.TestCase):
    def shot(self, **more: Any) -> Shot:
        emitter = {
            "rate": 80, "lifespan": {"value": 2.5, "spread": 1}, "spread": 90, "speed": {"value": 120, "spread": 40},
            "across": keyed((0, -100), (2, 100), (4, -100)), "size": {"value": 9, "flutter": {"amount": 4, "times_per_s": 0.7}},
            "bursts": [{"count": 20, "at_s": 3.9, "over_s": 0.3}], **more,
        }  # fmt: skip
        forces = [force("turbulence", evolve=0.4), force("gravity", strength={"value": 1, "flutter": {"amount": 1}})]
        return one_emitter(emitter=emitter, forces=forces, loop=True, last_frame=99)

    def test_the_end_flows_into_the_start(self) -> None:
        solver = Solver(self.shot())
        first, again = solver.at(0), solver.at(100)
        for name in ("position", "velocity", "size", "opacity", "id"):
            np.testing.assert_array_equal(first[name], again[name])
        # Not only by definition: the particles alive at the end, stepped by one frame, are those alive at the start.
        track = solver.tracks[0]
        beyond, start = track.at(Fraction(4)), track.at(Fraction(0))
        np.testing.assert_array_equal(beyond.births, start.births)
        np.testing.assert_allclose(beyond.moments - 4, start.moments, atol=1e-9)
        np.testing.assert_allclose(beyond.place, start.place, atol=2e-3)

    def test_no_step_across_the_seam_is_larger_than_any_other(self) -> None:
        solver, steps = Solver(self.shot(bursts=[])), []

        def key(number: int, life: float) -> tuple[int, float]:
            return number & ((1 << 36) - 1), round(life, 4)

        for frame in range(90, 110):
            a, b = solver.at(frame), solver.at(frame + 1)
            rows = {key(*one): r for r, one in enumerate(zip(b.id.tolist(), b.life.tolist(), strict=True))}
            far = []
            for r, (number, life) in enumerate(zip(a.id.tolist(), a.life.tolist(), strict=True)):
                if key(number, life) in rows and a.age[r] + 0.04 < life:
                    far.append(np.linalg.norm(b.position[rows[key(number, life)]] - a.position[r]))
            self.assertGreater(len(far), 150)
            steps.append(max(far))
        self.assertLess(max(steps), 1.6 * float(np.median(steps)))

    def test_counts_hold_with_every_cadence(self) -> None:
        for cadence in ("even", "jittered", "random"):
            solver = Solver(self.shot(cadence=cadence, bursts=[]))
            counts = [len(solver.at(f)) for f in range(0, 100, 9)]
            self.assertAlmostEqual(float(np.mean(counts)), 200, delta=25)


if __name__ == "__main__":
    unittest.main()
