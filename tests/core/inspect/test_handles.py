"""Grips: a thing that is taken by a grip and drawn to a place has its grip there, whatever it is, carried, turned or seen."""

import math
import unittest
from typing import Any

import numpy as np

from isbjorn.core import Shot
from isbjorn.core.document.files import parse_shot
from isbjorn.core.inspect.guides import Scene, guides
from isbjorn.core.inspect.handles import Grip
from tests.shots import force, one_emitter

Pair = tuple[float, float]
SURFACES = ("plane", "rectangle", "box", "sphere", "path", "matte")


def own(grip: Grip, at: Pair) -> Pair:
    """A place on the picture in a grip's own px, as the page works it out."""
    ax, ay, bx, by = grip.axes
    dx, dy = at[0] - grip.centre[0], at[1] - grip.centre[1]
    det = ax * by - bx * ay
    return (dx * by - dy * bx) / det, (dy * ax - dx * ay) / det


def read(thing: Any, field: str) -> float:
    for part in field.split("/"):
        thing = thing[int(part)] if isinstance(thing, list) else thing[part]
    return float(thing["value"] if isinstance(thing, dict) else thing)


def write(thing: Any, field: str, value: float) -> None:
    *way, last = field.split("/")
    for part in way:
        thing = thing[int(part)] if isinstance(thing, list) else thing[part]
    key: Any = int(last) if isinstance(thing, list) else last
    if isinstance(thing[key], dict):
        thing[key] = {**thing[key], "value": value}
    else:
        thing[key] = value


def drawn(thing: Any, grip: Grip, to: Pair) -> None:
    """What the page does when a grip is drawn to a place."""
    x, y = own(grip, to)
    wx, wy = grip.way
    match grip.kind:
        case "move":
            x0, y0 = own(grip, grip.at)
            values = [read(thing, grip.fields[0]) + x - x0, read(thing, grip.fields[1]) + y - y0]
        case "length":
            values = [max(0, grip.offset + grip.factor * (x * wx + y * wy))]
        case "turn":
            values = [math.degrees(math.atan2(y, x)) + grip.offset, math.hypot(x, y) * grip.factor]
        case _:
            values = [abs(math.atan2(y * wx - x * wy, x * wx + y * wy)) * 360 / math.pi]
    for field, value in zip(grip.fields, values, strict=False):
        write(thing, field, value)


def grips_of(scene: Scene, thing_id: str) -> list[Grip]:
    shown = [g.shown for g in scene.emitters] + scene.world
    return next(s for s in shown if s.id == thing_id).grips


