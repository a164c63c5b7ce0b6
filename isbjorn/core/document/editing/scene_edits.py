"""Changes of the cast that keep every tie whole: adding, copying, taking out, and planting what was kept elsewhere."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

from isbjorn.core.document import Control, Emitter, Group, Lamp, Link, Marker, Matte, Shot, Sound, Take, Zone
from isbjorn.core.document.fields.base import new_id
from isbjorn.core.document.fields.kinds import FORCES
from isbjorn.core.document.fields.references import LISTS, retied, ties_of
from isbjorn.core.document.files import parse_shot
from isbjorn.core.errors import IsbjornError

_LISTED: dict[type, str] = {
    Emitter: "emitters", Zone: "zones", Marker: "markers", Lamp: "lights", Matte: "mattes", Group: "groups", Sound: "sounds",
    Control: "controls", Take: "takes",
}  # fmt: skip
_MADE: dict[str, Callable[..., Any]] = {
    "zone": Zone,
    "marker": Marker,
    "light": Lamp,
    "matte": Matte,
    "group": Group,
    "control": Control,
}


def list_of(thing: Any) -> str:
    """The field of the shot that contains a thing."""
    for kind, field in _LISTED.items():
        if isinstance(thing, kind):
            return field
    return "forces"


def free_name(shot: Shot, name: str) -> str:
    """A name that nothing in the cast has: this one, or this one with a number."""
    return _free({thing.name for thing in shot.things}, name)


def _free(names: set[str], name: str) -> str:
    found, number = name, 2
    while found in names:
        found, number = f"{name[:70]} {number}", number + 1
    return found


def _with(shot: Shot, thing: Any, links: tuple[Link, ...] = ()) -> Shot:
    field = list_of(thing)
    return shot.model_copy(update={field: (*getattr(shot, field), thing), "links": (*shot.links, *links)})


def _new(kind: str, new_emitter: Callable[[], Emitter]) -> Any:
    force = FORCES.named(kind)
    if kind == "emitter":
        return new_emitter()
    if force is None and kind not in _MADE:
        known = ", ".join(["emitter", *_MADE, *(name for one in FORCES for name in one.names)])
        raise IsbjornError(f"'{kind[:60]}' is not a kind of thing.", "kind", f"Use one of: {known}.")
    return (force.model if force is not None else _MADE[kind])()


def added(shot: Shot, kind: str, new_emitter: Callable[[], Emitter]) -> Shot:
    """The shot with a new thing. A new force reaches every emitter, and every force reaches a new emitter.

    Some come with others: a kill zone with the zone that it empties. Raises IsbjornError for a kind that there is not.
    """
    thing = _new(kind, new_emitter)
    update: dict[str, Any] = {"id": new_id(list_of(thing)[:-1]), "name": free_name(shot, thing.name)}
    if kind == "emitter":
        update["seed"] = max((e.seed for e in shot.emitters), default=0) + 1
    elif list_of(thing) == "forces":
        thing, others = thing.placed_new(shot.height)
        for other in others:
            shot = _with(shot, other.model_copy(update={"name": free_name(shot, other.name)}))
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
    """A thing of the cast, as data, mirrored about the picture's centre: places, directions, paths, turns.

    across: swap left and right; up: swap above and below.
    """
    x = 0 if axis == "across" else 1
    # In depth, only turns about the axis along which it is mirrored stay.
    turned = (
        ("turn", "spin", axis, "turn_y", "spin_y") if axis == "across" else ("turn", "spin", axis, "turn_x", "spin_x")
    )

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
                # A body that faces right faces left; one aligned with an axis stays aligned.
                found[name] = _mirrored_number(value, 180.0 if axis == "across" and name == "direction" else 0.0)
            elif name in turned and isinstance(value, dict) and "spread_shape" in value:
                found[name] = _mirrored_number(value, 0.0)
            else:
                found[name] = part(value)
        return found

    made = part(thing)
    force = FORCES.named(str(thing.get("kind", "")))
    for name in getattr(force.model, "mirrored", ()) if force is not None and "frame" in thing else ():
        made[name] = _mirrored_number(made[name], 0.0)
    return made


def copied_with_ties(shot: Shot, emitter_id: str, mirror: Axis | None = None) -> Shot:
    """The shot with a copy of an emitter and all that it depends on (forces, zones, markers, lights, mattes); mirrored, if asked.

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
        raise IsbjornError("nothing in the cast has this id.", thing_id, "Nothing was changed.")
    update: dict[str, Any] = {"id": new_id(list_of(old)[:-1]), "name": free_name(shot, old.name)}
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


def taken_out(shot: Shot, thing_id: str) -> Shot:
    """The shot without a thing: things that it carried stay in place, numbers that it drove keep their plain value."""
    fewer = {field: tuple(t for t in getattr(shot, field) if t.id != thing_id) for field in LISTS}
    left = retied(shot.model_copy(update=fewer), lambda name: None if name == thing_id else name)
    assert left is not None
    given = left.model_dump(mode="json")
    for emitter in given["emitters"]:
        if emitter["colour_by"] == "distance" and emitter["colour_of"] is None:
            emitter["colour_by"] = "age"
    return parse_shot(given)


def alone(shot: Shot, emitter_id: str) -> Shot:
    """A shot of one emitter with everything that it depends on, and nothing else: the content of a library item."""
    emitter = next((e for e in shot.emitters if e.id == emitter_id), None)
    if emitter is None:
        raise IsbjornError("no emitter in the cast has this id.", emitter_id, "Nothing was saved.")
    found = shot.model_copy(update={"plate": None})
    # Its parent, and the parent's parent, are there with everything that moves them.
    emitters, line = {e.id: e for e in shot.emitters}, [emitter]
    while line[-1].born_of in emitters:
        line.append(emitters[line[-1].born_of])
    moved = {name for e in line for name in (e.id, e.group)}
    reached = {x.force for x in shot.links if x.emitter in moved}
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
    mine = {e.id for e in line}
    others = tuple(e if e.id in mine else e.model_copy(update={"on": False}) for e in found.emitters)
    return found.model_copy(update={"emitters": others, "name": emitter.name})


def planted(shot: Shot, kept: Shot) -> tuple[Shot, str]:
    """The shot with everything of a kept one, under new ids and free names; and the id of the emitter that was kept."""
    new = {thing.id: new_id(field[:-1]) for field in LISTS for thing in getattr(kept, field)}
    names = {thing.name for thing in shot.things}
    update: dict[str, Any] = {}
    for field in LISTS:
        things = []
        for thing in getattr(kept, field):
            name = _free(names, thing.name)
            names.add(name)
            # Under their new ids, forces keep their draws: what is planted twice moves alike.
            more = {"draws": thing.own_draws} if field == "forces" else {}
            tied: Any = retied(thing, lambda target: new.get(target, target))
            things.append(tied.model_copy(update={"id": new[thing.id], "name": name, **more}))
        update[field] = (*getattr(shot, field), *things)
    links = [retied(link, lambda target: new.get(target, target)) for link in kept.links]
    update["links"] = (*shot.links, *(link for link in links if link is not None))
    # What it only depends on is off.
    kept_for = [e.id for e in kept.emitters if e.on] or [e.id for e in kept.emitters]
    whole = parse_shot(shot.model_copy(update=update).model_dump(mode="json"))
    return whole, new[kept_for[-1]] if kept_for else ""
