"""Truths of mechanics, of births and of light that hold whatever the settings."""

import math
import threading
import unittest
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np

from isbjorn.core import Shot, Solver, render_frame
from isbjorn.core.document import Gradient, Number
from isbjorn.core.document.editing.scene_edits import planted
from isbjorn.core.document.fields.values import Flutter, Source
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.media.read.plates import fitted
from isbjorn.core.random import draws_around
from tests.core.simulate.test_forces import ONE, flown
from tests.shots import births, force, gravity, one_emitter

STILL: dict[str, Any] = {"speed": 0, "size": 10}


def speeds(states: list[Any]) -> np.ndarray:
    return np.array([float(np.linalg.norm(s.velocity[0])) for s in states])


class Slopes(unittest.TestCase):
    """A body on a plane that is turned by 30°: a = g (sin θ - μ cos θ)."""

    def slope(self, friction: float, turn: float = 30, **emitter: Any) -> list[Any]:
        floor = force("surface", turn=turn, restitution=0, friction=friction)
        on_it = {"across": -5 * math.sin(math.radians(turn)), "up": 5 * math.cos(math.radians(turn))}
        return flown(50, [gravity(900), floor], {**STILL, **on_it, **emitter})

    def test_without_friction_it_slides_as_fast_as_it_should(self) -> None:
        states = self.slope(0.0)
        np.testing.assert_allclose(speeds(states), 450 * np.arange(51) / 25, rtol=2e-3, atol=0.5)
        way = np.linalg.norm(states[-1].position[0] - states[0].position[0])
        self.assertAlmostEqual(float(way), 0.5 * 450 * 4, delta=4)

    def test_friction_takes_its_share_of_the_weight(self) -> None:
        a = 900 * (math.sin(math.pi / 6) - 0.3 * math.cos(math.pi / 6))
        np.testing.assert_allclose(speeds(self.slope(0.3))[-1], a * 2, rtol=5e-3)

    def test_above_the_slope_it_stays_and_does_not_creep(self) -> None:
        states = self.slope(math.tan(math.radians(30)) + 0.02)
        way = np.linalg.norm(states[-1].position[0] - states[5].position[0])
        self.assertLess(float(way), 0.02)
        self.assertLess(speeds(states)[-1], 1e-3)

    def test_on_the_level_it_stops_after_v2_over_2_mu_g(self) -> None:
        floor = force("surface", restitution=0, friction=0.3)
        for rate in (24, 60, 240):
            states = flown(
                80, [gravity(981), floor], {"up": 5, "speed": 300, "direction": 0, "size": 10}, simulation_rate=rate
            )
            self.assertAlmostEqual(float(states[-1].position[0, 0]), 300**2 / (2 * 0.3 * 981), delta=1.5)
            self.assertLess(speeds(states)[-1], 1e-3)

    def test_off_the_top_of_a_ball_it_falls(self) -> None:
        ball = force("surface", shape="sphere", radius=100, restitution=0, friction=0)
        states = flown(100, [gravity(900), ball], {"up": 105, "across": 0.5, **STILL}, simulation_rate=240)
        self.assertGreater(float(np.linalg.norm(states[-1].position[0])), 300)
        # On the ball v² = 2 g R (1 - cos θ); it leaves where cos θ = 2/3, at 48.2°.
        far = np.array([float(np.linalg.norm(s.position[0])) for s in states])
        turns = np.degrees([math.acos(float(s.position[0, 1]) / f) for s, f in zip(states, far, strict=True)])
        for turn, speed in zip(turns, speeds(states), strict=True):
            if 10 < turn < 45:
                self.assertAlmostEqual(
                    speed, math.sqrt(2 * 900 * 105 * (1 - math.cos(math.radians(turn)))), delta=0.01 * speed
                )
        self.assertTrue((far[turns < 45] < 105.1).all())
        self.assertTrue((far[turns > 62] > 105.2).all())

    def test_a_fast_slide_is_not_cut(self) -> None:
        floor = force("surface", restitution=0, friction=0)
        for rate in (24, 60):
            states = flown(
                25, [gravity(900), floor], {"up": 5, "speed": 6000, "direction": 0, "size": 10}, simulation_rate=rate
            )
            self.assertAlmostEqual(float(states[25].position[0, 0]), 6000, delta=6)

    def test_a_box_holds_what_slides_along_its_walls(self) -> None:
        box = force("surface", shape="box", side="inside", width=400, height=300, deep=200, restitution=0, friction=0)
        states = flown(60, [gravity(900), box], {"up": -145, "speed": 700, "direction": 20, "size": 10})
        for s in states:
            self.assertTrue((np.abs(s.position[0]) <= np.array([195, 145, 95]) + 0.05).all(), s.position)


