"""The delivery queue as the page sees it. The work is done by `worker`, a process of its own."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import Annotated, Any

from fastapi import APIRouter, Depends, Response
from pydantic import BaseModel
from sqlmodel import col, select

from isbjorn.core.deliver import Order, check_order, has_alpha
from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.media.formats import FORMATS, Format
from isbjorn.studio.context import Id, Studio, studio_of
from isbjorn.studio.store import Missing
from isbjorn.studio.tables import DeliveryRow
from isbjorn.studio.uploads import file_name

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


class DeliveryForm(BaseModel):
    """What the form of a new delivery starts with."""

    formats: list[dict[str, Any]]
    folder: str
    name: str
    first: int
    last: int
    alpha_note: str


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


def alpha_note(shot: Shot, order: Order) -> str:
    """What becomes of transparency and of added light in a delivery, in one sentence."""
    form: Format = order.form
    adds = any(e.on and e.blend == "add" for e in shot.emitters)
    if not has_alpha(shot, order):
        return "" if order.over_plate else f"{form.label} carries no alpha: the particles stand on black."
    if form.exact_light:
        return "Alpha is premultiplied; added light is exact over any background."
    return (
        "Alpha is straight; added light is exact over black only. EXR keeps it exact." if adds else "Alpha is straight."
    )


@router.get("/shots/{shot_id}/delivery-form")
def delivery_form(studio: Here, shot_id: Id, format: str = "png8", over_plate: bool = True) -> DeliveryForm:
    """Formats, a place, and a note about alpha for the choice so far."""
    shot = studio.store.document(shot_id)
    called = file_name(shot.name)
    folder = str(studio.store.deliveries_folder / called)
    order = Order(format=FORMATS[format].name, first=0, last=0, folder=folder, name="x", over_plate=over_plate)
    formats = [{"name": f.name, "label": f.label, "movie": f.movie, "alpha": f.alpha} for f in FORMATS]
    return DeliveryForm(
        formats=formats,
        folder=folder,
        name=called,
        first=shot.first_frame,
        last=shot.last_frame,
        alpha_note=alpha_note(shot, order),
    )


@router.post("/shots/{shot_id}/deliveries", status_code=201)
def order_delivery(studio: Here, shot_id: Id, body: Order) -> DeliveryCard:
    """Put a delivery into the queue. It uses the shot as it stands now."""
    shot = studio.store.document(shot_id)
    if not Path(body.folder).is_absolute():
        raise IsbjornError("give the whole path of the folder.", "folder", "It starts at the root of the disk.")
    check_order(shot, body)
    with studio.store.session(write=True) as session:
        row = DeliveryRow(
            shot_id=shot_id,
            shot_name=shot.name,
            document=shot.model_dump_json(),
            order=body.model_dump_json(),
            total=len(body.frames),
        )
        session.add(row)
        session.flush()
        return card(row)


@router.get("/deliveries")
def list_deliveries(studio: Here) -> list[DeliveryCard]:
    """The queue, newest first."""
    with studio.store.session() as session:
        return [card(row) for row in session.exec(select(DeliveryRow).order_by(col(DeliveryRow.id).desc()).limit(100))]


def _set_state(studio: Studio, delivery_id: int, allowed: tuple[str, ...], state: str) -> DeliveryCard:
    with studio.store.session(write=True) as session:
        row = session.get(DeliveryRow, delivery_id)
        if row is None:
            raise Missing(f"there is no delivery {delivery_id}.", "delivery")
        if row.state in allowed:
            row.state, row.problem, row.attempts = state, None, 0
        return card(row)


@router.post("/deliveries/{delivery_id}/cancel")
def cancel(studio: Here, delivery_id: Id) -> DeliveryCard:
    """Stop a delivery after the frame it is at. What is finished stays."""
    return _set_state(studio, delivery_id, ("waiting", "working"), "cancelled")


@router.post("/deliveries/{delivery_id}/resume")
def resume(studio: Here, delivery_id: Id) -> DeliveryCard:
    """Go on at the first missing frame."""
    return _set_state(studio, delivery_id, ("cancelled", "failed"), "waiting")


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
