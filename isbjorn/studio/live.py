"""The live preview over one WebSocket.

The page says what it wants to see; the newest wish and the newest edit win, stale work is dropped. At most two pictures
are on their way; each is confirmed by the page, so that a slow browser never queues old ones.

To the page: a text message for a problem, a binary one for a picture: the length of a JSON header (4 bytes, little
endian), the header (`Header`), the JPEG.
"""

from __future__ import annotations

import asyncio
import json
import os
import statistics
import time
from collections import deque
from concurrent.futures import ThreadPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import suppress
from dataclasses import replace
from typing import Annotated, Any, Literal

from fastapi import APIRouter, WebSocket, WebSocketDisconnect
from pydantic import BaseModel, Field, ValidationError

from isbjorn.core.document import Shot
from isbjorn.core.document.acting import acting
from isbjorn.core.errors import IsbjornError, Stale
from isbjorn.core.frame import FEW, Rough
from isbjorn.core.runtime.memory import resident_bytes
from isbjorn.core.simulate.crowd.crowd import crowds_of, run_anew
from isbjorn.studio.ahead import FULL, About, Ahead, Level
from isbjorn.studio.context import Studio
from isbjorn.studio.pace import PAUSE_S, Pace
from isbjorn.studio.preview import Figures, Shown, View, Wish, digest_of
from isbjorn.studio.sockets import packed, taken_in, until_gone

router = APIRouter()
_ON_THEIR_WAY = 2
_LARGEST_WIDTH = 8192
_IDLE_S, _TOLD_EVERY_S = 1.5, 0.5
# So many frames are ready before it plays, unless that takes too long.
_READY, _READY_S = 4, 1.5
# A frame that all threads of this process drew takes one thread about so many times as long.
_ALONE = 1.7
# Of its time, so much does not shrink with its size, whatever is forecast.
_LEAST_FIXED, _MOST_FIXED = 0.3, 0.9
# Where nothing came for so long while it plays, it goes on from where it was, once that is there: what has to be run up to is not
# run after. What is drawn no farther than so many frames from there is waited for.
_STALLED_S, _NEAR_BY = 1.0, 12
# So long a coarse picture is worked on before a newer edit may push it out: who edits without a pause still sees something.
_FINISHED_S = 10.0
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
        default=None, description="A free look: degrees to the side and upward, times as far away."
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
    reduced: float = Field(
        default=1.0, description="The share of the width that is played, where it is not played in full."
    )
    rough: Rough = Field(default=0, description="1: as if the shutter were closed; 2: also with fewer particles.")
    held: bool = Field(
        default=False, description="Particles that know of each other are where they were before the edit."
    )
    computed: list[tuple[int, int]]
    figures: Figures


