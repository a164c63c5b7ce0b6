"""The rest of what the page asks for, and what it must never be able to break."""

import itertools
import json
import unittest
from typing import Any
from unittest import mock

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from isbjorn.core.simulate.interactions import group
from isbjorn.studio.pages import page_session, playback
from isbjorn.studio.preview import interaction_rate
from tests.studio.in_studio import InStudio, Looking


class Telling(InStudio):
    def test_the_schema_describes_each_field(self) -> None:
        schema = self.client.get("/api/schema").json()
        rate = schema["$defs"]["Emitter"]["properties"]["rate"]["isbjorn"]
        self.assertEqual((rate["unit"], rate["clock"], rate["spread"]), ("/s", "shot", False))

    def test_presets_and_rates(self) -> None:
        found = self.client.get("/api/presets").json()
        self.assertIn("Settle", [p["name"] for p in found["curves"]])
        self.assertIn("30000/1001", self.client.get("/api/rates").json())
        # Every preset is a value that a shot accepts.
        for preset in found["curves"]:
            self.assertEqual(self.edit("/emitters/0/size/over_life", preset["curve"]).status_code, 200, preset["name"])
        for preset in found["ramps"]:
            self.assertEqual(self.edit("/emitters/0/colour", preset["gradient"]).status_code, 200, preset["name"])

    def test_a_gesture_is_one_step_through_the_api(self) -> None:
        for value in range(10, 20):
            self.edit("/emitters/0/speed/value", value, gesture="drag", label="Speed")
        state = self.client.post(f"/api/shots/{self.shot}/undo").json()
        self.assertEqual((state["document"]["emitters"][0]["speed"]["value"], state["redo"]), (260, "Speed"))

    def test_several_changes_are_made_together_or_not_at_all(self) -> None:
        changes = [
            {"op": "replace", "path": "/width", "value": 640},
            {"op": "replace", "path": "/height", "value": -1},
        ]
        self.problem(self.client.patch(f"/api/shots/{self.shot}", json={"changes": changes}))
        self.assertEqual(self.document()["width"], 320)

    def test_projects_are_renamed_and_shots_copied(self) -> None:
        renamed = self.client.patch(f"/api/projects/{self.project}", json={"name": "Kvass harbour"}).json()
        self.assertEqual(renamed["name"], "Kvass harbour")
        copied = self.client.post(f"/api/shots/{self.shot}/copy").json()
        self.assertEqual(copied["name"], "Beacon copy")
        self.edit("/width", 640)
        self.assertEqual(self.client.get(f"/api/shots/{copied['id']}").json()["document"]["width"], 320)
        self.problem(self.client.patch(f"/api/projects/{self.project}", json={"name": ""}))

    def test_a_new_shot_is_as_it_was_asked_for(self) -> None:
        body = {"name": "Slow", "rate": "23.976", "frames": 48, "width": 1080, "height": 1920}
        card = self.client.post(f"/api/projects/{self.project}/shots", json=body).json()
        self.assertEqual((card["rate"], card["frames"], card["width"]), ("24000/1001", 48, 1080))
        for bad in ({"rate": "fast"}, {"rate": "0"}, {"frames": 0}, {"width": 3}, {"height": 10**6}, {"name": ""}):
            self.problem(self.client.post(f"/api/projects/{self.project}/shots", json={**body, **bad}))

    def test_timecodes_and_guides_come_with_the_state(self) -> None:
        state = self.client.get(f"/api/shots/{self.shot}").json()
        self.assertEqual(state["timecodes"], ["00:00:00:00", "00:00:01:24"])
        guide = state["guides"]["emitters"][0]
        self.assertEqual(
            {lane["field"] for lane in guide["lanes"]}, {"size", "opacity", "brightness", "speed", "spin", "strength"}
        )
        self.assertEqual(len(guide["ramp"]), len(guide["ramp_opacity"]))

    def test_a_picker_without_a_plate_says_so(self) -> None:
        self.edit("/background", None)
        self.assertIn("plate", self.problem(self.client.get(f"/api/shots/{self.shot}/pick?frame=0&x=1&y=1")))
        self.edit("/background", "#336699")
        self.assertEqual(
            self.client.get(f"/api/shots/{self.shot}/pick?frame=0&x=-50&y=9999").json()["colour"], "#336699"
        )

    def test_a_frame_of_absurd_width_is_refused(self) -> None:
        for width in (0, 4, 10**6):
            self.problem(self.client.get(f"/api/shots/{self.shot}/frame?frame=0&width={width}"))

    def test_thumbnails_are_kept_until_the_shot_changes(self) -> None:
        self.client.get(f"/api/shots/{self.shot}/thumb")
        thumbs = self.folder / "data" / "thumbs"
        self.assertEqual(len(list(thumbs.glob("*.jpg"))), 1)
        with mock.patch.object(self.app.state.studio.preview, "strip", side_effect=AssertionError("drawn twice")):
            self.assertEqual(self.client.get(f"/api/shots/{self.shot}/thumb").status_code, 200)
        self.edit("/background", "#ffffff")
        self.client.get(f"/api/shots/{self.shot}/thumb")
        self.assertEqual(len(list(thumbs.glob("*.jpg"))), 2)

    def test_a_delivery_is_taken_off_the_list_but_its_files_stay(self) -> None:
        body = {"format": "png8", "first": 0, "last": 0, "folder": str(self.folder / "out"), "name": "x"}
        job = self.client.post(f"/api/shots/{self.shot}/deliveries", json=body).json()["id"]
        self.assertEqual(self.client.delete(f"/api/deliveries/{job}").status_code, 204)
        self.assertEqual(self.client.get("/api/deliveries").json(), [])
        self.problem(self.client.get(f"/api/deliveries/{job}/last"), 404)

    @settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
    @given(
        st.sampled_from(
            ["", "/", "/emitters", "/emitters/0", "/emitters/-", "/emitters/0/rate", "/plate", "/links", "/~2", "x"]
        ),
        st.sampled_from(["add", "remove", "replace"]),
        st.recursive(
            st.none() | st.booleans() | st.integers() | st.text(max_size=5),
            lambda x: st.lists(x, max_size=3),
            max_leaves=4,
        ),
    )
    def test_no_change_whatever_breaks_the_shot(self, path: str, op: str, value: Any) -> None:
        body = json.dumps({"changes": [{"op": op, "path": path, "value": value}]})
        answer = self.client.patch(
            f"/api/shots/{self.shot}", content=body, headers={"content-type": "application/json"}
        )
        self.assertIn(answer.status_code, (200, 422), answer.text)
        self.assertEqual(self.client.get(f"/api/shots/{self.shot}").status_code, 200)


