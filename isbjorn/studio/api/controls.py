"""Controls in the studio: what arrives, performances recorded as keys, MIDI files."""

from __future__ import annotations

import secrets
import threading
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from fastapi import APIRouter, Depends, Query, Request
from pydantic import BaseModel, Field

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Control, Number, Shot, Take
from isbjorn.core.document.files import parse_shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.performed import Performance
from isbjorn.core.evaluate.takes import as_keys, performed, with_keys
from isbjorn.studio.api.shots import ShotState, shot_state
from isbjorn.studio.api.takes import with_take, write_take
from isbjorn.studio.context import Id, Studio, studio_of
from isbjorn.studio.control.controller_input import Log
from isbjorn.studio.sandbox import apart
from isbjorn.studio.uploads import body_of

router = APIRouter(prefix="/api", tags=["controls"])
Here = Annotated[Studio, Depends(studio_of)]
_LARGEST_MIDI, _MOST_TAKES, _MOST_LANES = 8 << 20, 4, 8
# A take comes so near to what was performed, of 0 to 1.
_NEAR = 0.004


class Arriving(BaseModel):
    """The last number that came to an address."""

    address: str
    value: float
    ago_s: float
    count: int = Field(description="Number of values received.")


class Arrivals(BaseModel):
    """What controllers and trackers send; the latest first."""

    host: str
    port: int = Field(description="UDP port for OSC; 0: off.")
    bad: int = Field(description="Invalid packets.")
    dropped: int = Field(description="Packets beyond the limit per second.")
    restarted: int = Field(description="Number of times that the listener had to be restarted.")
    midi: list[str] = Field(description="Open MIDI ports.")
    arrived: list[Arriving]


class NewTake(BaseModel):
    """A performance that begins: at a moment of shot time, of some controls."""

    at_s: float = Field(ge=-86_400, le=86_400)
    controls: list[str] = Field(min_length=1, max_length=32)


class Recorded(BaseModel):
    """A performance that is recorded."""

    id: str


class Taken(BaseModel):
    """The shot with a performance as keys, and that in words."""

    state: ShotState
    taken: list[str]


@dataclass
class _Running:
    shot: int
    at_s: float
    controls: list[str]
    log: Log


class Takes:
    """Performances that are being recorded, by their ids; the oldest is dropped when there are too many."""

    def __init__(self) -> None:
        self._running: dict[str, _Running] = {}
        self._lock = threading.Lock()

    def begin(self, studio: Studio, running: _Running) -> str:
        """Keep one; its id."""
        name = secrets.token_hex(6)
        with self._lock:
            while len(self._running) >= _MOST_TAKES:
                studio.inbox.stop(self._running.pop(next(iter(self._running))).log)
            self._running[name] = running
        return name

    def end(self, studio: Studio, shot_id: int, name: str) -> _Running:
        """A performance that ends. Raises IsbjornError if the id is unknown."""
        with self._lock:
            found = self._running.pop(name, None)
        if found is None or found.shot != shot_id:
            raise IsbjornError("this recording is no longer running.", name, "Record again.")
        studio.inbox.stop(found.log)
        return found


_takes = Takes()


@router.get("/incoming")
def incoming(studio: Here) -> Arrivals:
    """What arrives from controllers and trackers."""
    box, now = studio.inbox, studio.inbox.clock()
    arrived = [
        Arriving(address=address, value=one.value, ago_s=round(now - one.at, 3), count=one.count)
        for address, one in reversed(list(box.latest.items()))
    ]
    return Arrivals(
        host=box.host,
        port=box.port,
        bad=box.bad,
        dropped=box.dropped,
        restarted=box.restarted,
        midi=box.ports.names,
        arrived=arrived[:64],
    )


