"""A sheet: small moving pictures of many states of a shot over one WebSocket, drawn by the frame workers from the middle outward.

To the page: a text message `SheetState` with the cells, then a binary one for each picture (see `sockets.packed`) with a
`SheetHeader`, `refused` for a cell that is no valid state of the shot, and `done` at the end. First comes a coarse picture of every
cell, then what is still missing: its full quality, or the frames of a loop. A new request, an edit of the shot, and the end of the
socket cancel what is not drawn yet.
"""

from __future__ import annotations

import asyncio
import json
import math
import time
from collections.abc import Sequence
from concurrent.futures.process import BrokenProcessPool
from typing import Any

import numpy as np
import simplejpeg
from fastapi import APIRouter, WebSocket
from fastapi.concurrency import run_in_threadpool

from isbjorn.core.document import Shot
from isbjorn.core.document.editing.patching import patched
from isbjorn.core.errors import IsbjornError, Stale
from isbjorn.core.explore.variations import Values, candidates, changes_to, diverse, signature
from isbjorn.core.frame import Rough
from isbjorn.studio.context import Studio
from isbjorn.studio.pages.sheet_messages import (
    LARGEST_PX,
    SheetAsk,
    SheetHeader,
    loop_frames,
    moment_of,
    sweep_of,
    sweep_state,
    variations_state,
)
from isbjorn.studio.preview.preview import ShownPicture, Wish, digest_of
from isbjorn.studio.preview.scheduler import Priority
from isbjorn.studio.sockets import asked, packed, problem_message, taken_in, until_gone

router = APIRouter()
# Loops are drawn in chunks of so many frames, so that a play never waits long for a worker.
_CHUNK = 6
_DRAFT: Rough = 2
_NO_BLUR: Rough = 1
_MOST_BROKEN = 3
# Looks that are compared, by so many small pictures each, and that are offered.
_CANDIDATES, _COMPARED, _COMPARED_PX, _OFFERED = 40, 3, 128, 8


