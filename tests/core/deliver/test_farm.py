"""A farm: a scheduler and workers of this machine, which speak as they would over a network."""

import contextlib
import itertools
import os
import shutil
import signal
import socket
import ssl
import subprocess
import sys
import tempfile
import threading
import unittest
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from unittest import mock

import cv2
import numpy as np

from isbjorn.core.deliver import Delivery, Order, named_order
from isbjorn.core.deliver.chunks import Job
from isbjorn.core.deliver.farm import client
from isbjorn.core.deliver.farm.checkpoint_transfer import CheckpointTransfer
from isbjorn.core.deliver.farm.client import Farm, WorkerCard, media_of
from isbjorn.core.deliver.farm.keys import make_key, security
from isbjorn.core.deliver.farm.worker import _store_checkpoint, engine_digest
from isbjorn.core.document import Shot
from isbjorn.core.document.files import parse_shot
from isbjorn.core.errors import IsbjornError, Stale
from isbjorn.core.frame import Solver
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.simulate.checkpoints import StateCache
from isbjorn.core.simulate.interactions.group import InteractionGroup
from isbjorn.core.simulate.shared_states import SharedCaches
from tests.core.media.test_media import still
from tests.shots import one_emitter
from tests.waiting import until


def free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


class Running:
    """A scheduler, and workers of one process each with a cache of their own, as the command line starts them."""

    _numbers = itertools.count()

    def __init__(self, folder: Path, key: str = "", scheme: str = "tcp") -> None:
        self.folder, self.key = folder, ["--key", key] if key else []
        self.address = f"{scheme}://127.0.0.1:{free_port()}"
        self.started: list[subprocess.Popen[bytes]] = []
        self.workers: dict[str, subprocess.Popen[bytes]] = {}
        self.scheduler()

    def scheduler(self) -> None:
        self.started.append(self._start("scheduler", "--address", self.address))
        until(self._answers, "the scheduler did not begin")

    def _answers(self) -> bool:
        port = int(self.address.rpartition(":")[2])
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port)):
            return True
        return False

    def _start(self, *words: str, **more: str) -> subprocess.Popen[bytes]:
        out = (self.folder / f"{words[0]}-{next(self._numbers)}.log").open("wb")
        command = [sys.executable, "-m", "isbjorn", *words, *self.key]
        with out:
            return subprocess.Popen(command, env=os.environ | more, stdout=out, stderr=out, start_new_session=True)

    def worker(self, name: str) -> None:
        cache = {"ISBJORN_WORKER_CACHE": str(self.folder / name)}
        words = ("worker", "--scheduler", self.address, "--name", name, "--processes", "1")
        self.workers[name] = self._start(*words, **cache)

    def kill(self, name: str) -> None:
        """As when its machine loses power: it and all that it began."""
        os.killpg(self.workers[name].pid, signal.SIGKILL)
        self.workers.pop(name).wait()

    def close(self) -> None:
        for one in (*self.workers.values(), *self.started):
            os.killpg(one.pid, signal.SIGKILL)
            one.wait()


