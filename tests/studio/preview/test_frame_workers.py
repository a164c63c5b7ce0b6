"""Frames drawn in parallel, and played: a worker's frame equals the same frame drawn here, in time, and never without need."""

import asyncio
import gc
import os
import signal
import tempfile
import threading
import time
import unittest
from collections.abc import Callable, Coroutine
from concurrent.futures import Future
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path
from types import SimpleNamespace
from typing import Any
from unittest.mock import patch

from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError, Stale
from isbjorn.studio.pages import prefetch as ahead_module
from isbjorn.studio.pages.prefetch import FULL, LEVELS, SHUT_LEVELS, FrameCost, Level, Prefetch, levels_of
from isbjorn.studio.preview.frame_workers import FrameWorkers
from isbjorn.studio.preview.plates import StudioPlates
from isbjorn.studio.preview.preview import Figures, Preview, ShownPicture, Wish, digest_of
from isbjorn.studio.preview.scheduler import Scheduler
from isbjorn.studio.storage.store import Store
from tests.studio.in_studio import Looking
from tests.waiting import HANG_S, until

SHOT: dict[str, Any] = {
    "name": "Sparks", "width": 320, "height": 180, "last_frame": 49,
    "emitters": [{"id": "e", "rate": 300, "speed": 120}],
}  # fmt: skip


def shot(**more: Any) -> Shot:
    return Shot.model_validate({**SHOT, **more})


def pid() -> int:
    return os.getpid()


