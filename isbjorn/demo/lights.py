"""Shots of the festival's nights: *Skarvøy*, a title that wind takes apart; *Net lights*; *Rime*, which grows over a pane."""

from __future__ import annotations

from isbjorn.core.document import (
    Artwork,
    Blur,
    Burst,
    Camera,
    Curve,
    CurvePoint,
    Displacement,
    Drag,
    Emitter,
    FromPlate,
    Glow,
    Gravity,
    Lamp,
    Letters,
    Lines,
    Marker,
    Matte,
    Number,
    Plate,
    Rectangle,
    Round,
    Shot,
    Star,
    Trail,
    Turbulence,
    Wind,
    Words,
    Zone,
)
from isbjorn.core.document.fields.values import Source
from isbjorn.core.document.model.pieces import Assemble, Cut, Pieces, Release
from isbjorn.core.document.parts.interactions import Contagion
from isbjorn.demo.frost import ferns
from isbjorn.demo.pieces import curve, keyed, ramp, reach

_FRONT = ((0.0, -1500.0), (4.4, -1320.0), (8.2, 160.0), (10.0, 520.0))
_COMES = (CurvePoint(at=0, value=0), CurvePoint(at=0.5, value=0.5), CurvePoint(at=1, value=1))


def skarvoy(plate: str) -> Shot:
    """The title comes together out of lights on the water, and a gust from the left takes it apart again, piece by piece."""
    word = Letters(text="Skarvøy", height=Number(value=300))
    harbour = Rectangle(width=Number(value=1500), height=Number(value=90))

    def in_pieces(cut: Cut, size: float, late_s: float) -> Pieces:
        return Pieces(
            cut=cut, size=Number(value=size), variation=Number(value=45),
            release=Release(
                by="direction", at_s=5.6 + late_s, duration=Number(value=2.6), softness=Number(value=24), tremble=Number(value=1.4),
                tremble_s=0.7,
            ),
            assemble=Assemble(
                by="noise", patches=Number(value=150), at_s=1.5 + late_s, duration=Number(value=1.8), softness=Number(value=35),
                curve=Curve(points=_COMES), start=harbour, start_y=Number(value=-330),
            ),
        )  # fmt: skip

    title = Emitter(
        id="title", name="Title", seed=41, shape=word, up=Number(value=40), pieces=in_pieces("shards", 13, 0.25),
        lifespan=Number(value=2.6, spread=0.7), spread=Number(value=70), direction=Number(value=62),
        speed=Number(value=70, spread=50), spin=Number(value=0, spread=240, over_life=curve((0, 1), (1, 0.3))),
        spin_x=Number(value=0, spread=160), spin_y=Number(value=0, spread=160),
        size=Number(value=8, over_life=curve((0, 1), (0.3, 0.9), (1, 0.35))), mass=Number(value=1, spread=0.4),
        opacity=Number(value=100, over_life=curve((0, 1), (0.62, 1), (1, 0))),
        colour=ramp({0: "#ffeed2", 0.35: "#ffcf9a", 1: "#8fdcff"}, {}),
        finish=(Glow(amount=Number(value=30), radius=Number(value=18), above=Number(value=35), colour="#ffdcae"),),
    )  # fmt: skip
    dust = Emitter(
        id="glints", name="Glints", seed=44, shape=word, up=Number(value=40), spacing="even", pieces=in_pieces("points", 5.2, 0),
        lifespan=Number(value=3.4, spread=1.1), spread=Number(value=120), direction=Number(value=50),
        speed=Number(value=60, spread=60), size=Number(value=2.2, spread=1.1), mass=Number(value=1, spread=0.5),
        opacity=Number(value=100, over_life=curve((0, 0.4), (0.1, 1), (0.6, 1), (1, 0))),
        brightness=Number(value=1.3, spread=0.9), colour=ramp({0: "#fff3dc", 0.55: "#ffd9a8", 1: "#9fe8ff"}, {}),
        colour_by="speed", colour_from=20, colour_to=420, blend="add",
        finish=(Glow(amount=Number(value=60), radius=Number(value=14), above=Number(value=10), colour="#ffdcae"),),
    )  # fmt: skip
    letters = Emitter(
        id="letters", name="Letters", seed=42, shape=Rectangle(width=Number(value=26), height=Number(value=190)),
        carried_by="front", across=Number(value=800), up=Number(value=0), rate=Number(value=11), start_s=5.4, end_s=8.6,
        lifespan=Number(value=4.2, spread=0.8), direction=Number(value=24), spread=Number(value=70),
        speed=Number(value=150, spread=80), angle=Number(value=0, spread=25), spin=Number(value=0, spread=110),
        body=Words(text="SKARVØY LIGHTS", deal="as born"), size=Number(value=30, spread=14, over_life=curve((0, 0.2), (0.2,
        1), (1, 0.8))),
        opacity=Number(value=92, over_life=curve((0, 0), (0.1, 1), (0.75, 0.9), (1, 0))), brightness=Number(value=1.1),
        colour=ramp({0: "#fff1d8", 0.5: "#ffdcb0", 1: "#bfeaff"}, {}),
    )  # fmt: skip
    flakes = Emitter(
        id="flakes", name="Blown snow", seed=43, shape=Rectangle(width=Number(value=60), height=Number(value=760)),
        across=Number(value=-700), rate=Number(value=150), pre_roll_s=8, lifespan=Number(value=8, spread=2),
        direction=Number(value=-6), spread=Number(value=24), speed=Number(value=190, spread=90),
        size=Number(value=3.4, spread=2.2), opacity=Number(value=55, spread=35), colour=ramp({0: "#e6f2ff"}, {}),
        body=Star(points=6, inner=Number(value=30), softness=Number(value=60)), spin=Number(value=0, spread=180),
    )  # fmt: skip
    forces = (
        Wind(
            id="gust", name="Gust", zone="in-gust", strength=Number(value=430, spread=160), direction=Number(value=12, spread=16),
            grip=Number(value=1.5),
        ),
        Turbulence(
            id="tumble", name="Tumble", zone="in-gust", strength=Number(value=240), size=Number(value=170), octaves=2,
            grip=Number(value=2.0), evolve=Number(value=0.4),
        ),
        Turbulence(
            id="eddies", name="Eddies", strength=Number(value=130), size=Number(value=260), grip=Number(value=1.2),
            evolve=Number(value=0.3),
        ),
        Wind(id="breeze", name="Breeze", strength=Number(value=210), direction=Number(value=4), grip=Number(value=0.5)),
        Gravity(id="weight", name="Weight", strength=Number(value=0.5)),
    )  # fmt: skip
    # A front rather than a cloud: everything to the left of its edge is in the gust.
    gust = Zone(
        id="in-gust", name="Gust front", shape="box", carried_by="front", width=Number(value=1600), height=Number(value=900),
        deep=Number(value=900), falloff=Number(value=150),
    )  # fmt: skip
    front = Marker(id="front", name="Front", across=keyed(*_FRONT), up=Number(value=40))
    return Shot(
        name="Skarvøy", seed=75, plate=Plate(name="Northern lights", media=plate, beyond="loop"), markers=(front,), zones=(gust,),
        camera=Camera(shutter=Number(value=180)), emitters=(flakes, title, dust, letters), forces=forces,
        links=reach({
            "title": ("gust", "tumble", "eddies"), "glints": ("gust", "tumble", "eddies"),
            "letters": ("breeze", "tumble", "weight"), "flakes": ("breeze",),
        }),
    )  # fmt: skip