class OnAFarm(unittest.TestCase):
    folder: Path
    running: Running
    farm: Farm

    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = Path(tempfile.mkdtemp())
        cls.addClassCleanup(shutil.rmtree, cls.folder, ignore_errors=True)
        cls.running = Running(cls.folder)
        cls.addClassCleanup(cls.running.close)
        for name in ("east", "west"):
            cls.running.worker(name)
        cls.farm = Farm(cls.running.address)
        cls.addClassCleanup(cls.farm.close)

    def setUp(self) -> None:
        self.farm.refused.clear()
        until(lambda: len(self.farm.workers()) == 2, "the workers did not come")
        still(self.folder / "plate.png", np.full((54, 96, 3), 90, np.uint8), "uint8")
        still(self.folder / "leaf.png", np.full((8, 8, 3), 200, np.uint8), "uint8")

    def shot(self, **more: object) -> Shot:
        body = {"kind": "picture", "media": str(self.folder / "leaf.png")}
        return one_emitter(
            width=128, height=72, plate={"media": str(self.folder / "plate.png")}, name=self.id().rpartition(".")[2][:100],
            emitter={"spread": 360, "rate": 300, "size": 9, "body": body, **more},
        )  # fmt: skip

    def delivery(self, shot: Shot, where: str, **more: object) -> Delivery:
        order = {"first": 0, "last": 59, "folder": str(self.folder / where), "name": "f", "sound": False, **more}
        return Delivery(shot, named_order(shot, Order.model_validate(order)), processes=1)

    def both(self, shot: Shot, **more: object) -> tuple[Delivery, list[bytes]]:
        """A delivery for the farm; and the expected files, made on this machine."""
        name = self.id().rpartition(".")[2]
        here = self.delivery(shot, f"{name} here", **more)
        there = self.delivery(shot, f"{name} there", **more)
        there.farm = self.farm
        return there, [p.read_bytes() for p in here.run()]

    def test_what_comes_back_is_what_would_be_made_here(self) -> None:
        for form in ("png8", "mp4", "usd"):
            with self.subTest(form):
                reported: list[int] = []
                one, wanted = self.both(self.shot(), format=form, name=f"f-{form}")
                one.on_progress = reported.append
                one.job = replace(one.job, thumb=self.folder / "thumbs" / f"{form}.jpg")
                made = one.run()
                if form != "usd":
                    self.assertTrue([p.read_bytes() for p in made] == wanted)
                    self.assertEqual(cv2.imread(str(self.folder / "thumbs" / f"{form}.jpg")).shape, (72, 128, 3))
                self.assertEqual((reported[0], reported[-1]), (0, 60))
                self.assertEqual(sorted(reported), reported)

    def test_media_are_sent_once_and_by_their_content(self) -> None:
        shot = self.shot(rate=120)
        self.assertEqual(len(media_of(shot, self.delivery(shot, "x").order)), 2)
        with mock.patch.object(self.farm, "send", wraps=self.farm.send) as sent:
            self.both(shot)[0].run()
            self.assertLessEqual(sent.call_count, 4)
            sent.reset_mock()
            again, _ = self.both(shot, name="g")
            again.run()
            self.assertEqual(sent.call_count, 0)
            # Another picture under the same name is another medium.
            still(self.folder / "plate.png", np.full((54, 96, 3), 140, np.uint8), "uint8")
            third, wanted = self.both(shot, name="h")
            self.assertTrue([p.read_bytes() for p in third.run()] == wanted)
            self.assertGreater(sent.call_count, 0)

    def test_a_worker_that_is_killed_loses_no_frame(self) -> None:
        shot = self.shot(rate=2000, size=30)
        one, wanted = self.both(shot)
        seen: list[WorkerCard] = []
        killed: list[str] = []

        def watch(cards: list[WorkerCard]) -> None:
            seen.extend(cards)
            if not killed and list((self.folder / one.order.folder).glob("f.*.png")):
                killed.append("west")
                self.running.kill("west")
                self.running.worker("west")

        one.on_workers = watch
        self.assertTrue([p.read_bytes() for p in one.run()] == wanted)
        self.assertEqual(killed, ["west"])
        self.assertTrue(any(frames.startswith("frames ") for card in seen for frames in card.doing))

    def test_a_worker_that_lost_its_disk_is_given_the_media_again(self) -> None:
        one, wanted = self.both(self.shot(rate=50))
        for name in ("east", "west"):
            shutil.rmtree(self.folder / name / "media", ignore_errors=True)
            for job in (self.folder / name).glob("job-*"):
                shutil.rmtree(job)
        self.assertTrue([p.read_bytes() for p in one.run()] == wanted)

    def test_a_worker_that_hangs_is_restarted(self) -> None:
        one, wanted = self.both(self.shot(rate=70))
        stopped: list[int] = []

        def watch(_: list[WorkerCard]) -> None:
            if not stopped:
                stopped.extend(self.farm.client.run(os.getpid).values())
                for process in stopped:
                    os.kill(process, signal.SIGSTOP)

        one.on_workers = watch
        with mock.patch.dict(os.environ, {"ISBJORN_FARM_PATIENCE_S": "5"}):
            self.assertTrue([p.read_bytes() for p in one.run()] == wanted)
        self.assertEqual(len(stopped), 2)
        self.assertFalse(set(stopped) & set(self.farm.client.run(os.getpid).values()))

    def test_another_engine_is_given_nothing(self) -> None:
        one, _ = self.both(self.shot(rate=60))
        with (
            mock.patch.object(client, "engine_digest", return_value="0" * 16),
            self.assertRaisesRegex(IsbjornError, "different version"),
        ):
            one.run()
        self.assertEqual(set(self.farm.refused.values()), {"its engine is a different version"})
        self.assertEqual({card.note for card in self.farm.workers()}, {"its engine is a different version"})
        self.assertEqual(len(engine_digest()), 16)

    def test_it_is_cancelled_when_no_longer_wanted(self) -> None:
        one = self.delivery(self.shot(rate=3000, size=40), "given up", last=5999)
        one.farm = self.farm
        asked = itertools.count()
        # After some questions, it answers that the result is no longer wanted.
        one.cancelled = lambda: next(asked) > 8
        with self.assertRaises(Stale):
            one.run()
        until(lambda: not any(card.doing for card in self.farm.workers()), "the workers went on")

    def test_errors_of_the_order_are_the_same_as_locally(self) -> None:
        shot = self.shot()
        one = self.delivery(shot, "gone")
        one.farm = self.farm
        (self.folder / "leaf.png").unlink()
        with self.assertRaisesRegex(IsbjornError, "leaf.png"):
            one.run()


