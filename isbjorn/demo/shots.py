"""The other shots of the demonstration: *Bow wave*, *Breath of the whale* and *Plankton*."""

from __future__ import annotations

from isbjorn.core.document import (
    Blur,
    Burst,
    Camera,
    Curve,
    Disc,
    Drag,
    Drop,
    Emitter,
    Flutter,
    Glow,
    Gravity,
    Line,
    Marker,
    MotionPath,
    Number,
    PathPoint,
    Plate,
    Puff,
    Rectangle,
    Shot,
    Source,
    Streak,
    Surface,
    Turbulence,
    Vortex,
    Wind,
    Zone,
)
from isbjorn.demo.pieces import curve, keyed, ramp, reach
from isbjorn.demo.seas import WATERLINE, bow_across

_WATER = round((0.5 - WATERLINE) * 720, 1)


def _onset(*points: tuple[float, float]) -> Curve:
    return curve(*points)


def bow_wave(plate: str) -> Shot:
    """Spray at a ferry's bow that moves through the picture: equally dense per px at any speed."""
    bow = Marker(
        id="bow",
        name="Bow",
        across=keyed(*((t, round(bow_across(t), 2)) for t in range(11))),
        up=Number(value=_WATER + 2),
    )
    spray = Emitter(
        id="spray", name="Spray", seed=3, shape=Line(length=Number(value=26), angle=Number(value=68)), carried_by="bow",
        rate=Number(value=14), rate_per="px", lifespan=Number(value=1.5, spread=0.5), direction=Number(value=104, spread=10),
        spread=Number(value=44), speed=Number(value=170, spread=95), inherit=Number(value=55, spread=20), in_depth=True,
        size=Number(value=2.6, spread=1.6, over_life=curve((0, 0.5), (0.15, 1), (1, 0.5))),
        opacity=Number(value=78, over_life=curve((0, 0.2), (0.06, 1), (0.6, 0.8), (1, 0))),
        colour=ramp({0: "#ffffff", 0.5: "#cfe4ee", 1: "#7f9db0"}, {}), body=Drop(slender=Number(value=40),
        softness=Number(value=70)),
        facing="motion", stretch=Number(value=38),
    )  # fmt: skip
    mist = Emitter(
        id="mist", name="Mist", seed=4, shape=Disc(radius=Number(value=14)), carried_by="bow", up=Number(value=16),
        rate=Number(value=1.6), rate_per="px", lifespan=Number(value=2.6, spread=0.8), direction=Number(value=112),
        spread=Number(value=70), speed=Number(value=70, spread=40), inherit=Number(value=40),
        size=Number(value=46, spread=22, over_life=curve((0, 0.3), (1, 1))),
        opacity=Number(value=16, over_life=curve((0, 0), (0.15, 1), (1, 0))), colour=ramp({0: "#dfeaf2", 1: "#7d93a6"}, {}),
        body=Puff(rough=Number(value=60), softness=Number(value=90)), angle=Number(value=0, spread=180),
        spin=Number(value=0, spread=30),
        finish=(Blur(sigma=Number(value=3)),),
    )  # fmt: skip
    foam = Emitter(
        id="foam", name="Foam", seed=6, shape=Rectangle(width=Number(value=30), height=Number(value=8)), carried_by="bow",
        up=Number(value=-9), rate=Number(value=5), rate_per="px", lifespan=Number(value=6, spread=2), direction=Number(value=270),
        spread=Number(value=70), speed=Number(value=14, spread=10),
        size=Number(value=8, spread=5, over_life=curve((0, 0.6), (0.3, 1), (1, 1.5))),
        opacity=Number(value=22, over_life=curve((0, 0), (0.05, 1), (0.5, 0.5), (1, 0))),
        colour=ramp({0: "#eef6fa", 1: "#4f6a7c"}, {}),
    )  # fmt: skip
    forces = (
        Gravity(id="weight", name="Weight", strength=Number(value=2.9)),
        Drag(id="air", name="Air", strength=Number(value=0.8, spread=0.3)),
        Turbulence(id="gusts", name="Gusts", strength=Number(value=46), size=Number(value=150), grip=Number(value=0.9)),
        Surface(
            id="water", name="Water", up=Number(value=_WATER - 6), outcome="die",
        ),
        Drag(id="drags", name="Water's drag", strength=Number(value=1.1)),
    )  # fmt: skip
    return Shot(
        name="Bow wave", seed=71, camera=Camera(shutter=Number(value=180)), plate=Plate(name="Ferry at night",
        media=plate), markers=(bow,), emitters=(foam, mist, spray),
        forces=forces,
        links=reach({"spray": ("weight", "air", "gusts", "water"), "mist": ("gusts", "air"), "foam": ("drags",)}),
    )  # fmt: skip


