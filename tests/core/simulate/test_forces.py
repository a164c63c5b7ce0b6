"""Each force of the world against its closed form, through the document."""

import math
import unittest
import unittest.mock
from typing import Any

import numpy as np

from isbjorn.core import Particles, Shot, Solver
from isbjorn.core.emit.newborn import BirthSource
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.simulate.forces.turbulence import NOISE
from isbjorn.core.simulate.integrators import batched as drift
from isbjorn.core.simulate.integrators.stepped import SteppedIntegrator, pack_world
from isbjorn.core.simulate.noise import flow
from tests.shots import KEY, force, one_emitter

ONE = {"rate": 0, "bursts": [{"count": 1}], "lifespan": 0, "speed": 0}


def flown(
    frames: int, forces: list[dict[str, Any]], emitter: dict[str, Any] | None = None, **more: Any
) -> list[Particles]:
    """One particle without end, at every frame from its birth on."""
    more = {"last_frame": max(frames, 249), **more}
    solver = Solver(one_emitter(emitter={**ONE, **(emitter or {})}, forces=forces, **more))
    return [solver.at(frame) for frame in range(frames + 1)]


def places(states: list[Particles]) -> np.ndarray:
    return np.array([s.position[0] for s in states], np.float64)


def _by_the_world() -> Any:
    """All that moves is stepped by the integrator that knows everything."""
    begun = SteppedIntegrator.__init__

    def init(self: Any, *args: Any) -> None:
        begun(self, *args)
        self.drifts = False

    return unittest.mock.patch.object(SteppedIntegrator, "__init__", init)


class Air(unittest.TestCase):
    def test_wind_draws_to_its_speed_as_an_exponential(self) -> None:
        states = flown(100, [force("wind", strength=200, direction=30, grip=1.5)], {"speed": 50, "direction": 90})
        t = np.arange(101) / 25
        wind = 200 * np.array([math.cos(math.pi / 6), math.sin(math.pi / 6)])
        expected = wind + (np.array([0, 50]) - wind) * np.exp(-1.5 * t)[:, None]
        np.testing.assert_allclose([s.velocity[0, :2] for s in states], expected, atol=0.02)

    def test_quadratic_drag_slows_as_one_over_time(self) -> None:
        states = flown(100, [force("drag", strength=2, law="quadratic")], {"speed": 400})
        t = np.arange(101) / 25
        np.testing.assert_allclose([s.velocity[0, 1] for s in states], 400 / (1 + 0.02 * 400 * t), rtol=4e-3)

    def test_mass_divides_forces_but_not_gravity(self) -> None:
        light = flown(25, [force("wind", strength=100, grip=1)])[-1]
        heavy = flown(25, [force("wind", strength=100, grip=1)], {"mass": 4})[-1]
        self.assertAlmostEqual(float(light.velocity[0, 0]), 100 * (1 - math.exp(-1)), delta=0.05)
        self.assertAlmostEqual(float(heavy.velocity[0, 0]), 100 * (1 - math.exp(-0.25)), delta=0.05)
        falls = [flown(25, [force("gravity", strength=2)], {"mass": m})[-1].position[0, 1] for m in (1, 7)]
        self.assertAlmostEqual(float(falls[0]), float(falls[1]), delta=1e-3)

    def test_a_speed_limit_holds_whatever_pulls(self) -> None:
        states = flown(100, [force("gravity", strength=30)], {"speed_limit": 250})
        self.assertLessEqual(max(float(np.linalg.norm(s.velocity)) for s in states), 250.01)


