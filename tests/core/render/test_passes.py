"""What accompanies a picture: layers, depth, motion, cover, ids and the visible particles."""

import json
import shutil
import tempfile
import unittest
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import OpenImageIO as oiio

from isbjorn.core import Solver
from isbjorn.core.deliver import deliver
from isbjorn.core.deliver.layers import cryptomatte, hashed
from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.frame import compositor_of, render_frame
from isbjorn.core.render.composite.passes import NOWHERE, Measured, ids, measured
from tests.core.media.test_media import still
from tests.shots import one_emitter

SIZE = {"width": 200, "height": 120}


def measure(shot: Shot, frame: int = 20, scale: float = 1.0, lasts: Fraction | None = None) -> Measured:
    return measured(compositor_of(Solver(shot), frame, scale, lasts_s=lasts))


def still_body(**more: Any) -> dict[str, Any]:
    """One particle at rest, hard and wide."""
    return {
        "shape": {"kind": "point"},
        "cadence": "even",
        "rate": 1,
        "lifespan": 10,
        "speed": 0,
        "size": 40,
        "body": {"kind": "hard disc"},
        **more,
    }


class Depth(unittest.TestCase):
    def test_it_is_the_way_from_the_camera(self) -> None:
        # 35 mm over 36 mm: 200 px of the picture plane are seen from 200 · 35 / 36 px.
        away = 200 * 35 / 36
        for z in (0.0, -150.0, 60.0):
            shot = one_emitter(**SIZE, emitter=still_body(depth=z), camera={"kind": "perspective"})
            found = measure(shot)
            position = Solver(shot).at(20).position[0]
            self.assertAlmostEqual(float(found.depth[60, 100]), away - float(position[2]), delta=0.05)
            self.assertEqual(found.depth[0, 0], NOWHERE)

    def test_what_lies_over_hides_what_lies_under(self) -> None:
        emitters = [{"id": i, **still_body(), "name": i, "depth": z} for i, z in (("far", -100), ("near", 50))]
        shot = one_emitter(**SIZE).model_copy(update={"camera": {"kind": "perspective"}})
        shot = Shot.model_validate({**SIZE, "emitters": emitters, "camera": {"kind": "perspective"}})
        found = measure(shot)
        near = float(found.depth[60, 100])
        self.assertAlmostEqual(near, 200 * 35 / 36 - Solver(shot).of(1, shot.seconds(20)).position[0, 2], delta=0.05)
        self.assertAlmostEqual(float(found.seen["near"][60, 100]), 1, places=5)
        self.assertAlmostEqual(float(found.seen["far"][60, 100]), 0, places=5)

    def test_half_a_cover_is_a_mean(self) -> None:
        emitters = [
            {"id": "a", **still_body(), "depth": -100},
            {"id": "b", **still_body(opacity=50), "depth": 50},
        ]
        shot = Shot.model_validate({**SIZE, "emitters": emitters, "camera": {"kind": "perspective"}})
        found, solver = measure(shot), Solver(shot)
        z = [float(solver.of(n, shot.seconds(20)).position[0, 2]) for n in (0, 1)]
        self.assertAlmostEqual(float(found.depth[60, 100]), 200 * 35 / 36 - (z[0] + z[1]) / 2, delta=0.1)
        self.assertAlmostEqual(float(found.seen["a"][60, 100]), 0.5, places=4)


