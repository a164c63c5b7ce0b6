"""Shots: the document and its edits, undo and redo, export and import, small moving pictures."""

from __future__ import annotations

import functools
import itertools
import json
import secrets
from collections.abc import Callable, Collection
from typing import Annotated, Any, Literal

import simplejpeg
from fastapi import APIRouter, Depends, Query, Request, Response
from fastapi.concurrency import run_in_threadpool
from pydantic import BaseModel, Field

from isbjorn.core.caching import IdentityCache
from isbjorn.core.document import Shot
from isbjorn.core.document.editing.patching import patched
from isbjorn.core.document.files import parse_shot, shot_from_text, shot_schema, shot_to_text
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.presets import Presets, presets
from isbjorn.core.frame import render_frame
from isbjorn.core.imaging.colour import shade_table
from isbjorn.core.imaging.display_encoding import to_shades
from isbjorn.core.inspect.guides import Scene, guides, no_guides
from isbjorn.core.media.read.light import light_of
from isbjorn.core.render.scene.camera import Orbit
from isbjorn.core.simulate.fingerprint import reads_plate
from isbjorn.core.time import COMMON_RATES, timecode
from isbjorn.demo.beacon import first_shot
from isbjorn.studio.context import Frame, Id, Studio, Width, studio_of
from isbjorn.studio.preview.preview import scale_for
from isbjorn.studio.project_api.projects import ShotCard, shot_card
from isbjorn.studio.storage.store import Standing
from isbjorn.studio.storage.tables import ShotRow
from isbjorn.studio.uploads import body_of, file_name

router = APIRouter(prefix="/api", tags=["shots"])
Here = Annotated[Studio, Depends(studio_of)]
_THUMB_FRAMES, _THUMB_WIDTH = 20, 320
_LARGEST_DOCUMENT = 8 << 20
# Guides that an edit did not touch are the same objects. A page has none from an earlier studio process.
_marks = itertools.count(secrets.randbits(48))
_mark_of: IdentityCache[int] = IdentityCache(lambda _: next(_marks), kept=64, what="Marks of documents")


class ShotState(BaseModel):
    """A shot, and what the engine derives from it."""

    id: int
    project_id: int
    revision: int
    document: Shot
    undo: str | None = Field(description="Label of the edit that undo would revert.")
    redo: str | None
    guides: Scene
    timecodes: tuple[str, str] = Field(description="Timecodes of the first and of the last frame.")
    damage: list[str] = Field(
        default=[], description="Parts of the stored document that cannot be read and were left out."
    )
    marks: dict[str, int] = Field(
        default={}, description="Marks of the guides of each emitter; they change with the guides."
    )


class Change(BaseModel):
    """One step of RFC 6902 (JSON Patch) on the document."""

    op: Literal["add", "remove", "replace"]
    path: str = Field(max_length=400)
    value: Any = None


def steps_of(changes: list[Change]) -> list[dict[str, Any]]:
    """Changes as a JSON Patch."""
    return [c.model_dump(exclude={"value"} if c.op == "remove" else None) for c in changes]


class Edit(BaseModel):
    """Changes that are made together. Edits with the same gesture, one after the other, are one step of undo."""

    changes: list[Change] = Field(min_length=1, max_length=500)
    label: str = Field(default="Edit", min_length=1, max_length=120)
    gesture: str | None = Field(default=None, max_length=60)
    frame: int | None = Field(
        default=None, ge=-(10**9), le=10**9, description="Frame whose guides are returned with the answer."
    )
    thing: str | None = Field(default=None, max_length=60, description="Force whose field is returned with the answer.")
    again: bool = Field(
        default=False,
        description=(
            "A repeat of a request that was not answered: it is not applied twice if the last edit belongs to "
            "the same gesture."
        ),
    )
    having: list[int] = Field(
        default=[],
        max_length=1000,
        description="Marks of guides that the page already has; they are left out of the answer.",
    )


class NewShot(BaseModel):
    """A shot from nothing."""

    name: str = Field(min_length=1, max_length=120)
    width: int = Field(default=1280, ge=16, le=16_384)
    height: int = Field(default=720, ge=16, le=16_384)
    rate: str = Field(default="25", max_length=24)
    frames: int = Field(default=250, ge=1, le=1_000_000)


