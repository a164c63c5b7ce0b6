"""Mattes that are models and show themselves, and the light of particles on them, against closed forms."""

import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np
import OpenImageIO as oiio

from isbjorn.core import Solver, render_frame
from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.deliver import deliver
from isbjorn.core.document import Number, Shot
from isbjorn.core.frame import compositor_of, draw_particles
from isbjorn.core.render.composite.layer_cache import LayerCache
from isbjorn.core.render.composite.passes import measured, normals
from isbjorn.core.render.models.covers import _tree
from isbjorn.core.render.scene.camera import Orbit as View
from tests.threads import MANY, threads

WALL = {"kind": "model", "model": {"form": "card"}, "feather": 0}


def shot(mattes: list[dict[str, Any]], emitter: dict[str, Any] | None = None, **more: Any) -> Shot:
    """Mattes before one particle at rest, in a picture of 200 by 200."""
    e = {
        "id": "e", "rate": 0, "bursts": [{"count": 1}], "lifespan": 0, "speed": 0, "size": 20, "shape": {"kind": "point"},
        "body": {"kind": "hard disc"}, "hidden_by": [m["id"] for m in mattes],
    }  # fmt: skip
    given = {"emitters": [e | (emitter or {})], "mattes": [WALL | m for m in mattes], "width": 200, "height": 200}
    return Shot.model_validate(given | {"camera": {"kind": "perspective"}} | more)


def picture(of: Shot, frame: int = 1) -> Floats:
    return render_frame(of, frame)


def moved(of: Shot, number: Number, frame: int, frames: float) -> float:
    """By how much a number changes from a frame on in some frames."""
    first, last = Solver(of).readings.number(number, np.array([frame, frame + frames]) / 25)
    return float(last - first)


class Shown(unittest.TestCase):
    def test_it_covers_what_it_covers_in_its_colour(self) -> None:
        look = {"material": "glowing"}
        shown = picture(
            shot([{"id": "m", "visible": True, "look": look, "tint": "#ff0000", "size": 80}], {"depth": -50})
        )
        self.assertAlmostEqual(float(shown[..., 3].sum()), 80 * 80, delta=1)
        np.testing.assert_allclose(shown[100, 100], [1, 0, 0, 1])
        # Without it, the particle behind it is hidden, and nothing is seen.
        hidden = picture(shot([{"id": "m", "size": 80}], {"depth": -50}))
        self.assertEqual(float(hidden.max()), 0)

    def test_particles_before_it_lie_over_it_and_those_behind_are_hidden(self) -> None:
        look = {"material": "glowing"}
        for depth, expected in ((40, [1, 1, 1, 1]), (-40, [0, 0, 1, 1])):
            made = shot([{"id": "m", "visible": True, "look": look, "tint": "#0000ff", "size": 90}], {"depth": depth})
            np.testing.assert_allclose(picture(made)[100, 100], expected, atol=1e-6)

    def test_nearer_ones_hide_others_also_those_that_are_not_seen(self) -> None:
        look = {"material": "glowing"}
        far = {"id": "far", "visible": True, "look": look, "tint": "#00ff00", "size": 100, "depth": -60}
        for near, expected in (
            ({"id": "near", "visible": True, "look": look, "tint": "#ff0000", "size": 40}, [1, 0, 0, 1]),
            ({"id": "near", "size": 40}, [0, 0, 0, 0]),
            ({"id": "near", "size": 40, "depth": -120}, [0, 1, 0, 1]),
        ):
            shown = picture(shot([far, near], {"opacity": 0}))
            np.testing.assert_allclose(shown[100, 100], expected, atol=1e-6, err_msg=str(near))
            np.testing.assert_allclose(shown[100, 70], [0, 1, 0, 1], atol=1e-6)

    def test_it_is_smeared_while_the_shutter_is_open(self) -> None:
        moving = {"value": 0, "keys": [{"at_s": 0, "value": -250}, {"at_s": 1, "value": 250}]}
        matte = {"id": "m", "visible": True, "look": {"material": "glowing"}, "size": 40, "across": moving}
        made = shot([matte], {"opacity": 0}, camera={"kind": "perspective", "shutter": 180})
        still, open_ = picture(shot([matte], {"opacity": 0}), 12), picture(made, 12)
        self.assertAlmostEqual(float(open_[..., 3].sum()), float(still[..., 3].sum()), delta=2)
        # Wider by what it moves in half a frame; each column as full as the share of the time that it is covered.
        columns = [int((one[..., 3].max(axis=0) > 0.01).sum()) for one in (still, open_)]
        gone = moved(made, made.mattes[0].across, 12, 0.5)
        self.assertGreater(gone, 9)
        self.assertAlmostEqual(columns[1] - columns[0], gone, delta=1.6)

    def test_an_edit_draws_it_anew(self) -> None:
        known = LayerCache()
        given = {"id": "m", "visible": True, "look": {"material": "glowing"}, "size": 80}
        for tint in ("#ff0000", "#ff0000", "#00ff00"):
            made = shot([given | {"tint": tint}], {"depth": -50})
            found = draw_particles(Solver(made), 1, known=known).picture
            np.testing.assert_array_equal(found, draw_particles(Solver(made), 1).picture, err_msg=tint)
        for size in (20, 30):
            # An emitter that shines on it.
            lit = shot([given | {"catches": 100}], {"depth": 30, "size": size})
            found = draw_particles(Solver(lit), 1, known=known).picture
            np.testing.assert_array_equal(found, draw_particles(Solver(lit), 1).picture)