def net_lights(plate: str) -> Shot:
    """Lamps in a net over the quay: points that sway, joined by lines in their colours."""
    lamps = Emitter(
        id="lamps", name="Lamps", seed=45, shape=Rectangle(width=Number(value=1080), height=Number(value=330)),
        up=Number(value=120),
        spacing="even", rate=Number(value=0), bursts=(Burst(at_s=0, count=150),), lifespan=Number(value=0),
        spread=Number(value=360), speed=Number(value=0), size=Number(value=9, spread=4),
        brightness=Number(value=2.2, spread=1.2), colour=ramp({0: "#ffd9a0", 0.35: "#ff9d6e", 0.6: "#ff6f91",
        0.8: "#8fd6ff", 1: "#7ff0c8"}, {}),
        colour_by="random", blend="add",
        lines=Lines(distance=Number(value=126), most=6, width=Number(value=1.4), opacity=Number(value=42), fade=Number(value=80)),
        finish=(Glow(amount=Number(value=120), radius=Number(value=20), above=Number(value=25)),),
    )  # fmt: skip
    mirror = Emitter(
        id="mirror", name="In the water", seed=46, shape=Rectangle(width=Number(value=1180), height=Number(value=120)),
        up=Number(value=-252),
        rate=Number(value=42), pre_roll_s=3, lifespan=Number(value=1.6, spread=0.8), spread=Number(value=360),
        speed=Number(value=3, spread=3),
        size=Number(value=34, spread=18), opacity=Number(value=30, over_life=curve((0, 0), (0.3, 1), (1, 0))),
        colour=ramp({0: "#ffd9a0", 0.4: "#ff8f7e", 0.75: "#8fd6ff", 1: "#7ff0c8"}, {}), colour_by="random", blend="add",
        finish=(Blur(sigma=Number(value=4)),), hidden_by=("boats",),
    )  # fmt: skip
    fall = Emitter(
        id="fall", name="Falling sparks", seed=47, shape=Rectangle(width=Number(value=1000), height=Number(value=300)),
        up=Number(value=130),
        rate=Number(value=9), pre_roll_s=3, lifespan=Number(value=2.4, spread=0.6), direction=Number(value=270),
        spread=Number(value=60),
        speed=Number(value=40, spread=25), size=Number(value=3.4, spread=1.5), opacity=Number(value=90, over_life=curve((0,
        0), (0.1, 1), (1, 0))),
        brightness=Number(value=2.4), colour=ramp({0: "#fff0d0", 0.5: "#ffb066", 1: "#ff5f4f"}, {}), blend="add",
        trail=Trail(length=Number(value=9), width=Number(value=70), glow=Number(value=60)),
    )  # fmt: skip
    boats = Matte(
        id="boats",
        name="Boats and deck",
        kind="dark",
        low=Number(value=5.2),
        high=Number(value=8),
        feather=Number(value=1.5),
    )
    forces = (
        Displacement(
            id="sway", name="Sway", strength=Number(value=22), size=Number(value=340), evolve=Number(value=0.22)
        ),
        Gravity(id="weight", name="Weight", strength=Number(value=0.9)),
        Drag(id="air", name="Air", strength=Number(value=0.7)),
    )
    return Shot(
        name="Net lights", seed=76, plate=Plate(name="The quay", media=plate, beyond="loop"), emitters=(mirror, lamps, fall),
        forces=forces, mattes=(boats,), links=reach({"lamps": ("sway",), "fall": ("weight", "air")}),
    )  # fmt: skip


