"""The finish: blurs against a plain Gaussian, glow that keeps its light, and each step where it must change nothing."""

import math
import unittest
from typing import Any

import cv2
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from isbjorn.core.document import Blur, DirectionalBlur, Glow, Grade, Grain, Number, Sharpen, Tint
from isbjorn.core.document.fields.curves import Curve, CurvePoint
from isbjorn.core.imaging.blur import blur
from isbjorn.core.render.composite.effects import EffectMoment, glow_of, worked, working
from isbjorn.core.render.raster.pixel_pass import LayerPiece, lay_piece, pixels_of, whole


def done(layer: np.ndarray, *steps: Any, scale: float = 1.0, frame: int = 0) -> np.ndarray:
    return worked(whole(layer), steps, EffectMoment(lambda n: n.value, scale, frame)).done().layer


def a_light(side: int = 401, value: float = 1000.0) -> np.ndarray:
    layer = np.zeros((side, side, 4), np.float32)
    layer[side // 2, side // 2] = value
    return layer


def scene(seed: int = 3, side: int = 64) -> np.ndarray:
    """Soft premultiplied colours over all of a picture."""
    rng = np.random.default_rng(seed)
    small = rng.random((8, 8, 4)).astype(np.float32)
    layer = np.clip(cv2.resize(small, (side, side), interpolation=cv2.INTER_CUBIC), 0, 1)
    layer[..., :3] *= layer[..., 3:]
    return np.ascontiguousarray(layer)


class Gaussian(unittest.TestCase):
    def test_a_point_becomes_the_gaussian_within_half_a_percent_of_its_peak(self) -> None:
        for sigma in (0.7, 2, 5, 9, 20, 33, 60):
            with self.subTest(sigma=sigma):
                side = 2 * math.ceil(5 * sigma) + 41
                r = np.arange(side) - side // 2
                line = np.exp(-(r**2) / (2 * sigma**2))
                wanted = np.outer(line, line) / (2 * math.pi * sigma**2)
                if sigma < 1:
                    kernel = cv2.getGaussianKernel(side, sigma)
                    wanted = kernel @ kernel.T
                found = blur(a_light(side, 1.0), sigma)[..., 0]
                self.assertLess(float(np.abs(found - wanted).max()), 0.005 * float(wanted.max()))

    def test_light_stays(self) -> None:
        for sigma in (1, 4, 17, 50):
            self.assertAlmostEqual(float(blur(a_light(801, 1.0), sigma)[..., 0].sum()), 1, delta=2e-3)

    @settings(max_examples=25)
    @given(st.floats(0.3, 60), st.integers(20, 90), st.integers(20, 90))
    def test_an_even_picture_stays_even_at_any_size_and_width(self, sigma: float, height: int, width: int) -> None:
        picture = np.full((height, width, 4), 0.37, np.float32)
        np.testing.assert_allclose(blur(picture, sigma), 0.37, atol=2e-4)

    def test_it_has_no_preferred_side(self) -> None:
        picture = scene(side=96)
        np.testing.assert_allclose(blur(picture[:, ::-1].copy(), 6)[:, ::-1], blur(picture, 6), atol=6e-3)

    def test_against_a_plain_blur_of_a_whole_picture(self) -> None:
        picture = scene(side=200)
        for sigma in (5, 20):
            wanted = cv2.GaussianBlur(picture, (0, 0), sigma, borderType=cv2.BORDER_REFLECT_101)
            self.assertLess(float(np.abs(blur(picture, sigma) - wanted).max()), 0.005)


class Directional(unittest.TestCase):
    def test_a_point_becomes_a_line_of_its_length_and_direction(self) -> None:
        for angle, length in ((0, 40), (90, 64), (30, 100)):
            with self.subTest(angle=angle):
                light = done(
                    a_light(241, 1.0), DirectionalBlur(length=Number(value=length), angle=Number(value=angle))
                )[..., 0].astype(float)
                self.assertAlmostEqual(light.sum(), 1, delta=0.01)
                y, x = np.mgrid[0:241, 0:241] - 120.0
                turn = math.radians(angle)
                along, across = x * math.cos(turn) - y * math.sin(turn), x * math.sin(turn) + y * math.cos(turn)
                # An even line has the deviation length / √12.
                self.assertAlmostEqual(math.sqrt((light * along**2).sum()), length / math.sqrt(12), delta=1.2)
                self.assertLess(math.sqrt((light * across**2).sum()), 2.2)


class Glowing(unittest.TestCase):
    def test_the_light_of_a_glow_is_that_of_what_is_bright(self) -> None:
        for radius in (3, 12, 40):
            light = glow_of(a_light(1001, 10.0), radius, 0.2, "#ffffff")
            self.assertAlmostEqual(float(light[..., 1].sum()), 9.8, delta=0.1)

    def test_it_is_three_gaussians_wherever_the_light_is_and_whatever_the_sides(self) -> None:
        rng = np.random.default_rng(7)
        for height, width in ((161, 240), (160, 241), (123, 122)):
            layer = np.zeros((height, width, 4), np.float32)
            for y, x in zip(rng.integers(0, height, 30), rng.integers(0, width, 30), strict=True):
                layer[y, x] = rng.random(4)
            layer[-1, -1], layer[0, -1], layer[height // 2, -2] = 3, 2, 4
            for radius in (4, 12, 15):
                with self.subTest(height=height, width=width, radius=radius):
                    wanted = np.zeros((height, width, 3))
                    for times, weight in ((0.35, 0.45), (1.0, 0.35), (2.6, 0.2)):
                        sigma = radius * times
                        k = 2 * math.ceil(4.5 * sigma) + 1
                        wanted += weight * cv2.GaussianBlur(
                            layer[..., :3].astype(float), (k, k), sigma, borderType=cv2.BORDER_REFLECT_101
                        )
                    found = glow_of(layer, radius, 0, "#ffffff")
                    self.assertLess(float(np.abs(found - wanted).max()), 0.004 * float(wanted.max()))

    def test_what_is_darker_does_not_glow(self) -> None:
        layer = scene()
        np.testing.assert_array_equal(done(layer, Glow(above=Number(value=100))), layer)

    def test_it_reaches_as_far_at_any_scale(self) -> None:
        def spread(scale: float) -> float:
            side = round(300 * scale) | 1
            light = glow_of(a_light(side), 20 * scale, 0, "#ffffff")[..., 0].astype(float)
            y, x = (np.mgrid[0:side, 0:side] - side // 2) / scale
            return math.sqrt(float((light * (x * x + y * y)).sum() / light.sum()))

        self.assertAlmostEqual(spread(0.5) / spread(1.0), 1, delta=0.04)
        self.assertAlmostEqual(spread(2.0) / spread(1.0), 1, delta=0.04)

    def test_it_brings_light_and_no_cover_in_its_own_colour(self) -> None:
        layer = a_light(101, 5.0)
        found = done(layer, Glow(radius=Number(value=6), colour="#ff0000"))
        np.testing.assert_array_equal(found[..., 3], layer[..., 3])
        self.assertGreater(found[50, 58, 0], 1e-4)
        self.assertEqual(found[50, 58, 1], 0)


class Steps(unittest.TestCase):
    def test_each_step_at_rest_changes_nothing(self) -> None:
        layer = scene()
        for step in (
            Blur(sigma=Number(value=0)), DirectionalBlur(length=Number(value=0)), Glow(amount=Number(value=0)),
            Tint(amount=Number(value=0)), Grade(), Sharpen(amount=Number(value=0)), Grain(amount=Number(value=0)),
            Blur(on=False, sigma=Number(value=30)),
        ):  # fmt: skip
            with self.subTest(step.kind):
                np.testing.assert_allclose(done(layer, step), layer, atol=1e-6)

    def test_steps_are_done_in_their_order(self) -> None:
        layer = a_light(101, 50.0)
        glow, soft = Glow(radius=Number(value=5)), Blur(sigma=Number(value=6))
        a, b = done(layer, glow, soft), done(layer, soft, glow)
        self.assertGreater(float(np.abs(a - b).max()), 0.05)
        self.assertFalse(working((Blur(on=False),)))

    def test_a_stop_doubles_the_light_and_opacity_takes_the_layer_away(self) -> None:
        layer = scene()
        np.testing.assert_allclose(done(layer, Grade(exposure=Number(value=1)))[..., :3], 2 * layer[..., :3], rtol=1e-5)
        np.testing.assert_allclose(done(layer, Grade(opacity=Number(value=40))), 0.4 * layer, rtol=1e-5)

    def test_without_saturation_all_channels_are_the_brightness(self) -> None:
        layer = scene()
        grey = done(layer, Grade(saturation=Number(value=0)))
        np.testing.assert_allclose(grey[..., 0], layer[..., :3] @ np.float32([0.2126, 0.7152, 0.0722]), atol=1e-6)
        self.assertEqual(float(np.ptp(grey[..., :3], axis=2).max()), 0)

    def test_contrast_turns_about_middle_grey(self) -> None:
        layer = np.zeros((1, 3, 4), np.float32)
        layer[..., 3] = 1
        layer[0, :, :3] = np.float32([0.09, 0.18, 0.36])[:, None]
        found = done(layer, Grade(contrast=Number(value=200)))[0, :, 0]
        np.testing.assert_allclose(found, [0.045, 0.18, 0.72], rtol=1e-4)

    def test_a_curve_maps_encoded_values_and_follows_the_cover(self) -> None:
        points = tuple(CurvePoint(at=at, value=value, joint="straight") for at, value in ((0, 0), (0.5, 0.25), (1, 1)))
        layer = np.zeros((1, 2, 4), np.float32)
        layer[0, 0] = [0.5**2.2] * 3 + [1]
        layer[0, 1] = [0.5 * 0.5**2.2] * 3 + [0.5]
        found = done(layer, Grade(curve=Curve(points=points)))[0]
        np.testing.assert_allclose(found[0, :3], 0.25**2.2, rtol=2e-2)
        np.testing.assert_allclose(found[1, :3], 0.5 * 0.25**2.2, rtol=2e-2)

    def test_a_tint_has_its_two_colours_at_its_ends(self) -> None:
        layer = np.zeros((1, 2, 4), np.float32)
        layer[..., 3] = 1
        layer[0, 1, :3] = 1
        found = done(layer, Tint(dark="#ff0000", light="#0000ff"))[0]
        np.testing.assert_allclose(found, [[1, 0, 0, 1], [0, 0, 1, 1]], atol=1e-5)

    def test_contrast_keeps_to_its_formula_over_all_of_light(self) -> None:
        light = np.geomspace(1e-6, 1e4, 2000)
        for contrast in (40, 130, 250):
            layer = np.ones((1, len(light), 4), np.float32)
            layer[0, :, :3] = light[:, None]
            found = done(layer, Grade(contrast=Number(value=contrast)))[0, :, 1]
            np.testing.assert_allclose(found, 0.18 * (light / 0.18) ** (contrast / 100), rtol=3e-5)

    def test_steps_on_single_pixels_together_are_each_by_itself(self) -> None:
        layer = scene()
        layer[10:20] = 0
        curve = Curve(points=tuple(CurvePoint(at=at, value=v) for at, v in ((0, 0.1), (0.4, 0.3), (1, 0.9))))
        steps = (
            Tint(amount=Number(value=60)), Grade(exposure=Number(value=1), contrast=Number(value=150)), Grade(curve=curve),
            Blur(sigma=Number(value=3)), Grade(saturation=Number(value=150), opacity=Number(value=70)),
        )  # fmt: skip
        found, wanted = done(layer, *steps), layer
        for step in steps:
            wanted = done(wanted, step)
        np.testing.assert_array_equal(found, wanted)
        self.assertGreater(float(found[15, :, :3].min()), 0, "a curve makes light of nothing")

    def test_a_piece_is_hidden_worked_on_and_laid_at_its_place(self) -> None:
        layer, ground = scene(5, 40), scene(6, 64)
        kept = np.random.default_rng(1).random((64, 64)).astype(np.float32)
        step = Grade(exposure=Number(value=-1), opacity=Number(value=50))
        piece = LayerPiece(layer, (4, 8, 30, 36), 12, 20, pixels_of([], kept))
        worked_on = worked(piece, (step,), EffectMoment(lambda n: n.value, 1.0, 0))
        part = layer[4:30, 8:36] * kept[24:50, 20:48, None] * np.float32([0.25, 0.25, 0.25, 0.5])
        for blend in ("normal", "add", "multiply"):
            laid, wanted = ground.copy(), ground.copy()
            lay_piece(worked_on, laid, blend)
            below = wanted[24:50, 20:48]
            alpha, under = part[..., 3:], below[..., 3:]
            if blend == "multiply":
                mixed = part[..., :3] * (1 - under) + below[..., :3] * (1 - alpha) + part[..., :3] * below[..., :3]
            else:
                mixed = part[..., :3] + below[..., :3] * (1 if blend == "add" else 1 - alpha)
            below[:] = np.concatenate([mixed, under if blend == "add" else alpha + under * (1 - alpha)], axis=2)
            np.testing.assert_allclose(laid, wanted, atol=2e-6)
        alone = worked_on.done()
        self.assertEqual((alone.left, alone.top), (20, 24))
        np.testing.assert_allclose(alone.layer, part, atol=1e-6)

    def test_sharpening_lifts_an_edge_and_leaves_even_ground(self) -> None:
        layer = np.full((40, 40, 4), 0.3, np.float32)
        layer[:, 20:] = 0.6
        found = done(layer, Sharpen(radius=Number(value=1.5)))
        self.assertGreater(found[20, 20, 0], 0.65)
        self.assertLess(found[20, 19, 0], 0.25)
        np.testing.assert_allclose(found[:, :10], 0.3, atol=1e-3)

    def test_grain_is_as_strong_as_asked_new_in_each_frame_and_only_where_something_is(self) -> None:
        layer = np.zeros((200, 400, 4), np.float32)
        layer[:, :200] = [0.2, 0.2, 0.2, 1]
        step = Grain(amount=Number(value=3), coloured=Number(value=0))
        a, b = done(layer, step, frame=4), done(layer, step, frame=5)
        encoded = a[:, :200, 0].astype(float) ** (1 / 2.2)
        self.assertAlmostEqual(float(encoded.std()), 0.03, delta=0.002)
        self.assertEqual(float(np.abs(a[:, 200:]).max()), 0)
        self.assertGreater(float(np.abs(a - b).max()), 0.01)
        np.testing.assert_array_equal(done(layer, step, frame=4), a)
        coarse = done(layer, Grain(amount=Number(value=3), size=Number(value=4)))[:, :200, 0].astype(float)
        near = np.corrcoef(coarse[:, :-1].ravel(), coarse[:, 1:].ravel())[0, 1]
        self.assertGreater(near, 0.6)


if __name__ == "__main__":
    unittest.main()
