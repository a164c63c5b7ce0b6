"""The set list of a project: which shots come onto the stage, how they fade, and what brings them; and the triggers themselves."""

from __future__ import annotations

import asyncio
import time
from collections import deque
from contextlib import suppress
from typing import Annotated, Literal

import numpy as np
from fastapi import APIRouter, Depends, WebSocket, WebSocketDisconnect
from fastapi.concurrency import run_in_threadpool
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from isbjorn.core.errors import IsbjornError
from isbjorn.core.media.read.ltc import Reader
from isbjorn.studio.context import Id, Studio, studio_of
from isbjorn.studio.sockets import taken_in, until_gone

router = APIRouter(prefix="/api/projects", tags=["stage"])
Here = Annotated[Studio, Depends(studio_of)]
Action = Literal["next", "previous", "black", "freeze", "again"]
Address = Annotated[str, Field(max_length=200, pattern=r"^(/[ -~]*)?$")]
ACTIONS: tuple[Action, ...] = ("next", "previous", "black", "freeze", "again")
# What always acts, without being learnt; `/stage/shot` n brings the nth of the list.
_BUILT_IN = "/stage/"
_MOST_A_SECOND, _WAITING = 600, 256
# A sound input arrives as 16-bit samples at this rate; at most a second per message is used.
TAPE_RATE = 48_000


class Entry(BaseModel):
    """A shot of the list."""

    model_config = ConfigDict(extra="forbid", json_schema_serialization_defaults_required=True)
    shot: int = Field(ge=0)
    fade_s: float = Field(default=1, ge=0, le=30, allow_inf_nan=False, title="Fade (s)")
    plays: Literal["as it suits", "performed", "performed, in rounds", "over and over"] = Field(
        default="as it suits",
        description=(
            "How the shot runs on the stage: simulated live without end, simulated live and restarted after its "
            "length, or repeated as rendered."
        ),
    )
    address: Address = Field(
        default="", description="Control address that starts the shot when a value above 0 arrives."
    )


class SetList(BaseModel):
    """What is shown on the stage, in order. The addresses of the actions are further ones, beside `/stage/next` and its like."""

    model_config = ConfigDict(extra="forbid", json_schema_serialization_defaults_required=True)
    entries: list[Entry] = Field(default_factory=list, max_length=64)
    addresses: dict[Action, Address] = Field(default_factory=dict)
    width: int = Field(default=0, ge=0, le=4096, description="Width of the pictures in px; 0: the window's width.")


class Trigger(BaseModel):
    """Something that is to happen on the stage. shot: of `shot`, which one."""

    kind: Literal["trigger"] = "trigger"
    act: Literal["next", "previous", "black", "freeze", "again", "shot"]
    shot: int | None = None


class PageInput(BaseModel):
    """A message of a page: a number from its devices, or from its faders."""

    address: str = Field(max_length=200, pattern=r"^/(pointer|gamepad|stage|desk|walker|midi)([/#][ -~]*)?$")
    value: float = Field(ge=-1e6, le=1e6, allow_inf_nan=False)


def set_list(studio: Studio, project_id: int) -> SetList:
    """The set list of a project, limited to shots that still exist; without one, all its shots in their order."""
    shots = studio.store.shot_ids(project_id)
    text = studio.store.set_list(project_id)
    if text:
        with suppress(ValidationError):
            found = SetList.model_validate_json(text)
            found.entries = [entry for entry in found.entries if entry.shot in shots]
            if not found.entries:
                found.entries = [Entry(shot=shot) for shot in shots[:64]]
            return found
    return SetList(entries=[Entry(shot=shot) for shot in shots[:64]])


@router.get("/{project_id}/set")
def get_set(studio: Here, project_id: Id) -> SetList:
    """The set list of a project."""
    return set_list(studio, project_id)


@router.put("/{project_id}/set")
def put_set(studio: Here, project_id: Id, body: SetList) -> SetList:
    """Make the set list of a project another; without entries it is all shots again."""
    known = studio.store.shot_ids(project_id)
    for entry in body.entries:
        if entry.shot not in known:
            raise IsbjornError("this shot is not in the project.", str(entry.shot), "Select a shot of the project.")
    studio.store.keep_set_list(
        project_id, body.model_dump_json() if body.entries or body.addresses or body.width else ""
    )
    studio.sets_changed += 1
    return set_list(studio, project_id)


