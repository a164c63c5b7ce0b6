"""Bodies by their pictures, fonts, portraits, what is taken from the plate, versions, tracks and the Lookout, over the API."""

import json
import unittest
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import simplejpeg

from isbjorn.core.evaluate.geometry.glyphs import FONT
from tests.studio.in_studio import InStudio


class WithPlate(InStudio):
    """A plate of 12 frames with a mark that moves by 6 px to the right in each."""

    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(5)
        ground = cv2.GaussianBlur(rng.integers(20, 110, (180, 320, 3)).astype(np.float32), (0, 0), 2)
        ground[:, :40] = (20, 40, 160)
        mark = cv2.resize(rng.integers(0, 255, (8, 8, 3)).astype(np.float32), (32, 32), interpolation=cv2.INTER_CUBIC)
        folder = self.folder / "data" / "media" / "mark"
        folder.mkdir(parents=True)
        for frame in range(12):
            picture = ground.copy()
            x = 100 + 6 * frame
            picture[74:106, x - 16 : x + 16] = mark
            cv2.imwrite(str(folder / f"p.{frame:02d}.png"), np.clip(picture, 0, 255).astype(np.uint8))
        self.edit("/plate", {"media": "mark/p.##.png", "name": "Mark"})
        self.edit("/last_frame", 11)


class Bodies(InStudio):
    def picture(self, body: Any, **more: Any) -> np.ndarray:
        answer = self.client.get("/api/bodies/picture", params={"body": json.dumps(body), **more})
        self.assertEqual(answer.status_code, 200, answer.text)
        return simplejpeg.decode_jpeg(answer.content)

    def test_skins_are_chosen_by_their_pictures(self) -> None:
        skins = self.client.get("/api/skins").json()
        self.assertGreaterEqual({one["name"] for one in skins}, {"Milk", "Metal", "Water", "Glass"})
        pictures = [
            simplejpeg.decode_jpeg(self.client.get(f"/api/skins/{one['name']}/picture").content).astype(int)
            for one in skins
        ]
        for i, one in enumerate(pictures):
            for other in pictures[:i]:
                self.assertGreater(np.abs(one - other).mean(), 3)
        # What is chosen is a part of the document.
        self.edit("/emitters/0/skin", skins[1]["skin"])
        self.assertEqual(self.client.get("/api/skins/Wool/picture").status_code, 422)

    def test_every_kind_has_a_picture_of_its_own(self) -> None:
        kinds = self.client.get("/api/bodies").json()
        self.assertEqual(len(kinds), 15)
        pictures = [self.picture(k["body"], side=64).astype(int) for k in kinds if k["kind"] != "picture"]
        for i, one in enumerate(pictures):
            self.assertGreater(np.ptp(one), 100, kinds[i]["kind"])
            for other in pictures[:i]:
                self.assertGreater(np.abs(one - other).mean(), 2)

    def test_a_picture_follows_the_bodys_numbers(self) -> None:
        thin, thick = (self.picture({"kind": "ring", "width": w}).sum() for w in (8, 70))
        self.assertGreater(thick, 1.5 * thin)

    def test_a_picture_is_asked_for_again_only_if_it_may_have_changed(self) -> None:
        folder = self.folder / "data" / "media" / "leaf"
        folder.mkdir(parents=True)
        cv2.imwrite(str(folder / "leaf.png"), np.full((8, 8, 3), 200, np.uint8))
        for body, kept in (
            ({"kind": "star"}, "private, max-age=60"), ({"kind": "picture", "media": "leaf/leaf.png"}, "no-cache"),
        ):  # fmt: skip
            answer = self.client.get("/api/bodies/picture", params={"body": json.dumps(body)})
            self.assertEqual((answer.status_code, answer.headers["cache-control"]), (200, kept))

    def test_what_is_no_body_is_said(self) -> None:
        for body, word in (("{", "JSON"), ('{"kind": "cube"}', "cube"), ('{"kind": "star", "points": 900}', "24")):
            self.assertIn(word, self.problem(self.client.get("/api/bodies/picture", params={"body": body})))
        self.assertIn("gone.ttf", self.problem(
            self.client.get("/api/bodies/picture", params={"body": '{"kind": "words", "font": "gone.ttf"}'})
        ))  # fmt: skip

    def test_a_font_is_taken_in_and_a_broken_one_leaves_nothing_behind(self) -> None:
        url = f"/api/projects/{self.project}/fonts"
        made = self.client.put(url, params={"name": "Harbour.ttf"}, content=FONT.read_bytes())
        self.assertEqual(made.status_code, 201, made.text)
        self.assertEqual(made.json()["kind"], "font")
        self.edit("/emitters/0/body", {"kind": "words", "text": "Q", "font": made.json()["media"]})
        self.assertEqual(self.client.get(f"/api/shots/{self.shot}/frame?frame=9&width=64").status_code, 200)
        before = sorted(Path(self.folder / "data" / "media").rglob("*"))
        self.assertIn(
            "Broken.otf", self.problem(self.client.put(url, params={"name": "Broken.otf"}, content=b"OTTO" + bytes(99)))
        )
        self.assertIn("ttf", self.problem(self.client.put(url, params={"name": "x.exe"}, content=b"MZ")))
        self.assertEqual(sorted(Path(self.folder / "data" / "media").rglob("*")), before)

    def test_a_portrait_has_a_square_for_each_age(self) -> None:
        url = f"/api/shots/{self.shot}/emitters/emitter/portrait"
        picture = simplejpeg.decode_jpeg(self.client.get(url, params={"frame": 5, "count": 9, "cell": 32}).content)
        self.assertEqual(picture.shape, (32, 288, 3))
        self.assertGreater(np.ptp(picture.astype(int)), 80)
        gone = self.client.get(f"/api/shots/{self.shot}/emitters/nobody/portrait?frame=1")
        self.assertEqual((gone.status_code, gone.content), (204, b""))


