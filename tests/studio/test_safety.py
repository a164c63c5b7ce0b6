"""What strangers may send, and what may happen to the machine: nothing freezes, nothing lies, nothing is lost."""

import io
import json
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
import unittest
import zipfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from unittest import mock

import numpy as np
import OpenImageIO as oiio

from isbjorn.core.errors import IsbjornError
from isbjorn.studio import packages
from isbjorn.studio.apart import apart
from isbjorn.studio.app import create_app
from isbjorn.studio.backups import back_up, backups, restore
from isbjorn.studio.store import Damaged, Store
from isbjorn.studio.tables import DeliveryRow, Media, Revision
from tests.shots import one_emitter
from tests.studio.in_studio import InStudio, Looking

SVG = b'<svg xmlns="http://www.w3.org/2000/svg">%s</svg>'


def zipped(head: object, **entries: bytes) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as target:
        target.writestr("project.json", json.dumps(head))
        for name, content in entries.items():
            target.writestr(name.replace("__", "/"), content)
    return out.getvalue()


def picture(path: Path, side: int = 8) -> None:
    out = oiio.ImageOutput.create(str(path))
    out.open(str(path), oiio.ImageSpec(side, side, 3, "uint8"))
    out.write_image(np.zeros((side, side, 3), np.uint8))
    out.close()


class Requests(InStudio):
    def test_nothing_that_is_sent_ends_in_a_5xx(self) -> None:
        shot, project = f"/api/shots/{self.shot}", f"/api/projects/{self.project}"
        name = {"changes": [{"op": "replace", "path": "/name", "value": "x"}]}
        cases = [
            ("GET", f"/api/shots/{2**63}", None), ("GET", "/api/shots/-1", None), ("GET", "/api/media/99/thumb", None),
            ("GET", f"{shot}/guides?frame={10**400}", None), ("GET", f"{shot}/frame?frame={2**62}&width=64", None),
            ("GET", f"{shot}/delivery-form?format=x", None), ("GET", f"{shot}/palette?frame=0&x0=0&y0=0&x1=0&y1=0", None),
            ("GET", f"{shot}/pick?frame=0&x=nan&y=inf", None), ("GET", "/api/emitters/kept-99999999999999999999/thumb", None),
            ("GET", "/api/nothing", None), ("PUT", "/api/health", None), ("GET", f"{shot}/lookout?frame=-{2**52}", None),
            ("PUT", f"/api/projects/{10**6}/media?name=a.png", b"x"), ("PUT", f"{project}/media?name=a%00.png", b"x"),
            ("PUT", f"{project}/media?name={'a' * 250}.png", b"x"), ("PUT", f"{project}/media?name=junk.exr", b"v/1\x01junk"),
            ("PUT", f"{project}/fonts?name=f.ttf", b"\x00\x01\x00\x00junk"), ("POST", "/api/folders", {"path": "/a\u0000b"}),
            ("POST", f"{project}/media/from-folder", {"path": "/" + "a" * 4000}),
            ("POST", f"{project}/shots/import", b"[" * 200_000), ("POST", "/api/emitters/import", b"{"),
            ("POST", f"{project}/shots/import", b'{"format": "isbjorn-shot", "seed": ' + b"9" * 5000 + b"}"),
            ("POST", f"{shot}/track/nobody/table", b"frame,x,y\n1e400,1,1"), ("POST", "/api/projects/import", b"PK no zip"),
            ("PATCH", shot, b'{"changes": ' + b"[" * 5000), ("PATCH", shot, b"\xff\xfe"),
            ("PATCH", shot, b'{"changes": [{"op": "replace", "path": "/name", "value": "\\ud800"}]}'),
            ("PATCH", shot, b'{"changes": [{"op": "replace", "path": "/\\ud800", "value": 1}]}'),
            ("PATCH", shot, b'{"changes": [{"op": "replace", "path": "/seed", "value": ' + b"9" * 5000 + b"}]}"),
            ("PATCH", shot, {**name, "frame": 2**62}), ("PATCH", f"/api/shots/{2**70}", name),
            ("POST", f"{shot}/deliveries", {"first": 0, "last": 8 * 10**16, "folder": "/tmp", "name": "x"}),
            ("POST", f"{shot}/deliveries", {"first": 0, "last": 1, "folder": "/tmp/a\u0000", "name": "x"}),
            ("GET", f"/api/bodies/picture?body={'[' * 9000}", None),
        ]  # fmt: skip
        for method, path, body in cases:
            with self.subTest(method=method, path=path[:80]):
                sent = {"content": body} if isinstance(body, bytes) else {"json": body} if body is not None else {}
                answer = self.client.request(method, path, **sent)  # type: ignore[arg-type]
                self.assertLess(answer.status_code, 500, answer.text)
                if answer.status_code >= 400:
                    self.assertEqual(set(answer.json()), {"what", "where", "remedy"}, answer.text)

    def test_a_number_without_end_is_refused_before_it_is_read(self) -> None:
        start = time.perf_counter()
        self.assertIn("frame rate", self.problem(self.edit("/rate", "1e999999999")))
        body = json.dumps({"format": "isbjorn-shot", "rate": "9" * 100_000}).encode()
        self.problem(self.client.post(f"/api/projects/{self.project}/shots/import", content=body))
        self.assertLess(time.perf_counter() - start, 5)

    def test_bodies_have_a_limit_whether_they_say_how_long_they_are_or_not(self) -> None:
        huge = b'{"name": "' + b"x" * (9 << 20) + b'"}'
        self.assertEqual(self.client.post("/api/projects", content=huge).status_code, 413)
        self.assertEqual(self.client.post("/api/projects", content=iter([huge])).status_code, 413)

    def test_another_site_may_ask_for_nothing(self) -> None:
        for site, status in (("cross-site", 403), ("same-site", 403), ("same-origin", 200), ("none", 200)):
            answer = self.client.get(f"/api/shots/{self.shot}", headers={"sec-fetch-site": site})
            self.assertEqual(answer.status_code, status, site)

    def test_every_answer_says_how_it_may_be_used(self) -> None:
        for path in ("/api/health", "/api/nothing", f"/api/shots/{self.shot}/thumb"):
            heads = self.client.get(path).headers
            self.assertEqual(heads["x-content-type-options"], "nosniff", path)
            self.assertIn("frame-ancestors 'none'", heads["content-security-policy"], path)

    def test_a_frame_beyond_the_shot_is_its_last_and_no_picture_is_boundless(self) -> None:
        def get(n: int) -> bytes:
            return self.client.get(f"/api/shots/{self.shot}/frame", params={"frame": n, "width": 64}).content

        self.assertEqual(get(10**6), get(49))
        self.edit("/height", 16_384)
        answer = self.client.get(f"/api/shots/{self.shot}/frame", params={"frame": 0, "width": 4096})
        self.assertEqual(answer.status_code, 200)
        self.assertEqual(self.client.get(f"/api/shots/{self.shot}/thumb").status_code, 200)

    def test_two_who_ask_for_letters_at_once_are_both_answered(self) -> None:
        def ask(n: int) -> int:
            body = json.dumps({"kind": "words", "text": f"Skarvøy {n}", "split": "words"})
            return self.client.get("/api/bodies/picture", params={"body": body, "side": 16 + n % 64}).status_code

        with ThreadPoolExecutor(8) as pool:
            self.assertEqual(set(pool.map(ask, range(160))), {200})


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


