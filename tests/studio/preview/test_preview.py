"""The live picture: cached within a limit, found again, and prefetched when idle."""

import shutil
import tempfile
import threading
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import simplejpeg

from isbjorn.core import render_frame
from isbjorn.core.document.files import parse_shot
from isbjorn.core.errors import Stale
from isbjorn.core.imaging.colour import shade_table
from isbjorn.core.imaging.display_encoding import to_shades
from isbjorn.studio.context import Studio
from isbjorn.studio.preview.preview import Preview, Wish, digest_of
from tests.shots import one_emitter


class Previews(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)
        self.studio = Studio(self.folder)
        self.addCleanup(self.studio.close)
        self.preview = self.studio.preview
        self.shot = one_emitter(emitter={"spread": 360, "size": 30}, background="#203040")
        self.digest = digest_of(self.shot)

    def draw(self, frame: int, **more: object) -> np.ndarray:
        shown = self.preview.draw(self.shot, self.digest, Wish(frame, 128, **more))  # type: ignore[arg-type]
        return simplejpeg.decode_jpeg(shown.jpeg)

    def test_it_is_the_picture_of_the_delivery_at_the_size_shown(self) -> None:
        expected = to_shades(render_frame(self.shot, 60, 0.1), shade_table("srgb"))
        self.assertEqual(self.draw(60).shape, (72, 128, 3))
        self.assertLess(np.abs(self.draw(60).astype(int) - expected).mean(), 1.5)

    def test_views(self) -> None:
        alpha = self.draw(60, view="alpha")
        self.assertLess(np.ptp(alpha.astype(int), axis=2).max(), 3)
        self.assertLess(self.draw(60, view="particles")[0, 0].max(), 4)
        self.assertGreater(self.draw(60)[0, 0, 2], 50)

    def test_it_reports_the_progress_of_a_simulation(self) -> None:
        self.assertIsNone(self.preview.draw(self.shot, self.digest, Wish(20, 128)).figures.reach)
        crowd = {**self.shot.model_dump(mode="json"), "forces": [{"kind": "flock", "id": "f"}]}
        crowd["links"] = [{"force": "f", "emitter": self.shot.emitters[0].id}]
        shot = parse_shot(crowd)
        reached = self.preview.draw(shot, digest_of(shot), Wish(30, 128)).figures.reach
        assert reached is not None
        self.assertAlmostEqual(reached, 30, delta=9)

    def test_a_free_look_is_kept_apart_from_the_cameras_picture(self) -> None:
        through, aside = self.draw(60), self.draw(60, orbit=(50.0, 20.0, 1.5))
        self.assertGreater(np.abs(through.astype(int) - aside).mean(), 3)
        np.testing.assert_array_equal(self.draw(60), through)
        self.assertEqual(self.preview.computed(self.digest, Wish(0, 128)), [(60, 60)])
        self.assertEqual(self.preview.computed(self.digest, Wish(0, 128, orbit=(1.0, 0.0, 1.0))), [])

    def test_computed_frames_are_reported_as_ranges(self) -> None:
        for frame in (3, 4, 5, 9, 20, 21):
            self.draw(frame)
        self.draw(7, view="alpha")
        self.assertEqual(self.preview.computed(self.digest, Wish(0, 128)), [(3, 5), (9, 9), (20, 21)])
        self.assertEqual(self.preview.computed(self.digest, Wish(0, 64)), [])

    def test_a_still_is_finer_than_what_is_played_and_serves_both(self) -> None:
        wish = Wish(30, 128, moving=True)
        played = self.preview.draw(self.shot, self.digest, wish)
        still = self.preview.draw(self.shot, self.digest, replace(wish, moving=False))
        self.assertGreater(len(still.jpeg), len(played.jpeg))
        self.assertIs(self.preview.known(self.digest, wish), still)

    def test_the_memory_limit_holds_and_the_oldest_go(self) -> None:
        small = Preview(self.studio.plates, limit_bytes=60_000)
        for frame in range(60):
            small.draw(self.shot, self.digest, Wish(frame, 128))
        kept = sum(len(p.jpeg) for p in small._pictures.values())
        self.assertLessEqual(kept, 60_000)
        self.assertEqual(kept, small._pictures.bytes)
        ((first, last),) = small.computed(self.digest, Wish(0, 128))
        self.assertEqual((last, last - first + 1), (59, len(small._pictures)))
        self.assertTrue(small.full())

    def test_undo_finds_its_frames_again_and_a_name_changes_nothing(self) -> None:
        self.draw(10)
        brighter = self.shot.model_copy(update={"background": "#ffffff"})
        self.assertIsNone(self.preview.known(digest_of(brighter), Wish(10, 128)))
        renamed = self.shot.model_copy(update={"name": "Another name"})
        self.assertIsNotNone(self.preview.known(digest_of(renamed), Wish(10, 128)))

    def test_stale_work_is_not_begun(self) -> None:
        with self.assertRaises(Stale):
            self.preview.draw(self.shot, self.digest, Wish(10, 128), lambda: True)
        self.assertEqual(self.preview.computed(self.digest, Wish(10, 128)), [])

    def test_many_at_once_see_the_same(self) -> None:
        expected = {f: self.draw(f) for f in range(8)}
        fresh, wrong = Preview(self.studio.plates), []

        def look(frame: int) -> None:
            for size in (128, 96, 128):
                shown = fresh.draw(self.shot, self.digest, Wish(frame, size))
                if size == 128 and not np.array_equal(simplejpeg.decode_jpeg(shown.jpeg), expected[frame]):
                    wrong.append(frame)

        threads = [threading.Thread(target=look, args=(f,)) for f in expected]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(wrong, [])

    def known_pictures(self) -> object:
        lane = self.preview._lanes.peek("page")
        assert lane is not None
        return lane.known(128, 0)

    def test_notes_and_portraits_leave_the_last_picture_of_a_page(self) -> None:
        self.preview.draw(self.shot, self.digest, Wish(10, 128), lane="page")
        known = self.known_pictures()
        for seed in (1, 2, 3):
            self.preview.watched(self.shot.model_copy(update={"seed": seed}), 10)
        self.preview.portrait(self.shot, 0, 10, 3, 32)
        self.preview.inspected(self.shot, 10)
        self.assertIs(self.known_pictures(), known)

    def test_a_strip_shows_the_shot_even_without_its_plate(self) -> None:
        strip = simplejpeg.decode_jpeg(self.preview.strip(self.shot, 5, 64))
        self.assertEqual(strip.shape, (36 * 5, 64, 3))
        gone = self.shot.model_copy(update={"plate": {"media": "gone.mp4"}})
        gone = type(self.shot).model_validate(gone.model_dump())
        self.assertEqual(simplejpeg.decode_jpeg(self.preview.strip(gone, 5, 64)).shape, (36 * 5, 64, 3))

    def test_a_strip_waits_for_playback_and_is_cancelled_when_unwanted(self) -> None:
        held = mock.Mock(side_effect=[True, True, True, *[False] * 20])
        self.preview.strip(self.shot, 2, 32, held=held)
        self.assertGreater(held.call_count, 3, "it asked until nobody played")
        with self.assertRaises(Stale):
            self.preview.strip(self.shot, 2, 32, gone=lambda: True)

    def test_figures_count_what_is_seen(self) -> None:
        shot = one_emitter(emitter={"size": 0.1, "speed": 900, "rate": 200})
        figures = self.preview.draw(shot, digest_of(shot), Wish(100, 128)).figures
        self.assertEqual(figures.alive, 400)
        self.assertEqual(figures.drawn + figures.outside, 400)
        self.assertEqual(figures.specks, figures.drawn)


if __name__ == "__main__":
    unittest.main()
