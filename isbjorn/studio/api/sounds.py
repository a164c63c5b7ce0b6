"""Sounds of a shot: taken in, listened to, seen as waveforms, and heard while it plays."""

from __future__ import annotations

import math
import struct
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Annotated

import numpy as np
from fastapi import APIRouter, Depends, Query, Request, Response
from fastapi.responses import StreamingResponse
from pydantic import BaseModel, Field

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Shot, Sound
from isbjorn.core.document.fields.base import MediaName
from isbjorn.core.document.files import parse_shot
from isbjorn.core.errors import IsbjornError, reason_of
from isbjorn.core.evaluate import hearing
from isbjorn.core.evaluate.external_files import digest_of, path_of
from isbjorn.core.media.read.movies import MOVIES
from isbjorn.core.media.read.sound import SOUNDS, Mix, mixed, sound_of, sounds_of
from isbjorn.core.media.read.sound import MixedSound as Stretch
from isbjorn.core.time import timecode
from isbjorn.studio.api.shots import ShotState, shot_state
from isbjorn.studio.context import Id, Studio, studio_of
from isbjorn.studio.preview.plates import LASTING_BYTES
from isbjorn.studio.sandbox import apart
from isbjorn.studio.storage.tables import Media, unseen
from isbjorn.studio.uploads import housed, receive, safe_name

router = APIRouter(prefix="/api", tags=["sounds"])
Here = Annotated[Studio, Depends(studio_of)]
_SECONDS, _MEGABYTES = 180, 3584
# This many seconds of a shot are played.
_LONGEST_S = 1800


class NewSound(BaseModel):
    """A sound for a shot: a file of the library, or, without one, the plate's own."""

    media: MediaName = ""


class Wave(BaseModel):
    """A sound over a shot: the loudest at even places from its first to its last moment, in [0, 1]; moments in shot time."""

    loudest: list[float]
    begins_s: float
    seconds: float
    onsets: list[float]
    beats: list[float]
    tempo: float = Field(description="Beats per minute; 0: no beat was found.")


def _listen(studio: Studio, path: Path, name: str) -> str:
    """Listen to a file in a process with limits, if that was not done; its digest."""
    try:
        digest = digest_of(path)
    except (OSError, ValueError) as error:
        raise IsbjornError(
            f"it cannot be read ({reason_of(error)}).", name, "Restore it, or select another file."
        ) from None
    if not hearing.is_heard(digest):
        apart(
            "isbjorn.core.media.read.sound:prepared", str(path), digest, str(studio.store.lasting_folder), LASTING_BYTES,
            where=name, seconds=_SECONDS, megabytes=_MEGABYTES,
        )  # fmt: skip
    return digest


@router.put("/projects/{project_id}/sounds", status_code=201)
async def import_sound(
    studio: Here, request: Request, project_id: Id, name: Annotated[str, Query(min_length=1, max_length=255)]
) -> Media:
    """Take in a sound; the body is its bytes. It is checked by listening to it."""
    studio.store.project(project_id)
    safe = safe_name(name)
    if Path(safe).suffix.lower() not in (*SOUNDS, *MOVIES):
        raise IsbjornError("this is not a sound file type.", name, f"Use {', '.join(SOUNDS)}, or a movie.")
    arrived = await receive(request, studio.store.media_folder, safe)
    return await studio.reading(_take, studio, project_id, arrived, name)


def _take(studio: Studio, project_id: int, arrived: Path, name: str) -> Media:
    with housed(studio.store.media_folder, "s", arrived, name) as target:
        _listen(studio, target, name)
    media = f"{target.parent.name}/{target.name}"
    return studio.store.add_media(unseen(project_id, name, media, "sound", target.stat().st_size))


@router.post("/shots/{shot_id}/sounds")
async def add_sound(studio: Here, shot_id: Id, body: NewSound) -> ShotState:
    """Give a shot a sound."""
    return await studio.reading(_add_sound, studio, shot_id, body)


def _add_sound(studio: Studio, shot_id: int, body: NewSound) -> ShotState:
    shot = studio.store.document(shot_id)
    media = body.media or (shot.plate.media if shot.plate is not None else "")
    if not media:
        raise IsbjornError("the shot has no plate.", "sounds", "Add a plate to the shot, or select a file.")
    path = Path(studio.plates.resolve(media))
    if not body.media and shot.plate is not None and sound_of(shot.plate, path, Fraction(0), Fraction(1)) is None:
        raise IsbjornError("the plate has no sound.", shot.plate.name, "Select a file.")
    digest = _listen(studio, path, path.name)
    with studio.store.edit(shot_id, "Sound") as box:
        known = {one.name for one in box[0].sounds}
        stem = "Sound of the plate" if not body.media else path.stem[:70] or "Sound"
        name = next(n for n in (stem, *(f"{stem} {k}" for k in range(2, 99))) if n not in known)
        sound = Sound(name=name, media=media, digest=digest, of_plate=not body.media)
        box[0] = parse_shot(box[0].model_copy(update={"sounds": (*box[0].sounds, sound)}).model_dump(mode="json"))
    return shot_state(studio, shot_id)