class Drawn(unittest.TestCase):
    def check(self, shot: Shot, field: str, number: int = 0, frame: int = 30) -> None:
        thing_id = getattr(shot, field)[number].id
        for index, grip in enumerate(grips_of(guides(shot, frame), thing_id)):
            to = (grip.at[0] + 13, grip.at[1] - 9)
            given = shot.model_dump(mode="json")
            drawn(given[field][number], grip, to)
            after = grips_of(guides(parse_shot(given), frame), thing_id)[index]
            with self.subTest(thing=thing_id, grip=grip.name, kind=grip.kind):
                self.assertEqual(after.name, grip.name)
                x, y = own(grip, to)
                if grip.kind == "length":
                    # It goes along its way only.
                    along = x * grip.way[0] + y * grip.way[1]
                    now = own(after, after.at)
                    self.assertAlmostEqual(now[0] * grip.way[0] + now[1] * grip.way[1], along, delta=0.05)
                elif grip.kind == "spread":
                    # Drawn to either side, the fan opens on both.
                    u, v = own(after, after.at)
                    wx, wy = grip.way
                    opened = [abs(math.atan2(b * wx - a * wy, a * wx + b * wy)) for a, b in ((u, v), (x, y))]
                    self.assertAlmostEqual(math.degrees(opened[0] - opened[1]), 0, delta=0.2)
                elif grip.kind == "turn" and len(grip.fields) == 1:
                    u, v = own(after, after.at)
                    turned = math.degrees(math.atan2(v, u) - math.atan2(y, x))
                    self.assertAlmostEqual((turned + 180) % 360 - 180, 0, delta=0.2)
                else:
                    np.testing.assert_allclose(after.at, to, atol=0.3)

    def test_shapes_of_emitters(self) -> None:
        for shape in (
            {"kind": "point"}, {"kind": "line", "angle": 25}, {"kind": "disc"}, {"kind": "rectangle", "angle": 40}, {"kind": "box"},
            {"kind": "sphere"}, {"kind": "path"}, {"kind": "letters", "text": "ny"}, {"kind": "artwork"}, {"kind": "plate"},
        ):  # fmt: skip
            self.check(one_emitter(emitter={"shape": shape, "spread": 50, "direction": 70}), "emitters")

    def test_strands_by_their_length(self) -> None:
        hanging = {"shape": {"kind": "disc"}, "turn": 25, "scale": 130, "direction": 300, "strand": {"length": 170}}
        shot = one_emitter(emitter=hanging)
        self.check(shot, "emitters")
        grip = next(g for g in grips_of(guides(shot, 30), shot.emitters[0].id) if g.fields == ["strand/length"])
        self.assertAlmostEqual(math.dist(grip.at, grip.centre), 170, delta=0.01)

    def test_turned_sized_and_carried(self) -> None:
        marker = {"id": "m", "across": -120, "up": 60, "turn": 33, "scale": 150}
        emitter = {
            "shape": {"kind": "disc"}, "across": 90, "turn": -20, "scale": 80, "carried_by": "m", "carry_size": True,
            "spread": 40, "direction": 120,
        }  # fmt: skip
        shot = one_emitter(emitter=emitter, markers=[marker])
        self.check(shot, "emitters")
        self.check(shot, "markers")

    def test_on_a_path(self) -> None:
        points = [{"x": 0, "y": 0, "leave": [40, 60]}, {"x": 200, "y": 30, "arrive": [-50, 20]}]
        emitter = {"shape": {"kind": "point"}, "path": {"points": points, "along": 40}, "up": -70}
        self.check(one_emitter(emitter=emitter), "emitters")

    def test_every_force_and_zone(self) -> None:
        forces = [
            force("gravity", direction=200), force("wind", across=60), force("drag"), force("turbulence"), force("displacement"),
            force("vortex", turn=20, scale=120), force("attractor", across=-80), force("follow"), force("remove"),
            *({**force("surface", shape=s), "id": f"surface {s}"} for s in SURFACES),
        ]  # fmt: skip
        zones = [{"id": s, "shape": s, "turn": 15, "falloff": 40} for s in ("sphere", "box", "half")]
        shot = one_emitter(forces=forces, zones=zones)
        for number in range(len(forces)):
            self.check(shot, "forces", number)
        for number in range(len(zones)):
            self.check(shot, "zones", number)

    def test_a_force_in_its_emitters_frame(self) -> None:
        shot = one_emitter(
            emitter={"across": 150, "turn": 70}, forces=[force("attractor", frame="emitter", across=40, up=20)]
        )
        self.check(shot, "forces")

    def test_through_a_turned_camera(self) -> None:
        camera = {"kind": "flat", "roll": 30, "across": 100}
        self.check(one_emitter(emitter={"shape": {"kind": "rectangle"}, "spread": 30}, camera=camera), "emitters")


