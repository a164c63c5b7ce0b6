"""What deliveries are for: orders made ready, to be changed, kept under a name, and shared as files."""

from __future__ import annotations

import json
from typing import Any, Literal

from pydantic import Field, ValidationError, field_validator
from pydantic_core import PydanticCustomError

from isbjorn.core.deliver.order import Order
from isbjorn.core.document.fields.base import Part
from isbjorn.core.document.files import first_problem
from isbjorn.core.errors import IsbjornError

# What belongs to a shot and a machine, and not to what a delivery is for.
_OWN = ("first", "last", "folder", "purpose")
_LARGEST_FILE = 1 << 20


class Purpose(Part):
    """An order made ready. order: fields of `Order`; what it does not say is as an order has it. frames: all of the shot, or the
    one that is shown."""

    format: Literal["isbjorn-purpose"] = "isbjorn-purpose"
    version: Literal[1] = 1
    name: str = Field(min_length=1, max_length=120)
    about: str = Field(default="", max_length=400, description="What it delivers, in one sentence.")
    frames: Literal["all", "one"] = "all"
    order: dict[str, Any] = Field(default={})

    @field_validator("order")
    @classmethod
    def _fits(cls, given: dict[str, Any]) -> dict[str, Any]:
        fields = {name: value for name, value in given.items() if name not in _OWN}
        try:
            Order.model_validate({"name": "{shot}", "first": 0, "last": 0, "folder": "/", **fields})
        except ValidationError as error:
            field, what = first_problem(error)
            raise PydanticCustomError("no_order", "{field}: {what}", {"field": field, "what": what}) from None
        return fields


def purpose_from_text(text: str | bytes, where: str = "purpose") -> Purpose:
    """Read a purpose's file. Raises IsbjornError for an invalid one."""
    if len(text) > _LARGEST_FILE:
        raise IsbjornError("this file is too large for a delivery purpose.", where, "The limit is 1 MB.")
    try:
        return Purpose.model_validate(json.loads(text))
    except ValidationError as error:
        field, what = first_problem(error)
        raise IsbjornError(
            f"this file is not a delivery purpose ({what}).", f"{where}: {field}", "Choose another."
        ) from None
    except (ValueError, RecursionError):
        raise IsbjornError("this file is not a delivery purpose: it is not JSON.", where, "Choose another.") from None


def purpose_to_text(purpose: Purpose) -> str:
    return json.dumps(purpose.model_dump(mode="json"), indent=1, ensure_ascii=False) + "\n"


_COUNTED = {"name": "{shot}_v{version}", "existing": "version"}
SHIPPED = tuple(
    Purpose(name=name, about=about, frames="one" if name == "A still" else "all", order={**_COUNTED, **order})
    for name, about, order in (
        (
            "Over the plate, for review",
            "H.264 movie with sound, with frame number and timecode burned in.",
            {"format": "mp4", "burn": ["name", "timecode", "frame"]},
        ),
        (
            "Particles with alpha, for a compositor",
            "EXR frames in linear light, premultiplied: additive light stays exact over any background.",
            {"format": "exr-half", "over_plate": False, "sound": False},
        ),
        (
            "Passes, for a compositor",
            (
"One EXR per frame: the picture, each emitter and group, depth, motion, ids and object mattes "
"(Cryptomatte)."
),
            {
                "format": "exr-half", "over_plate": False, "sound": False,
                "passes": ["emitters", "groups", "depth", "motion", "ids", "objects"],
            },
        ),
        (
            "For a stage screen or a mapping server",
            "ProRes 4444 movie with alpha. Every frame is a key frame, so playback can start anywhere.",
            {"format": "mov", "over_plate": False, "sound": False},
        ),
        (
            "For the web, with alpha",
            "VP9 movie with alpha at half the width and height.",
            {"format": "webm", "over_plate": False, "sound": False, "scale": 0.5},
        ),
        (
            "A still",
            "The current frame as a 16-bit PNG.",
            {"format": "png16", "sound": False},
        ),
    )
)  # fmt: skip


def shipped(name: str) -> Purpose:
    """A purpose that comes with Isbjorn, by its name or its beginning. Raises IsbjornError for another."""
    found = [p for p in SHIPPED if p.name.lower().startswith(name.lower().strip())] if name.strip() else []
    if len(found) != 1:
        known = "; ".join(p.name for p in SHIPPED)
        raise IsbjornError(f"the purpose '{name[:80]}' does not exist.", "purpose", f"Use one of: {known}.")
    return found[0]
