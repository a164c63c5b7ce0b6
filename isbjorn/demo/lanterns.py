"""*Lanterns*: paper lanterns that tumble and push in a net shaped as a boat's hull, at dusk; others rise behind it."""

from __future__ import annotations

from typing import Any

from isbjorn.core.document import (
    Box,
    Burst,
    Camera,
    Emitter,
    Flutter,
    Gravity,
    Lines,
    Number,
    Plate,
    Shot,
    Surface,
    Turbulence,
    Wind,
)
from isbjorn.core.document.parts.interactions import Push
from isbjorn.core.document.parts.models import ModelBody, ModelShape
from isbjorn.core.document.parts.solids import Solid
from isbjorn.demo.pieces import curve, keyed, ramp, reach

_PAPER = ("#ffb65c", "#ff7a45", "#ffd98a", "#e8496b", "#f7efe2", "#7fd0c4")
_STOPS: dict[float, str] = {n / (len(_PAPER) - 1): colour for n, colour in enumerate(_PAPER)}
# Where the net hangs, px to the right and up.
_NET = (120.0, -30.0)


def _paper(form: str, weight: float, rim: float = 150, **measures: float) -> ModelBody:
    numbers = {name: Number(value=value) for name, value in measures.items()}
    return ModelBody.model_validate(
        {
            "form": form, "weight": weight, "material": "rim", "rim_colour": "#ffcf8a", "rim": Number(value=rim),
            "rim_width": Number(value=52), "surroundings": "dusk", "ambient": Number(value=120), **numbers,
        }
    )  # fmt: skip


def _in_the_net(media: str, digest: str) -> tuple[tuple[Emitter, ...], tuple[Any, ...]]:
    """Lanterns that fall into a swinging net, the lights of the net, and what acts on them. media, digest: the hull."""
    hull = {"form": "file", "media": media, "digest": digest, "name": "Hull"}
    swing = keyed((0, -5), (2, 4), (4, -4), (6, 5), (8, -5))
    roll = keyed((0, 8), (1.4, 16), (3.2, 5), (5, 15), (6.6, 6), (8, 8))
    place: dict[str, Any] = {"across": Number(value=_NET[0]), "up": Number(value=_NET[1]), "turn": swing}
    size, turn_y = Number(value=700), Number(value=-24)
    held = Emitter(
        id="held", name="Lanterns in the net", seed=62, 
        shape=Box(width=Number(value=330), height=Number(value=300), deep=Number(value=60)),
        across=Number(value=_NET[0]), up=Number(value=_NET[1] + 190), rate=Number(value=0),
        bursts=(Burst(at_s=-3, count=52, over_s=2.5),),
        pre_roll_s=4, lifespan=Number(value=0), speed=Number(value=30), direction=Number(value=270), in_depth=True,
        size=Number(value=52, spread=17), order="farthest first", mass=Number(value=1, spread=0.3),
        body=_paper("box", 3, 105, width=84, deep=84, bevel=20), mixed=(
            _paper("ball", 2, 105, smooth=60).model_copy(update={"detail": 2}), _paper("capsule", 1, 105, length=30, smooth=50),
        ),
        turn_x=Number(value=0, spread=180), turn_y=Number(value=0, spread=180), angle=Number(value=0, spread=180),
        colour=ramp(_STOPS, {}), colour_by="random",
        brightness=Number(value=1.35, spread=0.35, flutter=Flutter(times_per_s=1.8, amount=0.2)),
    )  # fmt: skip
    shape = ModelShape.model_validate(
        {**hull, "births": "corners", "size": size, "turn_y": turn_y, "turn_x": Number(value=10)}
    )
    net = Emitter(
        id="net", name="Lights of the net", seed=63, shape=shape, **place, stays="along", spacing="even", rate=Number(value=0),
        bursts=(Burst(at_s=0, count=297),), lifespan=Number(value=0), speed=Number(value=0), size=Number(value=4.6, spread=1.2),
        colour=ramp({0: "#ffd9a0"}, {}), brightness=Number(value=1.5, spread=0.8), opacity=Number(value=90), blend="add",
        lines=Lines(distance=Number(value=52), most=4, width=Number(value=1.2), opacity=Number(value=46), fade=Number(value=30)),
    )  # fmt: skip
    forces = (
        Gravity(id="weight", name="Weight", strength=Number(value=3.2)),
        Push(id="push", name="Push"),
        Surface(
            id="hull", name="Hull of net", shape="model", model=Solid.model_validate(hull), size=size, turn_y=turn_y, turn_x=roll,
            **place, restitution=Number(value=20), friction=Number(value=0.25),
        ),
        Turbulence(
            id="gusts", name="Gusts", strength=Number(value=120), size=Number(value=200), along_z=Number(value=80),
            grip=Number(value=0.5), evolve=Number(value=0.4),
        ),
    )  # fmt: skip
    return (held, net), forces


def lanterns(plate: str, media: str = "", digest: str = "") -> Shot:
    """Lanterns: boxes, barrels and globes of paper, in depth. media, digest: the model of the hull; without it, there is no net."""
    rising = Emitter(
        id="lanterns", name="Paper lanterns", seed=61,
        shape=Box(width=Number(value=1300), height=Number(value=60), deep=Number(value=900)), up=Number(value=-430),
        rate=Number(value=3, flutter=Flutter(times_per_s=0.4, amount=1.5)), pre_roll_s=9, lifespan=Number(value=11, spread=1),
        direction=Number(value=88), spread=Number(value=22), in_depth=True, speed=Number(value=96, spread=26),
        size=Number(value=40, spread=16), order="farthest first",
        body=_paper("box", 3, width=78, deep=78, bevel=18), mixed=(
            _paper("ball", 1, smooth=60).model_copy(update={"detail": 2}), _paper("capsule", 2, length=38, smooth=50),
        ),
        turn_x=Number(value=0, spread=16), turn_y=Number(value=0, spread=180), angle=Number(value=90, spread=12),
        spin_x=Number(value=0, spread=9), spin_y=Number(value=14, spread=30), spin=Number(value=0, spread=7),
        colour=ramp(_STOPS, {}), colour_by="random",
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
    caught, held = _in_the_net(media, digest) if media else ((), ())
    return Shot(
        name="Lanterns", seed=79, last_frame=199, plate=Plate(name="Pier at dusk", media=plate, beyond="hold"),
        camera=Camera(kind="perspective", shutter=Number(value=180)),
        emitters=(rising, *caught), forces=(*forces, *held),
        links=reach({"lanterns": ("breeze", "eddies"), **({"held": tuple(f.id for f in held)} if held else {})}),
    )  # fmt: skip