def breath(plate: str) -> Shot:
    """Breath of the whale: a spout that rises, thins, and is drawn away by the air."""
    up = Number(value=-146)
    bursts = (Burst(at_s=0.8, count=2600, over_s=1.1, times=3, every_s=3.4),)
    spout = Emitter(
        id="spout", name="Spout", seed=9, shape=Disc(radius=Number(value=7)), up=up, rate=Number(value=0), bursts=bursts,
        lifespan=Number(value=2.7, spread=0.9), spread=Number(value=24), in_depth=True,
        speed=Number(value=640, spread=280, over_life=curve((0, 1), (0.4, 0.6), (1, 0.35))),
        size=Number(value=18, spread=8, over_life=curve((0, 0.3), (0.3, 1), (1, 2.6))),
        body=Puff(rough=Number(value=50), softness=Number(value=95)), angle=Number(value=0, spread=180),
        spin=Number(value=0, spread=40),
        finish=(Blur(sigma=Number(value=2.5)),), opacity=Number(value=13, over_life=curve((0, 0), (0.08, 1), (0.35, 0.7), (1, 0))),
        colour=ramp({0: "#fff3e6", 0.5: "#f0d9cc", 1: "#b7aeb4"}, {}),
    )  # fmt: skip
    drops = Emitter(
        id="drops", name="Drops", seed=10, shape=Disc(radius=Number(value=5)), up=up, rate=Number(value=0),
        bursts=(Burst(at_s=0.8, count=700, over_s=0.9, times=3, every_s=3.4),), lifespan=Number(value=2.2, spread=0.5),
        spread=Number(value=30), in_depth=True, speed=Number(value=420, spread=180), size=Number(value=5, spread=2),
        opacity=Number(value=85, over_life=curve((0, 0), (0.1, 1), (0.8, 0.9), (1, 0))), colour=ramp({0: "#fff6ec"}, {}),
        body=Streak(width=Number(value=30)), facing="motion", stretch=Number(value=25),
    )  # fmt: skip
    forces = (
        Drag(id="air", name="Air", strength=Number(value=1.1, spread=0.3)),
        Gravity(id="weight", name="Weight", strength=Number(value=4.2)),
        Turbulence(
            id="swirl", name="Swirl", strength=Number(value=95, over_life=_onset((0, 0), (0.2, 0.4), (1, 1))),
            size=Number(value=130), octaves=2, grip=Number(value=1.6), evolve=Number(value=0.35),
        ),
        Wind(
            id="breeze", name="Morning breeze", direction=Number(value=176), grip=Number(value=0.55),
            strength=Number(value=70, flutter=Flutter(times_per_s=0.4, amount=30)),
        ),
        Surface(id="water", name="Water", up=Number(value=-178), outcome="die"),
    )  # fmt: skip
    return Shot(
        name="Breath of the whale", seed=72, camera=Camera(shutter=Number(value=180)), plate=Plate(name="Whale at dawn",
        media=plate, beyond="loop"), forces=forces,
        emitters=(spout, drops),
        links=reach({"spout": ("air", "swirl", "breeze"), "drops": ("weight", "breeze", "water")}),
    )  # fmt: skip


def plankton(plate: str) -> Shot:
    """Plankton: points that wake where an oar stirs them."""
    ring = tuple(
        PathPoint(x=x, y=y, arrive=arrive, leave=leave)
        for x, y, arrive, leave in (
            (150.0, -40.0, (0.0, -38.7), (0.0, 38.7)), (0.0, 30.0, (82.8, 0.0), (-82.8, 0.0)),
            (-150.0, -40.0, (0.0, 38.7), (0.0, -38.7)), (0.0, -110.0, (-82.8, 0.0), (82.8, 0.0)),
        )
    )  # fmt: skip
    blade = Marker(
        id="oar", name="Oar", path=MotionPath(points=ring, closed=True, along=keyed((0, 0), (8, 200), joint="straight"))
    )
    near = Source(measure="distance", thing="oar", low=30, high=210, makes_low=1, makes_high=0.07)
    points = Emitter(
        id="points", name="Plankton", seed=14, shape=Rectangle(width=Number(value=1300), height=Number(value=560)),
        up=Number(value=60), rate=Number(value=900), pre_roll_s=7, lifespan=Number(value=6, spread=1.4),
        spread=Number(value=360), speed=Number(value=9, spread=6), size=Number(value=3.2, spread=1.8),
        opacity=Number(value=100, over_life=curve((0, 0), (0.15, 1), (0.85, 1), (1, 0)), source=near, reads="life"),
        brightness=Number(value=3, spread=1.5, source=near, reads="life"),
        colour=ramp({0: "#7ff5ff", 0.5: "#3fc8ff", 1: "#2f7dff"}, {}), blend="add", hue=Number(value=0, spread=24),
        finish=(Glow(amount=Number(value=110), radius=Number(value=7), above=Number(value=12)),),
    )  # fmt: skip
    glow = Emitter(
        id="glow", name="Wake", seed=15, shape=Disc(radius=Number(value=16)), carried_by="oar", rate=Number(value=240),
        lifespan=Number(value=1.7, spread=0.6), spread=Number(value=360), speed=Number(value=26, spread=20),
        inherit=Number(value=35), pre_roll_s=2, size=Number(value=15, spread=8, over_life=curve((0, 0.4), (1, 1))),
        opacity=Number(value=14, over_life=curve((0, 0), (0.2, 1), (1, 0))), colour=ramp({0: "#58e0ff", 1: "#1b4fd0"}, {}),
        blend="add", finish=(Blur(sigma=Number(value=5)),),
    )  # fmt: skip
    forces = (
        Vortex(
            id="eddy", name="Eddy", carried_by="oar", radius=Number(value=60), strength=Number(value=120), zone="near"
        ),
        Turbulence(
            id="current", name="Current", strength=Number(value=22), size=Number(value=260), grip=Number(value=1.2)
        ),
        Drag(id="water", name="Water", strength=Number(value=0.9)),
    )
    zone = Zone(id="near", name="Near the oar", carried_by="oar", radius=Number(value=210), falloff=Number(value=130))
    everything = ("eddy", "current", "water")
    return Shot(
        name="Plankton", seed=73, last_frame=199, plate=Plate(name="Oar", media=plate, beyond="loop"), markers=(blade,),
        zones=(zone,), emitters=(points, glow), forces=forces, links=reach({"points": everything, "glow": everything}),
    )  # fmt: skip
