"""Shots that tests begin from."""

from __future__ import annotations

from typing import Any

from isbjorn.core import Shot


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


def drag(per_s: float, **more: Any) -> dict[str, Any]:
    return {"kind": "drag", "id": "d", "strength": per_s, **more}
