"""A skin: one ball is a disc, two join where the level says, the cover is exact, and the picture below is refracted."""

import math
import unittest
from typing import Any, ClassVar

import numpy as np

from isbjorn.core.document import Shot
from isbjorn.core.document.files import parse_shot
from isbjorn.core.frame import Solver, compositor_of, draw_particles, render_frame
from isbjorn.core.render.draw.skin import draw_skin
from isbjorn.core.render.raster.pixel_pass import lay

ONE: dict[str, Any] = {
    "id": "e", "shape": {"kind": "point"}, "rate": 0, "bursts": [{"count": 1}], "lifespan": 0, "speed": 0,
    "size": {"value": 80, "spread": 0},
}  # fmt: skip


def shot(skin: dict[str, Any] | None = None, *others: dict[str, Any], **more: Any) -> Shot:
    first = ONE | {"skin": {"smoothing": 0, **(skin or {})}}
    return parse_shot({"width": 400, "height": 300, "emitters": [first | other for other in others or ({},)], **more})


def cover(document: Shot, scale: float = 1.0) -> np.ndarray:
    return draw_particles(Solver(document), 3, scale).picture[..., 3].astype(float)


def pair(apart: float, level: float) -> Shot:
    """Two balls at a distance: drawn along a line with that length."""
    two = ONE | {"bursts": [{"count": 2}], "skin": {"smoothing": 0, "level": level}}

    def on(length: float) -> Shot:
        return parse_shot(
            {"width": 400, "height": 300, "emitters": [two | {"shape": {"kind": "line", "length": length}}]}
        )

    share = float(np.ptp(Solver(on(100)).at(3).position[:, 0])) / 100
    return on(apart / share)


class Depth(unittest.TestCase):
    def lit(self, slope: float, depth: float) -> float:
        """Brightness in the middle of a sheet of balls that comes nearer to the right by some px per px, lit from the right."""
        document = shot({
            "depth": depth, "bulge": 0, "highlight": 0, "shade": 100, "shade_colour": "#000000", "light_from": 0,
            "light_height": 45,
        })  # fmt: skip
        context = compositor_of(Solver(document), 3).context
        x, y = np.meshgrid(np.arange(20, 380, 6.0), np.arange(20, 280, 6.0))
        centre = np.stack([x.ravel(), y.ravel()], axis=1).astype(np.float32)
        n = len(centre)
        onto = np.zeros((300, 400, 4), np.float32)
        skin = document.emitters[0].skin
        assert skin is not None
        near = (slope * (centre[:, 0] - 200)).astype(np.float32)
        white, full = np.ones((n, 3), np.float32), np.ones(n, np.float32)
        draw_skin(context, skin, centre, np.full(n, 14, np.float32), white, full, near, onto, "normal")
        self.assertAlmostEqual(float(onto[150, 200, 3]), 1, delta=1e-6)
        return float(onto[140:160, 190:210, 0].mean())

    def test_a_slope_in_depth_faces_the_light_as_a_plane_does(self) -> None:
        light = math.sqrt(0.5)
        for slope in (-1.5, -0.5, 0.0, 0.5):
            # The plane z = s x has the normal (-s, 0, 1).
            facing = 0.5 + 0.5 * (-slope * light + light) / math.hypot(slope, 1)
            self.assertAlmostEqual(self.lit(slope, 100), facing, delta=0.02)
            self.assertAlmostEqual(self.lit(slope, 0), 0.5 + 0.5 * light, delta=0.01)


class Blur(unittest.TestCase):
    def test_a_ball_that_flies_is_smeared_over_its_way_and_keeps_its_cover(self) -> None:
        flies = {"speed": 1500, "direction": 0, "spread": 0, "across": -180}
        still, moving = (shot({}, flies, camera={"shutter": angle}) for angle in (0, 360))
        before, after = cover(still), cover(moving)
        self.assertAlmostEqual(after.sum(), before.sum(), delta=0.01 * before.sum())
        # A frame is 60 px of its way, seen at six moments, a quarter of its radius from one to the next.
        wide = [float(np.ptp(np.flatnonzero(c.max(axis=0) > 0.02))) for c in (before, after)]
        self.assertAlmostEqual(wide[1] - wide[0], 60 * 5 / 6, delta=3)
        # In its middle it is as full as the time that the ball covers it.
        self.assertAlmostEqual(float(after[150].max()), 1.0, delta=0.01)

    def test_a_skin_over_several_is_smeared_as_well(self) -> None:
        flies = {"speed": 1500, "direction": 0, "spread": 0, "across": -180, "group": "g", "skin": None}
        given = {"camera": {"shutter": 360}, "groups": [{"id": "g", "skin": {"smoothing": 0}}]}
        document = parse_shot({"width": 400, "height": 300, "emitters": [ONE | flies], **given})
        self.assertAlmostEqual(cover(document).sum(), math.pi * 40**2, delta=0.02 * math.pi * 40**2)
        self.assertGreater(float(np.ptp(np.flatnonzero(cover(document).max(axis=0) > 0.02))), 120)