class Conductor:
    """Makes triggers of input: at the moment at which a number rises above 0."""

    def __init__(self, studio: Studio, project_id: int) -> None:
        self.studio, self.project_id = studio, project_id
        self._was: dict[str, float] = {}
        self._seen, self._list = -1, SetList()

    def _now(self) -> SetList:
        if self._seen != self.studio.sets_changed:
            self._seen = self.studio.sets_changed
            with suppress(IsbjornError):
                # A project that is gone keeps its last list as long as its stage is open.
                self._list = set_list(self.studio, self.project_id)
        return self._list

    def of(self, address: str, value: float) -> Trigger | None:
        """What a number that arrived triggers."""
        known = self._now()
        built_in = address.startswith(_BUILT_IN)
        acts = {own: act for act, own in known.addresses.items() if own}
        shots = {entry.address: entry.shot for entry in known.entries if entry.address}
        if not built_in and address not in acts and address not in shots:
            return None
        before, self._was[address] = self._was.get(address, 0.0), value
        if len(self._was) > 4 * _WAITING:
            self._was.clear()
        if built_in and address == f"{_BUILT_IN}shot":
            number = int(value) - 1
            inside = 0 <= number < len(known.entries) and value != before
            return Trigger(act="shot", shot=known.entries[number].shot) if inside else None
        if value <= 0 or before > 0:
            return None
        if address in shots:
            return Trigger(act="shot", shot=shots[address])
        name = acts.get(address, address.removeprefix(_BUILT_IN))
        return next((Trigger(act=act) for act in ACTIONS if act == name), None)


def _play_tape(studio: Studio, tape: Reader, content: bytes) -> None:
    """Hear a piece of a page's sound input: the timecode in it arrives as that of MIDI does."""
    samples = np.frombuffer(content[: len(content) // 2 * 2][: 2 * TAPE_RATE], "<i2").astype(np.float32) / np.float32(
        32768
    )
    for timecode in tape.feed(samples)[-1:]:
        studio.inbox.put("/timecode/s", timecode.seconds)


@router.websocket("/{project_id}/triggers")
async def triggers(socket: WebSocket, project_id: int) -> None:
    """What is to happen on the stage of a project, as it arrives; and what a page's own devices send."""
    studio: Studio = socket.app.state.studio
    if not await taken_in(socket, project_id, studio.store.project):
        return
    loop, waiting = asyncio.get_running_loop(), asyncio.Queue[tuple[str, float]](_WAITING)

    def take(address: str, value: float) -> None:
        # A slow reader misses some.
        with suppress(asyncio.QueueFull):
            waiting.put_nowait((address, value))

    def arrived(address: str, value: float, _: float) -> None:
        with suppress(RuntimeError):
            loop.call_soon_threadsafe(take, address, value)

    async def send() -> None:
        conductor = Conductor(studio, project_id)
        while True:
            address, value = await waiting.get()
            found = conductor.of(address, value)
            if found is not None:
                await socket.send_text(found.model_dump_json())

    async def hear() -> None:
        sent: deque[float] = deque(maxlen=_MOST_A_SECOND)
        tape = Reader(TAPE_RATE)
        while True:
            message = await socket.receive()
            if message["type"] == "websocket.disconnect":
                raise WebSocketDisconnect(message.get("code", 1000))
            now = time.monotonic()
            if len(sent) == _MOST_A_SECOND and now - sent[0] < 1:
                continue
            sent.append(now)
            if message.get("bytes"):
                await run_in_threadpool(_play_tape, studio, tape, message["bytes"])
                continue
            with suppress(ValidationError):
                received = PageInput.model_validate_json(message.get("text") or "")
                studio.inbox.put(received.address, received.value)

    stop = studio.inbox.listen(arrived)
    try:
        await until_gone(send(), hear())
    finally:
        stop()
