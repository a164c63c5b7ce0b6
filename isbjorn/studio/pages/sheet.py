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
from dataclasses import asdict, replace
from typing import Annotated, Any, Literal

import numpy as np
import simplejpeg
from fastapi import APIRouter, WebSocket
from fastapi.concurrency import run_in_threadpool
from pydantic import BaseModel, Field

from isbjorn.core.document import Shot
from isbjorn.core.document.editing.patching import patched
from isbjorn.core.document.fields.base import LARGEST_SEED
from isbjorn.core.errors import IsbjornError, Stale
from isbjorn.core.explore.contact_sheet import value_text
from isbjorn.core.explore.number_at import number_names
from isbjorn.core.explore.sweep import LEAST, MOST, Axis, AxisValues, Spacing, Sweep, narrowed, sweep
from isbjorn.core.explore.variations import Values, candidates, changeable, changes_to, diverse, signature
from isbjorn.core.frame import Rough
from isbjorn.studio.context import Studio
from isbjorn.studio.pages.page_session import FrameNumber
from isbjorn.studio.preview.preview import ShownPicture, Wish, digest_of
from isbjorn.studio.preview.scheduler import Priority
from isbjorn.studio.sockets import asked, packed, problem_message, taken_in, until_gone

router = APIRouter()
# A loop lasts about this long; it is drawn in chunks of so many frames, so that a play never waits long for a worker.
_LOOP_S, _CHUNK, _LONGEST_LOOP = 1.5, 6, 48
_DRAFT: Rough = 2
_NO_BLUR: Rough = 1
_MOST_BROKEN, _MOST_NUMBERS = 3, 2000
# Of a cell, and of a square with as many pixels as a cell of any shape has at most.
_LARGEST_PX = 640
# Looks that are compared, by so many small pictures each, and that are offered.
_CANDIDATES, _COMPARED, _COMPARED_PX, _OFFERED = 40, 3, 128, 8


# Values of numbers by their JSON pointers.
Look = Annotated[dict[str, Annotated[float, Field(ge=-1e9, le=1e9)]], Field(max_length=_MOST_NUMBERS)]


class Around(BaseModel):
    """The range of each axis is narrowed about a value, to a share of itself; a share above 1 widens it."""

    column: float
    row: float | None = None
    by: float = Field(default=0.5, ge=0.01, le=100)


class SheetAsk(BaseModel):
    """A message of the page. `sweep`: show a sheet of one or two numbers over their ranges; `vary`: of other looks of an emitter or
    group; `stop`: draw nothing more."""

    kind: Literal["sweep", "vary", "stop"]
    columns: Axis | None = None
    rows: Axis | None = None
    count: int = Field(default=3, ge=LEAST, le=MOST)
    frame: FrameNumber = 0
    width: int = Field(default=240, ge=16, le=_LARGEST_PX, description="Width of a cell, px.")
    loop: int = Field(default=0, ge=0, le=_LONGEST_LOOP, description="Pictures of a loop; 0: a still.")
    around: Around | None = None
    thing: str = Field(default="", max_length=60, description="Id of the emitter or group that varies.")
    locked: list[str] = Field(default=[], max_length=_MOST_NUMBERS, description="Pointers of numbers that stay.")
    strength: float = Field(default=0.5, ge=0.01, le=1, description="How far numbers change.")
    seed: int = Field(default=1, ge=0, le=LARGEST_SEED)
    parents: list[Look] = Field(
        default=[], max_length=2,
        description="Looks that variations come from, as values by the pointers of their numbers; the first is in the middle.",
    )  # fmt: skip


class AxisState(BaseModel):
    """One axis of a sheet: its number, which range of it is shown, and the values."""

    path: str
    owner: str
    label: str
    unit: str
    low: float
    high: float
    step: float
    now: float
    start: float
    end: float
    spacing: Spacing
    values: list[float]


class NumberChoice(BaseModel):
    """A number that may be swept."""

    path: str
    thing: str = Field(description="Id of the thing that has it.")
    owner: str
    label: str


class SheetCell(BaseModel):
    """A cell in drawing order: its place on the sheet, and the changes that lead to it. current: the shot is already so."""

    row: int
    column: int
    label: str = Field(description="What it is, in words.")
    values: list[float] = Field(default=[], description="Of a sweep: value of the column's number, and of the row's.")
    look: dict[str, float] = Field(default={}, description="Of a variation: values by the pointers of their numbers.")
    changes: list[dict[str, Any]]
    current: bool


class SheetState(BaseModel):
    """A sheet that is being drawn."""

    kind: Literal["sheet"] = "sheet"
    serial: int
    columns: AxisState | None = None
    rows: AxisState | None = None
    size: tuple[int, int] = Field(description="Rows and columns.")
    cells: list[SheetCell]
    frames: list[int] = Field(description="Frames of the loop, or the only one.")
    interval_s: float = Field(description="Seconds between two pictures of the loop.")
    numbers: list[NumberChoice] = Field(description="The numbers that may be swept, or may vary.")


class SheetHeader(BaseModel):
    """What comes with a picture of a sheet. cell: its place in the list of cells; picture: in the list of frames."""

    serial: int
    cell: int
    picture: int
    exact: bool


