"""References between things: attachments, drivers, zones of forces. None may be dangling or circular."""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Literal, Protocol, TypeVar, get_origin

from pydantic_core import PydanticCustomError

from isbjorn.core.caching import IdentityCache
from isbjorn.core.document.fields.base import Part, RefTo
from isbjorn.core.document.fields.values import Number

# Fields that name a file.
_MEDIA = ("media", "font", "sky")
_PLACED = ("emitters", "forces", "zones", "markers", "lights", "mattes")
# The lists of a cast.
LISTS = (*_PLACED, "groups", "sounds", "controls", "takes")


class _Cast(Protocol):
    @property
    def things(self) -> tuple[Any, ...]: ...


def numbers_of(part: Part) -> tuple[tuple[str, Number], ...]:
    """Every number within a part, with its dotted path."""
    return _numbers(part)


def _numbers_in(part: Part, path: str) -> Iterator[tuple[str, Number]]:
    for name, _ in _fields_of(type(part)):
        value = getattr(part, name)
        if isinstance(value, Number):
            yield f"{path}{name}", value
        elif isinstance(value, Part):
            yield from _numbers_in(value, f"{path}{name}.")
        elif isinstance(value, tuple):
            for n, one in enumerate(value):
                if isinstance(one, Part):
                    yield from _numbers_in(one, f"{path}{name}.{n}.")


def number_at(things: Mapping[str, Any], tie: str) -> Number | None:
    """The number that `id.field` or `id.part.field` names, or None."""
    name, _, path = tie.partition(".")
    found = things.get(name)
    for part in path.split("."):
        if isinstance(found, tuple):
            found = found[int(part)] if part.isdigit() and int(part) < len(found) else None
        else:
            found = getattr(found, part, None) if isinstance(found, Part) else None
    return found if isinstance(found, Number) else None


@dataclass(frozen=True)
class Reference:
    """A field that names a thing. path: dotted, from the thing that holds it; target: the name that it has there."""

    path: str
    target: str
    to: RefTo

    @property
    def id(self) -> str:
        """The id of what is named."""
        return self.target.partition(".")[0] if self.to.dotted else self.target


@functools.cache
def _fields_of(kind: type[Part]) -> tuple[tuple[str, RefTo | None], ...]:
    """The fields of a model that may hold a reference, or a part that holds one, and what such a reference may name."""
    found = []
    for name, field in kind.model_fields.items():
        to = next((mark for mark in field.metadata if isinstance(mark, RefTo)), None)
        if to is not None or (
            field.annotation not in (str, int, float, bool) and get_origin(field.annotation) is not Literal
        ):
            found.append((name, to))
    return tuple(found)


def references_of(part: Part) -> tuple[Reference, ...]:
    """Every reference within a part to another thing (see `RefTo`)."""
    return _references(part)


def _references_in(part: Part, path: str) -> Iterator[Reference]:
    for name, to in _fields_of(type(part)):
        value = getattr(part, name)
        if to is not None:
            for target in value if isinstance(value, tuple) else (value,):
                if target and target not in to.words:
                    yield Reference(f"{path}{name}", target, to)
        elif isinstance(value, Number):
            # By far the most: only a source of one names anything.
            if value.source is not None:
                yield from _references_in(value.source, f"{path}{name}.source.")
        elif isinstance(value, Part):
            yield from _references_in(value, f"{path}{name}.")
        elif isinstance(value, tuple) and value and isinstance(value[0], Part):
            for n, one in enumerate(value):
                yield from _references_in(one, f"{path}{name}.{n}.")


_numbers: IdentityCache[tuple[tuple[str, Number], ...]] = IdentityCache(
    lambda part: tuple(_numbers_in(part, "")), what="Numbers of parts"
)
_references: IdentityCache[tuple[Reference, ...]] = IdentityCache(
    lambda part: tuple(_references_in(part, "")), what="References of parts"
)
P = TypeVar("P", bound=Part)


