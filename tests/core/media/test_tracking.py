"""Tracking of the plate: a moving mark is followed both ways, a lost one is said, tables come back as they went."""

import tempfile
import unittest
from pathlib import Path

import cv2
import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from isbjorn.core import Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.media.exchange.tracking import TrackedPoint, follow, from_csv, grain_of, to_csv
from isbjorn.core.media.read.plates import PlateReader

WIDTH, HEIGHT, FRAMES = 320, 180, 24


def way(frame: float) -> tuple[float, float]:
    """Where the mark is, px from the top left corner."""
    return 70 + 6.3 * frame, 60 + 22 * np.sin(frame / 5)


class Followed(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        rng = np.random.default_rng(5)
        ground = cv2.GaussianBlur(rng.integers(20, 120, (HEIGHT, WIDTH)).astype(np.float32), (0, 0), 2)
        mark = cv2.resize(rng.integers(0, 255, (9, 9)).astype(np.float32), (36, 36), interpolation=cv2.INTER_CUBIC)
        for frame in range(FRAMES):
            x, y = way(frame)
            shift = np.array([[1, 0, x - 18], [0, 1, y - 18]])
            over = cv2.warpAffine(mark, shift, (WIDTH, HEIGHT), flags=cv2.INTER_LINEAR)
            cover = cv2.warpAffine(np.ones_like(mark), shift, (WIDTH, HEIGHT), flags=cv2.INTER_LINEAR)
            # From frame 18 on a wall hides the right of the picture.
            picture = ground * (1 - cover) + over * cover
            if frame >= 18:
                picture[:, 160:] = 90
            noise = rng.normal(0, 2.5, picture.shape)
            cv2.imwrite(f"{folder.name}/p.{frame:03d}.png", np.clip(picture + noise, 0, 255).astype(np.uint8))
        cls.media = f"{folder.name}/p.###.png"

    def shot(self) -> Shot:
        return Shot.model_validate({
            "width": WIDTH, "height": HEIGHT, "last_frame": FRAMES - 1, "plate": {"media": self.media},
        })  # fmt: skip

    def follow(self, first: int, last: int, **more: int) -> list[TrackedPoint]:
        return follow(self.shot(), PlateReader(), *way(first), first, last, **more)

    def test_a_mark_is_followed_to_half_a_pixel_on_and_back(self) -> None:
        for first, last in ((0, 17), (17, 0)):
            seen = self.follow(first, last)
            self.assertEqual(
                [s.frame for s in seen],
                list(range(first, last + (1 if last > first else -1), 1 if last > first else -1)),
            )
            away = [np.hypot(s.x - way(s.frame)[0], s.y - way(s.frame)[1]) for s in seen]
            self.assertLess(max(away), 0.6)
            self.assertGreater(min(s.confidence for s in seen), 0.6)

    def test_where_the_mark_is_hidden_it_ends_and_keeps_what_it_has(self) -> None:
        seen = self.follow(4, FRAMES - 1)
        self.assertEqual(seen[-1].frame, 17)
        self.assertEqual(len(seen), 14)

    def test_flat_ground_outside_and_no_plate_are_said(self) -> None:
        plain = Shot(width=WIDTH, height=HEIGHT)
        for shot, at, word in (
            (plain, (9, 9), "no plate"), (self.shot(), (-5, 9), "outside"), (self.shot(), (240, 90), "no feature"),
        ):  # fmt: skip
            with self.assertRaises(IsbjornError) as caught:
                follow(shot, PlateReader(), *at, 20, 23)
            self.assertIn(word, caught.exception.what)
            self.assertTrue(caught.exception.remedy)

    def test_the_plates_grain_is_measured(self) -> None:
        deviation, size = grain_of(self.shot(), PlateReader(), 6)
        self.assertAlmostEqual(deviation, 2.5 / 255, delta=0.003)
        self.assertLess(size, 1.6)


class Tables(unittest.TestCase):
    SHOT = Shot(width=1280, height=720)

    @given(
        st.dictionaries(
            st.integers(0, 400), st.tuples(st.floats(-4000, 4000), st.floats(-4000, 4000)), min_size=1, max_size=30
        )
    )
    def test_a_table_comes_back_as_it_went(self, places: dict[int, tuple[float, float]]) -> None:
        seen = [TrackedPoint(frame, x, y, 0.75) for frame, (x, y) in sorted(places.items())]
        found = from_csv(self.SHOT, to_csv(self.SHOT, seen))
        self.assertEqual([s.frame for s in found], [s.frame for s in seen])
        for a, b in zip(found, seen, strict=True):
            self.assertAlmostEqual(a.x, b.x, delta=1e-3)
            self.assertAlmostEqual(a.y, b.y, delta=1e-3)

    def test_places_from_the_corner_and_from_the_centre_are_distinguished(self) -> None:
        corner = from_csv(self.SHOT, "x,y,Frame\n640,300,7\n\n")[0]
        centre = from_csv(self.SHOT, "frame,across_px,up_px\n7,0,60\n")[0]
        self.assertEqual((corner.x, corner.y), (640, 300))
        self.assertEqual((centre.x, centre.y), (640, 300))

    def test_what_is_wrong_with_a_table_is_said_by_its_line(self) -> None:
        for text, word in (
            ("a,b\n1,2\n", "first line"), ("frame,x,y\n1,2\n", "line 2"), ("frame,x,y\n1,2,3\n2,nan,3\n", "line 3"),
            ("frame,x,y\n1.5,2,3\n", "line 2"), ("frame,x,y\n", "no positions"), ("", "first line"),
        ):  # fmt: skip
            with self.subTest(text), self.assertRaises(IsbjornError) as caught:
                from_csv(self.SHOT, text, "walk.csv")
            self.assertIn(word, caught.exception.what)
            self.assertEqual(caught.exception.where, "walk.csv")

    def test_a_path_of_this_machine_is_not_in_it(self) -> None:
        self.assertNotIn(str(Path.cwd()), to_csv(self.SHOT, [TrackedPoint(1, 2, 3, 1)]))


if __name__ == "__main__":
    unittest.main()
