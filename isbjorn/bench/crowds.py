"""Cost of interacting particles: ns per particle and step, compared with another way of finding the same pairs."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from typing import Any

import numpy as np

from isbjorn.core.document import Number
from isbjorn.core.document.files import parse_shot
from isbjorn.core.document.parts.interactions import Cohesion, Flock, Push
from isbjorn.core.frame import Solver
from isbjorn.core.simulate.forces.force_layout import WIDTH
from isbjorn.core.simulate.interactions import cohere, flock, push
from isbjorn.core.simulate.interactions.interaction_view import EmitterPart, InteractionView

_NEIGHBOURS, _RADIUS = 15, 20.0
_COUNTS = (("1e4", 10_000), ("1e5", 100_000))


def _together(count: int, radius: float) -> InteractionView:
    """Particles in depth, of which each has 15 within a radius, on the mean."""
    side = (count * 4 / 3 * np.pi * _RADIUS**3 / _NEIGHBOURS) ** (1 / 3)
    rng = np.random.default_rng(5)
    place = rng.uniform(0, side, (3, count)).astype(np.float32)
    velocity = rng.normal(0, 40, (3, count)).astype(np.float32)
    solids = np.zeros((1, 2, 2), np.float32), np.zeros(1, np.float32)
    part = EmitterPart(0, count, np.zeros((1, 0, WIDTH)), np.zeros((0, 3)), solids, False)
    one = np.ones(count, np.float32)
    still, at = np.zeros(count, np.float32), (place.copy(), velocity.copy(), place, velocity)
    return InteractionView(*at, radius * one, one, still, one, (part,), 1 / 60)


def _ns(call: Callable[[], Any], count: int, runs: int = 5) -> float:
    call()
    times = []
    for _ in range(runs):
        start = time.perf_counter()
        call()
        times.append(time.perf_counter() - start)
    return statistics.median(times) * 1e9 / count


def crowd_ns_per_particle_step() -> dict[str, Any]:
    """A step of each kind at two counts, how it grows, and how many times longer SciPy's tree takes to find the pairs alone."""

    def read(number: Number) -> float:
        return number.value

    found: dict[str, dict[str, float]] = {"flock": {}, "cohesion": {}, "push_round": {}, "tree": {}}
    of_flock = Flock(radius=Number(value=_RADIUS), apart=Number(value=8.0), shy=Number(value=0))
    of_liquid = Cohesion(radius=Number(value=_RADIUS))
    for name, count in _COUNTS:
        there, share = _together(count, 8.0), np.ones(count, np.float32)
        found["flock"][name] = _ns(lambda t=there, s=share: flock.velocity_pass(of_flock, read, t, s), count)  # type: ignore[misc]
        found["cohesion"][name] = _ns(lambda t=there, s=share: cohere.velocity_pass(of_liquid, read, t, s), count)  # type: ignore[misc]
        few, many = (
            _ns(lambda n=n, c=count, s=share: push.position_pass(Push(rounds=n), read, _together(c, 8.0), s), count, 3)  # type: ignore[misc]
            for n in (1, 11)
        )
        found["push_round"][name] = (many - few) / 10
        try:
            from scipy.spatial import cKDTree
        except ImportError:
            continue
        places = there.before.T.astype(np.float64)
        found["tree"][name] = _ns(lambda p=places: cKDTree(p).query_pairs(_RADIUS, output_type="ndarray"), count, 3)  # type: ignore[misc]
    return {
        what: {name: round(value, 1) for name, value in by.items()}
        | {"growth": round(by["1e5"] / by["1e4"], 2)}
        | (
            {"times_faster_than_tree": round(found["tree"]["1e5"] / by["1e5"], 1)}
            if found["tree"] and what != "tree"
            else {}
        )
        for what, by in found.items()
        if by
    }


def contagion_ms() -> dict[str, float]:
    """A frame at 25 fps of 200,000 points of which some are infected, the mean of a second after the first: of moving points, which
    are stepped, and of points that never move: everything that ever happens to them, once."""
    force = {"kind": "contagion", "id": "c", "radius": 8, "pace": {"value": 200, "spread": 80}}

    def solver(speed: float, count: int) -> Solver:
        emitter = {
            "id": "points", "shape": {"kind": "rectangle", "width": 1800, "height": 1000}, "rate": 0, "bursts": [{"count": count}],
            "lifespan": 0, "speed": speed, "size": 2,
        }  # fmt: skip
        return Solver(
            parse_shot({"emitters": [emitter], "forces": [force], "links": [{"force": "c", "emitter": "points"}]})
        )

    moving, still = solver(0.01, 200_000), solver(0, 200_000)
    moving.at(25)
    start = time.perf_counter()
    moving.at(50)
    a_frame = (time.perf_counter() - start) * 1e3 / 25
    solver(0, 1000).at(0)
    start = time.perf_counter()
    still.at(0)
    return {"a_frame": round(a_frame, 1), "all_at_rest": round((time.perf_counter() - start) * 1e3, 1)}
