"""Shots as files: JSON by the published schema. A damaged or foreign file gets an error that names the field."""

from __future__ import annotations

import json
from typing import Any

from pydantic import ValidationError

from isbjorn.core.document.model.shot import VERSION, Shot
from isbjorn.core.errors import IsbjornError


def shot_schema() -> dict[str, Any]:
    """The JSON Schema of a shot file; number fields carry their unit, range and clock under `isbjorn`."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        **Shot.model_json_schema(),
        "title": "Isbjorn shot",
    }


def shot_to_text(shot: Shot) -> str:
    """A shot as readable JSON; reading it again gives the same shot."""
    return json.dumps(shot.model_dump(mode="json"), indent=1, ensure_ascii=False) + "\n"


def first_problem(error: ValidationError) -> tuple[str, str]:
    """The field and the message of the first problem found by Pydantic."""
    found = error.errors(include_url=False, include_context=False)[0]
    field = ".".join(str(part) for part in found["loc"]) or "the document"
    return field, str(found["msg"])


def parse_shot(given: Any, where: str = "") -> Shot:
    """Validate a shot given as data. Raises IsbjornError that names the first wrong field."""
    try:
        return Shot.model_validate(given)
    except ValidationError as error:
        field, message = first_problem(error)
        raise IsbjornError(f"{message}.", f"{where}: {field}" if where else field, "Nothing was changed.") from error


def shot_from_text(text: str | bytes, where: str = "file") -> Shot:
    """Read a shot file. Raises IsbjornError when it is not JSON, not a shot, of a newer version, or has a wrong field."""
    try:
        given = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise IsbjornError(f"this is not JSON ({str(error)[:200]}).", where, "Was the file cut short?") from None
    if not isinstance(given, dict) or given.get("format") != "isbjorn-shot":
        raise IsbjornError(
            'this is not a shot of Isbjorn (no "format": "isbjorn-shot").', where, "Choose an exported shot."
        )
    version = given.get("version")
    if isinstance(version, int) and version > VERSION:
        raise IsbjornError(
            f"the file is of version {version}, this program reads up to {VERSION}.",
            where,
            "Use a newer Isbjorn.",
        )
    return parse_shot(given, where)


_LISTS = ("markers", "zones", "lights", "mattes", "groups", "forces", "emitters", "links")
_MOST_DROPS = 40


def _dropped(given: Any, loc: tuple[Any, ...]) -> bool:
    """Remove the smallest part of the data that contains a problem; False if none is found."""
    at, last = given, None
    for step in loc:
        here = (isinstance(at, dict) and step in at) or (
            isinstance(at, list) and isinstance(step, int) and step < len(at)
        )
        if here:
            last, at = (at, step), at[step]
    if last is None:
        return False
    del last[0][last[1]]
    return True


def _whole_or_none(given: dict[str, Any], problems: list[str]) -> Shot | None:
    for _ in range(_MOST_DROPS):
        try:
            return Shot.model_validate(given)
        except ValidationError as error:
            field, message = first_problem(error)
            loc = error.errors(include_url=False, include_context=False)[0]["loc"]
            if not loc or not _dropped(given, loc):
                return None
            problems.append(f"{field}: {message}.")
    return None


def salvaged(text: str, where: str = "file") -> tuple[Shot, list[str]]:
    """What can be read of a shot, and what had to be left out, in words; nothing is left out of a whole one.

    The smallest part that holds a problem goes; where things do not fit together, those that do are taken one by one. Raises
    IsbjornError where it is no shot at all.
    """
    try:
        return shot_from_text(text, where), []
    except IsbjornError as error:
        given = _as_data(text)
        if given is None:
            raise
        first = error
    problems: list[str] = []
    found = _whole_or_none(given, problems)
    if found is not None:
        return found, problems
    lists = {name: given.pop(name) if isinstance(given.get(name), list) else [] for name in _LISTS}
    taken: dict[str, Any] = {name: [] for name in _LISTS}
    found = _whole_or_none(given, problems)
    if found is None:
        raise first
    left = [(name, thing) for name in _LISTS for thing in lists[name]]
    # Things may depend on those that come later: as long as any fits, the rest is tried again.
    while True:
        rest = []
        for name, thing in left:
            taken[name].append(thing)
            try:
                found = Shot.model_validate({**given, **taken})
            except ValidationError:
                taken[name].pop()
                rest.append((name, thing))
        if not rest or len(rest) == len(left):
            break
        left = rest
    for name, thing in rest:
        called = thing.get("name", thing.get("id", "")) if isinstance(thing, dict) else ""
        problems.append(f"{name}: {called or 'one of them'} does not fit the rest.")
    return found, problems


def _as_data(text: str) -> dict[str, Any] | None:
    try:
        given = json.loads(text)
    except (ValueError, RecursionError):
        return None
    return given if isinstance(given, dict) and given.get("format") == "isbjorn-shot" else None
