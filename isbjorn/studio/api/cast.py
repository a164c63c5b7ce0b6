"""The cast of a shot: things added and taken out, artwork read in, recorded ways, and the library of emitters."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, Depends, Query, Request, Response
from fastapi.concurrency import run_in_threadpool
from pydantic import BaseModel, Field

from isbjorn.core.document import Shot
from isbjorn.core.document.editing import scene_edits
from isbjorn.core.document.fields.references import LISTS
from isbjorn.core.document.files import parse_shot, shot_from_text, shot_to_text
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.keys import keys_through
from isbjorn.demo.beacon import first_shot
from isbjorn.demo.library import shipped
from isbjorn.studio.api.shots import ShotState, shot_state
from isbjorn.studio.context import Id, Studio, studio_of
from isbjorn.studio.sandbox import apart
from isbjorn.studio.storage.tables import PresetRow
from isbjorn.studio.uploads import body_of, file_name

router = APIRouter(prefix="/api", tags=["cast"])
Here = Annotated[Studio, Depends(studio_of)]
_LARGEST_FILE = 8 << 20
_THUMB_FRAMES, _THUMB_WIDTH = 16, 240


class NewThing(BaseModel):
    """Something new for the cast. `copy_of`: the id of a thing of which it is a copy."""

    kind: str = Field(max_length=60, description="Emitter, zone, marker, light, matte, group, or a kind of force.")
    copy_of: str | None = Field(default=None, max_length=60)
    with_ties: bool = Field(default=False, description="For an emitter: also copy its forces, zones and markers.")
    mirror: scene_edits.Axis | None = Field(
        default=None, description="Mirror the copy: left and right, or top and bottom."
    )


@router.post("/shots/{shot_id}/cast", status_code=201)
def add_to_cast(studio: Here, shot_id: Id, body: NewThing) -> ShotState:
    """Add something to the cast."""
    with studio.store.edit(shot_id, f"Add {body.kind}") as box:
        if body.copy_of is not None:
            if body.with_ties:
                box[0] = scene_edits.copied_with_ties(box[0], body.copy_of, body.mirror)
            else:
                box[0] = scene_edits.copied(box[0], body.copy_of, body.mirror)
        else:
            box[0] = scene_edits.added(box[0], body.kind, lambda: first_shot("x").emitters[0])
    return shot_state(studio, shot_id)


@router.delete("/shots/{shot_id}/cast/{thing_id}")
def remove_from_cast(studio: Here, shot_id: Id, thing_id: str) -> ShotState:
    """Take something out, with its place in the reach and its ties."""
    with studio.store.edit(shot_id, "Remove from the cast") as box:
        box[0] = scene_edits.taken_out(box[0], thing_id)
    return shot_state(studio, shot_id)


@router.post("/shots/{shot_id}/artwork/{emitter_id}")
async def take_artwork(
    studio: Here, shot_id: Id, emitter_id: str, request: Request, name: str = "",
    body: Annotated[int | None, Query(ge=0, le=100)] = None,
) -> ShotState:  # fmt: skip
    """Let an emitter give birth from the outlines of an SVG file, or, with `body`, draw its particles as them: 0 is its body,
    others are those mixed in. The content is the file."""
    content = await body_of(request, _LARGEST_FILE, name or "artwork")
    return await studio.reading(_take_artwork, studio, shot_id, emitter_id, content, name, body)


def _take_artwork(
    studio: Studio, shot_id: int, emitter_id: str, content: bytes, name: str, body: int | None
) -> ShotState:  # fmt: skip
    paths = apart("isbjorn.core.evaluate.geometry.outlines:paths_of_svg", content, where=name or "artwork")
    with studio.store.edit(shot_id, "Artwork") as box:
        given = box[0].model_dump(mode="json")
        emitter = _of(given, "emitters", emitter_id)
        made = {"kind": "artwork", "paths": list(paths), "name": name[:200]}
        if body is None:
            emitter["shape"] = made
        elif body == 0:
            emitter["body"] = made | {"weight": emitter["body"]["weight"]}
        elif body <= len(emitter["mixed"]):
            emitter["mixed"][body - 1] = made | {"weight": emitter["mixed"][body - 1]["weight"]}
        else:
            raise IsbjornError("this body does not exist.", emitter["name"], "Add another body first.")
        box[0] = parse_shot(given)
    return shot_state(studio, shot_id)


class PathSample(BaseModel):
    """The motion path's offset of a thing at a moment of shot time, in its coordinates."""

    at_s: float = Field(ge=-86_400, le=86_400)
    across: float = Field(ge=-1e5, le=1e5)
    up: float = Field(ge=-1e5, le=1e5)


