"""Warming: compile every kernel, or load it from the cache, so that the first picture does not wait for it."""

from __future__ import annotations

import time

from isbjorn.core.document import Disc, Drag, Emitter, Gravity, Link, Shot
from isbjorn.core.guides import guides
from isbjorn.core.media.colour import shade_table
from isbjorn.core.picture.compose import over, to_shades
from isbjorn.core.render import render_frame


def warm() -> float:
    """Draw small pictures that touch every kernel; seconds."""
    start = time.perf_counter()
    forces = (Gravity(id="gravity"), Drag(id="drag"))
    links = tuple(Link(force=f.id, emitter="emitter") for f in forces)
    for cadence, limit in (("jittered", 1000), ("random", 10)):
        emitter = Emitter(id="emitter", shape=Disc(), cadence=cadence, limit=limit)  # type: ignore[arg-type]
        shot = Shot(emitters=(emitter,), forces=forces, links=links)
        picture = render_frame(shot, 20, 0.1)
        guides(shot)
    to_shades(over(picture, picture), shade_table("srgb"))
    return time.perf_counter() - start