class OfAScheduler(unittest.TestCase):
    """A scheduler that goes away in the middle."""

    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.running = Running(self.folder)
        self.addCleanup(self.running.close)
        self.running.worker("east")
        self.farm = Farm(self.running.address)
        self.addCleanup(self.farm.close)
        self.shot = one_emitter(width=128, height=72, emitter={"spread": 360, "rate": 2000, "size": 30})
        until(self.farm.workers, "the worker did not come")

    def delivery(self, name: str) -> Delivery:
        order = Order.model_validate(
            {"first": 0, "last": 119, "folder": str(self.folder / name), "name": "f", "sound": False}
        )
        return Delivery(self.shot, order, processes=1)

    def lost(self, one: Delivery, then: Callable[[], object]) -> list[bool]:
        """Kill the scheduler once files are there, and do something."""
        done: list[bool] = []

        def watch(_: list[WorkerCard]) -> None:
            if not done and list(Path(one.order.folder).glob("f.*.png")) + list(one.job.folder.glob("f.*.png")):
                done.append(True)
                os.killpg(self.running.started[0].pid, signal.SIGKILL)
                self.running.started.pop(0).wait()
                then()

        one.farm, one.on_workers = self.farm, watch
        return done

    def test_one_that_comes_back_loses_no_frame(self) -> None:
        wanted = [p.read_bytes() for p in self.delivery("here").run()]
        one = self.delivery("there")
        done = self.lost(one, self.running.scheduler)
        self.assertTrue([p.read_bytes() for p in one.run()] == wanted)
        self.assertEqual(done, [True])

    def test_a_connection_lost_just_before_a_chunk_is_sent_loses_no_frame(self) -> None:
        wanted = [p.read_bytes() for p in self.delivery("here").run()]
        one, closed = self.delivery("there"), list[bool]()

        def watch(_: list[WorkerCard]) -> None:
            if not closed:
                closed.append(True)
                self.farm.client.close()

        one.farm, one.on_workers = self.farm, watch
        self.assertTrue([p.read_bytes() for p in one.run()] == wanted)

    def test_a_lost_scheduler_is_reported_and_finished_files_stay(self) -> None:
        one = self.delivery("there")
        self.lost(one, lambda: None)
        with (
            mock.patch.dict(os.environ, {"ISBJORN_FARM_PATIENCE_S": "2"}),
            mock.patch.object(client, "_GONE_S", 2),
            self.assertRaisesRegex(IsbjornError, "scheduler was lost"),
        ):
            one.run()
        self.assertTrue(list(one.job.folder.glob("f.*.png")))
        # Without the farm it continues where it was.
        again = self.delivery("there")
        self.assertEqual(len(again.run()), 120)


