"""Edits of a document: JSON Patch (RFC 6902) on frozen models. What no step reaches into stays the same object, which
was validated when it was read; results that are cached for an object are found again by it (see `IdentityCache`)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import jsonpatch
from jsonpointer import JsonPointer, JsonPointerException

from isbjorn.core.document.fields.base import Part
from isbjorn.core.document.files import parse_shot
from isbjorn.core.document.model.shot import Shot
from isbjorn.core.errors import IsbjornError


def patched(shot: Shot, steps: Sequence[dict[str, Any]]) -> Shot:
    """The shot after steps of `add`, `remove` and `replace`. Raises IsbjornError, which says which step does not fit, or which
    field of what comes of them is wrong."""
    fields = ((name, getattr(shot, name)) for name in Shot.model_fields)
    # Lists may be patched; their items are replaced as a whole.
    given: Any = {name: list(value) if isinstance(value, tuple) else value for name, value in fields}
    for step in steps:
        try:
            _opened(given, JsonPointer(step["path"]).parts)
            given = jsonpatch.JsonPatch([step]).apply(given, in_place=True)
        except (jsonpatch.JsonPatchException, JsonPointerException, TypeError, ValueError, AttributeError) as error:
            raise IsbjornError(
                f"the change does not fit the shot ({str(error)[:200]}).", step["path"], "Nothing was changed."
            ) from None
    return parse_shot(given)


def _opened(given: Any, parts: Sequence[str]) -> None:
    """Write out as data what a pointer reaches into: a part that is a field of the shot, or an entry of one of its lists."""
    if not isinstance(given, dict):
        return
    at: Any = given
    for name in parts[:-1]:
        key = int(name) if isinstance(at, list) and name.isdecimal() else name
        try:
            below = at[key]
        except (LookupError, TypeError):
            return
        if isinstance(below, Part):
            at[key] = below.model_dump(mode="json")
            return
        at = below
