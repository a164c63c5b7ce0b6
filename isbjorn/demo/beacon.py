"""*Beacon*: embers off an iron basket on the pier at dusk."""

from __future__ import annotations

from isbjorn.core.document import (
    Camera,
    Disc,
    Drag,
    Emitter,
    Glow,
    Gravity,
    Group,
    Link,
    Number,
    Plate,
    Puff,
    Round,
    Shard,
    Shot,
    Turbulence,
    Use,
)
from isbjorn.demo.pieces import curve, ramp


def _embers() -> Emitter:
    return Emitter(
        id="embers",
        name="Embers",
        seed=11,
        shape=Disc(radius=Number(value=24)),
        up=Number(value=-138, spread=5),
        rate=Number(value=260),
        pre_roll_s=5,
        lifespan=Number(value=3.4, spread=1.1),
        direction=Number(value=90),
        spread=Number(value=46),
        speed=Number(value=210, spread=120),
        in_depth=True,
        size=Number(
            value=4.4,
            spread=2.6,
            spread_shape="bell",
            over_life=curve((0, 0.35), (0.1, 1), (0.6, 0.72), (1, 0.12)),
        ),
        opacity=Number(value=100, over_life=curve((0, 0), (0.04, 1), (0.7, 0.85), (1, 0))),
        brightness=Number(value=3.2, spread=1.5, over_life=curve((0, 1.4), (0.25, 1), (0.7, 0.5), (1, 0.12))),
        colour=ramp({0: "#fff0c8", 0.16: "#ffc163", 0.5: "#ff6a2b", 1: "#6b1a14"}, {}),
        blend="add",
        body=Round(softness=Number(value=100)),
        group="fire",
    )


def _glow() -> Emitter:
    return Emitter(
        id="glow",
        name="Basket glow",
        seed=5,
        shape=Disc(radius=Number(value=15)),
        up=Number(value=-131),
        rate=Number(value=46),
        pre_roll_s=2,
        lifespan=Number(value=0.85, spread=0.3),
        spread=Number(value=60),
        speed=Number(value=62, spread=30),
        size=Number(value=70, spread=22, over_life=curve((0, 0.55), (0.35, 1), (1, 0.3))),
        opacity=Number(value=34, over_life=curve((0, 0), (0.2, 1), (1, 0))),
        brightness=Number(value=1.1, spread=0.4),
        colour=ramp({0: "#ffe2a6", 0.4: "#ff9a3d", 1: "#b3341a"}, {}),
        body=Puff(rough=Number(value=45), softness=Number(value=90)),
        angle=Number(value=0, spread=180),
        spin=Number(value=0, spread=50),
        blend="add",
        group="fire",
    )


def _ash() -> Emitter:
    return Emitter(
        id="ash",
        name="Ash",
        seed=23,
        shape=Disc(radius=Number(value=20)),
        up=Number(value=-120),
        rate=Number(value=26),
        pre_roll_s=7,
        lifespan=Number(value=6, spread=1.5),
        spread=Number(value=64),
        speed=Number(value=120, spread=60),
        in_depth=True,
        size=Number(value=3.2, spread=1.4),
        opacity=Number(value=62, over_life=curve((0, 0), (0.1, 1), (0.7, 0.8), (1, 0))),
        colour=ramp({0: "#8a7468", 1: "#3a3a40"}, {0: 1, 1: 0.6}),
        lightness=Number(value=100, spread=35),
        body=Shard(slender=Number(value=35)),
        angle=Number(value=0, spread=180),
        spin=Number(value=0, spread=240),
    )


def _haze() -> Emitter:
    """Hot air: invisible, it refracts the picture behind it."""
    return Emitter(
        id="haze",
        name="Heat haze",
        seed=27,
        shape=Disc(radius=Number(value=26)),
        up=Number(value=-110),
        rate=Number(value=26),
        pre_roll_s=3,
        lifespan=Number(value=2.4, spread=0.6),
        spread=Number(value=30),
        speed=Number(value=90, spread=30),
        size=Number(value=52, spread=20, over_life=curve((0, 0.5), (1, 1.5))),
        opacity=Number(value=55, over_life=curve((0, 0), (0.2, 1), (1, 0))),
        body=Puff(rough=Number(value=70), softness=Number(value=80)),
        angle=Number(value=0, spread=180),
        use=Use(kind="glass", amount=Number(value=9)),
    )


def beacon(plate: str) -> Shot:
    """The shot over a plate given by its file."""
    emitters = (_haze(), _ash(), _glow(), _embers())
    forces = (
        Gravity(id="heat", name="Rising heat", strength=Number(value=0.62, spread=0.3), direction=Number(value=90)),
        Gravity(
            id="breeze",
            name="Sea breeze",
            strength=Number(value=0.34, spread=0.22),
            direction=Number(value=8),
        ),
        Drag(id="air", name="Air", strength=Number(value=0.9, spread=0.35)),
        Turbulence(
            id="swirl",
            name="Heat swirl",
            strength=Number(value=70, over_life=curve((0, 0), (0.15, 0.5), (1, 1))),
            size=Number(value=120),
            grip=Number(value=0.45),
            evolve=Number(value=0.5),
        ),
    )
    reach = {
        "embers": ("heat", "breeze", "air", "swirl"),
        "ash": ("heat", "breeze", "air", "swirl"),
        "glow": ("heat",),
        "haze": ("heat",),
    }
    # What burns is finished as one: its light spreads, and stays over the ash and the haze.
    fire = Group(
        id="fire",
        name="Fire",
        blend="add",
        finish=(
            Glow(amount=Number(value=70), radius=Number(value=9), above=Number(value=30), colour="#ffb070"),
            Glow(amount=Number(value=34), radius=Number(value=60), above=Number(value=60), colour="#ff8a4a"),
        ),
    )
    return Shot(
        name="Beacon",
        seed=2026,
        plate=Plate(name="Pier at dusk", media=plate, beyond="loop"),
        camera=Camera(shutter=Number(value=180)),
        emitters=emitters,
        groups=(fire,),
        forces=forces,
        links=tuple(Link(force=f, emitter=e) for e, all_ in reach.items() for f in all_),
    )


def first_shot(name: str) -> Shot:
    """What a new shot starts with: one emitter that already looks like something."""
    emitter = Emitter(
        id="emitter",
        name="First emitter",
        seed=1,
        shape=Disc(radius=Number(value=40)),
        up=Number(value=-150),
        rate=Number(value=160),
        pre_roll_s=3,
        lifespan=Number(value=2.8, spread=0.8),
        spread=Number(value=50),
        speed=Number(value=260, spread=80),
        size=Number(value=14, spread=6, over_life=curve((0, 0.2), (0.25, 1), (1, 0.3))),
        opacity=Number(value=85, over_life=curve((0, 0), (0.12, 1), (0.6, 0.8), (1, 0))),
        colour=ramp({0: "#f4fbff", 0.45: "#8fd0ee", 1: "#31588c"}, {}),
        blend="add",
    )
    gravity = Gravity(id="gravity", name="Gravity", strength=Number(value=0.8), direction=Number(value=270))
    drag = Drag(id="drag", name="Drag", strength=Number(value=0.3))
    links = tuple(Link(force=f, emitter="emitter") for f in ("gravity", "drag"))
    return Shot(name=name, background="#0b1014", emitters=(emitter,), forces=(gravity, drag), links=links)
