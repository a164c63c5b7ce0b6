"""Compositing: layers and groups, their uses, mattes, lights, depth of field, orders."""

import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from isbjorn.core import Shot, Solver, render_frame
from isbjorn.core.frame import draw_depth, draw_particles
from isbjorn.core.render.scene.camera import projection, rank
from tests.shots import one_emitter
from tests.threads import MANY, threads

DISC = {
    "shape": {"kind": "point"}, "rate": 0, "bursts": [{"count": 1}], "speed": 0, "lifespan": 0, "size": 60, "spread": 0,
    "body": {"kind": "hard disc"}, "opacity": 100,
}  # fmt: skip


def red(**more: Any) -> dict[str, Any]:
    return {**DISC, "id": "red", "name": "Red", "colour": {"colours": [{"at": 0, "colour": "#ff0000"}]}, **more}


def blue(**more: Any) -> dict[str, Any]:
    return {**DISC, "id": "blue", "name": "Blue", "colour": {"colours": [{"at": 0, "colour": "#0000ff"}]}, **more}


def seen(*emitters: dict[str, Any], over_plate: bool = True, **shot: Any) -> np.ndarray:
    whole = Shot.model_validate({"width": 160, "height": 120, "emitters": list(emitters), **shot})
    return render_frame(whole, 5, over_plate=over_plate)


def middle(picture: np.ndarray) -> np.ndarray:
    return picture[60, 80]


class Order(unittest.TestCase):
    def test_a_later_emitter_lies_on_top(self) -> None:
        np.testing.assert_allclose(middle(seen(red(), blue())), [0, 0, 1, 1], atol=1e-5)
        np.testing.assert_allclose(middle(seen(blue(), red())), [1, 0, 0, 1], atol=1e-5)

    def test_a_finish_does_not_change_the_order(self) -> None:
        step = [{"kind": "grade", "exposure": 0.5}]
        np.testing.assert_allclose(middle(seen(red(finish=step), blue())), [0, 0, 1, 1], atol=1e-5)
        np.testing.assert_allclose(middle(seen(blue(), red(finish=step)))[:3], [2**0.5, 0, 0], atol=1e-4)

    def test_a_group_stands_where_its_first_member_does(self) -> None:
        group = [{"id": "g"}]
        found = middle(seen(red(group="g"), blue(), {**red(group="g"), "id": "other"}, groups=group))
        np.testing.assert_allclose(found, [0, 0, 1, 1], atol=1e-5)

    def test_by_age_by_depth_and_by_size_either_way(self) -> None:
        shot = one_emitter(emitter={
            "speed": 0, "depth": {"value": 0, "spread": 50}, "rate": 40, "size": {"value": 20, "spread": 9},
        })  # fmt: skip
        found, view = Solver(shot).at(49), projection(shot, 1.0)
        for order, value, sign in (
            ("oldest first", found.age, -1), ("youngest first", found.age, 1), ("farthest first", found.position[:, 2], 1),
            ("nearest first", found.position[:, 2], -1), ("largest first", found.size, -1), ("smallest first", found.size, 1),
        ):  # fmt: skip
            with self.subTest(order):
                emitter = shot.emitters[0].model_copy(update={"order": order})
                drawn = value[rank(emitter, found, view)] * sign
                self.assertTrue((np.diff(drawn) >= 0).all())

    def test_layers_view_counts_what_lies_over_each_other(self) -> None:
        shot = Shot.model_validate(
            {"width": 160, "height": 120, "emitters": [red(), blue(opacity=3), red(id="r", on=False)]}
        )
        deep = draw_depth(Solver(shot), 5)
        self.assertAlmostEqual(float(deep[60, 80]), 2, delta=1e-4)
        self.assertEqual(float(deep[5, 5]), 0)


class Groups(unittest.TestCase):
    def test_a_group_is_finished_as_one_and_blended_as_one(self) -> None:
        # Two discs that cover half each: together they cover three quarters, whatever blend the group has.
        members = [red(opacity=50, group="g"), blue(opacity=50, group="g")]
        found = middle(seen(*members, groups=[{"id": "g"}], background="#000000"))
        np.testing.assert_allclose(found[:3], [0.25, 0, 0.5], atol=1e-4)
        added = middle(seen(*members, groups=[{"id": "g", "blend": "add"}], background="#ffffff"))
        np.testing.assert_allclose(added[:3], [1.25, 1, 1.5], atol=1e-4)

    def test_a_group_that_is_off_is_not_seen(self) -> None:
        self.assertEqual(float(seen(red(group="g"), groups=[{"id": "g", "on": False}]).max()), 0)

    def test_blend_of_an_emitter_with_a_layer_is_that_of_its_particles_for_one_particle(self) -> None:
        for blend in ("multiply", "screen", "difference", "luminosity"):
            plain = seen(red(blend=blend, opacity=60), background="#7799bb")
            layered = seen(red(blend=blend, opacity=60, finish=[{"kind": "blur", "sigma": 0}]), background="#7799bb")
            np.testing.assert_allclose(middle(layered), middle(plain), atol=1e-5)