class Files(InStudio):
    def send(self, content: bytes) -> object:
        return self.client.post("/api/projects/import", content=content)

    def left(self) -> list[str]:
        folder = self.app.state.studio.store.folder
        return [
            p.name
            for p in folder.rglob("*")
            if p.is_file() and p.suffix not in (".sqlite", ".lock") and "sqlite" not in p.name
        ]

    def test_a_project_reads_nothing_outside_its_own(self) -> None:
        row = {
            "name": "x",
            "media": "../../../etc/hostname",
            "kind": "still",
            "frames": 1,
            "width": 1,
            "height": 1,
            "encoding": "srgb",
        }
        head = {"format": "isbjorn-project", "version": 1, "name": "P", "media": [row]}
        self.assertIn("leads out", self.problem(self.send(zipped(head))))
        for bad in ("/../x", "a/../../x", "a\\..\\x", "a\u0000b", "a" * 3000):
            self.problem(self.send(zipped({**head, "media": [{**row, "media": bad.lstrip("/")}]})))
        # Should one lie in the store all the same, it is not packed.
        studio = self.app.state.studio
        studio.store.add_media(Media(**{**row, "project_id": self.project}))
        self.assertIn("not lie in the library", self.problem(self.client.get(f"/api/projects/{self.project}/export")))
        self.assertEqual(self.left(), [])

    def test_a_link_out_of_the_library_is_followed_by_nobody(self) -> None:
        studio = self.app.state.studio
        outside = self.folder / "outside"
        outside.mkdir()
        picture(outside / "a.0001.png")
        picture(outside / "a.0002.png")
        home = studio.store.media_folder / "m00000001"
        home.mkdir()
        for n in (1, 2):
            (home / f"a.000{n}.png").symlink_to(outside / f"a.000{n}.png")
        for media in ("m00000001/a.0001.png", "m00000001/a.####.png"):
            with self.assertRaises(IsbjornError):
                studio.plates.probe(media)

    def test_a_movie_that_names_other_files_is_no_movie(self) -> None:
        secret = self.folder / "secret.mp4"
        secret.write_bytes(b"x")
        for content in (f"ffconcat version 1.0\nfile {secret}\n", f"#EXTM3U\n#EXTINF:1,\n{secret}\n"):
            answer = self.client.put(
                f"/api/projects/{self.project}/media", params={"name": "list.mp4"}, content=content.encode()
            )
            self.assertIn("not a movie", self.problem(answer))
        self.assertEqual(self.left(), [])

    def test_a_named_folder_can_be_withdrawn(self) -> None:
        there = self.folder / "plates"
        there.mkdir()
        picture(there / "a.png")
        folder = self.client.post("/api/folders", json={"path": str(there)}).json()
        use = {"path": str(there / "a.png")}
        self.assertEqual(self.client.post(f"/api/projects/{self.project}/media/from-folder", json=use).status_code, 201)
        self.assertEqual(self.client.delete(f"/api/folders/{folder['id']}").status_code, 204)
        self.problem(self.client.post(f"/api/projects/{self.project}/media/from-folder", json=use))
        self.problem(self.client.delete(f"/api/folders/{folder['id']}"), 404)

    def test_a_zip_that_swells_is_refused_and_leaves_nothing(self) -> None:
        head = {"format": "isbjorn-project", "version": 1, "name": "P", "media": []}
        start = time.perf_counter()
        self.problem(self.send(zipped(head, shots__001=b"", **{"shots__002.json": b" " * (300 << 20)})))
        with mock.patch.object(packages, "_MOST_ENTRIES", 50):
            many = {f"media__{n}": b"" for n in range(60)}
            self.assertIn("more than 50 files", self.problem(self.send(zipped(head, **many))))
        broken = zipped(head, **{"media__a.png": b"x" * 99, "shots__001.json": b"{}"})
        self.problem(self.send(broken))
        self.assertLess(time.perf_counter() - start, 20)
        self.assertEqual(self.left(), [])
        self.assertEqual(len(self.client.get("/api/projects").json()), 1)

    def test_a_drawing_that_takes_too_long_is_given_up_and_holds_nobody_up(self) -> None:
        bad = SVG % (b"<style>" + b"a{" * 50_000 + b"</style><path d='M0 0H9V9H0Z'/>")
        emitter = self.document()["emitters"][0]["id"]
        answers: list[float] = []
        with mock.patch(
            "isbjorn.studio.cast.apart", lambda call, *args, where: apart(call, *args, where=where, seconds=2)
        ):
            sending = threading.Thread(
                target=lambda: self.problem(self.client.post(f"/api/shots/{self.shot}/artwork/{emitter}", content=bad))
            )
            sending.start()
            while sending.is_alive():
                start = time.perf_counter()
                self.client.get("/api/health")
                answers.append(time.perf_counter() - start)
        self.assertGreater(len(answers), 20)
        self.assertLess(max(answers), 1.0)

    def test_intricate_outlines_are_cut_in_time_or_refused(self) -> None:
        emitter = self.document()["emitters"][0]["id"]
        n = 20_000
        d = "M0 0" + "".join(f"L{i} {(i * 7919) % 700}" for i in range(n)) + "Z"
        start = time.perf_counter()
        answer = self.client.post(
            f"/api/shots/{self.shot}/artwork/{emitter}", content=SVG % f"<path d='{d}'/>".encode()
        )
        self.assertLess(answer.status_code, 500)
        self.assertEqual(self.client.get(f"/api/shots/{self.shot}").status_code, 200)
        arcs = "M0 0" + "".join(f"A30 20 10 0 1 {i % 500} {(i * 91) % 700}" for i in range(4000))
        answer = self.edit("/emitters/0/shape", {"kind": "artwork", "paths": [arcs]})
        self.assertEqual(answer.status_code, 200)
        self.assertLess(time.perf_counter() - start, 30)

    def test_a_long_table_is_taken_in_time(self) -> None:
        marker = self.client.post(f"/api/shots/{self.shot}/cast", json={"kind": "marker"}).json()["document"][
            "markers"
        ][0]["id"]
        rows = "\n".join(
            f"{n},{100 + 50 * np.sin(n / 900):.3f},{90 + 20 * np.cos(n / 700):.3f}" for n in range(100_000)
        )
        start = time.perf_counter()
        answer = self.client.post(f"/api/shots/{self.shot}/track/{marker}/table", content=f"frame,x,y\n{rows}".encode())
        self.assertIn(answer.status_code, (200, 422), answer.text)
        self.assertLess(time.perf_counter() - start, 30)

    def test_leftovers_of_a_killed_studio_are_swept_at_start(self) -> None:
        store = self.app.state.studio.store
        (store.media_folder / ".0a1b-plate.mp4").write_bytes(b"cut short")
        for name in ("p0badc0de", "batch-abcd1234"):
            (store.media_folder / name).mkdir()
            (store.media_folder / name / "a.png").write_bytes(b"x")
        (store.folder / ".12-import.zip").write_bytes(b"x")
        self.app.state.studio.close_lock()
        again = create_app(store.folder, with_worker=False)
        self.assertEqual(self.left(), [])
        again.state.studio.close()