class SeenSize(unittest.TestCase):
    def test_what_is_touched_is_touched_by_the_size_that_is_seen(self) -> None:
        floor = force("surface", restitution=0, friction=0, up=-100)
        grows = {"points": [{"at": 0, "value": 0.2}, {"at": 1, "value": 3}]}
        flat = {"points": [{"at": 0, "value": 1}]}
        sizes: list[Any] = [
            {"value": 20, "over_life": flat, "over_life_to": grows},
            {"value": 20, "reads": "life", "keys": [{"at_s": 0, "value": 10}, {"at_s": 3, "value": 60}]},
            {"value": 20, "spread": 8, "over_life": grows},
        ]
        for size in sizes:
            emitter = {"rate": 0, "bursts": [{"count": 40}], "lifespan": 4, "speed": 0, "size": size}
            shot = one_emitter(emitter=emitter, forces=[gravity(900), floor])
            found = Solver(shot).at(80)
            np.testing.assert_allclose(found.position[:, 1] + 100, found.size / 2, atol=0.6)


class Drag(unittest.TestCase):
    def test_terminal_speed_is_exact_at_any_strength_and_rate(self) -> None:
        for strength in (0.5, 20, 1000):
            for rate in (24, 60):
                drag = force("drag", strength=strength, law="quadratic")
                states = flown(250, [gravity(900), drag], STILL, simulation_rate=rate)
                self.assertAlmostEqual(
                    speeds(states)[-1], math.sqrt(900 * 100 / strength), delta=1e-3 * math.sqrt(90_000 / strength)
                )

    def test_the_way_there_is_a_hyperbolic_tangent(self) -> None:
        states = flown(100, [gravity(900), force("drag", strength=20, law="quadratic")], STILL)
        last = math.sqrt(900 * 100 / 20)
        expected = last * np.tanh(np.arange(101) / 25 * 900 / last)
        np.testing.assert_allclose(speeds(states), expected, rtol=1e-3, atol=0.05)

    def test_thrown_up_it_turns_when_it_should(self) -> None:
        states = flown(60, [gravity(900), force("drag", strength=5, law="quadratic")], {"speed": 600, "direction": 90})
        q, w = 0.05, math.sqrt(900 * 0.05)
        turn = math.atan(600 * q / w) / w
        height = math.log(1 + q * 600**2 / 900) / (2 * q)
        peak = max(float(s.position[0, 1]) for s in states)
        self.assertAlmostEqual(peak, height, delta=0.01 * height)
        before, after = states[int(turn * 25)], states[int(turn * 25) + 2]
        self.assertGreater(float(before.velocity[0, 1]), 0)
        self.assertLess(float(after.velocity[0, 1]), 0)


