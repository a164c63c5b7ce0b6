"""Controllers and trackers: real packets over the loopback, recorded as keys; and invalid packets on the port."""

from __future__ import annotations

import os
import random
import socket
import threading
import unittest
from unittest import mock

import mido
import numpy as np
from pythonosc.osc_message_builder import OscMessageBuilder
from pythonosc.osc_packet import OscPacket
from pythonosc.udp_client import SimpleUDPClient

from isbjorn import standins
from isbjorn.core import Solver
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.curves import along
from isbjorn.studio.control import controller_input
from isbjorn.studio.control.controller_input import Inbox, is_whole, listening
from tests.core.deliver.test_farm import free_port
from tests.core.evaluate.test_controls import Midi
from tests.studio.in_studio import InStudio, Looking
from tests.waiting import HANG_S, until


def message(address: str, *values: object) -> bytes:
    made = OscMessageBuilder(address)
    for value in values:
        made.add_arg(value)
    return made.build().dgram


class Listening(unittest.TestCase):
    def setUp(self) -> None:
        self.box = Inbox()

    def test_numbers_are_known_by_their_addresses(self) -> None:
        self.box.take(message("/desk/1", 0.25, 7, "word", 9.5))
        self.box.take(message("/tuio/2Dcur", "alive", 3))
        self.box.take(message("/tuio/2Dcur", "set", 3, 0.5, 0.75, 0.0, 0.0, 0.0))
        found = {address: one.value for address, one in self.box.latest.items()}
        self.assertEqual(
            found, {"/desk/1": 0.25, "/desk/1#2": 7, "/desk/1#3": 9.5, "/tuio/2Dcur/x": 0.5, "/tuio/2Dcur/y": 0.75}
        )

    def test_a_shower_of_bytes_is_counted_and_never_raised(self) -> None:
        rng = random.Random(5)
        with mock.patch.object(controller_input, "_MOST_OTHERS", 10**6):
            for _ in range(3000):
                self.box.take(rng.randbytes(rng.randrange(0, 200)))
            good = message("/desk/1", 0.5)
            for _ in range(2000):
                spoiled = bytearray(good)
                spoiled[rng.randrange(len(good))] = rng.randrange(256)
                self.box.take(bytes(spoiled))
            nested = message("/a", 1.0)
            for _ in range(300):
                nested = b"#bundle\0" + bytes(8) + len(nested).to_bytes(4, "big") + nested
            self.box.take(nested)
            self.box.take(bytes(9000))
            self.box.take(message("/nan", float("nan")))
            self.box.take(message("/large", 1e30))
        self.assertGreater(self.box.bad, 1000)
        self.assertLessEqual(len(self.box.latest), 256)
        self.assertEqual(self.box.latest["/large"].value, 1e6)
        self.assertNotIn("/nan", self.box.latest)

    def test_more_than_is_taken_in_a_second_is_dropped(self) -> None:
        now = 0.0
        box = Inbox(clock=lambda: now)
        for _ in range(5000):
            box.take(message("/desk/1", 0.5))
        # The first two have a new address.
        self.assertEqual((box.latest["/desk/1"].count, box.dropped), (4002, 998))
        now = 1.5
        box.take(message("/desk/1", 0.75))
        self.assertEqual(box.latest["/desk/1"].value, 0.75)

    def test_a_flood_of_strangers_leaves_what_is_followed(self) -> None:
        now = 0.0
        box = Inbox(clock=lambda: now)
        for value in (0.0, 0.1):
            box.take(message("/desk/1", value))
        for second in range(5):
            for n in range(3000):
                now = second + n / 3000
                box.take(message(f"/flood/{second}/{n}", 1.0))
                if n % 100 == 0:
                    box.take(message("/desk/1", now / 5))
                    self.assertAlmostEqual(box.latest["/desk/1"].value, now / 5, places=6)
        self.assertEqual(len(box.latest), 256)
        self.assertGreater(box.dropped, 9000)

    def test_sizes_of_elements_are_looked_at_before_they_are_trusted(self) -> None:
        head = b"#bundle\0" + bytes(8)
        one = message("/a", 1.0)
        whole = head + len(one).to_bytes(4, "big") + one
        nested = head + len(whole).to_bytes(4, "big") + whole
        for content in (one, whole, nested, head):
            self.assertTrue(is_whole(content), content)
        for size in (-4, 0, 3, len(one) + 4, 1 << 30):
            bad = head + size.to_bytes(4, "big", signed=True) + one
            for content in (bad, head + len(bad).to_bytes(4, "big") + bad, bad[:16] + bad[16:20]):
                self.assertFalse(is_whole(content), content)
                # It would spin for ever in a reader that trusts it.
                self.box.take(content)
        self.box.take(message("/after", 1.0))
        self.assertEqual(self.box.latest["/after"].value, 1.0)

    def test_a_listener_that_is_stuck_is_replaced(self) -> None:
        now, stuck, reading = 0.0, threading.Event(), threading.Event()
        port = free_port()
        box = Inbox(port=port, clock=lambda: now)
        self.addCleanup(box.close)
        self.addCleanup(stuck.set)
        taken = box.take

        def take(content: bytes) -> None:
            if b"/stuck" in content:
                reading.set()
                stuck.wait(HANG_S)
            taken(content)

        with mock.patch.object(box, "take", take):
            desk = SimpleUDPClient("127.0.0.1", port)
            self.addCleanup(desk._sock.close)
            desk.send_message("/stuck", 1.0)
            self.assertTrue(reading.wait(HANG_S))
            self.assertFalse(box.restart_if_stuck())
            now = 6.0
            until(lambda: box.restarted == 1 or box.restart_if_stuck(), "it was not replaced")
            until(lambda: desk.send_message("/on", 1.0) or "/on" in box.latest, "nobody listens")
        self.assertEqual(box.restarted, 1)

    def test_addresses_and_logs_are_bounded(self) -> None:
        log = self.box.record()
        with mock.patch.object(controller_input, "_MOST_KEPT", 500):
            for n in range(900):
                self.box.take(message(f"/desk/{n}", 0.5))
        self.assertEqual((len(self.box.latest), log.count), (256, 500))
        self.assertNotIn("/desk/0", self.box.latest)

    def test_ports_in_words(self) -> None:
        self.assertEqual(listening(""), ("127.0.0.1", 0))
        self.assertEqual(listening("9000"), ("127.0.0.1", 9000))
        self.assertEqual(listening("0.0.0.0:9000"), ("0.0.0.0", 9000))
        for text in ("desk", "99999", "host:"):
            with self.assertRaisesRegex(IsbjornError, "not a port"):
                listening(text)

    def test_midi_within_osc_is_notes_controllers_and_bends(self) -> None:
        for content, reported in (
            ((0xB0, 7, 100), {"/midi/1/cc/7": 100}),
            ((0x92, 64, 90), {"/midi/3/note/64": 90, "/midi/3/note": 90, "/midi/3/pitch": 64}),
            ((0x82, 64, 10), {"/midi/3/note/64": 0, "/midi/3/note": 0}),
            ((0xE0, 0, 127), {"/midi/1/bend": 8064}),
            ((0xD1, 33, 0), {"/midi/2/pressure": 33}),
            ((0xC0, 5, 0), {"/midi/1/program": 5}),
        ):
            one = OscMessageBuilder("/any")
            one.add_arg((0, *content), OscMessageBuilder.ARG_TYPE_MIDI)
            self.box.take(one.build().dgram)
            for address, value in reported.items():
                self.assertEqual(self.box.latest[address].value, value, (content, address))
        self.box.take(message("/pad"))
        self.assertEqual(self.box.latest["/pad"].value, 1)

    def test_a_clock_is_a_tempo_and_timecode_seconds(self) -> None:
        for tick in range(60):
            self.box.midi.take([0xF8], 10 + tick * 60 / 96 / 24)
        self.assertAlmostEqual(self.box.latest["/midi/clock/bpm"].value, 96, delta=1e-6)
        for rate, code in zip((24, 25, 30000 / 1001, 30), range(4), strict=True):
            # 01:02:03:17, a nibble at a time.
            parts = [1, 1, 3, 0, 2, 0, 1, code << 1]
            for piece, value in enumerate(parts):
                self.box.midi.take([0xF1, piece << 4 | value], 0)
            self.assertAlmostEqual(self.box.latest["/timecode/s"].value, 3723 + (17 + 1.75) / rate, delta=1e-9)
        self.box.midi.take([0xF0, 0x7F, 0x7F, 1, 1, 1 << 5 | 2, 30, 15, 5, 0xF7], 0)
        self.assertAlmostEqual(self.box.latest["/timecode/s"].value, 7200 + 1815 + 5 / 25)
        rng = random.Random(8)
        for _ in range(2000):
            self.box.midi.take(list(rng.randbytes(rng.randrange(0, 40))), 0)
        self.assertLessEqual(len(self.box.latest), 256)
        for junk in ([], [0xF7], [0x90], [0xF0, 1], [255, 255, 3], [0xF1]):
            self.box.midi.take(junk, 0)

    def test_a_second_studio_works_without_the_port(self) -> None:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as other:
            other.bind(("127.0.0.1", 0))
            box = Inbox(port=other.getsockname()[1])
            self.assertEqual(box.port, 0)


