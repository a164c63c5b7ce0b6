"""What the motion of an emitter hangs on, so that kept states are found again, and never a wrong one.

A state at a moment hangs only on the keys before it and the two from it on (a smooth key's tangent reaches to its neighbours).
"""

from __future__ import annotations

import bisect
import hashlib
import json
from typing import Any

from isbjorn.core.document import Emitter, FromPlate, Number, Placed, Shot, Sound, Take
from isbjorn.core.document.changes import look_fields, look_parts
from isbjorn.core.document.forces import Noise
from isbjorn.core.document.references import numbers_of, references_of

_NAMES = {"name", "on"}
# Of a sound, what it drives hangs on these.
_HEARD = {"on", "digest", "of_plate", "offset_s"}
_TAKEN = {"digest", "at_s", "from_s", "to_s"}


def _told(thing: Any, exclude: set[str]) -> dict[str, Any]:
    parts = {name: within for name, within in look_parts(thing).items() if name not in exclude}
    found: dict[str, Any] = thing.model_dump(mode="json", exclude={**dict.fromkeys(exclude, True), **parts})
    return found


def _parts(shot: Shot, emitter: Emitter) -> dict[str, Any]:
    things: dict[str, Any] = {thing.id: thing for thing in shot.things}
    forces = [f for f in shot.reaching(emitter) if f.stage != "look"]
    look = look_fields(emitter, forces)
    found: dict[str, Any] = {"": _told(emitter, look)}
    # In the order of their ids: forces add up in any order.
    found |= {f.id: _told(f, _NAMES) for f in sorted(forces, key=lambda f: f.id)}
    todo = [emitter, *forces]
    while todo:
        thing = todo.pop()
        skip = look if thing is emitter else set()
        for name in [r.id for r in references_of(thing) if r.path.split(".")[0] not in skip]:
            other = things.get(name)
            if other is None or other.id in found or other is emitter:
                continue
            if isinstance(other, (Sound, Take)):
                found[other.id] = other.model_dump(mode="json", include=_HEARD if isinstance(other, Sound) else _TAKEN)
                continue
            # Of another emitter, its place; and every number of it, since any may drive one of these.
            keep = set(Placed.model_fields) | {p.split(".")[0] for p, _ in numbers_of(other)}
            found[other.id] = other.model_dump(
                mode="json", include=keep | {"shape", "radius", "falloff", "inverted", "take", "lane"}
            )
            todo.append(other)
    return found


def needs_light(shot: Shot, emitter: Emitter) -> bool:
    """Whether an emitter reads the plate's brightness."""
    if isinstance(emitter.shape, FromPlate):
        return True
    forces = shot.reaching(emitter)
    if any(f.reads_plate for f in forces):
        return True
    return any(n.source is not None and n.source.measure == "plate" for _, n in numbers_of(emitter))


def reads_plate(shot: Shot, emitter: Emitter) -> bool:
    """Whether an emitter's motion or its looks hang on the plate."""
    return emitter.colour_by == "plate" or needs_light(shot, emitter)


class Identity:
    """motion: of everything but keys and the end of births. `at(t)`: of those, as far as they matter up to shot time t."""

    def __init__(self, shot: Shot, emitter: Emitter, limit: int | None) -> None:
        parts = _parts(shot, emitter)
        self._keys: dict[str, list[dict[str, Any]]] = {}
        for name, part in parts.items():
            self._lift(name, part)
        self._end_s = parts[""].pop("end_s")
        self._delay_s = emitter.delay_s
        frame: list[Any] = [
            shot.seed,
            shot.simulation_rate,
            limit,
            shot.px_per_metre,
            str(shot.length_s) if shot.loop else None,
        ]
        if emitter.rate_per == "frame":
            frame.append(shot.rate)
        if any(part.get("of_plate") for part in parts.values()):
            frame.append(shot.plate.offset_s if shot.plate else 0.0)
        if needs_light(shot, emitter):
            frame.append(
                [shot.width, shot.height, shot.plate.model_dump(mode="json") if shot.plate else None, shot.rate]
            )
        if any(isinstance(f, Noise) and (f.apart.value or f.apart.timed) for f in shot.reaching(emitter)):
            frame.append([e.id for e in shot.emitters].index(emitter.id))
        self.motion = hashlib.sha256(json.dumps([frame, parts], sort_keys=True).encode()).hexdigest()
        moments = {k["at_s"] for keys in self._keys.values() for k in keys}
        end = [] if self._end_s is None else [self._end_s + self._delay_s]
        self._moments = sorted({*moments, *end})
        self._loops = shot.loop
        self._known: dict[tuple[int, bool], str] = {}

    def _lift(self, path: str, part: Any) -> None:
        """Take the keys out of a dumped part, and remember them by their place."""
        if isinstance(part, dict):
            if "over_life_to" in part and part.get("keys"):
                self._keys[path] = part["keys"]
                part["keys"] = "keyed"
            for name, value in part.items():
                self._lift(f"{path}.{name}", value)
        elif isinstance(part, list):
            for number, value in enumerate(part):
                self._lift(f"{path}.{number}", value)

    def at(self, t: float) -> str:
        """What keys and the end of births come to, as far as they matter up to shot time t."""
        if self._loops:
            t = float("inf")
        over = self._end_s is not None and self._end_s + self._delay_s <= t
        cell = (bisect.bisect_left(self._moments, t), over)
        if cell not in self._known:
            told: dict[str, Any] = {}
            for path, keys in self._keys.items():
                told[path] = keys[: bisect.bisect_left([k["at_s"] for k in keys], t) + 2]
            told["end"] = self._end_s if over else None
            self._known[cell] = hashlib.sha256(json.dumps(told, sort_keys=True).encode()).hexdigest()
        return self._known[cell]


def is_measured(number: Number) -> bool:
    """Whether a number is driven by what is measured of the particles."""
    return number.source is not None and number.source.measure not in ("number", "sound")