class Cover(unittest.TestCase):
    """Cover and mattes go through the same effects as the picture, so that they are its alpha."""

    def shot(self, **more: Any) -> Shot:
        one = {"shape": {"kind": "disc", "radius": 30}, "rate": 60, "lifespan": 2, "size": 14, "opacity": 70}
        blur = [{"kind": "blur", "sigma": 5}]
        sharpen = [{"kind": "sharpen", "amount": 200, "radius": 3}, {"kind": "grade", "opacity": 60, "exposure": 1}]
        emitters = [
            {"id": "a", **one, "finish": blur},
            {"id": "b", **one, "across": 25, "group": "g", "finish": sharpen},
            {"id": "c", **one, "up": 20, "group": "g", "body": {"kind": "star"}},
            {"id": "d", **one, "across": -40, "finish": [{"kind": "glow"}, {"kind": "directional blur", "length": 30}]},
        ]
        groups = [{"id": "g", "name": "g", "finish": [{"kind": "blur", "sigma": 3}]}]
        return Shot.model_validate({**SIZE, "emitters": emitters, "groups": groups, "background": "#000000", **more})

    def alpha(self, shot: Shot, frame: int = 40) -> np.ndarray:
        return compositor_of(Solver(shot), frame, 1.0).laid(None)[..., 3]

    def test_they_are_the_picture_s_alpha(self) -> None:
        shots = {
            "effects": self.shot(), "effects on all": self.shot(finish=[{"kind": "blur", "sigma": 6}]),
            "open shutter": self.shot(camera={"shutter": 180}),
        }  # fmt: skip
        cut = self.shot().model_dump()
        cut["emitters"][0]["use"] = {"kind": "cut", "of": "d"}
        cut["emitters"][1]["use"] = {"kind": "matte"}
        shots["uses"] = Shot.model_validate(cut)
        cut["emitters"][0]["use"], cut["emitters"][1]["use"] = {"kind": "cut", "of": "g"}, {}
        cut["emitters"][0]["across"], cut["groups"][0]["finish"] = 25, []
        shots["a use of a group without effects"] = Shot.model_validate(cut)
        for name, shot in shots.items():
            with self.subTest(name):
                found, alpha = measure(shot, 40), self.alpha(shot)
                self.assertGreater(float(alpha.max()), 0.3)
                np.testing.assert_allclose(found.cover, alpha, atol=1e-3)
                np.testing.assert_allclose(sum(found.seen.values()), alpha, atol=1e-3)

    def test_what_only_adds_light_is_seen_too(self) -> None:
        shot = one_emitter(**SIZE, emitter=still_body(blend="add", finish=[{"kind": "blur", "sigma": 4}]))
        plain = one_emitter(**SIZE, emitter=still_body(finish=[{"kind": "blur", "sigma": 4}]))
        np.testing.assert_allclose(measure(shot).cover, self.alpha(plain, 20), atol=1e-3)