class Uses(unittest.TestCase):
    def test_a_matte_shows_what_it_is_for_only_under_itself(self) -> None:
        matte = blue(id="m", size=20, use={"kind": "matte", "of": "red"})
        found = seen(red(), matte, over_plate=False)
        np.testing.assert_allclose(middle(found), [1, 0, 0, 1], atol=1e-5)
        self.assertEqual(float(found[60, 80 + 20, 3]), 0)

    def test_a_cut_takes_away(self) -> None:
        cut = blue(id="m", size=20, use={"kind": "cut", "of": "red"})
        found = seen(red(), cut, over_plate=False)
        self.assertAlmostEqual(float(middle(found)[3]), 0, delta=1e-5)
        self.assertAlmostEqual(float(found[60, 80 + 20, 3]), 1, delta=1e-5)

    def test_displacement_pushes_by_red_and_green(self) -> None:
        # All of a layer at full red and half green pushes to the right by its amount.
        push = {**DISC, "id": "p", "size": 1000, "colour": {"colours": [{"at": 0, "colour": "#ffbc00"}]}}
        push["use"] = {"kind": "displacement", "of": "red", "amount": 20}
        found = seen(red(size=30), push, over_plate=False)[..., 3].astype(float)
        x = (found * np.arange(160)).sum() / found.sum()
        y = (found * np.arange(120)[:, None]).sum() / found.sum()
        self.assertAlmostEqual(x, 79.5 + 20, delta=0.5)
        self.assertAlmostEqual(y, 59.5, delta=0.5)

    def test_glass_bends_what_lies_below_at_its_slopes_and_nothing_under_even_glass(self) -> None:
        from isbjorn.core.media.read.plates import PlateReader

        with tempfile.TemporaryDirectory() as folder:
            stripes = np.zeros((120, 160, 3), np.uint8)
            stripes[:, ::8] = 255
            cv2.imwrite(str(Path(folder) / "stripes.png"), stripes)
            plate = {"media": str(Path(folder) / "stripes.png")}
            lens = red(size=80, body={"kind": "soft disc", "softness": 100}, use={"kind": "glass", "amount": 40})
            shot = Shot.model_validate({"width": 160, "height": 120, "emitters": [lens], "plate": plate})
            found = render_frame(shot, 5, plates=PlateReader())
            bare = render_frame(shot.model_copy(update={"emitters": ()}), 5, plates=PlateReader())
        away = np.abs(found - bare).max(axis=2)
        self.assertGreater(float(away[60, 50:75].max()), 0.2)
        self.assertEqual(float(away[:, :30].max()), 0, "where there is no glass nothing is bent")
        self.assertLess(float(found[..., 0].max()), 1.001, "the glass itself is not seen")

    def test_a_user_that_is_off_does_nothing(self) -> None:
        matte = blue(id="m", size=2, use={"kind": "matte", "of": "red"}, on=False)
        self.assertGreater(float(seen(red(), matte, over_plate=False)[60, 100, 3]), 0.9)


