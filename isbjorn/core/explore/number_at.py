"""A number of a shot by its JSON pointer: what it is now, its range, and the changes that give it another value."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from annotated_types import Ge, Gt, Le, Lt
from jsonpointer import JsonPointer, JsonPointerException
from pydantic import BaseModel
from pydantic.fields import FieldInfo

from isbjorn.core.document import Number, Shot
from isbjorn.core.document.fields.base import Part, ShownIf
from isbjorn.core.document.fields.references import LISTS
from isbjorn.core.document.fields.values import Spec
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.curves import along

# Beyond its range, a plain number is bounded by this.
_WIDEST = 1e9


@dataclass(frozen=True)
class NumberAt:
    """path: its JSON pointer. owner: the name of the thing that has it. unit, low, high, step: as in `Spec`. value: at the moment
    asked about, in its unit. whole: whether it takes integers only. number: the number if it may be driven, None of a plain one."""

    path: str
    owner: str
    label: str
    unit: str
    low: float
    high: float
    step: float
    value: float
    whole: bool = False
    number: Number | None = None

    def changes(self, value: float) -> list[dict[str, Any]]:
        """The JSON Patch that gives it a value. Keys are all moved by as much, within the range."""
        value = min(self.high, max(self.low, value))
        if self.whole:
            value = round(value)
        if self.number is None:
            return [{"op": "replace", "path": self.path, "value": value}]
        if not _is_keyed(self.number):
            return [{"op": "replace", "path": f"{self.path}/value", "value": value}]
        by = value - self.value
        keys = [
            key.model_dump(mode="json") | {"value": min(self.high, max(self.low, key.value + by))}
            for key in self.number.keys
        ]
        return [{"op": "replace", "path": f"{self.path}/keys", "value": keys}]


def _is_keyed(number: Number) -> bool:
    """Whether keys are in the place of its plain value."""
    return bool(number.keys) and not set(number.off) & {"keys", "all"}


def _label(name: str, info: FieldInfo, spec: Spec | None) -> str:
    title = (spec.title if spec else "") or info.title or name.replace("_", " ")
    return title[0].upper() + title[1:]


def _plain_range(info: FieldInfo, value: float) -> tuple[float, float]:
    low, high = -_WIDEST, _WIDEST
    for bound in info.metadata:
        if isinstance(bound, (Ge, Gt)):
            low = max(low, float(bound.ge if isinstance(bound, Ge) else bound.gt))  # type: ignore[arg-type]
        if isinstance(bound, (Le, Lt)):
            high = min(high, float(bound.le if isinstance(bound, Le) else bound.lt))  # type: ignore[arg-type]
    return min(low, value), max(high, value)


def number_at(shot: Shot, path: str, t: float = 0.0) -> NumberAt:
    """The number at a JSON pointer, at shot time t in s. Raises IsbjornError where there is none."""
    missing = IsbjornError("there is no number.", path, "Select a number of the shot.")
    try:
        parts = JsonPointer(path).parts
    except JsonPointerException:
        raise missing from None
    at: Any = shot
    owner, spec, info = shot.name, None, None
    for name in parts:
        if isinstance(at, Part):
            if name not in type(at).model_fields:
                raise missing
            inside = isinstance(at, Number)
            info = type(at).model_fields[name]
            # The parts of a number have its unit and its range.
            spec = spec if inside else next((m for m in info.metadata if isinstance(m, Spec)), None)
            at = getattr(at, name)
        elif isinstance(at, tuple) and name.isdecimal() and int(name) < len(at):
            at = at[int(name)]
            owner = getattr(at, "name", owner)
        else:
            raise missing
    if info is None or isinstance(at, bool):
        raise missing
    if isinstance(at, Number) and spec is not None:
        value = float(along(at.keys, np.array([t]))[0]) if _is_keyed(at) else at.value
        return NumberAt(
            path, owner, _label(parts[-1], info, spec), spec.unit, spec.low, spec.high, spec.step, value, False, at
        )
    if not isinstance(at, (int, float)) or not math.isfinite(at):
        raise missing
    low, high = _plain_range(info, at)
    label, unit, step = _label(parts[-1], info, None), "", 1.0 if isinstance(at, int) else 0.1
    if spec is not None and parts[-1] == "spread":
        unit, step, high = spec.unit, spec.step, min(high, max(abs(spec.low), abs(spec.high)))
        label = f"{parts[-2].replace('_', ' ')}, variation".capitalize()
    elif parts[-1].endswith("_s"):
        unit = "s"
    return NumberAt(path, owner, label, unit, low, high, step, float(at), isinstance(at, int))


class NumberName(BaseModel):
    """A number that may be driven: its JSON pointer, the id and name of the thing that has it, and its label."""

    path: str
    thing: str
    owner: str
    label: str


def _names(part: Part, path: str, within: str) -> Iterator[tuple[str, str]]:
    """Pointers and labels of the numbers in a part, those of its parts behind the part's own."""
    below: list[tuple[Any, str, str]] = []
    for name, info in type(part).model_fields.items():
        if any(getattr(part, m.field) not in m.values for m in info.metadata if isinstance(m, ShownIf)):
            # It means nothing now.
            continue
        value, spec = getattr(part, name), next((m for m in info.metadata if isinstance(m, Spec)), None)
        if isinstance(value, Number):
            if spec is not None:
                label = _label(name, info, spec)
                yield f"{path}/{name}", f"{within}{label.lower() if within else label}"
        elif isinstance(value, Part):
            below.append((value, f"{path}/{name}", f"{within}{_label(name, info, None)}: "))
        elif isinstance(value, tuple):
            title = _label(name, info, None)
            below += [
                (one, f"{path}/{name}/{n}", f"{within}{title} {n + 1}: ")
                for n, one in enumerate(value)
                if isinstance(one, Part)
            ]
    for one, at, words in below:
        yield from _names(one, at, words)


def number_names(shot: Shot) -> list[NumberName]:
    """The numbers of the cast of a shot, and of its camera, in the order of the cast."""
    found = [
        NumberName(path=path, thing=thing.id, owner=thing.name, label=label)
        for name in LISTS
        for n, thing in enumerate(getattr(shot, name))
        if hasattr(thing, "name")
        for path, label in _names(thing, f"/{name}/{n}", "")
    ]
    camera = _names(shot.camera, "/camera", "")
    return found + [NumberName(path=path, thing="", owner="Camera", label=label) for path, label in camera]
