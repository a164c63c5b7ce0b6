"""A shot as it acts: without what is switched off for the moment, which the document keeps."""

from __future__ import annotations

from typing import Any

from isbjorn.core.caching import IdentityCache
from isbjorn.core.document.fields.base import Part
from isbjorn.core.document.fields.values import Number
from isbjorn.core.document.model.emitter import Emitter
from isbjorn.core.document.model.shot import Shot
from isbjorn.core.document.parts.shapes import Point

_NOTHING: dict[str, dict[str, Any]] = {
    "spread": {"spread": 0.0}, "over life": {"over_life": None, "over_life_to": None}, "keys": {"keys": ()},
    "flutter": {"flutter": None}, "source": {"source": None},
}  # fmt: skip
_WHOLE = ("trail", "heads", "lines", "skin", "strand", "ripples", "pieces")


def _number(number: Number, default: Any) -> Number:
    if not number.off:
        return number
    if "all" in number.off and isinstance(default, Number):
        return default
    update: dict[str, Any] = {"off": ()}
    for name in number.off:
        update |= _NOTHING.get(name, {})
    return number.model_copy(update=update)


def _part(part: Part) -> Part:
    update: dict[str, Any] = {}
    for name, field in type(part).model_fields.items():
        value = getattr(part, name)
        if isinstance(value, Number):
            new: Any = _number(value, field.default)
        elif isinstance(value, Part):
            new = None if name in _WHOLE and not getattr(value, "on", True) else _part(value)
        elif isinstance(value, tuple) and value and isinstance(value[0], Part):
            parts = tuple(_known(one) if isinstance(part, Shot) else _part(one) for one in value)
            new = value if all(a is b for a, b in zip(parts, value, strict=True)) else parts
        else:
            continue
        if new is not value:
            update[name] = new
    if getattr(part, "shape_on", True) is False:
        update["shape"] = Point()
    if isinstance(part, Emitter) and part.strand is not None and part.strand.on and part.stays == "along":
        # A held root goes with its source anyway, and a free strand is not dragged along by all its joints.
        update["stays"] = "behind"
    return part.model_copy(update=update) if update else part


_known: IdentityCache[Part] = IdentityCache(_part, what="Effective parts")
_shots: IdentityCache[Part] = IdentityCache(_part, kept=64, what="Effective shots")


def effective_shot(shot: Shot) -> Shot:
    """The shot without what is switched off; the same one if nothing is."""
    found = _shots(shot)
    assert isinstance(found, Shot)
    return found
