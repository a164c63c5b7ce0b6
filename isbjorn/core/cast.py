"""Changes of the cast that keep every tie whole: adding, copying, taking out, and planting what was kept elsewhere."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

from isbjorn.core.document import (
    Attractor,
    Displacement,
    Drag,
    Emitter,
    Follow,
    Gravity,
    Group,
    Lamp,
    Link,
    Marker,
    Matte,
    Remove,
    Shot,
    Surface,
    Turbulence,
    Vortex,
    Wind,
    Zone,
)
from isbjorn.core.document.base import new_id
from isbjorn.core.document.files import parse_shot
from isbjorn.core.document.ties import ties_of
from isbjorn.core.errors import IsbjornError

ForceKind = Literal[
    "gravity", "wind", "drag", "turbulence", "displacement", "vortex", "attractor", "follow", "surface", "remove"
]
Kind = ForceKind | Literal["emitter", "zone", "marker", "light", "matte", "group"]
LISTS = ("emitters", "forces", "zones", "markers", "lights", "mattes", "groups")
_LISTED: dict[type, str] = {
    Emitter: "emitters", Zone: "zones", Marker: "markers", Lamp: "lights", Matte: "mattes", Group: "groups",
}  # fmt: skip
_MADE: dict[str, Callable[..., Any]] = {
    "gravity": Gravity, "wind": Wind, "drag": Drag, "turbulence": Turbulence, "displacement": Displacement, "vortex": Vortex,
    "attractor": Attractor, "follow": Follow, "surface": Surface, "remove": Remove, "zone": Zone, "marker": Marker,
    "light": Lamp, "matte": Matte, "group": Group,
}  # fmt: skip
_TIES = {"id", "carried_by", "zone", "thing", "force", "emitter", "group", "colour_of", "of", "hidden_by"}


def list_of(thing: Any) -> str:
    """The field of the shot in which a thing stands."""
    for kind, field in _LISTED.items():
        if isinstance(thing, kind):
            return field
    return "forces"


def _free_name(shot: Shot, name: str) -> str:
    return _free({thing.name for thing in shot.things}, name)


def _free(names: set[str], name: str) -> str:
    found, number = name, 2
    while found in names:
        found, number = f"{name[:70]} {number}", number + 1
    return found


def _with(shot: Shot, thing: Any, links: tuple[Link, ...] = ()) -> Shot:
    field = list_of(thing)
    return shot.model_copy(update={field: (*getattr(shot, field), thing), "links": (*shot.links, *links)})


def added(shot: Shot, kind: Kind, new_emitter: Callable[[], Emitter]) -> Shot:
    """The shot with a new thing. A new force reaches every emitter, and every force reaches a new emitter.

    A kill zone comes with the zone that it empties.
    """
    thing = new_emitter() if kind == "emitter" else _MADE[kind]()
    update: dict[str, Any] = {"id": new_id(list_of(thing)[:-1]), "name": _free_name(shot, thing.name)}
    if kind == "emitter":
        update["seed"] = max((e.seed for e in shot.emitters), default=0) + 1
    elif kind == "surface":
        # Under everything, where it does no harm yet.
        update["up"] = thing.up.model_copy(update={"value": -0.4 * shot.height})
    elif kind == "remove":
        zone = Zone(name=_free_name(shot, "Emptied region"))
        shot, update["zone"] = _with(shot, zone), zone.id
    made = thing.model_copy(update=update)
    match list_of(made):
        case "emitters":
            links = tuple(Link(force=f.id, emitter=made.id) for f in shot.forces)
        case "forces":
            links = tuple(Link(force=made.id, emitter=e.id) for e in shot.emitters)
        case _:
            links = ()
    return parse_shot(_with(shot, made, links).model_dump(mode="json"))


Axis = Literal["across", "up"]


def _mirrored_number(number: Any, whole: float) -> Any:
    """A number, as data, turned round: x becomes whole - x, at every key and by what is added."""
    found = {
        **number,
        "value": whole - number["value"],
        "keys": [{**k, "value": whole - k["value"]} for k in number["keys"]],
    }
    source = number.get("source")
    if source is not None and source["combine"] == "add":
        found["source"] = {**source, "makes_low": -source["makes_low"], "makes_high": -source["makes_high"]}
    flutter = number.get("flutter")
    if flutter is not None and flutter["combine"] == "add":
        found["flutter"] = {**flutter, "amount": -flutter["amount"]}
    return found


def mirrored(thing: Any, axis: Axis) -> Any:
    """A thing of the cast, as data, as a mirror shows it that stands in the picture's middle: places, directions, paths, turns.

    across: left and right change sides; up: above and below.
    """
    x = 0 if axis == "across" else 1

    def point(p: Any) -> Any:
        found = {**p, "xy"[x]: -p["xy"[x]]}
        for handle in ("arrive", "leave"):
            pair = list(p[handle])
            pair[x] = -pair[x]
            found[handle] = pair
        return found

    def part(given: Any) -> Any:
        if isinstance(given, list):
            return [part(one) for one in given]
        if not isinstance(given, dict):
            return given
        found = {}
        for name, value in given.items():
            if (
                name == "points"
                and value
                and isinstance(value, list)
                and isinstance(value[0], dict)
                and "arrive" in value[0]
            ):
                found[name] = [point(p) for p in value]
            elif name in ("direction", "angle") and isinstance(value, dict) and "spread_shape" in value:
                # What faces right faces left; what lies along an axis lies along it still.
                found[name] = _mirrored_number(value, 180.0 if axis == "across" and name == "direction" else 0.0)
            elif name in ("turn", "spin", axis) and isinstance(value, dict) and "spread_shape" in value:
                found[name] = _mirrored_number(value, 0.0)
            else:
                found[name] = part(value)
        if given.get("kind") == "vortex":
            found["strength"] = _mirrored_number(found["strength"], 0.0)
        return found

    return part(thing)


def copied_with_ties(shot: Shot, emitter_id: str, mirror: Axis | None = None) -> Shot:
    """The shot with a copy of an emitter and of all that it hangs on (forces, zones, markers, lights, mattes); mirrored, if asked.

    Its group stays the one that it is in. Raises IsbjornError for an emitter that is not in the cast.
    """
    kept = alone(shot, emitter_id)
    emitter = next(e for e in kept.emitters if e.id == emitter_id)
    group = emitter.group
    seed = max(e.seed for e in shot.emitters) + 1
    bare = emitter.model_copy(update={"group": None, "seed": seed})
    links = tuple(Link(force=f.id, emitter=emitter_id) for f in shot.reaching(emitter))
    kept = kept.model_copy(
        update={
            "emitters": tuple(bare if e.id == emitter_id else e for e in kept.emitters),
            "groups": (),
            "links": links,
        }
    )
    if mirror is not None:
        given = kept.model_dump(mode="json")
        for field in LISTS:
            given[field] = [mirrored(thing, mirror) for thing in given[field]]
        kept = parse_shot(given)
    made, new_id_of = planted(shot, kept)
    if group is None:
        return made
    emitters = tuple(e.model_copy(update={"group": group}) if e.id == new_id_of else e for e in made.emitters)
    return parse_shot(made.model_copy(update={"emitters": emitters}).model_dump(mode="json"))


def copied(shot: Shot, thing_id: str, mirror: Axis | None = None) -> Shot:
    """The shot with a copy of a thing, which keeps its reach; mirrored, if asked. Raises IsbjornError if it is not in the cast."""
    old = next((t for t in shot.things if t.id == thing_id), None)
    if old is None:
        raise IsbjornError("there is nothing of that id in the cast.", thing_id, "Nothing was changed.")
    update: dict[str, Any] = {"id": new_id(list_of(old)[:-1]), "name": _free_name(shot, old.name)}
    if isinstance(old, Emitter):
        update["seed"] = max(e.seed for e in shot.emitters) + 1
    elif list_of(old) == "forces":
        update["draws"] = getattr(old, "own_draws", None)
    links = tuple(
        Link(
            force=update["id"] if x.force == old.id else x.force,
            emitter=update["id"] if x.emitter == old.id else x.emitter,
        )
        for x in shot.links
        if old.id in (x.force, x.emitter)
    )
    made = _with(shot, old.model_copy(update=update), links).model_dump(mode="json")
    if mirror is not None:
        made[list_of(old)][-1] = mirrored(made[list_of(old)][-1], mirror)
    return parse_shot(made)


def _untied(part: Any, gone: str) -> Any:
    """Data without ties to a thing that is gone."""
    if isinstance(part, list):
        return [_untied(one, gone) for one in part]
    if not isinstance(part, dict):
        return part
    found = {name: _untied(value, gone) for name, value in part.items()}
    for field in ("carried_by", "zone", "group", "colour_of", "of"):
        if found.get(field) == gone:
            found[field] = None
    if found.get("colour_by") == "distance" and found.get("colour_of") is None:
        found["colour_by"] = "age"
    if isinstance(found.get("hidden_by"), list):
        found["hidden_by"] = [name for name in found["hidden_by"] if name != gone]
    source = found.get("source")
    if isinstance(source, dict) and (source.get("thing") or "").partition(".")[0] == gone:
        found["source"] = None
    return found


def taken_out(shot: Shot, thing_id: str) -> Shot:
    """The shot without a thing: what it carried stays by itself, what it drove keeps its plain value."""
    given = shot.model_dump(mode="json")
    for field in LISTS:
        given[field] = [thing for thing in given[field] if thing["id"] != thing_id]
    given["links"] = [x for x in given["links"] if thing_id not in (x["force"], x["emitter"])]
    return parse_shot(_untied(given, thing_id))


def alone(shot: Shot, emitter_id: str) -> Shot:
    """A shot of one emitter with all that it hangs on, and nothing else: what is kept in a library."""
    emitter = next((e for e in shot.emitters if e.id == emitter_id), None)
    if emitter is None:
        raise IsbjornError("there is no emitter of that id in the cast.", emitter_id, "Nothing was kept.")
    found = shot.model_copy(update={"plate": None})
    reached = {x.force for x in shot.links if x.emitter in (emitter_id, emitter.group)}
    drop = [f.id for f in shot.forces if f.id not in reached]
    keep = {emitter_id, *reached}
    things: dict[str, Any] = {t.id: t for t in shot.things}
    todo = list(keep)
    while todo:
        for name in ties_of(things[todo.pop()]):
            if name not in keep and name not in drop:
                keep.add(name)
                todo.append(name)
    for name in things:
        if name not in keep:
            found = taken_out(found, name)
    others = tuple(e if e.id == emitter_id else e.model_copy(update={"on": False}) for e in found.emitters)
    return found.model_copy(update={"emitters": others, "name": emitter.name})


def planted(shot: Shot, kept: Shot) -> tuple[Shot, str]:
    """The shot with everything of a kept one, under new ids and free names; and the id of the emitter that was kept."""
    # Under their new ids, forces keep their draws: what is planted twice moves alike.
    steady = kept.model_copy(update={"forces": tuple(f.model_copy(update={"draws": f.own_draws}) for f in kept.forces)})
    given, onto = steady.model_dump(mode="json"), shot.model_dump(mode="json")
    fields = LISTS
    new = {thing["id"]: new_id(field[:-1]) for field in fields for thing in given[field]}

    def renamed(part: Any, field: str = "") -> Any:
        if isinstance(part, list):
            return [renamed(one, field) for one in part]
        if isinstance(part, dict):
            return {name: renamed(value, name) for name, value in part.items()}
        if isinstance(part, str) and field in _TIES:
            head, dot, rest = part.partition(".")
            return new[head] + dot + rest if head in new else part
        return part

    names = {thing.name for thing in shot.things}
    for field in fields:
        for thing in given[field]:
            name = _free(names, thing["name"])
            names.add(name)
            onto[field].append(renamed(thing) | {"name": name})
    onto["links"] += renamed(given["links"])
    # What it only hangs on is off.
    kept_for = [e.id for e in kept.emitters if e.on] or [e.id for e in kept.emitters]
    return parse_shot(onto), new[kept_for[-1]] if kept_for else ""