class Recording(InStudio):
    def setUp(self) -> None:
        self.port = free_port()
        with mock.patch.dict(os.environ, {"ISBJORN_OSC": str(self.port)}):
            super().setUp()
        self.desk = SimpleUDPClient("127.0.0.1", self.port)
        self.now = 100.0
        self.app.state.studio.inbox.clock = lambda: self.now

    def control(self, **more: object) -> str:
        answer = self.client.post(f"/api/shots/{self.shot}/cast", json={"kind": "control"})
        self.assertEqual(answer.status_code, 201)
        made = answer.json()["document"]["controls"][-1]
        at = len(answer.json()["document"]["controls"]) - 1
        self.edit(f"/controls/{at}/comes_from", {"address": "/desk/1", **more})
        return made["id"]

    def arrived(self) -> dict[str, float]:
        return {one["address"]: one["value"] for one in self.client.get("/api/incoming").json()["arrived"]}

    def wait(self, address: str) -> None:
        until(lambda: address in self.arrived(), "it did not arrive")

    def test_a_performance_becomes_keys(self) -> None:
        control = self.control(low=0, high=127)
        self.desk.send_message("/desk/1", 0)
        self.wait("/desk/1")
        found = self.client.get("/api/incoming").json()
        self.assertEqual((found["host"], found["port"], found["bad"]), ("127.0.0.1", self.port, 0))
        take = self.client.post(f"/api/shots/{self.shot}/takes", json={"at_s": 0.5, "controls": [control]}).json()["id"]
        # With a simulated clock: the test stamps each arrival, however slow the machine is.
        inbox, sent = self.app.state.studio.inbox, []
        began = self.now
        for n in range(120):
            self.now = began + n / 100
            value = 64 + 60 * np.sin(4 * n / 100)
            inbox.take(message("/desk/1", float(value)))
            sent.append((n / 100, value / 127))
        answer = self.client.delete(f"/api/shots/{self.shot}/takes/{take}")
        self.assertEqual(answer.status_code, 200, answer.text[:300])
        self.assertRegex(answer.json()["taken"][0], r"Control: \d+ values as \d+ keys")
        keys = self.studio_shot().controls[0].value.keys
        self.assertAlmostEqual(keys[0].at_s, 0.5, delta=0.02)
        self.assertLess(len(keys), len(sent))
        times, values = (np.array(column) for column in zip(*sent, strict=True))
        # As it was played, but for the moments between two messages.
        self.assertLess(float(np.abs(along(keys, times[5:] + 0.5) - values[5:]).max()), 0.03)
        # It ends with the last message.
        self.assertAlmostEqual(keys[-1].at_s, 0.5 + times[-1], delta=0.02)
        self.client.post(f"/api/shots/{self.shot}/undo")
        self.assertEqual(self.studio_shot().controls[0].value.keys, ())
        self.assertEqual(self.client.delete(f"/api/shots/{self.shot}/takes/{take}").status_code, 422)

    def studio_shot(self):  # type: ignore[no-untyped-def]
        return self.app.state.studio.store.document(self.shot)

    def test_a_take_of_nothing_is_refused(self) -> None:
        url = f"/api/shots/{self.shot}/takes"
        self.assertIn("does not exist", self.problem(self.client.post(url, json={"at_s": 0, "controls": ["x"]})))
        control = self.control(address="")
        self.assertIn("no input drives", self.problem(self.client.post(url, json={"at_s": 0, "controls": [control]})))
        other = self.control(address="/never")
        take = self.client.post(url, json={"at_s": 0, "controls": [other]}).json()["id"]
        self.assertIn("no value arrived", self.problem(self.client.delete(f"{url}/{take}")))

    def test_the_stand_ins_send_what_devices_would(self) -> None:
        for send, addresses in (
            (standins.faders, ("/desk/1", "/desk/4")), (standins.walker, ("/tuio/2Dcur/x", "/walker", "/walker#2")),
            (standins.notes, ("/midi/1/note/60", "/midi/clock/running")), (standins.timecode, ("/timecode/s",)),
        ):  # fmt: skip
            one = threading.Thread(target=send, args=("127.0.0.1", self.port, 0.5))
            one.start()
            for address in addresses:
                self.wait(address)
            one.join()
        self.assertEqual(self.client.get("/api/incoming").json()["bad"], 0)

    def test_a_midi_file_becomes_controls(self) -> None:
        content = Midi.file(
            mido.Message("control_change", control=1, value=0, time=0),
            mido.Message("control_change", control=1, value=127, time=480),
            mido.Message("note_on", note=60, velocity=127, time=240), mido.Message("note_off", note=60, time=240),
        )  # fmt: skip
        answer = self.client.post(f"/api/shots/{self.shot}/midi?name=a.mid", content=content)
        self.assertEqual(answer.status_code, 200, answer.text[:300])
        controls = {one.name: one.value for one in self.studio_shot().controls}
        self.assertEqual(sorted(controls), ["Controller 1, channel 1", "Notes, channel 1", "Pitch, channel 1"])
        values = along(controls["Controller 1, channel 1"].keys, np.array([0.2, 0.48, 0.52, 1.5]))
        np.testing.assert_allclose(values, [0, 0, 1, 1], atol=0.01)
        self.assertIn(
            "not a MIDI file", self.problem(self.client.post(f"/api/shots/{self.shot}/midi?name=a.mid", content=b"x"))
        )


