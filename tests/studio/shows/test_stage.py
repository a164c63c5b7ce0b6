"""A stage over its socket: input drives the pictures; a performance is saved, played, and converted to keys."""

from __future__ import annotations

import itertools
import json
import math
import os
import threading
import time
import unittest
from itertools import pairwise
from typing import Any
from unittest import mock

import numpy as np
import simplejpeg
from pythonosc.udp_client import SimpleUDPClient

from isbjorn.core.evaluate.curves import along
from isbjorn.core.evaluate.performed import performance_of
from isbjorn.core.media.read.ltc import written
from isbjorn.studio.sockets import unpacked
from tests.studio.in_studio import InStudio
from tests.studio.shows.test_controller_input import free_port
from tests.waiting import HANG_S, until

SOURCE = {"measure": "number", "thing": "c1.value", "makes_low": -300, "makes_high": 300, "combine": "add"}
DOT = {
    "id": "e1", "name": "Dot", "rate": 0, "lifespan": 0, "speed": 0, "shape": {"kind": "point"}, "size": 120, "stays": "along",
    "bursts": [{"count": 1}], "across": {"value": 0, "source": SOURCE},
}  # fmt: skip
LED = {
    "links": [],
    "controls": [{"id": "c1", "name": "Hand", "value": 0.0, "comes_from": {"address": "/desk/1"}}],
    "emitters": [DOT],
    "width": 960,
    "height": 540,
    "last_frame": 99,
}


class Staged(InStudio):
    def setUp(self) -> None:
        self.port = free_port()
        with mock.patch.dict(os.environ, {"ISBJORN_OSC": str(self.port)}):
            super().setUp()
        self.desk = SimpleUDPClient("127.0.0.1", self.port)
        self.addCleanup(self.desk._sock.close)
        self.write(LED)

    def write(self, reported: dict[str, Any]) -> None:
        """Create shot another."""
        for name, value in reported.items():
            answer = self.edit(f"/{name}", value)
            self.assertEqual(answer.status_code, 200, answer.text)

    def stage(self) -> Any:
        return self.client.websocket_connect(f"/api/shots/{self.shot}/stage", headers={"host": "127.0.0.1"})

    def say(self, socket: Any, kind: str, **more: Any) -> None:
        socket.send_text(json.dumps({"kind": kind, **more}))

    def next(self, socket: Any, kind: str = "picture") -> tuple[dict[str, Any], bytes]:
        """The next message of a kind; pictures meanwhile are confirmed."""
        while True:
            message = socket.receive()
            if message.get("text"):
                reported = json.loads(message["text"])
                if reported["kind"] == kind:
                    return reported, b""
                self.assertNotEqual(reported["kind"], "problem", reported)
                continue
            header, jpeg = unpacked(message["bytes"])
            self.say(socket, "shown", serial=header["serial"])
            if kind == "picture":
                return header, jpeg


def bright(jpeg: bytes) -> np.ndarray:
    """Which pixels are bright, (height, width)."""
    return simplejpeg.decode_jpeg(jpeg, colorspace="GRAY")[..., 0] > 128


def centre_of(jpeg: bytes) -> float:
    """Centre of the bright pixels, as shares of the width."""
    columns = np.flatnonzero(bright(jpeg)) % bright(jpeg).shape[1]
    return float(columns.mean() + 0.5) / bright(jpeg).shape[1]