class Packed(WithPlate):
    def test_a_project_takes_its_bodies_fonts_and_mattes_along(self) -> None:
        picture = cv2.imencode(".png", np.full((8, 8, 4), 200, np.uint8))[1].tobytes()
        base = f"/api/projects/{self.project}"
        leaf = self.client.put(f"{base}/media", params={"name": "leaf.png"}, content=picture).json()["media"]
        font = self.client.put(f"{base}/fonts", params={"name": "Harbour.ttf"}, content=FONT.read_bytes()).json()[
            "media"
        ]
        self.edit("/emitters/0/body", {"kind": "picture", "media": leaf})
        self.edit("/emitters/0/mixed", [{"kind": "words", "font": font}])
        self.edit("/mattes", [{"id": "m", "kind": "file", "media": leaf}])
        self.edit("/plate", None)
        self.client.post(f"/api/shots/{self.shot}/versions", json={"name": "calm"})
        zipped = self.client.get(f"{base}/export").content
        made = self.client.post("/api/projects/import", content=zipped).json()
        shot = next(s for s in self.client.get("/api/projects").json() if s["id"] == made["id"])["shots"][0]["id"]
        document = self.client.get(f"/api/shots/{shot}").json()["document"]
        emitter = document["emitters"][0]
        for media, old in (
            (emitter["body"]["media"], leaf), (emitter["mixed"][0]["font"], font), (document["mattes"][0]["media"], leaf),
        ):  # fmt: skip
            self.assertNotEqual(media, old)
            self.assertTrue((self.folder / "data" / "media" / media).is_file())
        frame = self.client.get(f"/api/shots/{shot}/frame?frame=9&width=64")
        self.assertEqual(frame.status_code, 200, frame.text)
        version = self.client.get(f"/api/shots/{shot}/versions").json()
        self.assertEqual([(v["name"], v["differences"]) for v in version], [("calm", [])], "versions come along")


class FromThePlate(WithPlate):
    def get(self, tail: str, **params: Any) -> Any:
        return self.client.get(f"/api/shots/{self.shot}/{tail}", params={"frame": 0, **params})

    def test_a_palette_goes_from_dark_to_light(self) -> None:
        stops = self.get("palette", x0=0, y0=0, x1=319, y1=179, count=4).json()["stops"]
        self.assertEqual([s["at"] for s in stops], [0, 0.3333, 0.6667, 1])
        level = [sum(int(s["colour"][i : i + 2], 16) for i in (1, 3, 5)) for s in stops]
        self.assertEqual(level, sorted(level))
        one = self.get("palette", x0=2, y0=2, x1=30, y1=100).json()["stops"]
        self.assertEqual([s["colour"] for s in one], ["#a02814"], "an even region has one colour")
        self.assertIn("12", self.problem(self.get("palette", x0=0, y0=0, x1=9, y1=9, count=90)))

    def test_grain_is_found_and_without_a_plate_it_is_said(self) -> None:
        found = self.get("grain").json()
        self.assertGreaterEqual(found["amount"], 0)
        self.edit("/plate", None)
        self.edit("/background", None)
        for tail in ("grain", "pick?x=1&y=1", "palette?x0=0&y0=0&x1=9&y1=9"):
            self.assertIn(
                "no plate",
                self.problem(self.client.get(f"/api/shots/{self.shot}/{tail}{'&' if '?' in tail else '?'}frame=0")),
            )


