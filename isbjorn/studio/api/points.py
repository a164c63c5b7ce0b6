"""Particles of other programs: files that arrive one by one, and replace emitters' motion."""

from __future__ import annotations

import secrets
import shutil
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Depends, Query, Request
from pydantic import BaseModel

from isbjorn.core.document import Number, Shot
from isbjorn.core.document.editing.scene_edits import added
from isbjorn.core.document.emitter_parts.recording import Recording
from isbjorn.core.document.files import parse_shot
from isbjorn.core.document.model.emitter import Emitter
from isbjorn.core.errors import IsbjornError
from isbjorn.core.media.exchange.recordings import ENDINGS, ImportedParticles
from isbjorn.studio.api.shots import ShotState, shot_state
from isbjorn.studio.context import Id, Studio, studio_of
from isbjorn.studio.sandbox import apart
from isbjorn.studio.storage.tables import unseen
from isbjorn.studio.uploads import receive, safe_name

router = APIRouter(prefix="/api", tags=["points"])
Here = Annotated[Studio, Depends(studio_of)]
Batch = Annotated[str, Query(pattern=r"^[a-z0-9]{4,40}$")]
_SECONDS, _MEGABYTES, _MOST_FILES, _MOST_NEW = 120, 5632, 20_000, 16


class Arrived(BaseModel):
    """A file that is there."""

    name: str


class PointsTaken(BaseModel):
    """The shot with what was taken from files, and that in words."""

    state: ShotState
    taken: list[str]


@router.put("/shots/{shot_id}/points", status_code=201)
async def receive_points(
    studio: Here, request: Request, shot_id: Id, batch: Batch, name: Annotated[str, Query(min_length=1, max_length=255)]
) -> Arrived:
    """Take in a file of particles; the body is its bytes. It waits until all of its batch are there."""
    studio.store.document(shot_id)
    safe = safe_name(name)
    if Path(safe).suffix.lower() not in ENDINGS:
        raise IsbjornError("this is not a particle file.", name, f"Use {', '.join(ENDINGS)}.")
    home = studio.store.media_folder / f"batch-{batch}"
    if home.is_dir() and len(list(home.iterdir())) >= _MOST_FILES:
        raise IsbjornError(f"the limit is {_MOST_FILES:,} files.", name, "Select fewer frames.")
    arrived = await receive(request, studio.store.media_folder, safe)
    home.mkdir(exist_ok=True)
    arrived.replace(home / safe)
    return Arrived(name=safe)


@router.post("/shots/{shot_id}/points")
async def take_points(
    studio: Here, shot_id: Id, batch: Batch, thing: Annotated[str, Query(max_length=60)] = ""
) -> PointsTaken:
    """Make recordings of the files of a batch: motion of an emitter, or, without one, of new emitters."""
    return await studio.reading(_take_points, studio, shot_id, batch, thing)


def _take_points(studio: Studio, shot_id: int, batch: str, thing: str) -> PointsTaken:
    shot, project = studio.store.document(shot_id), studio.store.project_of(shot_id)
    arrived = studio.store.media_folder / f"batch-{batch}"
    files = sorted(str(f) for f in arrived.iterdir()) if arrived.is_dir() else []
    home = studio.store.media_folder / f"r{secrets.token_hex(4)}"
    home.mkdir()
    try:
        found: list[ImportedParticles] = apart(
            "isbjorn.core.media.exchange.recordings:take_points", files, shot.model_dump_json(), str(home),
            where=Path(files[0]).name if files else "points", seconds=_SECONDS, megabytes=_MEGABYTES,
        )  # fmt: skip
        rows = [(one, f"{home.name}/{one.path}") for one in found]
        with studio.store.edit(shot_id, "Recorded motion") as box:
            box[0], taken = _with(box[0], rows, thing)
        for one, media in rows:
            size = (studio.store.media_folder / media).stat().st_size
            studio.store.add_media(unseen(project.id, one.name, media, "recording", size))
    except BaseException:
        shutil.rmtree(home, ignore_errors=True)
        raise
    finally:
        shutil.rmtree(arrived, ignore_errors=True)
    return PointsTaken(state=shot_state(studio, shot_id), taken=taken)


def _with(shot: Shot, rows: list[tuple[ImportedParticles, str]], thing: str) -> tuple[Shot, list[str]]:
    """A shot with recordings, and what became of them, in words."""
    words = []
    if thing:
        one, media = next(
            (row for row in rows if any(e.id == thing and e.name == row[0].name for e in shot.emitters)), rows[0]
        )
        if all(e.id != thing for e in shot.emitters):
            raise IsbjornError("this emitter does not exist any more.", thing, "Choose another.")
        emitters = tuple(_standing_in(e, one, media) if e.id == thing else e for e in shot.emitters)
        shot = shot.model_copy(update={"emitters": emitters})
        words.append(f"{one.particles:,} particles of {one.name}")
    else:
        for one, media in rows[:_MOST_NEW]:
            before = {e.id for e in shot.emitters}
            shot = added(shot, "emitter", lambda name=one.name: Emitter(name=name[:80] or "Particles"))  # type: ignore[misc]
            emitters = tuple(e if e.id in before else _standing_in(e, one, media) for e in shot.emitters)
            shot = shot.model_copy(update={"emitters": emitters})
            words.append(f"{one.particles:,} particles as {one.name}")
    return parse_shot(shot.model_dump(mode="json")), words


def _standing_in(emitter: Emitter, taken: ImportedParticles, media: str) -> Emitter:
    """An emitter with recorded motion. Its places are the shot's, so it is at the centre."""
    rest = {name: Number(value=0) for name in ("across", "up", "depth", "turn")}
    recording = Recording(media=media, digest=taken.digest, name=taken.name)
    # What cannot be with it goes; where it stood comes back by an undo.
    gone = {"strand": None, "born_of": None, "path": None, "carried_by": None, "stays": "behind"}
    return emitter.model_copy(update={"recording": recording, **rest, "scale": Number(value=100), **gone})
