"""Bodies: their masks, which one each particle shows, how they are turned, stretched and lit, and letters in reading order."""

import math
import os
import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import cv2
import numpy as np

from isbjorn.core import Shot, Solver, render_frame
from isbjorn.core.appearance.particles import births_of
from isbjorn.core.document import Drop, Emitter
from isbjorn.core.document.parts.bodies import ArtworkBody
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.geometry.glyphs import drawn, font, pieces
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.render.scene import bodies as masks
from isbjorn.core.render.scene.atlas import Bodies, fitting
from isbjorn.core.render.scene.bodies import kept_mask, mask, variants
from tests.core.simulate.test_forces import ONE
from tests.shots import one_emitter

KINDS = ("ring", "star", "spark", "puff", "drop", "square", "shard", "streak")


def body(kind: str, **fields: Any) -> Any:
    return Emitter.model_validate({"body": {"kind": kind, **fields}}).body


def moments(light: np.ndarray) -> tuple[float, float, float]:
    """The light's sum, and its deviations to the right and downward."""
    light = light.astype(float)
    y, x = np.mgrid[0 : light.shape[0], 0 : light.shape[1]]
    total = light.sum()
    mx, my = (light * x).sum() / total, (light * y).sum() / total
    return total, math.sqrt((light * (x - mx) ** 2).sum() / total), math.sqrt((light * (y - my) ** 2).sum() / total)


class Masks(unittest.TestCase):
    def test_every_drawn_body_fills_its_square_and_stays_in_it(self) -> None:
        for kind in KINDS:
            with self.subTest(kind):
                found = mask(body(kind), 0, 128)
                self.assertTrue(((found >= 0) & (found <= 1)).all())
                self.assertGreater(found.max(), 0.5)
                # Nothing of weight is cut off by the edge of the square.
                edge = np.concatenate([found[0], found[-1], found[:, 0], found[:, -1]])
                self.assertLess(edge.mean(), 0.06)

    def test_a_square_has_the_area_of_its_numbers(self) -> None:
        found = mask(body("square", aspect=50, softness=0), 0, 256)
        a = 1 / math.hypot(1, 0.5)
        self.assertAlmostEqual(float(found.mean()) * 4, 4 * a * a * 0.5, delta=0.02)

    def test_a_ring_is_as_wide_as_it_says(self) -> None:
        found = mask(body("ring", width=30, softness=0), 0, 256)
        self.assertAlmostEqual(float(found.mean()) * 4, math.pi * (1 - 0.7**2), delta=0.03)
        self.assertEqual(found[128, 128], 0)

    def test_a_star_has_its_points(self) -> None:
        found = mask(body("star", points=7, inner=40, softness=0), 0, 256)
        turns = np.linspace(0, 2 * math.pi, 720, endpoint=False)
        rim = found[(128 - 90 * np.sin(turns)).astype(int), (128 + 90 * np.cos(turns)).astype(int)] > 0.5
        self.assertEqual(int((np.diff(rim.astype(int), append=int(rim[0])) == 1).sum()), 7)
        self.assertGreater(found[8, 128], 0.5, "the first point is up")

    def test_what_flies_ahead_lies_to_the_right(self) -> None:
        drop = mask(body("drop"), 0, 128).astype(float)
        x = np.arange(128) - 63.5
        self.assertGreater(float((drop * x).sum()), 0, "a drop is thick where it flies to")
        streak = mask(body("streak", head=90), 0, 128).astype(float)
        self.assertGreater(float((streak * x).sum()), 0)

    def test_puffs_and_shards_come_in_several(self) -> None:
        for kind in ("puff", "shard"):
            one = body(kind, variants=3)
            self.assertEqual(variants(one), 3)
            masks = [mask(one, n, 64) for n in range(3)]
            self.assertGreater(float(np.abs(masks[0] - masks[1]).max()), 0.3)
            np.testing.assert_array_equal(mask(one, 2, 64), masks[2])