def retied(part: P, other: Callable[[str], str | None]) -> P | None:
    """The part with the ids in it changed; where one becomes None, the reference goes, or the part that holds it.

    None where the part itself goes. What is not changed stays the same object.
    """
    update: dict[str, Any] = {}
    for name, to in _fields_of(type(part)):
        value = getattr(part, name)
        new: Any = value
        if to is not None:
            new = tuple(x for x in (_renamed(one, to, other) for one in value) if x) if isinstance(value, tuple) else (
                _renamed(value, to, other) if value else value
            )  # fmt: skip
            if value and not new and to.whole:
                return None
        elif isinstance(value, Part):
            new = retied(value, other)
        elif isinstance(value, tuple) and value and isinstance(value[0], Part):
            new = tuple(x for x in (retied(one, other) for one in value) if x is not None)
            new = value if len(new) == len(value) and all(a is b for a, b in zip(new, value, strict=True)) else new
        if new is not value and new != value:
            update[name] = new
    return part.model_copy(update=update) if update else part


def _renamed(target: str, to: RefTo, other: Callable[[str], str | None]) -> str | None:
    if target in to.words:
        return target
    head, dot, rest = target.partition(".") if to.dotted else (target, "", "")
    new = other(head)
    return None if new is None else new + dot + rest


def ties_of(thing: Any) -> set[str]:
    """The ids of the things that a thing depends on: its carrier, its zone, what drives its numbers."""
    return {reference.id for reference in references_of(thing)}


def _round(start: str, onward: Mapping[str, str | None]) -> bool:
    at, seen = onward.get(start), {start}
    while at is not None:
        if at in seen:
            return True
        seen.add(at)
        at = onward.get(at)
    return False


def _ids(shot: _Cast) -> dict[str, set[str]]:
    """The ids that references may name, by the words of `RefTo.to`."""
    found = {name: {thing.id for thing in getattr(shot, name)} for name in LISTS}
    return found | {"placed": set().union(*(found[name] for name in _PLACED))}


def _title(thing: Part, path: str) -> str:
    """The label of a field within a thing."""
    part: Any = thing
    *before, last = path.split(".")
    for step in before:
        part = part[int(step)] if isinstance(part, tuple) else getattr(part, step)
    return str(type(part).model_fields[last].title or last)


def check_ties(shot: _Cast) -> None:
    """Raise a PydanticCustomError for the first tie that is loose or goes round."""
    things = {thing.id: thing for thing in shot.things}
    carriers = {name: getattr(thing, "carried_by", None) for name, thing in things.items()}
    driven: dict[str, str | None] = {}
    ids = _ids(shot)

    def wrong(kind: str, words: Any, thing: Any, reference: Reference) -> PydanticCustomError:
        title = _title(thing, reference.path)
        return PydanticCustomError(kind, words, {"t": thing.name, "f": title, "n": reference.target})

    for name, thing in things.items():
        for reference in references_of(thing):
            if reference.to.dotted and "." in reference.target:
                if number_at(things, reference.target) is None:
                    raise wrong("loose_source", "{t}, {f}: the cast has no number {n}", thing, reference)
                driven[f"{name}.{reference.path.rpartition('.source.')[0]}"] = reference.target
            elif not any(reference.id in ids[to] for to in reference.to.to) or (
                reference.to.words and reference.id == name
            ):
                raise wrong("loose_tie", "{t}, {f}: {n} is not in the cast, or of another kind", thing, reference)
        if _round(name, carriers):
            raise PydanticCustomError(
                "carried_round", "{t} would carry itself; choose another carrier", {"t": thing.name}
            )
    for tie in driven:
        if _round(tie, driven):
            raise PydanticCustomError("driven_round", "{t} would drive itself; choose another number", {"t": tie})


def with_media(part: Any, renamed: Callable[[str], str]) -> Any:
    """A part of a document, as JSON has it, with other names for its files: plates, pictures and fonts of bodies, mattes."""
    if isinstance(part, list):
        return [with_media(one, renamed) for one in part]
    if not isinstance(part, dict):
        return part
    here = {k: renamed(v) for k, v in part.items() if k in _MEDIA and isinstance(v, str) and v}
    return {k: with_media(v, renamed) for k, v in part.items()} | here
