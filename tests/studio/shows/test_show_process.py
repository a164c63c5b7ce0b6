"""The process of a show, with a clock that the test controls: no machine is too slow for it."""

from __future__ import annotations

import unittest
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future
from typing import Any
from unittest import mock

from isbjorn.core.media.read.plates import PlateReader
from isbjorn.studio.shows.show_process import TIMECODE, Performer, Quality, ShowPicture
from tests.shots import one_emitter

BEGAN = 100.0
# Pictures come thirty a second; each takes so long, and is heard of at the next look.
TAKES_S = 0.004
LATE_S = 1 / 30 + 2 * TAKES_S


class Studio:
    """The studio at the other end of the pipe: says what it has to at its moments, and confirms each picture."""

    def __init__(self) -> None:
        self.now = BEGAN
        self.to_say: deque[tuple[float, str, Any]] = deque()
        self.said: deque[tuple[str, Any]] = deque()
        self.pictures: list[tuple[float, ShowPicture]] = []

    def poll(self, most_s: float) -> bool:
        if self.to_say and self.to_say[0][0] <= self.now + most_s:
            at, *what = self.to_say.popleft()
            self.now = max(self.now, at)
            self.said.append((what[0], what[1]))
        elif not self.said:
            self.now += most_s
        return bool(self.said)

    def recv(self) -> tuple[str, Any]:
        return self.said.popleft()

    def send(self, reported: tuple[str, Any]) -> None:
        kind, what = reported
        assert kind == "picture", reported
        self.now += TAKES_S
        self.pictures.append((self.now - BEGAN, what))
        self.said.append(("shown", None))


class AtOnce:
    """Does what is submitted before it returns."""

    def submit(self, work: Callable[[], None]) -> Future[None]:
        future: Future[None] = Future()
        future.set_result(work())
        return future


