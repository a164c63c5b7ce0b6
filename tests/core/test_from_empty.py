"""Whole pieces of work, each from an empty shot to files on the disk: what is in the files, and what moves."""

import itertools
import math
import unittest
from typing import Any

import numpy as np

from isbjorn.core import Shot, Solver
from isbjorn.core.appearance.particles import Particles
from isbjorn.core.deliver import deliver
from isbjorn.core.document.editing import scene_edits
from isbjorn.core.inspect.lookout import lookout
from isbjorn.core.media.read.stills import read_still
from tests.core.media.test_media import InFolder, still

WIDTH, HEIGHT = 320, 180
PLAIN: dict[str, Any] = {"kind": "soft disc", "softness": 0}


def over_life(*points: tuple[float, float], joint: str = "straight") -> dict[str, Any]:
    return {"points": [{"at": at, "value": value, "joint": joint} for at, value in points]}


def keyed(*keys: tuple[float, float], joint: str = "straight") -> dict[str, Any]:
    return {"value": keys[0][1], "keys": [{"at_s": at, "value": value, "joint": joint} for at, value in keys]}


def ramp(*colours: str, **more: Any) -> dict[str, Any]:
    ends = max(1, len(colours) - 1)
    return {"colours": [{"at": n / ends, "colour": colour} for n, colour in enumerate(colours)], **more}


class FromEmpty(InFolder):
    def shot(self, *emitters: dict[str, Any], **fields: Any) -> Shot:
        """An empty shot with emitters; each of its forces reaches all of them."""
        cast_of = [{"id": f"e{n}", "spread": 0, "cadence": "even", **e} for n, e in enumerate(emitters)]
        forces = [{"id": f["kind"], **f} for f in fields.pop("forces", ())]
        links = [{"force": f["id"], "emitter": e["id"]} for f in forces for e in cast_of]
        return Shot.model_validate(
            {"width": WIDTH, "height": HEIGHT, "emitters": cast_of, "forces": forces, "links": links, **fields}
        )

    def delivered(self, shot: Shot, frame: int, **more: Any) -> np.ndarray:
        """A frame read from the disk: light and cover, (height, width, 4)."""
        order = {"format": "exr-float", "over_plate": False, "first": frame, "last": frame, "processes": 1, **more}
        return np.asarray(read_still(deliver(shot, self.folder, "a{version}", **order)[0])[0], np.float32)

    def cover(self, shot: Shot, frame: int) -> np.ndarray:
        return self.delivered(shot, frame)[..., 3]

    @staticmethod
    def at(shot: Shot, frame: int) -> Particles:
        return Solver(shot).at(frame)

    def changed(self, shot: Shot, **fields: Any) -> Shot:
        """The shot with other fields of its first emitter."""
        reported = shot.model_dump()
        first, *others = reported["emitters"]
        return Shot.model_validate({**reported, "emitters": [{**first, **fields}, *others]})


