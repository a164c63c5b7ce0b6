"""The studio's answers: edits, media, packages, the live picture, and access."""

import io
import json
import threading
import unittest
import zipfile
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import simplejpeg
from starlette.websockets import WebSocketDisconnect

from tests.core.media.test_media import movie, still
from tests.studio.in_studio import InStudio, Looking


class Shots(InStudio):
    def test_a_new_shot_has_an_emitter_at_work(self) -> None:
        state = self.client.get(f"/api/shots/{self.shot}").json()
        self.assertEqual(len(state["document"]["emitters"]), 1)
        self.assertEqual(len(state["guides"]["emitters"][0]["flights"]), 40)

    def test_edit_undo_redo(self) -> None:
        self.assertEqual(self.edit("/emitters/0/rate/value", 7).json()["undo"], "Edit")
        self.client.post(f"/api/shots/{self.shot}/undo")
        self.assertEqual(self.document()["emitters"][0]["rate"]["value"], 160)
        self.assertEqual(
            self.client.post(f"/api/shots/{self.shot}/redo").json()["document"]["emitters"][0]["rate"]["value"], 7
        )

    def test_a_wrong_edit_names_its_field_and_changes_nothing(self) -> None:
        before = self.document()
        reported = self.problem(self.edit("/emitters/0/lifespan/value", -3))
        self.assertIn("emitters.0.lifespan", reported)
        self.problem(self.edit("/emitters/9/rate/value", 3))
        self.problem(self.edit("/width", 0))
        self.problem(self.edit("/last_frame", -1))
        self.problem(
            self.client.patch(
                f"/api/shots/{self.shot}",
                content=b'{"changes": [{"op": "replace", "path": "/emitters/0/rate/value", "value": NaN}]}',
            )
        )
        self.assertEqual(self.document(), before)

    def test_the_cast_grows_and_shrinks_with_its_reach(self) -> None:
        self.client.post(f"/api/shots/{self.shot}/cast", json={"kind": "drag"})
        state = self.client.post(f"/api/shots/{self.shot}/cast", json={"kind": "emitter"}).json()["document"]
        made = state["emitters"][1]["id"]
        self.assertEqual(len([x for x in state["links"] if x["emitter"] == made]), 3)
        copied = self.client.post(f"/api/shots/{self.shot}/cast", json={"kind": "emitter", "copy_of": made}).json()[
            "document"
        ]
        self.assertEqual(len({e["name"] for e in copied["emitters"]}), 3)
        self.assertEqual(len({e["seed"] for e in copied["emitters"]}), 3)
        left = self.client.delete(f"/api/shots/{self.shot}/cast/{made}").json()["document"]
        self.assertFalse([x for x in left["links"] if x["emitter"] == made])
        self.assertEqual(len(self.client.post(f"/api/shots/{self.shot}/undo").json()["document"]["emitters"]), 3)

    def test_a_deleted_shot_or_project_can_be_brought_back(self) -> None:
        self.client.delete(f"/api/shots/{self.shot}")
        self.assertEqual(self.client.get("/api/projects").json()[0]["shots"], [])
        self.client.post(f"/api/shots/{self.shot}/restore")
        self.client.delete(f"/api/projects/{self.project}")
        self.assertEqual(self.client.get("/api/projects").json(), [])
        self.client.post(f"/api/projects/{self.project}/restore")
        self.assertEqual(self.client.get("/api/projects").json()[0]["shots"][0]["name"], "Beacon")

    def test_shot_file_round_trip_is_exact(self) -> None:
        text = self.client.get(f"/api/shots/{self.shot}/export").content
        made = self.client.post(f"/api/projects/{self.project}/shots/import", content=text).json()["id"]
        self.assertEqual(self.client.get(f"/api/shots/{made}/export").content, text)

    def test_a_damaged_shot_file_names_the_field(self) -> None:
        given = json.loads(self.client.get(f"/api/shots/{self.shot}/export").content)
        given["emitters"][0]["speed"]["value"] = "fast"
        reported = self.problem(
            self.client.post(f"/api/projects/{self.project}/shots/import", content=json.dumps(given))
        )
        self.assertIn("emitters.0.speed.value", reported)

    def test_moving_thumbnails_are_twenty_frames(self) -> None:
        jpeg = self.client.get(f"/api/shots/{self.shot}/thumb").content
        self.assertEqual(simplejpeg.decode_jpeg(jpeg).shape, (180 * 20, 320, 3))

    def test_a_full_disk_is_said_and_nothing_is_lost(self) -> None:
        # SQLite's limit on the pages of a file simulates a full disk.
        with self.app.state.studio.store.engine.connect() as connection:
            pages = connection.exec_driver_sql("PRAGMA page_count").scalar()
            connection.exec_driver_sql(f"PRAGMA max_page_count = {pages}")
        before, reported = self.document(), ""
        for number in range(200):
            answer = self.edit("/name", f"Beacon {number}" * 8)
            if answer.status_code != 200:
                reported = self.problem(answer)
                break
            before = answer.json()["document"]
        self.assertIn("full", reported)
        self.assertEqual(self.document(), before)
        self.assertTrue(self.client.get("/api/health").json()["ready"])


