"""The API of the delivery queue. The work is done by `worker`, in a separate process."""

from __future__ import annotations

import os
import time
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Depends, Query, Request, Response
from fastapi.concurrency import run_in_threadpool
from pydantic import BaseModel, Field, TypeAdapter, ValidationError
from sqlmodel import col, func, select

from isbjorn.core.deliver import Order, named_order
from isbjorn.core.deliver.naming import TOKENS
from isbjorn.core.deliver.order import check_folder
from isbjorn.core.deliver.plan import Plan
from isbjorn.core.deliver.purposes import SHIPPED, Purpose, purpose_from_text, purpose_to_text
from isbjorn.core.errors import IsbjornError
from isbjorn.core.inspect.delivery_preview import DeliveryPreview, delivery_preview
from isbjorn.core.media.write.formats import FORMATS
from isbjorn.core.media.write.targets import spaces_of
from isbjorn.studio.api.shots import scene_of
from isbjorn.studio.context import Id, Studio, studio_of
from isbjorn.studio.storage.store import Missing
from isbjorn.studio.storage.tables import DeliveryRow, PurposeRow, ShotRow
from isbjorn.studio.uploads import body_of, file_name

_MOST_PURPOSES, _LARGEST_PURPOSE = 200, 1 << 20
# What is older says nothing of the farm as it is.
_FARM_KNOWN_S = 10
router = APIRouter(prefix="/api", tags=["deliveries"])
Here = Annotated[Studio, Depends(studio_of)]


class DeliveryCard(BaseModel):
    """A delivery: what, how far, how long still."""

    id: int
    shot_id: int
    shot_name: str
    order: Order
    format_label: str
    state: str
    done: int
    total: int
    seconds_left: float | None
    ms_per_frame: float
    problem: str | None
    result: str
    created: datetime


class FormatCard(BaseModel):
    """A format as the form needs it."""

    name: str
    label: str
    movie: bool
    alpha: bool
    layers: bool
    fields: bool
    compressions: list[str]


class PurposeCard(Purpose):
    """What deliveries are for; id: of one that was kept."""

    id: int | None = None


class DeliveryForm(BaseModel):
    """What the form of a new delivery starts with."""

    formats: list[FormatCard]
    purposes: list[PurposeCard]
    tokens: list[str]
    folder: str
    name: str
    first: int
    last: int
    config: str = Field(description="Colour configuration of the project's last delivery that had its own.")


class Colours(BaseModel):
    """What a colour configuration offers."""

    spaces: list[str]
    views: list[tuple[str, str]] = Field(description="Displays with their views.")


def card(row: DeliveryRow) -> DeliveryCard:
    order = Order.model_validate_json(row.order)
    left = (row.total - row.done) * row.ms_per_frame / 1000 if row.state == "working" and row.ms_per_frame else None
    return DeliveryCard(
        id=row.id or 0,
        shot_id=row.shot_id,
        shot_name=row.shot_name,
        order=order,
        format_label=order.form.label,
        state=row.state,
        done=row.done,
        total=row.total,
        seconds_left=left,
        ms_per_frame=row.ms_per_frame,
        problem=row.problem,
        result=row.result,
        created=row.created,
    )


def _purposes(studio: Studio) -> list[PurposeCard]:
    found = [PurposeCard(**p.model_dump()) for p in SHIPPED]
    with studio.store.session() as session:
        for row in session.exec(select(PurposeRow).order_by(col(PurposeRow.id)).limit(_MOST_PURPOSES)):
            # One that this Isbjorn cannot read (a format that a package brought) is left where it is.
            with suppress(IsbjornError):
                found.append(PurposeCard(**purpose_from_text(row.document).model_dump(), id=row.id))
    return found


def _config_of(studio: Studio, project_id: int) -> str:
    """The own colour configuration that was last used in a project, if it is there still."""
    with studio.store.session() as session:
        mine = select(ShotRow.id).where(ShotRow.project_id == project_id)
        rows = select(DeliveryRow.order).where(col(DeliveryRow.shot_id).in_(mine))
        rows = rows.where(col(DeliveryRow.order).contains(".ocio")).order_by(col(DeliveryRow.id).desc()).limit(1)
        found = session.exec(rows).first()
    colour = None if found is None else Order.model_validate_json(found).colour
    return colour.config if colour is not None and Path(colour.config).is_file() else ""


