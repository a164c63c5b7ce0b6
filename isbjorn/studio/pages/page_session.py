"""One page that looks at one shot: what it says, and the pictures that go to it.

To the page: a text message for a problem, a binary one for a picture: the length of a JSON header (4 bytes, little
endian), the header (`Header`), the JPEG. At most two pictures are on their way; each is confirmed by the page, so that a slow
browser never queues old ones.
"""

from __future__ import annotations

import asyncio
import json
import time
from collections import deque
from dataclasses import replace
from typing import Annotated, Any, Literal

from fastapi import WebSocket
from fastapi.concurrency import run_in_threadpool
from pydantic import BaseModel, Field

from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError, Stale
from isbjorn.core.frame import Rough
from isbjorn.studio.context import Studio
from isbjorn.studio.pages.prefetch import FULL, Level
from isbjorn.studio.preview.interaction_rate import Pace
from isbjorn.studio.preview.preview import Figures, ShownPicture, View, Wish, digest_of
from isbjorn.studio.preview.scheduler import Priority
from isbjorn.studio.sockets import asked, packed

_ON_THEIR_WAY = 2
_LARGEST_WIDTH = 8192
# Seconds between two progress reports of a simulation.
REPORTED_EVERY_S = 0.5
# A coarse picture is rendered for at least this long before a newer edit may replace it: continuous edits still show something.
FINISHED_S = 10.0
FrameNumber = Annotated[int, Field(ge=-(2**53), le=2**53)]
Angle = Annotated[float, Field(ge=-3600, le=3600)]


class Ask(BaseModel):
    """A message of the page. `see`: show a frame. `play`: from a frame on, round and round. `stop`. `shown`: confirms a picture."""

    kind: Literal["see", "play", "stop", "shown"]
    frame: FrameNumber = 0
    width: int = Field(default=640, ge=16, le=_LARGEST_WIDTH)
    view: View = "plate"
    first: FrameNumber = 0
    last: FrameNumber = 0
    serial: int = Field(default=0, ge=0, le=2**53)
    orbit: tuple[Angle, Angle, Annotated[float, Field(ge=0.01, le=1000)]] | None = Field(
        default=None, description="Free view: degrees to the side and upwards, and the factor of the distance."
    )


class Header(BaseModel):
    """What comes with a picture."""

    serial: int
    frame: int
    revision: int
    exact: bool
    width: int
    height: int
    playing: bool
    fps: float
    dropped: int
    reduced: float = Field(default=1.0, description="Share of the width at which it plays, if it is reduced.")
    rough: Rough = Field(default=0, description="1: without motion blur; 2: also with fewer particles.")
    held: bool = Field(default=False, description="Interacting particles still show the positions of before the edit.")
    computed: list[tuple[int, int]]
    figures: Figures


