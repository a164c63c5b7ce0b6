"""Whether a hand is followed by pictures in full or by coarse ones."""

import unittest
from types import SimpleNamespace
from unittest.mock import patch

from isbjorn.studio.preview import interaction_rate
from isbjorn.studio.preview.interaction_rate import Pace


class Following(unittest.TestCase):
    def setUp(self) -> None:
        self.now = 100.0
        clock = patch.object(interaction_rate, "time", SimpleNamespace(monotonic=lambda: self.now))
        clock.start()
        self.addCleanup(clock.stop)
        self.pace = Pace()

    def moved(self, times: int, every_s: float = 0.03) -> None:
        for _ in range(times):
            self.now += every_s
            self.pace.changed()

    def test_what_is_quick_is_followed_in_full_and_what_is_slow_is_not(self) -> None:
        self.moved(5)
        for ms, coarse in ((20, False), (49, False), (60, True), (300, True)):
            self.pace.full_ms = ms
            self.assertEqual(self.pace.wants_coarse(), coarse)

    def test_a_picture_that_was_outrun_makes_them_coarse_until_the_hand_rests(self) -> None:
        self.pace.full_ms = 40
        self.moved(5)
        self.assertFalse(self.pace.wants_coarse())
        self.pace.outrun()
        self.moved(20)
        # Alone it is as quick as ever; beside the edits it was not there in time.
        self.pace.full_ms = 40
        self.assertTrue(self.pace.wants_coarse())
        self.moved(5, every_s=1.0)
        self.assertFalse(self.pace.wants_coarse())
        self.moved(5)
        self.assertFalse(self.pace.wants_coarse())