@router.get("/shots/{shot_id}/delivery-form")
def delivery_form(studio: Here, shot_id: Id) -> DeliveryForm:
    """Formats, purposes, and a place."""
    shot = studio.store.document(shot_id)
    formats = [
        FormatCard(
            name=f.name, label=f.label, movie=f.movie, alpha=f.alpha, layers=f.layers, fields=f.fields,
            compressions=list(f.compressions),
        )
        for f in FORMATS
    ]  # fmt: skip
    return DeliveryForm(
        formats=formats,
        purposes=_purposes(studio),
        tokens=list(TOKENS),
        folder=str(studio.store.deliveries_folder / file_name(shot.name)),
        name="{shot}_v{version}",
        first=shot.first_frame,
        last=shot.last_frame,
        config=_config_of(studio, studio.store.project_of(shot_id).id or 0),
    )


@router.get("/colours")
def colours(studio: Here, config: Annotated[str, Query(max_length=4096)] = "") -> Colours:
    """Colour spaces and views of a configuration: the built-in one, or a `config.ocio` in a named folder."""
    if config:
        studio.plates.allow(Path(config), config)
    spaces, views = spaces_of(config)
    return Colours(spaces=spaces, views=views)


@router.post("/shots/{shot_id}/order-told")
def preview_order(studio: Here, shot_id: Id, body: Order) -> DeliveryPreview:
    """What an order would make, and what would go wrong, before it is ordered."""
    shot = studio.store.document(shot_id)
    _allowed(studio, body)
    far_px = scene_of(studio, shot_id, shot, None).far_px
    return delivery_preview(shot, body, far_px, studio.plates, studio.store.project_of(shot_id).name, _waiting(studio))


@router.post("/purposes", status_code=201)
def keep_purpose(studio: Here, body: Purpose) -> PurposeCard:
    """Keep what deliveries are for, under its name; one of that name is replaced."""
    with studio.store.session(write=True) as session:
        rows = list(session.exec(select(PurposeRow).limit(_MOST_PURPOSES)))
        row = next((r for r in rows if r.name == body.name), None)
        if row is None and len(rows) >= _MOST_PURPOSES:
            raise IsbjornError(f"there are already {_MOST_PURPOSES} purposes.", "purposes", "Delete one first.")
        row = row or PurposeRow(name=body.name, document="")
        row.document = purpose_to_text(body)
        session.add(row)
        session.flush()
        return PurposeCard(**body.model_dump(), id=row.id)


@router.post("/purposes/import", status_code=201)
async def import_purpose(studio: Here, request: Request, name: str = "") -> PurposeCard:
    """Keep a purpose from its file; the body is its JSON."""
    content = await body_of(request, _LARGEST_PURPOSE, name or "purpose")
    return await run_in_threadpool(lambda: keep_purpose(studio, purpose_from_text(content, name[:200] or "purpose")))


def _kept_purpose(studio: Studio, purpose_id: int) -> PurposeRow:
    with studio.store.session() as session:
        row = session.get(PurposeRow, purpose_id)
    if row is None:
        raise Missing(f"the purpose {purpose_id} does not exist.", "purpose")
    return row


@router.get("/purposes/{purpose_id}/export")
def export_purpose(studio: Here, purpose_id: Id) -> Response:
    """A kept purpose as a file."""
    row = _kept_purpose(studio, purpose_id)
    head = {"Content-Disposition": f'attachment; filename="{file_name(row.name)}.purpose.json"'}
    return Response(row.document, media_type="application/json", headers=head)


@router.delete("/purposes/{purpose_id}", status_code=204)
def drop_purpose(studio: Here, purpose_id: Id) -> Response:
    """Forget a kept purpose."""
    row = _kept_purpose(studio, purpose_id)
    with studio.store.session(write=True) as session:
        session.delete(row)
    return Response(status_code=204)


@router.post("/shots/{shot_id}/deliveries", status_code=201)
def order_delivery(studio: Here, shot_id: Id, body: Order) -> DeliveryCard:
    """Put a delivery into the queue. It uses the shot as it is now."""
    shot = studio.store.document(shot_id)
    _allowed(studio, body)
    order = named_order(shot, body, studio.store.project_of(shot_id).name, _waiting(studio))
    check_folder(order)
    with studio.store.session(write=True) as session:
        row = DeliveryRow(
            shot_id=shot_id,
            shot_name=shot.name,
            document=shot.model_dump_json(),
            order=order.model_dump_json(),
            total=len(Plan(shot, order)),
        )
        session.add(row)
        session.flush()
        return card(row)


