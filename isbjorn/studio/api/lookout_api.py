"""The Lookout over the API."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Depends, Query, Request

from isbjorn.core.inspect.lookout import Note
from isbjorn.core.inspect.particles import Followed, Seen
from isbjorn.studio.context import Frame, Id, Studio, studio_of
from isbjorn.studio.preview.scheduler import Priority

router = APIRouter(prefix="/api", tags=["lookout"])
Here = Annotated[Studio, Depends(studio_of)]


@router.get("/shots/{shot_id}/lookout")
async def get_lookout(studio: Here, request: Request, shot_id: Id, frame: Frame) -> list[Note]:
    """What is recognised in a shot at a frame, the worst first, each with its mend."""

    def looked(_: object) -> list[Note]:
        shot = studio.store.document(shot_id)
        return studio.preview.watched(shot, shot.nearest_frame(frame))

    return await studio.drawn_in_turn(request, Priority.LOOKOUT, looked)


Px = Annotated[float, Query(ge=-1e6, le=1e6)]


@router.get("/shots/{shot_id}/particles")
def get_particles(studio: Here, shot_id: Id, frame: Frame) -> list[Seen]:
    """Ids, ages, sizes and velocities of the particles in the picture, at most 400 of them."""
    shot = studio.store.document(shot_id)
    return studio.preview.inspected(shot, shot.nearest_frame(frame))


@router.get("/shots/{shot_id}/particle")
def get_particle(studio: Here, shot_id: Id, frame: Frame, x: Px, y: Px) -> Followed | None:
    """The particle under a place of the picture, with its past and its future path; null if the place is empty."""
    shot = studio.store.document(shot_id)
    return studio.preview.followed(shot, shot.nearest_frame(frame), x, y)
