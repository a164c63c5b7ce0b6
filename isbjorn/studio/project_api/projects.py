"""Projects: list, make, rename, delete and bring back, export and import."""

from __future__ import annotations

import tempfile
from datetime import datetime
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Depends, Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import FileResponse
from pydantic import BaseModel, Field
from starlette.background import BackgroundTask

from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.studio.context import Id, Studio, studio_of
from isbjorn.studio.storage.packages import pack_project, unpack_project
from isbjorn.studio.storage.store import Missing
from isbjorn.studio.storage.tables import Project, ShotRow
from isbjorn.studio.uploads import file_name, receive

router = APIRouter(prefix="/api/projects", tags=["projects"])
Here = Annotated[Studio, Depends(studio_of)]
Name = Annotated[str, Field(min_length=1, max_length=120)]


class ShotCard(BaseModel):
    """A shot on the page of projects."""

    id: int
    name: str
    width: int
    height: int
    rate: str
    frames: int
    length_s: float
    revision: int
    created: datetime
    opened: datetime | None = Field(default=None, description="When a page last looked at it.")
    problem: str = Field(default="", description="Parts that cannot be read.")


class ProjectCard(BaseModel):
    """A project and its shots."""

    id: int
    name: str
    created: datetime
    shots: list[ShotCard]


class Named(BaseModel):
    """A name for something."""

    name: Name


def shot_card(row: ShotRow, shot: Shot, problem: str = "") -> ShotCard:
    return ShotCard(
        id=row.id or 0,
        name=shot.name,
        width=shot.width,
        height=shot.height,
        rate=shot.rate,
        frames=shot.frame_count,
        length_s=float(shot.length_s),
        revision=row.head,
        created=row.created,
        opened=row.opened,
        problem=problem,
    )


def _card_of(studio: Studio, row: ShotRow) -> ShotCard:
    """A shot's card; of one that cannot be read, what is wrong with it: it hides no other."""
    try:
        shot, damage = studio.store.read(row.id or 0)
    except Missing:
        raise
    except IsbjornError as error:
        return shot_card(row, Shot(name=f"Shot {row.id}"), f"{error.what} {error.remedy}")
    return shot_card(row, shot, " ".join(damage))


def project_card(studio: Studio, project: Project) -> ProjectCard:
    rows = studio.store.shots(project.id or 0)
    shots = [_card_of(studio, row) for row in rows]
    return ProjectCard(id=project.id or 0, name=project.name, created=project.created, shots=shots)


@router.get("")
def list_projects(studio: Here) -> list[ProjectCard]:
    """All projects with their shots."""
    return [project_card(studio, project) for project in studio.store.projects()]


@router.post("", status_code=201)
def make_project(studio: Here, body: Named) -> ProjectCard:
    """Make an empty project."""
    return project_card(studio, studio.store.create_project(body.name))


@router.patch("/{project_id}")
def rename_project(studio: Here, project_id: Id, body: Named) -> ProjectCard:
    """Rename a project."""
    return project_card(studio, studio.store.rename_project(project_id, body.name))


@router.delete("/{project_id}", status_code=204)
def delete_project(studio: Here, project_id: Id) -> Response:
    """Delete a project; it can be brought back."""
    studio.store.put_away(Project, project_id, True)
    return Response(status_code=204)


@router.post("/{project_id}/restore")
def restore_project(studio: Here, project_id: Id) -> ProjectCard:
    """Bring a deleted project back."""
    studio.store.put_away(Project, project_id, False)
    return project_card(studio, studio.store.project(project_id))


@router.get("/{project_id}/export", response_class=FileResponse)
def export_project(studio: Here, project_id: Id) -> FileResponse:
    """The project as a zip: its shots by the published schema, and its media."""
    project = studio.store.project(project_id)
    with tempfile.NamedTemporaryFile(dir=studio.store.folder, suffix=".zip", delete=False) as made:
        try:
            pack_project(studio.store, project_id, Path(made.name))
        except BaseException as error:
            Path(made.name).unlink(missing_ok=True)
            if isinstance(error, OSError):
                raise IsbjornError(
                    f"the project could not be packed ({error.strerror}).", project.name, "Check the free disk space."
                ) from None
            raise
    gone = BackgroundTask(Path(made.name).unlink, missing_ok=True)
    return FileResponse(
        made.name, filename=f"{file_name(project.name)}.isbjorn.zip", media_type="application/zip", background=gone
    )


@router.post("/import", status_code=201)
async def import_project(studio: Here, request: Request) -> ProjectCard:
    """Take in a project that was exported; the body is the zip."""
    path = await receive(request, studio.store.folder, "import.zip")
    try:
        return await run_in_threadpool(lambda: project_card(studio, unpack_project(studio.store, path)))
    finally:
        path.unlink(missing_ok=True)
