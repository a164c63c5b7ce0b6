"""Whole pieces of work with geometry, each from an empty shot to files on the disk: what is in the files, and what moves."""

import unittest
from typing import Any

import numpy as np

from isbjorn.core.arrays import Floats
from isbjorn.core.document import Shot
from tests.core.media.test_media import still
from tests.core.simulate.test_model_surfaces import depths
from tests.core.test_from_empty import HEIGHT, WIDTH, FromEmpty, ramp

STILL: dict[str, Any] = {"rate": 0, "lifespan": 0, "speed": 0, "shape": {"kind": "point"}}


def rings(light: Floats, x: float, y: float, *edges: float) -> list[float]:
    """The mean light between radii around a place of a picture, px."""
    rows, columns = np.mgrid[0:HEIGHT, 0:WIDTH] + 0.5
    away = np.hypot(columns - x, rows - y)
    return [float(light[(away >= a) & (away < b)].mean()) for a, b in zip(edges, edges[1:], strict=False)]


def first_only(shot: Shot) -> Shot:
    """The shot with forces that reach its first emitter alone."""
    return shot.model_copy(update={"links": tuple(link for link in shot.links if link.emitter == "e0")})


class Geometry(FromEmpty):
    def test_bodies_bounce_off_any_geometry_and_change_their_look(self) -> None:
        falling = {
            "shape": {"kind": "rectangle", "width": 90, "height": 4}, "up": 80, "rate": 60, "lifespan": 6, "speed": 20,
            "direction": 270, "size": {"value": 6, "spread": 3}, "body": {"kind": "model", "form": "box", "material": "glowing"},
            "colour_by": "since touch", "colour_from": 0, "colour_to": 0.02,
            "colour": ramp("#0000ff", "#ff0000"),
        }  # fmt: skip
        sparks = {"born_of": "e0", "born_when": "at touch", "born_count": 2, "rate": 0, "shape": {"kind": "point"}, "speed": 30,
                  "lifespan": 0.4, "size": 2, "spread": 180, "colour": ramp("#00ff00")}  # fmt: skip
        torus = {
            "kind": "surface",
            "shape": "model",
            "model": {"form": "torus"},
            "size": 120,
            "turn_x": 70,
            "restitution": 80,
        }
        shot = first_only(self.shot(falling, sparks, forces=[{"kind": "gravity", "strength": 3}, torus]))
        seen = self.at(shot, 60)
        bodies, born = seen.where(seen.emitter == 0), seen.where(seen.emitter == 1)
        self.assertGreater(
            float((depths(shot, bodies.position) - bodies.size / 2).min()), -0.05, "none is in the torus"
        )
        self.assertGreater(int((bodies.velocity[:, 1] > 20).sum()), 3, "some bounce")
        self.assertGreater(len(born), 5, "what touches gives birth")
        picture = self.delivered(shot, 60)
        self.assertGreater(float(picture[: HEIGHT // 3, :, 2].sum()), 5 * float(picture[: HEIGHT // 3, :, 0].sum()))
        self.assertGreater(float(picture[HEIGHT // 2 :, :, 0].sum()), 0.5 * float(picture[HEIGHT // 2 :, :, 2].sum()))

    def test_solid_heads_with_a_glowing_rim_and_a_ball_of_glass(self) -> None:
        grey = np.zeros((HEIGHT, WIDTH, 3), np.uint8)
        grey[:, : WIDTH // 2] = 200
        still(self.folder / "halves.png", grey, "uint8")
        head = {**STILL, "bursts": [{"count": 1}], "across": -80, "size": 60, "up": 20, "colour": ramp("#404040"),
                "body": {"kind": "model", "form": "ball", "detail": 4, "material": "rim", "rim": 300,
                         "surroundings": "studio"}}  # fmt: skip
        glass = {**STILL, "bursts": [{"count": 1}], "size": 90,
                 "body": {"kind": "model", "form": "ball", "detail": 5, "material": "glass", "index": 1.5, "roughness": 0,
                          "surroundings": "plate"}}  # fmt: skip
        shot = self.shot(head, glass, plate={"media": str(self.folder / "halves.png")})
        light = self.delivered(shot, 0, over_plate=True)[..., :3].sum(axis=2)
        heads = self.delivered(shot, 0)[..., :3].sum(axis=2)
        face, rim = rings(heads, WIDTH / 2 - 80, HEIGHT / 2 - 20, 0, 14, 30)
        self.assertGreater(rim, 1.6 * face, "the rim glows brighter than the face")
        # A ball of glass turns what is behind it round.
        middle = light[HEIGHT // 2 - 8 : HEIGHT // 2 + 8]
        left, right = (
            middle[:, WIDTH // 2 - 26 : WIDTH // 2 - 10].mean(),
            middle[:, WIDTH // 2 + 10 : WIDTH // 2 + 26].mean(),
        )
        self.assertGreater(float(right), 1.3 * float(left))

    def test_small_glowing_cubes_of_several_colours(self) -> None:
        cube = {"kind": "model", "form": "box", "material": "glowing", "surroundings": "none"}
        cubes = {
            "shape": {"kind": "rectangle", "width": 300, "height": 160}, "rate": 0, "bursts": [{"count": 60}], "lifespan": 0,
            "speed": 0, "size": {"value": 14, "spread": 5}, "turn_x": {"value": 0, "spread": 180}, "body": cube,
            "turn_y": {"value": 0, "spread": 180}, "colour": ramp("#ff0000", "#00ff00", "#0000ff"), "colour_by": "random",
            "mixed": [{**cube, "bevel": 40}], "spread": 360, "spacing": "even",
        }  # fmt: skip
        picture = self.delivered(self.shot(cubes), 0)
        solid = picture[picture[..., 3] > 0.999][:, :3]
        for channel in range(3):
            self.assertGreater(float((solid.argmax(axis=1) == channel).mean()), 0.1, "several colours")
        # What glows has its own light, whatever surrounds it.
        self.assertGreater(float(solid.max(axis=1).min()), 0.2)

    def test_clear_drops_that_show_the_light_around_them(self) -> None:
        jet = {
            "up": -60, "rate": 120, "lifespan": 4, "speed": {"value": 190, "spread": 20}, "spread": 40, "direction": 90,
            "in_depth": True, "size": {"value": 9, "spread": 3}, "facing": "motion", "stretch": 40,
            "body": {"kind": "model", "form": "drop", "material": "glass", "surroundings": "night", "ambient": 300},
        }  # fmt: skip
        rings_born = {"born_of": "e0", "born_when": "at touch", "rate": 0, "shape": {"kind": "point"}, "speed": 0, "lifespan": 1,
                      "size": 20, "body": {"kind": "ring"}, "facing": "surface", "colour": ramp("#ffffff")}  # fmt: skip
        water = {"kind": "surface", "up": -62, "outcome": "die"}
        shot = first_only(self.shot(jet, rings_born, forces=[{"kind": "gravity", "strength": 2}, water]))
        seen = self.at(shot, 90)
        drops, landed = seen.where(seen.emitter == 0), seen.where(seen.emitter == 1)
        self.assertGreater(len(drops), 100, "they live long enough for the flight")
        self.assertGreater(float(drops.position[:, 1].min()), -62, "they die on the water")
        self.assertGreater(len(landed), 20, "and leave rings there")
        self.assertLess(float(np.abs(landed.position[:, 1] + 62).max()), 8)
        with_light, without = (
            self.delivered(self.changed(shot, body=jet["body"] | {"surroundings": sky}), 90)
            for sky in ("night", "none")
        )
        up = slice(0, HEIGHT // 2 + 50)
        self.assertGreater(
            float(with_light[up, :, :3].sum()), 3 * float(without[up, :, :3].sum()), "they show the lamps"
        )
        lit = with_light[up, :, :3].max(axis=2)
        self.assertGreater(float(lit.max()), 4 * float(lit[lit > 0.01].mean()), "as highlights")

    def test_a_closed_model_filled_with_cubes(self) -> None:
        cubes = {
            "shape": {"kind": "sphere", "radius": 25}, "rate": 0, "bursts": [{"count": 90}], "lifespan": 0,
            "speed": {"value": 40, "spread": 30}, "spread": 360, "in_depth": True, "size": {"value": 9, "spread": 7},
            "body": {"kind": "model", "form": "box", "surroundings": "studio"}, "facing": "motion", "colour_by": "speed",
            "colour_to": 120, "colour": ramp("#0000ff", "#ff0000"),
        }  # fmt: skip
        gem = {
            "kind": "surface",
            "shape": "model",
            "side": "inside",
            "model": {"form": "gem"},
            "size": 150,
            "turn_x": 12,
        }
        shot = self.shot(
            cubes,
            forces=[
                {"kind": "push", "friction": 0.3}, {"kind": "gravity", "strength": 3},
                {"kind": "vortex", "strength": 160, "radius": 40}, gem,
            ],
        )  # fmt: skip
        seen = self.at(shot, 100)
        self.assertEqual(len(seen), 90)
        self.assertLess(float((depths(shot, seen.position) + 0.46 * seen.size).max()), 0.05, "even the small ones stay")
        container = {
            **STILL,
            "bursts": [{"count": 1}],
            "size": 150,
            "turn_x": 12,
            "body": {"kind": "model", "form": "gem"},
        }
        outline = self.cover(self.shot(container), 0)
        # A cube's corner may reach beyond the ball that it is for the wall, by (√3 - 1) of its half side.
        self.assertLess(float(self.cover(shot, 100)[outline < 0.01].sum()), 0.02 * float(outline.sum()))
        self.assertGreater(float(self.cover(shot, 100).sum()), 0.2 * float(outline.sum()))

    def test_light_spreads_along_edges_of_a_model_that_hides_what_is_behind(self) -> None:
        house = {"form": "box", "height": 60, "deep": 100}
        place = {"turn_x": 20, "turn_y": 30, "size": 150}
        lights = {
            **STILL, "shape": {"kind": "model", "births": "edges", **house, **place}, "spacing": "even",
            "bursts": [{"count": 3000}], "size": 2, "hidden_by": ["m"], "colour_by": "distance", "colour_of": "mark",
            "colour_from": 100, "colour_to": 300,
            "colour": ramp("#ff0000", "#0000ff"),
            "opacity": {"value": 100, "source": {"measure": "since caught", "low": -0.01, "high": 0}},
        }  # fmt: skip
        spread = {"kind": "contagion", "seeds": "seed", "seed_first": 0, "radius": 8, "pace": 60}
        matte = {"id": "m", "kind": "model", "model": house, "margin": 4, "feather": 0, **place}
        world: dict[str, Any] = {
            "zones": [{"id": "seed", "shape": "box", "across": -80, "width": 70, "height": 400, "deep": 400, "falloff": 0}],
            "markers": [{"id": "mark", "across": -180}], "camera": {"kind": "perspective"},
        }  # fmt: skip
        shot = self.shot(lights, forces=[spread], mattes=[matte], **world)
        caught = [float((self.at(shot, frame).caught >= 0).mean()) for frame in (0, 30, 140)]
        self.assertTrue(0.02 < caught[0] < caught[1] < caught[2], caught)
        hidden, free = self.cover(shot, 140), self.cover(shot.model_copy(update={"mattes": ()}), 140)
        # Three of the twelve edges of a box are behind it, and a corner's worth of lights on the rest stays.
        self.assertGreater(float(free.sum() - hidden.sum()), 0.12 * float(free.sum()))
        self.assertLess(float(free.sum() - hidden.sum()), 0.42 * float(free.sum()))
        picture = self.delivered(shot, 140)
        left, right = picture[:, : WIDTH // 2 - 30], picture[:, WIDTH // 2 + 30 :]
        self.assertGreater(float(left[..., 0].sum()), 2 * float(left[..., 2].sum()), "colour by distance")
        self.assertGreater(float(right[..., 2].sum()), float(right[..., 0].sum()))


if __name__ == "__main__":
    unittest.main()