def rime(plate: str) -> Shot:
    """Frost on a pane: two hundred thousand still points along the edges of ferns, which freezing reaches from one to the next, out
    of the pane's foot; seen where the lamps fall."""
    fresh = Source(measure="since caught", low=0, high=1.5, makes_low=4.5, makes_high=1)
    there = Source(measure="since caught", low=0, high=0.35)
    ice = Emitter(
        id="ice", name="Frost", seed=51, shape=Artwork(paths=ferns(1220, 680), name="ferns of frost",
        width=Number(value=1230), fill="edge"),
        rate=Number(value=0), bursts=(Burst(at_s=0, count=198_000),), lifespan=Number(value=0),
        across=Number(value=0, spread=1.2), up=Number(value=0, spread=1.2), speed=Number(value=0), size=Number(value=1.15,
        spread=0.7), brightness=Number(value=1, source=fresh), opacity=Number(value=62, spread=26, source=there),
        colour=ramp({0: "#e4fbff", 0.25: "#bfe9ff", 0.6: "#d3ecfa", 1: "#a4cdec"}, {}),
        colour_by="since caught", colour_to=2.5,
        lit=Number(value=62), hue=Number(value=0, spread=8),
        finish=(Glow(amount=Number(value=26), radius=Number(value=14), above=Number(value=35), colour="#bfe0ff"),),
    )  # fmt: skip
    grains = Emitter(
        id="crystals", name="Crystals", seed=52, shape=Artwork(paths=ferns(1220, 680), name="ferns of frost",
        width=Number(value=1230), fill="edge"),
        rate=Number(value=0), bursts=(Burst(at_s=0, count=900),), lifespan=Number(value=0), across=Number(value=0, spread=3),
        up=Number(value=0, spread=3), speed=Number(value=0), size=Number(value=6, spread=4, spread_shape="bell"),
        angle=Number(value=0, spread=180), body=Star(points=6, inner=Number(value=24), softness=Number(value=40)),
        opacity=Number(value=75, spread=25, source=there), brightness=Number(value=1.5, spread=0.8, source=fresh),
        colour=ramp({0: "#ffffff", 1: "#cfe8ff"}, {}),
        colour_by="random", lit=Number(value=80), blend="add",
    )  # fmt: skip
    breath = Emitter(
        id="edges", name="Where the lamps end", seed=53, shape=FromPlate(by="edges", above=Number(value=22)), rate=Number(value=0),
        bursts=(Burst(at_s=0, count=5000),), lifespan=Number(value=0), speed=Number(value=0), size=Number(value=2, spread=1.2),
        opacity=Number(value=26, spread=20), colour_by="plate", brightness=Number(value=1.8), body=Round(softness=Number(value=80)),
        blend="add",
    )  # fmt: skip
    freezing = Contagion(
        id="freezing", name="Freezing", radius=Number(value=6), pace=Number(value=120, spread=70),
        wait=Number(value=0.01, spread=0.01),
        seeds="sill", seed_first=0,
    )  # fmt: skip
    sill = Zone(
        id="sill",
        name="Cold sill",
        shape="box",
        up=Number(value=-345),
        width=Number(value=900),
        height=Number(value=16),
        falloff=Number(value=0),
    )
    lamps = (
        Lamp(
            id="street", name="Street lamp", across=Number(value=-430), up=Number(value=-240), radius=Number(value=170),
            falloff=Number(value=560), strength=Number(value=95), colour="#e8f4ff", power=Number(value=1.3),
        ),
        Lamp(
            id="window", name="From the room", across=Number(value=500), up=Number(value=-200), radius=Number(value=120),
            falloff=Number(value=520), strength=Number(value=115), colour="#ffd9ae", power=Number(value=1.4),
        ),
        Lamp(
            id="moon", name="Moon", across=Number(value=-330), up=Number(value=330), radius=Number(value=80),
            falloff=Number(value=420),
            strength=Number(value=60), colour="#bcd8ff", power=Number(value=1.5),
        ),
    )  # fmt: skip
    return Shot(
        name="Rime", seed=77, last_frame=149, plate=Plate(name="A pane", media=plate, beyond="loop"),
        emitters=(breath, ice, grains),
        lights=lamps, zones=(sill,), forces=(freezing,),
        links=reach({"ice": ("freezing",), "crystals": ("freezing",)}),
    )  # fmt: skip