class Births(FromEmpty):
    def test_vapour_from_a_wide_low_source(self) -> None:
        vapour = {
            "shape": {"kind": "rectangle", "width": 200, "height": 4}, "up": -80, "rate": 60, "pre_roll_s": 2,
            "lifespan": 2, "speed": 60, "body": {"kind": "puff"}, "finish": [{"kind": "blur", "sigma": 3}], "opacity": 30,
            "size": {"value": 40, "over_life": over_life((0, 1), (1, 0.2))}, "colour": ramp("#101010", "#e0e0e0"),
        }  # fmt: skip
        drag = {"kind": "drag", "strength": 0.8}
        shot = self.shot(vapour, forces=[drag])
        first = self.delivered(shot, 0)
        cover = first[..., 3]
        self.assertGreater(float(cover.max()), 0.4, "there before the first frame")
        grey = first[..., 0] / np.maximum(cover, 1e-3)
        up, down = grey[110:125][cover[110:125] > 0.02], grey[150:][cover[150:] > 0.2]
        self.assertGreater(float(up.mean()), 2 * float(down.mean()), "lighter as it rises")
        sharp = self.cover(self.changed(shot, finish=[]), 0)
        self.assertLess(np.abs(np.diff(cover, axis=1)).max(), 0.6 * np.abs(np.diff(sharp, axis=1)).max())
        self.assertGreater(self.cover(self.changed(shot, rate=180), 0).mean(), 1.3 * cover.mean(), "denser")
        tall = self.at(self.changed(shot, lifespan=4, pre_roll_s=4), 0).position[:, 1].max()
        self.assertGreater(tall, self.at(shot, 0).position[:, 1].max() + 10)
        # With drag: after two seconds 60 px/s at 0.8 /s have gone 60 (1 - exp(-1.6)) / 0.8.
        self.assertAlmostEqual(
            float(self.at(shot, 0).position[:, 1].max()) + 80, 60 * (1 - math.exp(-1.6)) / 0.8, delta=4
        )
        swirled = self.shot(vapour, forces=[drag, {"kind": "vortex", "strength": 80, "radius": 60}])
        self.assertGreater(np.abs(self.at(swirled, 0).position[:, 0]).std(), 1)
        self.assertFalse(np.allclose(self.cover(swirled, 0), cover, atol=0.05))

    def test_the_fundamentals_over_500_frames(self) -> None:
        shot = self.shot(
            {
                "rate": 20, "lifespan": 4, "speed": 3, "shape": {"kind": "point"}, "size": keyed((0, 4), (10, 24)),
                "across": keyed((0, -100), (10, 100), (20, -100)), "up": -20, "hue": keyed((0, 0), (20, 360)),
                "colour": ramp("#ff4030"),
            }, last_frame=499,
        )  # fmt: skip
        seen = self.at(shot, 250)
        born = 10 - seen.age
        np.testing.assert_allclose(seen.size, 4 + 2 * born, atol=0.02)
        np.testing.assert_allclose(seen.position[:, 0], -100 + 20 * born, atol=0.05)
        self.assertGreater(float(np.ptp(seen.colour, axis=0).max()), 0.05, "each keeps the colour of its birth")
        readings, across = Solver(shot).readings, shot.emitters[0].across
        self.assertEqual(readings.now(across, 0.0), readings.now(across, 20.0))
        half = self.at(self.changed(shot, spread=180, direction=90, speed=50), 200).velocity
        self.assertGreaterEqual(float(half[:, 1].min()), -1e-3)
        self.assertLess(float(half[:, 0].min()), -40)
        all_round = self.at(self.changed(shot, spread=360, speed=50, rate=200), 200).velocity
        self.assertLess(abs(float(all_round[:, 1].mean())), 8)

    def test_a_turning_direction_draws_a_spiral(self) -> None:
        shot = self.shot({
            "shape": {"kind": "point"}, "rate": 60, "lifespan": 3, "speed": 25, "direction": keyed((0, 0), (10, 1800)),
        })  # fmt: skip
        seen = self.at(shot, 100)
        way = np.degrees(np.arctan2(seen.position[:, 1], seen.position[:, 0]))
        wanted = 180 * (4 - seen.age)
        np.testing.assert_allclose((way - wanted + 180) % 360 - 180, 0, atol=0.2)
        np.testing.assert_allclose(np.linalg.norm(seen.position, axis=1), 25 * seen.age, rtol=1e-3, atol=1e-3)
        self.assertGreater(float(self.cover(shot, 100).sum()), 100)

    def test_one_birth_a_frame_stands_still_and_the_lookout_says_so(self) -> None:
        shot = self.shot(
            {"shape": {"kind": "point"}, "rate": 1, "rate_per": "frame", "lifespan": 2, "speed": 100, "size": 6}
        )
        np.testing.assert_allclose(self.cover(shot, 100), self.cover(shot, 101), atol=2e-3)
        self.assertIn("standing stream", {note.kind for note in lookout(Solver(shot), 100)})

    def test_an_explosion_and_letters_that_read(self) -> None:
        burst = {"shape": {"kind": "point"}, "rate": 0, "bursts": [{"at_s": 0.5, "count": 300, "over_s": 0.08}]}
        bang = self.shot({**burst, "spread": 360, "speed": {"value": 100, "spread": 100}, "lifespan": 1})
        self.assertEqual([len(self.at(bang, frame)) for frame in (12, 15, 30, 41)], [0, 300, 300, 0])
        self.assertGreater((self.cover(bang, 20) > 0.1).sum(), 1000)
        words = {
            **burst, "bursts": [{"at_s": 0, "count": 5, "over_s": 1}], "lifespan": 9, "speed": 100, "size": 18,
            "body": {"kind": "words", "text": "LLLIJ"},
        }  # fmt: skip
        for direction in (0, 180):
            picture = self.cover(self.shot({**words, "direction": direction}), 32)
            columns = np.flatnonzero(picture.max(axis=0) > 0.5)
            wide = [len(run) for run in np.split(columns, np.flatnonzero(np.diff(columns) > 4) + 1)]
            with self.subTest(direction=direction):
                self.assertEqual(len(wide), 5)
                self.assertEqual(int(np.argmin(wide)), 3, "the I is the fourth whichever way they fly")

    def test_one_property_at_a_time_each_with_a_switch(self) -> None:
        shot = self.shot({
            "shape": {"kind": "sphere", "radius": 60, "fill": "shell", "thickness": 12, "half": "upper"}, "rate": 400, "speed": 0,
            "size": {"value": 8, "spread": 6}, "lifespan": {"value": 2, "spread": 1}, "spread": 360,
            "colour": ramp("#ffffff", "#ff0000", opacities=[{"at": 0, "opacity": 1}, {"at": 1, "opacity": 0}]),
        })  # fmt: skip
        seen = self.at(shot, 100)
        far = np.linalg.norm(seen.position, axis=1)
        self.assertTrue(far.min() > 47.9 and far.max() < 60.1 and seen.position[:, 1].min() > -1e-3)
        self.assertTrue(np.ptp(seen.size) > 10 and np.ptp(seen.life) > 1.5)
        np.testing.assert_allclose(seen.opacity, 1 - seen.age01, atol=0.01)
        even = self.at(self.changed(shot, size={"value": 8, "spread": 6, "off": ["spread"]}), 100)
        self.assertLess(float(np.ptp(even.size)), 1e-3)
        np.testing.assert_array_equal(even.position, seen.position)
        point = self.at(self.changed(shot, shape_on=False), 100)
        self.assertLess(float(np.abs(point.position).max()), 1e-3)
        outward = {"kind": "sphere", "radius": 60, "fill": "shell", "thickness": 12, "shell_side": "outward"}
        self.assertGreater(
            float(np.linalg.norm(self.at(self.changed(shot, shape=outward), 100).position, axis=1).max()), 70
        )

    def test_rain_in_groups_and_in_metres(self) -> None:
        drop = {
            "shape": {"kind": "line", "length": 400}, "up": 90, "rate": keyed((0, 20), (4, 400)), "lifespan": 0, "speed": 0,
            "mass": {"value": 1, "spread": 0.5}, "limit": 900, "start_s": 1, "facing": "motion", "stretch": 40,
        }  # fmt: skip
        reported = self.shot(
            {**drop, "group": "rain"}, {**drop, "group": None}, groups=[{"id": "rain", "name": "Rain"}]
        ).model_dump()
        reported["forces"] = [
            {"id": "g", "kind": "gravity", "strength": 9.81},
            {"id": "w", "kind": "wind", "strength": 50, "grip": 1},
        ]
        reported["links"] = [{"force": f, "emitter": e} for f, e in (("g", "e0"), ("g", "e1"), ("w", "rain"))]
        reported["px_per_metre"] = 20
        shot = Shot.model_validate(reported)
        seen = self.at(shot, 50)
        alone = seen.emitter == 1
        np.testing.assert_allclose(seen.position[alone, 1], 90 - 0.5 * 196.2 * seen.age[alone] ** 2, atol=0.05)
        self.assertLess(float(np.abs(seen.velocity[alone, 0]).max()), 1e-3)
        self.assertGreater(float(seen.velocity[~alone, 0].max()), 5, "the wind blows on the group only")
        self.assertEqual(len(self.at(shot, 20)), 0)
        late = self.at(shot, 240)
        self.assertEqual(int((late.emitter == 1).sum()), 900)
        self.assertGreater(late.refused["e1"], 0)
        self.assertEqual(len(np.unique(late.id)), len(late))


