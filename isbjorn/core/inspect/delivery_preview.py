"""What an order would deliver, before it is made: names, sizes, time, file size, and problems."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from pydantic import BaseModel, Field

from isbjorn.core.deliver import Order, has_alpha, named_order
from isbjorn.core.deliver.chunks import Job
from isbjorn.core.deliver.delivery import sound_over
from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.inspect.lookout import Mend, Note, order_notes
from isbjorn.core.inspect.time_estimate import Taking
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.runtime.disk import free_bytes
from isbjorn.core.time import rate_text

_SAMPLES = 65
# This number of channels of passes is as large as the picture.
_CHANNELS_AS_LARGE = 22
# A pass is about as large as the picture; values that are not colours are stored as 32 bits.
_PASS_CHANNELS = {"depth": 2, "motion": 4, "ids": 6, "objects": 24, "plate": 4}


class DeliveryPreview(BaseModel):
    """What an order would make."""

    count: int = Field(description="Total number of frames.")
    first: str = Field(description="Name of the first file.")
    last: str = Field(description="Name of the last file; empty if there is only one.")
    folder: str
    rate: str
    length_s: float
    width: int
    height: int
    alpha: str = Field(description="How transparency and additive light are delivered; empty: nothing to report.")
    sound: str = Field(description="How sound is delivered; empty: no sound.")
    seconds: float | None = Field(description="Estimated time on this machine, in s; null: unknown.")
    bytes: int = Field(description="Estimated size.")
    free_bytes: int
    moments: list[float] = Field(description="Shot frame that is shown, at even intervals of the delivery.")
    notes: list[Note]
    refused: str = Field(default="", description="Why the order would be refused; empty: it would be accepted.")
    where: str = ""
    remedy: str = ""


def alpha_note(shot: Shot, order: Order) -> str:
    """What becomes of transparency and of added light in a delivery, in one sentence."""
    form = order.form
    if form.points:
        return "All particles of each frame, with velocities, sizes, colours and ids."
    adds = any(e.on and e.blend == "add" for e in shot.emitters)
    if not has_alpha(shot, order):
        return "" if order.over_plate else f"{form.label} has no alpha: the particles are rendered on black."
    if form.exact_light:
        return "Premultiplied alpha; additive light is exact over any background."
    return "Straight alpha; additive light is exact over black only. EXR keeps it exact." if adds else "Straight alpha."


def about_bytes(shot: Shot, order: Order, count: int, alive: float = 0.0) -> int:
    """About how large the files come, by what such pictures took. alive: particles in a frame, about."""
    width, height = order.size(shot)
    form = order.form
    if form.points:
        return int(alive * form.bits / 8 * count)
    each = width * height * form.bits / 8
    if order.passes:
        units = len(shot.emitters) * ("emitters" in order.passes) + len(shot.groups) * ("groups" in order.passes)
        channels = 4 * units + sum(_PASS_CHANNELS.get(name, 0) for name in order.passes)
        # Much of a pass is empty.
        each *= 1 + channels / _CHANNELS_AS_LARGE
    return int(each * count)


def _sound_note(job: Job, plates: PlateReader) -> str:
    order = job.order
    try:
        sound = sound_over(job, plates)
    except IsbjornError as error:
        return str(error)
    if sound is None:
        return ""
    if not order.own_speed:
        return "No sound, because the speed differs from the shot's."
    heard = [one.name for one in job.shot.sounds if one.on and one.heard]
    if order.over_plate and job.shot.plate is not None and not any(one.of_plate for one in job.shot.sounds):
        heard.insert(0, "the plate's sound")
    what = f"{', '.join(heard)}: {sound.rate:,} Hz, {sound.layout}."
    return f"With {what}" if order.form.movie else f"As a WAV file next to it: {what}"


def delivery_preview(
    shot: Shot,
    order: Order,
    far_px: dict[str, float] | None,
    plates: PlateReader,
    project: str = "",
    others: Sequence[Order] = (),
) -> DeliveryPreview:
    """The files that an order would make. far_px: distance that each emitter's particles travel (`Forecast` of its guides); None:
    unknown."""
    refused = where = remedy = ""
    ready = order
    try:
        ready = named_order(shot, order, project, others)
    except IsbjornError as error:
        refused, where, remedy = error.what, error.where, error.remedy
    job = Job(shot, ready, Path(ready.folder))
    plan, numbers = job.plan, job.plan.numbers
    width, height = ready.size(shot)
    taking = None if far_px is None else Taking(job, far_px)
    size = about_bytes(shot, ready, len(plan), 0.0 if taking is None else taking.particles)
    free = free_bytes(Path(order.folder))
    notes = order_notes(shot, order)
    if free < size:
        notes.insert(0, Note(
            kind="disk", level="trouble", what=(
f"The disk has {free / 1000000000.0:.1f} GB free; the delivery needs about {size / 1000000000.0:.1f} "
"GB."
),
            why="A full disk pauses a delivery; finished frames are kept, and it resumes when there is space.",
            mend=Mend(label="Deliver at half the size", order={"scale": order.scale / 2}) if order.scale > 0.25 else None,
        ))  # fmt: skip
    single = order.form.single
    return DeliveryPreview(
        count=len(plan),
        first=ready.path(None if single else numbers[0]).name,
        last="" if single or len(plan) < 2 else ready.path(numbers[-1]).name,
        folder=ready.folder,
        rate=rate_text(plan.rate),
        length_s=float(len(plan) / plan.rate),
        width=width,
        height=height,
        alpha=alpha_note(shot, order),
        sound="" if refused else _sound_note(job, plates),
        seconds=None if taking is None else taking.seconds(),
        bytes=size,
        free_bytes=free,
        moments=[float(plan[round(k * (len(plan) - 1) / (_SAMPLES - 1))].frame) for k in range(_SAMPLES)],
        notes=notes,
        refused=refused,
        where=where,
        remedy=remedy,
    )
