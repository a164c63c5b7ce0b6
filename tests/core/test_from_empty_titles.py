"""Titles, each from an empty shot to files on the disk: what comes apart and what is assembled, over a plate and alone."""

import unittest
from typing import Any

import numpy as np
import OpenImageIO as oiio

from isbjorn.core.deliver import deliver
from isbjorn.core.document import Shot
from isbjorn.core.media.read.stills import read_still
from tests.core.media.test_media import still
from tests.core.test_from_empty import HEIGHT, WIDTH, FromEmpty, ramp

WORD = {"kind": "letters", "text": "Rime", "height": 90}


class Titles(FromEmpty):
    def title(self, **fields: Any) -> Shot:
        """A word that the wind takes apart from right to left, and that is assembled again, over a plate."""
        rows = np.linspace(20, 90, HEIGHT).astype(np.uint8)
        still(self.folder / "dusk.png", np.repeat(np.repeat(rows[:, None, None], WIDTH, axis=1), 3, axis=2), "uint8")
        word = {
            "shape": WORD, "speed": 30, "spread": 180, "spin": {"value": 0, "spread": 200}, "colour": ramp("#ffffff"),
            "pieces": {
                "cut": "shards", "size": 6,
                "release": {"at_s": 0.4, "duration": 1, "angle": 180},
                "assemble": {"at_s": 2, "duration": 1, "by": "reading order"},
            },
        }  # fmt: skip
        forces = [{"kind": "wind", "strength": 160, "direction": 180}, {"kind": "turbulence", "strength": 120}]
        plate = {"media": str(self.folder / "dusk.png")}
        return self.shot({**word, **fields}, forces=forces, plate=plate, last_frame=79)

    def test_a_word_dissolves_by_the_wind_and_assembles_again(self) -> None:
        shot = self.title()
        whole, again = self.delivered(shot, 0), self.delivered(shot, 79)
        self.assertGreater(float(whole[..., 3].sum()), 500)
        np.testing.assert_allclose(again, whole, atol=1e-3)
        half = self.cover(shot, 22)
        left, right = (slice(None, WIDTH // 2), slice(WIDTH // 2, None))
        self.assertLess(
            float(np.abs(half - whole[..., 3])[:, left].sum()), float(np.abs(half - whole[..., 3])[:, right].sum())
        )
        gone = self.cover(shot, 42)
        self.assertLess(
            float(np.minimum(gone, whole[..., 3]).sum()), 0.7 * float(whole[..., 3].sum()), "it is in the air"
        )
        over = self.delivered(shot, 0, over_plate=True)
        bare = self.delivered(shot.model_copy(update={"emitters": ()}), 0, over_plate=True)
        cover = whole[..., 3:]
        np.testing.assert_allclose(over[..., :3], whole[..., :3] + bare[..., :3] * (1 - cover), atol=2e-3)

    def test_the_same_at_another_frame_rate_and_as_a_movie(self) -> None:
        shot = self.title()
        double = shot.model_copy(update={"rate": "50", "last_frame": 159})
        for frame in (0, 30, 79):
            np.testing.assert_allclose(self.cover(double, 2 * frame), self.cover(shot, frame), atol=1e-6)
        files = deliver(shot, self.folder, "title{version}", format="mov", first=0, last=5, processes=1)
        self.assertGreater(files[0].stat().st_size, 1000)

    def test_passes_and_mattes_go_with_the_pieces(self) -> None:
        matte = {"id": "m", "width": WIDTH, "height": 4000, "across": WIDTH / 2, "feather": 0}
        given = self.title().model_dump()
        given["emitters"][0]["hidden_by"] = ["m"]
        shot = Shot.model_validate({**given, "mattes": [matte]})
        for frame in (0, 22):
            cover = self.cover(shot, frame)
            self.assertEqual(float(cover[:, WIDTH // 2 + 1 :].max()), 0)
            self.assertGreater(float(cover[:, : WIDTH // 2].sum()), 200)
        order = {"format": "exr-half", "over_plate": False, "passes": ("depth", "motion", "objects", "alpha")}
        files = deliver(self.title(), self.folder, "passes{version}", first=22, last=22, processes=1, **order)
        read = oiio.ImageInput.open(str(files[0]))
        names = set(read.spec().channelnames)
        read.close()
        self.assertTrue({"R", "A", "Z"} <= names, names)
        self.assertGreater(len(names), 8)

    def test_motion_blur_and_the_open_lens_leave_the_whole_as_it_is(self) -> None:
        shot = self.title()
        blurred = Shot.model_validate({**shot.model_dump(), "camera": {"shutter": 180}})
        np.testing.assert_allclose(self.cover(blurred, 0), self.cover(shot, 0), atol=1e-3)
        self.assertGreater(float(np.abs(self.cover(blurred, 22) - self.cover(shot, 22)).max()), 0.1)

    def test_a_seamless_loop_that_dissolves_and_assembles(self) -> None:
        shot = Shot.model_validate({**self.title().model_dump(), "loop": True})
        frames = [self.cover(shot, frame) for frame in (0, 1, 79)]
        np.testing.assert_allclose(frames[2], frames[0], atol=1e-3)

    def test_light_that_assembles_from_a_models_surface(self) -> None:
        points = {
            "shape": {"kind": "model", "form": "box", "births": "faces", "size": 90}, "size": 3, "body": {"kind": "hard disc"},
            "pieces": {"cut": "points", "size": 9, "release": None, "assemble": {"at_s": 1, "duration": 1}},
        }  # fmt: skip
        shot = self.shot(points, last_frame=79)
        placed = self.at(shot, 79)
        # On the faces of a box of 90 px.
        self.assertAlmostEqual(float(np.abs(placed.position).max(axis=1).min()), 45, delta=0.01)
        self.assertGreater(float(self.cover(shot, 79).sum()), 100)

    def test_a_picture_is_read_back_as_it_was(self) -> None:
        rng = np.random.default_rng(1)
        pixels = (rng.random((60, 80, 3)) * 255).astype(np.uint8)
        still(self.folder / "card.png", pixels, "uint8")
        card = {
            "shape": {"kind": "picture", "media": str(self.folder / "card.png"), "width": 80, "height": 60},
            "pieces": {"cut": "hexagons", "size": 8, "release": {"at_s": 0.2}, "assemble": {"at_s": 2.2, "duration": 0.5}},
        }  # fmt: skip
        shot = self.shot(card, last_frame=79)
        files = deliver(
            shot, self.folder, "card{version}", format="png8", first=79, last=79, processes=1, over_plate=False
        )
        read = np.asarray(read_still(files[0])[0], np.float32)
        top, left = (HEIGHT - 60) // 2, (WIDTH - 80) // 2
        self.assertLessEqual(float(np.abs(read[top : top + 60, left : left + 80, :3] - pixels).max()), 1.6)


if __name__ == "__main__":
    unittest.main()