class Ways(FromEmpty):
    def test_dust_drifts_to_the_lamps(self) -> None:
        dust = {
            "shape": {"kind": "box", "width": 300, "height": 60, "deep": 40}, "rate": 60, "lifespan": 10, "pre_roll_s": 8,
            "spread": 360, "speed": {"value": 10, "spread": 10, "over_life": over_life((0, 1), (0.2, 0.1), joint="smooth")},
            "size": 3, "blend": "add", "colour": ramp("#ff8040", "#4080ff", mix="stepped"), "colour_by": "random", "lit": 100,
        }  # fmt: skip
        reported = self.shot(
            dust,
            forces=[
                {"kind": "attractor", "strength": 60, "across": 60, "zone": "z"},
                {"kind": "gravity", "strength": 0.005, "direction": 240},
                {"kind": "turbulence", "strength": 3},
            ],
            zones=[{"id": "z", "across": 60, "radius": 50, "falloff": 50}],
            lights=[{"id": "l", "across": 60, "radius": 20, "falloff": 30}],
        )
        seen = self.at(reported, 100)
        self.assertEqual(len(np.unique(seen.colour.round(3), axis=0)), 2)
        free = self.at(reported.model_copy(update={"forces": (), "links": ()}), 100)
        near, before = (np.hypot(p.position[:, 0] - 60, p.position[:, 1]) < 12 for p in (seen, free))
        self.assertGreater(near.sum(), 2 * before.sum(), "gathered by the lamp")
        light = self.delivered(reported, 100)[..., :3].sum(axis=2)
        self.assertEqual(float(light[:, : WIDTH // 2 - 20].max()), 0, "seen only where the light falls")
        self.assertGreater(float(light.max()), 0.1)
        speed = np.linalg.norm(free.velocity, axis=1)
        self.assertLess(float(speed[free.age01 > 0.21].max()), 2.01)
        other = scene_edits.copied(reported, "attractor", mirror="across")
        pull = other.forces[-1]
        self.assertEqual((len(other.forces), pull.across.value), (4, -60))

    def test_smoke_that_follows_its_path_again(self) -> None:
        path = {"points": [{"x": -100, "y": -50}, {"x": 100, "y": 50}], "along": keyed((0, 0), (4, 100))}
        shot = self.shot({
            "shape": {"kind": "point"}, "path": path, "rate": 80, "lifespan": 2, "speed": 0, "body": {"kind": "puff"},
            "size": {"value": 30, "over_life": over_life((0, 0.3), (1, 1))},
            "opacity": {"value": 60, "over_life": over_life((0, 1), (1, 0))},
        })  # fmt: skip
        seen = self.at(shot, 75)
        np.testing.assert_allclose(seen.position[:, 0], -100 + 50 * (3 - seen.age), atol=0.1)
        self.assertLess(float(np.corrcoef(seen.size, seen.opacity)[0, 1]), -0.99, "puffs grow as they thin")
        path["points"][1]["y"] = -50
        flat = self.at(self.changed(shot, path=path), 75)
        np.testing.assert_allclose(flat.position[:, 1], -50, atol=1e-3)
        self.assertGreater(float(self.cover(shot, 75).max()), 0.3)

    def test_a_fluttering_plume_and_a_layer_that_displaces_another(self) -> None:
        plume = {
            "shape": {"kind": "point"}, "rate": 200, "speed": 120, "lifespan": 1, "up": -60, "use": {"kind": "matte", "of": "e1"},
            "direction": {"value": 90, "flutter": {"times_per_s": 3, "amount": 45}}, "finish": [{"kind": "blur", "sigma": 2}],
            "size": 20,
        }  # fmt: skip
        wall = {"shape": {"kind": "point"}, "rate": 0, "bursts": [{"at_s": 0, "count": 1}], "speed": 0, "lifespan": 0, "size": 900,
                "body": PLAIN}  # fmt: skip
        shot = self.shot(plume, wall)
        angles = [float(np.degrees(np.arctan2(*v[::-1]))) for v in self.at(shot, 50).velocity[:, :2] if v.any()]
        self.assertGreater(max(angles) - min(angles), 40)
        self.assertTrue(all(44 < a < 136 for a in angles))
        through = self.cover(shot, 50)
        self.assertTrue(0.02 < float((through > 0.5).mean()) < 0.3, "the wall is seen through the plume alone")
        pushed = self.changed(shot, use={"kind": "displacement", "of": "e1", "amount": 30}, colour=ramp("#ff0000"))
        self.assertGreater(self.cover(pushed, 50).mean(), 0.9)

    def test_displaced_by_fractal_noise_with_onset_over_life(self) -> None:
        still_ones = {
            "shape": {"kind": "line", "length": 280},
            "spacing": "even",
            "rate": 100,
            "lifespan": 2,
            "speed": 0,
        }
        noise = {
            "kind": "displacement", "strength": {"value": 20, "over_life": over_life((0, 0), (0.5, 0), (1, 1))}, "octaves": 4,
            "lacunarity": 2.2, "gain": 0.6, "evolve": 0.5, "swell": 60, "apart": 50,
        }  # fmt: skip
        shot = self.shot(still_ones, still_ones, forces=[noise])
        seen = self.at(shot, 60)
        young = seen.age01 < 0.5
        self.assertLess(float(np.abs(seen.position[young, 1]).max()), 1e-3)
        self.assertGreater(float(np.abs(seen.position[~young, 1]).max()), 5)
        self.assertGreater(float(np.ptp(seen.size[~young])), 1)
        one, other = (seen.position[(seen.emitter == n) & ~young] for n in (0, 1))
        self.assertFalse(np.allclose(one[:, 1], other[:, 1], atol=0.5), "layers feel other places of it")

    def test_a_loop_without_a_seam(self) -> None:
        shot = self.shot(
            {
                "shape": {"kind": "disc", "radius": 40, "fill": "edge"}, "rate": 50, "lifespan": 1.5,
                "toward": "outward", "speed": 40, "colour_by": "birth moment", "colour": ramp("#ff0000", "#0000ff", "#ff0000"),
                "angle": {"value": 0, "spread": 180}, "spin": {"value": 200, "over_life": over_life((0, 1), (1, 0))},
                "body": {"kind": "square"}, "order": "youngest first",
                "bursts": [{"at_s": 0, "count": 20, "times": 4, "every_s": 1}],
            }, loop=True, last_frame=99,
        )  # fmt: skip
        np.testing.assert_allclose(self.delivered(shot, 0), self.delivered(shot, 100, last=100), atol=2e-4)
        for frame in (0, 37):
            self.assertGreater(len(self.at(shot, frame)), 60)
        other = self.changed(shot, order="oldest first")
        self.assertGreater(np.abs(self.delivered(other, 50) - self.delivered(shot, 50)).max(), 0.05)

    def test_as_dense_at_any_speed_of_the_source(self) -> None:
        shot = self.shot({
            "shape": {"kind": "point"}, "rate": 0.5, "rate_per": "px", "lifespan": 0, "speed": 0, "size": 3,
            "across": keyed((0, -140), (1, -100), (1.5, 140)),
        })  # fmt: skip
        places = np.sort(self.at(shot, 60).position[:, 0])
        np.testing.assert_allclose(np.diff(places), 2, atol=0.02)
        self.assertEqual(len(places), 140)


class Bodies(FromEmpty):
    def test_glowing_lines_that_decay_and_more_heads(self) -> None:
        head = {"shape": {"kind": "point"}, "across": -120, "rate": 0, "bursts": [{"at_s": 0, "count": 1}], "lifespan": 2,
                "direction": 0, "speed": 100, "size": 12}  # fmt: skip
        trail = {"by": "frames", "length": 20, "width": 60, "tail": 0, "head_waits": True}
        shot = self.shot({**head, "trail": trail})
        line = self.cover(shot, 40)
        lit = np.flatnonzero(line.max(axis=0) > 0.02) - WIDTH / 2
        self.assertAlmostEqual(float(lit.max()), -120 + 160 + 6, delta=2)
        self.assertAlmostEqual(float(lit.min()), -120 + 80, delta=8)
        thick = [(line[:, int(WIDTH / 2 - 120 + x)] > 0.02).sum() for x in (90, 120, 150)]
        self.assertTrue(thick[0] < thick[1] < thick[2], "it tapers")
        self.assertGreater(self.cover(shot, 55).sum(), 1, "the head waits for its tail")
        self.assertEqual(self.cover(shot, 75).sum(), 0)
        heads = self.cover(self.shot({**head, "heads": {"count": 3, "gap_s": 0.4}}), 45)
        columns = np.flatnonzero(heads.max(axis=0) > 0.1)
        self.assertEqual(1 + int((np.diff(columns) > 5).sum()), 4)

    def test_curtains_of_strands(self) -> None:
        curtain = {
            "shape": {"kind": "line", "length": 200}, "spacing": "even", "up": 70, "rate": 0, "bursts": [{"at_s": 0, "count": 12}],
            "lifespan": 0, "speed": 0, "direction": 270, "size": 3,
            "strand": {"joints": 16, "length": 120, "stiffness": 0, "foot": "hem"},
        }  # fmt: skip
        zones = [
            {"id": "hem", "shape": "box", "up": -45, "width": 220, "height": 10},
            {"id": "gust", "across": -80, "radius": 70, "falloff": 40},
        ]
        wind = {"kind": "wind", "strength": 200, "zone": "gust", "grip": 3}
        shot = self.shot(curtain, forces=[{"kind": "gravity", "strength": 4}, wind], zones=zones)
        seen = self.at(shot, 80).position.reshape(12, 16, 3)
        np.testing.assert_allclose(seen[:, 0, 1], 70, atol=1e-3)
        self.assertTrue((np.abs(seen[:, -1, 1] + 45) < 6).all(), "feet stay in the box")
        long = np.linalg.norm(np.diff(seen, axis=1), axis=2).sum(axis=1)
        np.testing.assert_allclose(long, 120, rtol=0.005)
        bent = np.abs(seen[:, :, 0] - seen[:, :1, 0]).max(axis=1)
        self.assertGreater(bent[:4].max(), 1.5 * bent[-3:].max(), "the gust acts where it reaches")
        calm = self.shot(
            {**curtain, "strand": {**curtain["strand"], "foot": None}}, forces=[{"kind": "gravity", "strength": 4}]
        )
        hung = self.at(calm, 80).position.reshape(12, 16, 3)
        self.assertLess(float(np.abs(hung[:, :, 0] - hung[:, :1, 0]).max()), 1e-2, "straight when still")
        self.assertGreater(self.cover(shot, 80).sum(), 200)

    def test_a_liquid_wheel(self) -> None:
        wheel = {
            "shape": {"kind": "disc", "radius": 55, "fill": "edge"}, "toward": "along", "rate": 240, "lifespan": 2, "speed": 20,
            "size": {"value": 24, "over_life": over_life((0, 0.4), (0.5, 1), (1, 0.2))}, "skin": {"detail": 50},
        }  # fmt: skip
        forces = [{"kind": "cohesion", "radius": 20}, {"kind": "turbulence", "strength": 15}]
        shot = self.shot(wheel, forces=forces)
        apart = self.shot(wheel, forces=forces[1:])

        def nearest(one: Shot) -> float:
            place = self.at(one, 50).position
            gaps = np.linalg.norm(place[:, None] - place[None], axis=2) + 1e9 * np.eye(len(place))
            return float(np.median(gaps.min(axis=1)))

        self.assertNotAlmostEqual(nearest(shot), nearest(apart), delta=0.05)
        skin = self.cover(shot, 50)
        bodies = self.cover(self.changed(shot, skin=None), 50)
        ring = np.hypot(*np.indices(skin.shape)[::-1] - np.array([WIDTH / 2, HEIGHT / 2])[:, None, None])
        self.assertGreater((skin[(ring > 45) & (ring < 60)] > 0.9).mean(), 0.6)
        self.assertGreater((skin > 0.98).sum(), (bodies > 0.98).sum(), "one surface, where bodies were soft")

    def test_lines_between_neighbours_under_one_budget(self) -> None:
        dot = {"rate": 0, "bursts": [{"at_s": 0, "count": 30}], "lifespan": 0, "speed": 0, "size": 4}
        shot = self.shot(
            {**dot, "lines": {"distance": 60}, "colour": ramp("#ff2020"), "shape": {"kind": "disc", "radius": 80}},
            {**dot, "colour": ramp("#2020ff"), "bursts": [{"at_s": 0, "count": 100}]}, limit=80,
        )  # fmt: skip
        with_lines = self.delivered(shot, 10)
        plain = self.delivered(self.changed(shot, lines=None), 10)
        more = with_lines[..., 0].sum() - plain[..., 0].sum()
        self.assertGreater(more, 50)
        self.assertLess(abs(with_lines[..., 2].sum() - plain[..., 2].sum()), 0.3 * more)
        self.assertEqual(len(self.at(shot, 10)), 80)
        self.assertIn("starved", {note.kind for note in lookout(Solver(shot), 10)})

    def test_a_picture_as_the_body_sorted_by_depth_under_a_camera(self) -> None:
        tile = np.zeros((8, 8, 4), np.uint8)
        tile[..., :2], tile[..., 3] = 255, 255
        for number in range(3):
            tile[..., 1] = 90 * number
            still(self.folder / f"leaf.{number:03d}.png", tile, "uint8")
        leaf = {
            "shape": {"kind": "box", "width": 200, "height": 100, "deep": 400}, "rate": 40, "lifespan": 2, "speed": 0, "size": 20,
            "body": {"kind": "picture", "media": str(self.folder / "leaf.###.png"), "plays": "by age"}, "order": "farthest first",
        }  # fmt: skip
        shot = self.shot(leaf, camera={"kind": "perspective", "sorting": "by depth"})
        picture = self.delivered(shot, 50)
        hues = np.unique((picture[..., 1] / np.maximum(picture[..., 3], 1e-6))[picture[..., 3] > 0.99].round(2))
        self.assertGreaterEqual(len(hues), 3, "each plays its own life")
        flat = self.delivered(self.shot({**leaf}), 50)
        self.assertGreater(np.abs(picture - flat).max(), 0.5)

    def test_a_source_swapped_keeps_its_motion(self) -> None:
        hand = keyed((0, -120), (1, 0), (2, 120), joint="smooth")
        shot = self.shot(
            {"carried_by": "hand", "shape": {"kind": "point"}, "rate": 60, "lifespan": 1, "speed": 5, "spread": 360,
             "body": {"kind": "star"}, "mixed": [{"kind": "spark"}], "trail": {"length": 5}},
            markers=[{"id": "hand", "across": hand}],
        )  # fmt: skip
        before = self.at(shot, 30).position
        swapped = self.changed(shot, shape={"kind": "disc", "radius": 4})
        after = self.at(swapped, 30).position
        self.assertLessEqual(float(np.linalg.norm(before - after, axis=1).max()), 4.01)
        self.assertGreater(float(self.cover(swapped, 30).sum()), 20)


class Meetings(FromEmpty):
    def test_a_jet_leaves_rings_where_drops_meet_the_water(self) -> None:
        jet = {
            "shape": {"kind": "point"}, "up": -60, "rate": 60, "spread": 24, "speed": 150, "lifespan": 6, "facing": "motion",
            "stretch": 60, "size": 3, "body": {"kind": "drop"},
        }  # fmt: skip
        rings = {
            "born_of": "e0", "born_when": "at touch", "shape": {"kind": "point"}, "speed": 0, "lifespan": 0.8, "facing": "surface",
            "body": {"kind": "ring"}, "size": {"value": 30, "over_life": over_life((0, 0.1), (1, 1))},
            "opacity": {"value": 80, "over_life": over_life((0, 1), (1, 0))},
        }  # fmt: skip
        reported = self.shot(jet, rings).model_dump()
        reported["forces"] = [
            {"id": "g", "kind": "gravity", "strength": 1},
            {
                "id": "w",
                "kind": "surface",
                "shape": "rectangle",
                "width": 400,
                "deep": 400,
                "up": -62,
                "outcome": "die",
            },
        ]
        reported["links"] = [{"force": f, "emitter": "e0"} for f in ("g", "w")]
        shot = Shot.model_validate(reported)
        self.assertEqual(set(self.at(shot, 40).emitter.tolist()), {0})
        late = self.at(shot, 120)
        drops, marks = (late.where(late.emitter == n) for n in (0, 1))
        self.assertGreater(float(drops.position[:, 1].min()), -62.5, "none passes through")
        self.assertAlmostEqual(float(drops.position[:, 1].max()), -60 + 150**2 / 200, delta=6)
        np.testing.assert_allclose(marks.position[:, 1], -62, atol=2)
        # A drop straight up is back after 3 s: as many rings of 0.8 s as drops were born in 0.8 s.
        self.assertAlmostEqual(len(marks), 48, delta=5)
        self.assertGreater(float(self.cover(shot, 120)[150:160].sum()), 5)

    def test_a_ribbon_in_one_plane_bent_and_twisted_in_an_order(self) -> None:
        ribbon = {
            "shape": {"kind": "line", "length": 30}, "up": -80, "rate": 100, "lifespan": 4, "speed": 50, "size": 3,
        }  # fmt: skip
        bend = {
            "kind": "bend", "from_y": -80, "length": 200,
            "points": [{"x": -100, "y": -80}, {"x": -40, "y": 0}, {"x": 120, "y": 40}],
            "across": keyed((0, 0), (8, 40)),
        }  # fmt: skip
        twist = {"kind": "twist", "from_y": -80, "length": 200, "turns": 180}
        forces = [
            {"kind": "turbulence", "strength": 12, "along_z": 0},
            {"kind": "attractor", "strength": 40, "up": 90, "speed_limit": 70},
            {"kind": "remove", "zone": "z"},
        ]
        zones = [{"id": "z", "shape": "box", "up": 90, "width": 60, "height": 40}]
        straight = self.shot(ribbon, forces=forces, zones=zones)
        free = self.at(straight, 100)
        self.assertEqual(float(np.abs(free.position[:, 2]).max()), 0)
        inside = (np.abs(free.position[:, 0]) < 29) & (np.abs(free.position[:, 1] - 90) < 19)
        self.assertFalse(inside.any(), "removed inside the box")
        one, other, unbent = (
            self.at(self.shot({**ribbon, "deformers": order}, forces=forces, zones=zones), 100)
            for order in ([bend, twist], [twist, bend], [{**bend, "on": False}])
        )
        np.testing.assert_array_equal(unbent.position, free.position)
        self.assertGreater(float(np.abs(one.position - other.position).max()), 5, "the order matters")
        earlier = self.shot({**ribbon, "deformers": [{**bend, "across": 0}]}, forces=forces, zones=zones)
        moved = self.at(self.shot({**ribbon, "deformers": [bend]}, forces=forces, zones=zones), 100).position
        np.testing.assert_allclose(moved[:, 0] - self.at(earlier, 100).position[:, 0], 20, atol=0.01)
        self.assertGreater(float(self.cover(earlier, 100).sum()), 100)

    def test_a_box_of_bodies_that_push_and_stay(self) -> None:
        shot = self.shot(
            {
                "shape": {"kind": "rectangle", "width": 120, "height": 60}, "rate": 0, "bursts": [{"at_s": 0, "fill": 60}],
                "lifespan": 0, "speed": 0, "size": {"value": 9, "spread": 6}, "body": PLAIN, "facing": "motion",
                "colour_by": "speed", "colour_to": 120, "colour": ramp("#0000ff", "#ff0000"),
            },
            forces=[
                {"kind": "push", "friction": 0.3}, {"kind": "gravity", "strength": 3},
                {"kind": "vortex", "strength": keyed((0, 200), (2, 200), (2.2, 0)), "radius": 40},
                {"kind": "surface", "shape": "box", "side": "inside", "width": 160, "height": 120, "deep": 100},
            ],
        )  # fmt: skip
        stirred, rest = self.at(shot, 45), self.at(shot, 200)
        for seen in (stirred, rest):
            r = seen.size / 2
            self.assertTrue((np.abs(seen.position[:, 0]) <= 80.05 - 0.96 * r).all())
            self.assertTrue((np.abs(seen.position[:, 1]) <= 60.05 - 0.96 * r).all())
        pairs = np.array(list(itertools.combinations(range(len(rest)), 2)))
        far = np.linalg.norm(rest.position[pairs[:, 0]] - rest.position[pairs[:, 1]], axis=1)
        radii = rest.size[pairs] / 2
        over = (radii.sum(axis=1) - far) / radii.min(axis=1)
        self.assertLess(float(np.percentile(over[over > -0.5], 99)), 0.06)
        self.assertGreater(float(stirred.colour[:, 0].mean()), 3 * float(rest.colour[:, 0].mean()), "coloured by speed")
        self.assertGreater((self.cover(shot, 200) > 0.5).mean(), 0.05)

    def test_light_that_spreads_along_the_edges_of_artwork(self) -> None:
        points = {
            "shape": {"kind": "artwork", "paths": ["M0 0H200V100H0Z"], "width": 200, "fill": "edge"}, "spacing": "even", "rate": 0,
            "bursts": [{"at_s": 0, "count": 1200}], "lifespan": 0, "speed": 0, "size": 3,
            "colour_by": "since caught", "colour_from": 0, "colour_to": 1, "colour": ramp("#ffffff", "#0040ff"),
            "brightness": {"value": 0.05, "reads": "life", "source": {
                "measure": "since caught", "low": -0.01, "high": 0, "makes_low": 1, "makes_high": 20}},
        }  # fmt: skip
        zones = [{"id": "seed", "across": -100, "radius": 4}]
        light = {"kind": "contagion", "seeds": "seed", "seed_first": 0, "radius": 4, "pace": 100, "nearest": 4}
        shot = self.shot(points, forces=[light], zones=zones)
        seen = self.at(shot, 25)
        way = np.where(
            np.abs(np.abs(seen.position[:, 1]) - 50) < 0.5, 50 + seen.position[:, 0] + 100,
            np.where(seen.position[:, 0] < 0, np.abs(seen.position[:, 1]), 250 + 50 - np.abs(seen.position[:, 1])),
        )  # fmt: skip
        caught = seen.caught >= 0
        self.assertTrue(caught[way < 96].all() and not caught[way > 108].any(), "a hundred px in a second")
        np.testing.assert_allclose(seen.caught[caught & (way > 8)], way[caught & (way > 8)] / 100, atol=0.06)
        picture = self.delivered(shot, 25)[..., :3].sum(axis=2)
        self.assertGreater(picture[:, :120].max(), 5 * picture[:, 200:].max())

    def test_a_flock_that_bears_and_bounces(self) -> None:
        birds = {"shape": {"kind": "disc", "radius": 40}, "rate": 0, "bursts": [{"at_s": 0, "count": 60}], "lifespan": 0,
                 "speed": 60, "spread": 240, "size": 4}  # fmt: skip
        sparks = {
            "born_of": "e0",
            "rate": 4,
            "shape": {"kind": "point"},
            "lifespan": 0.5,
            "speed": 5,
            "inherit": 50,
            "size": 2,
        }
        reported = self.shot(birds, sparks).model_dump()
        reported["forces"] = [
            {"id": "f", "kind": "flock", "radius": 60, "alignment": 6, "shy": 0, "cohesion": 0, "separation": 0},
            {"id": "s", "kind": "surface", "shape": "box", "side": "inside", "width": 300, "height": 170, "deep": 400},
        ]
        reported["links"] = [{"force": f, "emitter": "e0"} for f in ("f", "s")]
        shot = Shot.model_validate(reported)

        def together(frame: int) -> float:
            seen = self.at(shot, frame)
            way = seen.velocity[seen.emitter == 0]
            return float(np.linalg.norm((way / np.linalg.norm(way, axis=1, keepdims=True)).mean(axis=0)))

        self.assertGreater(together(20), together(0) + 0.25)
        seen = self.at(shot, 100)
        birds_now, born = seen.where(seen.emitter == 0), seen.where(seen.emitter == 1)
        self.assertTrue((np.abs(birds_now.position[:, 1]) < 85.1).all())
        # Sixty of them spawn four a second, which live half of one.
        self.assertAlmostEqual(len(born), 120, delta=12)
        self.assertGreater(float(self.cover(shot, 100).sum()), 30)


if __name__ == "__main__":
    unittest.main()