class Viewer:
    """One page that looks at one shot."""

    def __init__(self, studio: Studio, socket: WebSocket, shot_id: int, engine: ThreadPoolExecutor) -> None:
        self.studio, self.socket, self.shot_id, self.engine = studio, socket, shot_id, engine
        self.wish: Wish | None = None
        self.playing: Ask | None = None
        self.range = (0, -1)
        self.wake = asyncio.Event()
        self.room = asyncio.Semaphore(_ON_THEIR_WAY)
        self.serial, self.version = 0, 0
        self._document: tuple[int, Shot, str] | None = None
        self._told: str | None = None
        self._sent: deque[float] = deque(maxlen=64)
        self._dropped = 0
        # Of what the one who draws while a hand moves something knows how it moves.
        self.pace, self._prepared = Pace(), ""
        # What a frame in full took one of those who draw ahead, lately; 0 until one did.
        self._full_ms = 0.0
        # The document as it was last seen in full, and its digest.
        self._rested: tuple[Shot, str] | None = None
        self._unconfirmed = 0
        self.gone = False

    async def hear(self) -> None:
        """Take messages until the page is gone."""
        while True:
            message = await self.socket.receive()
            if message["type"] == "websocket.disconnect":
                raise WebSocketDisconnect(message.get("code", 1000))
            try:
                text = message.get("text")
                if text is None:
                    raise IsbjornError("a message must be text.", "live", "The message was left aside.")
                ask = Ask.model_validate_json(text)
            except ValidationError as error:
                await self._problem(IsbjornError(str(error.errors()[0]["msg"]), "live", "The message was left aside."))
                continue
            except IsbjornError as error:
                await self._problem(error)
                continue
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

    async def show(self) -> None:
        """Draw and send what is wished for, for ever."""
        while True:
            await self.wake.wait()
            self.wake.clear()
            if self.playing is not None:
                await self._play(self.playing)
            elif self.wish is not None:
                await self._see(self.wish)
                await self._fill(self.wish, self.version)

    def _shot(self) -> tuple[int, Shot, str]:
        stamp, head, shot = self.studio.seen(self.shot_id)
        if self._document is None or self._document[0] != (stamp << 20) + head:
            self._document = ((stamp << 20) + head, shot, digest_of(shot))
        return head, self._document[1], self._document[2]

    async def _draw(self, wish: Wish, version: int, finish: bool = False) -> tuple[int, Shown, str] | None:
        """Draw off the event loop; None if it became stale or went wrong (then the page is told).

        finish: a newer wish does not push it out at once.
        """
        loop, until = asyncio.get_running_loop(), time.monotonic() + (_FINISHED_S if finish else 0.0)

        def stale() -> bool:
            return self.gone or (self.version != version and time.monotonic() > until)

        def work() -> tuple[int, Shown, str]:
            head, shot, digest = self._shot()
            frame = min(max(wish.frame, shot.first_frame), shot.last_frame)
            wanted = replace(wish, frame=frame)
            return (
                head,
                self.studio.preview.draw(shot, digest, wanted, stale, self.shot_id),
                digest,
            )

        try:
            found = await self._waited(loop.run_in_executor(self.engine, work))
        except Stale:
            return None
        except IsbjornError as error:
            await self._problem(error)
            return None
        except MemoryError:
            await self._problem(
                IsbjornError("there is not enough memory for this picture.", "live", "Ask for a smaller one.")
            )
            return None
        if self._told is not None:
            self._told = None
            await self.socket.send_text(json.dumps({"kind": "fine"}))
        return found

    async def _waited(self, drawing: asyncio.Future[tuple[int, Shown, str]]) -> tuple[int, Shown, str]:
        """Wait for a picture; where it is a run of a crowd that takes long, say how far that is."""
        # Who leaves meanwhile hears no more of it.
        drawing.add_done_callback(lambda done: done.cancelled() or done.exception())
        while not (await asyncio.wait({drawing}, timeout=_TOLD_EVERY_S))[0]:
            running = self.studio.preview.running(self.shot_id)
            if running is not None and self._document is not None:
                shot = self._document[1]
                frame = shot.first_frame + int(running.reached_s * float(shot.frame_rate))
                told = {"kind": "running", "frame": max(frame, shot.first_frame), "left_s": round(running.left_s, 1)}
                await self.socket.send_text(json.dumps(told))
        return drawing.result()

    async def _see(self, wish: Wish) -> None:
        version = self.version
        flowing = self.pace.flowing()
        anew, held = await self._runs_anew()
        if self.pace.wants_coarse() or held:
            coarse = replace(self._coarse(wish), held=held)
            first = await (
                self._aside(coarse) if flowing and (held or not anew) else self._draw(coarse, version, finish=True)
            )
            if first is not None and self.playing is None:
                self.pace.fit(first[1].figures.ms)
                await self._send(wish, first, exact=False, held=bool(held))
            if await self._goes_on(version):
                return
        begun = time.monotonic()
        picture = await self._draw(wish, version)
        if picture is None:
            # It took longer than it was waited for: at least so long.
            self.pace.full_ms = max(self.pace.full_ms, (time.monotonic() - begun) * 1e3)
            self.pace.outrun()
            return
        self.pace.full_ms = picture[1].figures.ms
        rested = self._document
        self._rested = None if rested is None else rested[1:]
        if self.version == version:
            await self._send(wish, picture, exact=True)
        else:
            self.pace.outrun()
        if rested is not None and self._prepared != rested[2] and self._is_new_to_who_follows(rested[1]):
            # The one who draws while a hand moves something learns what this is, and where its crowds are.
            self._prepared = rested[2]
            await self._aside(self._coarse(wish))

    def _is_new_to_who_follows(self, shot: Shot) -> bool:
        return bool(crowds_of(acting(shot))) or not (self._prepared or self.pace.follows_in_full())

    def _coarse(self, wish: Wish) -> Wish:
        width, rough = self.pace.coarse(wish.width)
        return replace(wish, width=width, rough=rough)

    async def _runs_anew(self) -> tuple[bool, str]:
        """Whether particles that know of each other move otherwise than they were seen at rest: who draws would have to step them
        from their first birth on. And where they may be seen meanwhile: the digest of the document at rest."""
        _, shot, _ = await self._read()
        rested, digest = self._rested or (None, "")
        return (True, digest) if run_anew(rested, shot) else (False, "")

    async def _aside(self, wish: Wish) -> tuple[int, Shown, str] | None:
        """Draw in another process: this one is busy with edits."""
        head, shot, digest = await self._read()
        wish = replace(wish, frame=min(max(wish.frame, shot.first_frame), shot.last_frame))
        shown = self.studio.preview.known(digest, wish)
        if shown is None:
            ticket = self.studio.hands.ticket()
            try:
                drawing = asyncio.wrap_future(self.studio.hands.draw(shot, digest, wish, ticket, following=True))
                shown = await asyncio.wait_for(drawing, _FINISHED_S)
            except (Stale, TimeoutError):
                # Who follows does not know any more where it is to be held: this one does.
                return await self._draw(wish, self.version, finish=True) if wish.held else None
            except IsbjornError as error:
                await self._problem(error)
                return None
            except (BrokenProcessPool, MemoryError):
                return await self._draw(wish, self.version, finish=True)
            finally:
                ticket.drop()
            figures = shown.figures.model_copy(update={"memory_bytes": resident_bytes()})
            shown = replace(shown, figures=figures)
            self.studio.preview.keep(digest, wish, shown)
        return head, shown, digest

    async def _goes_on(self, version: int) -> bool:
        """Whether something newer is to be seen, or will be at once."""
        if self.version == version and self.pace.flowing():
            with suppress(TimeoutError):
                await asyncio.wait_for(self.wake.wait(), PAUSE_S)
        return self.version != version

    def _ahead(self, shot: Shot, digest: str, wish: Wish, ends: tuple[int, int], rate: float = 0.0) -> Ahead:
        first = max(shot.first_frame, min(ends))
        span = min(first, shot.last_frame), max(first, min(shot.last_frame, max(ends)))
        return Ahead(
            self.studio.hands, self.studio.preview, shot, digest, wish, span, rate, self._about(shot, wish.width, span),
            self._thins(),
        )  # fmt: skip

    def _thins(self) -> bool:
        """Whether any particles are left out where a shot is played with fewer."""
        before = self.studio.guided(self.shot_id).before
        return before is None or any(g.forecast.alive_at_most > FEW for g in before.scene.emitters)

    def _about(self, shot: Shot, width: int, span: tuple[int, int]) -> About:
        """What a frame in full takes one of those who draw ahead, where the span takes longest: as it was lately; else as it is
        forecast, less where the picture at rest took less than that; and how much of it is the same at any size."""
        before = self.studio.guided(self.shot_id).before
        cost = before.most(shot, *span, width) if before is not None else None
        if before is None or cost is None or before.scene.cost is None:
            return About(self._full_ms)
        height = width * shot.height // shot.width
        told, here = max(1e-3, cost.ms(width, height)), max(1e-3, before.scene.cost.ms(width, height))
        alone = told * min(1.0, self.pace.full_ms / here) * (_ALONE if os.cpu_count() != 1 else 1.0)
        return About(self._full_ms or alone, min(_MOST_FIXED, max(_LEAST_FIXED, cost.fixed_ms / told)))

    def _over(self, ahead: Ahead) -> None:
        """Nothing more is drawn ahead; what was learnt of it is kept."""
        ahead.drop()
        if ahead.full_ms:
            self._full_ms = statistics.median(ahead.full_ms)

    def _ahead_again(self, before: Ahead, shot: Shot, digest: str, ask: Ask) -> Ahead:
        """Begin anew what is played, at the level that was found for it; what is on its way is given up."""
        self._over(before)
        ahead = self._ahead(shot, digest, before.wish, (ask.first, ask.last), float(shot.frame_rate))
        ahead.level = before.level if before.level in ahead.levels else FULL
        return ahead

    async def _read(self) -> tuple[int, Shot, str]:
        return await asyncio.get_running_loop().run_in_executor(self.engine, self._shot)

    async def _fill(self, wish: Wish, version: int) -> None:
        """While nothing is asked for, compute what is missing of the played range, so that it then plays in real time."""
        try:
            await asyncio.wait_for(self.wake.wait(), _IDLE_S)
            return
        except TimeoutError:
            pass
        _, shot, digest = await self._read()
        ahead, told = self._ahead(shot, digest, wish, self.range), time.perf_counter()
        frame = min(max(wish.frame, ahead.first), ahead.last)
        try:
            busy = True
            while busy and self.version == version and ahead.error is None:
                # Whoever plays elsewhere, perhaps on a page that this one lies behind, has the processes for himself.
                held = self.studio.preview.held()
                busy = not self.studio.preview.full() and (held or ahead.pump(frame))
                if time.perf_counter() - told > _TOLD_EVERY_S or not busy:
                    told = time.perf_counter()
                    ranges = self.studio.preview.computed(digest, wish)
                    await self.socket.send_text(json.dumps({"kind": "computed", "ranges": ranges}))
                if busy:
                    await self._next(ahead, 0.2)
        finally:
            self._over(ahead)

    @staticmethod
    async def _next(ahead: Ahead, most_s: float) -> None:
        """Wait until another frame has come, and no longer than some seconds."""
        ahead.came.clear()
        with suppress(TimeoutError):
            await asyncio.wait_for(ahead.came.wait(), most_s)

    async def _play(self, ask: Ask) -> None:
        version, begun_with = self.version, self.version
        head, shot, digest = await self._read()
        wish = Wish(ask.frame, ask.width, ask.view, moving=True, orbit=ask.orbit)
        ahead = self._ahead(shot, digest, wish, (ask.first, ask.last), float(shot.frame_rate))
        first, span = ahead.first, ahead.last - ahead.first + 1
        offset, begun, before = min(max(ask.frame, first), ahead.last) - first, 0.0, -1
        self._sent.clear()
        self._dropped = 0
        asked = time.perf_counter()
        try:
            while self.playing is ask:
                if self.version != version:
                    # Edited meanwhile: what is drawn ahead is another.
                    version = self.version
                    head, shot, digest = await self._read()
                    ahead = self._ahead_again(ahead, shot, digest, ask)
                    first, span = ahead.first, ahead.last - ahead.first + 1
                now, period = time.perf_counter(), float(1 / shot.frame_rate)
                ticks = int((now - begun) / period) if begun else 0
                if begun and ticks - max(before, 0) > _STALLED_S / period:
                    offset = (offset + before + 1) % span
                    begun, before, ticks, asked = 0.0, -1, 0, now
                    if not ahead.is_near(first + offset, _NEAR_BY):
                        ahead = self._ahead_again(ahead, shot, digest, ask)
                frame = first + (offset + ticks) % span
                ahead.pump(frame, running=begun > 0)
                if ahead.error is not None:
                    await self._problem(ahead.error)
                    return
                if not begun:
                    # A little ahead before it begins, so that it does not stumble over its first steps.
                    ready = all(ahead.known(first + (offset + n) % span) for n in range(min(span, _READY)))
                    late = now - asked > _READY_S and ahead.known(frame) is not None
                    if not ready and not late:
                        await self._next(ahead, 0.05)
                        continue
                    begun = now
                if ticks != before:
                    found = ahead.known(frame)
                    if found is not None:
                        self._dropped += max(0, ticks - before - 1)
                        before = ticks
                        self._sent.append(now)
                        self.wish = replace(wish, frame=frame, moving=False)
                        await self._send(self.wish, (head, found[0], digest), exact=found[1] == FULL, level=found[1])
                        continue
                due = begun + (ticks + 1) * period - time.perf_counter()
                if ticks != before:
                    await self._next(ahead, max(0.0005, due))
                else:
                    await asyncio.sleep(max(0.0005, due))
        finally:
            self._over(ahead)
        if begun_with != self.version:
            self.wake.set()

    async def _send(
        self, wish: Wish, found: tuple[int, Shown, str], exact: bool, level: Level = FULL, held: bool = False
    ) -> None:
        await self.room.acquire()
        self._unconfirmed += 1
        head, shown, digest = found
        self.serial += 1
        elapsed = self._sent[-1] - self._sent[0] if len(self._sent) > 1 else 0.0
        header = Header(
            serial=self.serial,
            frame=wish.frame,
            revision=head,
            exact=exact,
            width=shown.width,
            height=shown.height,
            playing=self.playing is not None,
            fps=round((len(self._sent) - 1) / elapsed, 2) if elapsed else 0.0,
            dropped=self._dropped,
            reduced=level.size,
            rough=level.rough,
            held=held,
            computed=self.studio.preview.computed(digest, wish),
            figures=shown.figures,
        )
        if self.playing is not None:
            self.studio.outbox.tell(self.shot_id, wish.frame, shown.figures)
        await self.socket.send_bytes(packed(header, shown.jpeg))

    async def _problem(self, error: IsbjornError) -> None:
        message: dict[str, Any] = {"kind": "problem", "what": error.what, "where": error.where, "remedy": error.remedy}
        message["revision"] = self.studio.store.shot_row(self.shot_id).head
        self._told = error.what
        self.playing = None
        await self.socket.send_text(json.dumps(message))


@router.websocket("/api/shots/{shot_id}/live")
async def live(socket: WebSocket, shot_id: int) -> None:
    """Look at a shot."""
    studio: Studio = socket.app.state.studio
    if not await taken_in(socket, shot_id, studio.store.shot_row):
        return
    viewer = Viewer(studio, socket, shot_id, studio.engine)
    loop = asyncio.get_running_loop()
    stop_listening = studio.listen(shot_id, lambda: loop.call_soon_threadsafe(viewer.changed))
    try:
        await until_gone(viewer.show(), viewer.hear())
    finally:
        stop_listening()
        viewer.gone, viewer.playing, viewer.version = True, None, viewer.version + 1
