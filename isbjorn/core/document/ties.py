"""Ties between things of the cast: who carries whom, what drives what, which zone a force acts in. None may be loose or round."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any, Protocol

from pydantic_core import PydanticCustomError

from isbjorn.core.document.base import Part
from isbjorn.core.document.values import Number


class _Cast(Protocol):
    @property
    def things(self) -> tuple[Any, ...]: ...


def numbers_of(part: Part, path: str = "") -> Iterator[tuple[str, Number]]:
    """Every number within a part, with its dotted path."""
    for name in type(part).model_fields:
        value = getattr(part, name)
        if isinstance(value, Number):
            yield f"{path}{name}", value
        elif isinstance(value, Part):
            yield from numbers_of(value, f"{path}{name}.")
        elif isinstance(value, tuple):
            for n, one in enumerate(value):
                if isinstance(one, Part):
                    yield from numbers_of(one, f"{path}{name}.{n}.")


def number_at(things: Mapping[str, Any], tie: str) -> Number | None:
    """The number that `id.field` or `id.part.field` names; None if there is none."""
    name, _, path = tie.partition(".")
    found = things.get(name)
    for part in path.split("."):
        if isinstance(found, tuple):
            found = found[int(part)] if part.isdigit() and int(part) < len(found) else None
        else:
            found = getattr(found, part, None) if isinstance(found, Part) else None
    return found if isinstance(found, Number) else None


def ties_of(thing: Any) -> set[str]:
    """The ids of the things that a thing hangs on: its carrier, its zone, what drives its numbers."""
    found = {getattr(thing, name, None) for name in ("carried_by", "zone", "group", "colour_of")}
    found |= {*getattr(thing, "hidden_by", ()), getattr(getattr(thing, "use", None), "of", None)} - {"plate"}
    found |= {n.source.thing.partition(".")[0] for _, n in numbers_of(thing) if n.source is not None and n.source.thing}
    return {name for name in found if name is not None}


def _round(start: str, onward: Mapping[str, str | None]) -> bool:
    at, seen = onward.get(start), {start}
    while at is not None:
        if at in seen:
            return True
        seen.add(at)
        at = onward.get(at)
    return False


def _check_layer(thing: Any, things: Mapping[str, Any], kinds: Mapping[str, set[str]]) -> None:
    """Raise a PydanticCustomError if what says how a layer is drawn names something that is not there."""
    use, emitters, groups = getattr(thing, "use", None), kinds.get("Emitter", set()), kinds.get("Group", set())
    wanted: list[tuple[str, str | None, set[str]]] = [
        ("is in the group", getattr(thing, "group", None), groups),
        ("measures its colour to", getattr(thing, "colour_of", None), set(things) - groups),
        ("works on", None if use is None or use.of == "plate" else use.of, (emitters | groups) - {thing.id}),
        *(("is hidden by", name, kinds.get("Matte", set())) for name in getattr(thing, "hidden_by", ())),
    ]
    for what, name, there in wanted:
        if name is not None and name not in there:
            raise PydanticCustomError(
                "loose_layer", "{t} {w} {n}, which is not there", {"t": thing.name, "w": what, "n": name}
            )


def check_ties(shot: _Cast) -> None:
    """Raise a PydanticCustomError for the first tie that is loose or goes round."""
    things = {thing.id: thing for thing in shot.things}
    placed = {name for name, thing in things.items() if hasattr(thing, "across")}
    carriers = {name: getattr(thing, "carried_by", None) for name, thing in things.items()}
    driven: dict[str, str | None] = {}
    kinds: dict[str, set[str]] = {}
    for thing in things.values():
        kinds.setdefault(type(thing).__name__, set()).add(thing.id)
    zones = kinds.get("Zone", set())
    for name, thing in things.items():
        carrier = carriers[name]
        if carrier is not None and carrier not in placed:
            raise PydanticCustomError(
                "loose_carrier", "{t} is carried by {c}, which is not in the cast", {"t": thing.name, "c": carrier}
            )
        if _round(name, carriers):
            raise PydanticCustomError(
                "carried_round", "{t} would carry itself; choose another carrier", {"t": thing.name}
            )
        zone = getattr(thing, "zone", None)
        if zone is not None and zone not in zones:
            raise PydanticCustomError(
                "loose_zone", "{t} acts in the zone {z}, which is not in the cast", {"t": thing.name, "z": zone}
            )
        _check_layer(thing, things, kinds)
        for path, number in numbers_of(thing):
            source = number.source
            if source is None or source.thing is None:
                continue
            where = f"{thing.name}, {path}"
            if source.measure == "distance" and source.thing not in placed:
                raise PydanticCustomError(
                    "loose_source",
                    "{w}: the distance is to {s}, which is not in the cast",
                    {"w": where, "s": source.thing},
                )
            if source.measure == "number":
                if number_at(things, source.thing) is None:
                    raise PydanticCustomError(
                        "loose_source", "{w}: there is no number {s} in the cast", {"w": where, "s": source.thing}
                    )
                driven[f"{name}.{path}"] = source.thing
    for tie in driven:
        if _round(tie, driven):
            raise PydanticCustomError("driven_round", "{t} would drive itself; choose another number", {"t": tie})
