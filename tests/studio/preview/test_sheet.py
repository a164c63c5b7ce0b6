"""A sheet of many states of a shot: its pictures are those of the states, the coarse ones first, and never in the way of a play."""

import contextlib
import io
import json
from collections.abc import Iterator
from fractions import Fraction
from typing import Any

import av
import numpy as np
import simplejpeg
from PIL import Image

from isbjorn.core.document.editing.patching import patched
from isbjorn.core.document.files import parse_shot
from isbjorn.core.frame import render_frame
from isbjorn.core.imaging.colour import shade_table
from isbjorn.core.imaging.display_encoding import to_shades
from isbjorn.studio.preview.preview import _MOVING
from isbjorn.studio.sockets import unpacked
from tests.studio.in_studio import InStudio
from tests.waiting import until

RATE, SPEED = {"path": "/emitters/0/rate"}, {"path": "/emitters/0/speed"}
Shown = dict[tuple[int, int], np.ndarray]


class Sheets(InStudio):
    @contextlib.contextmanager
    def sheet(self) -> Iterator[Any]:
        url = f"/api/shots/{self.shot}/sheet"
        with self.client.websocket_connect(url, headers={"host": "127.0.0.1"}) as socket:
            yield socket

    def message(self, socket: Any) -> dict[str, Any]:
        """The next message; of a picture, its header with the picture."""
        message = socket.receive()
        if "bytes" not in message:
            found: dict[str, Any] = json.loads(message["text"])
            return found
        header, jpeg = unpacked(message["bytes"])
        return {"kind": "picture", **header, "seen": simplejpeg.decode_jpeg(jpeg)}

    def whole(self, socket: Any) -> tuple[dict[str, Any], list[dict[str, Any]]]:
        """A sheet, and its pictures in the order in which they came."""
        state = self.message(socket)
        self.assertEqual(state["kind"], "sheet", state)
        pictures = []
        while (message := self.message(socket))["kind"] != "done":
            self.assertEqual(message["serial"], state["serial"])
            pictures.append(message)
        return state, pictures

    def last(self, pictures: list[dict[str, Any]]) -> Shown:
        return {(one["cell"], one["picture"]): one["seen"] for one in pictures}

    def expected(self, changes: list[dict[str, Any]], frame: int, width: int) -> np.ndarray:
        shot = patched(parse_shot(self.document()), changes)
        picture = render_frame(shot, frame, width / shot.width, plates=self.app.state.studio.plates)
        return np.asarray(to_shades(picture, shade_table("srgb")))

    def test_each_cell_shows_its_state(self) -> None:
        with self.sheet() as socket:
            socket.send_json({"kind": "sweep", "columns": RATE, "rows": SPEED, "frame": 30, "width": 160})
            state, pictures = self.whole(socket)
        self.assertEqual((state["size"], state["frames"], len(state["cells"])), ([3, 3], [30], 9))
        middle = state["cells"][0]
        self.assertEqual((middle["row"], middle["column"], middle["current"]), (1, 1, True))
        # Every cell has a picture before any has two.
        self.assertEqual({one["cell"] for one in pictures[:9]}, set(range(9)))
        found = self.last(pictures)
        for n, cell in enumerate(state["cells"]):
            drawn = self.expected(cell["changes"], 30, 160)
            jpeg = simplejpeg.encode_jpeg(drawn, colorspace="RGB", fastdct=True, **_MOVING)
            np.testing.assert_array_equal(found[n, 0], simplejpeg.decode_jpeg(jpeg), str(cell))

    def test_the_blur_of_the_shutter_comes_after_a_coarse_picture(self) -> None:
        self.edit("/camera/shutter/value", 180)
        with self.sheet() as socket:
            socket.send_json({"kind": "sweep", "columns": RATE, "count": 2, "frame": 20, "width": 160})
            _, pictures = self.whole(socket)
        self.assertEqual([one["exact"] for one in pictures], [False] * 4 + [True] * 4)

    def test_a_loop_is_complete_and_in_step(self) -> None:
        with self.sheet() as socket:
            socket.send_json({"kind": "sweep", "columns": RATE, "count": 2, "frame": 45, "width": 80, "loop": 9})
            state, pictures = self.whole(socket)
        frames = state["frames"]
        self.assertEqual(len(frames), 9)
        self.assertEqual(len({b - a for a, b in zip(frames, frames[1:], strict=False)}), 1)
        self.assertLessEqual(frames[-1], 49)
        self.assertEqual(set(self.last(pictures)), {(cell, k) for cell in range(4) for k in range(9)})

    def test_variations_look_different_and_come_again_by_their_seed(self) -> None:
        emitter = self.document()["emitters"][0]["id"]
        ask = {
            "kind": "vary",
            "thing": emitter,
            "frame": 30,
            "width": 96,
            "locked": ["/emitters/0/rate"],
            "strength": 0.8,
        }
        with self.sheet() as socket:
            socket.send_json({**ask, "seed": 5})
            state, pictures = self.whole(socket)
            socket.send_json({**ask, "seed": 5})
            again, _ = self.whole(socket)
            socket.send_json({**ask, "seed": 6})
            other, _ = self.whole(socket)
            looks = [cell["look"] for cell in state["cells"]]
            self.assertEqual(looks, [cell["look"] for cell in again["cells"]])
            self.assertNotEqual(looks, [cell["look"] for cell in other["cells"]])
            self.assertEqual((len(looks), looks[0], state["cells"][0]["current"]), (9, {}, True))
            self.assertFalse([look for look in looks if "/emitters/0/rate" in look])
            shown = [one.astype(float) for (_, _), one in sorted(self.last(pictures).items())]
            apart = [np.abs(a - b).mean() for n, a in enumerate(shown) for b in shown[:n]]
            self.assertGreater(min(apart), 0.05)

            # From two of them: each is the child of both.
            socket.send_json({**ask, "seed": 7, "parents": looks[1:3], "strength": 0.01})
            children, _ = self.whole(socket)
            self.assertEqual(children["cells"][0]["look"], looks[1])
            known = set(looks[1]) | set(looks[2])
            self.assertTrue(all(known & set(cell["look"]) for cell in children["cells"]))
            self.assertTrue(all(cell["label"] for cell in children["cells"]))

    def test_cells_of_a_tall_shot_stay_small(self) -> None:
        self.edit("/height", 8000)
        self.edit("/width", 100)
        with self.sheet() as socket:
            socket.send_json({"kind": "sweep", "columns": RATE, "count": 2, "width": 640})
            _, pictures = self.whole(socket)
        self.assertLessEqual(max(one["seen"].size for one in pictures), 3 * 650 * 650)

    def test_narrowing_is_computed_here(self) -> None:
        ask = {"kind": "sweep", "columns": {**RATE, "start": 0, "end": 80, "spacing": "even"}, "count": 2, "width": 40}
        with self.sheet() as socket:
            socket.send_json(ask)
            self.whole(socket)
            socket.send_json({**ask, "around": {"column": 40, "by": 0.5}})
            state, _ = self.whole(socket)
        self.assertEqual((state["columns"]["start"], state["columns"]["end"]), (20, 60))

    def test_a_newer_request_and_an_edit_draw_it_again(self) -> None:
        with self.sheet() as socket:
            socket.send_json({"kind": "sweep", "columns": RATE, "count": 7, "frame": 40, "width": 320, "loop": 24})
            first = self.message(socket)["serial"]
            socket.send_json({"kind": "sweep", "columns": SPEED, "count": 2, "frame": 5, "width": 40})
            until(lambda: self.message(socket).get("serial", first) > first, "the first sheet went on")
            while self.message(socket)["kind"] != "done":
                pass
            self.edit("/emitters/0/speed/value", 222)
            state, _ = self.whole(socket)
            self.assertEqual(state["columns"]["now"], 222)

    def test_it_waits_while_somebody_plays(self) -> None:
        scheduler = self.app.state.studio.scheduler
        scheduler._quiet_at = scheduler._clock() + 900
        with self.sheet() as socket:
            socket.send_json({"kind": "sweep", "columns": RATE, "count": 2, "width": 40})
            self.assertEqual(self.message(socket)["kind"], "sheet")
            until(lambda: self.queued() > 0, "nothing waits")
            scheduler._quiet_at = scheduler._clock()
            scheduler.dispatch()
            while self.message(socket)["kind"] != "done":
                pass

    def queued(self) -> int:
        drawing = self.client.get("/api/health").json()["drawing"]
        return int(next(one["queued"] for one in drawing if one["priority"] == "sheet"))

    def test_what_is_no_sheet_is_refused_and_the_socket_lives(self) -> None:
        with self.sheet() as socket:
            for ask in (
                {"kind": "sweep"},
                {"kind": "sweep", "columns": {"path": "/name"}},
                {"kind": "vary", "thing": "nobody"},
                {"kind": "vary", "thing": "emitter", "parents": [{"/name": 3}]},
                {"kind": "spin"},
            ):
                socket.send_json(ask)
                self.assertEqual(self.message(socket)["kind"], "problem")
            socket.send_json({"kind": "sweep", "columns": RATE, "count": 2, "width": 40})
            self.assertEqual(len(self.whole(socket)[0]["cells"]), 4)

    def test_a_cell_that_is_no_shot_says_so(self) -> None:
        sides = {"columns": {"path": "/last_frame", "start": -20, "end": 40}, "count": 2, "width": 40}
        with self.sheet() as socket:
            socket.send_json({"kind": "sweep", **sides})
            self.message(socket)
            found = []
            while (message := self.message(socket))["kind"] != "done":
                found.append(message)
        refused = [one for one in found if one["kind"] == "refused"]
        self.assertTrue(refused and all(one["what"] for one in refused))
        self.assertTrue(any(one["kind"] == "picture" for one in found))

    def test_a_cell_is_kept_as_a_version(self) -> None:
        changes = [{"op": "replace", "path": "/emitters/0/rate/value", "value": 321}]
        body = {"name": "Rate 321", "changes": changes}
        kept = self.client.post(f"/api/shots/{self.shot}/versions", json=body).json()
        self.assertNotEqual(self.document()["emitters"][0]["rate"]["value"], 321)
        self.client.post(f"/api/versions/{kept['id']}/take")
        self.assertEqual(self.document()["emitters"][0]["rate"]["value"], 321)

    def test_a_contact_sheet_has_the_cells_with_their_values(self) -> None:
        ask = {"kind": "sweep", "columns": RATE, "rows": SPEED, "frame": 30, "width": 160}
        answer = self.client.post(f"/api/shots/{self.shot}/sheet", json=ask)
        self.assertEqual(answer.status_code, 200, answer.text[:200])
        sheet = np.asarray(Image.open(io.BytesIO(answer.content)).convert("RGB")).astype(int)
        cell = self.expected([], 30, 160).astype(int)
        # The middle of nine: behind the edge, the values of the rows and one cell.
        top, left = 16 + 24 + 24 + (90 + 6), 16 + 96 + (160 + 6)
        self.assertLess(np.abs(sheet[top : top + 90, left : left + 160] - cell).max(), 3)
        # Words above the first cell and beside it.
        ground = sheet[2, 2]
        self.assertTrue((np.abs(sheet[40:64, 112:272] - ground).max(axis=2) > 60).any())
        self.assertTrue((np.abs(sheet[64:154, 16:106] - ground).max(axis=2) > 60).any())

    def test_a_contact_sheet_of_a_loop_is_a_movie(self) -> None:
        ask = {"kind": "sweep", "columns": RATE, "count": 2, "frame": 0, "width": 80, "loop": 6}
        answer = self.client.post(f"/api/shots/{self.shot}/sheet", json=ask)
        self.assertEqual(answer.headers["content-type"], "video/mp4")
        with av.open(io.BytesIO(answer.content)) as movie:
            self.assertEqual(len(list(movie.decode(video=0))), 6)
            self.assertEqual(movie.streams.video[0].average_rate, Fraction(25, 6))