class Tracks(WithPlate):
    def setUp(self) -> None:
        super().setUp()
        state = self.client.post(f"/api/shots/{self.shot}/cast", json={"kind": "marker"}).json()
        self.marker = state["document"]["markers"][0]["id"]
        self.edit("/markers/0/across", 100 + 6 * 4 - 160)
        self.url = f"/api/shots/{self.shot}/track/{self.marker}"

    def place(self, frame: int) -> list[float]:
        table = self.client.get(f"{self.url}/table").text.splitlines()[1:]
        return [float(v) for v in table[frame].split(",")[1:3]]

    def test_a_marker_follows_on_and_back_as_one_step_of_undo(self) -> None:
        self.client.post(self.url, json={"first": 4, "last": 11, "window": 21})
        found = self.client.post(self.url, json={"first": 4, "last": 0, "window": 21}).json()
        self.assertIsNone(found["lost_at"])
        self.assertEqual([s["frame"] for s in found["confidence"]], [4, 3, 2, 1, 0])
        for frame in range(12):
            across, up = self.place(frame)
            self.assertAlmostEqual(across, 100 + 6 * frame - 160, delta=0.9)
            self.assertAlmostEqual(up, 0, delta=0.9)
        keys = self.document()["markers"][0]["across"]["keys"]
        self.assertLess(len(keys), 7, "an even way needs few keys")
        self.client.post(f"/api/shots/{self.shot}/undo")
        self.client.post(f"/api/shots/{self.shot}/undo")
        self.assertEqual(self.document()["markers"][0]["across"]["keys"], [])

    def test_an_emitter_that_is_carried_rides_on_what_moves(self) -> None:
        self.edit("/emitters/0/carried_by", self.marker)
        self.client.post(self.url, json={"first": 4, "last": 11, "window": 21})
        guides = self.client.get(f"/api/shots/{self.shot}/guides?frame=10").json()
        self.assertAlmostEqual(guides["emitters"][0]["shown"]["centre"][0], 160, delta=3)

    def test_a_lost_point_keeps_what_was_found(self) -> None:
        folder = self.folder / "data" / "media" / "mark"
        for frame in range(8, 12):
            cv2.imwrite(str(folder / f"p.{frame:02d}.png"), np.full((180, 320, 3), 80, np.uint8))
        found = self.client.post(self.url, json={"first": 4, "last": 11, "window": 21}).json()
        self.assertEqual(found["lost_at"], 8)
        self.assertAlmostEqual(self.place(7)[0], 100 + 42 - 160, delta=0.9)

    def test_a_table_goes_out_and_comes_back(self) -> None:
        self.client.post(self.url, json={"first": 4, "last": 11, "window": 21})
        table = self.client.get(f"{self.url}/table")
        self.assertIn("attachment", table.headers["content-disposition"])
        self.client.post(f"/api/shots/{self.shot}/undo")
        answer = self.client.post(f"{self.url}/table", content=table.content, params={"name": "walk.csv"})
        self.assertEqual(answer.status_code, 200, answer.text)
        self.assertAlmostEqual(self.place(9)[0], 100 + 54 - 160, delta=1.2)

    def test_what_cannot_be_tracked_is_said_and_nothing_changes(self) -> None:
        before = self.document()
        self.assertIn(
            "walk.csv", self.problem(self.client.post(f"{self.url}/table", content=b"no", params={"name": "walk.csv"}))
        )
        self.assertIn("text", self.problem(self.client.post(f"{self.url}/table", content=b"\xff\xfe\0")))
        self.assertIn(
            "id",
            self.problem(
                self.client.post(f"/api/shots/{self.shot}/track/nobody", json={"first": 0, "last": 3, "window": 21})
            ),
        )
        self.assertEqual(self.document(), before)
        self.edit("/markers/0/across", -140)
        self.assertIn("uniform", self.problem(self.client.post(self.url, json={"first": 0, "last": 5, "window": 21})))
        self.edit("/emitters/0/carried_by", self.marker)
        carried = self.client.post(f"/api/shots/{self.shot}/track/emitter", json={"first": 0, "last": 3, "window": 21})
        self.assertIn("marker", self.problem(carried))


