"""*Lanterns*: paper lanterns that rise over the harbour at dusk, tumble in the wind and glow at their edges."""

from __future__ import annotations

from isbjorn.core.document import (
    Box,
    Camera,
    Emitter,
    Flutter,
    Number,
    Plate,
    Shot,
    Turbulence,
    Wind,
)
from isbjorn.core.document.models import ModelBody
from isbjorn.demo.pieces import curve, keyed, ramp, reach

_PAPER = ("#ffb65c", "#ff7a45", "#ffd98a", "#e8496b", "#f7efe2", "#7fd0c4")


def _paper(form: str, weight: float, **measures: float) -> ModelBody:
    numbers = {name: Number(value=value) for name, value in measures.items()}
    return ModelBody.model_validate(
        {
            "form": form, "weight": weight, "material": "rim", "rim_colour": "#ffcf8a", "rim": Number(value=150),
            "rim_width": Number(value=52), "surroundings": "dusk", "ambient": Number(value=120), **numbers,
        }
    )  # fmt: skip


def lanterns(plate: str) -> Shot:
    """Lanterns: boxes, barrels and globes of paper, in depth."""
    stops: dict[float, str] = {n / (len(_PAPER) - 1): colour for n, colour in enumerate(_PAPER)}
    rising = Emitter(
        id="lanterns", name="Paper lanterns", seed=61,
        shape=Box(width=Number(value=1300), height=Number(value=60), deep=Number(value=900)), up=Number(value=-430),
        rate=Number(value=6, flutter=Flutter(times_per_s=0.4, amount=3)), pre_roll_s=9, lifespan=Number(value=11, spread=1),
        direction=Number(value=88), spread=Number(value=22), in_depth=True, speed=Number(value=96, spread=26),
        size=Number(value=48, spread=20), order="farthest first",
        body=_paper("box", 3, width=78, deep=78, bevel=18), mixed=(
            _paper("ball", 1, smooth=60).model_copy(update={"detail": 2}), _paper("capsule", 2, length=38, smooth=50),
        ),
        turn_x=Number(value=0, spread=16), turn_y=Number(value=0, spread=180), angle=Number(value=90, spread=12),
        spin_x=Number(value=0, spread=9), spin_y=Number(value=14, spread=30), spin=Number(value=0, spread=7),
        colour=ramp(stops, {}), colour_by="random",
        brightness=Number(value=1.25, spread=0.3, flutter=Flutter(times_per_s=2.2, amount=0.22)),
        opacity=Number(value=100, over_life=curve((0, 0), (0.06, 1), (0.86, 1), (1, 0))),
    )  # fmt: skip
    forces = (
        Wind(
            id="breeze", name="Evening breeze", strength=keyed((0, 90), (3, 120), (6, 84), (8, 104)),
            direction=Number(value=74), grip=Number(value=0.3),
        ),
        Turbulence(
            id="eddies", name="Eddies", strength=Number(value=46), size=Number(value=330), along_z=Number(value=80),
            grip=Number(value=0.25), evolve=Number(value=0.2),
        ),
    )  # fmt: skip
    return Shot(
        name="Lanterns", seed=79, last_frame=199, plate=Plate(name="Pier at dusk", media=plate, beyond="hold"),
        camera=Camera(kind="perspective", shutter=Number(value=180)),
        emitters=(rising,), forces=forces, links=reach({"lanterns": ("breeze", "eddies")}),
    )  # fmt: skip