def state_of(studio: Studio, shot_id: int, frame: int | None = None, thing: str | None = None) -> ShotState:
    return _state(studio, shot_id, studio.store.standing(shot_id), frame, thing)


def _state(
    studio: Studio, shot_id: int, standing: Standing, frame: int | None, thing: str | None, having: Collection[int] = ()
) -> ShotState:
    row, undo, redo, shot, damage = standing
    scene = scene_of(studio, shot_id, shot, frame, None, thing)
    marks = {one.emitter: _mark_of(one) for one in scene.emitters}
    if having:
        # A half of an answer, and of what it takes to write and to read it.
        left = [one for one in scene.emitters if marks[one.emitter] not in having]
        scene = scene.model_copy(update={"emitters": left})
    ends = (timecode(shot.first_frame, shot.frame_rate), timecode(shot.last_frame, shot.frame_rate))
    return ShotState(
        id=shot_id,
        project_id=row.project_id,
        revision=row.head,
        document=shot,
        undo=undo,
        redo=redo,
        guides=scene,
        timecodes=ends,
        damage=list(damage),
        marks=marks,
    )


def scene_of(
    studio: Studio, shot_id: int, shot: Shot, frame: int | None, orbit: Orbit | None = None, thing: str | None = None
) -> Scene:
    """The guides of a shot at a frame, as far as its plate can be read."""
    memory = studio.guided(shot_id)
    reads = any(reads_plate(shot, e) for e in shot.emitters)
    known = memory.before.light if memory.before is not None else None
    light = light_of(shot, studio.plates, known) if reads else None
    try:
        return guides(shot, frame, orbit, light, thing, memory)
    except IsbjornError:
        pass
    try:
        # A plate that cannot be read is reported where the picture is requested.
        return guides(shot, frame, orbit, None, thing)
    except IsbjornError as error:
        # So is what cannot be drawn: the shot itself opens all the same.
        return no_guides(shot, frame, str(error))


def shot_state(
    studio: Studio, shot_id: int, frame: int | None = None, thing: str | None = None, having: Collection[int] = ()
) -> ShotState:
    """Notify all subscribers of a shot that it changed; returns its new state."""
    return _state(studio, shot_id, studio.edited(shot_id), frame, thing, having)


@functools.cache
def _schema() -> bytes:
    """Kinds are registered before a studio starts: it stays as it is."""
    return json.dumps(shot_schema(), ensure_ascii=False).encode()


@router.get("/schema", response_model=dict[str, Any])
def get_schema() -> Response:
    """The JSON Schema of a shot, with unit, range and clock of every number."""
    return Response(_schema(), media_type="application/json")


@router.get("/presets")
def get_presets() -> Presets:
    """Curves and ramps to start from."""
    return presets()


@router.get("/rates")
def get_rates() -> list[str]:
    """Frame rates that are common in the trade."""
    return list(COMMON_RATES)


@router.post("/projects/{project_id}/shots", status_code=201)
def make_shot(studio: Here, project_id: Id, body: NewShot) -> ShotCard:
    """Make a shot that starts with one emitter."""
    given = first_shot(body.name).model_dump(mode="json")
    given |= {"width": body.width, "height": body.height, "rate": body.rate, "last_frame": body.frames - 1}
    shot = parse_shot(given)
    return shot_card(studio.store.create_shot(project_id, shot), shot)


@router.post("/projects/{project_id}/shots/import", status_code=201)
async def import_shot(studio: Here, project_id: Id, request: Request) -> ShotCard:
    """Take in a shot file; the body is its JSON."""
    content = await body_of(request, _LARGEST_DOCUMENT, "file")

    def take() -> ShotCard:
        shot = shot_from_text(content)
        return shot_card(studio.store.create_shot(project_id, shot, "Imported"), shot)

    return await run_in_threadpool(take)


@router.get("/shots/{shot_id}")
def get_shot(studio: Here, shot_id: Id, frame: Frame | None = None, thing: str | None = None) -> ShotState:
    """A shot with its guides at a frame, and with the field of the force `thing`."""
    return state_of(studio, shot_id, frame, thing)