class Clocks(unittest.TestCase):
    def play(self, *to_say: tuple[float, str, Any], rounds: bool = False) -> list[tuple[float, float]]:
        """What is shown when something is said at moments: (moment of the clock, moment of the show), in seconds."""
        studio = Studio()
        studio.to_say = deque((BEGAN + at, kind, what) for at, kind, what in to_say)
        shot = one_emitter(width=64, height=36, last_frame=99)
        with mock.patch.object(Quality, "drew"):
            performer = Performer(studio, PlateReader(), shot, 64, rounds, clock=lambda: studio.now)  # type: ignore[arg-type]
            performer._sender = AtOnce()  # type: ignore[assignment]
            performer.run()
        return [(at, picture.seconds) for at, picture in studio.pictures]

    def assert_goes(self, shown: list[tuple[float, float]], ahead_s: float) -> None:
        """The show is so far ahead of the clock, but for how late a picture is."""
        self.assertGreater(len(shown), 5)
        for at, seconds in shown:
            self.assertLessEqual(seconds, at + ahead_s + 1e-6)
            self.assertGreater(seconds, at + ahead_s - LATE_S)

    def test_it_is_the_walls(self) -> None:
        shown = self.play((6, "end", None))
        # On beyond the last frame, at 4 s; thirty a second.
        self.assert_goes(shown, 0)
        self.assertAlmostEqual(len(shown), 180, delta=2)

    def test_it_comes_round_where_asked(self) -> None:
        shown = self.play((6, "end", None), rounds=True)
        self.assert_goes([one for one in shown if one[0] < 4], 0)
        self.assert_goes([one for one in shown if one[0] > 4 + LATE_S], -4)

    def test_it_stands_still_when_frozen_and_goes_on_from_there(self) -> None:
        shown = self.play((1, "freeze", True), (1.7, "freeze", False), (3, "end", None))
        self.assert_goes([one for one in shown if one[0] <= 1], 0)
        self.assertEqual([at for at, _ in shown if 1 + LATE_S < at <= 1.7], [])
        self.assert_goes([one for one in shown if one[0] > 1.7], -0.7)

    def test_it_restarts_when_asked(self) -> None:
        shown = self.play((1, "again", None), (2, "end", None))
        self.assert_goes([one for one in shown if one[0] > 1 + TAKES_S], -1)

    def timecode(self, first: float, last: float, reports: Callable[[float], float]) -> list[tuple[float, str, Any]]:
        moments = [first + n / 25 for n in range(round((last - first) * 25) + 1)]
        return [(at, "arrive", [(TIMECODE, reports(at), BEGAN + at)]) for at in moments]

    def test_it_goes_with_a_timecode_jumps_and_stands_still(self) -> None:
        said = [
            *self.timecode(0.5, 2, lambda at: 3600 + 20 + at),
            *self.timecode(2.04, 4, lambda at: 3600 + 5 + at),
            *self.timecode(6, 6, lambda at: 3600 + 11),
        ]
        shown = self.play(*said, (8, "end", None))
        self.assert_goes([one for one in shown if one[0] <= 0.5], 0)
        self.assert_goes([one for one in shown if 0.5 + LATE_S < one[0] <= 2], 20)
        self.assert_goes([one for one in shown if 2.04 + LATE_S < one[0] <= 4.4], 5)
        # Nothing for 0.4 s: it pauses. A single message: it continues, for as long.
        self.assertEqual([at for at, _ in shown if 4.4 + LATE_S < at < 6], [])
        self.assert_goes([one for one in shown if one[0] > 6 + LATE_S], 5)
        self.assertLess(max(at for at, _ in shown), 6.4 + LATE_S)

    def test_a_timecode_a_little_apart_is_approached_unseen(self) -> None:
        shown = self.play(*self.timecode(0.5, 5.5, lambda at: at + 0.1), (6, "end", None))
        ahead = {at: seconds - at for at, seconds in shown}
        moments = sorted(ahead)
        # A thousandth of a second with each word, so that no step is seen; 0.1 s after a hundred of them.
        self.assertTrue(all(b - a > 0 for a, b in zip((s for _, s in shown), (s for _, s in shown[1:]), strict=False)))
        self.assertLess(ahead[min(moments, key=lambda at: abs(at - 2.5))], 0.06)
        self.assertGreater(max(ahead[at] for at in moments if at > 4.6), 0.09)


class Steps(unittest.TestCase):
    def drawn(self, quality: Quality, takes_s: float, by_size: bool, pictures: int = 200) -> tuple[float, int]:
        """The level that results when a full picture takes this long."""
        for _ in range(pictures):
            quality.drew(takes_s * (quality.share**2 if by_size else 1))
        return quality.share, quality.stride(60)

    def test_first_smaller_then_fewer(self) -> None:
        self.assertEqual(self.drawn(Quality(), 0.005, by_size=True), (1.0, 1))
        self.assertEqual(self.drawn(Quality(), 0.022, by_size=True), (1.0, 2))
        self.assertEqual(self.drawn(Quality(), 0.045, by_size=True), (0.75, 2))
        self.assertEqual(self.drawn(Quality(), 0.120, by_size=True), (0.42, 2))
        share, stride = self.drawn(Quality(), 0.400, by_size=True)
        self.assertLess(share, 1)
        self.assertGreater(stride, 2)
        # Where a smaller one is no quicker, it is not smaller: fewer.
        self.assertEqual(self.drawn(Quality(), 0.040, by_size=False), (1.0, 3))

    def test_it_comes_back(self) -> None:
        quality = Quality()
        self.drawn(quality, 0.150, by_size=True)
        # What was once too much is tried again after a while.
        with mock.patch("isbjorn.studio.shows.show_process._KNOWN_S", 0):
            self.drawn(quality, 0.005, by_size=True)
        self.assertEqual(self.drawn(quality, 0.005, by_size=True), (1.0, 1))


if __name__ == "__main__":
    unittest.main()