class Library(InStudio):
    def put(self, path: Path, **query: str) -> Any:
        return self.client.put(
            f"/api/projects/{self.project}/media", params={"name": path.name, **query}, content=path.read_bytes()
        )

    def test_a_movie_is_taken_in_and_used(self) -> None:
        movie(self.folder / "pier.mp4", 30)
        media = self.put(self.folder / "pier.mp4").json()
        self.assertEqual((media["kind"], media["frames"], media["rate"]), ("movie", 30, "25"))
        self.client.patch(
            f"/api/shots/{self.shot}",
            json={"changes": [{"op": "replace", "path": "/plate", "value": {"media": media["media"]}}]},
        )
        self.assertEqual(self.client.get(f"/api/shots/{self.shot}/frame?frame=3&width=64").status_code, 200)
        self.assertEqual(self.client.get(f"/api/media/{media['id']}/thumb").headers["content-type"], "image/jpeg")
        grey = self.client.get(f"/api/shots/{self.shot}/pick?frame=10&x=5&y=5").json()["colour"]
        self.assertAlmostEqual(int(grey[1:3], 16), 40, delta=2)

    def test_several_pictures_become_a_sequence(self) -> None:
        for number in range(3):
            path = self.folder / f"x.{number:03d}.png"
            still(path, np.full((9, 16, 3), 90, np.uint8), "uint8")
            self.put(path, batch="abcd1234")
        media = self.client.post(f"/api/projects/{self.project}/media/batch/abcd1234").json()
        self.assertEqual((media["kind"], media["frames"], media["name"]), ("sequence", 3, "x.###.png"))

    def test_what_is_no_plate_is_refused_and_not_kept(self) -> None:
        fake = self.folder / "fake.mp4"
        fake.write_bytes(b"cannot be read" * 100)
        self.assertIn("fake.mp4", self.problem(self.put(fake)))
        script = self.folder / "run.sh"
        script.write_text("echo")
        self.problem(self.put(script))
        self.assertEqual(list((self.folder / "data" / "media").rglob("*.*")), [])

    def test_uploads_are_limited_in_size(self) -> None:
        large = self.folder / "large.png"
        large.write_bytes(b"x" * 5000)
        with mock.patch("isbjorn.studio.uploads.LARGEST_UPLOAD", 1000):
            self.assertIn("the limit is", self.problem(self.put(large)))

    def test_names_cannot_lead_out_of_the_library(self) -> None:
        still(self.folder / "x.png", np.zeros((4, 4, 3), np.uint8), "uint8")
        data = (self.folder / "x.png").read_bytes()
        media = self.client.put(
            f"/api/projects/{self.project}/media", params={"name": "../../../../out.png"}, content=data
        ).json()
        kept = (self.folder / "data" / "media" / media["media"]).resolve()
        self.assertTrue(kept.is_relative_to((self.folder / "data" / "media").resolve()))

    def test_only_named_folders_are_read(self) -> None:
        footage = self.folder / "footage"
        footage.mkdir()
        movie(footage / "a.mp4", 5)
        body = {"path": str(footage / "a.mp4")}
        self.assertIn(
            "Add its folder",
            self.problem(self.client.post(f"/api/projects/{self.project}/media/from-folder", json=body)),
        )
        self.edit("/plate", {"media": body["path"]})
        self.problem(self.client.get(f"/api/shots/{self.shot}/frame?frame=0&width=64"))
        folder = self.client.post("/api/folders", json={"path": str(footage)}).json()
        files = self.client.get(f"/api/folders/{folder['id']}/files").json()
        self.assertEqual([f["name"] for f in files], ["a.mp4"])
        self.assertEqual(
            self.client.post(f"/api/projects/{self.project}/media/from-folder", json=body).status_code, 201
        )
        self.assertEqual(self.client.get(f"/api/shots/{self.shot}/frame?frame=0&width=64").status_code, 200)
        self.problem(self.client.post("/api/folders", json={"path": "/no/such/folder"}))


