"""The library of plates: import, folders that the user names, thumbnails."""

from __future__ import annotations

import re
import shutil
from pathlib import Path
from typing import Annotated

import simplejpeg
from fastapi import APIRouter, Depends, Query, Request, Response
from fastapi.concurrency import run_in_threadpool
from pydantic import BaseModel, Field

from isbjorn.core.document import Plate, Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.imaging.colour import shade_table
from isbjorn.core.imaging.display_encoding import to_shades
from isbjorn.core.media.read.movies import MOVIES
from isbjorn.core.media.read.stills import PICTURES, is_pattern, pattern_of
from isbjorn.studio.context import Id, Studio, studio_of
from isbjorn.studio.storage.tables import Folder, Media
from isbjorn.studio.uploads import housed, receive, safe_name

router = APIRouter(prefix="/api", tags=["media"])
Here = Annotated[Studio, Depends(studio_of)]
_LISTED = 2000


class FolderPath(BaseModel):
    """The whole path of a folder on this machine."""

    path: str = Field(min_length=1, max_length=4096, pattern=r"^[^\x00-\x1f]*$")


class Found(BaseModel):
    """A file, or a numbered sequence, in a named folder."""

    name: str
    path: str
    kind: str


def _register(studio: Studio, project_id: int, media: str, name: str, size: int) -> Media:
    studio.store.project(project_id)
    facts = studio.plates.probe(media)
    return studio.store.add_media(Media(project_id=project_id, name=name, media=media, bytes=size, **facts))


@router.get("/projects/{project_id}/media")
def list_media(studio: Here, project_id: Id) -> list[Media]:
    """The plates of a project."""
    return studio.store.media(project_id)


@router.put("/projects/{project_id}/media", status_code=201)
async def import_file(
    studio: Here,
    request: Request,
    project_id: Id,
    name: Annotated[str, Query(min_length=1, max_length=255)],
    batch: Annotated[str | None, Query(pattern=r"^[a-z0-9]{4,40}$")] = None,
) -> Media | None:
    """Take in a file; the body is its bytes. It is checked by opening it. With `batch`, it waits for its sequence."""
    studio.store.project(project_id)
    safe = safe_name(name)
    if Path(safe).suffix.lower() not in (*MOVIES, *PICTURES):
        raise IsbjornError(
            f"'{Path(safe).suffix or 'no ending'}' is not a type of plate.", name, "Use a movie or a still."
        )
    arrived = await receive(request, studio.store.media_folder, safe)
    return await run_in_threadpool(_take, studio, project_id, arrived, name, batch)


def _take(studio: Studio, project_id: int, arrived: Path, name: str, batch: str | None) -> Media | None:
    """Put a file that arrived in its place in the library."""
    if batch:
        home = studio.store.media_folder / f"batch-{batch}"
        home.mkdir(exist_ok=True)
        arrived.replace(home / safe_name(name))
        return None
    with housed(studio.store.media_folder, "m", arrived, name) as target:
        return _register(studio, project_id, f"{target.parent.name}/{target.name}", name, target.stat().st_size)


@router.post("/projects/{project_id}/media/batch/{batch}", status_code=201)
def finish_batch(studio: Here, project_id: Id, batch: str) -> Media:
    """Make one numbered sequence of the files of a batch."""
    if not re.fullmatch(r"[a-z0-9]{4,40}", batch):
        raise IsbjornError("this upload does not exist.", batch, "Import the pictures again.")
    home = studio.store.media_folder / f"batch-{batch}"
    files = sorted(home.iterdir()) if home.is_dir() else []
    if not files:
        raise IsbjornError("nothing was imported.", batch, "Import the pictures again.")
    try:
        pattern = pattern_of(files[0]) or str(files[0])
        name = Path(pattern).name
        size = sum(f.stat().st_size for f in files)
        return _register(studio, project_id, f"{home.name}/{name}", name, size)
    except IsbjornError:
        shutil.rmtree(home, ignore_errors=True)
        raise


@router.get("/folders")
def list_folders(studio: Here) -> list[Folder]:
    """The folders from which media may be read."""
    return studio.store.folders()


@router.post("/folders", status_code=201)
def name_folder(studio: Here, body: FolderPath) -> Folder:
    """Name a folder from which media may be read."""
    return studio.store.name_folder(Path(body.path))


@router.delete("/folders/{folder_id}", status_code=204)
def withdraw_folder(studio: Here, folder_id: Id) -> Response:
    """Let nothing be read from a folder any more that was named."""
    studio.store.withdraw_folder(folder_id)
    studio.forget_plates()
    return Response(status_code=204)


@router.get("/folders/{folder_id}/files")
def list_files(studio: Here, folder_id: Id) -> list[Found]:
    """Movies, pictures and numbered sequences in a named folder."""
    folder = next((f for f in studio.store.folders() if f.id == folder_id), None)
    if folder is None:
        raise IsbjornError("this folder is not among the project's folders.", str(folder_id), "Add it first.")
    found: dict[str, Found] = {}
    try:
        entries = sorted(Path(folder.path).iterdir())[:_LISTED]
    except OSError as error:
        raise IsbjornError(
            f"the folder cannot be read ({error.strerror}).", folder.path, "Check the folder's permissions."
        ) from None
    for path in entries:
        suffix = path.suffix.lower()
        if suffix in MOVIES:
            found[str(path)] = Found(name=path.name, path=str(path), kind="movie")
        elif suffix in PICTURES:
            place = str(path)
            if re.search(r"\d+$", path.stem) and (pattern := pattern_of(path)):
                place = pattern
            found[place] = Found(name=Path(place).name, path=place, kind="sequence" if is_pattern(place) else "still")
    return list(found.values())


@router.post("/projects/{project_id}/media/from-folder", status_code=201)
def use_from_folder(studio: Here, project_id: Id, body: FolderPath) -> Media:
    """Use a plate in place, from a registered folder."""
    studio.store.project(project_id)
    place = Path(studio.plates.resolve(body.path))
    size = place.stat().st_size if place.is_file() else 0
    return _register(studio, project_id, body.path, place.name, size)


@router.get("/media/{media_id}/thumb", responses={200: {"content": {"image/jpeg": {}}}}, response_class=Response)
def media_thumb(studio: Here, media_id: Id) -> Response:
    """A small picture of a plate's first frame."""
    medium = studio.store.medium(media_id)
    shot = Shot(width=256, height=144, plate=Plate(media=medium.media))
    picture = studio.plates.at(shot, shot.seconds(0), 256, 144)
    if picture is None:
        raise IsbjornError("the plate has no frames.", medium.name, "Import it again.")
    jpeg = simplejpeg.encode_jpeg(to_shades(picture, shade_table("srgb")), quality=85, colorspace="RGB")
    return Response(jpeg, media_type="image/jpeg")