class Playing(Staged):
    def test_a_hand_leads_the_picture_and_the_way_there_is_measured(self) -> None:
        with self.stage() as socket:
            self.say(socket, "width", width=480)
            header, jpeg = self.next(socket)
            self.assertEqual((header["width"], header["height"]), (480, 270))
            self.assertIsNone(header["latency_ms"])
            self.assertAlmostEqual(centre_of(jpeg), 0.5 - 300 / 960, delta=0.02)
            self.desk.send_message("/desk/1", 1.0)
            while abs(centre_of(jpeg) - (0.5 + 300 / 960)) > 0.02:
                header, jpeg = self.next(socket)
            while header["latency_ms"] is None:
                header, _ = self.next(socket)
            self.assertGreater(header["latency_ms"], 1)
            # Without end: what is beyond the shot's last frame is played too.
            self.assertEqual(header["figures"]["alive"], 1)

    def test_it_pauses_and_restarts_when_the_page_says_so(self) -> None:
        # Its duration and its continuation are tested with a simulated clock: test_show_process.
        with self.stage() as socket:
            self.say(socket, "width", width=160)
            came = [(time.monotonic(), self.next(socket)[0]["seconds"])]
            over = threading.Event()

            def look() -> None:
                while not over.is_set():
                    came.append((time.monotonic(), self.next(socket)[0]["seconds"]))

            looking = threading.Thread(target=look)
            looking.start()
            until(lambda: len(came) > 20, "it did not play")
            self.say(socket, "freeze", on=True)
            until(lambda: time.monotonic() - came[-1][0] > 1, "it did not stand still")
            still = len(came)
            self.say(socket, "freeze", on=False)
            until(lambda: len(came) > still + 5, "it did not go on")
            self.assertGreater(came[-1][1], came[still - 1][1])
            self.say(socket, "again")
            until(lambda: any(b < a for (_, a), (_, b) in pairwise(came[still:])), "it did not restart")
            over.set()
            looking.join(HANG_S)
            self.assertFalse(looking.is_alive())

    def test_an_edit_at_the_desk_is_taken_up(self) -> None:
        with self.stage() as socket:
            self.say(socket, "width", width=320)
            _, before = self.next(socket)
            self.edit("/emitters/0/size", 400)
            before = bright(before).sum()
            until(lambda: bright(self.next(socket)[1]).sum() > 3 * before, "the edit was not seen")

    def test_pointer_and_gamepad_arrive_as_others_do(self) -> None:
        self.edit("/controls/0/comes_from/address", "/pointer/x")
        with self.stage() as socket:
            self.say(socket, "width", width=320)
            self.next(socket)
            url = f"/api/projects/{self.project}/triggers"
            with self.client.websocket_connect(url, headers={"host": "127.0.0.1"}) as devices:
                devices.send_text('{"address": "/pointer/x", "value": 0.5}')
                until(lambda: abs(centre_of(self.next(socket)[1]) - 0.5) < 0.02, "the pointer did not lead")
            for bad in ('{"kind": "arrive"}', "{", '{"kind": "width", "width": 0}'):
                socket.send_text(bad)
                self.assertEqual(self.next_text(socket)["kind"], "problem")

    def next_text(self, socket: Any) -> dict[str, Any]:
        while True:
            message = socket.receive()
            if message.get("text"):
                return json.loads(message["text"])

    def test_it_ends_with_its_page_and_only_so_many_are_open(self) -> None:
        studio = self.app.state.studio
        with self.stage() as one, self.stage() as two, self.stage() as three:
            for socket in (one, two, three):
                self.say(socket, "width", width=160)
                self.next(socket)
            with self.stage() as fourth:
                self.assertIn("already being performed", json.loads(fourth.receive()["text"])["what"])
        until(lambda: studio.shows == 0, "the shows went on")
        with self.stage() as socket:
            self.say(socket, "width", width=160)
            self.next(socket)


class Kept(Staged):
    def perform(self, seconds: float) -> str:
        """Perform for some seconds of the show and save it; return the report."""
        with self.stage() as socket:
            self.say(socket, "width", width=160)
            self.next(socket)
            first = float("inf")
            for n in itertools.count():
                self.desk.send_message("/desk/1", 0.5 + 0.5 * math.sin(n / 4))
                now = self.next(socket)[0]["seconds"]
                first = min(first, now)
                if now - first > seconds and n > 20:
                    break
            self.say(socket, "keep", name="First night")
            return str(self.next(socket, "kept")[0]["words"])

    def document(self) -> Any:
        return self.app.state.studio.store.document(self.shot)

    def test_a_take_is_played_made_keys_of_and_let_go(self) -> None:
        self.assertRegex(self.perform(1.5), r"First night: \d+\.\d s of Hand")
        shot = self.document()
        take = shot.takes[0]
        self.assertEqual(shot.controls[0].take, take.id)
        performance = performance_of(take)
        self.assertGreater(float(np.ptp(performance.values)), 0.5)
        lane = self.client.get(f"/api/shots/{self.shot}/takes/{take.id}/lanes/c1").json()
        self.assertAlmostEqual(lane["step_s"], 1 / 60)
        np.testing.assert_allclose(lane["values"], performance.values[0], atol=6e-5)
        answer = self.client.post(f"/api/shots/{self.shot}/takes/{take.id}/keys?tolerance=0.01")
        self.assertRegex(answer.json()["taken"][0], r"Hand: \d+ steps as \d+ keys")
        control = self.document().controls[0]
        self.assertIsNone(control.take)
        steps = np.arange(performance.count) / 60
        self.assertLess(float(np.abs(along(control.value.keys, steps) - performance.values[0]).max()), 0.0101)
        self.assertLess(len(control.value.keys), performance.count)
        self.client.post(f"/api/shots/{self.shot}/undo")
        self.assertEqual(self.document().controls[0].take, take.id)
        # It goes along with the project wherever that goes.
        package = self.client.get(f"/api/projects/{self.project}/export").content
        made = self.client.post("/api/projects/import", content=package).json()
        there = self.app.state.studio.store.document(made["shots"][0]["id"])
        self.assertNotEqual(there.takes[0].media, take.media)
        back = performance_of(there.takes[0])
        self.assertTrue(np.array_equal(back.values, performance.values))

    def test_missing_things_are_reported(self) -> None:
        url = f"/api/shots/{self.shot}/takes/none"
        self.assertIn("does not exist", self.problem(self.client.post(f"{url}/keys")))
        self.assertIn("does not exist", self.problem(self.client.get(f"{url}/lanes/c1")))


