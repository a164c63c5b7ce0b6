"""What the motion of an emitter depends on, so that cached states are found again, and never a wrong one.

A state at a moment depends only on earlier keys and the next two (a smooth key's tangent depends on its neighbours).
"""

from __future__ import annotations

import bisect
import hashlib
import json
from collections.abc import Collection, Iterable
from dataclasses import dataclass
from typing import Any

from isbjorn.core.caching import IdentityCache
from isbjorn.core.document import Emitter, Matte, Number, Placed, Shot, Sound, Take
from isbjorn.core.document.editing.diff import look_fields, look_parts
from isbjorn.core.document.fields.references import numbers_of, references_of

_NAMES = {"name", "on"}
# Of a sound, what it drives depends on these.
_HEARD = {"on", "digest", "of_plate", "offset_s"}
_TAKEN = {"digest", "at_s", "from_s", "to_s"}
_OF_OTHERS = {"shape", "radius", "falloff", "inverted", "take", "lane"}


@dataclass(frozen=True)
class _Description:
    """A thing as JSON, as far as motion depends on it, without keys; and those, by the path of their number."""

    text: str
    keys: dict[str, list[dict[str, Any]]]


def _within(paths: Iterable[str]) -> dict[Any, Any]:
    """What Pydantic understands as the `keys` of the numbers at dotted paths."""
    found: dict[Any, Any] = {}
    for path in paths:
        at = found
        for step in path.split("."):
            at = at.setdefault(int(step) if step.isdecimal() else step, {})
        at["keys"] = True
    return found


def _description(thing: Any, exclude: Collection[str] = (), only: set[str] | None = None) -> _Description:
    """A thing but for some fields, or only some of them; without what only shows of its parts."""
    parts = {name: within for name, within in look_parts(thing).items() if name not in exclude} if only is None else {}
    keys = {
        path: [key.model_dump(mode="json") for key in number.keys]
        for path, number in numbers_of(thing)
        if number.keys
        and (top := path.split(".")[0]) not in exclude
        and (only is None or top in only)
        and not (top in parts and path.split(".")[1] in parts[top])
    }
    without = _within(keys)
    for name, looks in parts.items():
        without[name] = without.get(name, {}) | dict.fromkeys(looks, True)
    without |= dict.fromkeys(exclude, True)
    text = thing.model_dump_json(include=only, exclude=without)
    return _Description(f"{text} {sorted(keys)}", keys)


# Forces, places and sounds have one description each; an edit leaves most of them as they are.
_force: IdentityCache[_Description] = IdentityCache(lambda force: _description(force, _NAMES), what="Motion of forces")
_heard: IdentityCache[_Description] = IdentityCache(
    lambda sound: _description(sound, only=_HEARD), what="Motion of sounds"
)
_taken: IdentityCache[_Description] = IdentityCache(
    lambda take: _description(take, only=_TAKEN), what="Motion of takes"
)
# Of a matte that orders pieces, everything.
_matte: IdentityCache[_Description] = IdentityCache(
    lambda matte: _description(matte, {"name"}), what="Motion by mattes"
)
# Of another emitter, its place; and every number of it, since any may drive one of these.
_other: IdentityCache[_Description] = IdentityCache(
    lambda thing: _description(
        thing,
        only=(set(Placed.model_fields) | {p.split(".")[0] for p, _ in numbers_of(thing)} | _OF_OTHERS)
        & set(type(thing).model_fields),
    ),
    what="Motion of other things",
)


def _parts(shot: Shot, emitter: Emitter) -> tuple[dict[str, _Description], bool]:
    """The documents on which the motion of an emitter depends, by ids, its own under an empty one; and whether it uses the plate's
    sound."""
    things: dict[str, Any] = {thing.id: thing for thing in shot.things}
    forces = [f for f in shot.reaching(emitter) if f.stage != "look"]
    look = look_fields(emitter, forces)
    found = {"": _description(emitter, {*look, "end_s"})}
    # In the order of their ids: forces add up in any order.
    found |= {f.id: _force(f) for f in sorted(forces, key=lambda f: f.id)}
    todo, of_plate = [emitter, *forces], False
    while todo:
        thing = todo.pop()
        skip = look if thing is emitter else set()
        for name in [r.id for r in references_of(thing) if r.path.split(".")[0] not in skip]:
            other = things.get(name)
            if other is None or other.id in found or other is emitter:
                continue
            if isinstance(other, (Sound, Take)):
                found[other.id] = (_heard if isinstance(other, Sound) else _taken)(other)
                of_plate |= isinstance(other, Sound) and other.of_plate
                continue
            found[other.id] = _matte(other) if isinstance(other, Matte) else _other(other)
            todo.append(other)
    return found, of_plate


