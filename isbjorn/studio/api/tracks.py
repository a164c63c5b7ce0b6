"""Tracking: things that follow a point of the plate, and tables of their places."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, Depends, Request, Response
from pydantic import BaseModel, Field

from isbjorn.core.document import Shot
from isbjorn.core.document.fields.references import LISTS
from isbjorn.core.document.files import parse_shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.keys import keys_through
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.media.exchange.tracking import TrackedPoint, follow, from_csv, to_csv
from isbjorn.core.media.exchange.usd_in import with_scene
from isbjorn.core.render.scene.camera import projection
from isbjorn.studio.api.shots import ShotState, shot_state
from isbjorn.studio.context import Id, Studio, studio_of
from isbjorn.studio.sandbox import apart
from isbjorn.studio.uploads import body_of

router = APIRouter(prefix="/api", tags=["tracking"])
Here = Annotated[Studio, Depends(studio_of)]
_LARGEST_SCENE = 256 << 20
_LARGEST_TABLE = 16 << 20
_TOLERANCE_PX = 0.8


class TrackRequest(BaseModel):
    """Track the plate under a thing from frame `first` to frame `last`, forward or backward. window: the patch's side in px."""

    first: int = Field(ge=-20_000_000, le=20_000_000)
    last: int = Field(ge=-20_000_000, le=20_000_000)
    window: int = Field(default=41, ge=7, le=301)


class Sure(BaseModel):
    """How sure the place of a frame is, in [0, 1]."""

    frame: int
    confidence: float


class Tracked(BaseModel):
    """The shot with the new keys, how sure each frame is, and where the point was lost (None: it was not)."""

    state: ShotState
    confidence: list[Sure]
    lost_at: int | None


def _thing(shot: Shot, thing_id: str) -> tuple[str, int, Any]:
    for field in LISTS:
        for number, thing in enumerate(getattr(shot, field)):
            if thing.id == thing_id and hasattr(thing, "across"):
                return field, number, thing
    raise IsbjornError("nothing in the cast with this id has a position.", thing_id, "Nothing was changed.")


def _free(shot: Shot, thing_id: str) -> tuple[str, int, Any]:
    found = _thing(shot, thing_id)
    thing = found[2]
    if thing.carried_by is not None or thing.path is not None:
        raise IsbjornError(
            "a thing that is attached or follows a path cannot be tracked.",
            thing.name,
            "Track a marker, and attach the thing to it.",
        )
    if shot.camera.kind == "perspective" and any(
        n.timed for n in (shot.camera.across, shot.camera.pan, shot.camera.roll)
    ):
        raise IsbjornError(
            "the camera moves, so positions on the plate are not positions in the shot.",
            "camera",
            "Track with a still camera.",
        )
    return found


def _at(shot: Shot, thing: Any, frame: int) -> tuple[float, float]:
    """Where a thing is on the picture at a frame, px from the top left corner."""
    t = float(shot.seconds(frame))
    pixels, _ = projection(shot, 1.0, t).place(Readings(shot).frames(thing, np.array([t])).place)
    return float(pixels[0, 0]), float(pixels[0, 1])


def _baked(shot: Shot, thing_id: str, seen: list[TrackedPoint]) -> Shot:
    """The shot with the places as keys; keys outside of the frames that were tracked stay."""
    field, number, _ = _thing(shot, thing_id)
    seen = sorted(seen, key=lambda s: s.frame)
    times = np.array([float(shot.seconds(s.frame)) for s in seen])
    values = np.array([[s.x - shot.width / 2, shot.height / 2 - s.y] for s in seen])
    given = shot.model_dump(mode="json")
    thing = given[field][number]
    for name, keys in zip(("across", "up"), keys_through(times, values, _TOLERANCE_PX), strict=True):
        new = [key.model_dump(mode="json") for key in keys]
        outside = [k for k in thing[name]["keys"] if not times[0] - 1e-6 <= k["at_s"] <= times[-1] + 1e-6]
        thing[name]["keys"] = sorted([*outside, *new], key=lambda k: k["at_s"])
    return parse_shot(given)


