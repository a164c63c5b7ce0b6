"""Models of other programs: files that come in, and are bodies of particles and sources of births."""

from __future__ import annotations

import secrets
import shutil
from dataclasses import asdict
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Depends, Query, Request
from pydantic import BaseModel, Field

from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.external_files import digest_of
from isbjorn.core.evaluate.geometry.model_files import facts_of
from isbjorn.core.media.read.models import ENDINGS, ImportedModel
from isbjorn.studio.context import Id, Studio, studio_of
from isbjorn.studio.sandbox import apart
from isbjorn.studio.storage.tables import unseen
from isbjorn.studio.uploads import receive, safe_name

router = APIRouter(prefix="/api", tags=["models"])
Here = Annotated[Studio, Depends(studio_of)]
_SECONDS, _MEGABYTES = 90, 3584


class NamedModel(BaseModel):
    """A model, as a document names it, and what it is."""

    media: str
    digest: str
    name: str
    points: int
    faces: int
    longest: float = Field(description="Longest side of the box around the model, in the unit of its file.")
    closed: bool = Field(description="Whether the model has an inside.")


class ModelTaken(NamedModel):
    """A model that was read."""

    inverted: bool = Field(description="Whether its faces pointed inward, and were turned.")


class ProjectModel(NamedModel):
    """A model of a project."""

    bytes: int


@router.get("/projects/{project_id}/models")
def list_models(studio: Here, project_id: Id) -> list[ProjectModel]:
    """The models of a project, the latest first; those whose files are gone or damaged are left out."""
    studio.store.project(project_id)
    found = []
    for one in studio.store.media(project_id):
        if one.kind != "model":
            continue
        path = studio.store.media_folder / one.media
        try:
            facts, digest = facts_of(path), digest_of(path)
        except (IsbjornError, OSError):
            continue
        found.append(ProjectModel(media=one.media, digest=digest, name=one.name, bytes=one.bytes, **asdict(facts)))
    return found[::-1]


@router.put("/projects/{project_id}/models", status_code=201)
async def import_model(
    studio: Here, request: Request, project_id: Id, name: Annotated[str, Query(min_length=1, max_length=255)]
) -> ModelTaken:
    """Take in a model; the body is its bytes. It is read in a process with limits."""
    studio.store.project(project_id)
    safe = safe_name(name)
    if Path(safe).suffix.lower() not in ENDINGS:
        raise IsbjornError("this is not a model file type.", name, f"Use {', '.join(ENDINGS)}.")
    arrived = await receive(request, studio.store.media_folder, safe)
    return await studio.reading(_take, studio, project_id, arrived, name)


def _take(studio: Studio, project_id: int, arrived: Path, name: str) -> ModelTaken:
    home = studio.store.media_folder / f"g{secrets.token_hex(4)}"
    home.mkdir()
    try:
        file = home / f"model{Path(name).suffix.lower()}"
        arrived.replace(file)
        target = home / "model.npz"
        found: ImportedModel = apart(
            "isbjorn.core.media.read.models:take_model",
            str(file),
            str(target),
            where=name,
            seconds=_SECONDS,
            megabytes=_MEGABYTES,
        )
        file.unlink()
        media = f"{home.name}/{target.name}"
        studio.store.add_media(unseen(project_id, name, media, "model", target.stat().st_size))
    except BaseException:
        shutil.rmtree(home, ignore_errors=True)
        arrived.unlink(missing_ok=True)
        raise
    return ModelTaken(media=media, name=name, **asdict(found))
