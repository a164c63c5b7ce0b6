"""Shots of interacting particles: *Shoal* and *Buoys in a crate*."""

from __future__ import annotations

from isbjorn.core.document import (
    Attractor,
    Ball,
    Box,
    Burst,
    Camera,
    Drop,
    Emitter,
    Flutter,
    Follow,
    Gravity,
    Marker,
    Number,
    PathPoint,
    Plate,
    Rectangle,
    Shot,
    Surface,
    Turbulence,
    Vortex,
)
from isbjorn.core.document.parts.bodies import Ring
from isbjorn.core.document.parts.interactions import Flock, Push
from isbjorn.demo.pieces import curve, keyed, ramp, reach
from isbjorn.demo.seas import CRATE, SEAL_S, seal_at


def shoal(plate: str) -> Shot:
    """Shoal: herring that swim as one, led round on their way, and part where a seal comes through."""
    way = (
        PathPoint(x=-330, y=30, z=0, arrive=(-20.0, -130.0), leave=(20.0, 130.0)),
        PathPoint(x=40, y=140, z=-220, arrive=(-150.0, 10.0), leave=(150.0, -10.0)),
        PathPoint(x=350, y=-10, z=-40, arrive=(10.0, 120.0), leave=(-10.0, -120.0)),
        PathPoint(x=0, y=-130, z=160, arrive=(160.0, -10.0), leave=(-160.0, 10.0)),
    )
    times = [n * SEAL_S / 8 for n in range(9)]
    seal = Marker(
        id="seal", name="Seal", across=keyed(*((t, round(seal_at(t)[0], 1)) for t in times)),
        up=keyed(*((t, round(seal_at(t)[1], 1)) for t in times)),
    )  # fmt: skip
    fish = Emitter(
        id="herring", name="Herring", seed=19, shape=Ball(radius=Number(value=170)), across=Number(value=-240),
        up=Number(value=20), rate=Number(value=0), bursts=(Burst(at_s=-4, count=640, over_s=0.5),), lifespan=Number(value=0),
        direction=Number(value=80), spread=Number(value=40), in_depth=True, speed=Number(value=150, spread=30),
        size=Number(value=23, spread=6), facing="motion", body=Drop(slender=Number(value=68), softness=Number(value=45)),
        brightness=Number(value=1.1, spread=0.5, flutter=Flutter(times_per_s=1.3, amount=0.5)),
        colour=ramp({0: "#e9fbff", 0.5: "#a9d4e0", 1: "#dff6ff"}, {}), colour_by="random",
        lightness=Number(value=88, spread=22), order="farthest first",
    )  # fmt: skip
    motes = Emitter(
        id="motes", name="Motes", seed=20,
        shape=Box(width=Number(value=1500), height=Number(value=800), deep=Number(value=700)),
        rate=Number(value=90), pre_roll_s=7, lifespan=Number(value=7, spread=1), spread=Number(value=360), in_depth=True,
        speed=Number(value=8, spread=6), size=Number(value=2.2, spread=1), blend="add",
        opacity=Number(value=35, over_life=curve((0, 0), (0.2, 1), (0.8, 1), (1, 0))), colour=ramp({0: "#bfeee9"}, {}),
    )  # fmt: skip
    forces = (
        Flock(
            id="school", name="School", radius=Number(value=85), apart=Number(value=26), separation=Number(value=620),
            alignment=Number(value=3.2), cohesion=Number(value=170), least_speed=Number(value=110), top_speed=Number(value=330),
        ),
        Follow(
            id="way", name="Their way", points=way, closed=True, strength=Number(value=175), pull=Number(value=0.35),
            grip=Number(value=0.9),
        ),
        Attractor(
            id="fear", name="Away from the seal", carried_by="seal", strength=Number(value=-3600), radius=Number(value=110),
            power=Number(value=2.4), softness=Number(value=40),
        ),
        Turbulence(
            id="sway", name="Sway", strength=Number(value=45), size=Number(value=210), along_z=Number(value=100),
            grip=Number(value=1.0), evolve=Number(value=0.25),
        ),
    )  # fmt: skip
    return Shot(
        name="Shoal", seed=74, last_frame=199, plate=Plate(name="Depths", media=plate, beyond="hold"),
        camera=Camera(
            kind="perspective", pan=keyed((0, -3), (4, 3), (8, -3)), shutter=Number(value=180), aperture=Number(value=46),
        ), emitters=(motes, fish), forces=forces, markers=(seal,),
        links=reach({"herring": ("school", "way", "fear", "sway"), "motes": ("sway",)}),
    )  # fmt: skip


def buoys(plate: str) -> Shot:
    """Buoys in a crate: bodies of many sizes that fill it, stirred and left to settle, coloured by their speed."""
    across, up, wide, high = CRATE
    floats = Emitter(
        id="buoys", name="Buoys", seed=41, shape=Rectangle(width=Number(value=wide - 60), height=Number(value=high - 60)),
        across=Number(value=across), up=Number(value=up), rate=Number(value=0), bursts=(Burst(at_s=-2, fill=74, over_s=0.6),),
        lifespan=Number(value=0), toward="anywhere", speed=Number(value=40, spread=40),
        size=Number(value=26, spread=17),
        body=Ring(width=Number(value=46), softness=Number(value=12)), colour_by="speed", colour_from=0, colour_to=420,
        colour=ramp({0: "#4796b4", 0.35: "#f2a65a", 0.7: "#ff6b4a", 1: "#fff1d6"}, {}), facing="motion",
        lightness=Number(value=100, spread=14),
    )  # fmt: skip
    forces = (
        Push(id="push", name="They push", friction=Number(value=0.35), rounds=10),
        Surface(
            id="crate", name="Crate", shape="box", side="inside", across=Number(value=across), up=Number(value=up),
            width=Number(value=wide), height=Number(value=high), deep=Number(value=4000), restitution=Number(value=30),
            friction=Number(value=0.2),
        ),
        Gravity(id="down", name="Weight", strength=Number(value=5)),
        Vortex(
            id="stir", name="Stirred", across=Number(value=across), up=Number(value=up - 60), radius=Number(value=150),
            strength=keyed((0, 0), (0.8, 0), (1.2, 520), (3.0, 520), (3.6, 0), (6.0, 0), (6.4, -620), (7.6, -620), (8, 0)),
        ),
    )  # fmt: skip
    return Shot(
        name="Buoys in a crate", seed=77, last_frame=249, plate=Plate(name="Crate", media=plate, beyond="loop"),
        camera=Camera(shutter=Number(value=120)), emitters=(floats,), forces=forces,
        links=reach({"buoys": ("push", "crate", "down", "stir")}),
    )  # fmt: skip
