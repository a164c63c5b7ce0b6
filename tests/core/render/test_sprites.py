"""Masks and pictures as they are drawn: turned, stretched, smeared, read between their texels, without what is empty of them."""

import math
import unittest
from dataclasses import replace
from typing import Any

import numpy as np

from isbjorn.core.render.raster.sprites import (
    BLUE,
    DX,
    DY,
    LEVEL,
    SHOWN,
    TIMES,
    UA,
    UB,
    VA,
    VB,
    Pages,
    bound,
    draw_sprites,
    sprites_of,
)
from isbjorn.core.render.scene.bodies import mask
from tests.core.render.test_bodies import body, moments


def sprite(
    page: np.ndarray, at: tuple[float, float], radius: float, angle: float = 0, size: int = 128, **more: Any
) -> np.ndarray:
    pages = bound([(page.astype(np.float32), 1.0)])
    made = sprites_of(
        np.array([at], np.float32), np.array([radius], np.float32), np.array([math.radians(angle)]),
        np.ones((1, 4), np.float32), np.zeros(1, np.int64), pages, True, **more,
    )  # fmt: skip
    out = np.zeros((size, size, 4), np.float32)
    draw_sprites(made, pages, out)
    return out


def _read_plainly(s: np.ndarray, pages: Pages, height: int, width: int) -> np.ndarray:
    """The cover of one mask, a record of it given, at every pixel: the mean of what is read between its texels."""
    level, side = int(s[LEVEL]), int(pages.table[0, 0])
    first = sum((side >> k) ** 2 for k in range(level))
    side >>= level
    texels = np.pad(pages.texels[first : first + side * side].reshape(side, side).astype(float), 1)
    y, x = np.mgrid[0:height, 0:width] + 0.5
    times, total = int(s[TIMES]), np.zeros((height, width))
    for n in range(times):
        f = (n + 0.5) / times - 0.5
        dx, dy = x - s[0] - f * s[DX], y - s[1] - f * s[DY]
        # Places in texels of the page with nothing around it.
        u, v = (
            np.clip((a * dx + b * dy + 1) * side / 2 + 0.5, 0, side + 1) for a, b in ((s[UA], s[UB]), (s[VA], s[VB]))
        )
        i, j = (np.minimum(w.astype(int), side) for w in (u, v))
        fu, fv = u - i, v - j
        upper = texels[j, i] * (1 - fu) + texels[j, i + 1] * fu
        total += upper * (1 - fv) + (texels[j + 1, i] * (1 - fu) + texels[j + 1, i + 1] * fu) * fv
    return total / times