def needs_light(shot: Shot, emitter: Emitter) -> bool:
    """Whether an emitter reads the plate's brightness."""
    if emitter.shape.reads_plate or (
        emitter.pieces is not None and (emitter.pieces.reads_plate or emitter.pieces.reads_pictures)
    ):
        return True
    forces = shot.reaching(emitter)
    if any(f.reads_plate for f in forces):
        return True
    return any(n.source is not None and n.source.measure == "plate" for _, n in numbers_of(emitter))


def reads_pictures(emitter: Emitter) -> bool:
    """Whether an emitter's motion or its looks depend on picture files, besides what its bodies show."""
    pieces = emitter.pieces
    if pieces is None:
        return False
    into = pieces.assemble.into if pieces.assemble is not None else None
    shows = any(shape is not None and bool(shape.pictures) for shape in (emitter.shape, into))
    return pieces.reads_pictures or (pieces.cut == "points" and emitter.colour_by == "source" and shows)


def reads_plate(shot: Shot, emitter: Emitter) -> bool:
    """Whether an emitter's motion or its looks depend on the plate, or on other pictures."""
    return emitter.colour_by == "plate" or needs_light(shot, emitter) or reads_pictures(emitter)


class Identity:
    """motion: of everything but keys and the end of births. `at(t)`: of those, as far as they matter up to shot time t."""

    def __init__(self, shot: Shot, emitter: Emitter, limit: int | None) -> None:
        parts, of_plate = _parts(shot, emitter)
        self._keys = {f"{name}.{path}": keys for name, part in parts.items() for path, keys in part.keys.items()}
        self._end_s, self._delay_s = emitter.end_s, emitter.delay_s
        frame: list[Any] = [
            shot.seed,
            shot.simulation_rate,
            limit,
            shot.px_per_metre,
            str(shot.length_s) if shot.loop else None,
        ]
        if emitter.rate_per == "frame":
            frame.append(shot.rate)
        if of_plate:
            frame.append(shot.plate.offset_s if shot.plate else 0.0)
        if needs_light(shot, emitter):
            frame.append(
                [shot.width, shot.height, shot.plate.model_dump(mode="json") if shot.plate else None, shot.rate]
            )
        if any(f.differs_by_emitter for f in shot.reaching(emitter)):
            frame.append([e.id for e in shot.emitters].index(emitter.id))
        self.motion = hashlib.sha256(
            json.dumps([frame, {name: part.text for name, part in parts.items()}], sort_keys=True).encode()
        ).hexdigest()
        moments = {k["at_s"] for keys in self._keys.values() for k in keys}
        end = [] if self._end_s is None else [self._end_s + self._delay_s]
        self._moments = sorted({*moments, *end})
        self._loops = shot.loop
        self._known: dict[tuple[int, bool], str] = {}

    def at(self, t: float) -> str:
        """The value of keys and of the end of births, as far as they matter up to shot time t."""
        if self._loops:
            t = float("inf")
        over = self._end_s is not None and self._end_s + self._delay_s <= t
        cell = (bisect.bisect_left(self._moments, t), over)
        if cell not in self._known:
            known_keys: dict[str, Any] = {}
            for path, keys in self._keys.items():
                known_keys[path] = keys[: bisect.bisect_left([k["at_s"] for k in keys], t) + 2]
            known_keys["end"] = self._end_s if over else None
            self._known[cell] = hashlib.sha256(json.dumps(known_keys, sort_keys=True).encode()).hexdigest()
        return self._known[cell]


def is_measured(number: Number) -> bool:
    """Whether a number is driven by what is measured of the particles."""
    return number.source is not None and number.source.measure not in ("number", "sound")
