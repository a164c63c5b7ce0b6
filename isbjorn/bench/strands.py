"""What strands, skins and ripples cost: a step, or a picture of 720 lines."""

from __future__ import annotations

from fractions import Fraction

from isbjorn.bench.timing import median_ms
from isbjorn.core.document.files import parse_shot
from isbjorn.core.frame import Solver, draw_particles

_RUNS = 15


def strands_ms() -> dict[str, float]:
    """A step of 200 strands with 60 joints each, in gusts; and a picture of them."""
    emitter = {
        "id": "e", "shape": {"kind": "line", "length": 1000}, "spacing": "even", "up": 300, "rate": 0, "bursts": [{"count": 200}],
        "lifespan": 0, "speed": 0, "direction": 270, "spread": 0, "strand": {"joints": 60, "length": 480},
    }  # fmt: skip
    gusts = {
        "kind": "wind",
        "id": "w",
        "direction": 0,
        "grip": 2,
        "strength": {"value": 120, "flutter": {"amount": 120}},
    }
    forces = [gusts, {"kind": "gravity", "id": "g"}]
    links = [{"force": f, "emitter": "e"} for f in ("w", "g")]
    solver = Solver(parse_shot({"emitters": [emitter], "forces": forces, "links": links}))
    first = 120
    solver.of(0, Fraction(first, 60))
    return {
        "step": median_ms(lambda n: solver.of(0, Fraction(first + n + 1, 60)), _RUNS),
        "picture": median_ms(lambda n: draw_particles(solver, Fraction(25 * (first + _RUNS + 1 + n), 60)), _RUNS),
    }


def skin_ms() -> dict[str, float]:
    """A picture of 300 balls under one skin: milk, and glass that refracts the picture below."""
    emitter = {
        "id": "e", "shape": {"kind": "disc", "radius": 260}, "rate": 0, "bursts": [{"count": 300}], "lifespan": 0, "speed": 10,
        "size": {"value": 40, "spread": 10},
    }  # fmt: skip
    found = {}
    for material in ("milk", "glass"):
        solver = Solver(parse_shot({"emitters": [emitter | {"skin": {"material": material}}], "background": "#406080"}))
        found[material] = median_ms(lambda n, s=solver: draw_particles(s, 20 + n), _RUNS)  # type: ignore[misc]
    return found


def ripples_ms() -> dict[str, float]:
    """A picture, at 25 frames a second, of a face that fills it, on which 200 drops fall in a second."""
    emitter = {
        "id": "e", "shape": {"kind": "rectangle", "width": 1200, "height": 680}, "rate": 200, "lifespan": 0.1, "speed": 0,
        "size": 8,
        "ripples": {"width": 1280, "length": 720, "tilt": 0},
    }  # fmt: skip
    solver = Solver(parse_shot({"emitters": [emitter], "background": "#406080"}))
    return {"a_frame": median_ms(lambda n: draw_particles(solver, 50 + n), _RUNS)}
