"""Bodies by their pictures, and fonts for words."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any

import cv2
import numpy as np
import numpy.typing as npt
import simplejpeg
from fastapi import APIRouter, Depends, Query, Request, Response
from fastapi.concurrency import run_in_threadpool
from pydantic import BaseModel, ValidationError

from isbjorn.core.arrays import Floats
from isbjorn.core.colour import encoded
from isbjorn.core.document import Emitter, Number, Shot
from isbjorn.core.document.emitter_parts.skin import Skin
from isbjorn.core.document.fields.kinds import BODIES
from isbjorn.core.document.files import first_problem
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.geometry.glyphs import FONTS, drawn, font
from isbjorn.core.inspect.portrait import body_picture as drawn_body
from isbjorn.core.inspect.skins import PRESETS, skin_of, skin_picture
from isbjorn.core.render.models.bodies import has_models
from isbjorn.core.render.scene.atlas import Bodies
from isbjorn.studio.context import Frame, Id, Studio, studio_of
from isbjorn.studio.preview.scheduler import Priority
from isbjorn.studio.storage.tables import Media, unseen
from isbjorn.studio.uploads import housed, receive, safe_name

router = APIRouter(prefix="/api", tags=["bodies"])
_CACHED_S = 60
_GROUND = np.array([16, 22, 24]) / 255
Here = Annotated[Studio, Depends(studio_of)]


class BodyKind(BaseModel):
    """A kind of body, and the body as it is when it is chosen."""

    kind: str
    body: dict[str, Any]


@router.get("/bodies")
def list_bodies() -> list[BodyKind]:
    """The kinds of bodies there are."""
    made = [(kind, Emitter.model_validate({"body": {"kind": kind}}).body) for one in BODIES for kind in one.names]
    return [BodyKind(kind=kind, body=body.model_dump(mode="json")) for kind, body in made]


@router.get("/bodies/picture", responses={200: {"content": {"image/jpeg": {}}}}, response_class=Response)
def body_picture(
    studio: Here, body: Annotated[str, Query(max_length=20_000)], side: Annotated[int, Query(ge=16, le=256)] = 64
) -> Response:
    """A body, given as JSON, as it is drawn: white on dark."""
    try:
        emitter = Emitter.model_validate({"body": json.loads(body), "size": side})
    except ValidationError as error:
        field, message = first_problem(error)
        raise IsbjornError(f"{message}.", field, "Select another body.") from None
    except (ValueError, RecursionError):
        raise IsbjornError("this is not JSON.", "body", "Send a body in the format of the document.") from None
    # A page asks for all of them when it opens a shot; only a file may have changed since.
    given = emitter.body.model_dump()
    cached_s = 0 if given.get("media") or given.get("font") else _CACHED_S
    if has_models(emitter):
        return _on_dark(drawn_body(emitter, side, studio.plates), cached_s)
    emitter = emitter.model_copy(update={"size": Number(value=side)})
    bodies = Bodies(Shot(emitters=(emitter,)), emitter, 1.0, studio.plates)
    one, zero = np.zeros(1, np.int64), np.zeros(1)
    pages, page, _ = bodies.shown(1, one, zero, np.full(1, 0.5, np.float32), 0.0, lambda: np.zeros(1, bool))
    size, first, _, channels = (int(n) for n in pages.table[page[0]])
    sheet = pages.texels[first : first + size * size * channels].reshape(size, size, channels)
    rgb = encoded(np.clip(sheet[..., :3] if channels == 4 else np.repeat(sheet, 3, axis=2), 0, 1))
    cover = sheet[..., 3:] if channels == 4 else sheet
    shaded = rgb + _GROUND * (1 - cover)
    fitted = cv2.resize(shaded.astype(np.float32), (side, side), interpolation=cv2.INTER_AREA)
    return _jpeg(np.asarray(fitted, np.float32), cached_s)


def _on_dark(picture: Floats, cached_s: int) -> Response:
    """A picture, linear and premultiplied, on the dark ground of the picker."""
    cover = picture[..., 3:]
    colour = encoded(np.clip(picture[..., :3] / np.maximum(cover, 1e-6), 0, 1))
    return _jpeg(colour * cover + _GROUND * (1 - cover), cached_s)


def _jpeg(rgb: npt.NDArray[np.floating], cached_s: int) -> Response:
    """An answer that a browser may show for some seconds without asking again."""
    headers = {"Cache-Control": f"private, max-age={cached_s}"} if cached_s else None
    grid = np.ascontiguousarray(np.clip(np.asarray(rgb) * 255 + 0.5, 0, 255).astype(np.uint8))
    return Response(
        simplejpeg.encode_jpeg(grid, quality=90, colorspace="RGB"), headers=headers, media_type="image/jpeg"
    )


class SkinPreset(BaseModel):
    """A skin that is chosen by its picture, and what it is in the document."""

    name: str
    skin: Skin


@router.get("/skins")
def list_skins() -> list[SkinPreset]:
    """The skins to choose from."""
    return [SkinPreset(name=name, skin=skin_of(name)) for name in PRESETS]


@router.get("/skins/{name}/picture", responses={200: {"content": {"image/jpeg": {}}}}, response_class=Response)
def skin_preset_picture(name: str) -> Response:
    """Some drops under a skin to choose."""
    if name not in PRESETS:
        raise IsbjornError("this skin does not exist.", name, f"Use one of: {', '.join(PRESETS)}.")
    picture = np.ascontiguousarray(skin_picture(name, 192, 120)[..., :3])
    return Response(simplejpeg.encode_jpeg(picture, quality=90, colorspace="RGB"), media_type="image/jpeg")


@router.get(
    "/shots/{shot_id}/emitters/{emitter_id}/portrait",
    responses={
        200: {"content": {"image/jpeg": {}}},
        204: {"description": "This emitter does not exist any more."},
    },
    response_class=Response,
)
async def emitter_portrait(
    studio: Here, request: Request, shot_id: Id, emitter_id: str, frame: Frame,
    count: Annotated[int, Query(ge=2, le=64)] = 13, cell: Annotated[int, Query(ge=8, le=256)] = 48,
) -> Response:  # fmt: skip
    """A particle of an emitter at even ages, side by side, on neutral grey; nothing if it was taken out while it was asked for."""

    def drawn(_: object) -> Response:
        shot = studio.store.document(shot_id)
        number = next((n for n, e in enumerate(shot.emitters) if e.id == emitter_id), None)
        if number is None:
            return Response(status_code=204)
        jpeg = studio.preview.portrait(shot, number, shot.nearest_frame(frame), count, cell)
        return Response(jpeg, media_type="image/jpeg")

    return await studio.drawn_in_turn(request, Priority.PORTRAIT, drawn)


@router.put("/projects/{project_id}/fonts", status_code=201)
async def import_font(
    studio: Here, request: Request, project_id: Id, name: Annotated[str, Query(min_length=1, max_length=255)]
) -> Media:
    """Take in a font; the body is its bytes. It is checked by opening it."""
    studio.store.project(project_id)
    safe = safe_name(name)
    if Path(safe).suffix.lower() not in FONTS:
        raise IsbjornError("this is not a font file type.", name, f"Use {', '.join(FONTS)}.")
    arrived = await receive(request, studio.store.media_folder, safe)
    return await run_in_threadpool(_take_font, studio, project_id, arrived, name)


def _take_font(studio: Studio, project_id: int, arrived: Path, name: str) -> Media:
    """Put a font that arrived in its place in the library."""
    with housed(studio.store.media_folder, "f", arrived, name) as target:
        # A font that opens may still be broken where it is drawn.
        drawn("Isbjorn", font(str(target)), 32)
    media = f"{target.parent.name}/{target.name}"
    return studio.store.add_media(unseen(project_id, name, media, "font", target.stat().st_size))