def _allowed(studio: Studio, order: Order) -> None:
    """Raise IsbjornError for places that a delivery may not go to or read from."""
    if not Path(order.folder).is_absolute():
        raise IsbjornError("the path of the folder must be absolute.", "folder", "Start it with /.")
    if order.colour is not None and order.colour.config:
        studio.plates.allow(Path(order.colour.config), order.colour.config)


def _waiting(studio: Studio) -> list[Order]:
    """The orders of deliveries that wait, rest or work."""
    with studio.store.session() as session:
        chosen = select(DeliveryRow).where(col(DeliveryRow.state).in_(("waiting", "working", "paused"))).limit(1000)
        texts = [row.order for row in session.exec(chosen)]
    found = []
    for text in texts:
        with suppress(ValidationError):
            found.append(Order.model_validate_json(text))
    return found


@router.get("/deliveries")
def list_deliveries(studio: Here) -> list[DeliveryCard]:
    """The queue, newest first."""
    with studio.store.session() as session:
        return [card(row) for row in session.exec(select(DeliveryRow).order_by(col(DeliveryRow.id).desc()).limit(100))]


def _set_state(studio: Studio, delivery_id: int, allowed: tuple[str, ...], state: str) -> DeliveryCard:
    with studio.store.session(write=True) as session:
        row = session.get(DeliveryRow, delivery_id)
        if row is None:
            raise Missing(f"the delivery {delivery_id} does not exist.", "delivery")
        if row.state in allowed:
            row.state, row.problem, row.attempts = state, None, 0
        return card(row)


@router.post("/deliveries/{delivery_id}/cancel")
def cancel(studio: Here, delivery_id: Id) -> DeliveryCard:
    """Stop a delivery after the frame it is at. What is finished stays."""
    return _set_state(studio, delivery_id, ("waiting", "working"), "cancelled")


@router.post("/deliveries/{delivery_id}/pause")
def pause(studio: Here, delivery_id: Id) -> DeliveryCard:
    """Let a delivery rest after the frames it is at; others go on."""
    return _set_state(studio, delivery_id, ("waiting", "working"), "paused")


@router.post("/deliveries/{delivery_id}/resume")
def resume(studio: Here, delivery_id: Id) -> DeliveryCard:
    """Go on at the first missing frame."""
    return _set_state(studio, delivery_id, ("cancelled", "failed", "paused"), "waiting")


@router.post("/deliveries/{delivery_id}/first")
def go_first(studio: Here, delivery_id: Id) -> DeliveryCard:
    """Let a delivery that waits go before all others that wait."""
    with studio.store.session(write=True) as session:
        row = session.get(DeliveryRow, delivery_id)
        if row is None:
            raise Missing(f"the delivery {delivery_id} does not exist.", "delivery")
        highest = session.exec(select(func.max(DeliveryRow.priority))).first() or 0
        row.priority = min(highest + 1, 2**31)
        return card(row)


class FarmWorker(BaseModel):
    """A worker of the farm, and what it does."""

    address: str
    name: str
    threads: int
    doing: list[str]
    memory_bytes: int
    note: str


class FarmCard(BaseModel):
    """The farm that makes the deliveries; without a scheduler, this machine does."""

    scheduler: str
    workers: list[FarmWorker]


@router.get("/farm")
def farm(studio: Here) -> FarmCard:
    """Where deliveries are rendered."""
    scheduler = os.environ.get("ISBJORN_SCHEDULER", "")
    path = studio.store.farm_file
    workers: list[FarmWorker] = []
    with suppress(OSError, ValidationError):
        if scheduler and abs(time.time() - path.stat().st_mtime) < _FARM_KNOWN_S:
            workers = TypeAdapter(list[FarmWorker]).validate_json(path.read_bytes())
    return FarmCard(scheduler=scheduler, workers=workers)


@router.delete("/deliveries/{delivery_id}", status_code=204)
def forget(studio: Here, delivery_id: Id) -> Response:
    """Take a delivery off the list; its files stay."""
    with studio.store.session(write=True) as session:
        row = session.get(DeliveryRow, delivery_id)
        if row is not None and row.state != "working":
            session.delete(row)
    return Response(status_code=204)


@router.get(
    "/deliveries/{delivery_id}/last",
    responses={200: {"content": {"image/jpeg": {}}}},
    response_class=Response,
)
def last_frame(studio: Here, delivery_id: Id) -> Response:
    """The last frame made, small."""
    path = studio.store.folder / "thumbs" / f"delivery-{delivery_id}.jpg"
    if not path.is_file():
        raise Missing("no frame is finished yet.", f"delivery {delivery_id}")
    return Response(path.read_bytes(), media_type="image/jpeg", headers={"Cache-Control": "no-store"})
