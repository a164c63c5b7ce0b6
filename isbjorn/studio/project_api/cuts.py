"""Cut lists: a project as an OpenTimelineIO timeline, and a timeline as shots of a project."""

from __future__ import annotations

import json
from fractions import Fraction
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import unquote, urlsplit

from fastapi import APIRouter, Depends, Request, Response
from fastapi.concurrency import run_in_threadpool
from pydantic import BaseModel, ValidationError

from isbjorn.core.document import Plate, Shot
from isbjorn.core.document.files import first_problem
from isbjorn.core.errors import IsbjornError
from isbjorn.core.time import frame_rate, rate_text
from isbjorn.studio.context import Id, Studio, studio_of
from isbjorn.studio.project_api.projects import ProjectCard, project_card
from isbjorn.studio.uploads import body_of, file_name

router = APIRouter(prefix="/api/projects", tags=["projects"])
Here = Annotated[Studio, Depends(studio_of)]
_LARGEST, _MOST_CLIPS = 16 << 20, 500
_USUAL = (1280, 720)


class Cut(BaseModel):
    """What came of a cut list: the project with its new shots, and what could not be taken, in words."""

    project: ProjectCard
    made: int
    notes: list[str]


def _moment(frames: Fraction | int, rate: Fraction) -> Any:
    import opentimelineio as otio

    return otio.opentime.RationalTime(float(frames), float(rate))


@router.get("/{project_id}/timeline", response_class=Response)
def export_timeline(studio: Here, project_id: Id) -> Response:
    """The project's shots one behind the other, each with its plate, as OpenTimelineIO."""
    import opentimelineio as otio

    project = studio.store.project(project_id)
    timeline = otio.schema.Timeline(name=project.name)
    track = otio.schema.Track(name="Shots", kind=otio.schema.TrackKind.Video)
    timeline.tracks.append(track)
    for row in studio.store.shots(project_id):
        shot = studio.store.document(row.id or 0)
        rate = shot.frame_rate
        span = otio.opentime.TimeRange(_moment(shot.first_frame, rate), _moment(shot.frame_count, rate))
        media: Any = otio.schema.MissingReference()
        if shot.plate is not None:
            media = _reference(studio, shot.plate, rate)
            # Which of the plate's own frames shows at the shot's first.
            start = -Fraction(shot.plate.offset_s).limit_denominator(10**6) * rate
            if media.available_range is not None:
                start += Fraction(media.available_range.start_time.rescaled_to(float(rate)).value).limit_denominator(
                    1000
                )
            span = otio.opentime.TimeRange(_moment(start, rate), _moment(shot.frame_count, rate))
        own = {"rate": rate_text(rate), "first_frame": shot.first_frame, "size": [shot.width, shot.height]}
        track.append(
            otio.schema.Clip(name=shot.name, media_reference=media, source_range=span, metadata={"isbjorn": own})
        )
    text = otio.adapters.write_to_string(timeline, "otio_json")
    head = {"Content-Disposition": f'attachment; filename="{file_name(project.name)}.otio"'}
    return Response(text, media_type="application/json", headers=head)


def _reference(studio: Studio, plate: Plate, rate: Fraction) -> Any:
    import opentimelineio as otio

    place = plate.media if Path(plate.media).is_absolute() else str(studio.store.media_folder / plate.media)
    reference = otio.schema.ExternalReference(target_url=Path(place).as_uri())
    reference.name = plate.name
    try:
        facts = studio.plates.probe(plate.media)
    except IsbjornError:
        return reference
    own = Fraction(facts["rate"] or plate.rate or rate)
    reference.available_range = otio.opentime.TimeRange(_moment(0, own), _moment(int(facts["frames"]), own))
    return reference


@router.post("/{project_id}/timeline", status_code=201)
async def import_timeline(studio: Here, request: Request, project_id: Id, name: str = "") -> Cut:
    """Make a shot of each clip of a cut list: its length, rate and plate; the body is OpenTimelineIO's JSON."""
    content = await body_of(request, _LARGEST, name or "timeline")
    return await run_in_threadpool(_take, studio, project_id, content, name[:200] or "timeline")


def _take(studio: Studio, project_id: int, content: bytes, name: str) -> Cut:
    import opentimelineio as otio

    project = studio.store.project(project_id)
    try:
        # Read once by a reader that minds how deep it goes.
        json.loads(content)
        found: Any = otio.adapters.read_from_string(content.decode(), "otio_json")
        clips = list(found.find_clips())
    except (otio.exceptions.OTIOError, ValueError, LookupError, AttributeError, TypeError, RecursionError) as error:
        words = str(error).splitlines()[0][:200] if str(error) else "it cannot be read"
        raise IsbjornError(
            f"this is not a cut list ({words}).", name, "Select an OpenTimelineIO file (.otio)."
        ) from None
    if not clips:
        raise IsbjornError("this cut list contains no clip.", name, "Choose another.")
    if len(clips) > _MOST_CLIPS:
        raise IsbjornError(f"it has {len(clips)} clips.", name, f"The limit is {_MOST_CLIPS} at once.")
    notes: list[str] = []
    shots = []
    for number, clip in enumerate(clips):
        called = (clip.name or f"Clip {number + 1}")[:120]
        try:
            shots.append(_shot(studio, clip, called, notes))
        except ValidationError as error:
            notes.append(f"{called}: {first_problem(error)[1]}")
        except (IsbjornError, ValueError, OverflowError, otio.exceptions.OTIOError) as error:
            notes.append(f"{called}: {str(error)[:200]}")
    if not shots:
        raise IsbjornError(f"none of its clips could be imported. {notes[0]}", name, "Choose another.")
    for shot in shots:
        studio.store.create_shot(project_id, shot, f"From {name}")
    return Cut(project=project_card(studio, project), made=len(shots), notes=notes)


def _shot(studio: Studio, clip: Any, name: str, notes: list[str]) -> Shot:
    span = clip.trimmed_range()
    own = clip.metadata.get("isbjorn", {})
    rate = frame_rate(str(own.get("rate") or span.duration.rate))
    frames = round(span.duration.rescaled_to(float(rate)).value)
    start = Fraction(span.start_time.value).limit_denominator(10**6) / Fraction(span.start_time.rate).limit_denominator(
        10**6
    )
    first = int(own.get("first_frame", round(start * rate)))
    size = tuple(own.get("size", ())) or None
    plate = None
    media = clip.media_reference
    url = getattr(media, "target_url", "") or ""
    if url:
        path = unquote(urlsplit(url).path) if url.startswith("file:") else url
        begins = Fraction(0)
        if media.available_range is not None:
            at = media.available_range.start_time
            begins = Fraction(at.value).limit_denominator(10**6) / Fraction(at.rate).limit_denominator(10**6)
        folder = str(studio.store.media_folder) + "/"
        place = path.removeprefix(folder)
        try:
            facts = studio.plates.probe(place)
            size = size or (int(facts["width"]), int(facts["height"]))
        except IsbjornError as error:
            notes.append(f"{name}: {error.what} {error.remedy}")
        plate = Plate(
            media=place, name=(media.name or Path(place).name)[:120] or "Plate", offset_s=float(begins - start)
        )
    width, height = size or _USUAL
    return Shot(
        name=name, width=int(width), height=int(height), rate=rate_text(rate), first_frame=first,
        last_frame=first + max(1, frames) - 1, plate=plate,
    )  # fmt: skip