class Elsewhere(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.store = Store(cls.folder)
        scheduler = Scheduler()
        cls.addClassCleanup(scheduler.close)
        cls.frame_workers = FrameWorkers(cls.folder, scheduler, 2)
        cls.addClassCleanup(cls.frame_workers.close)

    def test_it_is_the_same_picture(self) -> None:
        given = shot()
        here = Preview(StudioPlates(self.store))
        ticket = self.frame_workers.ticket()
        wishes = [Wish(frame, 320, moving=True) for frame in (7, 30, 8)]
        there = [self.frame_workers.draw(given, digest_of(given), wish, ticket) for wish in wishes]
        for wish, future in zip(wishes, there, strict=True):
            drawn = here.draw(given, digest_of(given), wish)
            self.assertEqual(future.result(HANG_S).jpeg, drawn.jpeg)
            self.assertEqual(future.result().figures.alive, drawn.figures.alive)

    def test_unwanted_frames_are_cancelled(self) -> None:
        given, ticket = shot(), self.frame_workers.ticket()
        ticket.drop()
        with self.assertRaises(Stale):
            self.frame_workers.draw(given, digest_of(given), Wish(3, 320), ticket).result(HANG_S)
        self.frame_workers.draw(given, digest_of(given), Wish(3, 320), self.frame_workers.ticket()).result(HANG_S)

    def test_no_number_of_others_takes_a_ticket_over(self) -> None:
        given, plays = shot(), self.frame_workers.ticket()
        others = [self.frame_workers.ticket() for _ in range(300)]
        for ticket in (plays, others[0], others[-1]):
            self.frame_workers.draw(given, digest_of(given), Wish(3, 320), ticket).result(HANG_S)
        plays.drop()
        with self.assertRaises(Stale):
            self.frame_workers.draw(given, digest_of(given), Wish(3, 320), plays).result(HANG_S)

    def test_a_ticket_that_is_forgotten_leaves_its_flag_to_another(self) -> None:
        before = [self.frame_workers.ticket() for _ in range(200)]
        del before
        held = [self.frame_workers.ticket() for _ in range(200)]
        self.assertEqual(len({ticket.mark.slot for ticket in held}), 200)

    def test_a_picture_is_wanted_as_long_as_somebody_waits_for_it(self) -> None:
        given = shot(seed=8)
        wishes = [Wish(frame, 320) for frame in range(4)]
        drawn = [self.frame_workers.draw(given, digest_of(given), one, self.frame_workers.ticket()) for one in wishes]
        gc.collect()
        self.assertEqual([one.result(HANG_S).width for one in drawn], [320] * 4)

    def test_an_error_keeps_its_words(self) -> None:
        given = shot(plate={"media": "gone.mp4"})
        with self.assertRaises(IsbjornError) as caught:
            self.frame_workers.draw(given, digest_of(given), Wish(3, 320), self.frame_workers.ticket()).result(HANG_S)
        self.assertTrue(caught.exception.what and caught.exception.remedy)

    def test_when_one_is_killed_others_take_its_place(self) -> None:
        victim = self.frame_workers._submit(False, pid).result(HANG_S)
        os.kill(victim, signal.SIGKILL)
        given = shot(seed=5)

        def drawn() -> int:
            try:
                future = self.frame_workers.draw(given, digest_of(given), Wish(4, 320), self.frame_workers.ticket())
                return future.result(HANG_S).width
            except BrokenProcessPool:
                return 0

        self.assertEqual(until(drawn, "nobody draws any more"), 320)

    def test_they_end_with_the_studio(self) -> None:
        own = FrameWorkers(self.folder, self.frame_workers.scheduler, 1)
        one = own._submit(False, pid).result(HANG_S)
        own.close()
        until(lambda: not Path(f"/proc/{one}").exists(), "it did not end")


class Clock(asyncio.SelectorEventLoop):
    """A loop with a clock that jumps to the next due event: the result does not depend on the machine."""

    def __init__(self) -> None:
        super().__init__()
        self.now = 0.0
        selector: Any = self._selector  # type: ignore[attr-defined]
        wait = selector.select

        def select(timeout: float | None = None) -> Any:
            if timeout is not None and timeout > 0:
                self.now += timeout
            return wait(timeout if timeout is None else 0)

        selector.select = select

    def time(self) -> float:
        return self.now


class Slow:
    """Workers that take a known time for a frame, and draw one frame at a time each."""

    count = 2

    def __init__(self, seconds: float, cold: float = 0.0) -> None:
        self.seconds, self.asked, self.free = seconds, [], [0.0] * self.count
        self.cold = [cold] * self.count

    def ticket(self) -> Any:
        return type("Ticket", (), {"drop": lambda _: None})()

    def seen(self, wish: Wish) -> Level:
        """What a frame's time depends on."""
        return Level(wish.width / 320, wish.rough)

    def draw(self, given: Shot, digest: str, wish: Wish, ticket: Any, *_: Any) -> Future[ShownPicture]:
        future: Future[ShownPicture] = Future()
        self.asked.append(wish)
        loop = asyncio.get_running_loop()
        now = loop.time()
        hand = self.free.index(min(self.free))
        self.free[hand] = (
            max(now, self.free[hand]) + self.seconds * FrameCost().faster(FULL, self.seen(wish)) + self.cold[hand]
        )
        self.cold[hand] = 0.0
        figures = Figures(alive=0, drawn=0, specks=0, outside=0, clear=0, behind=0, refused={}, ms=1.0, memory_bytes=0)
        loop.call_later(self.free[hand] - now, future.set_result, ShownPicture(b"x", figures, wish.width, 180))
        return future


class InTime(unittest.TestCase):
    def setUp(self) -> None:
        self.store = Store(Path(self.enterContext(tempfile.TemporaryDirectory())))
        self.preview = Preview(StudioPlates(self.store))

    def run_in_time(self, work: Callable[[], Coroutine[Any, Any, None]]) -> None:
        with asyncio.Runner(loop_factory=Clock) as runner:
            clock = SimpleNamespace(perf_counter=runner.get_loop().time)
            with patch.object(ahead_module, "time", clock):
                runner.run(work())

    def ahead(self, seconds: float, last: int = 49, rate: float = 0.0, cold: float = 0.0) -> Prefetch:
        frame_workers: Any = Slow(seconds, cold)
        given = shot()
        return Prefetch(frame_workers, self.preview, given, digest_of(given), Wish(0, 320), (0, last), rate)

    def test_what_is_due_next_is_drawn_first_and_all_of_it_once(self) -> None:
        async def work() -> None:
            ahead = self.ahead(0.002, last=19)
            while ahead.pump(12):
                ahead.came.clear()
                await asyncio.wait_for(ahead.came.wait(), 5)
            asked: Any = ahead.frame_workers
            self.assertEqual([w.frame for w in asked.asked], [*range(12, 20), *range(12)])
            self.assertEqual(ahead.preview.computed(ahead.digest, ahead.wish), [(0, 19)])

        self.run_in_time(work)

    async def play(self, ahead: Prefetch, seconds: float) -> int:
        """Play; how many frames were there when they were due."""
        loop = asyncio.get_running_loop()
        begun, seen = loop.time(), set()
        while (now := loop.time() - begun) < seconds:
            frame = int(now * ahead.rate) % (ahead.last + 1)
            ahead.pump(frame, running=True)
            if ahead.known(frame):
                seen.add(int(now * ahead.rate))
            await asyncio.sleep(0.002)
        return len(seen)

    def test_in_full_where_that_is_fast_enough(self) -> None:
        async def work() -> None:
            ahead = self.ahead(0.03, rate=25)
            seen = await self.play(ahead, 2)
            self.assertEqual(ahead.level, FULL)
            self.assertGreater(seen, 45)

        self.run_in_time(work)

    def test_it_begins_at_the_level_that_a_frame_s_time_says(self) -> None:
        async def work() -> None:
            frame_workers: Any = Slow(0.12)
            given = shot()
            parts = (frame_workers, self.preview, given, digest_of(given), Wish(0, 320), (0, 49))
            self.assertEqual(Prefetch(*parts, 25, about=FrameCost(60)).level, FULL)
            ahead = Prefetch(*parts, 25, about=FrameCost(120))
            self.assertIn(ahead.level, LEVELS[1:])
            self.assertGreater(await self.play(ahead, 1.0), 17)
            # A page that only fills its range draws in full, however long that takes.
            self.assertEqual(Prefetch(*parts, about=FrameCost(120)).level, FULL)

        self.run_in_time(work)

    def test_what_does_not_shrink_with_the_picture_begins_lower(self) -> None:
        async def work() -> None:
            frame_workers: Any = Slow(0.12)
            given = shot()
            parts = (frame_workers, self.preview, given, digest_of(given), Wish(0, 320), (0, 49), 25)
            levels = [Prefetch(*parts, about=FrameCost(140, fixed)).level for fixed in (0.3, 0.4, 0.9)]
            self.assertEqual(levels, sorted(levels, key=SHUT_LEVELS.index))
            self.assertEqual(len(set(levels)), 3)
            # Where it may just do, no particles are left out: there is no way back to them.
            begun = {ms: Prefetch(*parts, about=FrameCost(ms, 0.3)).level.rough for ms in (260, 1200)}
            self.assertEqual(begun, {260: 0, 1200: 2})
            # Where there are so few that none would be left out, it is not said that some are.
            self.assertEqual(Prefetch(*parts, about=FrameCost(1200, 0.3), thins=False).level, Level(0.3))
            for shutter in (0, 180):
                levels = levels_of(shot(camera={"shutter": shutter}), thins=False)
                self.assertEqual({level.rough for level in levels}, {0, 1} if shutter else {0})
                self.assertEqual(min(level.size for level in levels), 0.3)

        self.run_in_time(work)

    def test_where_the_range_comes_round_is_begun_in_time(self) -> None:
        async def work() -> None:
            ahead = self.ahead(0.079, last=199, rate=25)
            begun = asyncio.get_running_loop().time()
            asked: Any = ahead.frame_workers
            while ahead.first not in {w.frame for w in asked.asked}:
                frame = 100 + int((asyncio.get_running_loop().time() - begun) * ahead.rate)
                self.assertLess(frame, 150, "it was not begun")
                ahead.pump(frame, running=True)
                await asyncio.sleep(0.002)
            self.assertGreater(frame, 130)

        self.run_in_time(work)

    def test_a_slow_first_frame_of_each_process_is_no_reason_to_play_smaller(self) -> None:
        async def work() -> None:
            ahead = self.ahead(0.03, rate=25, cold=0.7)
            await self.play(ahead, 3)
            self.assertEqual(ahead.level, FULL)

        self.run_in_time(work)

    def test_a_range_shorter_than_a_frame_takes_is_drawn_all_the_same(self) -> None:
        async def work() -> None:
            ahead = self.ahead(1.0, last=4, rate=25)
            await self.play(ahead, 20)
            self.assertEqual(ahead.preview.frames(ahead.digest, ahead.wish), set(range(5)))

        self.run_in_time(work)

    def test_smaller_where_it_is_not_and_in_full_when_there_is_time(self) -> None:
        async def work() -> None:
            ahead = self.ahead(0.12, rate=25)
            await self.play(ahead, 1.0)
            self.assertIn(ahead.level, LEVELS[1:])
            seen = await self.play(ahead, 4.0)
            self.assertGreater(seen, 85)
            # The range was played through smaller; what is idle then draws it in full.
            found = [ahead.known(frame) for frame in range(50)]
            self.assertTrue(any(f is not None and f[1] == FULL for f in found))

        self.run_in_time(work)

    def test_where_a_smaller_size_brings_nothing_the_shutter_is_closed_and_particles_are_left_out(self) -> None:
        class Crowded(Slow):
            def seen(self, wish: Wish) -> Level:
                return Level(1.0, wish.rough)

        async def work(closed: bool) -> Level:
            given = shot(camera={"shutter": 0} if closed else {"shutter": 180})
            frame_workers: Any = Crowded(0.11)
            ahead = Prefetch(frame_workers, self.preview, given, digest_of(given), Wish(0, 320), (0, 49), 25)
            await self.play(ahead, 1.9)
            return ahead.level

        for closed in (False, True):
            levels: list[Level] = []

            async def run(closed: bool = closed, levels: list[Level] = levels) -> None:
                levels.append(await work(closed))

            self.run_in_time(run)
            self.assertIn(levels[0], SHUT_LEVELS if closed else LEVELS)
            self.assertGreater(levels[0].rough, 0)
            self.assertNotEqual((closed, levels[0].rough), (True, 1))

    def test_what_cannot_come_in_time_is_not_begun(self) -> None:
        async def work() -> None:
            ahead = self.ahead(0.2, rate=25)
            await self.play(ahead, 2.0)
            asked: Any = ahead.frame_workers
            frames = [w.frame for w in asked.asked]
            self.assertGreater(max(b - a for a, b in zip(frames, frames[1:], strict=False)), 2)

        self.run_in_time(work)


class Played(Looking):
    def test_what_has_to_be_run_up_to_is_not_run_after(self) -> None:
        """Workers that step from their last frame, more slowly than playback: frames far ahead of them never arrive."""
        reached, lock, made = 0, threading.Lock(), []

        def draw(given: Shot, digest: str, wish: Wish, ticket: Any, *_: Any) -> Future[ShownPicture]:
            future: Future[ShownPicture] = Future()
            future.set_running_or_notify_cancel()

            def work() -> None:
                nonlocal reached
                with lock:
                    for _ in range(max(0, wish.frame - reached)):
                        if ticket.gone:
                            future.set_exception(Stale())
                            return
                        # Much longer than a picture takes on its way to the page.
                        time.sleep(0.25)
                    reached = max(reached, wish.frame)
                made.append(wish.frame)
                future.set_result(ShownPicture(jpeg, figures, 320, 180))

            threading.Thread(target=work, daemon=True).start()
            return future

        class Given:
            gone = False

            def drop(self) -> None:
                self.gone = True

        with self.looking() as socket:
            socket.send_json({"kind": "see", "frame": 0, "width": 320, "first": 0, "last": 49})
            self.picture(socket)
            shown = Preview(self.app.state.studio.plates).draw(shot(), "x", Wish(0, 320))
            jpeg, figures = shown.jpeg, shown.figures
            frame_workers = self.app.state.studio.frame_workers
            with patch.object(frame_workers, "draw", draw), patch.object(frame_workers, "ticket", Given):
                socket.send_json({"kind": "play", "frame": 0, "width": 320, "first": 0, "last": 49})
                frames: list[int] = []
                while reached < 16:
                    header, _ = self.picture(socket)
                    if header["playing"]:
                        frames.append(header["frame"])
                socket.send_json({"kind": "stop"})
        # More than a half of what was stepped in that time is seen, in its order.
        self.assertGreater(len(set(frames)), 0.5 * reached)
        self.assertEqual(frames[:20], sorted(frames[:20]))

    def test_it_plays_every_frame_in_order_and_says_how_large(self) -> None:
        with self.looking() as socket:
            socket.send_json({"kind": "see", "frame": 0, "width": 320, "first": 0, "last": 49})
            self.picture(socket)
            socket.send_json({"kind": "play", "frame": 0, "width": 320, "first": 0, "last": 49})
            headers = [self.picture(socket)[0] for _ in range(30)]
        frames = [h["frame"] for h in headers if h["playing"]]
        self.assertTrue(all((b - a) % 50 > 0 for a, b in zip(frames, frames[1:], strict=False)), frames)
        self.assertTrue(
            all(
                (h["reduced"], h["rough"]) in {*LEVELS, Level(0.3, 1)} and h["exact"] == (h["reduced"] == 1)
                for h in headers
            )
        )

    def test_an_edit_while_it_plays_is_seen(self) -> None:
        with self.looking() as socket:
            socket.send_json({"kind": "play", "frame": 0, "width": 320, "first": 0, "last": 49})
            self.picture(socket)
            self.assertEqual(self.edit("/seed", 77).status_code, 200)
            revision = self.client.get(f"/api/shots/{self.shot}").json()["revision"]
            while self.picture(socket)[0]["revision"] < revision:
                pass


if __name__ == "__main__":
    unittest.main()