class Orbit(unittest.TestCase):
    def seen(self, of: Shot) -> Floats:
        return draw_particles(Solver(of), 1, orbit=View(30, 20, 1.2)).picture

    def test_models_that_are_not_seen_are_clear_shapes_in_a_free_look(self) -> None:
        model = {"shape": "model", "model": {"form": "box"}, "size": 60}
        bare = shot([], {"opacity": 0})
        empty = float(self.seen(bare)[..., 3].sum())
        cases = {
            "matte": shot([{"id": "m", "size": 60}], {"opacity": 0}),
            "surface": shot([], {"opacity": 0}, forces=[{"kind": "surface", "id": "s"} | model]),
            "zone": shot([], {"opacity": 0}, zones=[{"id": "z"} | model]),
            "source": shot([], {"opacity": 0, "turn": 30, "shape": {"kind": "model", "size": 60, "angle": 20}}),
        }
        for name, made in cases.items():
            clear = self.seen(made)[..., 3]
            self.assertGreater(float(clear.sum()), empty + 500, name)
            self.assertAlmostEqual(float(clear.max()), 0.3, delta=0.01, msg=name)
            # Of the picture they are no part.
            self.assertEqual(float(picture(made)[..., 3].sum()), 0, name)

    def test_a_source_is_where_births_are(self) -> None:
        shape = {
            "kind": "model",
            "form": "box",
            "deep": 20,
            "height": 50,
            "size": 90,
            "angle": 25,
            "turn_x": 40,
            "turn_y": 15,
        }
        e = {"shape": shape, "turn": 35, "across": 10, "bursts": [{"count": 4000}], "size": 1}
        made = shot([], e)
        births = self.seen(made)[..., 3] > 0.35
        clear = self.seen(shot([], e | {"opacity": 0}))[..., 3] > 0.1
        self.assertGreater(int(births.sum()), 1000)
        self.assertGreater(float(clear[births].mean()), 0.98)