class Packages(InStudio):
    def test_a_project_comes_back_with_its_media(self) -> None:
        movie(self.folder / "pier.mp4", 10)
        data = (self.folder / "pier.mp4").read_bytes()
        media = self.client.put(f"/api/projects/{self.project}/media", params={"name": "pier.mp4"}, content=data).json()
        self.edit("/plate", {"media": media["media"], "beyond": "loop"})
        zipped = self.client.get(f"/api/projects/{self.project}/export").content
        made = self.client.post("/api/projects/import", content=zipped).json()
        there, back = self.document(), self.client.get(f"/api/shots/{made['shots'][0]['id']}").json()["document"]
        self.assertTrue(back["plate"].pop("media").endswith(there["plate"].pop("media")))
        self.assertEqual(there, back)
        again = self.client.get(f"/api/media?project={made['id']}").status_code
        self.assertEqual(again, 404)
        self.assertEqual(
            self.client.get(f"/api/shots/{made['shots'][0]['id']}/frame?frame=2&width=64").status_code, 200
        )

    def test_damaged_foreign_and_wicked_zips_are_refused(self) -> None:
        def zipped(**files: str) -> bytes:
            out = io.BytesIO()
            with zipfile.ZipFile(out, "w") as z:
                for name, text in files.items():
                    z.writestr(name.replace("__", "/"), text)
            return out.getvalue()

        head = json.dumps({"format": "isbjorn-project", "version": 1, "name": "X", "media": []})
        cases = {
            "no zip": b"PK not a zip",
            "no project": zipped(a="1"),
            "bad shot": zipped(**{"project.json": head, "shots__001.json": "{"}),
            "points outside": zipped(**{"project.json": head, "media__..__..__..__evil.txt": "x"}),
        }
        for name, data in cases.items():
            with self.subTest(name):
                self.problem(self.client.post("/api/projects/import", content=data))
        self.assertEqual(len(self.client.get("/api/projects").json()), 1)
        self.assertEqual([p for p in (self.folder / "data" / "media").iterdir()], [])


class Doors(InStudio):
    def test_only_the_page_itself_may_ask(self) -> None:
        for head in ({"host": "evil.example"}, {"origin": "http://evil.example"}, {"origin": "null"}):
            self.assertEqual(self.client.get("/api/projects", headers=head).status_code, 403)
        self.assertEqual(self.client.get("/api/projects", headers={"origin": "http://127.0.0.1"}).status_code, 200)
        with (
            self.assertRaises(WebSocketDisconnect),
            self.client.websocket_connect(
                f"/api/shots/{self.shot}/live", headers={"host": "127.0.0.1", "origin": "http://evil.example"}
            ),
        ):
            pass

    def test_what_is_not_there_is_404(self) -> None:
        self.problem(self.client.get("/api/shots/999"), 404)
        self.problem(self.client.post("/api/deliveries/999/cancel"), 404)