class Births(unittest.TestCase):
    def test_one_birth_a_frame_shows_a_newborn_on_every_frame(self) -> None:
        keyed = {"value": 1, "keys": [{"at_s": 0, "value": 1, "joint": "straight"}, {"at_s": 60, "value": 1}]}
        cases: list[tuple[str, dict[str, Any]]] = [
            ("30000/1001", {}), ("60000/1001", {}), ("25", {"pre_roll_s": 2}), ("25", {"rate": keyed}),
            ("24000/1001", {"pre_roll_s": 1.001}),
        ]  # fmt: skip
        for rate, more in cases:
            emitter = {"rate": 1, "rate_per": "frame", "cadence": "even", "lifespan": 0.5, **more}
            solver = Solver(one_emitter(emitter=emitter, rate=rate, last_frame=499))
            counts = {len(solver.at(n)) for n in range(100, 400)}
            youngest = max(float(solver.at(n).age.min()) for n in range(100, 400))
            self.assertLess(youngest, 1e-5, (rate, more))
            self.assertLessEqual(len(counts), 2, (rate, more))

    def test_every_birth_is_in_one_window_only(self) -> None:
        for rate in (25.0, 30000 / 1001, 59.94, 1000 / 3):
            one = births(rate=rate, cadence="even")
            edges = np.arange(0, 10.02, 0.04)
            parts = [one.between(float(a), float(b))[0] for a, b in zip(edges, edges[1:], strict=False)]
            whole = one.between(0.0, float(edges[-1]))[0]
            np.testing.assert_array_equal(np.sort(np.concatenate(parts)), whole)

    def test_a_jump_of_the_source_moves_no_particle_and_spawns_none(self) -> None:
        jump = {
            "value": 0,
            "keys": [{"at_s": 0, "value": -300, "joint": "hold"}, {"at_s": 1, "value": 200, "joint": "hold"}],
        }
        emitter = {"across": jump, "inherit": 100, "speed": 0, "rate": 500, "lifespan": 5}
        found = Solver(one_emitter(emitter=emitter)).at(30)
        self.assertLess(float(np.abs(found.velocity).max()), 1e-3)
        by_way = {**emitter, "rate": 1, "rate_per": "px"}
        self.assertEqual(len(Solver(one_emitter(emitter=by_way)).at(60)), 0)
        moving = {"value": 0, "keys": [
            {"at_s": 0, "value": 0, "joint": "straight"}, {"at_s": 1, "value": 100, "joint": "hold"},
            {"at_s": 1.5, "value": 400, "joint": "straight"}, {"at_s": 2.5, "value": 500, "joint": "straight"},
        ]}  # fmt: skip
        born = Solver(one_emitter(emitter={**by_way, "inherit": 0, "across": moving})).at(100)
        self.assertAlmostEqual(len(born), 200, delta=2)
        self.assertEqual(int(((born.position[:, 0] > 101) & (born.position[:, 0] < 399)).sum()), 0)

    def test_the_seam_of_a_loop_bears_nothing(self) -> None:
        way = {
            "value": 0,
            "keys": [{"at_s": 0, "value": -200, "joint": "straight"}, {"at_s": 4, "value": 200, "joint": "straight"}],
        }
        emitter = {"across": way, "rate": 0.5, "rate_per": "px", "lifespan": 3, "speed": 0, "inherit": 100}
        shot = one_emitter(emitter=emitter, loop=True, last_frame=99)
        for frame in (1, 50, 98):
            found = Solver(shot).at(frame)
            self.assertAlmostEqual(len(found), 150, delta=3)
            np.testing.assert_allclose(found.velocity[:, 0], 100, atol=0.5)

    def test_threads_that_share_a_limited_shot_agree(self) -> None:
        emitter = {"rate": 400, "lifespan": {"value": 2, "spread": 1}, "limit": 300, "cadence": "jittered"}
        frames = (60, 90, 120, 150, 180, 200)
        alone = [len(Solver(one_emitter(emitter=emitter)).at(frame)) for frame in frames]
        for _ in range(4):
            solver = Solver(one_emitter(emitter=emitter))
            ready = threading.Barrier(6)

            def at(frame: int) -> int:
                ready.wait()  # noqa: B023
                return len(solver.at(frame))  # noqa: B023

            with ThreadPoolExecutor(6) as pool:
                self.assertEqual(list(pool.map(at, frames)), alone)
            self.assertGreater(min(alone), 290)


class Draws(unittest.TestCase):
    def test_a_bell_does_not_pile_up_at_its_ends(self) -> None:
        drawn = draws_around(77, np.arange(200_000), 9, True)
        self.assertLess(int((np.abs(drawn) >= 0.99999).sum()), 20)
        # The standard deviation of a normal one that is cut at two of its deviations.
        self.assertAlmostEqual(float(drawn.std()), 0.5 * 0.8796, delta=0.002)

    def test_a_preset_planted_twice_moves_alike(self) -> None:
        kept = one_emitter(
            emitter={"rate": 200},
            forces=[force("wind", strength={"value": 100, "spread": 80}, direction={"value": 0, "spread": 40})],
        )  # fmt: skip
        empty = Shot()
        first, _ = planted(empty, kept)
        second, _ = planted(empty, kept)
        np.testing.assert_array_equal(Solver(first).at(50).position, Solver(second).at(50).position)
        np.testing.assert_array_equal(Solver(first).at(50).position, Solver(kept).at(50).position)


class Noise(unittest.TestCase):
    def still(self, **fields: Any) -> Any:
        emitter = {**ONE, "bursts": [{"count": 400}], "shape": {"kind": "rectangle", "width": 900, "height": 900}}
        return Solver(
            one_emitter(emitter=emitter, forces=[force("displacement", strength=30, **fields)], last_frame=999)
        )

    def test_within_a_shot_it_never_comes_back(self) -> None:
        solver = self.still(evolve=0.3)
        first = solver.at(0).position
        for turn in range(1, 11):
            again = solver.at_seconds(__import__("fractions").Fraction(turn * 10, 3)).position
            self.assertGreater(float(np.abs(again - first).mean()), 3)

    def test_within_a_minute_it_does_not_come_near_to_what_it_was(self) -> None:
        """The correlation of its shifts with those at second 0, over many places far apart, once it has fallen."""
        where = {"shape": {"kind": "rectangle", "width": 30_000, "height": 30_000}, "bursts": [{"count": 2000}]}
        noise = force("displacement", strength=30, evolve=0.3, size=100)
        resting = Solver(one_emitter(emitter=ONE | where, last_frame=1500)).at(0).position
        solver = Solver(one_emitter(emitter=ONE | where, forces=[noise], last_frame=1500))
        first = solver.at(0).position - resting
        for frame in range(25, 1500, 4):
            now = solver.at(frame).position - resting
            self.assertLess(float((now * first).sum() / (first**2).sum()), 0.5, frame)

    def test_stretched_it_is_as_strong_as_before(self) -> None:
        def usual(**fields: Any) -> float:
            shifted = self.still(evolve=0, **fields).at(0).position
            plain = Solver(
                one_emitter(
                    emitter={
                        **ONE,
                        "bursts": [{"count": 400}],
                        "shape": {"kind": "rectangle", "width": 900, "height": 900},
                    }
                )
            ).at(0)
            return float(np.sqrt(((shifted - plain.position) ** 2).sum(axis=1).mean()))

        plain = usual()
        for fields in ({"along_x": 300}, {"along_x": 300, "along_y": 30}, {"along_x": 50, "octaves": 3}):
            self.assertAlmostEqual(usual(**fields) / plain, 1, delta=0.2)


