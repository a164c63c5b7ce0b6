"""Stored data stays whole, whatever process is killed, and damaged data blocks nothing else."""

import json
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.external_files import digest_of, path_of
from isbjorn.studio.app import create_app
from isbjorn.studio.context import only_one
from isbjorn.studio.storage.backups import KEPT, back_up, backups, restore
from isbjorn.studio.storage.store import Damaged, Store
from isbjorn.studio.storage.tables import DeliveryRow, Revision
from tests.shots import one_emitter
from tests.studio.in_studio import InStudio
from tests.waiting import HANG_S, until


class Edits(InStudio):
    def test_a_name_that_no_disk_takes_is_refused_before_it_is_kept(self) -> None:
        self.assertIn("media", self.problem(self.edit("/plate", {"media": "a\u0000.png"})))
        for media in ("a" * 4000 + ".png", "../../../etc/passwd", "/etc/hostname"):
            answer = self.edit("/plate", {"media": media})
            self.assertEqual(answer.status_code, 200, answer.text)
            self.assertEqual(self.client.get(f"/api/shots/{self.shot}").status_code, 200)
            self.assertEqual(
                self.client.get(f"/api/shots/{self.shot}/frame", params={"frame": 0, "width": 64}).status_code, 422
            )
            self.assertEqual(self.client.post(f"/api/shots/{self.shot}/undo").json()["document"]["plate"], None)

    def test_a_damaged_document_closes_no_door(self) -> None:
        store = self.app.state.studio.store
        self.edit("/name", "Beacon again")
        with store.session(write=True) as session:
            row = session.get(Revision, 2)
            document = json.loads(row.document)
            document["emitters"][0]["blend"] = "sideways"
            row.document = json.dumps(document)
        store.engine.dispose()
        state = self.client.get(f"/api/shots/{self.shot}").json()
        self.assertIn("blend", " ".join(state["damage"]))
        self.assertEqual(len(state["document"]["emitters"]), 1)
        with store.session(write=True) as session:
            session.get(Revision, 2).document = "{ cut short"
        state = self.client.get(f"/api/shots/{self.shot}").json()
        self.assertIn("this is revision 1", " ".join(state["damage"]))
        with store.session(write=True) as session:
            session.get(Revision, 1).document = "gone"
        projects = self.client.get("/api/projects").json()
        self.assertIn("damaged", projects[0]["shots"][0]["problem"])
        self.problem(self.client.get(f"/api/shots/{self.shot}"))

    def test_two_at_once_lose_no_edit_and_share_no_revision(self) -> None:
        path = self.app.state.studio.store.folder
        others = [Store(path), Store(path)]

        def edit(n: int) -> None:
            with others[n % 2].edit(self.shot, f"Edit {n}") as box:
                box[0] = box[0].model_copy(update={"seed": box[0].seed + 1})

        with ThreadPoolExecutor(4) as pool:
            list(pool.map(edit, range(40)))
        self.assertEqual(others[0].document(self.shot).seed, 41)
        self.assertEqual(others[0].shot_row(self.shot).head, 41)
        for store in others:
            store.engine.dispose()


