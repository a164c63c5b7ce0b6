"""The engine's results for what the package `tests.tidal` brings, as JSON: the tests run it in a separate process."""

import json
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from isbjorn.core.appearance.particles import ParticleSolver
from isbjorn.core.deliver import deliver
from isbjorn.core.document import Shot
from isbjorn.core.document.files import shot_from_text, shot_schema, shot_to_text
from isbjorn.core.frame import Solver, render_frame
from isbjorn.core.inspect.guides import guides
from isbjorn.core.inspect.lookout import lookout
from isbjorn.core.simulate.checkpoints import StateCache
from isbjorn.core.simulate.track import weight_of


def _shot(**emitter: object) -> Shot:
    still = {"value": 0, "spread": 0}
    one = {
        "id": "one", "shape": {"kind": "point"}, "up": 25, "rate": 0, "bursts": [{"count": 1}], "speed": still,
        "lifespan": 0, "size": {"value": 40, "spread": 0}, "body": {"kind": "lozenge"}, **emitter,
    }  # fmt: skip
    tide = {"kind": "tide", "id": "tide", "strength": 80, "reach": 50}
    links = [{"force": "tide", "emitter": "one"}]
    return Shot.model_validate({"emitters": [one], "forces": [tide], "links": links})


class _Plate:
    """A plate of one brightness."""

    width, height = 1280.0, 720.0

    def __init__(self, level: float) -> None:
        self._level = level

    def numbers(self, t: np.ndarray) -> np.ndarray:
        return np.zeros(len(t), np.int64)

    def sheet(self, number: int) -> np.ndarray:
        return np.full((4, 4), self._level, np.float32)

    def colours(self, number: int) -> np.ndarray:
        return np.full((4, 4, 3), self._level, np.float32)


def _of_other_families() -> dict[str, Any]:
    """Of a shape, a deformer, an interaction, a format and a check of the Lookout."""
    cache, heights = StateCache(), []
    for name, level in (("dark.png", 0.0), ("bright.png", 0.75)):
        shot = _shot(shape={"kind": "glitter"}, up=0).model_copy(update={"forces": (), "links": ()})
        shot = Shot.model_validate(shot.model_dump() | {"plate": {"media": name, "rate": "25"}})
        heights.append(float(ParticleSolver(shot, cache, _Plate(level)).at(3).position[0, 1]))
    heeled = _shot(up=40, deformers=[{"kind": "heel", "by": 50, "length": 100}]).model_copy(update={"links": ()})
    shoal = {"kind": "shoal", "id": "shoal", "strength": 100}
    line = {"shape": {"kind": "line", "length": 300}, "bursts": [{"count": 50}], "up": 0}
    apart = Shot.model_validate(_shot(**line).model_dump() | {"forces": [shoal], "links": []})
    met = Shot.model_validate(apart.model_dump() | {"links": [{"force": "shoal", "emitter": "one"}]})
    widths = [float(np.ptp(ParticleSolver(one).at(10).position[:, 0])) for one in (apart, met)]
    ebbing = Shot.model_validate(_shot().model_dump() | {"forces": [{"kind": "tide", "id": "tide", "strength": -5}]})
    tide, one = _shot().forces[0], _shot().emitters[0]
    with tempfile.TemporaryDirectory() as folder:
        deliver(_shot(), folder, "out", format="tides", first=0, last=0, existing="replace")
        written = next(Path(folder).rglob("*.txt")).read_text()
    return {
        "heights": heights, "heeled": float(ParticleSolver(heeled).at(0).position[0, 0]), "widths": widths,
        "written": written, "notes": [note.kind for note in lookout(Solver(ebbing), 0)], "weight": weight_of(tide, one),
    }  # fmt: skip


def main() -> None:
    shot = _shot()
    schema = shot_schema()
    plain = render_frame(shot, 0, 1.0)
    dimmed = render_frame(_shot(finish=[{"kind": "dim", "share": 25}]), 0, 1.0)
    particles = ParticleSolver(shot).at(50)
    scene = guides(shot, 0, thing="tide")
    shown = next(one for one in scene.world if one.id == "tide")
    reported = {
        "x": float(particles.position[0, 0]), "y": float(particles.position[0, 1]), "light": float(plain[..., 3].sum()),
        "dimmed": float(np.max(dimmed[..., 3])), "again": shot_from_text(shot_to_text(shot)) == shot,
        "tide": schema["$defs"]["Tide"]["isbjorn"], "lines": len(shown.lines), "arrows": len(shown.arrows),
        "grips": [grip.name for grip in shown.grips],
    }  # fmt: skip
    print(json.dumps(reported | _of_other_families()))


if __name__ == "__main__":
    main()
