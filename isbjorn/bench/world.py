"""What the world costs: ns per particle and step under turbulence, contact, and everything at once."""

from __future__ import annotations

import statistics
import time
from typing import Any

import numpy as np

from isbjorn.core.document import (
    Attractor,
    Drag,
    Emitter,
    Follow,
    Gravity,
    Link,
    Number,
    Shot,
    Surface,
    Turbulence,
    Vortex,
    Wind,
    Zone,
)
from isbjorn.core.document.parts.solids import Solid
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.simulate.checkpoints import StateCache
from isbjorn.core.simulate.track import Track

_COUNT, _STEPS = 50_000, 20
# Bodies in a model, and how often the faces of a ball are divided in four: it has 20 × 4ⁿ.
_HELD, _DETAIL = 20_000, (2, 3, 4, 5)


def _shot(*forces: Any) -> Shot:
    emitter = Emitter(id="e", rate=Number(value=_COUNT), lifespan=Number(value=0), speed=Number(value=150, spread=100),
                      spread=Number(value=360), size=Number(value=4), limit=_COUNT)  # fmt: skip
    links = tuple(Link(force=f.id, emitter="e") for f in forces)
    zone = Zone(id="zone", radius=Number(value=400))
    return Shot(emitters=(emitter,), forces=forces, zones=(zone,), links=links, limit=_COUNT)


def ns_per_step(shot: Shot, count: int = _COUNT) -> float:
    """ns per particle and lattice step, the median of five runs of 20 steps with `count` particles on the way."""
    track = Track(shot, shot.emitters[0], 10**7, StateCache(), Readings(shot))
    births = np.arange(count, dtype=np.int64)
    state = track.integrator.begin(births, np.zeros(count), np.full(count, np.inf, np.float32))
    track.integrator.advance(state, 0, _STEPS)
    times = []
    for run in range(1, 6):
        start = time.perf_counter()
        track.integrator.advance(state, run * _STEPS, (run + 1) * _STEPS)
        times.append(time.perf_counter() - start)
    return round(statistics.median(times) * 1e9 / (count * _STEPS), 1)


def world_ns_per_particle_step() -> dict[str, float]:
    """By what acts: turbulence of one and of four octaves, flat and in depth; contact with a box; all forces at once."""
    deep = Number(value=100)
    box = Surface(id="box", shape="box", side="inside", width=Number(value=1200), height=Number(value=700))
    everything = (
        Gravity(id="g"), Wind(id="w", zone="zone"), Drag(id="d"), Turbulence(id="t"), Vortex(id="v"), Attractor(id="a"),
        Follow(id="f"), box,
    )  # fmt: skip
    cases = {
        "turbulence 1 octave": (Turbulence(id="t"),),
        "turbulence 4 octaves": (Turbulence(id="t", octaves=4),),
        "turbulence 1 octave in depth": (Turbulence(id="t", along_z=deep),),
        "turbulence 4 octaves in depth": (Turbulence(id="t", octaves=4, along_z=deep),),
        "contact": (box,),
        "all forces": everything,
    }
    return {name: ns_per_step(_shot(*forces)) for name, forces in cases.items()}


def mesh_contact_ns() -> dict[str, float]:
    """20,000 bodies that bounce about in balls of more and more triangles, beside the surface that is a sphere."""
    bounce: dict[str, Any] = {"side": "inside", "restitution": Number(value=100), "friction": Number(value=0)}
    hollow = {
        f"{20 * 4**detail} triangles": Surface(
            id="s", shape="model", model=Solid(form="ball", detail=detail), size=Number(value=600), **bounce
        )
        for detail in _DETAIL
    }
    hollow["sphere"] = Surface(id="s", shape="sphere", radius=Number(value=300), **bounce)
    return {name: ns_per_step(_shot(Gravity(id="g"), surface), _HELD) for name, surface in hollow.items()}