@router.get("/shots/{shot_id}/guides")
def get_guides(
    studio: Here,
    shot_id: Id,
    frame: Frame,
    side: Annotated[float | None, Query(ge=-3600, le=3600)] = None,
    above: Annotated[float, Query(ge=-360, le=360)] = 0.0,
    far: Annotated[float, Query(ge=0.01, le=1000)] = 1.6,
    thing: str | None = None,
) -> Scene:
    """Guides at a frame; with `side`, as a free look sees them; with `thing`, the field of that force."""
    orbit = None if side is None else Orbit(side, above, far)
    return scene_of(studio, shot_id, studio.store.document(shot_id), frame, orbit, thing)


@router.patch("/shots/{shot_id}")
def edit_shot(studio: Here, shot_id: Id, body: Edit) -> ShotState:
    """Change the document. Answers when the change is on the disk; an error changes nothing."""
    with studio.store.edit(shot_id, body.label, body.gesture, body.again) as box:
        for n, shot in enumerate(box):
            box[n] = patched(shot, steps_of(body.changes))
    return shot_state(studio, shot_id, body.frame, body.thing, frozenset(body.having))


@router.post("/shots/{shot_id}/undo")
def undo(studio: Here, shot_id: Id) -> ShotState:
    """Take the last edit back."""
    studio.store.step(shot_id, -1)
    return shot_state(studio, shot_id)


@router.post("/shots/{shot_id}/redo")
def redo(studio: Here, shot_id: Id) -> ShotState:
    """Make the edit again that was taken back."""
    studio.store.step(shot_id, 1)
    return shot_state(studio, shot_id)


@router.post("/shots/{shot_id}/copy", status_code=201)
def copy_shot(studio: Here, shot_id: Id) -> ShotCard:
    """A copy of a shot in its project."""
    row, shot = studio.store.shot_row(shot_id), studio.store.document(shot_id)
    made = shot.model_copy(update={"name": f"{shot.name[:110]} copy"})
    return shot_card(studio.store.create_shot(row.project_id, made, "Copied"), made)


@router.delete("/shots/{shot_id}", status_code=204)
def delete_shot(studio: Here, shot_id: Id) -> Response:
    """Delete a shot; it can be brought back."""
    studio.store.put_away(ShotRow, shot_id, True)
    return Response(status_code=204)


@router.post("/shots/{shot_id}/restore")
def restore_shot(studio: Here, shot_id: Id) -> ShotCard:
    """Bring a deleted shot back."""
    studio.store.put_away(ShotRow, shot_id, False)
    return shot_card(studio.store.shot_row(shot_id), studio.store.document(shot_id))


@router.get("/shots/{shot_id}/export")
def export_shot(studio: Here, shot_id: Id) -> Response:
    """The shot as a file by the published schema."""
    shot = studio.store.document(shot_id)
    head = {"Content-Disposition": f'attachment; filename="{file_name(shot.name)}.isbjorn.json"'}
    return Response(shot_to_text(shot), media_type="application/json", headers=head)


@router.get("/shots/{shot_id}/thumb", responses={200: {"content": {"image/jpeg": {}}}}, response_class=Response)
async def thumb(studio: Here, request: Request, shot_id: Id) -> Response:
    """A small moving picture: 20 frames of the shot's first two seconds, one under the other."""
    shot = await run_in_threadpool(studio.store.document, shot_id)
    jpeg = await studio.thumb(request, shot, _THUMB_FRAMES, _THUMB_WIDTH)
    return Response(jpeg, media_type="image/jpeg", headers={"Cache-Control": "no-cache"})


@router.get("/shots/{shot_id}/frame", responses={200: {"content": {"image/jpeg": {}}}}, response_class=Response)
async def frame_picture(studio: Here, request: Request, shot_id: Id, frame: Frame, width: Width = 1280) -> Response:
    """One frame as the delivery makes it, as a JPEG; of a frame before or after the shot, its first or last."""

    def draw(stale: Callable[[], bool]) -> bytes:
        shot = studio.store.document(shot_id)
        held = shot.nearest_frame(frame)
        picture = render_frame(shot, held, scale_for(shot, width), plates=studio.plates, stale=stale)
        return simplejpeg.encode_jpeg(to_shades(picture, shade_table("srgb")), quality=92, colorspace="RGB")

    return Response(await studio.drawn(request, draw), media_type="image/jpeg")
