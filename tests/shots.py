"""Shots that tests begin from."""

from __future__ import annotations

from typing import Any

import numpy as np

from isbjorn.core import Shot
from isbjorn.core.document import Emitter
from isbjorn.core.emit.births import Births, births_of
from isbjorn.core.emit.newborn import BirthSource
from isbjorn.core.evaluate.readings import Readings

KEY = 12345


def one_emitter(**changes: Any) -> Shot:
    """A shot of one emitter, `e`, from a point at the centre, even and straight up, with no force; 25 fps, 10 s."""
    emitter = {
        "id": "e", "shape": {"kind": "point"}, "rate": 100, "cadence": "even", "lifespan": 2, "direction": 90, "spread": 0,
        "speed": 100, "size": 10, "opacity": 100,
    }  # fmt: skip
    shot: dict[str, Any] = {"emitters": [{**emitter, **changes.pop("emitter", {})}], **changes}
    forces = shot.get("forces", [])
    shot["links"] = shot.get("links", [{"force": f["id"], "emitter": "e"} for f in forces])
    return Shot.model_validate(shot)


def gravity(px_s2: float, direction: float = 270, **more: Any) -> dict[str, Any]:
    """Gravity in px/s² for a shot of 100 px per metre."""
    return {"kind": "gravity", "id": "g", "strength": px_s2 / 100, "direction": direction, **more}


def force(kind: str, **fields: Any) -> dict[str, Any]:
    """A force of a kind, with its kind as its id."""
    return {"kind": kind, "id": kind, **fields}


def drag(per_s: float, **more: Any) -> dict[str, Any]:
    return {"kind": "drag", "id": "d", "strength": per_s, **more}


def source(**fields: Any) -> BirthSource:
    """The source of an emitter alone in its shot."""
    emitter = Emitter.model_validate(fields)
    return BirthSource(emitter, KEY, Readings(Shot(emitters=(emitter,))))


def births(key: int = KEY, **fields: Any) -> Births:
    """The births of an emitter alone in its shot of 25 fps."""
    emitter = Emitter.model_validate(fields)
    shot = Shot(emitters=(emitter,))
    return births_of(shot, emitter, key, Readings(shot))


def newborn(count: int = 40_000, t: float = 0.0, **fields: Any) -> tuple[np.ndarray, np.ndarray]:
    """Places and velocities (3, n) of many births at a moment; without speed and spread, unless they are given."""
    moments = np.full(count, t)
    place, velocity, _ = source(**{"spread": 0, "speed": 0, **fields}).leave(np.arange(count), moments)
    return place, velocity


def chi_square(counts: np.ndarray) -> float:
    """How many standard deviations the statistic is above that of an even distribution."""
    expected = counts.sum() / counts.size
    statistic = float(((counts - expected) ** 2 / expected).sum())
    free = counts.size - 1
    return float((statistic - free) / np.sqrt(2 * free))