class Facing(unittest.TestCase):
    def shown(self, **emitter: Any) -> tuple[float, float, float]:
        shot = one_emitter(
            width=400, height=400,
            emitter={
                "rate": 0, "bursts": [{"count": 1}], "body": {"kind": "streak", "softness": 20}, "size": 60, "speed": 0.01,
                **emitter,
            },
        )  # fmt: skip
        return moments(render_frame(shot, 10)[..., 3])

    def test_motion_turns_a_body_along_its_way_and_its_angle_adds(self) -> None:
        for direction, more, wide in ((0, 0, True), (90, 0, False), (90, 90, True), (0, 90, False)):
            found = self.shown(direction=direction, facing="motion", angle=more)
            self.assertEqual(found[1] > 3 * found[2], wide, (direction, more))

    def test_an_angle_stays_whatever_the_way(self) -> None:
        found = self.shown(direction=90, facing="angle", angle=0)
        self.assertGreater(found[1], 3 * found[2])

    def test_spin_turns_it_and_its_curve_eases_it_out(self) -> None:
        # A quarter turn a second, over a life of 2 s with an even fall to nothing: a quarter turn in all.
        ease = {"points": [{"at": 0, "value": 1, "joint": "straight"}, {"at": 1, "value": 0, "joint": "straight"}]}
        solver = Solver(
            one_emitter(emitter={"rate": 0, "bursts": [{"count": 1}], "spin": {"value": 90, "over_life": ease}})
        )
        self.assertAlmostEqual(float(solver.at(25).angle[0]), 90 * 0.75, delta=0.5)
        self.assertAlmostEqual(float(solver.at(49).angle[0]), 90, delta=0.5)

    def test_speed_stretches(self) -> None:
        plain, longer = (
            self.shown(speed=100, body={"kind": "square"}, stretch=stretch, direction=0) for stretch in (0, 150)
        )
        self.assertAlmostEqual(longer[1] / plain[1], 2.5, delta=0.1)
        self.assertAlmostEqual(longer[2] / plain[2], 1.0, delta=0.06)


class Mixed(unittest.TestCase):
    def page_of(self, count: int = 4000, **emitter: Any) -> np.ndarray:
        shot = one_emitter(emitter=emitter)
        held = Bodies(shot, shot.emitters[0], 1.0, PlateReader())
        births = np.arange(count)
        ages = np.zeros(count, np.float32)
        return held.shown(7, births, np.zeros(count), ages, 0.0, lambda: np.zeros(count, bool))[1]

    def test_bodies_are_dealt_by_their_weights(self) -> None:
        page = self.page_of(
            body={"kind": "star", "weight": 3}, mixed=[{"kind": "ring"}, {"kind": "square", "weight": 0}]
        )
        share = np.bincount(page, minlength=3) / len(page)
        np.testing.assert_allclose(share, [0.75, 0.25, 0], atol=0.03)

    def test_another_weight_changes_as_few_bodies_as_possible(self) -> None:
        a = self.page_of(body={"kind": "star"}, mixed=[{"kind": "ring"}])
        b = self.page_of(body={"kind": "star"}, mixed=[{"kind": "ring", "weight": 1.5}])
        self.assertAlmostEqual(float((a != b).mean()), 0.1, delta=0.02)

    def test_a_body_never_moves_a_particle(self) -> None:
        plain = Solver(one_emitter(emitter={"spread": 90, "speed": {"value": 90, "spread": 30}})).at(60)
        mixed = Solver(
            one_emitter(
                emitter={
                    "spread": 90,
                    "speed": {"value": 90, "spread": 30},
                    "body": {"kind": "puff"},
                    "mixed": [{"kind": "drop"}],
                }
            )
        ).at(60)
        np.testing.assert_array_equal(plain.position, mixed.position)