class Sprites(unittest.TestCase):
    def test_light_is_area_at_any_size_place_and_turn(self) -> None:
        page = mask(body("square", softness=20), 0, 256)
        for radius in (0.1, 0.4, 0.9, 1.7, 4, 11, 30):
            wanted = float(page.mean()) * 4 * radius * radius
            for at, turn in (((60.5, 60.5), 0), ((60.2, 61.9), 30), ((61.7, 60.1), 71)):
                with self.subTest(radius=radius, at=at):
                    light = float(sprite(page, at, radius, turn)[..., 3].sum())
                    self.assertAlmostEqual(light / wanted, 1, delta=0.08 if radius < 4 else 0.02)

    def test_a_turn_is_counter_clockwise(self) -> None:
        page = np.zeros((64, 64), np.float32)
        page[28:36, 32:] = 1  # an arm to the right
        y, x = np.mgrid[0:128, 0:128] - 63.5
        for angle in (0, 90, 200):
            light = sprite(page, (64, 64), 30, angle)[..., 3].astype(float)
            found = math.degrees(math.atan2(-(light * y).sum(), (light * x).sum())) % 360
            self.assertAlmostEqual(found, angle, delta=1.5)

    def test_a_stretch_makes_it_longer_along_its_way_and_no_wider(self) -> None:
        page = mask(body("square", softness=10), 0, 128)
        plain = moments(sprite(page, (64, 64), 10)[..., 3])
        for way, (wide, tall) in ((0.0, (3, 1)), (math.pi / 2, (1, 3))):
            light = sprite(page, (64, 64), 10, stretch=3.0, along=np.array([way]))[..., 3]
            found = moments(light)
            self.assertAlmostEqual(found[1] / plain[1], wide, delta=0.1)
            self.assertAlmostEqual(found[2] / plain[2], tall, delta=0.1)

    def test_every_pixel_is_the_page_read_there(self) -> None:
        """Against a reading written down plainly: full to its edge, at any level, turned, stretched, and partly outside."""
        draws = np.random.default_rng(11)
        page = draws.random((32, 32)).astype(np.float32)
        pages, height, width = bound([(page, 1.0)]), 50, 90
        for radius in (0.3, 0.8, 1.6, 3.0, 7.0, 19.0, 60.0):
            for way in (None, (5.0, 3.0)):
                centre = draws.uniform((-5, -5), (95, 55), (1, 2)).astype(np.float32)
                record = sprites_of(
                    centre, np.array([radius], np.float32), draws.uniform(0, 6, 1), np.array([[0.3, 0.5, 0.7, 0.9]], np.float32),
                    np.zeros(1, np.int64), pages, True, None if way is None else np.array([way], np.float32),
                    stretch=draws.uniform(1, 3, 1), along=draws.uniform(0, 6, 1),
                )  # fmt: skip
                picture = np.zeros((height, width, 4), np.float32)
                draw_sprites(record, pages, picture)
                with self.subTest(radius=radius, way=way):
                    cover = _read_plainly(record.records[0].astype(float), pages, height, width)
                    np.testing.assert_allclose(picture[..., 3], record.records[0, SHOWN] * cover, atol=3e-5)
                    np.testing.assert_allclose(picture[..., 2], record.records[0, BLUE] * cover, atol=3e-5)
                    self.assertGreaterEqual(float(picture.min()), 0)

    def test_specks_do_not_flicker_as_they_move(self) -> None:
        page = mask(body("star"), 0, 64)
        light = [sprite(page, (60 + i / 37, 60 + i / 53), 0.3)[..., 3].sum() for i in range(40)]
        self.assertLess(np.ptp(light) / np.mean(light), 1e-3)

    def test_a_picture_keeps_its_own_colours(self) -> None:
        page = np.zeros((64, 64, 4), np.float32)
        page[..., 0], page[..., 3] = 0.5, 0.5
        found = sprite(page, (64, 64), 20)
        np.testing.assert_allclose(found[64, 64], [0.5, 0, 0, 0.5], atol=0.01)


class Margins(unittest.TestCase):
    def test_leaving_out_what_is_empty_of_a_page_changes_nothing(self) -> None:
        draws = np.random.default_rng(4)
        for kind in ("streak", "spark", "ring", "drop"):
            for size in (3.0, 11.0, 40.0):
                pages = bound([(mask(body(kind), 0, 128).astype(np.float32), 1.0)])
                self.assertTrue((pages.content <= 1).all())
                n = 40
                more: dict[str, Any] = {}
                if size == 11.0:
                    more = {"smear": draws.uniform(-20, 20, (n, 2)).astype(np.float32)}
                if size == 40.0:
                    more = {"turned": draws.uniform(-1, 1, n), "sizes": np.linspace(1, draws.uniform(0.5, 1.5, n), 9).T}
                made = sprites_of(
                    draws.uniform(0, 160, (n, 2)).astype(np.float32), np.full(n, size, np.float32), draws.uniform(0, 6, n),
                    np.ones((n, 4), np.float32), np.zeros(n, np.int64), pages, False, **more,
                )  # fmt: skip
                found, whole = (np.zeros((160, 160, 4), np.float32) for _ in range(2))
                draw_sprites(made, pages, found)
                # As if there were something everywhere on the page.
                made.records[:, 2] *= 2
                draw_sprites(made, replace(pages, content=np.ones_like(pages.content)), whole)
                self.assertGreater(whole.max(), 0.1)
                np.testing.assert_allclose(found, whole, atol=2e-6)


if __name__ == "__main__":
    unittest.main()