class Surface(unittest.TestCase):
    def test_one_ball_is_a_disc_of_its_radius_at_any_level(self) -> None:
        for level in (10, 35, 80):
            for girth in (50, 100, 150):
                with self.subTest(level=level, girth=girth):
                    area = math.pi * (40 * girth / 100) ** 2
                    seen = float(cover(shot({"level": level, "girth": girth})).sum())
                    self.assertAlmostEqual(seen, area, delta=0.006 * area + 2)

    def test_it_is_as_large_at_any_scale_and_resolution(self) -> None:
        whole = float(cover(shot()).sum())
        self.assertAlmostEqual(float(cover(shot(), 0.5).sum()) * 4, whole, delta=0.01 * whole)
        self.assertAlmostEqual(float(cover(shot({"detail": 40})).sum()), whole, delta=0.02 * whole)

    def test_two_join_where_the_level_says(self) -> None:
        """Two balls of radius r and reach R reach the level l between them when 2 (1 - (d/2R)²)³ = l."""
        for level in (20, 35, 60):
            share = level / 100
            reach = 40 / math.sqrt(1 - share ** (1 / 3))
            joins = 2 * reach * math.sqrt(1 - (share / 2) ** (1 / 3))
            for apart, joined in ((joins - 3, True), (joins + 3, False)):
                with self.subTest(level=level, joined=joined):
                    document = pair(apart, level)
                    p = Solver(document).at(3)
                    self.assertAlmostEqual(float(np.ptp(p.position[:, 0])), apart, delta=0.05)
                    middle = p.position.mean(axis=0)
                    seen = cover(document)[round(150 - float(middle[1])), round(200 + float(middle[0]))]
                    self.assertEqual(seen > 0.5, joined)

    def test_its_edge_is_smooth_and_it_does_not_flicker(self) -> None:
        areas = [float(cover(shot({}, {"across": 0.13 * n, "up": 0.07 * n})).sum()) for n in range(8)]
        self.assertLess(max(areas) / min(areas), 1.002)
        one = cover(shot())
        self.assertGreater(int(((one > 0.02) & (one < 0.98)).sum()), 150)

    def test_nothing_lies_beyond_it(self) -> None:
        picture = draw_particles(Solver(shot({"highlight": 0})), 3).picture
        y, x = np.mgrid[0:300, 0:400]
        far = np.hypot(x - 199.5, y - 149.5) > 42
        self.assertEqual(float(np.abs(picture[far]).max()), 0)


class Shading(unittest.TestCase):
    def test_it_has_the_particles_colours(self) -> None:
        red = {"colour": {"colours": [{"at": 0, "colour": "#ff0000"}]}}
        picture = draw_particles(Solver(shot({"highlight": 0, "shade": 0}, red)), 3).picture
        np.testing.assert_allclose(picture[150, 200], [1, 0, 0, 1], atol=1e-3)

    def test_it_is_brighter_toward_the_light_and_mirrors_it(self) -> None:
        plain, shiny = (draw_particles(Solver(shot({"highlight": h, "light_from": 90})), 3).picture for h in (0, 300))
        self.assertGreater(float(plain[122, 200, 0]), 1.15 * float(plain[178, 200, 0]))
        self.assertGreater(float(shiny[..., 0].max()), 1.5 * float(plain[..., 0].max()))

    def test_milk_and_metal_are_full_water_and_glass_are_seen_through(self) -> None:
        middle = {m: float(cover(shot({"material": m}))[150, 200]) for m in ("milk", "metal", "water", "glass")}
        self.assertEqual((middle["milk"], middle["metal"]), (1, 1))
        self.assertLess(max(middle["water"], middle["glass"]), 0.6)

    def test_glass_bends_what_lies_below(self) -> None:
        stripes = {
            "id": "s", "shape": {"kind": "rectangle", "width": 400, "height": 300}, "rate": 0, "bursts": [{"count": 500}],
            "lifespan": 0, "speed": 0, "size": {"value": 6, "spread": 0}, "skin": None,
        }  # fmt: skip
        for refraction, alike in ((0, True), (40, False)):
            skin = {
                "smoothing": 0,
                "material": "glass",
                "clarity": 100,
                "highlight": 0,
                "shade": 0,
                "refraction": refraction,
            }
            glass = ONE | {"skin": skin, "size": {"value": 120, "spread": 0}}
            document = parse_shot({"width": 400, "height": 300, "emitters": [stripes, glass], "background": "#000000"})
            below = render_frame(
                parse_shot({"width": 400, "height": 300, "emitters": [stripes], "background": "#000000"}), 3
            )
            seen = render_frame(document, 3)
            same = float(np.corrcoef(seen[120:180, 170:230, 0].ravel(), below[120:180, 170:230, 0].ravel())[0, 1])
            self.assertEqual(same > 0.95, alike)

    def test_it_is_laid_over_anything_with_its_alpha(self) -> None:
        document = shot()
        layer = draw_particles(Solver(document), 3).picture
        ground = np.full_like(layer, 0.3)
        ground[..., 3] = 1
        lay(layer, ground)
        over = render_frame(document.model_copy(update={"background": "#959595"}), 3)
        np.testing.assert_allclose(over[..., :3], ground[..., :3], atol=2e-3)


