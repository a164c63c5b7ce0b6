"""Shots: the document and its edits, undo and redo, export and import, small moving pictures."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any, Literal

import jsonpatch
import simplejpeg
from fastapi import APIRouter, Depends, Request, Response
from jsonpointer import JsonPointerException
from pydantic import BaseModel, Field

from isbjorn.core.document import Drag, Emitter, Gravity, Link, Shot
from isbjorn.core.document.files import parse_shot, shot_from_text, shot_schema, shot_to_text
from isbjorn.core.errors import IsbjornError
from isbjorn.core.guides import Guides, guides
from isbjorn.core.life.gradient import linear_to_hex
from isbjorn.core.life.presets import Presets, presets
from isbjorn.core.media.colour import shade_table
from isbjorn.core.picture.compose import to_shades
from isbjorn.core.render import ground, render_frame
from isbjorn.core.time import COMMON_RATES, timecode
from isbjorn.demo.beacon import first_shot
from isbjorn.studio.context import Studio, studio_of
from isbjorn.studio.projects import ShotCard, shot_card
from isbjorn.studio.tables import ShotRow

router = APIRouter(prefix="/api", tags=["shots"])
Here = Annotated[Studio, Depends(studio_of)]
_THUMB_FRAMES, _THUMB_WIDTH = 20, 320
_LARGEST_DOCUMENT = 8 << 20


class ShotState(BaseModel):
    """A shot as it stands, and what the engine derives from it."""

    id: int
    project_id: int
    revision: int
    document: Shot
    undo: str | None = Field(description="What undo would take back.")
    redo: str | None
    guides: list[Guides]
    timecodes: tuple[str, str] = Field(description="Of the first and of the last frame.")


class Change(BaseModel):
    """One step of RFC 6902 (JSON Patch) on the document."""

    op: Literal["add", "remove", "replace"]
    path: str
    value: Any = None


class Edit(BaseModel):
    """Changes that are made together. Edits with the same gesture, one after the other, are one step of undo."""

    changes: list[Change] = Field(min_length=1, max_length=500)
    label: str = Field(default="Edit", min_length=1, max_length=120)
    gesture: str | None = Field(default=None, max_length=60)


class NewThing(BaseModel):
    """Something new for the cast. `copy_of`: the id of a thing of which it is a copy."""

    kind: Literal["emitter", "gravity", "drag"]
    copy_of: str | None = None


class NewShot(BaseModel):
    """A shot from nothing."""

    name: str = Field(min_length=1, max_length=120)
    width: int = Field(default=1280, ge=16, le=16_384)
    height: int = Field(default=720, ge=16, le=16_384)
    rate: str = "25"
    frames: int = Field(default=250, ge=1, le=1_000_000)


def state_of(studio: Studio, shot_id: int) -> ShotState:
    row, undo, redo = studio.store.history(shot_id)
    shot = studio.store.document(shot_id)
    ends = (timecode(shot.first_frame, shot.frame_rate), timecode(shot.last_frame, shot.frame_rate))
    return ShotState(
        id=shot_id,
        project_id=row.project_id,
        revision=row.head,
        document=shot,
        undo=undo,
        redo=redo,
        guides=guides(shot),
        timecodes=ends,
    )


def _told(studio: Studio, shot_id: int) -> ShotState:
    studio.edited(shot_id)
    return state_of(studio, shot_id)


@router.get("/schema")
def get_schema() -> dict[str, Any]:
    """The JSON Schema of a shot, with unit, range and clock of every number."""
    return shot_schema()


@router.get("/presets")
def get_presets() -> Presets:
    """Curves and ramps to start from."""
    return presets()


@router.get("/rates")
def get_rates() -> list[str]:
    """Frame rates that are common in the trade."""
    return list(COMMON_RATES)


@router.post("/projects/{project_id}/shots", status_code=201)
def make_shot(studio: Here, project_id: int, body: NewShot) -> ShotCard:
    """Make a shot that starts with one emitter."""
    given = first_shot(body.name).model_dump(mode="json")
    given |= {"width": body.width, "height": body.height, "rate": body.rate, "last_frame": body.frames - 1}
    shot = parse_shot(given)
    return shot_card(studio.store.create_shot(project_id, shot), shot)


@router.post("/projects/{project_id}/shots/import", status_code=201)
async def import_shot(studio: Here, project_id: int, request: Request) -> ShotCard:
    """Take in a shot file; the body is its JSON."""
    body = b""
    async for chunk in request.stream():
        body += chunk
        if len(body) > _LARGEST_DOCUMENT:
            raise IsbjornError("a shot file is not larger than 8 MiB.", "file", "Is it a shot?")
    shot = shot_from_text(body)
    return shot_card(studio.store.create_shot(project_id, shot, "Imported"), shot)


@router.get("/shots/{shot_id}")
def get_shot(studio: Here, shot_id: int) -> ShotState:
    """A shot as it stands."""
    return state_of(studio, shot_id)


@router.patch("/shots/{shot_id}")
def edit_shot(studio: Here, shot_id: int, body: Edit) -> ShotState:
    """Change the document. Answers when the change lies on the disk; an error changes nothing."""
    with studio.store.edit(shot_id, body.label, body.gesture) as box:
        given = box[0].model_dump(mode="json")
        steps = [c.model_dump(exclude={"value"} if c.op == "remove" else None) for c in body.changes]
        try:
            changed = jsonpatch.JsonPatch(steps).apply(given, in_place=True)
        except (jsonpatch.JsonPatchException, JsonPointerException, TypeError) as error:
            raise IsbjornError(
                f"the change does not fit the shot ({error}).", body.changes[0].path, "Nothing was changed."
            ) from None
        box[0] = parse_shot(changed)
    return _told(studio, shot_id)


@router.post("/shots/{shot_id}/undo")
def undo(studio: Here, shot_id: int) -> ShotState:
    """Take the last edit back."""
    studio.store.step(shot_id, -1)
    return _told(studio, shot_id)


@router.post("/shots/{shot_id}/redo")
def redo(studio: Here, shot_id: int) -> ShotState:
    """Make the edit again that was taken back."""
    studio.store.step(shot_id, 1)
    return _told(studio, shot_id)


def _with_new(shot: Shot, body: NewThing) -> Shot:
    """The shot with a thing more. A new force reaches every emitter, every force reaches a new emitter; a copy keeps its reach."""
    things: dict[str, Any] = {t.id: t for t in (*shot.emitters, *shot.forces)}
    names = {t.name for t in things.values()}
    makers: dict[str, Callable[[], Any]] = {
        "emitter": lambda: first_shot("x").emitters[0],
        "gravity": Gravity,
        "drag": Drag,
    }
    fresh = makers[body.kind]()
    old = None if body.copy_of is None else things.get(body.copy_of)
    if body.copy_of is not None and old is None:
        raise IsbjornError("there is nothing of that id in the cast.", body.copy_of, "Nothing was changed.")
    source = old or fresh
    fresh_id = (Emitter if isinstance(source, Emitter) else type(source))().id
    name, number = source.name, 2
    while name in names:
        name, number = f"{source.name} {number}", number + 1
    update: dict[str, Any] = {"id": fresh_id, "name": name}
    if isinstance(source, Emitter):
        update["seed"] = max((e.seed for e in shot.emitters), default=0) + 1
        made = source.model_copy(update=update)
        reach = [f.id for f in shot.forces] if old is None else [x.force for x in shot.links if x.emitter == old.id]
        links = tuple(Link(force=f, emitter=fresh_id) for f in reach)
        return shot.model_copy(update={"emitters": (*shot.emitters, made), "links": (*shot.links, *links)})
    made = source.model_copy(update=update)
    touched = [e.id for e in shot.emitters] if old is None else [x.emitter for x in shot.links if x.force == old.id]
    links = tuple(Link(force=fresh_id, emitter=e) for e in touched)
    return shot.model_copy(update={"forces": (*shot.forces, made), "links": (*shot.links, *links)})


@router.post("/shots/{shot_id}/cast", status_code=201)
def add_to_cast(studio: Here, shot_id: int, body: NewThing) -> ShotState:
    """Add an emitter or a force."""
    with studio.store.edit(shot_id, f"Add {body.kind}") as box:
        box[0] = parse_shot(_with_new(box[0], body).model_dump(mode="json"))
    return _told(studio, shot_id)


@router.delete("/shots/{shot_id}/cast/{thing_id}")
def remove_from_cast(studio: Here, shot_id: int, thing_id: str) -> ShotState:
    """Take an emitter or a force out, with its place in the reach."""
    with studio.store.edit(shot_id, "Remove from the cast") as box:
        shot = box[0]
        box[0] = shot.model_copy(
            update={
                "emitters": tuple(e for e in shot.emitters if e.id != thing_id),
                "forces": tuple(f for f in shot.forces if f.id != thing_id),
                "links": tuple(x for x in shot.links if thing_id not in (x.force, x.emitter)),
            }
        )
    return _told(studio, shot_id)


@router.post("/shots/{shot_id}/copy", status_code=201)
def copy_shot(studio: Here, shot_id: int) -> ShotCard:
    """A copy of a shot in its project."""
    row, shot = studio.store.shot_row(shot_id), studio.store.document(shot_id)
    made = shot.model_copy(update={"name": f"{shot.name[:110]} copy"})
    return shot_card(studio.store.create_shot(row.project_id, made, "Copied"), made)


@router.delete("/shots/{shot_id}", status_code=204)
def delete_shot(studio: Here, shot_id: int) -> Response:
    """Delete a shot; it can be brought back."""
    studio.store.put_away(ShotRow, shot_id, True)
    return Response(status_code=204)


@router.post("/shots/{shot_id}/restore")
def restore_shot(studio: Here, shot_id: int) -> ShotCard:
    """Bring a deleted shot back."""
    studio.store.put_away(ShotRow, shot_id, False)
    return shot_card(studio.store.shot_row(shot_id), studio.store.document(shot_id))


@router.get("/shots/{shot_id}/export")
def export_shot(studio: Here, shot_id: int) -> Response:
    """The shot as a file by the published schema."""
    shot = studio.store.document(shot_id)
    name = "".join(c if (c.isalnum() and c.isascii()) or c in " -_" else "_" for c in shot.name)
    head = {"Content-Disposition": f'attachment; filename="{name}.isbjorn.json"'}
    return Response(shot_to_text(shot), media_type="application/json", headers=head)


@router.get("/shots/{shot_id}/thumb", responses={200: {"content": {"image/jpeg": {}}}}, response_class=Response)
def thumb(studio: Here, shot_id: int) -> Response:
    """A small moving picture: 20 frames of the shot's first two seconds, one under the other."""
    shot = studio.store.document(shot_id)
    name = studio.preview.thumb_name(shot)
    kept = studio.store.folder / "thumbs" / f"{name}.jpg"
    if not kept.is_file():
        kept.parent.mkdir(exist_ok=True)
        part = kept.with_suffix(".part")
        part.write_bytes(studio.preview.strip(shot, _THUMB_FRAMES, _THUMB_WIDTH))
        part.replace(kept)
    return Response(kept.read_bytes(), media_type="image/jpeg", headers={"Cache-Control": "no-cache"})