class PathRecording(BaseModel):
    """A way that was followed with the pointer. tolerance: how far the few keys may be from the many, in px."""

    samples: list[PathSample] = Field(min_length=2, max_length=100_000)
    tolerance: float = Field(default=3.0, gt=0, le=1000)


@router.post("/shots/{shot_id}/record/{thing_id}")
def record_way(studio: Here, shot_id: Id, thing_id: str, body: PathRecording) -> ShotState:
    """Turn a recorded way into few keys of a thing's place."""
    times = np.array([s.at_s for s in body.samples])
    if (np.diff(times) <= 0).any():
        raise IsbjornError("the samples must be in order of time.", "samples", "Record the path again.")
    values = np.array([[s.across, s.up] for s in body.samples])
    ways = keys_through(times, values, body.tolerance)
    with studio.store.edit(shot_id, "Record path") as box:
        given = box[0].model_dump(mode="json")
        thing = next(
            (t for field in LISTS for t in given[field] if t["id"] == thing_id and "across" in t),
            None,
        )
        if thing is None:
            raise IsbjornError("nothing in the cast has this id.", thing_id, "Nothing was changed.")
        for field, keys in zip(("across", "up"), ways, strict=True):
            thing[field] = {**thing[field], "keys": [key.model_dump(mode="json") for key in keys]}
        box[0] = parse_shot(given)
    return shot_state(studio, shot_id)


def _of(given: dict[str, Any], field: str, thing_id: str) -> dict[str, Any]:
    found: dict[str, Any] | None = next((t for t in given[field] if t["id"] == thing_id), None)
    if found is None:
        raise IsbjornError("nothing in the cast has this id.", thing_id, "Nothing was changed.")
    return found


# The library of emitters


class PresetCard(BaseModel):
    """An emitter of the library, with all that it depends on."""

    id: str
    name: str
    tags: list[str]
    shipped: bool
    forces: list[str] = Field(description="Names of the forces that are included.")


class NewPreset(BaseModel):
    """Keep an emitter of a shot in the library."""

    shot: int = Field(ge=0, le=2**63 - 1)
    emitter: str
    name: str = Field(min_length=1, max_length=80)
    tags: list[Annotated[str, Field(min_length=1, max_length=30)]] = Field(default=[], max_length=12)


class PresetWords(BaseModel):
    """Name and tags of a kept emitter."""

    name: str = Field(min_length=1, max_length=80)
    tags: list[Annotated[str, Field(min_length=1, max_length=30)]] = Field(default=[], max_length=12)


class Apply(BaseModel):
    """Plant a preset in a shot."""

    preset: str


def _shipped() -> dict[str, tuple[list[str], Shot]]:
    return {f"shipped-{number}": entry for number, entry in enumerate(shipped())}


def _card(preset_id: str, name: str, tags: list[str], shot: Shot) -> PresetCard:
    forces = [f.name for f in shot.forces]
    return PresetCard(id=preset_id, name=name, tags=tags, shipped=preset_id.startswith("shipped"), forces=forces)