def _sound(shot: Shot, sound_id: str) -> Sound:
    found = next((one for one in shot.sounds if one.id == sound_id), None)
    if found is None:
        raise IsbjornError("this sound does not exist in the cast.", sound_id, "Choose another.")
    return found


@router.get("/shots/{shot_id}/sounds/{sound_id}/wave")
def wave(studio: Here, shot_id: Id, sound_id: str, places: Annotated[int, Query(ge=2, le=8192)] = 800) -> Wave:
    """A sound along the strip of its shot."""
    shot = studio.store.document(shot_id)
    sound = _sound(shot, sound_id)
    found = hearing.heard(sound)
    begins = hearing.begins(sound, shot.plate.offset_s if shot.plate is not None else 0.0)
    length = float(shot.length_s)
    edges = (np.linspace(0, length, places + 1) - begins) * hearing.PER_S
    at = np.clip(np.floor(edges[:-1]).astype(int), 0, len(found.peak))
    ends = np.clip(np.ceil(edges[1:]).astype(int), 0, len(found.peak))
    loudest = [round(float(found.peak[a:b].max(initial=0)), 4) for a, b in zip(at, ends, strict=True)]

    def inside(moments: Doubles) -> list[float]:
        return [round(float(t), 4) for t in moments + begins if 0 <= t < length]

    return Wave(
        loudest=loudest, begins_s=begins, seconds=found.seconds, onsets=inside(found.onsets), beats=inside(found.beats),
        tempo=round(found.tempo, 2),
    )  # fmt: skip


class TapeTimecode(BaseModel):
    """The timecode that is recorded in a sound."""

    found: bool
    text: str = Field(default="", description="Timecode of its start, hours to frames.")
    offset_s: float = Field(
        default=0, description="Offset of the sound when the shot starts at the full hour of its timecode."
    )


@router.post("/shots/{shot_id}/sounds/{sound_id}/timecode")
async def read_timecode(studio: Here, shot_id: Id, sound_id: str) -> TapeTimecode:
    """Look for linear timecode (LTC) in a sound."""
    return await studio.reading(_read_timecode, studio, shot_id, sound_id)


def _read_timecode(studio: Studio, shot_id: int, sound_id: str) -> TapeTimecode:
    sound = _sound(studio.store.document(shot_id), sound_id)
    path = path_of(sound.media, sound.digest)
    found = apart(
        "isbjorn.core.media.read.ltc:timecode_in", str(path), where=sound.name, seconds=_SECONDS, megabytes=_MEGABYTES
    )
    if found is None:
        return TapeTimecode(found=False)
    at_s, seconds, rate = found
    begins = seconds - at_s
    text = timecode(round(begins * rate), Fraction(rate).limit_denominator(1001))
    return TapeTimecode(found=True, text=text, offset_s=round(begins - 3600 * math.floor(seconds / 3600), 4))


@router.get(
    "/shots/{shot_id}/audio",
    responses={200: {"content": {"audio/wav": {}}}, 204: {"description": "No sound is played."}},
    response_class=Response,
)
def audio(studio: Here, shot_id: Id) -> Response:
    """All that is heard over a shot, as WAV of 16 bits; nothing, if there is nothing."""
    shot = studio.store.document(shot_id)
    length = min(shot.length_s, Fraction(_LONGEST_S))
    find = lambda media: Path(studio.plates.resolve(media))  # noqa: E731
    sound = mixed(sounds_of(shot, find, Fraction(0), length, with_plate=True))
    if sound is None:
        return Response(status_code=204)
    return StreamingResponse(_wav(sound), media_type="audio/wav")


def _wav(sound: Stretch | Mix) -> Iterator[bytes]:
    """A WAV file, piece by piece."""
    size = sound.samples * sound.channels * 2
    rate, wide = sound.rate, sound.channels * 2
    yield struct.pack(
        "<4sI4s4sIHHIIHH4sI", b"RIFF", 36 + size, b"WAVE", b"fmt ", 16, 1, sound.channels, rate, rate * wide, wide, 16,
        b"data", size,
    )  # fmt: skip
    for block in sound.blocks():
        yield np.round(np.clip(block, -1, 1) * 32767).astype("<i2").tobytes()