def _axis_state(axis: AxisValues) -> AxisState:
    n = axis.number
    return AxisState(
        path=n.path, owner=n.owner, label=n.label, unit=n.unit, low=n.low, high=n.high, step=n.step, now=n.value,
        start=axis.start, end=axis.end, spacing=axis.spacing, values=list(axis.values),
    )  # fmt: skip


def _axis_about(axis: AxisValues, value: float, by: float) -> Axis:
    start, end = narrowed(axis, value, by)
    return _as_shown(replace(axis, start=start, end=end))


def _as_shown(axis: AxisValues) -> Axis:
    return Axis(path=axis.number.path, start=axis.start, end=axis.end, spacing=axis.spacing)


def sweep_of(shot: Shot, ask: SheetAsk) -> Sweep:
    """The sheet that is asked for. Raises IsbjornError when it cannot be made of this shot."""
    if ask.columns is None:
        raise IsbjornError("a sheet needs a number.", "columns", "Select the number to be swept.")
    t = float(shot.seconds(_held(shot, ask.frame)))
    made = sweep(shot, ask.columns, ask.rows, ask.count, t)
    about = ask.around
    if about is None:
        return made
    columns = _axis_about(made.columns, about.column, about.by)
    rows = ask.rows
    if made.rows is not None and about.row is not None:
        rows = _axis_about(made.rows, about.row, about.by)
    return sweep(shot, columns, rows, ask.count, t)


def _held(shot: Shot, frame: int) -> int:
    return min(max(frame, shot.first_frame), shot.last_frame)


def loop_frames(shot: Shot, frame: int, count: int) -> list[int]:
    """The frames of a loop of `count` pictures from a frame on, within the shot."""
    frame = _held(shot, frame)
    if count < LEAST:
        return [frame]
    step = max(1, round(_LOOP_S * float(shot.frame_rate) / count))
    count = min(count, (shot.last_frame - shot.first_frame) // step + 1)
    first = max(shot.first_frame, min(frame, shot.last_frame - (count - 1) * step))
    return [first + n * step for n in range(count)]


def _label(made: Sweep, values: list[float]) -> str:
    axes = [made.columns, *([made.rows] if made.rows is not None else [])]
    return ", ".join(f"{a.number.label} {value_text(a, value)}" for a, value in zip(axes, values, strict=True))


def _interval_s(shot: Shot, frames: list[int]) -> float:
    step = frames[1] - frames[0] if len(frames) > 1 else 1
    return float(step / shot.frame_rate)


def sheet_state(serial: int, shot: Shot, made: Sweep, frames: list[int]) -> SheetState:
    """A sheet as the page is told of it."""
    down = list(reversed(made.rows.values)) if made.rows is not None else []
    _, across = made.size
    cells = []
    for cell in made.cells:
        if made.rows is None:
            values = [made.columns.values[cell.row * across + cell.column]]
            now = [made.columns.number.value]
        else:
            values = [made.columns.values[cell.column], down[cell.row]]
            now = [made.columns.number.value, made.rows.number.value]
        cells.append(
            SheetCell(
                row=cell.row,
                column=cell.column,
                label=_label(made, values),
                values=values,
                changes=list(cell.changes),
                current=values == now,
            )
        )
    return SheetState(
        serial=serial,
        columns=_axis_state(made.columns),
        rows=None if made.rows is None else _axis_state(made.rows),
        size=made.size,
        cells=cells,
        frames=frames,
        interval_s=_interval_s(shot, frames),
        numbers=[NumberChoice(**asdict(one)) for one in number_names(shot)[:_MOST_NUMBERS]],
    )


def _figure(value: float) -> str:
    return f"{value:.4g}"


def variations_state(serial: int, shot: Shot, ask: SheetAsk, looks: Sequence[Values], frames: list[int]) -> SheetState:
    """A sheet of looks, the first in the middle, the others around it in the order of their difference."""
    numbers = changeable(shot, ask.thing)
    labels = {number.path: (label, number) for number, label in numbers}
    t = float(shot.seconds(_held(shot, ask.frame)))

    def words(look: Values) -> str:
        parts = [
            f"{labels[path][0]} {_figure(labels[path][1].value)} → {_figure(value)}"
            for path, value in look.items() if path in labels and value != labels[path][1].value
        ]  # fmt: skip
        return ", ".join(parts) or "As the shot is"

    places = sorted(((r, c) for r in range(3) for c in range(3)), key=lambda at: (at != (1, 1), at))
    cells = [
        SheetCell(row=r, column=c, label=words(look), look=look, changes=changes_to(shot, look, t), current=not look)
        for (r, c), look in zip(places, looks, strict=False)
    ]
    choices = [NumberChoice(path=n.path, thing=ask.thing, owner=n.owner, label=label) for n, label in numbers]
    return SheetState(
        serial=serial, size=(3, 3), cells=cells, frames=frames, interval_s=_interval_s(shot, frames), numbers=choices
    )


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
                rows = None if made.rows is None else _as_shown(made.rows)
                self.ask = ask.model_copy(update={"columns": _as_shown(made.columns), "rows": rows, "around": None})
            state = sheet_state(serial, shot, made, frames)
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
            for k, shown in zip(
                chunk, await self._drawn(states[n], [frames[k] for k in chunk], ask.width, rough), strict=True
            ):
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

        async def compared(n: int) -> None:
            t = float(shot.seconds(_held(shot, ask.frame)))
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
        width = min(width, round(_LARGEST_PX * math.sqrt(shot.width / shot.height)))
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
