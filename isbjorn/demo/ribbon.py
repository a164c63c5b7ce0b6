"""*Ribbon of lights*: noise in one plane, drawn to a point, taken away there, then twisted and bent along a path that moves."""

from __future__ import annotations

from isbjorn.core.document import (
    Attractor,
    Camera,
    Emitter,
    Glow,
    Line,
    Number,
    PathPoint,
    Plate,
    Remove,
    Shot,
    Turbulence,
    Wind,
    Zone,
)
from isbjorn.core.document.parts.deformers import Bend, Taper, Twist
from isbjorn.demo.pieces import curve, keyed, ramp, reach

_BEGIN, _LONG = -460.0, 900.0


def ribbon(plate: str) -> Shot:
    """Ribbon of lights, over the breakwater."""
    begin, long, level = Number(value=_BEGIN), Number(value=_LONG), Number(value=0)
    path = (
        PathPoint(x=0, y=0, leave=(170.0, 190.0)),
        PathPoint(x=360, y=130, arrive=(-120.0, 40.0), leave=(140.0, -46.0)),
        PathPoint(x=660, y=0, arrive=(-110.0, -50.0), leave=(120.0, 54.0)),
        PathPoint(x=980, y=72, arrive=(-150.0, -10.0)),
    )
    lights = Emitter(
        id="ribbon", name="Ribbon", seed=51, shape=Line(length=Number(value=150), angle=Number(value=90)),
        across=Number(value=_BEGIN), rate=Number(value=1500), pre_roll_s=6, lifespan=Number(value=6, spread=0.6),
        direction=Number(value=0), spread=Number(value=0), speed=Number(value=150, spread=26),
        size=Number(value=3.2, spread=2.2, over_life=curve((0, 0.3), (0.15, 1), (1, 0.7))), blend="add",
        opacity=Number(value=72, over_life=curve((0, 0), (0.08, 1), (0.85, 1), (1, 0))), brightness=Number(value=1.1, spread=0.5),
        colour=ramp({0: "#62d6a8", 0.4: "#7cc7f2", 0.75: "#c9a2ff", 1: "#ffd7c2"}, {}),
        deformers=(
            Twist(from_x=begin, length=long, direction=level, turns=keyed((0, 380), (4, 600), (8, 380))),
            Taper(from_x=begin, length=long, direction=level, width=Number(value=45)),
            Bend(
                from_x=begin, length=long, direction=level, points=path, fitted=True, across=begin, up=Number(value=-60),
                turn=keyed((0, -1.2), (4, 1.6), (8, -1.2)),
            ),
        ),
        finish=(Glow(radius=Number(value=16), amount=Number(value=70), above=Number(value=10)),),
    )  # fmt: skip
    forces = (
        Turbulence(
            id="noise", name="Noise in one plane", strength=Number(value=70, over_life=curve((0, 0), (0.2, 1), (1, 1))),
            size=Number(value=190), octaves=2, along_x=Number(value=0), along_y=Number(value=100), along_z=Number(value=0),
            evolve=Number(value=0.35), grip=Number(value=1.6),
        ),
        Wind(id="drift", name="Drift", strength=Number(value=320), direction=Number(value=0), grip=Number(value=1.6)),
        Attractor(
            id="point", name="To a point", across=Number(value=_BEGIN + _LONG), strength=Number(value=160),
            radius=Number(value=220), power=Number(value=1), softness=Number(value=40), speed_limit=Number(value=240),
        ),
        Remove(id="gone", name="Gone at the point", zone="end"),
    )  # fmt: skip
    end = Zone(
        id="end", name="Where it ends", shape="box", across=Number(value=_BEGIN + _LONG + 180), width=Number(value=400),
        height=Number(value=500), falloff=Number(value=0),
    )  # fmt: skip
    return Shot(
        name="Ribbon of lights", seed=78, last_frame=199, loop=True, plate=Plate(name="Breakwater", media=plate, beyond="loop"),
        camera=Camera(kind="perspective", shutter=Number(value=120)), emitters=(lights,), forces=forces, zones=(end,),
        links=reach({"ribbon": ("noise", "drift", "point", "gone")}),
    )  # fmt: skip