def _kept(row: PresetRow) -> PresetCard:
    return _card(f"kept-{row.id}", row.name, row.tags.split("\n") if row.tags else [], shot_from_text(row.document))


def _preset(studio: Studio, preset_id: str) -> tuple[PresetCard, Shot]:
    found = _shipped().get(preset_id)
    if found is not None:
        return _card(preset_id, found[1].name, *found), found[1]
    row = studio.store.preset(preset_id)
    return _kept(row), shot_from_text(row.document)


@router.get("/emitters")
def list_presets(studio: Here, find: str = "") -> list[PresetCard]:
    """The library of emitters: those that ship, and those that were kept. find: words in name, tags or forces."""
    cards = [_card(name, shot.name, tags, shot) for name, (tags, shot) in _shipped().items()]
    cards += [_kept(row) for row in studio.store.presets()]
    words = find.lower().split()
    return [c for c in cards if all(w in " ".join([c.name, *c.tags, *c.forces]).lower() for w in words)]


@router.post("/emitters", status_code=201)
def keep_preset(studio: Here, body: NewPreset) -> PresetCard:
    """Keep an emitter of a shot, with its forces, zones and markers."""
    shot = scene_edits.alone(studio.store.document(body.shot), body.emitter).model_copy(update={"name": body.name})
    return _kept(studio.store.keep_preset(body.name, body.tags, shot))


@router.post("/emitters/import", status_code=201)
async def import_preset(studio: Here, request: Request, name: str = "") -> PresetCard:
    """Take an emitter file into the library; the body is its JSON: a shot with one emitter or more."""
    content = await body_of(request, _LARGEST_FILE, name or "emitter")

    def take() -> PresetCard:
        shot = shot_from_text(content, name[:200] or "emitter")
        if not shot.emitters:
            raise IsbjornError("this file contains no emitter.", name[:200], "Select an exported emitter.")
        return _kept(studio.store.keep_preset(shot.name[:80], [], shot))

    return await run_in_threadpool(take)


@router.patch("/emitters/{preset_id}")
def rename_preset(studio: Here, preset_id: str, body: PresetWords) -> PresetCard:
    """Give a kept emitter another name and other tags."""
    return _kept(studio.store.rename_preset(preset_id, body.name, body.tags))


@router.delete("/emitters/{preset_id}", status_code=204)
def drop_preset(studio: Here, preset_id: str) -> Response:
    """Take a kept emitter out of the library."""
    studio.store.drop_preset(preset_id)
    return Response(status_code=204)


@router.get("/emitters/{preset_id}/export")
def export_preset(studio: Here, preset_id: str) -> Response:
    """An emitter as a file: a shot by the published schema, with nothing else in it."""
    card, shot = _preset(studio, preset_id)
    head = {"Content-Disposition": f'attachment; filename="{file_name(card.name)}.emitter.json"'}
    return Response(shot_to_text(shot), media_type="application/json", headers=head)


@router.get("/emitters/{preset_id}/thumb", responses={200: {"content": {"image/jpeg": {}}}}, response_class=Response)
async def preset_thumb(studio: Here, request: Request, preset_id: str) -> Response:
    """A small moving picture of an emitter: 16 frames of its first two seconds, one under the other."""
    _, shot = await run_in_threadpool(_preset, studio, preset_id)
    jpeg = await studio.thumb(request, shot, _THUMB_FRAMES, _THUMB_WIDTH, exposed=True)
    return Response(jpeg, media_type="image/jpeg", headers={"Cache-Control": "no-cache"})


@router.post("/shots/{shot_id}/plant", status_code=201)
def plant(studio: Here, shot_id: Id, body: Apply) -> ShotState:
    """Put an emitter of the library into the cast, with all that it depends on."""
    card, kept = _preset(studio, body.preset)
    with studio.store.edit(shot_id, f"Plant {card.name}") as box:
        box[0], _ = scene_edits.planted(box[0], kept)
    return shot_state(studio, shot_id)