class Light(unittest.TestCase):
    def fallen(self, places: Doubles, light: Doubles, radii: Doubles, at: Doubles, normal: Doubles) -> Doubles:
        """Of all balls one by one, (n, 3)."""
        to = places[None] - at[:, None]
        square = (to**2).sum(axis=2)
        falls = np.maximum(0, np.einsum("nkc,c->nk", to, normal)) / np.sqrt(square)
        return (falls * radii[None] ** 2 / np.maximum(square, radii[None] ** 2)) @ light

    def test_a_ball_lights_a_wall_by_the_square_of_its_distance(self) -> None:
        away = 200 * 35 / 36
        for depth in (15.0, 40.0, 90.0):
            wall = {"id": "m", "size": 400, "tint": "#ffffff", "catches": 50}
            lit = picture(shot([wall], {"depth": depth, "size": 24, "body": {"kind": "hard disc"}}))
            bare = picture(shot([wall | {"catches": 0}], {"depth": depth, "size": 24}))
            found = (lit - bare)[..., :3]
            y, x = np.mgrid[0:200, 0:200] + 0.5
            at = np.stack([x - 100, 100 - y, np.zeros_like(x)], axis=-1).reshape(-1, 3)
            place, ones = np.array([[0, 0, depth]]), np.ones((1, 3))
            expected = 0.5 * self.fallen(place, ones, np.array([12.0]), at, np.array([0, 0, 1.0])).reshape(200, 200, 3)
            clear = np.hypot(x - 100, y - 100) > 14 * away / (away - depth)
            np.testing.assert_allclose(found[clear], expected[clear], rtol=0.015, atol=1e-6)
            # Light has no cover of its own.
            np.testing.assert_array_equal(lit[..., 3], bare[..., 3])

    def test_a_ball_on_the_surface_lights_it_as_its_upper_half_does(self) -> None:
        # At the middle of a pixel, where the distance is 0; and beside it, by the view of a half ball on the horizon (a sphere
        # that the horizon halves: asin(r / d) - r / d sqrt(1 - r² / d²), by pi).
        wall = {"id": "m", "size": 400, "tint": "#ffffff", "catches": 100, "margin": 50}
        lit = picture(shot([wall], {"across": 0.5, "up": 0.5, "size": 20, "blend": "add", "opacity": 100}))
        self.assertTrue(bool(np.isfinite(lit).all()))
        for away in (15, 30, 60):
            share = 10 / away
            exact = (math.asin(share) - share * math.sqrt(1 - share**2)) / math.pi
            self.assertAlmostEqual(float(lit[99, 100 + away, 0]) / exact, 1, delta=0.25)

    def test_many_are_added_as_one_by_one(self) -> None:
        scattered = {
            "bursts": [{"count": 3000}], "shape": {"kind": "box", "width": 150, "height": 90, "deep": 60}, "depth": 90, "size": 3,
            "colour": {"colours": [{"at": 0, "colour": "#ff8040"}]}, "opacity": {"value": 60, "spread": 30},
            "blend": "add",
        }  # fmt: skip
        wall = {"id": "m", "size": 400, "tint": "#ffffff", "catches": 100}
        made = shot([wall], scattered)
        lit, bare = (picture(one) for one in (made, shot([wall | {"catches": 0}], scattered)))
        p = Solver(made).at(1)
        y, x = np.mgrid[5:200:30, 5:200:30] + 0.5
        at = np.stack([x - 100, 100 - y, np.zeros_like(x)], axis=-1).reshape(-1, 3)
        light = (p.colour * p.opacity[:, None]).astype(np.float64)
        expected = self.fallen(
            p.position.astype(np.float64), light, 0.5 * p.size.astype(np.float64), at, np.array([0, 0, 1.0])
        )
        rows, columns = y.astype(int).reshape(-1), x.astype(int).reshape(-1)
        found = (lit - bare)[rows, columns, :3]
        np.testing.assert_allclose(found, expected, rtol=0.05)
        self.assertLess(float(np.abs(found / expected - 1).mean()), 0.01)

    def test_it_falls_on_the_side_that_faces_it(self) -> None:
        ball = {"id": "m", "model": {"form": "ball", "detail": 5}, "size": 100, "tint": "#ffffff", "catches": 100}
        lit = picture(shot([ball], {"across": 400, "size": 40}))
        self.assertGreater(float(lit[100, 145, 0]), 0)
        self.assertEqual(float(lit[100, 60].max()), 0)

    def test_what_it_can_hide_or_names_shines_on_it_and_its_colour_tints_it(self) -> None:
        wall = {"id": "m", "size": 400, "tint": "#ff0000", "catches": 100}
        lit = picture(shot([wall], {"depth": 50}))
        self.assertGreater(float(lit[100, 160, 0]), 0)
        self.assertEqual(float(lit[100, 160, 1:].max()), 0)
        other = shot([wall], {"depth": 50, "hidden_by": []})
        self.assertEqual(float(picture(other)[100, 160].max()), 0)
        named = shot([wall | {"lit_by": ["e"]}], {"depth": 50, "hidden_by": []})
        np.testing.assert_array_equal(picture(named)[100, 160], lit[100, 160])

    def test_what_is_before_it_takes_the_light_away(self) -> None:
        wall = {"id": "m", "size": 400, "tint": "#ffffff", "catches": 100, "depth": -50}
        made = shot([wall, {"id": "post", "size": 30, "across": 60}], {"depth": 20})
        lit = picture(made)
        self.assertEqual(float(lit[100, 160].max()), 0)
        self.assertGreater(float(lit[60, 160, 0]), 0)

    def test_a_tree_holds_all_light(self) -> None:
        rng = np.random.default_rng(3)
        for count in (1, 2, 3, 100):
            places, light, radii = rng.normal(size=(count, 3)), rng.random((count, 3)), rng.random(count)
            root = _tree(places, light.astype(np.float32), radii)[1]
            np.testing.assert_allclose(root[3:6], (light * radii[:, None] ** 2).sum(axis=0), rtol=1e-5)

    def test_it_is_the_same_for_any_number_of_threads(self) -> None:
        made = shot(
            [{"id": "m", "size": 300, "catches": 100, "visible": True}],
            {"bursts": [{"count": 500}], "spread": 180, "speed": 90},
        )
        with threads(MANY):
            many = picture(made, 10)
        with threads(1):
            np.testing.assert_array_equal(picture(made, 10), many)