class Mattes(unittest.TestCase):
    def half(self, **matte: Any) -> np.ndarray:
        """A red disc with a matte over the right half of the picture."""
        given = {"id": "m", "width": 200, "height": 400, "across": 100, "feather": 0, **matte}
        return seen(red(hidden_by=["m"]), mattes=[given], over_plate=False)

    def test_a_drawn_shape_hides_and_its_inverse_shows(self) -> None:
        hidden = self.half()
        self.assertAlmostEqual(float(hidden[60, 70, 3]), 1, delta=1e-5)
        self.assertEqual(float(hidden[60, 90, 3]), 0)
        shown = self.half(inverted=True)
        np.testing.assert_allclose(hidden + shown, self.half(on=False), atol=1e-5)

    def test_a_feather_is_a_soft_edge_about_the_same_line(self) -> None:
        row = self.half(feather=12)[60, :, 3].astype(float)
        self.assertAlmostEqual(row[80], 0.5, delta=0.06)
        self.assertTrue(0.6 < row[76] < 0.95)

    def test_its_place_can_be_keyed(self) -> None:
        keys = {"value": 0, "keys": [{"at_s": 0, "value": 500}, {"at_s": 0.2, "value": 100, "joint": "straight"}]}
        self.assertEqual(float(self.half(across=keys)[60, 90, 3]), 0)
        later = {"value": 0, "keys": [{"at_s": 0.3, "value": 500}]}
        self.assertGreater(float(self.half(across=later)[60, 90, 3]), 0.9)

    def test_forms(self) -> None:
        ellipse = self.half(form="ellipse", width=40, height=20, across=0)
        self.assertEqual(float(middle(ellipse)[3]), 0)
        self.assertGreater(float(ellipse[60 - 13, 80, 3]), 0.9)
        self.assertEqual(float(ellipse[60, 80 + 16, 3]), 0)
        triangle = [{"x": -20, "y": -20}, {"x": 20, "y": -20}, {"x": 0, "y": 20}]
        path = self.half(form="path", points=triangle, across=0)
        self.assertEqual(float(path[60 + 15, 80, 3]), 0)
        self.assertGreater(float(path[60 - 10, 95, 3]), 0.9)

    def plate(self, **matte: Any) -> np.ndarray:
        """Over a plate that is dark green on the left, bright grey on the right."""
        with tempfile.TemporaryDirectory() as folder:
            picture = np.zeros((120, 160, 3), np.uint8)
            picture[:, :80] = (20, 90, 20)
            picture[:, 80:] = 230
            cv2.imwrite(str(Path(folder) / "p.png"), picture)
            return seen(
                red(hidden_by=["m"]), mattes=[{"id": "m", "feather": 0, **matte}], over_plate=False,
                plate={"media": str(Path(folder) / "p.png")},
            )  # fmt: skip

    def test_from_the_plate_where_it_is_bright_dark_or_of_a_colour(self) -> None:
        for given, left, right in (
            ({"kind": "bright"}, 1, 0), ({"kind": "dark"}, 0, 1), ({"kind": "colour", "colour": "#145a14"}, 0, 1),
            ({"kind": "colour", "colour": "#e6e6e6"}, 1, 0),
        ):  # fmt: skip
            with self.subTest(given):
                found = self.plate(**given)[60, :, 3]
                self.assertAlmostEqual(float(found[65]), left, delta=0.02)
                self.assertAlmostEqual(float(found[95]), right, delta=0.02)

    def test_from_a_file_by_alpha_or_brightness(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "m.png"
            picture = np.full((120, 160, 4), 255, np.uint8)
            picture[:, :80, 3] = 0
            cv2.imwrite(str(place), picture)
            for channel in ("alpha", "brightness"):
                found = self.half(kind="file", media=str(place), channel=channel, across=0)[60, :, 3]
                self.assertAlmostEqual(float(found[65]), 1, delta=0.02)
                self.assertAlmostEqual(float(found[95]), 0, delta=0.02)


class Lights(unittest.TestCase):
    def lit(self, across: float = 0, lit: float = 100, **lamp: Any) -> float:
        """How much of a particle is there, so far from a light that is full to 10 px and gone at 50."""
        given = {"id": "l", "radius": 10, "falloff": 40, "power": 1, **lamp}
        return float(seen(red(size=9, lit=lit, across=across), lights=[given], over_plate=False)[..., 3].max())

    def test_only_where_a_light_falls_is_anything_seen(self) -> None:
        for across, wanted in ((0, 1), (9, 1), (30, 0.5), (40, 0.25), (51, 0), (-30, 0.5)):
            self.assertAlmostEqual(self.lit(across), wanted, delta=1e-4)
        self.assertAlmostEqual(self.lit(30, power=2), 0.25, delta=1e-4)
        self.assertEqual(self.lit(0, on=False), 0)

    def test_what_does_not_wait_for_light_is_not_changed(self) -> None:
        self.assertEqual(self.lit(30, lit=0), 1)

    def test_a_light_has_its_colour(self) -> None:
        lamp = {"id": "l", "radius": 20, "colour": "#00ff00"}
        found = middle(seen(red(lit=100), lights=[lamp], over_plate=False))
        np.testing.assert_allclose(found, [0, 0, 0, 1], atol=1e-5, err_msg="red under green light is dark")

    def test_half_lit_is_half_there(self) -> None:
        self.assertAlmostEqual(self.lit(60, lit=50), 0.5, delta=1e-4)
        self.assertAlmostEqual(self.lit(30, lit=50), 0.75, delta=1e-4)


class Focus(unittest.TestCase):
    def discs(self, depth: float, aperture: float, size: float = 30, kind: str = "hard disc") -> np.ndarray:
        shot = Shot.model_validate({
            "width": 320, "height": 240, "camera": {"kind": "perspective", "aperture": aperture},
            "emitters": [red(depth=depth, size=size, body={"kind": kind})],
        })  # fmt: skip
        return render_frame(shot, 5)[..., 3].astype(float)

    def test_light_stays_and_spreads_as_a_thin_lens_says(self) -> None:
        camera_at = 320 * 35 / 36
        for depth in (-200.0, 100.0):
            for kind in ("hard disc", "soft disc", "star"):
                sharp, soft = self.discs(depth, 0, 12, kind), self.discs(depth, 30, 12, kind)
                with self.subTest(depth=depth, kind=kind):
                    self.assertAlmostEqual(soft.sum() / sharp.sum(), 1, delta=0.05)
            # A point far out of focus becomes a disc of its circle of confusion.
            blurred = self.discs(depth, 60, 0.5)
            away = camera_at - depth
            radius = 0.5 * 60 * abs(away - camera_at) / away
            y, x = np.mgrid[0:240, 0:320]
            found = math.sqrt((blurred * ((x - 159.5) ** 2 + (y - 119.5) ** 2)).sum() / blurred.sum())
            self.assertAlmostEqual(found, radius / math.sqrt(2), delta=0.12 * radius + 0.6)

    def test_what_lies_in_focus_is_sharp(self) -> None:
        # (A hard edge is drawn as a soft one that is as wide as a pixel or two.)
        for kind, near in (("soft disc", 1e-3), ("star", 1e-3), ("hard disc", 0.1)):
            np.testing.assert_allclose(self.discs(0, 80, kind=kind), self.discs(0, 0, kind=kind), atol=near)


RICH: dict[str, Any] = {
    "width": 320, "height": 180, "camera": {"shutter": 180},
    "emitters": [
        {"id": "a", "body": {"kind": "puff"}, "spin": {"value": 0, "spread": 90}, "group": "g", "rate": 60},
        {"id": "b", "trail": {"length": 9}, "blend": "screen", "rate": 40, "finish": [{"kind": "glow"}]},
        {"id": "c", "lines": {}, "body": {"kind": "words"}, "rate": 30, "blend": "add"},
        {"id": "d", "use": {"kind": "glass"}, "rate": 20},
    ],
    "groups": [{"id": "g", "finish": [{"kind": "blur"}]}], "finish": [{"kind": "grain"}], "background": "#223344",
}  # fmt: skip


class Sameness(unittest.TestCase):
    def test_the_same_picture_on_one_thread_or_many_and_after_any_other(self) -> None:
        shot = Shot.model_validate(RICH)
        with threads(MANY):
            many = render_frame(shot, 60)
        with threads(1):
            solver = Solver(shot)
            render_frame(shot, 99, solver=solver)
            one = render_frame(shot, 60, solver=solver)
        np.testing.assert_array_equal(one, many)

    def test_nothing_that_is_looks_touches_a_state(self) -> None:
        from isbjorn.core.simulate.checkpoints import StateCache

        shot, cache = Shot.model_validate(RICH), StateCache()
        moved = Solver(shot, cache)
        moved.at(60)
        kept = cache.bytes
        plain = {**RICH, "emitters": [{"id": e["id"], "rate": e["rate"]} for e in RICH["emitters"]]}
        other = Solver(Shot.model_validate(plain), cache)
        np.testing.assert_array_equal(other.at(60).position, moved.at(60).position)
        self.assertEqual(cache.bytes, kept, "the states of one serve the other")

    def test_over_nothing_alpha_is_right_over_any_background(self) -> None:
        given = {**RICH, "background": None, "finish": [], "emitters": [
            {k: v for k, v in e.items() if k not in ("use", "blend")} for e in RICH["emitters"]
        ]}  # fmt: skip
        shot = Shot.model_validate(given)
        alone = render_frame(shot, 60)
        for ground in ("#000000", "#8090a0"):
            whole = render_frame(shot.model_copy(update={"background": ground}), 60)
            level = np.array([int(ground[i : i + 2], 16) / 255 for i in (1, 3, 5)])
            linear = np.where(level <= 0.04045, level / 12.92, ((level + 0.055) / 1.055) ** 2.4)
            np.testing.assert_allclose(whole[..., :3], alone[..., :3] + (1 - alone[..., 3:]) * linear, atol=2e-4)

    def test_a_smaller_picture_is_the_same_smaller(self) -> None:
        shot = Shot.model_validate({**RICH, "finish": []})
        whole = draw_particles(Solver(shot), 60, 1.0).picture
        half = draw_particles(Solver(shot), 60, 0.5).picture
        down = cv2.resize(whole, (160, 90), interpolation=cv2.INTER_AREA)
        self.assertLess(float(np.abs(cv2.blur(half, (5, 5)) - cv2.blur(down, (5, 5))).mean()), 0.02)
        self.assertAlmostEqual(float(half.sum() / down.sum()), 1, delta=0.04)


if __name__ == "__main__":
    unittest.main()