class Motion(unittest.TestCase):
    def test_it_is_px_of_the_picture_in_a_frame(self) -> None:
        shot = one_emitter(**SIZE, emitter=still_body(speed=50, direction=30, size=60, rate=1))
        for scale, lasts in ((1.0, None), (0.5, None), (1.0, Fraction(1, 100))):
            found = measure(shot, 10, scale, lasts)
            seconds = float(lasts or Fraction(1, 25))
            wanted = 50 * seconds * scale * np.array([np.cos(np.radians(30)), np.sin(np.radians(30))])
            inside = found.cover > 0.5
            self.assertGreater(int(inside.sum()), 400)
            np.testing.assert_allclose(found.motion[inside], np.tile(wanted, (int(inside.sum()), 1)), atol=0.02)
            self.assertEqual(float(np.abs(found.motion[found.cover == 0]).max()), 0)

    def test_a_moving_camera_moves_what_stands_still(self) -> None:
        across = {
            "value": 0,
            "keys": [{"at_s": 0, "value": 0, "joint": "straight"}, {"at_s": 2, "value": 100, "joint": "straight"}],
        }
        shot = one_emitter(**SIZE, emitter=still_body(size=90), camera={"kind": "perspective", "across": across})
        found = measure(shot)
        self.assertAlmostEqual(float(np.median(found.motion[found.cover > 0.9][:, 0])), -50 / 25, delta=0.02)

    def test_bodies_of_any_kind_are_measured(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            picture = Path(folder) / "b.png"
            still(picture, np.full((8, 8, 3), (200, 30, 10), np.uint8), "uint8")
            for more in (
                {"body": {"kind": "star"}}, {"body": {"kind": "picture", "media": str(picture), "tinted": False}}, {"blend": "add"},
                {"skin": {"material": "glass"}}, {"skin": {"material": "milk", "colours": "by thickness"}},
                {"trail": {"length": 5}}, {"heads": {"count": 2}},
            ):  # fmt: skip
                with self.subTest(str(more)):
                    shot = one_emitter(**SIZE, emitter=still_body(speed=40, direction=0, size=50, depth=-80, **more),
                                       camera={"kind": "perspective", "shutter": 180})  # fmt: skip
                    found = measure(shot, 12)
                    inside = found.cover > 0.9 * found.cover.max()
                    z = float(Solver(shot).at(12).position[0, 2])
                    self.assertAlmostEqual(float(np.median(found.depth[inside])), 200 * 35 / 36 - z, delta=1)


class Ids(unittest.TestCase):
    def test_each_pixel_names_the_topmost_particle(self) -> None:
        shot = one_emitter(**SIZE, emitter=still_body(rate=2, speed=30, direction=0, size=12))
        solver = Solver(shot)
        found = ids(compositor_of(solver, 40))
        p = solver.at(40)
        self.assertGreater(len(p), 2)
        for place, name in zip(p.position, p.id, strict=True):
            x, y = int(100 + place[0]), int(60 - place[1])
            if 0 <= x < 200:
                self.assertEqual(found[y, x].tolist(), [1, float(name & 0xFFFFF), 0])
        self.assertEqual(found[5, 5].tolist(), [0, 0, 0])


class Layers(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)

    def read(self, shot: Shot, *passes: str, **more: Any) -> tuple[dict[str, np.ndarray], Any]:
        given: dict[str, Any] = {
            "format": "exr-float",
            "over_plate": False,
            "passes": passes,
            "first": 20,
            "last": 20,
            **more,
        }
        made = deliver(shot, self.folder, "p{version}", processes=1, **given)
        file = oiio.ImageInput.open(str(made[0]))
        spec = file.spec()
        pixels = np.asarray(file.read_image("float"))
        return {name: pixels[..., n] for n, name in enumerate(spec.channelnames)}, spec

    def test_layers_laid_over_each_other_are_the_picture(self) -> None:
        emitters = [
            {
                "id": "a",
                "name": "Mist",
                "rate": 60,
                "spread": 360,
                "size": 30,
                "opacity": 60,
                "finish": [{"kind": "blur", "sigma": 3}],
            },
            {"id": "b", "name": "v1.2", "rate": 90, "spread": 90, "size": 9, "blend": "add", "group": "g"},
            {"id": "c", "name": "v1.2", "rate": 50, "spread": 180, "size": 12, "group": "g"},
        ]
        groups = [{"id": "g", "name": "Both", "finish": [{"kind": "glow", "radius": 5}]}]
        shot = Shot.model_validate({**SIZE, "emitters": emitters, "groups": groups})
        found, _ = self.read(shot, "emitters", "groups")
        self.assertEqual({n.partition(".")[0] for n in found}, {"R", "G", "B", "A", "Mist", "v1_2", "v1_2 2", "Both"})

        def layer(name: str) -> np.ndarray:
            return np.stack([found[name + c] for c in "RGBA"], axis=-1)

        mist, both = layer("Mist."), layer("Both.")
        np.testing.assert_allclose(both + mist * (1 - both[..., 3:]), layer(""), atol=2e-5)
        np.testing.assert_array_equal(layer(""), render_frame(shot, 20, over_plate=False))

    def test_data_keeps_its_bits_and_the_plate_comes_along(self) -> None:
        still(self.folder / "plate.png", np.full((120, 200, 3), 128, np.uint8), "uint8")
        shot = one_emitter(**SIZE, plate={"media": str(self.folder / "plate.png")}, emitter={"size": 20})
        found, spec = self.read(shot, "depth", "motion", "ids", "objects", "plate")
        self.assertEqual({str(spec.channelformat(n)) for n in range(spec.nchannels)}, {"float"})
        self.assertAlmostEqual(float(found["plate.G"].mean()), 0.2158, delta=2e-3)
        self.assertTrue({"Z", "motion.X", "motion.Y", "cover.A", "ids.birth"} <= set(found))
        alone, _ = self.read(shot, "alpha", over_plate=True)
        self.assertEqual({n for n in alone if n not in "RGBA"}, {"cover.A"})
        np.testing.assert_allclose(alone["cover.A"], render_frame(shot, 20, over_plate=False)[..., 3], atol=1e-5)
        with self.assertRaisesRegex(IsbjornError, "Select EXR"):
            deliver(shot, self.folder, format="png8", passes=("depth",))

    def test_cryptomatte_is_read_as_its_specification_says(self) -> None:
        # Known answers of MurmurHash3_32, seed 0: of "" and of "hello".
        self.assertEqual([hashed(""), hashed("hello")], [0x00800000, 0x248BFA47])
        emitters = [
            {"id": "a", "name": "Lamp, low", **still_body(), "across": -30},
            {"id": "b", "name": "Å", **still_body(opacity=40), "across": 10},
        ]
        shot = Shot.model_validate({**SIZE, "emitters": emitters})
        found, spec = self.read(shot, "objects")
        keys = [a.name for a in spec.extra_attribs if a.name.startswith("cryptomatte/")]
        head = keys[0].rpartition("/")[0]
        reported = {name: spec.getattribute(f"{head}/{name}") for name in ("name", "hash", "conversion", "manifest")}
        self.assertEqual((reported["hash"], reported["conversion"]), ("MurmurHash3_32", "uint32_to_float32"))
        manifest = json.loads(reported["manifest"])
        self.assertEqual(set(manifest), {"Lamp, low", "Å"})
        where = {"Lamp, low": (60, 60, 1.0), "Å": (60, 115, 0.4)}
        for name, (y, x, share) in where.items():
            code = np.array([int(manifest[name], 16)], np.uint32).view(np.float32)[0]
            total = sum(
                float(found[f"{reported['name']}{n:02d}.{share_in}"][y, x])
                for n in range(3)
                for code_in, share_in in ("RG", "BA")
                if found[f"{reported['name']}{n:02d}.{code_in}"][y, x] == code
            )
            self.assertAlmostEqual(total, share, places=4)

    def test_the_largest_share_comes_first(self) -> None:
        covers = [np.full((1, 1), share, np.float32) for share in (0.1, 0.5, 0.0, 0.3)]
        layers = cryptomatte(["a", "b", "c", "d"], covers)
        shares = [float(layer.values[0, 0, k]) for layer in layers for k in (1, 3)]
        np.testing.assert_allclose(shares, [0.5, 0.3, 0.1, 0, 0, 0], rtol=1e-6)
        self.assertEqual(float(layers[1].values[0, 0, 2]), 0)
        drawn = np.random.default_rng(3).integers(0, 5, (9, 6, 7)).astype(np.float32) / 8
        layers = cryptomatte([f"n{i}" for i in range(9)], list(drawn))
        codes = np.array([hashed(f"n{i}") for i in range(9)], np.uint32).view(np.float32)
        order = np.argsort(-drawn, axis=0, kind="stable")[:6]
        wanted = np.take_along_axis(drawn, order, axis=0)
        for rank in range(6):
            names, shares = (layers[rank // 2].values[..., rank % 2 * 2 + k] for k in (0, 1))
            np.testing.assert_array_equal(shares, wanted[rank])
            np.testing.assert_array_equal(names, np.where(wanted[rank] > 0, codes[order[rank]], 0))

    def test_a_retimed_pass_is_that_of_its_moment(self) -> None:
        shot = one_emitter(**SIZE, emitter=still_body(speed=50, direction=0, size=60))
        found, _ = self.read(shot, "motion", retime={"speed": 50})
        self.assertAlmostEqual(float(found["motion.X"].max()), 1.0, delta=0.02)
        self.assertEqual(replace(measure(shot), cover=found["cover.A"]).cover.shape, (120, 200))


if __name__ == "__main__":
    unittest.main()
