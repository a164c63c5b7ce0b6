"""The picture: true light at any size, the W3C formulas, alpha that is right over any background."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from isbjorn.core import Shot, render_frame
from isbjorn.core.evaluate.gradients import hex_to_linear
from isbjorn.core.imaging.colour import shade_table
from isbjorn.core.imaging.display_encoding import over, straight, to_shades
from isbjorn.core.render.raster.discs import draw
from tests.shots import one_emitter

HARD, SOFT = 0, 1


def bodies(
    *rows: tuple[float, float, float, float],
    profile: int = SOFT,
    inner: float = 0.0,
    covers: float = 1.0,
    size: int = 64,
) -> np.ndarray:
    """Draw white bodies given as (x, y, radius, opacity)."""
    table = np.array(rows, np.float32).reshape(-1, 4)
    inner = 1.0 if profile == HARD else inner
    look = np.tile(np.array([1, 1, 1, covers, profile, inner], np.float32), (len(table), 1))
    return draw(np.ascontiguousarray(table[:, :2]), table[:, 2].copy(), table[:, 3].copy(), look, size, size)


class Light(unittest.TestCase):
    @settings(max_examples=120)
    @given(
        st.floats(0.02, 20),
        st.floats(30, 34),
        st.floats(30, 34),
        st.sampled_from([(HARD, 1.0), (SOFT, 0.0), (SOFT, 0.5)]),
    )
    def test_a_body_gives_light_by_its_area_wherever_it_stands(
        self, r: float, x: float, y: float, kind: tuple[int, float]
    ) -> None:
        profile, inner = kind
        mean = 1.0 if profile == HARD else (1 + inner**2) / 2
        picture = bodies((x, y, r, 1.0), profile=profile, inner=inner, size=80)
        # A speck is exact; a body of a pixel or two is sampled at pixel centres.
        area = math.pi * r * r * mean
        self.assertAlmostEqual(
            float(picture[..., 3].sum()) / area, 1, delta=1e-4 if area < 1 else 0.16 if r < 2 else 0.04
        )

    def test_specks_do_not_flicker(self) -> None:
        light = [bodies((20 + i / 37, 20 + i / 53, 0.4, 0.8))[..., 3].sum() for i in range(60)]
        self.assertLess(np.ptp(light) / np.mean(light), 1e-4)

    def test_a_body_is_where_it_should_be(self) -> None:
        for radius in (0.3, 1.0, 3.0, 12.0):
            alpha = bodies((20.3, 41.8, radius, 1.0))[..., 3].astype(float)
            y, x = np.mgrid[0:64, 0:64] + 0.5
            self.assertAlmostEqual((alpha * x).sum() / alpha.sum(), 20.3, delta=0.08)
            self.assertAlmostEqual((alpha * y).sum() / alpha.sum(), 41.8, delta=0.08)

    def test_no_light_is_lost_between_tiles(self) -> None:
        whole = bodies((64.0, 32.0, 9, 1.0), size=128)[..., 3].sum()
        inside = bodies((30.0, 16.0, 9, 1.0), size=128)[..., 3].sum()
        self.assertAlmostEqual(float(whole), float(inside), delta=0.01)

    def test_a_hard_disc_is_full_inside_and_nothing_outside(self) -> None:
        alpha = bodies((32, 32, 10, 1.0), profile=HARD)[..., 3]
        y, x = np.mgrid[0:64, 0:64] + 0.5
        distance = np.hypot(x - 32, y - 32)
        self.assertTrue((alpha[distance < 9] == 1).all() and (alpha[distance > 11] == 0).all())

    def test_nothing_to_draw_is_an_empty_picture(self) -> None:
        self.assertEqual(bodies().sum(), 0)
        self.assertEqual(bodies((-500, 20, 10, 1), (1e30, 1e30, 5, 1), (20, 20, 5, 0)).sum(), 0)


class Blends(unittest.TestCase):
    def test_normal_follows_the_w3c_formula(self) -> None:
        # Compositing and Blending Level 1, source-over: co = cs αs + cb αb (1 - αs); αo = αs + αb (1 - αs).
        rng = np.random.default_rng(4)
        opacity, colours = rng.random(6), rng.random((6, 3))
        expected, alpha = np.zeros(3), 0.0
        for a, c in zip(opacity, colours, strict=True):
            expected, alpha = c * a + expected * (1 - a), a + alpha * (1 - a)
        look = np.concatenate([colours, np.tile([1, HARD, 1], (6, 1))], axis=1).astype(np.float32)
        centre = np.full((6, 2), 16, np.float32)
        drawn = draw(centre, np.full(6, 9, np.float32), opacity.astype(np.float32), look, 32, 32)[16, 16]
        np.testing.assert_allclose(drawn, [*expected, alpha], atol=2e-6)

    def test_add_follows_the_w3c_formula_over_what_is_opaque(self) -> None:
        # `lighter`: co = αs cs + αb cb; over an opaque backdrop αo = 1. In linear light nothing is clipped.
        backdrop = np.full((64, 64, 4), [0.2, 0.3, 0.4, 1.0], np.float32)
        added = over(bodies((32, 32, 9, 0.5), (32, 32, 9, 0.75), profile=HARD, covers=0), backdrop)
        np.testing.assert_allclose(added[32, 32], [1.45, 1.55, 1.65, 1], atol=1e-5)

    @settings(max_examples=25)
    @given(st.tuples(*[st.floats(0, 4)] * 3), st.sampled_from(["normal", "add"]))
    def test_alpha_is_exact_over_any_background(self, colour: tuple[float, float, float], blend: str) -> None:
        backdrop = np.full((72, 128, 4), [*colour, 1.0], np.float32)
        shot = one_emitter(emitter={"blend": blend, "spread": 360, "opacity": 60, "size": 30, "rate": 60})
        apart = over(render_frame(shot, 100, 0.1, over_plate=False), backdrop)
        # The same particles drawn on the background itself: source-over is associative.
        halves = [render_frame(shot.model_copy(update={"emitters": (e,)}), 100, 0.1, False) for e in shot.emitters]
        np.testing.assert_allclose(apart, over(halves[0], backdrop), atol=1e-6)
        self.assertTrue((apart[..., 3] == 1).all())

    def test_mixed_blends_stay_exact_over_any_background(self) -> None:
        base = one_emitter(emitter={"spread": 360, "opacity": 60, "size": 60})
        second = base.emitters[0].model_copy(update={"id": "f", "blend": "add", "seed": 9})
        shot = base.model_copy(update={"emitters": (base.emitters[0], second)})
        together = render_frame(shot, 60, 0.2, False)
        parts = [render_frame(base.model_copy(update={"emitters": (e,)}), 60, 0.2, False) for e in shot.emitters]
        grey = np.full_like(together, 0.5)
        np.testing.assert_allclose(over(together, grey), over(parts[1], over(parts[0], grey)), atol=1e-5)

    def test_straight_alpha_gives_back_the_picture(self) -> None:
        picture = render_frame(one_emitter(emitter={"spread": 360, "opacity": 40}), 60, 0.2, False)
        kept = straight(picture)
        np.testing.assert_allclose(kept[..., :3] * kept[..., 3:], picture[..., :3], atol=1e-6)


class Orders(unittest.TestCase):
    def drawn(self, order: str, **more: object) -> np.ndarray:
        # Births stay on one spot; the oldest is red, the youngest blue.
        ramp = {"colours": [{"at": 0, "colour": "#0000ff"}, {"at": 1, "colour": "#ff0000"}], "mix": "linear"}
        shot = one_emitter(
            emitter={
                "speed": 0,
                "rate": 20,
                "size": 40,
                "body": {"kind": "hard disc"},
                "colour": ramp,
                "order": order,
                **more,
            }
        )
        return render_frame(shot, 49, 0.5, False)[180, 320]

    def test_the_last_drawn_lies_on_top(self) -> None:
        old, young = self.drawn("youngest first"), self.drawn("oldest first")
        self.assertGreater(old[0], 0.9)
        self.assertGreater(young[2], 0.9)

    def test_farthest_first_puts_the_nearest_on_top(self) -> None:
        shot = one_emitter(
            emitter={"speed": 0, "depth": {"value": 0, "spread": 50}, "rate": 40, "size": 20, "order": "farthest first"}
        )
        from isbjorn.core import Solver
        from isbjorn.core.render.scene.camera import projection, rank

        found = Solver(shot).at(49)
        depths = found.position[rank(shot.emitters[0], found, projection(shot)), 2]
        self.assertTrue((np.diff(depths) >= 0).all())


class Views(unittest.TestCase):
    def test_scale_keeps_the_picture(self) -> None:
        shot = one_emitter(emitter={"spread": 360, "size": 60, "body": {"kind": "soft disc"}})
        large, small = render_frame(shot, 60, 1.0), render_frame(shot, 60, 0.25)
        self.assertEqual((large.shape, small.shape), ((720, 1280, 4), (180, 320, 4)))
        reduced = large.reshape(180, 4, 320, 4, 4).mean(axis=(1, 3))
        self.assertLess(np.abs(reduced - small).max(), 0.05)

    def test_perspective_keeps_the_picture_plane_and_enlarges_what_is_near(self) -> None:
        still = {"speed": 0, "rate": 1, "lifespan": 0, "size": 40, "across": 100, "body": {"kind": "hard disc"}}
        camera = {"kind": "perspective", "focal_mm": 36, "filmback_mm": 36}
        flat = render_frame(one_emitter(emitter=still), 0, 0.5, False)
        plane = render_frame(one_emitter(emitter=still, camera=camera), 0, 0.5, False)
        near = render_frame(one_emitter(emitter={**still, "depth": 640}, camera=camera), 0, 0.5, False)
        behind = render_frame(one_emitter(emitter={**still, "depth": 1400}, camera=camera), 0, 0.5, False)
        np.testing.assert_allclose(plane, flat, atol=1e-5)
        # Half the distance to a camera 1280 px away: twice the size, four times the light, twice as far from the centre.
        self.assertAlmostEqual(near[..., 3].sum() / flat[..., 3].sum(), 4, delta=0.05)
        self.assertEqual(near[180, 420, 3], 1)
        self.assertEqual(behind.sum(), 0)

    def test_background_shows_where_there_is_no_plate(self) -> None:
        picture = render_frame(Shot(background="#336699"), 0, 0.05)
        np.testing.assert_allclose(picture[3, 3], [*hex_to_linear("#336699"), 1], atol=1e-6)

    def test_shades_are_the_srgb_curve(self) -> None:
        codes = np.arange(256)
        linear = np.where(codes / 255 <= 0.04045, codes / 255 / 12.92, ((codes / 255 + 0.055) / 1.055) ** 2.4)
        picture = np.repeat(linear.astype(np.float32)[None, :, None], 4, axis=2)
        np.testing.assert_array_equal(to_shades(np.ascontiguousarray(picture), shade_table("srgb"))[0, :, 1], codes)


if __name__ == "__main__":
    unittest.main()
