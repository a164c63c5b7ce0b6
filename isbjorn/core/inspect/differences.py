"""What differs between two states of a shot, in words."""

from __future__ import annotations

from typing import Any

from isbjorn.core.document import Number, Shot
from isbjorn.core.document.fields.base import Part

_LISTS = {
    "emitters": "emitter", "forces": "force", "zones": "zone", "markers": "marker", "lights": "light", "mattes": "matte",
    "groups": "group",
}  # fmt: skip
_MOST = 200


def _label(part: Part, field: str) -> str:
    title = "switch" if field == "on" else str(type(part).model_fields[field].title or field)
    return title[0].lower() + title[1:]


def _unit(owner: type[Part], field: str) -> str:
    units = (
        [m.unit for m in owner.model_fields[field].metadata if hasattr(m, "unit")]
        if field in owner.model_fields
        else []
    )
    return f" {units[0]}" if units and units[0] else ""


def _number(before: Number, after: Number, name: str, unit: str) -> list[str]:
    found = []
    if before.value != after.value:
        found.append(f"{name} {before.value:g} → {after.value:g}{unit}")
    if before.spread != after.spread:
        found.append(f"variation of {name} {before.spread:g} → {after.spread:g}{unit}")
    drivers = (
        ("over_life", "curve over life"),
        ("over_life_to", "second curve"),
        ("flutter", "flutter"),
        ("source", "source"),
    )
    for field, word in drivers:
        a, b = getattr(before, field), getattr(after, field)
        if a != b:
            found.append(f"{name}: {word} {'added' if a is None else 'taken away' if b is None else 'changed'}")
    if before.keys != after.keys:
        a, b = len(before.keys), len(after.keys)
        found.append(f"{name}: {f'{a} → {b} keys' if a != b else 'keys changed'}")
    for field, word in (("spread_shape", "shape of its variation"), ("reads", "the moment at which it is read")):
        if getattr(before, field) != getattr(after, field):
            found.append(f"{name}: {word} {getattr(before, field)} → {getattr(after, field)}")
    return found


def _value(value: Any) -> str:
    if value is None:
        return "nothing"
    if isinstance(value, bool):
        return "on" if value else "off"
    return f"{value:g}" if isinstance(value, float) else str(value)


def _part(before: Part, after: Part, within: str = "") -> list[str]:
    if type(before) is not type(after):
        return [f"{within.strip() or 'kind'} {_kind(before)} → {_kind(after)}"]
    found: list[str] = []
    for field in type(before).model_fields:
        a, b = getattr(before, field), getattr(after, field)
        if a == b or field == "id":
            continue
        name = f"{within}{_label(before, field)}"
        if isinstance(a, Number) and isinstance(b, Number):
            found += _number(a, b, name, _unit(type(before), field))
        elif isinstance(a, Part) and isinstance(b, Part):
            found += _part(a, b, f"{name} ")
        elif isinstance(a, Part) or isinstance(b, Part):
            found.append(f"{name} {'added' if a is None else 'taken away'}")
        elif isinstance(a, tuple) and isinstance(b, tuple):
            found += _tuple(a, b, name)
        elif isinstance(a, str) and len(a) + len(str(b)) > 120:
            found.append(f"{name} changed")
        else:
            found.append(f"{name} {_value(a)} → {_value(b)}")
    return found


def _kind(part: Part) -> str:
    return str(getattr(part, "kind", type(part).__name__.lower()))


def _tuple(before: tuple[Any, ...], after: tuple[Any, ...], name: str) -> list[str]:
    if len(before) == len(after) and all(
        isinstance(x, Part) and type(x) is type(y) for x, y in zip(before, after, strict=True)
    ):
        if all(hasattr(x, "kind") for x in before):
            return [
                text
                for x, y in zip(before, after, strict=True)
                if x != y
                for text in _part(x, y, f"{name}: {_kind(x)} ")
            ]
        return [f"{name} changed"]
    if len(before) != len(after):
        kinds = [[_kind(x) for x in side if hasattr(x, "kind")] for side in (before, after)]
        if any(kinds):
            return [f"{name} {', '.join(kinds[0]) or 'none'} → {', '.join(kinds[1]) or 'none'}"]
        return [f"{name}: {len(before)} → {len(after)}"]
    return [f"{name} changed"]


def differences(before: Shot, after: Shot) -> list[str]:
    """Each difference from one state of a shot to another as a short line; at most 200."""
    found: list[str] = []
    for field, kind in _LISTS.items():
        old = {thing.id: thing for thing in getattr(before, field)}
        new = {thing.id: thing for thing in getattr(after, field)}
        found += [f"{thing.name}: {kind} removed" for name, thing in old.items() if name not in new]
        found += [f"{thing.name}: {kind} added" for name, thing in new.items() if name not in old]
        for name, thing in new.items():
            if name in old and old[name] != thing:
                found += [f"{thing.name}: {text}" for text in _part(old[name], thing)]
        both = [name for name in old if name in new]
        if both != [name for name in new if name in old]:
            found.append(f"Shot: order of the {field} changed")
    names = {t.id: t.name for t in (*before.things, *after.things)}
    links = [{(x.force, x.emitter) for x in shot.links} for shot in (before, after)]
    found += [
        f"{names[f]} no longer reaches {names[e]}" for f, e in sorted(links[0] - links[1]) if f in names and e in names
    ]
    found += [f"{names[f]} now reaches {names[e]}" for f, e in sorted(links[1] - links[0])]
    rest = [shot.model_copy(update={**dict.fromkeys(_LISTS, ()), "links": ()}) for shot in (before, after)]
    found += [f"Shot: {text}" for text in _part(rest[0], rest[1])]
    return found[:_MOST]