class Telling(Looking):
    """Figures of particles, while a shot plays."""

    def setUp(self) -> None:
        self.heard = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.heard.bind(("127.0.0.1", 0))
        self.heard.settimeout(20)
        self.addCleanup(self.heard.close)
        with mock.patch.dict(os.environ, {"ISBJORN_OSC_OUT": f"127.0.0.1:{self.heard.getsockname()[1]}"}):
            super().setUp()

    def test_lights_can_follow_the_particles(self) -> None:
        shot = self.app.state.studio.store.document(self.shot)
        with self.looking() as live:
            live.send_json({"kind": "play", "frame": 30, "first": 0, "last": 49, "width": 160})
            header, _ = self.picture(live)
            while not header["playing"]:
                header, _ = self.picture(live)
            content, _ = self.heard.recvfrom(9000)
        reported = {m.message.address: m.message.params for m in OscPacket(content).messages}
        frame = reported[f"/isbjorn/{self.shot}/frame"][0]
        particles = Solver(shot).at(frame)
        self.assertEqual(reported[f"/isbjorn/{self.shot}/alive"], [len(particles)])
        self.assertEqual(reported[f"/isbjorn/{self.shot}/born"], [int((particles.age < 1).sum())])
        np.testing.assert_allclose(
            reported[f"/isbjorn/{self.shot}/centre"], particles.position[:, :2].mean(axis=0), atol=0.02
        )
