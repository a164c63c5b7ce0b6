"""Bad input of drivers, shapes and the world: refused with the field named, at its edges taken and survived."""

import unittest
from typing import Any

import numpy as np

from isbjorn.core import IsbjornError, Shot, Solver
from isbjorn.core.document.files import parse_shot, shot_from_text, shot_to_text
from isbjorn.core.inspect.guides import guides
from tests.shots import force, one_emitter

NAN, INF = float("nan"), float("inf")


class Refused(unittest.TestCase):
    def reported(self, **shot: Any) -> str:
        with self.assertRaises(IsbjornError) as caught:
            parse_shot(shot)
        return str(caught.exception)

    def test_numbers_of_forces_outside_their_range(self) -> None:
        for kind, field, value in (
            ("gravity", "strength", 1e9), ("wind", "grip", -1), ("drag", "strength", -0.1), ("turbulence", "size", 0),
            ("turbulence", "octaves", 9), ("turbulence", "octaves", 0), ("turbulence", "gain", 3), ("turbulence", "evolve", NAN),
            ("displacement", "swell", -1), ("vortex", "radius", 0), ("vortex", "pull", 101), ("attractor", "power", 5),
            ("attractor", "softness", 0), ("follow", "grip", -2), ("surface", "restitution", 101), ("surface", "friction", -1),
            ("surface", "width", INF), ("turbulence", "seed", -1),
        ):  # fmt: skip
            with self.subTest(kind=kind, field=field, value=value):
                self.assertIn(field, self.reported(forces=[force(kind, **{field: value})]))

    def test_kinds_and_choices_that_are_none(self) -> None:
        for shot in (
            {"forces": [{"kind": "magnet"}]}, {"forces": [force("surface", shape="torus")]},
            {"forces": [force("surface", outcome="explode")]}, {"zones": [{"shape": "cone"}]},
            {"emitters": [{"shape": {"kind": "torus"}}]}, {"emitters": [{"shape": {"kind": "disc", "fill": "half"}}]},
            {"emitters": [{"rate_per": "mile"}]}, {"emitters": [{"stays": "put"}]}, {"emitters": [{"toward": "there"}]},
        ):  # fmt: skip
            with self.subTest(shot):
                self.assertGreater(len(self.reported(**shot)), 20)

    def test_births_that_cannot_be(self) -> None:
        for field, value in (
            ("delay_s", -1), ("delay_s", INF), ("bursts", [{"count": 0}]), ("bursts", [{"count": 10**7}]),
            ("bursts", [{"every_s": 0}]), ("bursts", [{"over_s": -1}]), ("mass", 0), ("tilt", 200), ("inherit", -5),
            ("spin", 1e6), ("tint", [{"at_s": 0, "colour": "red"}]), ("scale", -1), ("speed_limit", -3),
        ):  # fmt: skip
            with self.subTest(field=field, value=value):
                self.assertIn(field, self.reported(emitters=[{field: value}]))

    def test_shapes_that_cannot_be(self) -> None:
        for shape in (
            {"kind": "path", "points": [{"x": 0, "y": 0}]}, {"kind": "path", "points": [{"x": NAN, "y": 0}, {"x": 1, "y": 1}]},
            {"kind": "letters", "text": ""}, {"kind": "artwork", "paths": []}, {"kind": "sphere", "radius": -1},
            {"kind": "box", "deep": 1e9}, {"kind": "plate", "above": 101},
        ):  # fmt: skip
            with self.subTest(shape):
                self.assertIn("shape", self.reported(emitters=[{"shape": shape}]))

    def test_drivers_that_cannot_be(self) -> None:
        for number in (
            {"value": 1, "keys": [{"at_s": 1, "value": 1}, {"at_s": 0, "value": 2}]},
            {"value": 1, "keys": [{"at_s": NAN, "value": 1}]}, {"value": 1, "keys": [{"at_s": 0, "value": 1e12}]},
            {"value": 1, "keys": [{"at_s": 0, "value": 1, "ease": [2, 0, 0, 1]}]},
            {"value": 1, "flutter": {"times_per_s": -1}}, {"value": 1, "flutter": {"amount": INF}},
            {"value": 1, "source": {"measure": "smell"}}, {"value": 1, "source": {"measure": "distance"}},
            {"value": 1, "source": {"measure": "speed", "low": NAN}}, {"value": 1, "reads": "sometimes"},
            {"value": 1, "over_life_to": {"points": [{"at": 0, "value": 1}]}},
        ):  # fmt: skip
            with self.subTest(number):
                self.assertIn("emitters.0.size", self.reported(emitters=[{"size": number}]))

    def test_paths_and_cameras(self) -> None:
        self.assertIn("points", self.reported(markers=[{"path": {"points": []}}]))
        self.assertIn("pan", self.reported(camera={"pan": 1e9}))
        self.assertIn("focal_mm", self.reported(camera={"focal_mm": 0}))
        self.assertIn("same", self.reported(markers=[{"id": "same"}], zones=[{"id": "same"}]))