class Watching(Looking):
    def test_the_picture_is_what_the_delivery_makes(self) -> None:
        with self.looking() as socket:
            socket.send_json({"kind": "see", "frame": 30, "width": 320})
            header, pixels = self.picture(socket)
        self.assertEqual((header["frame"], header["exact"], pixels.shape), (30, True, (180, 320, 3)))
        delivered = simplejpeg.decode_jpeg(self.client.get(f"/api/shots/{self.shot}/frame?frame=30&width=320").content)
        self.assertLess(np.abs(pixels.astype(int) - delivered).mean(), 1.0)

    def test_an_edit_shows_at_once_on_the_frame_that_is_looked_at(self) -> None:
        with self.looking() as socket:
            socket.send_json({"kind": "see", "frame": 30, "width": 320})
            before, dark = self.picture(socket)
            self.edit("/background", "#ffffff")
            after, light = self.picture(socket)
        self.assertEqual(after["revision"], before["revision"] + 1)
        self.assertGreater(light.mean(), dark.mean() + 100)

    def test_a_slow_page_never_queues_old_pictures(self) -> None:
        with self.looking() as socket:
            for frame in (0, 1):
                socket.send_json({"kind": "see", "frame": frame, "width": 64})
                self.picture(socket, confirm=False)
            # Two pictures are on their way: whatever is asked for now waits, and only the newest of it is made.
            for frame in range(2, 40):
                socket.send_json({"kind": "see", "frame": frame, "width": 64})
            for _ in range(2):
                socket.send_json({"kind": "shown"})
            last, _ = self.picture(socket)
            while last["frame"] != 39:
                last, _ = self.picture(socket)
            self.assertLess(last["serial"], 9)

    def test_playing_walks_through_the_frames_and_keeps_them(self) -> None:
        with self.looking() as socket:
            socket.send_json({"kind": "play", "frame": 0, "first": 0, "last": 9, "width": 64})
            seen = set()
            while len(seen) < 10:
                header, _ = self.picture(socket)
                seen.add(header["frame"])
            self.assertEqual(seen, set(range(10)))
            self.assertTrue(header["playing"])
            socket.send_json({"kind": "see", "frame": 4, "width": 64})
            while header["playing"] or header["frame"] != 4:
                header, _ = self.picture(socket)
            self.assertEqual(header["computed"], [[0, 9]])

    def test_a_plate_that_is_gone_is_said_and_the_page_stays_alive(self) -> None:
        self.edit("/plate", {"media": "gone/away.mp4"})
        with self.looking() as socket:
            socket.send_json({"kind": "see", "frame": 0, "width": 64})
            self.assertEqual(socket.receive_json()["kind"], "problem")
            socket.send_json({"kind": "nonsense"})
            self.assertEqual(socket.receive_json()["kind"], "problem")
            self.edit("/plate", None)
            self.assertEqual(socket.receive_json()["kind"], "fine")
            self.assertEqual(self.picture(socket)[0]["frame"], 0)

    def test_invalid_messages_are_reported_and_then_the_socket_is_closed(self) -> None:
        reads = mock.Mock(wraps=self.app.state.studio.store.shot_row)
        with self.looking() as socket, mock.patch.object(self.app.state.studio.store, "shot_row", reads):
            begun = reads.call_count
            with self.assertRaises(WebSocketDisconnect) as closed:
                for _ in range(1000):
                    socket.send_text("{")
                    self.assertEqual(socket.receive_json()["kind"], "problem")
            self.assertEqual(closed.exception.code, 1008)
            self.assertEqual(reads.call_count, begun, "a bad message asks nothing of the store")

    def test_an_edit_that_is_sent_again_is_made_once(self) -> None:
        emitter = {"id": "twin", "name": "Twin"}
        body = {"changes": [{"op": "add", "path": "/emitters/-", "value": emitter}], "gesture": "g1"}
        for again in (False, True, True):
            answer = self.client.patch(f"/api/shots/{self.shot}", json={**body, "again": again})
            self.assertEqual(answer.status_code, 200, answer.text)
        self.assertEqual([e["id"] for e in self.document()["emitters"]].count("twin"), 1)

    def test_many_requests_at_once_do_not_disturb_the_engine(self) -> None:
        url = f"/api/shots/{self.shot}/frame?frame=20&width=160"
        expected, wrong = self.client.get(url).content, []

        def ask() -> None:
            for _ in range(4):
                if self.client.get(url).content != expected:
                    wrong.append(1)

        threads = [threading.Thread(target=ask) for _ in range(6)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(wrong, [])


if __name__ == "__main__":
    unittest.main()