class Ranges(unittest.TestCase):
    def test_what_is_read_stays_in_the_range_of_its_field(self) -> None:
        driven = {"measure": "number", "thing": "e.spread", "high": 360, "makes_high": 1e9, "combine": "add"}
        shot = one_emitter(
            emitter={
                "rate": {"value": 100, "source": driven},
                "lit": {"value": 50, "flutter": {"amount": 1000}}, "spread": 180, "limit": 100,
                "finish": [
                    {"kind": "grade", "contrast": {"value": 100, "flutter": {"amount": 1e6}}},
                    {"kind": "blur", "sigma": {"value": 4, "flutter": {"amount": 1e6}}},
                    {"kind": "glow", "radius": {"value": 4, "flutter": {"amount": 1e5}}},
                ],
            },
            lights=[{"id": "l"}], width=160, height=90,
        )  # fmt: skip
        for frame in (3, 7, 20):
            picture = render_frame(shot, frame)
            self.assertTrue(np.isfinite(picture).all())
            self.assertTrue(((picture[..., 3] >= 0) & (picture[..., 3] <= 1)).all())
        readings, e = Readings(shot), shot.emitters[0]
        self.assertEqual(float(readings.number(e.rate, 1.0)[0]), 1e6)
        lit = readings.number(e.lit, np.linspace(0, 5, 200))
        self.assertEqual((float(lit.min()), float(lit.max())), (0.0, 100.0))

    def test_a_number_alone_has_no_range(self) -> None:
        wild = Number(value=1e8, source=Source(measure="number", thing="x"), flutter=Flutter(amount=1e6))
        self.assertGreater(float(np.abs(Readings(Shot()).number(wild, 0.3)[0])), 1e7)


class Light(unittest.TestCase):
    def test_sharpened_it_covers_no_more_than_all(self) -> None:
        shot = one_emitter(
            emitter={"size": 60, "rate": 60, "spread": 360, "finish": [{"kind": "sharpen", "amount": 400}]},
            width=320,
            height=180,
        )
        picture = render_frame(shot, 40)
        self.assertLessEqual(float(picture[..., 3].max()), 1.0)
        self.assertGreaterEqual(float(picture.min()), 0.0)

    def test_a_plate_that_is_scaled_up_covers_no_more_than_all(self) -> None:
        picture = np.zeros((8, 8, 4), np.float32)
        picture[2:6, 2:6] = 1
        grown = fitted(picture, 64, 64, "fill", 8.0)
        self.assertLessEqual(float(grown[..., 3].max()), 1.0)

    def test_the_last_fade_follows_its_keys(self) -> None:
        keyed = {"value": 0, "keys": [{"at_s": 0, "value": 0, "joint": "hold"}, {"at_s": 1, "value": 100}]}
        found = Solver(one_emitter(emitter={"fade_last": keyed, "rate": 50, "lifespan": 1})).at(45)
        late = found.age < 0.79
        np.testing.assert_allclose(found.opacity[late], 1 - found.age01[late], atol=1e-3)
        np.testing.assert_allclose(found.opacity[found.age > 0.81], 1, atol=1e-3)

    def test_a_gradient_of_one_colour_is_that_colour(self) -> None:
        self.assertEqual(Gradient.model_validate({"colours": [{"at": 0, "colour": "#ffffff"}]}).mix, "oklab")


class KillZones(unittest.TestCase):
    def test_no_particle_passes_a_thin_one(self) -> None:
        thin = {"id": "z", "shape": "box", "width": 5, "height": 4000, "deep": 4000, "across": 200, "falloff": 0}
        kill = {"kind": "remove", "id": "k", "zone": "z"}
        emitter = {
            "rate": 500,
            "speed": {"value": 3000, "spread": 400},
            "direction": 0,
            "lifespan": 0.5,
            "cadence": "random",
        }
        found = Solver(one_emitter(emitter=emitter, forces=[kill], zones=[thin])).at(40)
        self.assertGreater(len(found), 10)
        self.assertEqual(int((found.position[:, 0] > 203).sum()), 0)


if __name__ == "__main__":
    unittest.main()