class Turbulence(unittest.TestCase):
    def field(self, **fields: Any) -> Any:
        shot = one_emitter(forces=[force("turbulence", size=100, **fields)])
        readings = Readings(shot)
        tables = pack_world(
            shot, BirthSource(shot.emitters[0], KEY, readings), readings, "motion", np.array([1.7]), 0.0
        )
        return lambda x, y, z: np.array(flow(tables.rows, 0, 0, NOISE, x, y, z))

    def test_it_has_neither_sources_nor_sinks(self) -> None:
        rng = np.random.default_rng(5)
        for fields in (
            {}, {"octaves": 4}, {"along_z": 100}, {"noise": "cellular"}, {"noise": "cellular", "along_z": 100},
            {"along_z": 100, "along_x": 40, "octaves": 2},
        ):  # fmt: skip
            at, h = self.field(**fields), 1e-3
            worst, norms = 0.0, []
            for place in rng.uniform(-400, 400, (120, 3)):
                slope = np.array([
                    (at(*(place + h * axis)) - at(*(place - h * axis))) / (2 * h) for axis in np.eye(3)
                ])  # fmt: skip
                norms.append(np.linalg.norm(slope))
                worst = max(worst, abs(np.trace(slope)))
            with self.subTest(fields):
                self.assertLess(worst, 1e-3 * float(np.mean(norms)))

    def test_its_usual_speed_is_the_one_given(self) -> None:
        rng = np.random.default_rng(6)
        for fields in ({}, {"along_z": 100}, {"noise": "cellular"}, {"octaves": 3}):
            at = self.field(**fields)
            speeds = [np.linalg.norm(at(*p)) for p in rng.uniform(-3000, 3000, (3000, 3))]
            with self.subTest(fields):
                self.assertAlmostEqual(
                    math.sqrt(np.mean(np.square(speeds))), 1, delta=0.12 if "octaves" not in fields else 0.4
                )

    def test_an_axis_that_is_off_does_not_move(self) -> None:
        moved = flown(50, [force("turbulence", along_x=0, along_z=100)])
        self.assertEqual(float(np.abs(places(moved)[:, 0]).max()), 0)
        self.assertGreater(float(np.abs(places(moved)[:, 1:]).max()), 1)

    def test_another_seed_is_another_air_and_the_same_is_the_same(self) -> None:
        a, b, c = (flown(30, [force("turbulence", seed=s)])[-1].position for s in (1, 1, 2))
        np.testing.assert_array_equal(a, b)
        self.assertGreater(float(np.abs(a - c).max()), 0.5)

    def test_what_many_lie_between_is_worked_out_once_and_is_the_same_to_the_bit(self) -> None:
        kept = drift.eddies
        for fields in ({}, {"octaves": 3, "evolve": 1}, {"along_x": 0}, {"along_z": 100}):
            forces = [force("turbulence", size=90, strength=200, **fields), force("drag", strength=0.4)]
            shot = one_emitter(emitter={"rate": 3000, "speed": 80, "spread": 180}, forces=forces)
            with unittest.mock.patch.object(drift, "eddies", wraps=kept) as asked:
                together = Solver(shot).at(50)
            last = asked.call_args_list[-1].args
            none = unittest.mock.Mock(side_effect=lambda rows, *_: (np.zeros((0, 0)), np.zeros((0, len(rows[0]), 0))))
            with unittest.mock.patch.object(drift, "eddies", none):
                alone = Solver(shot).at(50)
            with self.subTest(**fields):
                np.testing.assert_array_equal(together.position, alone.position)
                np.testing.assert_array_equal(together.velocity, alone.velocity)
                self.assertEqual(kept(*last)[0].size > 0, "along_z" not in fields, "of all that lies in a plane")

    def test_many_abreast_go_as_each_goes_by_itself(self) -> None:
        """Against the integrator of everything, particle by particle: all kinds of rows, zones, curves, draws, births between."""
        zone = {"id": "z", "shape": "sphere", "radius": 250, "falloff": 100, "across": 60}
        rise = {"points": [{"at": 0, "value": 0}, {"at": 1, "value": 2}]}
        fade = {"points": [{"at": 0, "value": 1}, {"at": 0.5, "value": 0}]}
        forces = [
            force("drag", strength={"value": 0.5, "spread": 0.4}), force("drag", id="air", strength=1, law="quadratic"),
            force("wind", direction={"value": 20, "spread": 60}, grip=0.7, zone="z"), force("gravity", strength=1, zone="z"),
            force("turbulence", size=90, octaves=3, strength={"value": 200, "over_life": rise, "over_life_to": fade}),
            force("attractor", strength={"value": 400, "spread": 100}, across=-100, softness=20),
        ]  # fmt: skip
        more = {"mass": {"value": 1, "spread": 0.5}, "lifespan": {"value": 1.5, "spread": 0.5}}
        for rate in (90, 2500):
            emitter = {"rate": rate, "speed": {"value": 80, "spread": 60}, "spread": 180, **more}
            shot = one_emitter(emitter=emitter, forces=forces, zones=[zone])
            with unittest.mock.patch.object(drift, "drift", wraps=drift.drift) as asked:
                abreast = Solver(shot).at(60)
            self.assertGreater(asked.call_count, 0)
            with unittest.mock.patch.object(drift, "drift", side_effect=AssertionError), _by_the_world():
                alone = Solver(shot).at(60)
            with self.subTest(rate):
                self.assertEqual(abreast.id.tolist(), alone.id.tolist())
                np.testing.assert_allclose(abreast.position, alone.position, rtol=0, atol=2e-3)
                np.testing.assert_allclose(abreast.velocity, alone.velocity, rtol=0, atol=2e-2)

    def test_an_onset_over_life_spares_the_young(self) -> None:
        late = {"points": [{"at": 0, "value": 0}, {"at": 0.5, "value": 0, "joint": "hold"}, {"at": 0.5, "value": 1}]}
        shot = one_emitter(forces=[force("turbulence", strength={"value": 90, "over_life": late})])
        found = Solver(shot).at(200)
        young = found.age01 < 0.45
        np.testing.assert_allclose(found.position[young, 0], 0, atol=1e-3)
        self.assertGreater(float(np.abs(found.position[~young, 0]).max()), 3)