@router.post("/shots/{shot_id}/takes", status_code=201)
def begin_take(studio: Here, shot_id: Id, body: NewTake) -> Recorded:
    """Record what arrives for some controls from now on, which is a moment of shot time."""
    known = {one.id: one for one in studio.store.document(shot_id).controls}
    for name in body.controls:
        if name not in known:
            raise IsbjornError("this control does not exist in the cast.", name, "Choose another.")
        if not known[name].comes_from.address:
            raise IsbjornError("no input drives this control.", known[name].name, "Learn an address first.")
    running = _Running(shot_id, body.at_s, body.controls, studio.inbox.record())
    return Recorded(id=_takes.begin(studio, running))


@router.delete("/shots/{shot_id}/takes/{take_id}")
def end_take(studio: Here, shot_id: Id, take_id: str) -> Taken:
    """End a performance: it becomes keys of its controls, in place of those within its span."""
    found = _takes.end(studio, shot_id, take_id)
    shot = studio.store.document(shot_id)
    end_s = found.at_s + studio.inbox.clock() - found.log.began
    span = (max(0.0, found.at_s), min(float(shot.length_s), end_s))
    lanes = {c.id: found.log.lanes.get(c.comes_from.address, []) for c in shot.controls if c.id in found.controls}
    played: dict[str, tuple[Doubles, Doubles]] = {}
    for control in shot.controls:
        if lanes.get(control.id):
            arrived = np.array(lanes[control.id])
            times = arrived[:, 0] - found.log.began + found.at_s
            played[control.id] = performed(times, arrived[:, 1], control.comes_from, span, shot.simulation_rate)
    if not played:
        raise IsbjornError("no value arrived during the recording.", "take", "Move the control, and record again.")
    performance = Performance(shot.simulation_rate, list(played))
    performance.extend(np.stack([values for _, values in played.values()]))
    at_s = next(iter(played.values()))[0][0]
    media, digest = write_take(studio, shot_id, performance.text())
    words = []
    with studio.store.edit(shot_id, "Take") as box:
        shot, controls = box[0], []
        for control in shot.controls:
            if control.id not in played:
                controls.append(control)
                continue
            made = as_keys(*played[control.id], _NEAR)
            words.append(f"{control.name}: {len(lanes[control.id]):,} values as {len(made)} keys")
            controls.append(with_keys(control, made))
        shot = shot.model_copy(update={"controls": tuple(controls)})
        box[0] = with_take(shot, Take(media=media, digest=digest, at_s=at_s), set(), played=False)
    return Taken(state=shot_state(studio, shot_id), taken=words)


@router.post("/shots/{shot_id}/midi")
async def take_midi(
    studio: Here, shot_id: Id, request: Request, name: Annotated[str, Query(min_length=1, max_length=200)]
) -> Taken:
    """Make controls of a MIDI file, one of each controller, bend and channel of notes; the body is the file."""
    content = await body_of(request, _LARGEST_MIDI, name)
    return await studio.reading(_take_midi, studio, shot_id, content, name)


def _take_midi(studio: Studio, shot_id: int, content: bytes, name: str) -> Taken:
    lanes = apart("isbjorn.core.media.exchange.midi:read_midi", content, where=name)
    words: list[str] = []
    with studio.store.edit(shot_id, f"From {name[:60]}") as box:
        shot: Shot = box[0]
        made = list(shot.controls)
        taken = {one.name for one in shot.things}
        for lane, (times, values) in lanes.items():
            if len(words) == _MOST_LANES or len(made) == 32:
                break
            steps, heard = performed(
                times, values, Control().comes_from, (0.0, float(shot.length_s)), shot.simulation_rate
            )
            keys = as_keys(steps, heard, _NEAR)
            called = next(n for n in (lane, *(f"{lane} {k}" for k in range(2, 99))) if n not in taken)
            taken.add(called)
            made.append(Control(name=called[0].upper() + called[1:], value=Number(value=keys[0].value, keys=keys)))
            words.append(f"{called}, {len(keys)} keys")
        box[0] = parse_shot(shot.model_copy(update={"controls": tuple(made)}).model_dump(mode="json"))
    return Taken(state=shot_state(studio, shot_id), taken=words)