class OfACrowd(unittest.TestCase):
    """Checkpoints of interacting emitters are sent with a chunk."""

    def test_a_part_begins_at_the_nearest_rung(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        shot = parse_shot({
            "width": 128, "height": 72, "last_frame": 99, "emitters": [{"id": "a", "rate": 300, "lifespan": 4}],
            "forces": [{"kind": "push", "id": "p"}], "links": [{"force": "p", "emitter": "a"}],
        })  # fmt: skip
        here, there = SharedCaches.within(folder / "here"), SharedCaches.within(folder / "there" / "states")
        wanted = Solver(shot, StateCache(shared_caches=here)).at(80)
        order = Order.model_validate({"first": 0, "last": 99, "folder": str(folder), "name": "f"})
        rungs = CheckpointTransfer(Job(shot, order, folder), PlateReader(), here)
        self.assertEqual(rungs.before(range(0, 6)), [])
        ((group, name, content),) = rungs.before(range(78, 84))
        at = int(name.partition("_")[0])
        self.assertTrue(120 <= at <= 77 / 25 * 60, at)
        _store_checkpoint(folder / "there", group, name, content)
        solver = Solver(shot, StateCache(shared_caches=there))
        found = solver.at(80)
        np.testing.assert_array_equal(found.position, wanted.position)
        crowd = solver.tracks[0].interaction_group
        assert isinstance(crowd, InteractionGroup)
        # It was not run up to from the first birth on.
        self.assertIsNone(crowd.checkpoints.nearest(crowd.motion, crowd.tag, at - 1)[1])
        # It has nothing to do with another document.
        other = parse_shot({**shot.model_dump(mode="json"), "seed": 9})
        self.assertEqual(CheckpointTransfer(Job(other, order, folder), PlateReader(), here).before(range(78, 84)), [])


class Keys(unittest.TestCase):
    def test_beyond_this_machine_a_key_is_asked_for(self) -> None:
        for address in ("tcp://10.0.0.5:8786", "tcp://0.0.0.0:8786", "farm.example:8786"):
            with self.assertRaisesRegex(IsbjornError, "farm-key"):
                security(address, None)
        self.assertIsNone(security("tcp://127.0.0.1:8786", ""))
        with self.assertRaisesRegex(IsbjornError, "does not exist"):
            security("tls://10.0.0.5:8786", "/nowhere.pem")
        with self.assertRaisesRegex(IsbjornError, "does not answer"), mock.patch.object(client, "_WAIT_S", 1):
            Farm(f"tcp://127.0.0.1:{free_port()}")

    def test_only_holders_of_the_key_may_enter(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            key = folder / "farm.pem"
            make_key(key)
            self.assertEqual(key.stat().st_mode & 0o777, 0o600)
            with self.assertRaisesRegex(IsbjornError, "already exists"):
                make_key(key)
            make_key(folder / "other.pem")
            running = Running(folder, str(key), "tls")
            self.addCleanup(running.close)
            running.worker("east")
            farm = Farm(running.address, key)
            until(farm.workers, "the worker did not come")
            shot = one_emitter(width=64, height=36)
            order = Order.model_validate({"first": 0, "last": 3, "folder": name, "name": "k"})
            made = Delivery(shot, order, PlateReader(), farm=farm).run()
            self.assertEqual(len(made), 4)
            farm.close()
            port = int(running.address.rpartition(":")[2])
            with mock.patch.object(client, "_WAIT_S", 2), self.assertRaisesRegex(IsbjornError, "does not answer"):
                Farm(running.address, folder / "other.pem")
            with socket.create_connection(("127.0.0.1", port)) as plain, self.assertRaises((ssl.SSLError, OSError)):
                context = ssl.create_default_context(cafile=str(key))
                context.check_hostname = False
                with context.wrap_socket(plain) as safe:
                    # Without a certificate it is refused, at the latest when it sends something.
                    safe.sendall(b"hello")
                    if not safe.recv(1):
                        raise OSError("closed")
            self.assertTrue(threading.active_count() < 100)


if __name__ == "__main__":
    unittest.main()
