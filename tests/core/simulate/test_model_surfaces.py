"""Models as surfaces and zones: from shots, against closed forms and the surfaces of the same form."""

import math
import unittest
from typing import Any

import numpy as np

from isbjorn.core import Solver
from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document import Shot
from isbjorn.core.evaluate.geometry import mesh_trees
from isbjorn.core.evaluate.geometry.placed_models import ModelRows
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.simulate.track import shares_of
from tests.core.simulate.test_forces import flown
from tests.shots import force, gravity, one_emitter

BURST = {
    "rate": 0, "bursts": [{"count": 400}], "lifespan": 0, "spread": 360, "in_depth": True, "speed": {"value": 600, "spread": 500},
    "size": {"value": 9, "spread": 8}, "shape": {"kind": "sphere", "radius": 40},
}  # fmt: skip


def model(form: str, size: float = 400, side: str = "inside", **more: Any) -> dict[str, Any]:
    measures = more.pop("measures", {})
    return force("surface", shape="model", side=side, model={"form": form} | measures, size=size, **more)


def depths(shot: Shot, places: Floats, frame: int = 0) -> Doubles:
    """The distances (n,) of places to the model of the first surface, below 0 inside."""
    solver = Solver(shot)
    thing, t = shot.forces[-1], np.array([float(shot.seconds(frame))])
    frames, models = solver.readings.frames(thing, t), ModelRows()
    rows = models.add(thing, solver.readings, t, frames.turn, frames.size)[:, None]
    away = places.astype(np.float64) - frames.place[0]
    return np.array([mesh_trees.distance(models.trees, np.ascontiguousarray(rows), 0, 0, 0, *d)[0] for d in away])


class Surfaces(unittest.TestCase):
    def test_a_model_that_is_a_box_is_the_surface_that_is_a_box(self) -> None:
        measures = {"width": 100, "height": 75, "deep": 50}
        for outcome in ("bounce", "slide"):
            how = {"outcome": outcome, "restitution": 70, "friction": 0.1}
            box = force("surface", shape="box", side="inside", width=400, height=300, deep=200, **how)
            there, here = (
                Solver(one_emitter(emitter=BURST, forces=[gravity(400), one], last_frame=200)).at(100).position
                for one in (box, model("box", measures=measures, **how))
            )
            apart = np.linalg.norm(there - here, axis=1)
            self.assertLess(float(np.quantile(apart, 0.98)), 0.01)

    def test_it_reflects_at_the_plane_of_its_face(self) -> None:
        thrown = {"speed": 200, "direction": 0, "size": 4}
        wall = model("card", 300, "outside", across=80, turn=90, turn_x=90, restitution=100, friction=0)
        for turn_y, turn_z in ((90, 0), (60, 0), (75, 30)):
            wall |= {"turn": turn_z, "turn_x": 0, "turn_y": turn_y}
            y, z = math.radians(turn_y), math.radians(turn_z)
            normal = np.array([math.sin(y) * math.cos(z), math.sin(y) * math.sin(z), math.cos(y)])
            after = flown(30, [wall], thrown)[-1].velocity[0]
            came = np.array([200.0, 0, 0])
            np.testing.assert_allclose(after, came - 2 * (came @ normal) * normal, atol=0.05)

    def test_bodies_as_large_as_their_container_are_few(self) -> None:
        shares = []
        for size in (6, 390):
            ball = model("ball", 400, measures={"detail": 5})
            shot = one_emitter(
                emitter=BURST | {"size": size, "bursts": [{"count": 20_000}]}, forces=[ball], limit=1_000_000
            )
            shares.append(shares_of(shot, Readings(shot))["e"])
        self.assertGreater(shares[0], 15_000)
        self.assertLess(shares[1], 300)

    def test_outcomes(self) -> None:
        def thrown(outcome: str) -> Any:
            surface = model("ball", 200, "outside", across=200, outcome=outcome, measures={"detail": 4})
            return flown(60, [surface], {"speed": 200, "direction": 0, "size": 20})[-1]

        self.assertAlmostEqual(float(thrown("stick").position[0, 0]), 90, delta=0.3)
        self.assertEqual(len(thrown("die")), 0)
        self.assertGreater(float(thrown("mark").position[0, 0]), 400)
        self.assertAlmostEqual(float(thrown("mark").touched[0]), 0.45, delta=0.02)
        self.assertLess(float(thrown("bounce").position[0, 0]), 90)

    def test_nothing_escapes_in_ten_million_steps(self) -> None:
        shot = one_emitter(
            emitter=BURST | {"bursts": [{"count": 10_000}], "speed": {"value": 2000, "spread": 1990}},
            forces=[gravity(300), model("gem", restitution=100, friction=0)], last_frame=900, simulation_rate=30,
        )  # fmt: skip
        found = Solver(shot).at(834)
        self.assertEqual(len(found), 10_000)
        self.assertLess(float((depths(shot, found.position) + found.size / 2).max()), 0.02)

    def test_large_and_small_bodies_stay_in_hollow_models(self) -> None:
        for form, start in (("torus", {"across": 140, "shape": {"kind": "point"}}), ("drop", {})):
            emitter = BURST | start | {"size": {"value": 16, "spread": 15}}
            shot = one_emitter(emitter=emitter, forces=[gravity(300), model(form, restitution=0)], last_frame=200)
            found = Solver(shot).at(150)
            self.assertLess(float((depths(shot, found.position) + found.size / 2).max()), 0.02, form)

    def test_one_that_moves_and_turns_takes_along_what_it_holds(self) -> None:
        keys = [{"at_s": 0, "value": -150}, {"at_s": 4, "value": 150}]
        turns = [{"at_s": 0, "value": 0}, {"at_s": 4, "value": 400}]
        holder = model(
            "box", 240, across={"value": 0, "keys": keys}, turn_x={"value": 0, "keys": turns}, restitution=20
        )
        shot = one_emitter(emitter=BURST | {"across": -150, "speed": 50}, forces=[gravity(300), holder], last_frame=200)
        found = Solver(shot).at(90)
        self.assertGreater(float(found.position[:, 0].mean()), -100)
        # A wall that turns comes nearer to what rests on it within a step, by less than a px here.
        self.assertLess(float((depths(shot, found.position, 90) + found.size / 2).max()), 1.5)

    def test_an_open_model_stops_what_comes_from_either_side(self) -> None:
        sheet = model("card", 2000, "inside", turn_x=90, up=0)
        for up, direction in ((40, 270), (-40, 90)):
            emitter = {
                "up": up,
                "direction": direction,
                "speed": {"value": 9000, "spread": 8000},
                "size": 1,
                "spread": 60,
            }
            places = Solver(one_emitter(emitter=emitter, forces=[sheet])).at(100).position
            near = np.abs(places[:, 0]) < 900
            self.assertTrue((places[near, 1] * up > 0).all())

    def test_bodies_that_push_fill_a_model_without_overlap(self) -> None:
        push = {"kind": "push", "id": "push"}
        shot = one_emitter(
            emitter=BURST | {"bursts": [{"count": 150}], "speed": 60, "size": {"value": 22, "spread": 8}},
            forces=[gravity(500), push, model("gem", 300, restitution=10)], last_frame=300,
        )  # fmt: skip
        found = Solver(shot).at(200)
        self.assertLess(float((depths(shot, found.position) + found.size / 2).max()), 0.3)
        apart = np.linalg.norm(found.position[:, None] - found.position[None], axis=2)
        both = 0.5 * (found.size[:, None] + found.size[None])
        np.fill_diagonal(apart, 1e9)
        self.assertLess(float(((both - apart) / both).max()), 0.12)


