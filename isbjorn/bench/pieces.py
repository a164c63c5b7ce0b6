"""What pieces cost: cutting, drawing the whole and its pieces in flight beside sprites of that size, and matching places."""

from __future__ import annotations

from typing import Any

import numpy as np

from isbjorn.bench.timing import median_ms
from isbjorn.core import Shot, Solver
from isbjorn.core.emit.pieces import cut
from isbjorn.core.emit.pieces.matching import nearest
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.frame import draw_particles
from isbjorn.core.simulate.track import key_of

_RUNS, _PIECE_PX = 7, 4.3


def _shot(kind: str, at_s: float, **fields: Any) -> Shot:
    pieces = {"cut": kind, "size": _PIECE_PX, "release": {"at_s": at_s, "duration": 0}}
    emitter = {
        "id": "e", "shape": {"kind": "rectangle", "width": 1280, "height": 720}, "pieces": pieces, "speed": 40, "spread": 360,
        "lifespan": 60, **fields,
    }  # fmt: skip
    return Shot.model_validate({"emitters": [emitter], "last_frame": 249})


def pieces_ms() -> dict[str, float]:
    """Fifty thousand pieces of a whole picture: cut in squares and in shards, drawn at rest, and in flight beside square sprites of
    their size; and twenty thousand particles matched to as many places."""
    found: dict[str, float] = {}
    for kind in ("squares", "shards"):
        shot = _shot(kind, 3)
        emitter, key, readings = shot.emitters[0], key_of(shot, shot.emitters[0]), Readings(shot)

        def cut_again(n: int, emitter: Any = emitter, key: int = key, readings: Readings = readings) -> None:
            cut.cut_of(emitter, key + n, readings)

        found[f"cut_{kind}"] = median_ms(cut_again, _RUNS)
    count = len(cut.cut_of(emitter, key, readings))
    found["count"] = count
    whole, flying = Solver(_shot("shards", 3)), Solver(_shot("shards", 0))
    found["at_rest"] = median_ms(lambda n: draw_particles(whole, n), _RUNS)
    found["in_flight"] = median_ms(lambda n: draw_particles(flying, 30 + n), _RUNS)
    sprites = {
        "id": "e", "shape": {"kind": "rectangle", "width": 1280, "height": 720}, "rate": 0, "bursts": [{"count": count}],
        "body": {"kind": "square"}, "size": 1.4 * _PIECE_PX, "speed": 40, "spread": 360, "lifespan": 60,
    }  # fmt: skip
    plain = Solver(Shot.model_validate({"emitters": [sprites]}))
    found["sprites"] = median_ms(lambda n: draw_particles(plain, 30 + n), _RUNS)
    rng = np.random.default_rng(1)
    begins, ends = rng.random((20_000, 2)) * [1280, 720], rng.random((20_000, 2)) * [600, 200]
    found["match_20000"] = median_ms(lambda n: nearest(begins + n, ends), _RUNS)
    return found