class Survived(unittest.TestCase):
    def finite(self, shot: Shot, frame: int = 90) -> None:
        found = Solver(shot).at(frame)
        for name in ("position", "velocity", "size", "opacity", "colour", "angle"):
            self.assertTrue(np.isfinite(found[name]).all(), name)
        guides(shot, frame)
        self.assertEqual(shot_from_text(shot_to_text(shot)), shot)

    def test_forces_at_the_ends_of_their_ranges(self) -> None:
        for kind, fields in (
            ("wind", {"strength": 1e5, "grip": 1e6}), ("drag", {"strength": 1e6, "law": "quadratic"}),
            ("turbulence", {"size": 1, "strength": 1e5, "octaves": 8, "lacunarity": 8, "gain": 2, "evolve": 100}),
            ("turbulence", {"along_x": 0, "along_y": 0}), ("turbulence", {"noise": "cellular", "along_z": 1000}),
            ("displacement", {"strength": 1e5, "swell": 1000}), ("vortex", {"strength": -1e5, "radius": 1, "pull": 100}),
            ("vortex", {"pull": -100}), ("attractor", {"strength": -1e7, "radius": 1e5, "power": 4, "softness": 0.1}),
            ("follow", {"strength": 1e5, "pull": 1000, "grip": 1e6}), ("surface", {"shape": "sphere", "radius": 0}),
            ("surface", {"shape": "box", "side": "inside", "width": 0}), ("gravity", {"strength": -1e4, "tilt": 180}),
            ("follow", {"points": [{"x": 5, "y": 5}, {"x": 5, "y": 5}]}),
        ):  # fmt: skip
            with self.subTest(kind=kind, fields=fields):
                self.finite(one_emitter(emitter={"spread": 360}, forces=[force(kind, **fields)]))

    def test_sources_of_no_extent(self) -> None:
        same = [{"x": 0, "y": 0}, {"x": 0, "y": 0}]
        for emitter in (
            {"shape": {"kind": "line", "length": 0}}, {"shape": {"kind": "disc", "radius": 0, "fill": "edge"}},
            {"shape": {"kind": "rectangle", "width": 0, "height": 0, "fill": "shell"}}, {"shape": {"kind": "box", "deep": 0}},
            {"shape": {"kind": "sphere", "radius": 0, "fill": "shell", "thickness": 0}},
            {"shape": {"kind": "path", "points": same}},
            {"scale": 0}, {"path": {"points": same, "along": 50, "turns": True}}, {"toward": "travel"},
            {"rate": 50, "rate_per": "px"}, {"spread": 0, "in_depth": True, "tilt": 90},
        ):  # fmt: skip
            with self.subTest(emitter):
                self.finite(one_emitter(emitter=emitter))

    def test_drivers_at_their_ends(self) -> None:
        steep = [{"at_s": t, "value": v} for t, v in ((0, 0), (0, 1e4), (1e-6, 0), (3, 1e4))]
        for number in (
            {"value": 5, "keys": steep}, {"value": 5, "flutter": {"times_per_s": 1000, "amount": 1e6}},
            {"value": 5, "flutter": {"times_per_s": 0}}, {"value": 5, "spread": 1e4, "spread_shape": "bell"},
            {"value": 5, "source": {"measure": "speed", "low": 1, "high": 1, "makes_high": 1e4}, "reads": "life"},
            {"value": 5, "source": {"measure": "plate"}, "reads": "life"},
        ):  # fmt: skip
            with self.subTest(number):
                self.finite(one_emitter(emitter={"size": number}))

    def test_a_loop_of_one_frame_and_a_shot_of_one_frame(self) -> None:
        self.finite(one_emitter(loop=True, last_frame=0, emitter={"lifespan": 3}), 0)
        self.finite(one_emitter(last_frame=0, emitter={"pre_roll_s": 2}), 0)


if __name__ == "__main__":
    unittest.main()
