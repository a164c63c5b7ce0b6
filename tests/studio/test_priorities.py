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

        def noted(shot: Any, digest: str, wish: Wish, ticket: Any, following: bool = False) -> Any:
            self.asked.append(shot.last_frame + 1)
            return draw(shot, digest, wish, ticket, following)

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

    def test_portraits_and_the_lookout_wait_during_playback(self) -> None:
        emitter = self.document()["emitters"][0]["id"]
        preview, playing_now = self.studio.preview, threading.Event()
        playing_now.set()
        asked = threading.Event()

        def held() -> bool:
            asked.set()
            return playing_now.is_set()

        for path in (
            f"/api/shots/{self.shot}/lookout?frame=3",
            f"/api/shots/{self.shot}/emitters/{emitter}/portrait?frame=3",
        ):
            playing_now.set()
            asked.clear()
            done: list[int] = []
            with (
                mock.patch.object(preview, "held", held),
                mock.patch("isbjorn.studio.api.bodies._LATE_S", 900.0),
                mock.patch("isbjorn.studio.api.lookout_api._LATE_S", 900.0),
            ):
                asking = threading.Thread(
                    target=lambda path=path, done=done: done.append(self.client.get(path).status_code)
                )
                asking.start()
                until(asked.is_set, "nobody asked whether somebody plays")
                self.assertEqual(done, [])
                playing_now.clear()
                until(lambda done=done: done == [200], "it did not come when the play was over")
                asking.join()
