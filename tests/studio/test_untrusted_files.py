"""Untrusted files read nothing, swell nothing and hold nothing up."""

import io
import json
import struct
import threading
import unittest
import zipfile
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import OpenImageIO as oiio
import simplejpeg

from isbjorn.core.errors import IsbjornError
from isbjorn.studio.app import create_app
from isbjorn.studio.sandbox import apart
from isbjorn.studio.storage import packages
from isbjorn.studio.storage.tables import Media
from tests.studio.in_studio import InStudio
from tests.waiting import HANG_S, processor_s, until

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


class Files(InStudio):
    def send(self, content: bytes) -> object:
        return self.client.post("/api/projects/import", content=content)

    def left(self) -> list[str]:
        folder = self.app.state.studio.store.folder
        return [
            p.name
            for p in folder.rglob("*")
            # A copy of the store may just be made.
            if p.is_file()
            and p.suffix not in (".sqlite", ".lock")
            and "sqlite" not in p.name
            and p.parent.name != "backups"
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
        self.assertIn("points outside", self.problem(self.send(zipped(head))))
        for bad in ("/../x", "a/../../x", "a\\..\\x", "a\u0000b", "a" * 3000):
            self.problem(self.send(zipped({**head, "media": [{**row, "media": bad.lstrip("/")}]})))
        # If one is in the store all the same, it is not packed.
        studio = self.app.state.studio
        studio.store.add_media(Media(**{**row, "project_id": self.project}))
        self.assertIn("not in the library", self.problem(self.client.get(f"/api/projects/{self.project}/export")))
        self.assertEqual(self.left(), [])

    def test_no_link_out_of_the_library_is_followed(self) -> None:
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
            self.assertIn("cannot be read", self.problem(answer))
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
        start = processor_s()
        self.problem(self.send(zipped(head, shots__001=b"", **{"shots__002.json": b" " * (300 << 20)})))
        with mock.patch.object(packages, "_MOST_ENTRIES", 50):
            many = {f"media__{n}": b"" for n in range(60)}
            self.assertIn("more than 50 files", self.problem(self.send(zipped(head, **many))))
        broken = zipped(head, **{"media__a.png": b"x" * 99, "shots__001.json": b"{}"})
        self.problem(self.send(broken))
        self.assertLess(processor_s() - start, 20)
        self.assertEqual(self.left(), [])
        self.assertEqual(len(self.client.get("/api/projects").json()), 1)

    def test_a_drawing_that_takes_too_long_is_cancelled_and_blocks_nothing(self) -> None:
        bad = SVG % (b"<style>" + b"a{" * 50_000 + b"</style><path d='M0 0H9V9H0Z'/>")
        emitter = self.document()["emitters"][0]["id"]
        drawn, answered = threading.Event(), threading.Event()

        def held_apart(call: Any, *args: Any, where: str) -> Any:
            drawn.set()
            self.assertTrue(answered.wait(HANG_S), "nobody was answered while a drawing was read")
            return apart(call, *args, where=where, seconds=2)

        with mock.patch("isbjorn.studio.api.cast.apart", held_apart):
            sending = threading.Thread(
                target=lambda: self.problem(self.client.post(f"/api/shots/{self.shot}/artwork/{emitter}", content=bad))
            )
            sending.start()
            self.assertTrue(drawn.wait(HANG_S))
            self.assertEqual(self.client.get("/api/health").status_code, 200)
            answered.set()
            sending.join(HANG_S)
        self.assertFalse(sending.is_alive())

    def test_many_hostile_drawings_at_once_wait_or_are_sent_away(self) -> None:
        emitter = self.document()["emitters"][0]["id"]
        reading, most, lock = 0, 0, threading.Lock()
        go_on = threading.Event()

        def held_apart(call: Any, *args: Any, where: str) -> Any:
            nonlocal reading, most
            with lock:
                reading, most = reading + 1, max(most, reading + 1)
            self.assertTrue(go_on.wait(HANG_S))
            with lock:
                reading -= 1
            raise IsbjornError("importing this file exceeds the limit of time or memory.", where, "Simplify it.")

        answers: list[Any] = []

        def send() -> None:
            answers.append(self.client.post(f"/api/shots/{self.shot}/artwork/{emitter}", content=SVG % b""))

        with mock.patch("isbjorn.studio.api.cast.apart", held_apart):
            sending = [threading.Thread(target=send) for _ in range(40)]
            for one in sending:
                one.start()
            # Ten are read or wait; the others are answered while those are read, and so is everybody else.
            until(lambda: len(answers) == 30, "nobody was sent away")
            self.assertEqual(self.client.get("/api/health").status_code, 200)
            go_on.set()
            for one in sending:
                one.join(HANG_S)
        self.assertEqual(most, 2)
        statuses = [answer.status_code for answer in answers]
        self.assertEqual((statuses.count(503), statuses.count(422)), (30, 10))
        busy = next(answer for answer in answers if answer.status_code == 503)
        self.assertEqual(busy.headers["retry-after"], "2")

    def test_invalid_tables_are_reported(self) -> None:
        made = self.client.post(f"/api/shots/{self.shot}/cast", json={"kind": "marker"}).json()
        marker = made["document"]["markers"][0]["id"]
        url = f"/api/shots/{self.shot}/track/{marker}/table"
        for text in (
            "frame,x,y\n1," + "9" * 200_000 + ",2\n2,3,4", "frame,x,y\n1e300,1,2\n2,3,4", "frame,x,y\n1e18,1,2\n2,3,4",
            "frame,x,y\n1,1e308,2\n2,3,4",
        ):  # fmt: skip
            with self.subTest(text[:30]):
                self.assertIn("line 2", self.problem(self.client.post(url, content=text.encode())))
        # However its lines end.
        self.assertEqual(self.client.post(url, content=b"frame,x,y\r1,10,20\r5,30,40\r").status_code, 200)

    def test_a_shot_of_any_shape_is_drawn_no_larger_than_can_be_encoded(self) -> None:
        body = {"name": "Thin", "width": 16, "height": 16_384, "frames": 5}
        thin = self.client.post(f"/api/projects/{self.project}/shots", json=body).json()["id"]
        answer = self.client.get(f"/api/shots/{thin}/frame?frame=0&width=640")
        self.assertEqual(answer.status_code, 200, answer.text[:200])
        self.assertLessEqual(max(simplejpeg.decode_jpeg_header(answer.content)[:2]), 16_384)

    def test_a_project_s_media_are_looked_at_before_anything_is_kept(self) -> None:
        row = {
            "name": "a.png",
            "media": "a.png",
            "kind": "picture",
            "frames": 1,
            "width": 8,
            "height": 8,
            "encoding": "srgb",
        }
        head = {"format": "isbjorn-project", "version": 1, "name": "P"}
        for change, reported in (
            ({"frames": 2**70}, "frames"), ({"width": -1}, "width"), ({"media": "/etc/hostname"}, "outside the library"),
        ):  # fmt: skip
            with self.subTest(change):
                self.assertIn(reported, self.problem(self.send(zipped(head | {"media": [row | change]}))))
        swelling = zipped(head | {"media": []}, **{"media__a.exr": bytes(64 << 20)})
        self.assertLess(len(swelling), 1 << 20)
        self.assertIn("compression ratio", self.problem(self.send(swelling)))
        self.assertEqual(self.left(), [])

    def test_what_is_no_sound_is_refused(self) -> None:
        def wav(channels: int, rate: int, samples: bytes, kind: int = 1, bits: int = 16) -> bytes:
            each = channels * bits // 8
            head = b"fmt " + struct.pack("<IHHIIHH", 16, kind, channels, rate, rate * each, each, bits)
            data = head + b"data" + struct.pack("<I", len(samples)) + samples
            return b"RIFF" + struct.pack("<I", 4 + len(data)) + b"WAVE" + data

        nothing = np.full(4000, np.nan, np.float32).tobytes()
        for name, content in {
            "text.flac": b"a plain text\n" * 400, "none.wav": wav(0, 48_000, bytes(4000)), "slow.wav": wav(1, 1, bytes(4000)),
            "nan.wav": wav(1, 48_000, nothing, 3, 32), "empty.wav": wav(1, 48_000, b""),
        }.items():  # fmt: skip
            with self.subTest(name):
                answer = self.client.put(f"/api/projects/{self.project}/sounds?name={name}", content=content)
                reported = self.problem(answer)
                self.assertNotIn(str(self.folder), reported, "no folder of the machine")
        good = wav(1, 48_000, (np.sin(np.arange(9000) / 9) * 9000).astype("<i2").tobytes())
        self.assertEqual(
            self.client.put(f"/api/projects/{self.project}/sounds?name=a.wav", content=good).status_code, 201
        )

    def test_a_path_of_too_many_folders_is_refused(self) -> None:
        for path in ("/a" * 1500, "/a" * 300):
            self.assertIn("longer than", self.problem(self.client.post("/api/folders", json={"path": path})))

    def test_intricate_outlines_are_cut_in_time_or_refused(self) -> None:
        emitter = self.document()["emitters"][0]["id"]
        n = 20_000
        d = "M0 0" + "".join(f"L{i} {(i * 7919) % 700}" for i in range(n)) + "Z"
        start = processor_s()
        answer = self.client.post(
            f"/api/shots/{self.shot}/artwork/{emitter}", content=SVG % f"<path d='{d}'/>".encode()
        )
        self.assertLess(answer.status_code, 500)
        self.assertEqual(self.client.get(f"/api/shots/{self.shot}").status_code, 200)
        arcs = "M0 0" + "".join(f"A30 20 10 0 1 {i % 500} {(i * 91) % 700}" for i in range(4000))
        answer = self.edit("/emitters/0/shape", {"kind": "artwork", "paths": [arcs]})
        self.assertEqual(answer.status_code, 200)
        self.assertLess(processor_s() - start, 30)

    def test_a_long_table_is_taken_in_time(self) -> None:
        marker = self.client.post(f"/api/shots/{self.shot}/cast", json={"kind": "marker"}).json()["document"][
            "markers"
        ][0]["id"]
        rows = "\n".join(
            f"{n},{100 + 50 * np.sin(n / 900):.3f},{90 + 20 * np.cos(n / 700):.3f}" for n in range(100_000)
        )
        start = processor_s()
        answer = self.client.post(f"/api/shots/{self.shot}/track/{marker}/table", content=f"frame,x,y\n{rows}".encode())
        self.assertIn(answer.status_code, (200, 422), answer.text)
        self.assertLess(processor_s() - start, 30)

    def test_leftovers_of_a_killed_studio_are_swept_at_start(self) -> None:
        store = self.app.state.studio.store
        (store.media_folder / ".0a1b-plate.mp4").write_bytes(b"incomplete")
        for name in ("p0badc0de", "batch-abcd1234"):
            (store.media_folder / name).mkdir()
            (store.media_folder / name / "a.png").write_bytes(b"x")
        (store.folder / ".12-import.zip").write_bytes(b"x")
        self.app.state.studio.close_lock()
        again = create_app(store.folder, with_worker=False)
        self.assertEqual(self.left(), [])
        again.state.studio.close()


if __name__ == "__main__":
    unittest.main()
