"""A stage: a shot that runs live over one WebSocket. Input drives it, and pictures are sent as they are rendered.

Messages to the page are text; pictures are binary, as in the preview: the length of a JSON header (4 bytes, little endian), the
header (`StageHeader`), the JPEG.
"""

from __future__ import annotations

import asyncio
import json
import os
import threading
import time
from collections import deque
from collections.abc import Callable
from contextlib import suppress
from typing import Any, Literal

from fastapi import APIRouter, WebSocket, WebSocketDisconnect
from fastapi.concurrency import run_in_threadpool
from pydantic import BaseModel, Field

from isbjorn.core.caching import RecentCache
from isbjorn.core.errors import IsbjornError
from isbjorn.core.runtime.memory import budget_bytes
from isbjorn.core.runtime.parallel import worker_context
from isbjorn.studio.api.takes import keep_take
from isbjorn.studio.context import Studio
from isbjorn.studio.preview.frame_workers import PRELOADED
from isbjorn.studio.preview.preview import Figures
from isbjorn.studio.shows.show_process import ShowPicture, perform
from isbjorn.studio.sockets import asked, packed, problem_message, taken_in, until_gone

router = APIRouter()
MOST_SHOWS = 3
_PICTURES_KNOWN, _LATENCIES = 64, 512
_WAITING = 4096
_ENDED_WITHIN_S = 2.0


class StageAsk(BaseModel):
    """A message of the page. `width`: width of pictures. `shown`: confirms one. `freeze`, `again`: the show pauses, restarts.
    `keep`: the performance becomes a take. Numbers of the page's own devices are sent by the set list's socket."""

    kind: Literal["width", "shown", "freeze", "again", "keep"]
    width: int = Field(default=1280, ge=16, le=4096)
    serial: int = Field(default=0, ge=0, le=2**53)
    rounds: bool = Field(default=False, description="Restart at the end of the shot; sent with the first message.")
    on: bool = True
    name: str = Field(default="", max_length=80)


class StageHeader(BaseModel):
    """What comes with a picture of a show."""

    serial: int
    seconds: float = Field(description="Time of the show, in s.")
    frame: float = Field(description="The same as a frame number; it continues beyond the last frame.")
    width: int
    height: int
    fps: float
    dropped: int = Field(description="Number of pictures that were not drawn in time.")
    reduced: float = Field(description="Share of the width at which it is drawn, if it is reduced.")
    latency_ms: float | None = Field(
        description="Time from the arrival of a value until the page confirms a picture with it, 95th percentile."
    )
    figures: Figures


class ShowHandle:
    """A shot that runs live for one page: the process, and the sockets connected to it."""

    def __init__(
        self, studio: Studio, shot_id: int, asked: tuple[int, bool], send: Callable[[str, Any], object]
    ) -> None:
        self.studio, self.shot_id, self._send = studio, shot_id, send
        self.latencies_s: deque[float] = deque(maxlen=_LATENCIES)
        self._pictures: RecentCache[int, list[float]] = RecentCache(_PICTURES_KNOWN)
        self._serial = 0
        self._waiting: deque[tuple[str, float, float]] = deque(maxlen=_WAITING)
        self._ended, self._wake, self._is_edited = False, threading.Event(), False
        self._sending = threading.Lock()
        self._pipe, theirs = worker_context(*PRELOADED).Pipe()
        text = studio.store.document(shot_id).model_dump_json()
        # As much as one that draws ahead.
        budget_mb = max(64, budget_bytes() >> 21)
        given = (theirs, str(studio.store.folder), text, asked, os.getpid(), budget_mb)
        self._process: Any = worker_context(*PRELOADED).Process(target=perform, args=given, daemon=True)
        self._process.start()
        theirs.close()
        self._stop = [studio.inbox.listen(self._arrived), studio.listen(shot_id, self._edited)]
        self._threads = [
            threading.Thread(target=work, name="stage", daemon=True) for work in (self._listen, self._forward)
        ]
        for thread in self._threads:
            thread.start()

    def _arrived(self, address: str, value: float, at: float) -> None:
        self._waiting.append((address, value, at))
        self._wake.set()

    def _edited(self) -> None:
        # Of edits in the making only the newest is read.
        self._is_edited = True
        self._wake.set()

    def _forward(self) -> None:
        """Hand on what arrives, and edits, as fast as the process takes them."""
        while not self._ended:
            self._wake.wait()
            self._wake.clear()
            numbers = []
            while self._waiting:
                numbers.append(self._waiting.popleft())
            if numbers:
                self.say("arrive", numbers)
            if self._is_edited:
                self._is_edited = False
                with suppress(IsbjornError):
                    self.say("edit", self.studio.store.document(self.shot_id).model_dump_json())

    def say(self, kind: str, what: Any = None) -> None:
        """Say something to the process."""
        with self._sending, suppress(OSError):
            self._pipe.send((kind, what))

    def _listen(self) -> None:
        while True:
            try:
                kind, what = self._pipe.recv()
            except (EOFError, OSError):
                if not self._ended:
                    self._send("gone", None)
                return
            if kind == "picture":
                self._serial += 1
                self._pictures.put(self._serial, what.arrived)
                self.studio.outbox.send(self.shot_id, int(what.frame), what.figures)
                self._send("picture", (self._header(what), what.jpeg))
            else:
                self._send(kind, what)

    def _header(self, picture: ShowPicture) -> StageHeader:
        return StageHeader(
            serial=self._serial, seconds=picture.seconds, frame=picture.frame, width=picture.width, height=picture.height,
            fps=picture.fps, reduced=picture.reduced, dropped=picture.dropped, latency_ms=self.latency_ms,
            figures=picture.figures,
        )  # fmt: skip

    @property
    def latency_ms(self) -> float | None:
        """The 95th percentile of the last arrivals; None before there were any."""
        known = sorted(self.latencies_s)
        return round(1e3 * known[min(len(known) - 1, int(0.95 * len(known)))], 1) if known else None

    def shown(self, serial: int) -> None:
        """The page has shown a picture."""
        now = time.monotonic()
        self.latencies_s.extend(now - at for at in self._pictures.pop(serial) or [])
        self.say("shown")

    def end(self) -> None:
        """End the process. It may be called again."""
        if self._ended:
            return
        self._ended = True
        for stop in self._stop:
            stop()
        self._wake.set()
        self.say("end")
        self._process.join(_ENDED_WITHIN_S)
        if self._process.is_alive():
            self._process.kill()
            self._process.join(_ENDED_WITHIN_S)
        # The end of the process is the end of what is listened to.
        for thread in self._threads:
            thread.join(_ENDED_WITHIN_S)
        self._pipe.close()