class Shown(unittest.TestCase):
    def world(self, thing: str | None = None, frame: int = 0, **more: Any) -> Scene:
        return guides(one_emitter(**more), frame, None, None, thing)

    def arrows(self, kind: str, zones: Any = (), **fields: Any) -> np.ndarray:
        scene = self.world(kind, forces=[force(kind, **fields)], zones=list(zones))
        return np.array(scene.world[0].arrows)

    def test_fields_point_where_the_force_pushes(self) -> None:
        down = self.arrows("gravity", strength=2)
        np.testing.assert_allclose(down[:, 2], 0, atol=1e-6)
        self.assertTrue((down[:, 3] > 0).all(), "down on the picture")
        pull = self.arrows("attractor", power=0)
        toward = np.array([640, 360]) - pull[:, :2]
        self.assertTrue((np.sum(toward * pull[:, 2:], axis=1) > 0).all())
        ring = self.arrows("vortex")
        away = ring[:, :2] - np.array([640, 360])
        self.assertLess(float(np.abs(np.sum(away * ring[:, 2:], axis=1)).max()), 40)
        for kind in ("turbulence", "wind", "follow", "displacement"):
            self.assertGreater(len(self.arrows(kind)), 60, kind)

    def test_a_zone_bounds_its_field(self) -> None:
        inside = self.arrows("wind", zones=[{"id": "z", "radius": 150, "falloff": 100}], zone="z")
        self.assertLess(float(np.hypot(inside[:, 0] - 640, inside[:, 1] - 360).max()), 150)
        lengths = np.hypot(inside[:, 2], inside[:, 3])
        self.assertGreater(float(np.ptp(lengths)), 5)

    def test_only_the_field_that_is_wanted_is_made(self) -> None:
        scene = self.world(None, forces=[force("wind")])
        self.assertEqual(scene.world[0].arrows, [])
        self.assertEqual(len(self.arrows("drag")), 0)

    def test_lines_of_a_zone_show_edge_and_full_strength(self) -> None:
        zone = self.world(zones=[{"id": "z", "radius": 200, "falloff": 50}]).world[0]
        edge, full = (np.array(line) - [640, 360] for line in (zone.lines[0], zone.soft[0]))
        np.testing.assert_allclose(np.linalg.norm(edge, axis=1), 200, atol=0.01)
        np.testing.assert_allclose(np.linalg.norm(full, axis=1), 150, atol=0.01)

    def test_guides_of_a_moving_source_move(self) -> None:
        keys = {"value": 0, "keys": [{"at_s": 0, "value": -100}, {"at_s": 4, "value": 100}]}
        early, late = (self.world(frame=f, emitter={"across": keys}) for f in (0, 100))
        self.assertTrue(early.moving)
        self.assertAlmostEqual(late.emitters[0].shown.centre[0] - early.emitters[0].shown.centre[0], 200, delta=0.1)
        self.assertFalse(self.world().moving)
        (graph,) = early.graphs
        self.assertEqual((graph.path, graph.values[0]), ("/emitters/0/across", -100))

    def test_flights_end_where_particles_are_taken(self) -> None:
        floor = force("surface", up=-50, outcome="die")
        scene = self.world(emitter={"direction": 270, "speed": 100, "lifespan": 5}, forces=[floor])
        lowest = max(y for path in scene.emitters[0].flights for _, y in path)
        self.assertLess(lowest, 360 + 75)

    def test_forecasts_tell_a_loop_a_burst_and_a_per_px_rate(self) -> None:
        looped = self.world(loop=True, emitter={"rate": 100, "lifespan": 2}).emitters[0].forecast
        self.assertEqual(looped.born_per_s, 100)
        burst = (
            self.world(emitter={"rate": 0, "bursts": [{"count": 300, "times": 4, "every_s": 3}]}).emitters[0].forecast
        )
        self.assertEqual(burst.alive_at_most, 300)
        keys = {"value": 0, "keys": [{"at_s": 0, "value": 0, "joint": "straight"}, {"at_s": 10, "value": 1000}]}
        spray = self.world(emitter={"across": keys, "rate": 2, "rate_per": "px", "lifespan": 1}).emitters[0].forecast
        self.assertAlmostEqual(spray.born_per_s, 200, delta=25)


if __name__ == "__main__":
    unittest.main()