class Displacement(unittest.TestCase):
    def test_it_shifts_what_is_seen_and_leaves_the_motion_alone(self) -> None:
        plain, moved, none = (
            Solver(one_emitter(forces=f)).at(90)
            for f in ([], [force("displacement", strength=40, swell=80)], [force("displacement", strength=0)])
        )
        np.testing.assert_array_equal(moved.velocity, plain.velocity)
        np.testing.assert_array_equal(none.position, plain.position)
        self.assertGreater(float(np.abs(moved.position - plain.position).max()), 10)
        self.assertGreater(float(np.ptp(moved.size)), 1)

    def test_emitters_can_be_apart(self) -> None:
        shot = one_emitter(forces=[force("displacement", apart=500)])
        twin = shot.emitters[0].model_copy(update={"id": "f"})
        links = (*shot.links, shot.links[0].model_copy(update={"emitter": "f"}))
        found = Solver(shot.model_copy(update={"emitters": (*shot.emitters, twin), "links": links})).at(50)
        first, second = (found.position[found.emitter == n] for n in (0, 1))
        self.assertGreater(float(np.abs(first - second).max()), 5)


class Vortex(unittest.TestCase):
    def test_without_pull_the_radius_stays_for_ever(self) -> None:
        for strength in (50, 400, 20_000):
            there = places(flown(249, [force("vortex", strength=strength, radius=80)], {"across": 130, "up": -40}))
            np.testing.assert_allclose(np.hypot(there[:, 0], there[:, 1]), math.hypot(130, 40), rtol=2e-5)

    def test_it_turns_as_rankine_says(self) -> None:
        inside = places(flown(25, [force("vortex", strength=60, radius=100)], {"across": 50}))[-1]
        self.assertAlmostEqual(math.atan2(inside[1], inside[0]), 0.6, delta=1e-3)
        outside = places(flown(25, [force("vortex", strength=60, radius=100)], {"across": 200}))[-1]
        self.assertAlmostEqual(math.atan2(outside[1], outside[0]), 60 * 100 / 200**2, delta=1e-3)

    def test_pull_and_lift(self) -> None:
        shaft = {"pull": 0.5, "lift": 30, "direction": 0, "tilt": 90}
        there = places(flown(50, [force("vortex", **shaft)], {"across": 90}))[-1]
        self.assertAlmostEqual(math.hypot(there[0], there[1]), 90 * math.exp(-1), delta=0.01)
        self.assertAlmostEqual(there[2], 60, delta=0.01)

    def test_its_velocity_is_reported(self) -> None:
        found = flown(10, [force("vortex", strength=60, radius=100)], {"across": 100})[-1]
        self.assertAlmostEqual(float(np.linalg.norm(found.velocity)), 60, delta=0.2)


class Attractor(unittest.TestCase):
    def test_energy_is_kept_over_many_rounds(self) -> None:
        strength, radius, soft = 900, 100, 20
        pull = [force("attractor", strength=strength, radius=radius, power=2, softness=soft)]
        states = flown(1500, pull, {"across": 150, "speed": 170, "direction": 90})
        v2 = np.array([float(np.sum(s.velocity**2)) for s in states])
        d = np.sqrt(np.sum(places(states) ** 2, axis=1) + soft**2)
        energy = v2 / 2 - strength * radius**2 / d
        self.assertLess(float(np.ptp(energy) / abs(energy.mean())), 0.01)
        ends = energy[:200].mean(), energy[-200:].mean()
        self.assertLess(abs(ends[0] - ends[1]) / abs(ends[0]), 1e-3, "no drift")

    def test_below_zero_it_pushes_up_to_its_speed_limit(self) -> None:
        pushed = flown(50, [force("attractor", strength=-500)], {"across": 30})[-1]
        self.assertGreater(float(pushed.position[0, 0]), 100)
        limited = flown(100, [force("attractor", strength=5000, speed_limit=90)], {"across": 300})
        self.assertLessEqual(max(float(np.linalg.norm(s.velocity)) for s in limited), 90.01)

    def test_the_order_of_forces_never_matters(self) -> None:
        forces = [force("attractor"), force("turbulence"), force("wind"), force("drag")]
        a, b = (flown(60, f, {"across": 80})[-1].position for f in (forces, forces[::-1]))
        np.testing.assert_array_equal(a, b)