class OnDisk(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)

    def filled(self, shots: int = 3) -> None:
        store = Store(self.folder)
        project = store.create_project("P").id or 0
        for _ in range(shots):
            store.create_shot(project, one_emitter())
        store.engine.dispose()

    def run_cli(self, *args: str) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-m", "isbjorn", *args]
        return subprocess.run(command, capture_output=True, text=True, timeout=HANG_S, check=False)

    def test_only_one_studio_works_in_a_folder(self) -> None:
        first = create_app(self.folder, with_worker=False)
        with self.assertRaises(IsbjornError) as caught:
            create_app(self.folder, with_worker=False)
        self.assertIn(str(os.getpid()), str(caught.exception))
        first.state.studio.close()
        create_app(self.folder, with_worker=False).state.studio.close()

    def test_only_one_paints_the_demonstration(self) -> None:
        painting = only_one(self.folder)
        code = (
            "from pathlib import Path; from isbjorn.studio.setup.demonstration import *; "
            f"ensure_demo(Path({str(self.folder)!r}))"
        )
        other = subprocess.run(
            [sys.executable, "-c", code], capture_output=True, text=True, timeout=HANG_S, check=False
        )
        self.assertIn(f"another studio (process {os.getpid()}) uses this folder", other.stderr)
        os.close(painting)

    def test_a_damaged_store_is_said_and_a_backup_brings_it_back(self) -> None:
        self.filled()
        self.assertIsNone(back_up(self.folder))
        database = self.folder / "isbjorn.sqlite"
        for ending in ("-wal", "-shm"):
            (self.folder / f"isbjorn.sqlite{ending}").unlink(missing_ok=True)
        for content in (b"no database at all, but a text", database.read_bytes()[:6000]):
            database.write_bytes(content)
            with self.assertRaises(Damaged) as caught:
                store = Store(self.folder)
                store.projects()
            self.assertIn("--restore", str(caught.exception))
        self.assertIsNotNone(back_up(self.folder))
        self.assertEqual(len(backups(self.folder)), 1)
        restore(self.folder)
        again = Store(self.folder)
        self.assertEqual(len(again.shots(1)), 3)
        again.engine.dispose()
        self.assertTrue(list(self.folder.glob("damaged-*.sqlite")))

    def test_a_closed_studio_is_asked_for_no_file(self) -> None:
        """Recordings and sounds are looked for in every open store, and in none that is closed."""
        self.filled(1)
        studio = create_app(self.folder, with_worker=False).state.studio
        path = self.folder / "media" / "a.npz"
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(b"points")
        digest = digest_of(path)
        self.assertEqual(path_of("a.npz", digest), path)
        studio.close()
        with self.assertRaisesRegex(IsbjornError, "missing"):
            path_of("a.npz", digest)

    def test_backups_stay_in_order_when_the_clock_is_put_back(self) -> None:
        self.filled(1)
        future = self.folder / "backups" / "isbjorn-2999-12-31-235959.sqlite"
        future.parent.mkdir(exist_ok=True)
        for _ in range(KEPT):
            self.assertIsNone(back_up(self.folder))
        backups(self.folder)[0].replace(future)
        self.assertIsNone(back_up(self.folder))
        made = backups(self.folder)
        self.assertEqual(len(made), KEPT)
        self.assertEqual([path.name for path in made[-2:]], [future.name, "isbjorn-3000-01-01-000000.sqlite"])

    def test_the_command_line_says_what_is_wrong_in_a_line(self) -> None:
        self.filled(1)
        with sqlite3.connect(self.folder / "isbjorn.sqlite") as store:
            store.execute("UPDATE alembic_version SET version_num = '9999'")
        cases = {
            ("serve", "--data", str(self.folder), "--port", "8390"): "newer",
            ("serve", "--port", "70000"): "--port", ("serve", "--port", "0"): "--port",
        }  # fmt: skip
        for args, word in cases.items():
            done = self.run_cli(*args)
            self.assertNotEqual(done.returncode, 0)
            self.assertIn(word, done.stderr)
            self.assertNotIn("Traceback", done.stderr)


class Queue(InStudio):
    """The worker, as the studio keeps it."""

    with_worker = True

    def order(self, **more: object) -> int:
        body = {"first": 0, "last": 3, "folder": str(self.folder / "out"), "name": "f", "scale": 0.2, **more}
        return self.client.post(f"/api/shots/{self.shot}/deliveries", json=body).json()["id"]

    def until(self, delivery: int, *states: str) -> DeliveryRow:
        def reached() -> DeliveryRow | None:
            with self.app.state.studio.store.session() as session:
                row = session.get(DeliveryRow, delivery)
            return row if row.state in states else None

        return until(reached, f"it was never {' or '.join(states)}")

    def workers(self) -> list[int]:
        found = []
        for place in Path("/proc").glob("[0-9]*/cmdline"):
            try:
                if str(self.folder / "data").encode() in place.read_bytes() and b"worker" in place.read_bytes():
                    found.append(int(place.parent.name))
            except OSError:
                continue
        return found

    def test_a_killed_worker_is_started_again_and_a_poisoned_order_ends_alone(self) -> None:
        self.assertEqual(self.until(self.order(), "done").done, 4)
        poisoned = self.order(last=49, scale=4, name="long")
        for attempt in (1, 2, 3):
            until(lambda attempt=attempt: self.until(poisoned, "working").attempts >= attempt, "it was not tried again")
            for pid in self.workers():
                os.kill(pid, signal.SIGKILL)
        self.assertIn("3 times", self.until(poisoned, "failed", "done").problem or "done")
        self.assertEqual(self.until(self.order(name="after"), "done").done, 4)

    def test_an_unexpected_error_ends_one_delivery(self) -> None:
        store = self.app.state.studio.store
        bad, good = self.order(name="bad"), self.order(name="good")
        with store.session(write=True) as session:
            session.get(DeliveryRow, bad).document = "{}"
            session.get(DeliveryRow, bad).state = "waiting"
        self.assertIn(self.until(bad, "failed", "done").state, ("failed", "done"))
        self.until(good, "done")


if __name__ == "__main__":
    unittest.main()