class Idle(Looking):
    def test_what_is_missing_of_the_range_is_filled_while_nothing_is_asked(self) -> None:
        with mock.patch.object(playback, "_IDLE_S", 0.05), self.looking() as socket:
            socket.send_json({"kind": "see", "frame": 5, "first": 0, "last": 12, "width": 64})
            self.picture(socket)
            reported = socket.receive_json()
            while reported["ranges"] != [[0, 12]]:
                reported = socket.receive_json()
            self.assertEqual(reported, {"kind": "computed", "ranges": [[0, 12]]})

    def test_nothing_is_prefetched_during_playback(self) -> None:
        scheduler = self.client.app.state.studio.scheduler  # type: ignore[attr-defined]
        with mock.patch.object(playback, "_IDLE_S", 0.05), self.looking() as socket:
            socket.send_json({"kind": "see", "frame": 5, "first": 0, "last": 12, "width": 64})
            self.picture(socket)
            with mock.patch.object(scheduler, "is_lively", return_value=True):
                reported = [socket.receive_json() for _ in range(2)]
            self.assertEqual([one["ranges"] for one in reported], [[[5, 5]]] * 2)
            while reported[-1]["ranges"] != [[0, 12]]:
                reported.append(socket.receive_json())

    def test_a_slow_picture_comes_coarse_first(self) -> None:
        with mock.patch.object(interaction_rate, "SLOW_MS", 0.0), self.looking() as socket:
            socket.send_json({"kind": "see", "frame": 5, "width": 320})
            self.picture(socket)
            socket.send_json({"kind": "see", "frame": 6, "width": 320})
            coarse, small = self.picture(socket)
            exact, large = self.picture(socket)
        self.assertEqual((coarse["exact"], exact["exact"]), (False, True))
        self.assertEqual((small.shape[1], large.shape[1]), (107, 320))

    def test_while_a_hand_moves_a_number_pictures_come_coarse_and_at_its_end_in_full(self) -> None:
        with mock.patch.object(interaction_rate, "FLOWING_MS", 0.0), self.looking() as socket:
            socket.send_json({"kind": "see", "frame": 5, "width": 320})
            self.picture(socket)
            headers: list[dict[str, Any]] = []
            for value in range(10, 40):
                self.edit("/emitters/0/size/value", value, gesture="drag")
                headers.append(self.picture(socket)[0])
                if not headers[-1]["exact"]:
                    break
            while not headers[-1]["exact"]:
                headers.append(self.picture(socket)[0])
            head = self.client.get(f"/api/shots/{self.shot}").json()["revision"]
        self.assertEqual((headers[-1]["revision"], headers[-1]["width"]), (head, 320))
        coarse = [h for h in headers if not h["exact"]]
        self.assertTrue(coarse)
        self.assertTrue(all(h["width"] < 320 for h in coarse))

    def test_a_drag_that_restarts_a_simulation_shows_the_previous_positions(self) -> None:
        self.client.post(f"/api/shots/{self.shot}/cast", json={"kind": "flock"})
        with self.looking() as socket:
            socket.send_json({"kind": "see", "frame": 5, "width": 320})
            headers = [self.picture(socket)[0]]
            # Until the follower has learnt it, and the drag flows, pictures may come in full.
            for value in itertools.count(60):
                self.edit("/emitters/0/speed/value", value, gesture="drag")
                headers.append(self.picture(socket)[0])
                if headers[-1]["held"]:
                    break
            while not headers[-1]["exact"]:
                headers.append(self.picture(socket)[0])
            head = self.client.get(f"/api/shots/{self.shot}").json()["revision"]
        held = [h for h in headers if h["held"]]
        self.assertTrue(held)
        self.assertFalse(any(h["exact"] for h in held))
        self.assertEqual((headers[-1]["revision"], headers[-1]["held"]), (head, False))

    def test_a_long_run_of_a_crowd_says_how_far_it_is(self) -> None:
        self.client.post(f"/api/shots/{self.shot}/cast", json={"kind": "flock"})
        self.edit("/emitters/0/pre_roll_s", 20)
        with (
            mock.patch.object(page_session, "REPORTED_EVERY_S", 0.05),
            mock.patch.object(group, "_WORTH_A_WORD_S", 0.0),
            self.looking() as socket,
        ):
            socket.send_json({"kind": "see", "frame": 40, "width": 64})
            reported = socket.receive_json()
            self.assertEqual((reported["kind"], set(reported)), ("running", {"kind", "frame", "left_s"}))
            self.assertLessEqual(reported["frame"], 40)

    def test_frames_beyond_the_shot_are_brought_to_its_ends(self) -> None:
        with self.looking() as socket:
            socket.send_json({"kind": "see", "frame": 10**9, "width": 64})
            beyond = self.exact(socket)
            socket.send_json({"kind": "see", "frame": 49, "width": 64})
            last = self.exact(socket)
        np.testing.assert_array_equal(beyond, last)

    def test_an_undo_shows_without_being_asked_for(self) -> None:
        self.edit("/background", "#ffffff")
        with self.looking() as socket:
            socket.send_json({"kind": "see", "frame": 5, "width": 64})
            _, light = self.picture(socket)
            self.client.post(f"/api/shots/{self.shot}/undo")
            _, dark = self.picture(socket)
        self.assertGreater(light.mean(), dark.mean() + 100)


if __name__ == "__main__":
    unittest.main()