class Passes(unittest.TestCase):
    def test_they_cover_lie_in_depth_and_face_somewhere(self) -> None:
        matte = {
            "id": "m",
            "visible": True,
            "look": {"material": "matte"},
            "size": 80,
            "depth": -30,
            "turn_y": 30,
            "name": "Box",
        }
        made = shot([matte], {"across": 70, "size": 30})
        compositor = compositor_of(Solver(made), 1)
        found, alpha = measured(compositor), picture(made)[..., 3]
        np.testing.assert_allclose(found.cover, alpha, atol=1e-3)
        np.testing.assert_allclose(sum(found.seen.values()), alpha, atol=1e-3)
        self.assertEqual(set(found.seen), {"m", "e"})
        away = 200 * 35 / 36
        # The middle of the card, and a place that is turned toward the viewer.
        self.assertAlmostEqual(float(found.depth[100, 100]), away + 30, delta=0.6)
        turn = math.radians(30)
        np.testing.assert_allclose(normals(compositor)[100, 100], [math.sin(turn), 0, math.cos(turn)], atol=1e-3)

    def test_motion_is_that_of_its_place(self) -> None:
        moving = {"value": 0, "keys": [{"at_s": 0, "value": 0}, {"at_s": 1, "value": 50}]}
        made = shot([{"id": "m", "visible": True, "size": 80, "up": moving}], {"opacity": 0})
        found = measured(compositor_of(Solver(made), 5)).motion
        np.testing.assert_allclose(found[95, 100], [0, moved(made, made.mattes[0].up, 5, 1.0)], atol=0.01)

    def test_a_delivery_names_it_in_cryptomatte(self) -> None:
        made = shot([{"id": "m", "visible": True, "size": 80, "name": "Box"}], {"across": 70})
        with tempfile.TemporaryDirectory() as folder:
            deliver(
                made, folder, "{shot}_v{version}", format="exr-half", passes=("objects", "normals"), first=0, last=0
            )
            [file] = sorted(Path(folder).rglob("*.exr"))
            spec = oiio.ImageBuf(str(file)).spec()
            self.assertIn('"Box"', str([a.value for a in spec.extra_attribs]))
            self.assertTrue({"N.X", "N.Y", "N.Z"} <= set(spec.channelnames))


if __name__ == "__main__":
    unittest.main()