@router.get("/shots/{shot_id}/frame", responses={200: {"content": {"image/jpeg": {}}}}, response_class=Response)
def frame_picture(studio: Here, shot_id: int, frame: int, width: int = 1280) -> Response:
    """One frame as the delivery makes it, as a JPEG."""
    shot = studio.store.document(shot_id)
    if not 16 <= width <= 8192:
        raise IsbjornError("a width is 16 to 8192 px.", "width", "Choose another.")
    picture = render_frame(shot, frame, width / shot.width, plates=studio.plates)
    jpeg = simplejpeg.encode_jpeg(to_shades(picture, shade_table("srgb")), quality=92, colorspace="RGB")
    return Response(jpeg, media_type="image/jpeg")


class Picked(BaseModel):
    """A colour of the plate."""

    colour: str


@router.get("/shots/{shot_id}/pick")
def pick(studio: Here, shot_id: int, frame: int, x: float, y: float, radius: float = 2.0) -> Picked:
    """The mean colour of the plate around a place (px of the design size, from the top left), averaged in linear light."""
    shot = studio.store.document(shot_id)
    below = ground(shot, frame, 1.0, studio.plates)
    if below is None:
        raise IsbjornError("there is no plate under the shot.", "plate", "Choose a plate first.")
    height, width = below.shape[:2]
    reach = max(0.5, min(radius, 64))
    left, right = int(max(0, min(width - 1, x - reach))), int(max(0, min(width - 1, x + reach)))
    top, bottom = int(max(0, min(height - 1, y - reach))), int(max(0, min(height - 1, y + reach)))
    patch = below[top : bottom + 1, left : right + 1, :3]
    return Picked(colour=linear_to_hex(patch.reshape(-1, 3).mean(axis=0)))