class Looker:
    """One page that looks at one shot. version: grows with every wish and every edit; pace: how quickly it is followed."""

    def __init__(self, studio: Studio, socket: WebSocket, shot_id: int) -> None:
        self.studio, self.socket, self.shot_id = studio, socket, shot_id
        self.wish: Wish | None = None
        self.playing: Ask | None = None
        self.range = (0, -1)
        self.wake = asyncio.Event()
        self.room = asyncio.Semaphore(_ON_THEIR_WAY)
        self.serial, self.version = 0, 0
        self.document: tuple[int, Shot, str] | None = None
        self.pace = Pace()
        # While it plays: when pictures were sent, and how many frames were left out.
        self.sent: deque[float] = deque(maxlen=64)
        self.dropped = 0
        self.gone = False
        self._last_problem: str | None = None
        self._unconfirmed = 0

    async def hear(self) -> None:
        """Take messages until the page is gone."""
        while True:
            ask = await asked(self.socket, Ask, "live", self.problem)
            if ask.kind == "shown":
                if self._unconfirmed > 0:
                    self._unconfirmed -= 1
                    self.room.release()
                continue
            self.playing = ask if ask.kind == "play" else None
            if ask.kind != "stop":
                self.wish = Wish(ask.frame, ask.width, ask.view, orbit=ask.orbit)
                self.range = (ask.first, ask.last)
            self.changed()

    def changed(self) -> None:
        """Something new is to be seen: a wish, or an edit."""
        self.version += 1
        self.pace.changed()
        self.wake.set()

    def shot(self) -> tuple[int, Shot, str]:
        """The revision, the current document, and its digest. Off the event loop."""
        stamp, head, shot = self.studio.seen(self.shot_id)
        if self.document is None or self.document[0] != (stamp << 20) + head:
            self.document = ((stamp << 20) + head, shot, digest_of(shot))
        return head, self.document[1], self.document[2]

    async def read(self) -> tuple[int, Shot, str]:
        """As `shot`, off the event loop."""
        return await run_in_threadpool(self.shot)

    async def draw(self, wish: Wish, version: int, finish: bool = False) -> tuple[int, ShownPicture, str] | None:
        """Render off the event loop; None if it became stale or failed (then the page gets a message).

        finish: a newer wish does not push it out at once.
        """
        until = time.monotonic() + (FINISHED_S if finish else 0.0)

        def stale() -> bool:
            return self.gone or (self.version != version and time.monotonic() > until)

        def work() -> tuple[int, ShownPicture, str]:
            head, shot, digest = self.shot()
            frame = shot.nearest_frame(wish.frame)
            wanted = replace(wish, frame=frame)
            return (
                head,
                self.studio.preview.draw(shot, digest, wanted, stale, self.shot_id),
                digest,
            )

        try:
            priority = Priority.DRAG if self.pace.flowing() else Priority.REST
            found = await self._waited(asyncio.wrap_future(self.studio.scheduler.draw(priority, id(self), work)))
        except Stale:
            return None
        except IsbjornError as error:
            await self.problem(error)
            return None
        except MemoryError:
            await self.problem(
                IsbjornError("there is not enough memory for this picture.", "live", "Use a smaller size.")
            )
            return None
        if self._last_problem is not None:
            self._last_problem = None
            await self.socket.send_text(json.dumps({"kind": "fine"}))
        return found

    async def _waited(self, drawing: asyncio.Future[tuple[int, ShownPicture, str]]) -> tuple[int, ShownPicture, str]:
        """Wait for a picture; report the progress of a long simulation of interacting emitters."""
        # A page that leaves meanwhile gets no further message.
        drawing.add_done_callback(lambda done: done.cancelled() or done.exception())
        while not (await asyncio.wait({drawing}, timeout=REPORTED_EVERY_S))[0]:
            running = self.studio.preview.running(self.shot_id)
            if running is not None and self.document is not None:
                shot = self.document[1]
                frame = shot.first_frame + int(running.reached_s * float(shot.frame_rate))
                message = {"kind": "running", "frame": max(frame, shot.first_frame), "left_s": round(running.left_s, 1)}
                await self.socket.send_text(json.dumps(message))
        return drawing.result()

    async def send(
        self, wish: Wish, found: tuple[int, ShownPicture, str], exact: bool, level: Level = FULL, held: bool = False
    ) -> None:
        """Send a picture, once there is room for it on the way."""
        await self.room.acquire()
        self._unconfirmed += 1
        head, shown, digest = found
        self.serial += 1
        elapsed = self.sent[-1] - self.sent[0] if len(self.sent) > 1 else 0.0
        header = Header(
            serial=self.serial,
            frame=wish.frame,
            revision=head,
            exact=exact,
            width=shown.width,
            height=shown.height,
            playing=self.playing is not None,
            fps=round((len(self.sent) - 1) / elapsed, 2) if elapsed else 0.0,
            dropped=self.dropped,
            reduced=level.size,
            rough=level.rough,
            held=held,
            computed=self.studio.preview.computed(digest, wish),
            figures=shown.figures,
        )
        if self.playing is not None:
            self.studio.outbox.send(self.shot_id, wish.frame, shown.figures)
        await self.socket.send_bytes(packed(header, shown.jpeg))

    async def problem(self, error: IsbjornError) -> None:
        """Say what is wrong; what plays stops."""
        message: dict[str, Any] = {"kind": "problem", "what": error.what, "where": error.where, "remedy": error.remedy}
        head, *_ = await self.read()
        message["revision"] = head
        self._last_problem = error.what
        self.playing = None
        await self.socket.send_text(json.dumps(message))
