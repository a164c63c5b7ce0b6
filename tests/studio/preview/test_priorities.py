"""Playback and drags go first: filling on another page, portraits and the Lookout wait, and continue afterwards."""

import threading
from typing import Any
from unittest import mock

from isbjorn.studio.pages import playback
from isbjorn.studio.preview.preview import Wish
from tests.studio.in_studio import Looking
from tests.waiting import until


class TwoPages(Looking):
    def setUp(self) -> None:
        super().setUp()
        body = {"name": "Rime", "width": 320, "height": 180, "frames": 400}
        self.other = self.client.post(f"/api/projects/{self.project}/shots", json=body).json()["id"]
        self.studio = self.app.state.studio
        # The shots that frames are asked of, by their number of frames, in order.
        self.asked: list[int] = []
        draw = self.studio.frame_workers.draw

        def noted(shot: Any, digest: str, wish: Wish, ticket: Any, *more: Any) -> Any:
            self.asked.append(shot.last_frame + 1)
            return draw(shot, digest, wish, ticket, *more)

        self.enterContext(mock.patch.object(self.studio.frame_workers, "draw", noted))
        self.enterContext(mock.patch.object(playback, "_IDLE_S", 0.01))

    def test_a_page_that_fills_its_range_leaves_the_machine_to_one_that_plays(self) -> None:
        url = f"/api/shots/{self.other}/live"
        with self.client.websocket_connect(url, headers={"host": "127.0.0.1"}) as idle, self.looking() as plays:
            idle.send_json({"kind": "see", "frame": 0, "width": 320, "first": 0, "last": 399})
            self.picture(idle)
            until(lambda: self.asked.count(400) > 4, "the idle page filled nothing")
            plays.send_json({"kind": "play", "frame": 0, "width": 160, "first": 0, "last": 49})
            frames = [self.picture(plays)[0] for _ in range(3)]
            self.assertTrue(all(header["playing"] for header in frames))
            begun = len(self.asked)
            # Three rounds are seen, and no frame of the other page is begun.
            for _ in range(60):
                self.picture(plays)
            self.assertNotIn(400, self.asked[begun:])
            plays.send_json({"kind": "stop"})
            stopped = len(self.asked)
            until(lambda: 400 in self.asked[stopped:], "the idle page did not go on")

    def test_a_shot_notes_when_a_page_looks_at_it(self) -> None:
        def opened() -> list[str | None]:
            (project,) = self.client.get("/api/projects").json()
            return [shot["opened"] for shot in project["shots"]]

        self.assertEqual(opened(), [None, None])
        url = f"/api/shots/{self.other}/live"
        with self.client.websocket_connect(url, headers={"host": "127.0.0.1"}):
            until(lambda: opened()[1], "it was not noted")
        self.assertIsNone(opened()[0])

    def test_portraits_and_the_lookout_wait_during_playback(self) -> None:
        emitter = self.document()["emitters"][0]["id"]
        scheduler = self.studio.scheduler
        for name, path in (
            ("lookout", f"/api/shots/{self.shot}/lookout?frame=3"),
            ("portrait", f"/api/shots/{self.shot}/emitters/{emitter}/portrait?frame=3"),
        ):
            done: list[int] = []
            with mock.patch.dict("isbjorn.studio.preview.scheduler._LATEST_S", {}, clear=True):
                # Somebody plays until further notice.
                scheduler._quiet_at = scheduler._clock() + 900
                asking = threading.Thread(
                    target=lambda path=path, done=done: done.append(self.client.get(path).status_code)
                )
                asking.start()
                until(lambda name=name: self.queued(name) == 1, "it does not wait")
                self.assertEqual(done, [])
                scheduler._quiet_at = scheduler._clock()
                scheduler.dispatch()
                until(lambda done=done: done == [200], "it did not come when the play was over")
                asking.join()

    def queued(self, name: str) -> int:
        drawing = self.client.get("/api/health").json()["drawing"]
        return next(one["queued"] for one in drawing if one["priority"] == name)
