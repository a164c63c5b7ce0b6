"""The worker as a separate process, and the checks of an installation."""

import os
import shutil
import signal
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from numba.core import event

from isbjorn.bench.run import bytes_per_particle, measure
from isbjorn.bench.shots import fountain
from isbjorn.core import Solver
from isbjorn.core.deliver import Delivery, Order
from isbjorn.core.warm_up import warm
from isbjorn.doctor import examine
from isbjorn.studio.storage.store import Store
from isbjorn.studio.storage.tables import DeliveryRow
from isbjorn.studio.worker import Worker
from tests.shots import one_emitter
from tests.waiting import until


class Process(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.store = Store(self.folder)
        self.addCleanup(self.store.engine.dispose)
        self.shot = one_emitter(width=128, height=72)
        project = self.store.create_project("P").id or 0
        self.shot_id = self.store.create_shot(project, self.shot).id or 0

    def order(self, frames: int) -> int:
        order = Order.model_validate({"first": 0, "last": frames - 1, "folder": str(self.folder / "out"), "name": "f"})
        with self.store.session() as session:
            row = DeliveryRow(
                shot_id=self.shot_id,
                shot_name="S",
                document=self.shot.model_dump_json(),
                order=order.model_dump_json(),
                total=frames,
            )
            session.add(row)
            session.flush()
            return row.id or 0

    def row(self, delivery: int) -> DeliveryRow:
        with self.store.session() as session:
            found = session.get(DeliveryRow, delivery)
            assert found is not None
            return found

    def start(self) -> subprocess.Popen[bytes]:
        command = [sys.executable, "-m", "isbjorn.studio.worker", str(self.folder), str(os.getpid())]
        worker = subprocess.Popen(command)
        self.addCleanup(worker.wait)
        self.addCleanup(worker.kill)
        return worker

    def wait_for(self, true: object, reported: str) -> None:
        until(true, reported)  # type: ignore[arg-type]

    def test_a_killed_worker_loses_no_frame_and_the_next_goes_on(self) -> None:
        delivery = self.order(150)
        worker = self.start()
        self.wait_for(lambda: self.row(delivery).done > 5, "nothing was made")
        worker.send_signal(signal.SIGKILL)
        worker.wait()
        files = {p.name: p.stat().st_mtime_ns for p in (self.folder / "out").glob("f.*.png")}
        done = self.row(delivery).done
        self.assertLess(done, 150)
        self.start()
        self.wait_for(lambda: self.row(delivery).state == "done", "it did not go on")
        made = sorted((self.folder / "out").glob("*.png"))
        self.assertEqual(len(made), 150)
        kept = [n for n, t in files.items() if (self.folder / "out" / n).stat().st_mtime_ns == t]
        self.assertGreaterEqual(len(kept), done, "finished frames were made again")
        # What was broken off and gone on with is what an undisturbed one makes, to the byte.
        order = Order.model_validate({"first": 0, "last": 149, "folder": str(self.folder / "calm"), "name": "f"})
        calm = Delivery(self.shot, order, processes=1).run()
        self.assertTrue([p.read_bytes() for p in calm] == [p.read_bytes() for p in made])

    def test_ends_of_the_studio_are_not_falls_of_the_worker(self) -> None:
        delivery = self.order(4)
        for first, fails in ((True, False), (False, True)):
            with self.store.session(write=True) as session:
                row = session.get(DeliveryRow, delivery)
                row.state, row.attempts = "working", 7
            Worker(self.folder, os.getppid(), first)._begin()
            self.assertEqual(self.row(delivery).state, "failed" if fails else "waiting")

    def test_two_workers_never_share_the_queue(self) -> None:
        first = self.start()
        delivery = self.order(20)
        self.wait_for(lambda: self.row(delivery).state == "done", "nothing was made")
        second = self.start()
        again = self.order(20)
        self.wait_for(lambda: self.row(again).state == "done", "nothing was made")
        self.assertIsNone(first.poll())
        self.assertIsNone(second.poll())


class Installation(unittest.TestCase):
    def test_the_doctor_finds_everything(self) -> None:
        found = {name: (fine, note) for name, fine, note in examine()}
        for name in ("Python", "Movies", "Pictures", "Colour", "Kernels"):
            self.assertTrue(found[name][0], found[name][1])

    def test_warming_a_second_time_compiles_nothing(self) -> None:
        compiled: list[str] = []

        class Count(event.Listener):
            def on_start(self, started: event.Event) -> None:
                compiled.append(started.data["dispatcher"].py_func.__name__)

            def on_end(self, ended: event.Event) -> None:
                pass

        warm()
        with event.install_listener("numba:compile", Count()):
            warm()
        self.assertEqual(compiled, [])

    def test_the_bench_measures_what_it_says(self) -> None:
        found = measure("machine")
        self.assertEqual(set(found), {"machine"})
        self.assertLessEqual(bytes_per_particle(), 96)
        alive = len(Solver(fountain(20_000, 3.0)).at(250))
        self.assertAlmostEqual(alive, 20_000, delta=200)


if __name__ == "__main__":
    unittest.main()