class Letters(unittest.TestCase):
    def test_a_text_falls_into_letters_with_their_marks_or_into_words(self) -> None:
        self.assertEqual(pieces("Å e\u0301!", "letters"), ["Å", "e\u0301", "!"])
        self.assertEqual(pieces("net lights ", "words"), ["net", "lights"])

    def test_a_letter_is_drawn_as_it_looks(self) -> None:
        sheet, x, _, _ = drawn("I", font(), 200)
        self.assertAlmostEqual(sheet.shape[0] / 200, 0.7, delta=0.02, msg="a capital's height, of the em")
        self.assertAlmostEqual(x, sheet.shape[1] / 2)
        wide = drawn("III", font(), 200)[0]
        self.assertGreater(wide.shape[1], 1.9 * sheet.shape[1])

    def dealt(self, deal: str, direction: float, **more: Any) -> str:
        """The text as it is read from left to right, or from the top, on the picture."""
        shot = one_emitter(
            emitter={
                "body": {"kind": "words", "text": "NORTH", "deal": deal}, "rate": 10, "direction": direction, "lifespan": 30,
                "limit": 5, "end_s": 0.45, "speed": 80, **more,
            },
        )  # fmt: skip
        p = Solver(shot).at(100)
        emitter = shot.emitters[0]
        held = Bodies(shot, emitter, 1.0, PlateReader())
        from isbjorn.core.render.draw.emitters import _reads_backward

        births = births_of(p.id)
        _, page, _ = held.shown(7, births, np.zeros(len(p)), p.age01, 4.0, lambda: _reads_backward(p))
        x, y = p.position[:, 0], p.position[:, 1]
        order = np.argsort(x) if np.ptp(x) > np.ptp(y) else np.argsort(-y)
        return "".join("NORTH"[n] for n in page[order])

    def test_a_text_reads_in_order_whichever_way_it_flies(self) -> None:
        for direction in (0, 180, 90, 270, 20, 160, 200, 340):
            with self.subTest(direction=direction):
                self.assertEqual(self.dealt("readable", direction), "NORTH")
                burst = {"rate": 0, "bursts": [{"count": 5, "over_s": 0.4}], "end_s": None}
                self.assertEqual(self.dealt("readable", direction, **burst), "NORTH")

    def test_as_born_the_first_letter_leads(self) -> None:
        self.assertEqual(self.dealt("as born", 180), "NORTH")
        self.assertEqual(self.dealt("as born", 0), "HTRON")

    def test_letters_are_upright_on_the_picture(self) -> None:
        shot = one_emitter(
            width=300, height=300,
            emitter={"body": {"kind": "words", "text": "L"}, "rate": 0, "bursts": [{"count": 1}], "speed": 0, "size": 200},
        )  # fmt: skip
        light = render_frame(shot, 5)[..., 3]
        rows, columns = np.nonzero(light > 0.5)
        middle = columns < (columns.min() + columns.max()) / 2
        # The stem of an L is at the left, its foot at the bottom.
        self.assertLess(rows[middle].min(), rows[~middle].min() - 40)
        self.assertAlmostEqual(rows[middle].max(), rows[~middle].max(), delta=3)


