"""Contact sheets of a sweep, as files."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path
from typing import Annotated

import numpy as np
from fastapi import APIRouter, Depends, Request, Response

from isbjorn.core.arrays import Floats
from isbjorn.core.explore.contact_sheet import contact_sheet
from isbjorn.core.media.write.formats import FORMATS, PictureInfo
from isbjorn.core.media.write.write_movie import MovieSound, join_segments, write_segment
from isbjorn.core.media.write.write_still import still_bytes
from isbjorn.core.time import timecode
from isbjorn.studio.context import Id, Studio, studio_of
from isbjorn.studio.pages.sheet_messages import SheetAsk, loop_frames, sweep_of
from isbjorn.studio.preview.scheduler import Priority
from isbjorn.studio.uploads import file_name

router = APIRouter(prefix="/api", tags=["sheets"])
Here = Annotated[Studio, Depends(studio_of)]


def _even(picture: Floats) -> Floats:
    """A picture whose sides are even, as movies need it: its last row and column may be repeated."""
    height, width = picture.shape[:2]
    return np.pad(picture, ((0, height % 2), (0, width % 2), (0, 0)), mode="edge")


@router.post(
    "/shots/{shot_id}/sheet", responses={200: {"content": {"image/png": {}, "video/mp4": {}}}}, response_class=Response
)
async def sheet_file(studio: Here, request: Request, shot_id: Id, body: SheetAsk) -> Response:
    """A sweep in full quality with its values written beside the cells: a PNG of a frame, or an H.264 movie of a loop."""

    def drawn(stale: Callable[[], bool]) -> Response:
        shot = studio.store.document(shot_id)
        frames = loop_frames(shot, body.frame, body.loop)
        pictures = contact_sheet(shot, sweep_of(shot, body), frames, body.width, studio.plates, stale)
        step = frames[1] - frames[0] if len(frames) > 1 else 1
        rate, start = Fraction(shot.frame_rate) / step, timecode(frames[0], shot.frame_rate)
        if len(frames) == 1:
            content = still_bytes(next(pictures), FORMATS["png8"], False, PictureInfo(rate=rate, timecode=start))
            return _answer(content, shot.name, ".png", "image/png")
        with tempfile.TemporaryDirectory() as folder:
            segment, movie = Path(folder) / "segment.mp4", Path(folder) / "sheet.mp4"
            track = MovieSound(FORMATS["mp4"], False, rate)
            write_segment(segment, map(_even, pictures), track)
            join_segments([segment], movie, track, start)
            return _answer(movie.read_bytes(), shot.name, ".mp4", "video/mp4")

    return await studio.drawn_in_turn(request, Priority.SHEET, drawn)


def _answer(content: bytes, name: str, suffix: str, kind: str) -> Response:
    head = {"Content-Disposition": f'attachment; filename="{file_name(name)} sweep{suffix}"'}
    return Response(content, headers=head, media_type=kind)