ZONE = {"id": "z", "shape": "model", "model": {"form": "ball", "detail": 5}, "size": 200, "falloff": 0}
STILL = {
    "rate": 0, "bursts": [{"count": 500}], "speed": 0, "lifespan": 0, "shape": {"kind": "box", "width": 300, "height": 300},
}  # fmt: skip


class Zones(unittest.TestCase):
    def blown(self, zone: dict[str, Any], **emitter: Any) -> Any:
        wind = force("wind", strength=300, direction=0, zone="z")
        return Solver(one_emitter(emitter=STILL | emitter, forces=[wind], zones=[zone])).at(1)

    def test_forces_act_in_it_and_not_beside_it(self) -> None:
        blown = self.blown(ZONE)
        moved, far = np.abs(blown.velocity[:, 0]) > 1e-3, np.linalg.norm(blown.position, axis=1)
        self.assertTrue(moved[far < 99].all())
        self.assertFalse(moved[far > 108].any())

    def test_it_fades_as_a_sphere_does(self) -> None:
        soft = {"falloff": 70}
        sphere = {"id": "z", "shape": "sphere", "radius": 100} | soft
        ours, theirs = (self.blown(zone).velocity[:, 0] for zone in (ZONE | soft, sphere))
        np.testing.assert_allclose(ours, theirs, atol=0.12)
        upside = {"inverted": True}
        ours, theirs = (self.blown(zone | upside).velocity[:, 0] for zone in (ZONE | soft, sphere))
        np.testing.assert_allclose(ours, theirs, atol=0.12)

    def test_a_kill_zone_takes_the_fast_ones_too(self) -> None:
        kill = force("remove", zone="z")
        shot = one_emitter(
            emitter={"across": -200, "speed": {"value": 6000, "spread": 5900}, "direction": 0, "size": 2},
            forces=[kill], zones=[ZONE],
        )  # fmt: skip
        self.assertLess(float(Solver(shot).at(100).position[:, 0].max()), -95)

    def test_contagion_begins_in_it(self) -> None:
        catching = force("contagion", seeds="z", seed_first=0, radius=0.5, begin_s=0)
        found = Solver(one_emitter(emitter=STILL, forces=[catching], zones=[ZONE])).at(10)
        has = found.caught >= 0
        far = np.linalg.norm(found.position, axis=1)
        self.assertTrue(has[far < 99].all())
        self.assertFalse(has[far > 101].any())

    def test_the_feet_of_strands_are_held_in_it(self) -> None:
        strand = {"length": 160, "joints": 8, "foot": "z"}
        shot = one_emitter(
            emitter={"rate": 0, "bursts": [{"count": 20}], "speed": 0, "lifespan": 0, "up": 200, "strand": strand | {"length": 300},
                     "shape": {"kind": "box", "width": 200, "height": 1}},
            zones=[ZONE | {"across": 120}], forces=[gravity(200)],
        )  # fmt: skip
        feet = Solver(shot).at(20).position[7::8]
        self.assertTrue((np.linalg.norm(feet - [120, 0, 0], axis=1) < 101).all())


if __name__ == "__main__":
    unittest.main()