class Pictures(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        for n in range(8):
            cv2.imwrite(str(self.folder / f"leaf.{n:03d}.png"), np.full((16, 16, 3), 20 + 30 * n, np.uint8))

    def frames(
        self, count: int = 400, t: float = 0.0, moments: float = 0.0, age: float = 0.0, **fields: Any
    ) -> np.ndarray:
        shot = one_emitter(
            emitter={"body": {"kind": "picture", "media": str(self.folder / "leaf.###.png"), "rate": 10, **fields}}
        )
        held = Bodies(shot, shot.emitters[0], 1.0, PlateReader())
        pages, page, _ = held.shown(
            7,
            np.arange(count),
            np.full(count, moments),
            np.full(count, age, np.float32),
            t,
            lambda: np.zeros(count, bool),
        )
        first = pages.table[page, 1]
        shades = pages.texels[first]  # the first texel of each page identifies its frame
        known = np.array([((20 + 30 * n) / 255) for n in range(8)])
        linear = np.where(known <= 0.04045, known / 12.92, ((known + 0.055) / 1.055) ** 2.4)
        return np.abs(shades[:, None] - linear).argmin(axis=1)

    def test_together_all_show_the_shots_frame_and_come_round(self) -> None:
        self.assertEqual(set(self.frames(t=0.25)), {2})
        self.assertEqual(set(self.frames(t=0.95)), {1})
        self.assertEqual(set(self.frames(t=0.25, speed=-100)), {5})

    def test_from_birth_each_begins_at_its_own(self) -> None:
        self.assertEqual(set(self.frames(t=5.0, moments=4.75, plays="from birth")), {2})

    def test_by_age_it_plays_once_through_a_life(self) -> None:
        self.assertEqual([int(self.frames(age=age, plays="by age")[0]) for age in (0, 0.5, 0.999)], [0, 4, 7])

    def test_one_of_them_stays_and_all_are_dealt(self) -> None:
        a, b = (self.frames(t=t, plays="one of them") for t in (0.0, 3.3))
        np.testing.assert_array_equal(a, b)
        self.assertEqual(set(a), set(range(8)))

    def test_a_random_start_spreads_them(self) -> None:
        self.assertEqual(set(self.frames(plays="together", random_start=True)), set(range(8)))

    def test_a_changed_file_is_read_again(self) -> None:
        place = self.folder / "one.png"
        shot = Shot.model_validate(
            one_emitter(
                width=64, height=64,
                emitter={
                    "rate": 0, "bursts": [{"count": 1}], "speed": 0, "size": 60,
                    "body": {"kind": "picture", "media": str(place), "tinted": False},
                },
            ).model_dump()
        )  # fmt: skip
        import os

        reader = PlateReader()
        seen = []
        for n, value in enumerate((40, 220)):
            cv2.imwrite(str(place), np.full((8, 8, 3), value, np.uint8))
            os.utime(place, (1000 + n, 1000 + n))
            seen.append(float(render_frame(shot, 5, plates=reader)[32, 32, 0]))
        self.assertLess(seen[0], 0.1)
        self.assertGreater(seen[1], 0.5)


class Bad(unittest.TestCase):
    def refused(self, **fields: Any) -> str:
        shot = one_emitter(emitter={"body": fields})
        with self.assertRaises(IsbjornError) as caught:
            render_frame(shot, 5, 0.1)
        self.assertTrue(caught.exception.remedy)
        return f"{caught.exception.what} {caught.exception.where}"

    def test_what_cannot_be_drawn_is_said(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            broken = Path(folder) / "broken.ttf"
            broken.write_bytes(b"\0\1\0\0" + bytes(200))
            self.assertIn("broken.ttf", self.refused(kind="words", font=str(broken)))
            self.assertIn("gone.otf", self.refused(kind="words", font=str(Path(folder) / "gone.otf")))
            self.assertIn("gone.png", self.refused(kind="picture", media=str(Path(folder) / "gone.png")))
            text = Path(folder) / "text.png"
            text.write_text("no picture")
            self.assertIn("text.png", self.refused(kind="picture", media=str(text)))
        self.assertIn("no letter", self.refused(kind="words", text="   "))

    def test_a_picture_of_absurd_size_is_refused_before_it_is_read(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            huge = Path(folder) / "huge.png"
            # A header that promises 60,000 × 60,000 pixels.
            import struct
            import zlib

            def chunk(name: bytes, data: bytes) -> bytes:
                return struct.pack(">I", len(data)) + name + data + struct.pack(">I", zlib.crc32(name + data))

            head = struct.pack(">IIBBBBB", 60_000, 60_000, 8, 2, 0, 0, 0)
            huge.write_bytes(
                b"\x89PNG\r\n\x1a\n"
                + chunk(b"IHDR", head)
                + chunk(b"IDAT", zlib.compress(bytes(100)))
                + chunk(b"IEND", b"")
            )
            self.assertIn("huge.png", self.refused(kind="picture", media=str(huge)))


class KeptMasks(unittest.TestCase):
    def setUp(self) -> None:
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.enterContext(mock.patch.dict(os.environ, {"NUMBA_CACHE_DIR": str(self.home)}))

    def files(self) -> list[Path]:
        return sorted((self.home / "masks").glob("*"))

    def test_a_large_one_is_found_again_and_another_is_another(self) -> None:
        first = kept_mask(Drop(), 0, 256)
        np.testing.assert_array_equal(first, mask(Drop(), 0, 256))
        with mock.patch.object(masks, "mask", side_effect=AssertionError("drawn again")):
            np.testing.assert_array_equal(kept_mask(Drop(), 0, 256), first)
        self.assertFalse(np.array_equal(kept_mask(Drop.model_validate({"slender": 20}), 0, 256), first))
        self.assertEqual(len(self.files()), 2)

    def test_a_damaged_one_is_drawn_again(self) -> None:
        first = kept_mask(Drop(), 0, 256)
        for content in (b"", b"no picture", self.files()[0].read_bytes()[:-100]):
            self.files()[0].write_bytes(content)
            np.testing.assert_array_equal(kept_mask(Drop(), 0, 256), first)
        self.assertEqual(np.load(self.files()[0]).shape, (256, 256))

    def test_no_more_than_so_many_are_kept(self) -> None:
        with mock.patch.object(masks, "_KEPT", 2):
            for slender in (10, 20, 30, 40):
                kept_mask(Drop.model_validate({"slender": slender}), 0, 256)
        self.assertEqual(len(self.files()), 2)


class ArrowsAndArtwork(unittest.TestCase):
    def test_an_arrow_points_where_it_goes(self) -> None:
        page = mask(body("arrow"), 0, 128)
        across = np.flatnonzero(page.max(axis=0) > 0.5)
        # As long as its size, its head to the right.
        self.assertLess(128 - np.ptp(across), 6)
        high = (page > 0.5).sum(axis=0)
        self.assertGreater(int(np.argmax(high)), 64)
        self.assertLess(high[-8], high[70])
        shot = one_emitter(
            emitter={**ONE, "body": {"kind": "arrow"}, "facing": "motion", "size": 60, "speed": 40, "direction": 0},
            width=160, height=90, background="#000000",
        )  # fmt: skip
        alpha = render_frame(shot, 25)[..., 0]
        column = alpha.sum(axis=0)
        at = 80 + 40
        self.assertGreater(column[at + 1 : at + 28].max(), 1.5 * column[at - 28 : at - 4].max())

    def test_artwork_is_filled_exactly_with_its_holes(self) -> None:
        # A square of 80 with a hole of 40: three quarters of it, within the circle round its corners.
        paths = ["M-40-40H40V40H-40Z M-20-20V20H20V-20Z"]
        page = mask(ArtworkBody.model_validate({"paths": paths}), 0, 256)
        self.assertAlmostEqual(float(page.mean()), 0.75 / 2, delta=0.002)
        self.assertEqual(float(page[128, 128]), 0)
        self.assertEqual(float(page[128, 128 + 66]), 1)


class Budget(unittest.TestCase):
    def test_few_masks_are_as_fine_as_they_are_seen_and_many_take_no_longer_to_draw(self) -> None:
        few = [("mask", None, n, 1024) for n in range(16)]
        self.assertEqual(fitting(few), few)
        many = [("mask", None, n, 256) for n in range(256)]
        self.assertEqual({key[3] for key in fitting(many)}, {64})
        # About a microsecond a texel.
        self.assertLess(sum(key[3] ** 2 for key in fitting(many)), 3e6)


if __name__ == "__main__":
    unittest.main()
