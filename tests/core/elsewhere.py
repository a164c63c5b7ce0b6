"""The engine's results for a tide, a lozenge and a dimmer, as JSON: the tests run it in a separate process."""

import json

import numpy as np

from isbjorn.core.appearance.particles import ParticleSolver
from isbjorn.core.document import Shot
from isbjorn.core.document.files import shot_from_text, shot_schema, shot_to_text
from isbjorn.core.frame import render_frame
from isbjorn.core.inspect.guides import guides


def _shot(**emitter: object) -> Shot:
    still = {"value": 0, "spread": 0}
    one = {
        "id": "one", "shape": {"kind": "point"}, "up": 25, "rate": 0, "bursts": [{"count": 1}], "speed": still,
        "lifespan": 0, "size": {"value": 40, "spread": 0}, "body": {"kind": "lozenge"}, **emitter,
    }  # fmt: skip
    tide = {"kind": "tide", "id": "tide", "strength": 80, "reach": 50}
    links = [{"force": "tide", "emitter": "one"}]
    return Shot.model_validate({"emitters": [one], "forces": [tide], "links": links})


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
    print(json.dumps(reported))


if __name__ == "__main__":
    main()