def _text(kind: str, **more: Any) -> str:
    return json.dumps({"kind": kind, **more})


class Stage:
    """One page that shows a show."""

    def __init__(self, studio: Studio, socket: WebSocket, shot_id: int) -> None:
        self.studio, self.socket, self.shot_id = studio, socket, shot_id
        self.loop = asyncio.get_running_loop()
        self.outgoing: asyncio.Queue[tuple[str, Any]] = asyncio.Queue()
        self.show: ShowHandle | None = None
        self.left = False
        # Under which names takes are to be kept that were asked for.
        self._names: deque[str] = deque(maxlen=8)

    def post(self, kind: str, what: Any) -> None:
        """Queue a message for the page, from any thread."""
        with suppress(RuntimeError):
            self.loop.call_soon_threadsafe(self.outgoing.put_nowait, (kind, what))

    async def send(self) -> None:
        """Send messages, for ever."""
        while True:
            kind, what = await self.outgoing.get()
            if kind == "picture":
                header, jpeg = what
                await self.socket.send_bytes(packed(header, jpeg))
            elif kind == "kept":
                await self._keep(*what)
            elif kind == "gone":
                await self.socket.send_text(_text("gone"))
                raise WebSocketDisconnect(1011)
            else:
                await self.socket.send_text(_text(kind, **(what or {})))

    async def _keep(self, text: str, name: str) -> None:
        try:
            words = await run_in_threadpool(keep_take, self.studio, self.shot_id, text, name)
            await self.socket.send_text(_text("kept", words=words))
        except IsbjornError as error:
            await self._wrong(error)

    async def _wrong(self, error: IsbjornError) -> None:
        await self.socket.send_text(problem_message(error))

    async def hear(self) -> None:
        """Take messages until the page is gone."""
        while True:
            ask = await asked(self.socket, StageAsk, "stage", self._wrong)
            if self.show is None:
                await run_in_threadpool(self._begin, ask)
            assert self.show is not None
            match ask.kind:
                case "shown":
                    self.show.shown(ask.serial)
                case "keep":
                    self._names.append(ask.name)
                    self.show.say("keep")
                case kind:
                    what = {"width": ask.width, "freeze": ask.on}.get(kind)
                    await run_in_threadpool(self.show.say, kind, what)

    def _begin(self, ask: StageAsk) -> None:
        self.show = ShowHandle(self.studio, self.shot_id, (ask.width, ask.rounds), self._of_show)
        if self.left:
            # The page did not wait for it.
            self.show.end()

    def _of_show(self, kind: str, what: Any) -> None:
        if kind == "kept":
            self.post(kind, (what, self._names.popleft() if self._names else ""))
        else:
            self.post(kind, what)


@router.websocket("/api/shots/{shot_id}/stage")
async def stage(socket: WebSocket, shot_id: int) -> None:
    """Perform a shot."""
    studio: Studio = socket.app.state.studio

    def known(number: int) -> None:
        studio.store.shot_row(number)
        if studio.shows >= MOST_SHOWS:
            raise IsbjornError(
                f"{MOST_SHOWS} shots are already being performed.", "stage", "Close the window of one of them."
            )

    if not await taken_in(socket, shot_id, known):
        return
    one = Stage(studio, socket, shot_id)
    studio.shows += 1
    try:
        await until_gone(one.send(), one.hear())
    finally:
        studio.shows -= 1
        one.left = True
        if one.show is not None:
            await run_in_threadpool(one.show.end)
