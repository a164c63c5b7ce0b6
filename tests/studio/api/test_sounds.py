"""Sounds in a running studio: taken in, listened to, seen and heard."""

from __future__ import annotations

import io
import wave
from pathlib import Path

import numpy as np

from isbjorn.core.media.read.ltc import written
from isbjorn.studio.storage.packages import pack_project, unpack_project
from tests.core.evaluate.test_hearing import RATE, clicks, sine, write
from tests.core.media.test_sound_and_colour import sounding
from tests.studio.in_studio import InStudio


class Sounds(InStudio):
    def take(self, samples: np.ndarray, name: str = "drum.wav") -> dict:
        write(self.folder / name, samples)
        content = (self.folder / name).read_bytes()
        answer = self.client.put(f"/api/projects/{self.project}/sounds?name={name}", content=content)
        self.assertEqual(answer.status_code, 201, answer.text)
        return answer.json()

    def add(self, media: str = "") -> dict:
        answer = self.client.post(f"/api/shots/{self.shot}/sounds", json={"media": media})
        self.assertEqual(answer.status_code, 200, answer.text)
        return answer.json()["document"]["sounds"][-1]

    def test_it_is_taken_seen_heard_and_drives(self) -> None:
        media = self.take(clicks([24_000, 72_000], 3))
        self.assertEqual((media["kind"], media["name"]), ("sound", "drum.wav"))
        sound = self.add(media["media"])
        self.assertEqual((sound["name"], sound["of_plate"]), ("drum", False))
        # Along a shot of two seconds: a click at each of its onsets.
        found = self.client.get(f"/api/shots/{self.shot}/sounds/{sound['id']}/wave?places=100").json()
        self.assertEqual((len(found["loudest"]), found["seconds"], found["begins_s"]), (100, 3, 0))
        np.testing.assert_allclose(found["onsets"], [0.5, 1.5], atol=2e-3)
        loud = np.flatnonzero(np.array(found["loudest"]) > 0.5) / 50
        self.assertTrue((np.abs(loud[:, None] - np.array([0.5, 1.5])).min(axis=1) < 0.04).all())
        answer = self.client.get(f"/api/shots/{self.shot}/audio")
        with wave.open(io.BytesIO(answer.content)) as heard:
            self.assertEqual((heard.getframerate(), heard.getnframes()), (RATE, 2 * RATE))
            values = np.frombuffer(heard.readframes(2 * RATE), "<i2").reshape(-1, heard.getnchannels())
        self.assertAlmostEqual(int(np.flatnonzero(np.abs(values[:, 0]) > 9000)[0]), 24_015, delta=15)
        # It drives a number, and a picture is drawn of that.
        by = {
            "measure": "sound",
            "sound": sound["id"],
            "makes_high": 400,
            "combine": "add",
            "hears": {"what": "onsets"},
        }
        self.assertEqual(self.edit("/emitters/0/rate/source", by).status_code, 200)
        self.assertEqual(self.client.get(f"/api/shots/{self.shot}/thumb").status_code, 200)
        graphs = self.client.get(f"/api/shots/{self.shot}").json()["guides"]["graphs"]
        self.assertIn("/emitters/0/rate", [g["path"] for g in graphs])
        # Taken out, what it drove keeps its plain value.
        self.client.delete(f"/api/shots/{self.shot}/cast/{sound['id']}")
        self.assertIsNone(self.document()["emitters"][0]["rate"]["source"])
        self.assertEqual(self.client.get(f"/api/shots/{self.shot}/audio").status_code, 204)

    def test_timecode_in_it_says_where_it_lies(self) -> None:
        tape = self.add(self.take(written(25 * 3600 * 10 + 50, 60, 25), "tape.wav")["media"])
        found = self.client.post(f"/api/shots/{self.shot}/sounds/{tape['id']}/timecode").json()
        self.assertEqual((found["found"], found["text"]), (True, "10:00:02:00"))
        self.assertAlmostEqual(found["offset_s"], 2, delta=1e-3)
        drum = self.add(self.take(clicks([24_000], 1))["media"])
        found = self.client.post(f"/api/shots/{self.shot}/sounds/{drum['id']}/timecode").json()
        self.assertFalse(found["found"])

    def test_the_plates_own_is_heard_and_goes_with_it(self) -> None:
        self.assertIn("no plate", self.problem(self.client.post(f"/api/shots/{self.shot}/sounds", json={})))
        sounding(self.folder / "plate.mov", (12_000,))
        self.client.post("/api/folders", json={"path": str(self.folder)})
        self.edit("/plate", {"media": str(self.folder / "plate.mov"), "offset_s": 0.5})
        whole = lambda: self.client.get(f"/api/shots/{self.shot}/audio").content  # noqa: E731
        before = whole()
        sound = self.add()
        self.assertTrue(sound["of_plate"])
        found = self.client.get(f"/api/shots/{self.shot}/sounds/{sound['id']}/wave").json()
        np.testing.assert_allclose(found["onsets"], [0.75], atol=2e-3)
        # It is not heard twice.
        self.assertTrue(whole() == before)
        self.edit("/sounds/0/heard", False)
        self.assertEqual(whole(), b"")

    def test_what_is_no_sound_is_said_and_leaves_nothing(self) -> None:
        url = f"/api/projects/{self.project}/sounds"
        self.assertIn("sound cannot be read", self.problem(self.client.put(f"{url}?name=a.wav", content=b"RIFF none")))
        self.assertIn("not a sound file type", self.problem(self.client.put(f"{url}?name=a.txt", content=b"x")))
        media = self.app.state.studio.store.media_folder
        self.assertEqual(list(media.iterdir()), [])
        answer = self.client.post(f"/api/shots/{self.shot}/sounds", json={"media": "/etc/passwd"})
        self.assertIn("outside the library", self.problem(answer))

    def test_it_is_exported_with_the_project_and_reported_when_missing(self) -> None:
        sound = self.add(self.take(sine(300, 2))["media"])
        store = self.app.state.studio.store
        pack_project(store, self.project, self.folder / "p.zip")
        other = unpack_project(store, self.folder / "p.zip")
        moved = store.document(store.shots(other.id)[0].id).sounds[0]
        self.assertNotEqual(moved.media, sound["media"])
        self.assertTrue((store.media_folder / moved.media).is_file())
        by = {"measure": "sound", "sound": sound["id"]}
        self.edit("/emitters/0/size/source", by)
        Path(store.media_folder / sound["media"]).unlink()
        # Its analysis is still cached; the sound file is not.
        self.assertEqual(self.client.get(f"/api/shots/{self.shot}").status_code, 200)
        self.assertEqual(self.client.get(f"/api/shots/{self.shot}/audio").status_code, 422)