class _Sheet:
    """One page's sheet."""

    def __init__(self, studio: Studio, socket: WebSocket, shot_id: int) -> None:
        self.studio, self.socket, self.shot_id = studio, socket, shot_id
        self.ask: SheetAsk | None = None
        self.wake = asyncio.Event()
        self.serial = 0
        self.ticket = studio.frame_workers.ticket()

    async def hear(self) -> None:
        """Take messages until the page is gone."""
        while True:
            self.ask = await asked(self.socket, SheetAsk, "sheet", self._problem)
            self.changed()

    def changed(self) -> None:
        """Another sheet is wanted, or the shot was edited: what is being drawn is out of date."""
        self.ticket.drop()
        self.wake.set()

    async def show(self) -> None:
        """Draw and send what is asked for, for ever."""
        while True:
            await self.wake.wait()
            self.wake.clear()
            self.serial += 1
            self.ticket = self.studio.frame_workers.ticket()
            if self.ask is None or self.ask.kind == "stop":
                continue
            try:
                await self._fill(self.ask, self.serial)
            except IsbjornError as error:
                await self._problem(error)

    async def _problem(self, error: IsbjornError) -> None:
        await self.socket.send_text(problem_message(error))

    async def _fill(self, ask: SheetAsk, serial: int) -> None:
        begun = time.perf_counter()
        _, _, shot = await run_in_threadpool(self.studio.seen, self.shot_id)
        frames = loop_frames(shot, ask.frame, ask.loop)
        # One task waits in front of each worker.
        room = asyncio.Semaphore(self.studio.frame_workers.count + 1)
        if ask.kind == "vary":
            looks = await self._looks(shot, ask, room)
            if looks is None:
                return
            state = await run_in_threadpool(variations_state, serial, shot, ask, looks, frames)
        else:
            made = await run_in_threadpool(sweep_of, shot, ask)
            if self.ask is ask:
                # An edit shows the same ranges again.
                rows = None if made.rows is None else made.rows.shown
                self.ask = ask.model_copy(update={"columns": made.columns.shown, "rows": rows, "around": None})
            state = sweep_state(serial, shot, made, frames)
        await self.socket.send_text(state.model_dump_json())
        still = min(range(len(frames)), key=lambda n: abs(frames[n] - ask.frame))
        cells = state.cells
        states: dict[int, tuple[Shot, str]] = {}
        again: set[int] = set()

        async def first(n: int) -> None:
            changed = await run_in_threadpool(self._state, shot, cells[n].changes)
            if isinstance(changed, IsbjornError):
                refused = {"kind": "refused", "serial": serial, "cell": n, "what": str(changed.what)}
                await self.socket.send_text(json.dumps(refused))
                return
            states[n] = changed
            [shown] = await self._drawn(changed, [frames[still]], ask.width, _DRAFT)
            exact = len(frames) == 1 and shown.figures.left_out == 0 and not _is_blurred(shot)
            if not exact:
                again.add(n)
            await self._send(serial, n, still, shown, exact)

        async def rest(n: int, chunk: list[int]) -> None:
            rough: Rough = 0 if len(frames) == 1 else _NO_BLUR
            pictures = await self._drawn(states[n], [frames[k] for k in chunk], ask.width, rough)
            for k, shown in zip(chunk, pictures, strict=True):
                await self._send(serial, n, k, shown, exact=True)

        if not await self._each(room, [lambda n=n: first(n) for n in range(len(cells))]):
            return
        chunks = [list(range(len(frames)))[k : k + _CHUNK] for k in range(0, len(frames), _CHUNK)]
        order = [(n, chunk) for n in range(len(cells)) if n in again for chunk in chunks]
        if await self._each(room, [lambda n=n, c=c: rest(n, c) for n, c in order]):
            ms = round((time.perf_counter() - begun) * 1e3)
            await self.socket.send_text(json.dumps({"kind": "done", "serial": serial, "ms": ms}))

    async def _looks(self, shot: Shot, ask: SheetAsk, room: asyncio.Semaphore) -> list[Values] | None:
        """The look in the middle, and those around it; None if they are out of date."""
        base: Values = dict(ask.parents[0]) if ask.parents else {}
        drawn = await run_in_threadpool(
            candidates, shot, ask.thing, ask.locked, ask.strength, ask.seed, _CANDIDATES, ask.parents
        )
        looks = [base, *drawn]
        frames = loop_frames(shot, ask.frame, _COMPARED)
        seen: dict[int, Any] = {}
        t = moment_of(shot, ask)

        async def compared(n: int) -> None:
            changed = await run_in_threadpool(lambda: self._state(shot, changes_to(shot, looks[n], t)))
            if isinstance(changed, IsbjornError):
                if n == 0:
                    raise changed
                return
            shown = await self._drawn(changed, frames, _COMPARED_PX, _DRAFT)
            seen[n] = await run_in_threadpool(lambda: signature([simplejpeg.decode_jpeg(one.jpeg) for one in shown]))

        if not await self._each(room, [lambda n=n: compared(n) for n in range(len(looks))]):
            return None
        order = [n for n in sorted(seen) if n]
        if not order:
            return [base]
        chosen = diverse(seen[0], np.stack([seen[n] for n in order]), _OFFERED)
        return [base, *(looks[order[n]] for n in chosen)]

    async def _each(self, room: asyncio.Semaphore, works: list[Any]) -> bool:
        """Do some things in their order, few at a time; whether none of them is out of date."""
        tasks: list[asyncio.Task[None]] = []

        async def one(work: Any) -> None:
            try:
                await work()
            finally:
                room.release()

        try:
            for work in works:
                await room.acquire()
                if self.wake.is_set():
                    room.release()
                    return False
                tasks.append(asyncio.create_task(one(work)))
            await asyncio.gather(*tasks)
        except Stale:
            return False
        finally:
            for task in tasks:
                task.cancel()
            await asyncio.gather(*tasks, return_exceptions=True)
        return not self.wake.is_set()

    @staticmethod
    def _state(shot: Shot, changes: Sequence[dict[str, Any]]) -> tuple[Shot, str] | IsbjornError:
        try:
            changed = patched(shot, changes)
        except IsbjornError as error:
            return error
        return changed, digest_of(changed)

    async def _drawn(self, state: tuple[Shot, str], frames: list[int], width: int, rough: Rough) -> list[ShownPicture]:
        shot, _ = state
        # As many pixels as a square cell has, whatever the shape.
        width = min(width, round(LARGEST_PX * math.sqrt(shot.width / shot.height)))
        wishes = [Wish(frame, max(1, width), moving=True, rough=rough) for frame in frames]
        for _ in range(_MOST_BROKEN):
            drawing = self.studio.frame_workers.draw_all(*state, wishes, self.ticket, Priority.SHEET, id(self))
            try:
                return await asyncio.wrap_future(drawing)
            except BrokenProcessPool:
                continue
        raise IsbjornError(
            "the process that draws the sheet has died.", "sheet", "Use smaller cells, or fewer of them."
        )

    async def _send(self, serial: int, cell: int, picture: int, shown: ShownPicture, exact: bool) -> None:
        header = SheetHeader(serial=serial, cell=cell, picture=picture, exact=exact)
        await self.socket.send_bytes(packed(header, shown.jpeg))


def _is_blurred(shot: Shot) -> bool:
    return shot.camera.shutter.value > 0 or shot.camera.shutter.timed


@router.websocket("/api/shots/{shot_id}/sheet")
async def sheet(socket: WebSocket, shot_id: int) -> None:
    """Many states of a shot side by side."""
    studio: Studio = socket.app.state.studio
    if not await taken_in(socket, shot_id, studio.store.shot_row):
        return
    page = _Sheet(studio, socket, shot_id)
    loop = asyncio.get_running_loop()
    stop_listening = studio.listen(shot_id, lambda: loop.call_soon_threadsafe(page.changed))
    try:
        await until_gone(page.show(), page.hear())
    finally:
        stop_listening()
        page.ticket.drop()
