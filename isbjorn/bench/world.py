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
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.simulate.checkpoints import StateCache
from isbjorn.core.simulate.track import Track

_COUNT, _STEPS = 50_000, 20


def _shot(*forces: Any) -> Shot:
    emitter = Emitter(id="e", rate=Number(value=_COUNT), lifespan=Number(value=0), speed=Number(value=150, spread=100),
                      spread=Number(value=360), size=Number(value=4), limit=_COUNT)  # fmt: skip
    links = tuple(Link(force=f.id, emitter="e") for f in forces)
    zone = Zone(id="zone", radius=Number(value=400))
    return Shot(emitters=(emitter,), forces=forces, zones=(zone,), links=links, limit=_COUNT)


def ns_per_step(shot: Shot) -> float:
    """ns per particle and lattice step, the median of five runs of 20 steps with 50,000 particles on the way."""
    track = Track(shot, shot.emitters[0], 10**7, StateCache(), Readings(shot))
    births = np.arange(_COUNT, dtype=np.int64)
    state = track.integrator.begin(births, np.zeros(_COUNT), np.full(_COUNT, np.inf, np.float32))
    track.integrator.advance(state, 0, _STEPS)
    times = []
    for run in range(1, 6):
        start = time.perf_counter()
        track.integrator.advance(state, run * _STEPS, (run + 1) * _STEPS)
        times.append(time.perf_counter() - start)
    return round(statistics.median(times) * 1e9 / (_COUNT * _STEPS), 1)


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