class Timecode(Staged):
    def test_a_show_goes_where_a_timecode_says(self) -> None:
        with self.stage() as socket:
            self.say(socket, "width", width=160)
            self.next(socket)
            for start in (20.0, 5.0):

                def there(start: float = start) -> bool:
                    self.app.state.studio.inbox.put("/timecode/s", 3600 + start)
                    return abs(self.next(socket)[0]["seconds"] - start) < 0.3

                until(there, "it did not go there")


class Lists(Staged):
    def url(self, what: str = "set") -> str:
        return f"/api/projects/{self.project}/{what}"

    def test_it_is_all_shots_until_it_is_another(self) -> None:
        body = {"name": "Second", "width": 320, "height": 180, "frames": 50}
        second = self.client.post(f"/api/projects/{self.project}/shots", json=body).json()["id"]
        found = self.client.get(self.url()).json()
        self.assertEqual([entry["shot"] for entry in found["entries"]], [self.shot, second])
        entries = [{"shot": second, "fade_s": 3, "address": "/midi/1/note/60"}, {"shot": self.shot}, {"shot": second}]
        put = {"entries": entries, "addresses": {"black": "/desk/8"}}
        self.assertEqual(self.client.put(self.url(), json=put).status_code, 200)
        found = self.client.get(self.url()).json()
        self.assertEqual([entry["shot"] for entry in found["entries"]], [second, self.shot, second])
        self.assertEqual(found["addresses"], {"black": "/desk/8"})
        # A shot that goes is not on the list any more; without entries it is all shots again.
        self.client.delete(f"/api/shots/{second}")
        self.assertEqual([entry["shot"] for entry in self.client.get(self.url()).json()["entries"]], [self.shot])
        self.client.put(self.url(), json={"entries": []})
        self.assertEqual(len(self.client.get(self.url()).json()["entries"]), 1)

    def test_it_goes_with_the_project(self) -> None:
        body = {"name": "Second", "width": 320, "height": 180, "frames": 50}
        second = self.client.post(f"/api/projects/{self.project}/shots", json=body).json()["id"]
        entries = [{"shot": second, "fade_s": 3, "plays": "performed"}, {"shot": self.shot}]
        self.client.put(self.url(), json={"entries": entries, "width": 960})
        package = self.client.get(self.url("export")).content
        made = self.client.post("/api/projects/import", content=package).json()
        first, other = (shot["id"] for shot in made["shots"])
        found = self.client.get(f"/api/projects/{made['id']}/set").json()
        self.assertEqual([entry["shot"] for entry in found["entries"]], [other, first])
        self.assertEqual(
            (found["entries"][0]["fade_s"], found["entries"][0]["plays"], found["width"]), (3, "performed", 960)
        )

    def test_an_invalid_list_is_reported(self) -> None:
        self.assertIn("not in the project", self.problem(self.client.put(self.url(), json={"entries": [{"shot": 99}]})))
        for entry in ({"shot": self.shot, "fade_s": 31}, {"shot": self.shot, "address": "desk"}, {"what": 1}):
            self.assertEqual(self.client.put(self.url(), json={"entries": [entry]}).status_code, 422)

    def test_keys_notes_and_faders_trigger_at_the_moment_they_come_up(self) -> None:
        put = {"entries": [{"shot": self.shot, "address": "/midi/1/note/60"}], "addresses": {"black": "/desk/8"}}
        self.client.put(self.url(), json=put)
        inbox = self.app.state.studio.inbox
        with self.client.websocket_connect(self.url("triggers"), headers={"host": "127.0.0.1"}) as socket:
            # What a page sends arrives as all else does; the first word says that the socket listens.
            socket.send_text(json.dumps({"address": "/stage/again", "value": 1}))
            self.assertEqual(socket.receive_json()["act"], "again")
            sent = (
                ("/desk/8", 0.2), ("/desk/8", 0.9), ("/desk/8", 0), ("/desk/8", 1), ("/desk/7", 1), ("/stage/next", 1),
                ("/stage/nothing", 1), ("/midi/1/note/60", 100), ("/midi/1/note/60", 0), ("/stage/shot", 9), ("/stage/shot", 1),
            )  # fmt: skip
            for address, value in sent:
                inbox.put(address, value)
            reported = [socket.receive_json() for _ in range(5)]
            self.assertEqual([one["act"] for one in reported], ["black", "black", "next", "shot", "shot"])
            self.assertEqual([one["shot"] for one in reported[3:]], [self.shot] * 2)
            # A sound input of the page, with timecode on it.
            samples = (written(25 * 3600, 10, 25) * 32767).astype("<i2").tobytes()
            for first in range(0, len(samples), 2048):
                socket.send_bytes(samples[first : first + 2048])
            for bad in ("{", json.dumps({"address": "/isbjorn/x", "value": 1}), json.dumps({"address": "/desk/1"})):
                socket.send_text(bad)
            socket.send_text(json.dumps({"address": "/stage/previous", "value": 1}))
            self.assertEqual(socket.receive_json()["act"], "previous")
        self.assertNotIn("/isbjorn/x", inbox.latest)
        self.assertAlmostEqual(inbox.latest["/timecode/s"].value, 3600 + 10 / 25, delta=0.05)


if __name__ == "__main__":
    unittest.main()
