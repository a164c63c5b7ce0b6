"""The store: every acknowledged edit is on the disk, undo covers every edit and survives."""

import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import unittest
import urllib.error
import urllib.request
from pathlib import Path

from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlmodel import SQLModel

from isbjorn.core import IsbjornError
from isbjorn.studio.storage.store import Missing, Store
from tests.shots import one_emitter
from tests.waiting import HANG_S, until


class InStore(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)
        self.store = Store(self.folder)
        self.addCleanup(self.store.engine.dispose)
        project = self.store.create_project("Skarvøy Lights")
        self.shot = self.store.create_shot(project.id or 0, one_emitter(name="Beacon")).id or 0

    def rename(self, name: str, gesture: str | None = None) -> None:
        with self.store.edit(self.shot, f"Rename to {name}", gesture) as box:
            box[0] = box[0].model_copy(update={"name": name})

    def name(self) -> str:
        return self.store.document(self.shot).name


class Revisions(InStore):
    def test_undo_and_redo_walk_through_every_edit(self) -> None:
        for name in ("A", "B", "C"):
            self.rename(name)
        seen = []
        for by in (-1, -1, -1, -1, 1, 1, 1, 1):
            self.store.step(self.shot, by)
            seen.append(self.name())
        self.assertEqual(seen, ["B", "A", "Beacon", "Beacon", "A", "B", "C", "C"])

    def test_a_drag_is_one_step(self) -> None:
        for name in ("A", "AB", "ABC"):
            self.rename(name, "drag-1")
        self.rename("D", "drag-2")
        self.store.step(self.shot, -1)
        self.assertEqual(self.name(), "ABC")
        self.store.step(self.shot, -1)
        self.assertEqual(self.name(), "Beacon")

    def test_an_edit_after_undo_drops_what_was_undone(self) -> None:
        self.rename("A")
        self.store.step(self.shot, -1)
        self.rename("B")
        self.store.step(self.shot, 1)
        self.assertEqual(self.name(), "B")
        self.assertEqual(self.store.standing(self.shot)[1:3], ("Rename to B", None))

    def test_history_survives_a_restart(self) -> None:
        self.rename("A")
        self.rename("B")
        self.store.engine.dispose()
        again = Store(self.folder)
        self.addCleanup(again.engine.dispose)
        again.step(self.shot, -1)
        self.assertEqual(again.document(self.shot).name, "A")

    def test_an_edit_that_changes_nothing_is_no_step(self) -> None:
        self.rename("Beacon")
        self.assertEqual(self.store.shot_row(self.shot).head, 1)

    def test_an_edit_that_fails_changes_nothing(self) -> None:
        with self.assertRaises(RuntimeError), self.store.edit(self.shot, "Broken") as box:
            box[0] = box[0].model_copy(update={"name": "Broken"})
            raise RuntimeError
        self.assertEqual(self.name(), "Beacon")

    def test_what_is_not_there_is_said(self) -> None:
        with self.assertRaises(Missing):
            self.store.document(999)


class Tables(InStore):
    def test_migrations_lead_to_the_tables_of_the_code(self) -> None:
        with self.store.engine.connect() as connection:
            context = MigrationContext.configure(connection, opts={"compare_type": False})
            differences = [d for d in compare_metadata(context, SQLModel.metadata) if "index" not in str(d[0])]
        self.assertEqual(differences, [])

    def test_an_edit_is_synced_before_it_is_acknowledged(self) -> None:
        with self.store.engine.connect() as connection:
            self.assertEqual(connection.exec_driver_sql("PRAGMA journal_mode").scalar(), "wal")
            self.assertEqual(connection.exec_driver_sql("PRAGMA synchronous").scalar(), 2)

    def test_a_folder_that_cannot_be_made_is_named(self) -> None:
        (self.folder / "file").write_text("")
        with self.assertRaises(IsbjornError) as caught:
            Store(self.folder / "file" / "below")
        self.assertIn("--data", str(caught.exception))


class Killed(unittest.TestCase):
    def test_every_acknowledged_edit_survives_a_killed_server(self) -> None:
        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        address = f"http://127.0.0.1:{port}"

        def start() -> subprocess.Popen[bytes]:
            environment = {**os.environ, "ISBJORN_PORT": str(port), "ISBJORN_DATA": str(folder)}
            server = subprocess.Popen(
                [sys.executable, "-m", "isbjorn", "serve"], env=environment, stdout=subprocess.DEVNULL
            )

            def answers() -> bool:
                try:
                    return bool(urllib.request.urlopen(f"{address}/api/health", timeout=10))
                except (urllib.error.URLError, OSError):
                    return False

            until(answers, "the server did not start")
            return server

        def ask(method: str, path: str, body: object = None) -> dict:
            data = None if body is None else json.dumps(body).encode()
            request = urllib.request.Request(address + path, data, {"content-type": "application/json"}, method=method)
            with urllib.request.urlopen(request) as answer:
                return json.load(answer)

        server = start()
        project = ask("POST", "/api/projects", {"name": "P"})["id"]
        shot = ask("POST", f"/api/projects/{project}/shots", {"name": "S"})["id"]
        acknowledged = 0
        for value in range(1, 26):
            change = {"op": "replace", "path": "/emitters/0/rate/value", "value": value}
            ask("PATCH", f"/api/shots/{shot}", {"changes": [change], "gesture": "g" if value > 20 else None})
            acknowledged = value
        os.kill(server.pid, signal.SIGKILL)
        server.wait()
        server = start()
        try:
            state = ask("GET", f"/api/shots/{shot}")
            self.assertEqual(state["document"]["emitters"][0]["rate"]["value"], acknowledged)
            self.assertEqual(ask("POST", f"/api/shots/{shot}/undo")["document"]["emitters"][0]["rate"]["value"], 20)
        finally:
            server.terminate()
            server.wait(HANG_S)


if __name__ == "__main__":
    unittest.main()