class Viewers(Looking):
    def test_messages_that_are_none_are_answered(self) -> None:
        with self.looking() as socket:
            socket.send_bytes(b"\x00\x01")
            self.assertEqual(socket.receive_json()["kind"], "problem")
            socket.send_json({"kind": "see", "frame": 0, "width": 64})
            self.assertEqual(socket.receive_json()["kind"], "fine")
            self.assertEqual(self.picture(socket)[0]["frame"], 0)
        for shot in (999, 2**70):
            with self.client.websocket_connect(f"/api/shots/{shot}/live", headers={"host": "127.0.0.1"}) as socket:
                self.assertIn("no", socket.receive_json()["what"])

    def test_who_looks_while_another_edits_without_a_pause_still_sees(self) -> None:
        self.edit("/emitters/0/rate/value", 4000)
        with self.looking() as socket:
            socket.send_json({"kind": "see", "frame": 20, "width": 320})
            self.picture(socket)
            ended = threading.Event()

            def edits() -> None:
                value = 0
                while not ended.is_set():
                    value += 1
                    self.edit("/emitters/0/speed/value", 60 + value % 50, gesture="drag")

            editing = threading.Thread(target=edits)
            editing.start()
            try:
                for _ in range(6):
                    self.picture(socket)
            finally:
                ended.set()
                editing.join()


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
        return subprocess.run(command, capture_output=True, text=True, timeout=60, check=False)

    def test_only_one_studio_works_in_a_folder(self) -> None:
        first = create_app(self.folder, with_worker=False)
        with self.assertRaises(IsbjornError) as caught:
            create_app(self.folder, with_worker=False)
        self.assertIn(str(os.getpid()), str(caught.exception))
        first.state.studio.close()
        create_app(self.folder, with_worker=False).state.studio.close()

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

    def setUp(self) -> None:
        super().setUp()
        self.client.__exit__(None, None, None)
        self.app = create_app(self.folder / "data", with_worker=True)
        from fastapi.testclient import TestClient

        self.client = TestClient(self.app, base_url="http://127.0.0.1").__enter__()

    def order(self, **more: object) -> int:
        body = {"first": 0, "last": 3, "folder": str(self.folder / "out"), "name": "f", "scale": 0.2, **more}
        return self.client.post(f"/api/shots/{self.shot}/deliveries", json=body).json()["id"]

    def until(self, delivery: int, *states: str) -> DeliveryRow:
        deadline = time.monotonic() + 90
        while time.monotonic() < deadline:
            with self.app.state.studio.store.session() as session:
                row = session.get(DeliveryRow, delivery)
            if row.state in states:
                return row
            time.sleep(0.05)
        raise AssertionError(f"still {row.state}")

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
            while self.until(poisoned, "working").attempts < attempt:
                time.sleep(0.02)
            for pid in self.workers():
                os.kill(pid, signal.SIGKILL)
        self.assertIn("3 times", self.until(poisoned, "failed", "done").problem or "done")
        self.assertEqual(self.until(self.order(name="after"), "done").done, 4)

    def test_what_nobody_foresaw_ends_one_delivery(self) -> None:
        store = self.app.state.studio.store
        bad, good = self.order(name="bad"), self.order(name="good")
        with store.session(write=True) as session:
            session.get(DeliveryRow, bad).document = "{}"
            session.get(DeliveryRow, bad).state = "waiting"
        self.assertIn(self.until(bad, "failed", "done").state, ("failed", "done"))
        self.until(good, "done")


if __name__ == "__main__":
    unittest.main()
