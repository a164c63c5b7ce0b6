"""The ground of every document model: strict about names, closed against NaN and infinity."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, GetJsonSchemaHandler
from pydantic_core import CoreSchema

LARGEST_SEED = 2**53 - 1
# A file, or a numbered pattern: nothing in it that no file system takes.
MediaName = Annotated[str, Field(max_length=4096, pattern=r"^[^\x00-\x1f\x7f]*$")]

# SHA-256 of a file's bytes, in hexadecimal.
Digest = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$", description="SHA-256 of the file's bytes.")]


def _title(name: str, field: Any) -> str:
    """A field's label: that of its spec, or the field's name."""
    title = next((m.title for m in field.metadata if getattr(m, "title", "")), "")
    return title or (name[0].upper() + name[1:].replace("_", " "))


class Part(BaseModel):
    """A part of the document. Unknown fields are errors, so that a slip of the pen is not lost silently."""

    model_config = ConfigDict(
        extra="forbid",
        allow_inf_nan=False,
        validate_default=True,
        frozen=True,
        json_schema_serialization_defaults_required=True,
        field_title_generator=_title,
    )


class ShownIf:
    """Metadata of a field: it means something only while another field has one of these values."""

    def __init__(self, field: str, *values: Any) -> None:
        self.field, self.values = field, values

    def __get_pydantic_json_schema__(self, schema: CoreSchema, handler: GetJsonSchemaHandler) -> dict[str, Any]:
        found = handler(schema)
        return found | {"shown_if": found.get("shown_if", {}) | {self.field: list(self.values)}}


@dataclass(frozen=True)
class ShownAs:
    """Metadata of a field: the control that edits it in forms, where its type does not say it.

    name: `picture`, `model` or `font` (a file), `drawing`, `points`, `tone curve`, `moment` or `seconds` (a time that may be
    given in frames), or `part` (the fields of a part in it); empty: forms leave the field out.
    """

    name: str = ""

    def __get_pydantic_json_schema__(self, schema: CoreSchema, handler: GetJsonSchemaHandler) -> dict[str, Any]:
        return handler(schema) | {"shown_as": self.name}


@dataclass(frozen=True)
class InPanel:
    """Metadata of a field of an emitter: the panel of the page that shows it."""

    name: Literal["birth", "body", "look", "motion", "compositing", "end"]

    def __get_pydantic_json_schema__(self, schema: CoreSchema, handler: GetJsonSchemaHandler) -> dict[str, Any]:
        return handler(schema) | {"panel": self.name}


class ChoiceLabels:
    """Metadata of a field with choices: how forms call those whose names in the document do not say enough."""

    def __init__(self, **labels: str) -> None:
        self.labels = labels

    def __get_pydantic_json_schema__(self, schema: CoreSchema, handler: GetJsonSchemaHandler) -> dict[str, Any]:
        return handler(schema) | {"labels": self.labels}


@dataclass(frozen=True)
class RefTo:
    """Metadata of a field: it names other things of the cast by their ids, or, dotted, one of their numbers.

    to: the lists of the shot that are searched; `placed`: all things with a place. words: shown instead of an id. whole: the part
    that holds the field is removed together with the named thing. none: what a form shows for an empty reference; without it, a
    special form shows the field.
    """

    to: tuple[str, ...]
    dotted: bool = False
    words: tuple[str, ...] = ()
    whole: bool = False
    none: str = ""

    def __get_pydantic_json_schema__(self, schema: CoreSchema, handler: GetJsonSchemaHandler) -> dict[str, Any]:
        found = handler(schema)
        return found | {"refers": {"to": list(self.to), "none": self.none}} if self.none else found


@dataclass(frozen=True)
class Gripped:
    """Metadata of a number: a grip on the picture changes it.

    way: the unit vector along which the grip moves, in own px, turned by the part's `angle` if it has one; factor: ratio of the
    number to the grip's distance from the centre. turns: the number is a direction, and the grip moves on a circle; with_length: a
    length that the grip also changes, by `factor`.
    """

    way: tuple[float, float] = (1.0, 0.0)
    factor: float = 1.0
    turns: bool = False
    with_length: str = ""


@dataclass(frozen=True)
class AffectsLooks:
    """Metadata of a field: it changes what is seen of particles, never where they are. unless: traits of forces that read it."""

    unless: tuple[str, ...] = ()


def new_id(prefix: str) -> str:
    """A short identity for a thing in the cast; it never appears in a random draw."""
    return f"{prefix}-{secrets.token_hex(4)}"
