"""What an edit touches: so that what depends on nothing of it is taken as it was."""

from __future__ import annotations

import functools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from isbjorn.core.caching import IdentityCache
from isbjorn.core.document.fields.base import AffectsLooks, Part
from isbjorn.core.document.fields.references import LISTS, references_of
from isbjorn.core.document.model.emitter import Emitter
from isbjorn.core.document.model.shot import Shot
from isbjorn.core.document.parts.forces import Acting

# How a shot is looked at, and what is done to the whole of it: nothing of the cast depends on it.
_APART = ("name", "camera", "finish")


@dataclass(frozen=True)
class Edited:
    """A shot after an edit, whose equal things are the same objects as before. touched: the ids of the things that the edit
    changes, and of all that depend on them; moved: the same without those that only look different."""

    shot: Shot
    touched: frozenset[str]
    moved: frozenset[str]


@functools.cache
def _marks(model: type[Part]) -> dict[str, AffectsLooks]:
    """What is marked as looks of the fields of a model."""
    found = {name: [m for m in f.metadata if isinstance(m, AffectsLooks)] for name, f in model.model_fields.items()}
    return {name: marks[0] for name, marks in found.items() if marks}


def look_fields(emitter: Emitter, forces: Sequence[Acting] = ()) -> set[str]:
    """The fields that change what is seen of an emitter's particles, and never where they are (see `Looks`)."""
    marks = _marks(type(emitter))
    traits = {trait for force in forces for mark in marks.values() for trait in mark.unless if getattr(force, trait)}
    found = {name for name, mark in marks.items() if not traits & set(mark.unless)}
    # How many fill a shape depends on how large they are.
    return found - {"size"} if any(burst.fill > 0 for burst in emitter.bursts) else found


def look_parts(thing: Any) -> dict[str, set[str]]:
    """The fields that only change what is seen within the parts of a thing, by the fields that hold those."""
    return {
        name: set(looks)
        for name in type(thing).model_fields
        if isinstance(part := getattr(thing, name), Part) and (looks := _marks(type(part)))
    }


named_by: IdentityCache[tuple[frozenset[str], frozenset[str]]] = IdentityCache(
    lambda thing: (
        frozenset(r.id for r in references_of(thing) if not (r.to.dotted and "." in r.target)),
        frozenset(r.id for r in references_of(thing) if r.to.dotted and "." in r.target),
    ),
    what="Names in parts",
)


def _dependents(shot: Shot) -> tuple[dict[str, set[str]], dict[str, set[str]]]:
    """By the id of a thing: the things that depend on it (they name it, or it is a force that reaches them), and those that read
    its numbers."""
    known: tuple[dict[str, set[str]], dict[str, set[str]]] = ({}, {})
    for thing in shot.things:
        for found, names in zip(known, named_by(thing), strict=True):
            for name in names:
                found.setdefault(name, set()).add(thing.id)
    members: dict[str | None, list[str]] = {}
    for emitter in shot.emitters:
        members.setdefault(emitter.group, []).append(emitter.id)
    for link in shot.links:
        known[0].setdefault(link.force, set()).update(members.get(link.emitter, [link.emitter]))
    return known


def _only_looks(shot: Shot, old: Any, new: Any) -> bool:
    """Whether a thing is where it was, with all that it does to others."""
    if not isinstance(new, Emitter) or not isinstance(old, Emitter):
        return False
    looks, within = look_fields(new, shot.reaching(new)), look_parts(new)

    def same(name: str) -> bool:
        a, b = getattr(old, name), getattr(new, name)
        if a == b or name in looks:
            return True
        if name not in within or type(a) is not type(b):
            return False
        return all(n in within[name] or getattr(a, n) == getattr(b, n) for n in type(b).model_fields)

    return all(same(name) for name in type(new).model_fields)


def _shared(old: Any, new: Any) -> Any:
    """A thing whose equal fields are the same objects as before; the old one if all are equal."""
    if old is new or type(old) is not type(new):
        return new
    other = {n: getattr(new, n) for n in type(new).model_fields if getattr(old, n) != getattr(new, n)}
    return old.model_copy(update=other) if other else old


def changes_between(before: Shot, after: Shot) -> Edited | None:
    """What an edit touches; None if everything may depend on what it changes."""
    if before is after:
        return Edited(after, frozenset(), frozenset())
    update: dict[str, Any] = {}
    changed: dict[str, tuple[Any, Any]] = {}
    for name in Shot.model_fields:
        old, new = getattr(before, name), getattr(after, name)
        if name in LISTS:
            if [thing.id for thing in old] != [thing.id for thing in new]:
                return None
            shared = tuple(_shared(o, n) for o, n in zip(old, new, strict=True))
            changed |= {s.id: (o, s) for s, o in zip(shared, old, strict=True) if s is not o}
            update[name] = old if all(s is o for s, o in zip(shared, old, strict=True)) else shared
        elif name not in _APART and old != new:
            return None
    shot = after.model_copy(update=update)
    hanging, reading = _dependents(shot)
    first = {name for name, (old, new) in changed.items() if not _only_looks(shot, old, new)}
    # A thing that reads a number of another one may move when only the looks of that one changed.
    moved = _closed(first.union(*(reading.get(name, ()) for name in changed)), hanging, reading)
    return Edited(shot, frozenset({*changed} | moved), frozenset(moved))


def _closed(some: set[str], *onward: dict[str, set[str]]) -> set[str]:
    """Some things, and all that depend on them."""
    found, todo = set(some), list(some)
    while todo:
        at = todo.pop()
        for name in set().union(*(way.get(at, ()) for way in onward)) - found:
            found.add(name)
            todo.append(name)
    return found
