"""Versions: named states of a shot, to be compared and taken up again."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import Annotated

from fastapi import APIRouter, Depends, Request, Response
from pydantic import BaseModel, Field

from isbjorn.core.document.editing.patching import patched
from isbjorn.core.inspect.differences import differences
from isbjorn.studio.api.shots import Change, ShotState, shot_state, steps_of
from isbjorn.studio.context import Frame, Id, Studio, Width, studio_of
from isbjorn.studio.preview.preview import View, Wish, digest_of
from isbjorn.studio.storage.tables import VersionRow

router = APIRouter(prefix="/api", tags=["versions"])
Here = Annotated[Studio, Depends(studio_of)]


class VersionName(BaseModel):
    """A version's name."""

    name: str = Field(min_length=1, max_length=80)


class NewVersion(VersionName):
    """A version to be kept: the shot as it is now, or with some changes that it does not have."""

    changes: list[Change] = Field(default=[], max_length=500)


class VersionCard(BaseModel):
    """A named state of a shot. differences: from it to the shot as it is now, in words."""

    id: int
    name: str
    created: datetime
    differences: list[str]


def _card(studio: Studio, row: VersionRow) -> VersionCard:
    before, now = studio.store.version_document(row), studio.store.document(row.shot_id)
    return VersionCard(id=row.id or 0, name=row.name, created=row.created, differences=differences(before, now))


@router.get("/shots/{shot_id}/versions")
def list_versions(studio: Here, shot_id: Id) -> list[VersionCard]:
    """The versions of a shot, the oldest first."""
    return [_card(studio, row) for row in studio.store.versions(shot_id)]


@router.post("/shots/{shot_id}/versions", status_code=201)
def keep_version(studio: Here, shot_id: Id, body: NewVersion) -> VersionCard:
    """Keep the shot under a name, as it is now or as changes would make it."""
    shot = studio.store.document(shot_id)
    if body.changes:
        shot = patched(shot, steps_of(body.changes))
    return _card(studio, studio.store.keep_version(shot_id, body.name, shot))


@router.patch("/versions/{version_id}")
def rename_version(studio: Here, version_id: Id, body: VersionName) -> VersionCard:
    """Give a version another name."""
    return _card(studio, studio.store.rename_version(version_id, body.name))


@router.delete("/versions/{version_id}", status_code=204)
def drop_version(studio: Here, version_id: Id) -> Response:
    """Forget a version. The shot stays as it is."""
    studio.store.drop_version(version_id)
    return Response(status_code=204)


@router.post("/versions/{version_id}/take")
def take_version(studio: Here, version_id: Id) -> ShotState:
    """Make the shot what it was in a version; one step of undo."""
    row = studio.store.version(version_id)
    with studio.store.edit(row.shot_id, f"Version {row.name}") as box:
        box[0] = studio.store.version_document(row)
    return shot_state(studio, row.shot_id)


@router.get("/versions/{version_id}/frame", responses={200: {"content": {"image/jpeg": {}}}}, response_class=Response)
async def version_frame(
    studio: Here, request: Request, version_id: Id, frame: Frame, width: Width = 640, view: View = "plate"
) -> Response:
    """A frame of a version, drawn like the live picture."""

    def draw(stale: Callable[[], bool]) -> bytes:
        shot = studio.store.version_document(studio.store.version(version_id))
        held = shot.nearest_frame(frame)
        return studio.preview.draw(shot, digest_of(shot), Wish(held, width, view), stale).jpeg

    return Response(await studio.drawn(request, draw), media_type="image/jpeg")
