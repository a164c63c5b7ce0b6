"""Documents that ask for too much. As a script, it opens, forecasts, draws and watches one of them in this process."""

from __future__ import annotations

import json
import resource
import sys
import time
from typing import Any

import numpy as np

from isbjorn.core.document.files import parse_shot
from isbjorn.core.frame import Solver, draw_particles
from isbjorn.core.inspect.guides import guides
from isbjorn.core.inspect.lookout import lookout
from isbjorn.core.warm_up import warm
from isbjorn.studio.preview.preview import scale_for

_BURST = {"count": 1_000_000, "times": 4096, "every_s": 0.01}
_FULL = {"kind": "rectangle", "width": 1280, "height": 720}


def _emitter(**fields: Any) -> dict[str, Any]:
    return {"emitters": [{"id": "e", **fields}]}


DOCUMENTS: dict[str, dict[str, Any]] = {
    "bursts": _emitter(bursts=[_BURST] * 16),
    "random for a day": _emitter(rate=1e6, cadence="random", start_s=-86_400),
    "a tall shot": {"width": 16, "height": 16_384, **_emitter()},
    "large and many": _emitter(rate=1e5, size=10_000),
    "lines everywhere": _emitter(rate=2e4, shape=_FULL, lines={"distance": 10_000, "most": 32}),
    "lines in depth": _emitter(rate=2000, lines={"distance": 5}, shape={"kind": "box", "width": 1e5, "height": 1e5, "deep": 1e5}),
    "one long word": _emitter(body={"kind": "words", "text": "a" * 2000, "split": "words"}, size=500),
    "many letters": _emitter(rate=3000, size=500, body={"kind": "words", "text": "".join(chr(65 + n % 600) for n in range(2000))}),
    "many bodies": _emitter(
        rate=2000, size=1000, shape=_FULL, body={"kind": "puff", "variants": 16},
        mixed=[{"kind": "shard", "variants": 16, "seed": n} for n in range(15)],
    ),
    "flutter for a day": _emitter(start_s=-86_400, rate={"value": 10, "flutter": {"amount": 5, "times_per_s": 900}}),
    "steps without end": {
        "simulation_rate": 1000, "forces": [{"kind": "turbulence", "id": "t", "octaves": 8, "along_z": 100}],
        "links": [{"force": "t", "emitter": "e"}], **_emitter(rate=1e5, lifespan=0),
    },
    "a long pre-roll": _emitter(rate=1e6, pre_roll_s=600),
    "a shutter over large discs": {"camera": {"shutter": 720}, **_emitter(rate=500, shape=_FULL, size=2000)},
    "a blend over large bodies": _emitter(
        rate=500, shape=_FULL, size=2000, blend="luminosity", body={"kind": "star", "points": 24}
    ),
    "wide trails": _emitter(rate=500, size=500, trail={"length": 10_000, "width": 1000, "glow": 1000}),
    "wide effects": _emitter(finish=[{"kind": "glow", "radius": 1000}, {"kind": "blur", "sigma": 1000}] * 8),
    "a dense flock": {
        "last_frame": 1499,
        "forces": [{"kind": "flock", "id": "f", "radius": 1e5}, {"kind": "cohesion", "id": "c", "strength": 1e6, "radius": 1e5}],
        "links": [{"force": "f", "emitter": "e"}, {"force": "c", "emitter": "e"}], **_emitter(rate=1e6),
    },
    "giants that push": {
        "last_frame": 1499,
        "forces": [{"kind": "push", "id": "p", "rounds": 60}, {"kind": "surface", "id": "s", "shape": "box", "side": "inside"}],
        "links": [{"force": "p", "emitter": "e"}, {"force": "s", "emitter": "e"}],
        **_emitter(rate=0, bursts=[{"fill": 100}], shape=_FULL, size={"value": 1, "spread": 1}, lifespan=0),
    },
    "strands without end": _emitter(
        shape=_FULL, rate=0, bursts=[_BURST], lifespan=0, strand={"joints": 400, "length": 3000, "bodies": "at all joints"},
    ),
    "a sea in a storm": _emitter(
        shape=_FULL, rate=1e6, ripples={"width": 20_000, "length": 20_000, "drop": 1, "damping": 0.05, "speed": 5000,
        "height": 1000},
    ),
    "wild drivers": _emitter(
        rate={"value": 100, "flutter": {"amount": 1e6}}, size={"value": 8, "flutter": {"amount": 1e6}, "reads": "life"},
        finish=[{"kind": "grade", "contrast": {"value": 100, "flutter": {"amount": 1e6}}}],
    ),
}  # fmt: skip


def looked_at(name: str) -> dict[str, Any]:
    """What opening and looking at a document takes in this process: seconds, and the most memory in MB."""
    resource.setrlimit(resource.RLIMIT_AS, (6 << 30, 6 << 30))
    shot = parse_shot(DOCUMENTS[name])
    start = time.process_time()
    guides(shot, 40)
    guided = time.process_time()
    solver = Solver(shot)
    layers = draw_particles(solver, 40, scale_for(shot, 640))
    assert np.isfinite(layers.picture).all()
    drawn = time.process_time()
    notes = [note.kind for note in lookout(solver, 40)]
    took = {"guides_s": guided - start, "picture_s": drawn - guided, "all_s": time.process_time() - start}
    most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
    return {**{k: round(v, 2) for k, v in took.items()}, "mb": most, "notes": notes, "left_out": layers.drawn.left_out}


if __name__ == "__main__":
    warm()
    print(json.dumps(looked_at(sys.argv[1])))