class Coloured(unittest.TestCase):
    PLAIN: ClassVar[dict[str, Any]] = {"shade": 0, "highlight": 0, "smoothing": 0}

    def test_by_thickness_it_goes_from_edge_to_middle(self) -> None:
        """One ball is as thick as 1 in its middle."""
        skin = {
            **self.PLAIN,
            "colours": "by thickness",
            "thin_colour": "#ff0000",
            "thick_colour": "#0000ff",
            "thick_at": 1,
        }
        picture = draw_particles(Solver(shot(skin)), 3).picture
        np.testing.assert_allclose(picture[150, 200, :3], [0, 0, 1], atol=0.02)
        edge = picture[150, 162, :3] / picture[150, 162, 3]
        self.assertGreater(float(edge[0]), 0.8)
        half = draw_particles(Solver(shot({**skin, "thick_at": 1.65})), 3).picture[150, 200, :3]
        np.testing.assert_allclose(half, [0.5, 0, 0.5], atol=0.02)

    def test_it_mirrors_the_sky_above_and_the_ground_below(self) -> None:
        around = {"surroundings": 100, "sky_colour": "#0000ff", "ground_colour": "#ff0000"}
        for material in ("milk", "metal", "water"):
            bare, mirrors = (
                draw_particles(Solver(shot({**self.PLAIN, "material": material, **a})), 3).picture for a in ({}, around)
            )
            more = mirrors[..., :3] - bare[..., :3]
            upper, lower = more[114:135, 190:210].sum(axis=(0, 1)), more[165:186, 190:210].sum(axis=(0, 1))
            with self.subTest(material=material):
                self.assertGreater(float(upper[2]), 2 * float(upper[0]))
                self.assertGreater(float(lower[0]), 2 * float(lower[2]))
                np.testing.assert_array_equal(mirrors[..., 3], bare[..., 3])


class OfAGroup(unittest.TestCase):
    """One skin over the particles of several emitters."""

    def whole(self, apart: float, **group: Any) -> Shot:
        one = ONE | {"group": "g", "across": -apart / 2}
        other = ONE | {
            "group": "g",
            "id": "o",
            "across": apart / 2,
            "seed": 7,
            "colour": {"colours": [{"at": 0, "colour": "#ff0000"}]},
        }
        skin = {"smoothing": 0, "level": 35}
        given = {"id": "g", "skin": skin, **group}
        return parse_shot(
            {"width": 400, "height": 300, "emitters": [one, other], "groups": [given], "background": "#204060"}
        )

    def test_balls_of_two_emitters_join_as_those_of_one(self) -> None:
        for apart in (70.0, 110.0, 150.0):
            seen, alone = cover(self.whole(apart)), cover(pair(apart, 35))
            self.assertAlmostEqual(float(seen.sum()), float(alone.sum()), delta=0.003 * float(alone.sum()))
        bridged, parted = (float(cover(self.whole(apart))[150, 200]) for apart in (70.0, 150.0))
        self.assertEqual((round(bridged), round(parted)), (1, 0))

    def test_each_keeps_its_colour_and_they_mix_between(self) -> None:
        picture = render_frame(self.whole(70, skin={"smoothing": 0, "shade": 0, "highlight": 0}), 3)
        left, middle, right = (picture[150, x, 1] / picture[150, x, 0] for x in (145, 200, 255))
        self.assertGreater(float(left), float(middle) + 0.1)
        self.assertGreater(float(middle), float(right) + 0.1)

    def test_with_effects_it_is_a_layer_and_off_it_is_bodies(self) -> None:
        plain, glowing = (render_frame(self.whole(70, finish=f), 3) for f in ((), ({"kind": "glow", "above": 0},)))
        self.assertGreater(float(glowing.sum()), float(plain.sum()) * 1.01)
        self.assertGreater(float(cover(self.whole(70, skin=None)).max()), 0.999)
        off = self.whole(70, skin={"on": False})
        np.testing.assert_array_equal(render_frame(off, 3), render_frame(self.whole(70, skin=None), 3))


if __name__ == "__main__":
    unittest.main()
