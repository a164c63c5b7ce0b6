"""The order in which pictures are drawn: by priority, evenly among viewers, background last, and nobody waits for ever."""

import threading
import unittest
from concurrent.futures import CancelledError, Future
from typing import Any

from isbjorn.core.errors import Stale
from isbjorn.studio.preview.scheduler import Priority, Scheduler
from tests.waiting import HANG_S


class Turns(unittest.TestCase):
    """A scheduler with one place whose tasks end when the test says so, and a clock that the test moves."""

    def setUp(self) -> None:
        self.now = 100.0
        self.scheduler = Scheduler(lambda: self.now)
        self.addCleanup(self.scheduler.close)
        self.started: list[str] = []
        self.ends: dict[str, Future[Any]] = {}

    def ask(self, name: str, priority: Priority, viewer: str = "") -> Future[Any]:
        def start() -> Future[Any]:
            self.started.append(name)
            self.ends[name] = Future()
            return self.ends[name]

        return self.scheduler.submit(priority, viewer or name, start, "workers")

    def finish(self, name: str) -> None:
        self.ends[name].set_result(name)

    def in_turn(self, count: int) -> list[str]:
        """Let so many tasks end, one after the other; all that have started."""
        for number in range(count):
            self.finish(self.started[number])
        return self.started

    def test_the_most_urgent_starts_first(self) -> None:
        self.ask("first", Priority.REST)
        for name, priority in (
            ("notes", Priority.LOOKOUT), ("rest", Priority.REST), ("drag", Priority.DRAG), ("play", Priority.PLAY),
        ):  # fmt: skip
            self.ask(name, priority)
        self.assertEqual(self.in_turn(4), ["first", "drag", "play", "rest"])
        self.now += 1
        self.scheduler.dispatch()
        self.assertEqual(self.started[-1], "notes")

    def test_viewers_of_one_priority_take_turns(self) -> None:
        self.ask("begun", Priority.REST, "c")
        for number in range(3):
            self.ask(f"a{number}", Priority.PLAY, "a")
        for number in range(3):
            self.ask(f"b{number}", Priority.PLAY, "b")
        self.assertEqual([name[0] for name in self.in_turn(6)[1:]], ["a", "b", "a", "b", "a", "b"])

    def test_of_what_is_drawn_ahead_the_page_in_front_comes_first(self) -> None:
        self.ask("begun", Priority.REST, "front")
        for number in range(2):
            self.ask(f"other{number}", Priority.AHEAD, "other")
            self.ask(f"front{number}", Priority.AHEAD, "front")
        self.assertEqual(self.in_turn(4)[1:], ["front0", "front1", "other0", "other1"])

    def test_nothing_in_the_background_starts_while_somebody_plays(self) -> None:
        self.ask("play", Priority.PLAY)
        filled = self.ask("ahead", Priority.AHEAD)
        self.finish("play")
        for _ in range(200):
            self.now += 0.1
            self.scheduler.touch()
            self.scheduler.dispatch()
        self.assertEqual(self.started, ["play"])
        self.now += 0.6
        self.scheduler.dispatch()
        self.assertEqual(self.started, ["play", "ahead"])
        self.finish("ahead")
        self.assertEqual(filled.result(HANG_S), "ahead")

    def test_notes_come_in_the_end_however_long_it_plays(self) -> None:
        self.scheduler.touch()
        self.ask("notes", Priority.LOOKOUT)
        for _ in range(99):
            self.now += 0.1
            self.scheduler.touch()
            self.scheduler.dispatch()
        self.assertEqual(self.started, [])
        self.now += 0.2
        self.scheduler.touch()
        self.scheduler.dispatch()
        self.assertEqual(self.started, ["notes"])

    def test_a_picture_at_rest_waits_no_longer_than_a_second_for_others(self) -> None:
        self.ask("p0", Priority.PLAY, "player")
        self.ask("rest", Priority.REST, "viewer")
        for number in range(1, 12):
            self.ask(f"p{number}", Priority.PLAY, "player")
        for number in range(4):
            self.now += 0.3
            self.finish(f"p{number}")
        self.assertEqual(self.started[:5], ["p0", "p1", "p2", "p3", "rest"])

    def test_what_is_cancelled_in_the_queue_never_starts(self) -> None:
        self.ask("first", Priority.PLAY)
        waiting = self.ask("second", Priority.PLAY)
        self.assertTrue(waiting.cancel())
        self.finish("first")
        self.assertEqual(self.started, ["first"])
        with self.assertRaises(CancelledError):
            waiting.result()

    def test_errors_arrive_and_the_next_one_starts(self) -> None:
        failing, fine = self.ask("failing", Priority.PLAY), self.ask("fine", Priority.PLAY)
        self.ends["failing"].set_exception(Stale())
        with self.assertRaises(Stale):
            failing.result(HANG_S)
        self.finish("fine")
        self.assertEqual(fine.result(HANG_S), "fine")

        def broken() -> Future[Any]:
            raise MemoryError

        with self.assertRaises(MemoryError):
            self.scheduler.submit(Priority.PLAY, "x", broken, "workers").result(HANG_S)
        last = self.ask("last", Priority.PLAY)
        self.finish("last")
        self.assertEqual(last.result(HANG_S), "last")

    def test_reports_say_what_waits_and_for_how_long_it_did(self) -> None:
        self.ask("first", Priority.PLAY)
        self.ask("second", Priority.PLAY)
        self.now += 0.25
        self.finish("first")
        found = {one.priority: one for one in self.scheduler.reports()}["play"]
        self.assertEqual((found.queued, found.running, found.done, found.longest_wait_s), (0, 1, 1, 0.25))

    def test_after_closing_nothing_starts(self) -> None:
        self.ask("first", Priority.PLAY)
        waiting = self.ask("second", Priority.PLAY)
        self.scheduler.close()
        self.finish("first")
        self.assertTrue(waiting.cancelled())
        self.assertTrue(self.ask("third", Priority.PLAY).cancelled())


class Threads(unittest.TestCase):
    def test_thumbnails_are_drawn_one_at_a_time(self) -> None:
        scheduler = Scheduler()
        self.addCleanup(scheduler.close)
        go, begun = threading.Event(), [threading.Event() for _ in range(2)]
        slow = [
            scheduler.draw(Priority.THUMBNAIL, n, lambda n=n: begun[n].set() or go.wait(HANG_S))  # type: ignore[misc]
            for n in range(2)
        ]
        self.assertTrue(begun[0].wait(HANG_S))
        self.assertFalse(begun[1].is_set())
        go.set()
        self.assertEqual([one.result(HANG_S) for one in slow], [True, True])
        self.assertTrue(begun[1].is_set())

    def test_background_tasks_leave_threads_to_others(self) -> None:
        scheduler = Scheduler()
        self.addCleanup(scheduler.close)
        go, begun = threading.Event(), [threading.Event() for _ in range(6)]

        def behind(number: int) -> int:
            begun[number].set()
            go.wait(HANG_S)
            return number

        slow = [scheduler.draw(Priority.LOOKOUT, n, lambda n=n: behind(n)) for n in range(6)]  # type: ignore[misc]
        self.assertTrue(begun[0].wait(HANG_S) and begun[1].wait(HANG_S))
        self.assertEqual(scheduler.draw(Priority.REST, "page", lambda: "picture").result(HANG_S), "picture")
        self.assertEqual([one.is_set() for one in begun], [True, True, False, False, False, False])
        go.set()
        self.assertEqual([one.result(HANG_S) for one in slow], list(range(6)))


if __name__ == "__main__":
    unittest.main()
