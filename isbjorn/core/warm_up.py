"""Warming: compile every kernel, or load it from the cache, so that the first picture does not wait for it."""

from __future__ import annotations

import time
from typing import Any

from isbjorn.core.document import Disc, Displacement, Drag, Emitter, Gravity, Link, Shot, Surface, Turbulence, Vortex
from isbjorn.core.frame import render_frame
from isbjorn.core.imaging.colour import shade_table
from isbjorn.core.imaging.display_encoding import over, to_shades
from isbjorn.core.inspect.guides import guides


def warm() -> float:
    """Draw small pictures that touch every kernel; seconds."""
    start = time.perf_counter()
    forces = (Gravity(id="gravity"), Drag(id="drag"))
    world = (Turbulence(id="turbulence"), Displacement(id="displacement"), Vortex(id="vortex"), Surface(id="surface"))
    for cadence, limit, more in (("jittered", 1000, ()), ("random", 10, world)):
        emitter = Emitter(id="emitter", shape=Disc(), cadence=cadence, limit=limit)  # type: ignore[arg-type]
        links = tuple(Link(force=f.id, emitter="emitter") for f in (*forces, *more))
        shot = Shot(emitters=(emitter,), forces=(*forces, *more), links=links)
        picture = render_frame(shot, 20, 0.1)
        guides(shot)
    bodies: dict[str, Any] = {
        "emitters": [
            {"body": {"kind": "puff"}, "trail": {}, "blend": "screen", "finish": [{"kind": "glow"}, {"kind": "grain"}]},
            {"lines": {}, "use": {"kind": "glass"}},
        ],
        "camera": {"shutter": 180},
    }
    render_frame(Shot.model_validate(bodies), 20, 0.1)
    to_shades(over(picture, picture), shade_table("srgb"))
    return time.perf_counter() - start
