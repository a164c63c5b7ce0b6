"""Takes: performances that are saved with a shot, played by its controls, and converted to keys."""

from __future__ import annotations

from typing import Annotated

import numpy as np
from fastapi import APIRouter, Depends, Query
from pydantic import BaseModel, Field

from isbjorn.core.document import Control, Shot, Take
from isbjorn.core.document.editing.scene_edits import free_name
from isbjorn.core.document.files import parse_shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.external_files import digest_of
from isbjorn.core.evaluate.performed import Performance, performance_of
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.evaluate.takes import as_keys, with_keys
from isbjorn.core.runtime.whole import replace_whole
from isbjorn.studio.api.shots import ShotState, shot_state
from isbjorn.studio.context import Id, Studio, studio_of
from isbjorn.studio.storage.tables import unseen
from isbjorn.studio.uploads import homed

router = APIRouter(prefix="/api", tags=["takes"])
Here = Annotated[Studio, Depends(studio_of)]
Tolerance = Annotated[
    float, Query(ge=0.0001, le=0.2, description="Largest deviation of keys from the performance, 0 to 1.")
]
_MOST_POINTS = 2000


class TakeKeys(BaseModel):
    """The shot with a take as keys, and that in words."""

    state: ShotState
    taken: list[str]


class TakeCurve(BaseModel):
    """What a control was in a take, to be drawn: at even moments, by shot time."""

    begin_s: float
    step_s: float
    values: list[float]
    apart: float = Field(description="Largest difference between the take and the control's own value.")


class TakeLane(BaseModel):
    """A control of the shot that was performed in a take."""

    control: str
    name: str


class TakeCard(BaseModel):
    """What is in a take."""

    seconds: float
    steps_per_s: int
    lanes: list[TakeLane]


def write_take(studio: Studio, shot_id: int, text: str) -> tuple[str, str]:
    """Write a take into the library; its name there, and the digest of its bytes."""
    try:
        with homed(studio.store.media_folder, "k") as home:
            path = home / "take.csv"
            replace_whole(path, text.encode())
            media, digest = f"{home.name}/take.csv", digest_of(path)
            project = studio.store.project_of(shot_id)
            studio.store.add_media(unseen(project.id, "take.csv", media, "take", path.stat().st_size))
    except OSError as error:
        raise IsbjornError(
            f"the take could not be saved ({error.strerror}).", "take", "Check the free disk space."
        ) from None
    return media, digest


def with_take(shot: Shot, take: Take, lanes: set[str], played: bool) -> Shot:
    """A shot with one more take; played: by those of its controls that have a lane in it."""
    if len(shot.takes) >= 32:
        raise IsbjornError("a shot has at most 32 takes.", "takes", "Delete one first.")
    take = take.model_copy(update={"name": free_name(shot, take.name)})
    controls = shot.controls
    if played:
        controls = tuple(
            c.model_copy(update={"take": take.id, "lane": ""}) if c.id in lanes else c for c in shot.controls
        )
    made = shot.model_copy(update={"takes": (*shot.takes, take), "controls": controls})
    return parse_shot(made.model_dump(mode="json"))


def keep_take(studio: Studio, shot_id: int, text: str, name: str = "") -> str:
    """Keep what was performed on a stage as a take that the controls play; in words."""
    lines = text.split("\n", 2)
    lanes = set(lines[1].split(","))
    shot = studio.store.document(shot_id)
    led = [c.name for c in shot.controls if c.id in lanes]
    if not led:
        raise IsbjornError(
            "no control of this shot has been performed.", shot.name, "Let a control learn an address first."
        )
    media, digest = write_take(studio, shot_id, text)
    with studio.store.edit(shot_id, "Save take") as box:
        take = Take(name=name.strip() or "Take", media=media, digest=digest)
        box[0] = with_take(box[0], take, lanes, played=True)
        take = box[0].takes[-1]
    studio.edited(shot_id)
    lasts = performance_of(take).end_s
    longer = (
        f", {lasts - float(shot.length_s):.1f} s longer than the shot" if lasts > float(shot.length_s) + 0.05 else ""
    )
    return f"{take.name}: {lasts:.1f} s of {', '.join(led)}{longer}"


def _take(shot: Shot, take_id: str) -> Take:
    found = next((take for take in shot.takes if take.id == take_id), None)
    if found is None:
        raise IsbjornError("this take does not exist any more.", take_id, "Choose another.")
    return found


def _span(take: Take, performance: Performance) -> tuple[int, int]:
    """The first and the last step of a take that is played."""
    until = performance.end_s if take.to_s is None else min(take.to_s, performance.end_s)
    return round(take.from_s * performance.hz), int(until * performance.hz + 1e-6)


@router.post("/shots/{shot_id}/takes/{take_id}/keys")
def make_keys(studio: Here, shot_id: Id, take_id: str, tolerance: Tolerance = 0.004) -> TakeKeys:
    """Make keys of a take, for all controls with a lane in it: as few as come so near to each of its steps. The take stays."""
    words = []
    with studio.store.edit(shot_id, "Keys of a take") as box:
        shot: Shot = box[0]
        take = _take(shot, take_id)
        performance = performance_of(take)
        first, last = _span(take, performance)
        steps = np.arange(first, last + 1) / performance.hz + take.at_s
        controls: list[Control] = []
        for control in shot.controls:
            lane = (control.lane if control.take == take.id else "") or control.id
            if not performance.knows(lane):
                controls.append(control)
                continue
            made = as_keys(steps, performance.read(lane, steps - take.at_s), tolerance)
            controls.append(with_keys(control, made))
            words.append(f"{control.name}: {len(steps):,} steps as {len(made)} keys")
        box[0] = parse_shot(shot.model_copy(update={"controls": tuple(controls)}).model_dump(mode="json"))
    return TakeKeys(state=shot_state(studio, shot_id), taken=words)


@router.get("/shots/{shot_id}/takes/{take_id}/lanes/{control_id}")
def lane(studio: Here, shot_id: Id, take_id: str, control_id: str) -> TakeCurve:
    """What a control was in a take."""
    shot = studio.store.document(shot_id)
    take = _take(shot, take_id)
    performance = performance_of(take)
    if not performance.knows(control_id):
        raise IsbjornError("this control is not in the take.", take.name, "Choose another.")
    first, last = _span(take, performance)
    every = max(1, -(-(last - first + 1) // _MOST_POINTS))
    at = np.arange(first, last + 1, every) / performance.hz
    values = [round(float(v), 4) for v in performance.read(control_id, at)]
    control = next((c for c in shot.controls if c.id == control_id), None)
    apart = 0.0
    if control is not None:
        steps = np.arange(first, last + 1) / performance.hz
        own = Readings(shot).own(control.value, steps + take.at_s)
        apart = round(float(np.abs(own - performance.read(control_id, steps)).max()), 4)
    return TakeCurve(begin_s=float(at[0]) + take.at_s, step_s=every / performance.hz, values=values, apart=apart)


@router.get("/shots/{shot_id}/takes/{take_id}")
def card(studio: Here, shot_id: Id, take_id: str) -> TakeCard:
    """What is in a take."""
    shot = studio.store.document(shot_id)
    performance = performance_of(_take(shot, take_id))
    lanes = [TakeLane(control=c.id, name=c.name) for c in shot.controls if performance.knows(c.id)]
    return TakeCard(seconds=performance.end_s, steps_per_s=performance.hz, lanes=lanes)