class Versions(InStudio):
    def kept(self, name: str) -> Any:
        return self.client.post(f"/api/shots/{self.shot}/versions", json={"name": name}).json()

    def test_a_version_is_saved_compared_and_restored(self) -> None:
        before = self.document()
        version = self.kept("calm")
        self.edit("/emitters/0/rate/value", 700)
        self.edit("/emitters/0/finish", [{"kind": "glow"}])
        reported = self.client.get(f"/api/shots/{self.shot}/versions").json()
        self.assertEqual(reported[0]["name"], "calm")
        self.assertEqual(
            reported[0]["differences"], ["First emitter: birth rate 160 → 700 /s", "First emitter: effects none → glow"]
        )
        state = self.client.post(f"/api/versions/{version['id']}/take").json()
        self.assertEqual(state["document"], before)
        self.assertIn("calm", state["undo"])
        self.client.post(f"/api/shots/{self.shot}/undo")
        self.assertEqual(self.document()["emitters"][0]["rate"]["value"], 700)

    def test_its_frame_is_what_the_shot_was(self) -> None:
        version = self.kept("calm")
        url = f"/api/versions/{version['id']}/frame"
        first = self.client.get(url, params={"frame": 20, "width": 160}).content
        self.edit("/emitters/0/rate/value", 4000)
        self.assertEqual(self.client.get(url, params={"frame": 20, "width": 160}).content, first)
        alpha = simplejpeg.decode_jpeg(
            self.client.get(url, params={"frame": 20, "width": 160, "view": "alpha"}).content
        )
        self.assertLess(float(np.ptp(alpha.astype(int), axis=2).max()), 4)
        self.assertIn("8192", self.problem(self.client.get(url, params={"frame": 20, "width": 99_999})))

    def test_names_change_and_go_and_survive_a_new_start(self) -> None:
        version = self.kept("calm")
        self.kept("wild")
        self.client.patch(f"/api/versions/{version['id']}", json={"name": "calmer"})
        from isbjorn.studio.storage.store import Store

        store = Store(self.folder / "data")
        self.addCleanup(store.engine.dispose)
        self.assertEqual([row.name for row in store.versions(self.shot)], ["calmer", "wild"])
        self.assertEqual(self.client.delete(f"/api/versions/{version['id']}").status_code, 204)
        self.assertEqual([v["name"] for v in self.client.get(f"/api/shots/{self.shot}/versions").json()], ["wild"])
        self.problem(self.client.post(f"/api/versions/{version['id']}/take"), 404)


class Watching(InStudio):
    def test_a_note_is_mended_by_its_own_changes(self) -> None:
        self.edit("/emitters/0/limit", 20)
        notes = self.client.get(f"/api/shots/{self.shot}/lookout?frame=40").json()
        note = next(n for n in notes if n["kind"] == "starved")
        answer = self.client.patch(
            f"/api/shots/{self.shot}", json={"changes": note["mend"]["changes"], "label": "Lookout"}
        )
        self.assertEqual(answer.status_code, 200, answer.text)
        after = self.client.get(f"/api/shots/{self.shot}/lookout?frame=40").json()
        self.assertNotIn("starved", [n["kind"] for n in after])

    def test_an_order_is_looked_at_before_it_is_given(self) -> None:
        order = {
            "format": "mp4",
            "first": 0,
            "last": 9,
            "folder": str(self.folder),
            "name": "x",
            "scale": 1,
            "over_plate": False,
        }
        notes = self.client.post(f"/api/shots/{self.shot}/order-told", json=order).json()["notes"]
        self.assertEqual(notes[0]["kind"], "no alpha")
        order |= notes[0]["mend"]["order"]
        self.assertEqual(self.client.post(f"/api/shots/{self.shot}/order-told", json=order).json()["notes"], [])

    def test_views_of_layers_and_of_the_plate_alone(self) -> None:
        from isbjorn.studio.preview.plates import StudioPlates
        from isbjorn.studio.preview.preview import Preview, Wish, digest_of

        studio = self.app.state.studio
        shot = studio.store.document(self.shot)
        preview = Preview(studio.plates)
        self.assertIsInstance(studio.plates, StudioPlates)
        deep, under = (
            simplejpeg.decode_jpeg(preview.draw(shot, digest_of(shot), Wish(40, 160, view)).jpeg)
            for view in ("layers", "under")
        )
        self.assertGreater(np.ptp(deep.astype(int)), 60)
        self.assertLess(float(under.std(axis=(0, 1)).max()), 1, "the background alone")


class Artwork(InStudio):
    def test_a_drawing_is_a_body_and_may_be_one_that_is_mixed_in(self) -> None:
        svg = b'<svg xmlns="http://www.w3.org/2000/svg"><path d="M0 0H40V20H0Z"/></svg>'
        emitter = self.document()["emitters"][0]["id"]
        url = f"/api/shots/{self.shot}/artwork/{emitter}?name=plank.svg&body="
        self.assertEqual(self.client.post(f"{url}0", content=svg).status_code, 200)
        self.assertIn("does not exist", self.problem(self.client.post(f"{url}2", content=svg)))
        self.edit("/emitters/0/mixed", [{"kind": "arrow", "weight": 3}])
        self.assertEqual(self.client.post(f"{url}1", content=svg).status_code, 200)
        found = self.document()["emitters"][0]
        self.assertEqual([found["body"]["kind"], found["mixed"][0]["kind"]], ["artwork", "artwork"])
        self.assertEqual((found["body"]["name"], found["mixed"][0]["weight"]), ("plank.svg", 3))
        self.assertNotEqual(found["shape"]["kind"], "artwork")


if __name__ == "__main__":
    unittest.main()