@router.post("/shots/{shot_id}/track/{thing_id}")
def track(studio: Here, shot_id: Id, thing_id: str, body: TrackRequest) -> Tracked:
    """Let a thing follow the point of the plate under it. What was tracked stays even where the point is lost."""
    shot = studio.store.document(shot_id)
    _, _, thing = _free(shot, thing_id)
    first, last = (shot.nearest_frame(n) for n in (body.first, body.last))
    seen = follow(shot, studio.plates, *_at(shot, thing, first), first, last, body.window)
    if len(seen) < 2 and last != first:
        raise IsbjornError(
            f"the point is lost immediately after frame {first}.",
            thing.name,
            "Select a corner, a spot or a larger patch.",
        )
    with studio.store.edit(shot_id, f"Track {thing.name}") as box:
        box[0] = _baked(box[0], thing_id, seen)
    lost = None if seen[-1].frame == last else seen[-1].frame + (1 if last > first else -1)
    sure = [Sure(frame=s.frame, confidence=s.confidence) for s in seen]
    return Tracked(
        state=shot_state(studio, shot_id, last if lost is None else seen[-1].frame), confidence=sure, lost_at=lost
    )


@router.get(
    "/shots/{shot_id}/track/{thing_id}/table", responses={200: {"content": {"text/csv": {}}}}, response_class=Response
)
def track_table(studio: Here, shot_id: Id, thing_id: str) -> Response:
    """Where a thing is at each frame, as CSV."""
    shot = studio.store.document(shot_id)
    _, _, thing = _thing(shot, thing_id)
    seen = [TrackedPoint(n, *_at(shot, thing, n), 1.0) for n in range(shot.first_frame, shot.last_frame + 1)]
    head = {"Content-Disposition": 'attachment; filename="track.csv"'}
    return Response(to_csv(shot, seen), media_type="text/csv", headers=head)


@router.post("/shots/{shot_id}/track/{thing_id}/table")
async def read_track_table(studio: Here, shot_id: Id, thing_id: str, request: Request, name: str = "") -> ShotState:
    """Give a thing the places of a CSV table; the body is the file."""
    content = await body_of(request, _LARGEST_TABLE, name or "track")
    return await studio.reading(_take_table, studio, shot_id, thing_id, content, name)


def _take_table(studio: Studio, shot_id: int, thing_id: str, content: bytes, name: str) -> ShotState:
    try:
        text = content.decode()
    except UnicodeDecodeError:
        raise IsbjornError("this is not a text file.", name or "track", "Save the table as CSV in UTF-8.") from None
    shot = studio.store.document(shot_id)
    _, _, thing = _free(shot, thing_id)
    seen = from_csv(shot, text, name or "track")
    with studio.store.edit(shot_id, f"Track of {thing.name}") as box:
        box[0] = _baked(box[0], thing_id, seen)
    return shot_state(studio, shot_id)


class SceneTaken(BaseModel):
    """The shot with what was taken from a file, and that in words."""

    state: ShotState
    taken: list[str]


@router.post("/shots/{shot_id}/scene")
async def read_scene_file(studio: Here, shot_id: Id, request: Request, name: str = "") -> SceneTaken:
    """Give a shot the camera of an OpenUSD file or a table, and a marker for each of its places; the body is the file."""
    content = await body_of(request, _LARGEST_SCENE, name or "scene")
    return await studio.reading(_take_scene, studio, shot_id, content, name[:200] or "scene")


def _take_scene(studio: Studio, shot_id: int, content: bytes, name: str) -> SceneTaken:
    shot = studio.store.document(shot_id)
    ways = apart(
        "isbjorn.core.media.exchange.usd_in:read_scene",
        content,
        shot.px_per_metre,
        shot.rate,
        where=name,
        megabytes=3584,
    )
    with studio.store.edit(shot_id, f"From {name}") as box:
        box[0], taken = with_scene(box[0], ways, name)
    return SceneTaken(state=shot_state(studio, shot_id), taken=taken)
