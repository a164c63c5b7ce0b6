"""Shots as files: JSON by the published schema. A damaged or foreign file gets an error that names the field."""

from __future__ import annotations

import json
from typing import Any

from pydantic import ValidationError

from isbjorn.core.document.shot import VERSION, Shot
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
    except (json.JSONDecodeError, UnicodeDecodeError, RecursionError) as error:
        raise IsbjornError(f"this is not JSON ({error}).", where, "Was the file cut short?") from None
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