class Follow(unittest.TestCase):
    def test_it_leads_along_its_path(self) -> None:
        line = [{"x": -300, "y": 50}, {"x": 300, "y": 50}]
        last = flown(75, [force("follow", points=line, strength=100, pull=2, grip=5)], {"across": -200})[-1]
        self.assertAlmostEqual(float(last.position[0, 1]), 50, delta=3)
        self.assertAlmostEqual(float(last.velocity[0, 0]), 100, delta=1)


class Zones(unittest.TestCase):
    def test_a_force_acts_only_in_its_zone_and_fades_to_its_edge(self) -> None:
        zone = {"id": "z", "shape": "box", "width": 400, "height": 400, "falloff": 100}
        wind = force("gravity", strength=1, direction=0, zone="z")
        speeds = {}
        for across in (0, 150, 190, 250):
            found = flown(1, [wind], {"across": across}, zones=[zone])[-1]
            speeds[across] = float(found.velocity[0, 0])
        self.assertAlmostEqual(speeds[0], 100 / 25, delta=1e-3)
        self.assertAlmostEqual(speeds[150], 50 / 25, delta=0.02)
        self.assertEqual(speeds[250], 0)
        self.assertTrue(0 < speeds[190] < speeds[150])

    def test_inverted_it_acts_outside(self) -> None:
        zone = {"id": "z", "radius": 100, "falloff": 0, "inverted": True}
        wind = force("gravity", strength=1, direction=0, zone="z")
        self.assertEqual(float(flown(5, [wind], {"across": 20}, zones=[zone])[-1].velocity[0, 0]), 0)
        self.assertGreater(float(flown(5, [wind], {"across": 220}, zones=[zone])[-1].velocity[0, 0]), 10)

    def test_half_a_world(self) -> None:
        zone = {"id": "z", "shape": "half", "falloff": 0, "up": -50}
        for up, moves in ((0, False), (-100, True)):
            found = flown(5, [force("gravity", strength=1, direction=0, zone="z")], {"up": up}, zones=[zone])[-1]
            self.assertEqual(float(found.velocity[0, 0]) > 0, moves)

    def test_kill_zones_inside_and_outside(self) -> None:
        zone = {"id": "z", "radius": 100}
        for side, inside in (("inside", False), ("outside", True)):
            shot = one_emitter(
                emitter={"spread": 360, "speed": 300, "rate": 300, "across": 0 if side == "outside" else 180},
                forces=[force("remove", zone="z", side=side)], zones=[zone],
            )  # fmt: skip
            radius = np.linalg.norm(Solver(shot).at(100).position, axis=1)
            self.assertTrue((radius <= 100.01).all() if inside else (radius >= 99.99).all(), side)
            self.assertGreater(len(radius), 50)

    def test_a_fast_one_does_not_jump_over_a_kill_zone(self) -> None:
        shot = one_emitter(
            emitter={"speed": 2400, "rate": 100, "up": -300},
            forces=[force("remove", zone="z")], zones=[{"id": "z", "shape": "box", "height": 12, "width": 900}],
        )  # fmt: skip
        self.assertLess(float(Solver(shot).at(60).position[:, 1].max()), 6.1)

    def test_a_force_in_its_emitters_frame_follows_it(self) -> None:
        keys = [{"at_s": 0, "value": -200}, {"at_s": 4, "value": 200}]
        moving = {"across": {"value": 0, "keys": keys}, "turn": 90}
        found = Solver(
            one_emitter(
                emitter={**moving, "speed": 0}, forces=[force("attractor", frame="emitter", across=50, strength=2000)]
            )
        ).at(60)
        oldest = np.argmax(found.age)
        # Turned by 90°, 50 to the right of the emitter is 50 above it.
        self.assertGreater(float(found.velocity[oldest, 1]), 0)


class Everything(unittest.TestCase):
    def test_a_shot_of_all_forces_stays_finite(self) -> None:
        kinds = ("gravity", "wind", "drag", "turbulence", "displacement", "vortex", "attractor", "follow", "surface")
        wild = {"attractor": {"strength": 1e7, "softness": 0.1, "power": -2}, "vortex": {"pull": -100, "strength": 1e5}}
        forces = [force(kind, **wild.get(kind, {})) for kind in kinds]
        shot = one_emitter(emitter={"spread": 360, "speed": 1e5, "lifespan": 0}, forces=forces)
        self.assertIsInstance(shot, Shot)
        found = Solver(shot).at(200)
        self.assertTrue(np.isfinite(found.position).all() and np.isfinite(found.velocity).all())


if __name__ == "__main__":
    unittest.main()
