"""Cut lists: a project as an OpenTimelineIO timeline, and back."""

import unittest
from fractions import Fraction
from pathlib import Path

import opentimelineio as otio

from isbjorn.core.document import Plate
from tests.core.media.test_media import movie
from tests.shots import one_emitter
from tests.studio.in_studio import InStudio


class Cuts(InStudio):
    def setUp(self) -> None:
        super().setUp()
        movie(self.folder / "pier.mp4", 50)
        self.client.post("/api/folders", json={"path": str(self.folder)})

    def timeline(self, project: int) -> otio.schema.Timeline:
        answer = self.client.get(f"/api/projects/{project}/timeline")
        self.assertEqual(answer.status_code, 200, answer.text)
        return otio.adapters.read_from_string(answer.text, "otio_json")

    def send(self, project: int, content: str | bytes) -> dict:
        answer = self.client.post(f"/api/projects/{project}/timeline?name=cut.otio", content=content)
        self.assertEqual(answer.status_code, 201, answer.text)
        return answer.json()

    def test_a_project_comes_back_as_it_went(self) -> None:
        studio = self.client.app.state.studio
        project = self.client.post("/api/projects", json={"name": "Reel"}).json()["id"]
        plate = Plate(media=str(self.folder / "pier.mp4"), offset_s=-0.4)
        for shot in (
            one_emitter(name="One", rate="25", first_frame=100, last_frame=129, plate=plate),
            one_emitter(name="Two", rate="30000/1001", width=640, height=360, last_frame=59),
        ):
            studio.store.create_shot(project, shot)
        timeline = self.timeline(project)
        one, two = timeline.find_clips()
        self.assertEqual((one.name, one.trimmed_range().duration.value), ("One", 30))
        # Ten of the plate's frames precede the shot's first.
        self.assertEqual(one.trimmed_range().start_time.value, 10)
        self.assertEqual(one.media_reference.target_url, (self.folder / "pier.mp4").as_uri())
        self.assertEqual(one.media_reference.available_range.duration.value, 50)
        self.assertAlmostEqual(two.trimmed_range().duration.rate, 30000 / 1001)
        other = self.client.post("/api/projects", json={"name": "Back"}).json()["id"]
        cut = self.send(other, otio.adapters.write_to_string(timeline, "otio_json"))
        self.assertEqual((cut["made"], cut["notes"]), (2, []))
        first, second = (studio.store.document(card["id"]) for card in cut["project"]["shots"])
        self.assertEqual((first.first_frame, first.last_frame, first.rate), (100, 129, "25"))
        self.assertAlmostEqual(first.plate.offset_s, -0.4)
        self.assertEqual(first.plate.media, str(self.folder / "pier.mp4"))
        self.assertEqual((second.rate, second.width, second.frame_count, second.plate), ("30000/1001", 640, 60, None))

    def test_a_list_of_others_opens_as_shots(self) -> None:
        timeline = otio.schema.Timeline("Edit")
        track = otio.schema.Track("V1")
        timeline.tracks.append(track)

        def time(frames: float, rate: float = 24) -> otio.opentime.RationalTime:
            return otio.opentime.RationalTime(frames, rate)

        media = otio.schema.ExternalReference(
            (self.folder / "pier.mp4").as_uri(), otio.opentime.TimeRange(time(90_000, 25), time(50, 25))
        )
        track.append(otio.schema.Clip("Wide", media, otio.opentime.TimeRange(time(90_010, 25), time(20, 25))))
        track.append(otio.schema.Gap(duration=time(12)))
        gone = otio.schema.ExternalReference("file:///elsewhere/gone.mov")
        track.append(otio.schema.Clip("Gone", gone, otio.opentime.TimeRange(time(0), time(48))))
        cut = self.send(self.project, otio.adapters.write_to_string(timeline, "otio_json"))
        self.assertEqual(cut["made"], 2)
        self.assertEqual(len(cut["notes"]), 1)
        self.assertIn("Gone", cut["notes"][0])
        studio = self.client.app.state.studio
        wide, lost = (studio.store.document(card["id"]) for card in cut["project"]["shots"][-2:])
        self.assertEqual((wide.frame_count, wide.rate, wide.width), (20, "25", 64))
        # Timecode of an hour on the first frame of the media: ten frames into it.
        self.assertAlmostEqual(wide.plate.offset_s, -0.4)
        self.assertEqual(studio.plates.number(wide, Fraction(0)), 10)
        self.assertEqual((lost.frame_count, lost.rate), (48, "24"))

    def test_what_is_none_is_refused_in_words(self) -> None:
        for content, words in (
            (b"{", "not a cut list"), (b"\xff\xfe", "not a cut list"),
            (b'{"OTIO_SCHEMA": "Clip.2", "name": "x"}', "not a cut list"),
            (otio.adapters.write_to_string(otio.schema.Timeline("e"), "otio_json").encode(), "no clip"),
            (b"[" * 100_000, "not a cut list"),
        ):  # fmt: skip
            found = self.problem(self.client.post(f"/api/projects/{self.project}/timeline", content=content))
            self.assertIn(words, found)
        self.problem(self.client.get("/api/projects/999/timeline"), 404)
        self.assertTrue(Path(self.folder).is_dir())


if __name__ == "__main__":
    unittest.main()
