"""The emitters that ship in the library: those of the demonstration, and a few of their own."""

from __future__ import annotations

import functools

from isbjorn.core.document import (  # fmt: skip
    Burst,
    Camera,
    Disc,
    Drag,
    Emitter,
    Gravity,
    Letters,
    Line,
    Number,
    Rectangle,
    Shot,
    Turbulence,
    Vortex,
    Wind,
    Zone,
)
from isbjorn.core.document.editing import scene_edits
from isbjorn.core.document.emitter_parts.ripples import Ripples
from isbjorn.core.document.emitter_parts.strands import Strand
from isbjorn.core.document.fields.values import Flutter, Source
from isbjorn.core.document.parts.interactions import Contagion
from isbjorn.core.document.parts.models import ModelShape
from isbjorn.demo.beacon import beacon
from isbjorn.demo.crowds import buoys, shoal
from isbjorn.demo.fountain import fountain
from isbjorn.demo.furnace import glass
from isbjorn.demo.kelp import kelp
from isbjorn.demo.lanterns import lanterns
from isbjorn.demo.lights import net_lights, rime, skarvoy
from isbjorn.demo.pieces import curve, ramp, reach
from isbjorn.demo.ribbon import ribbon
from isbjorn.demo.shots import bow_wave, breath, plankton
from isbjorn.demo.titles import titles

_GROUND = "#0b1014"


def _snow() -> Shot:
    flakes = Emitter(
        id="flakes", name="Snow over the pier", seed=31, shape=Rectangle(width=Number(value=1500), height=Number(value=40)),
        up=Number(value=400), rate=Number(value=170), pre_roll_s=12, lifespan=Number(value=11, spread=2),
        direction=Number(value=270), spread=Number(value=20), speed=Number(value=75, spread=25),
        size=Number(value=5, spread=3), opacity=Number(value=80, spread=20), colour=ramp({0: "#eef5fa"}, {}),
    )  # fmt: skip
    forces = (
        Wind(
            id="wind", name="Night wind", strength=Number(value=95), direction=Number(value=261), grip=Number(value=1)
        ),
        Turbulence(id="gusts", name="Gusts", strength=Number(value=45), size=Number(value=300), grip=Number(value=0.5)),
    )
    return Shot(name=flakes.name, emitters=(flakes,), forces=forces, links=reach({"flakes": ("wind", "gusts")}))


def _signal() -> Shot:
    flare = Emitter(
        id="flare", name="Signal flare", seed=32, shape=Disc(radius=Number(value=4)), rate=Number(value=0),
        bursts=(Burst(at_s=0.1, count=600, times=30, every_s=1.6),), lifespan=Number(value=1.3, spread=0.4),
        spread=Number(value=360), in_depth=True, speed=Number(value=380, spread=110, over_life=curve((0, 1), (0.3, 0.3), (1, 0.1))),
        size=Number(value=5, spread=2, over_life=curve((0, 1), (1, 0.2))), brightness=Number(value=2.5), blend="add",
        colour=ramp({0: "#fff1dd", 0.3: "#ff8f6b", 1: "#7a1f3d"}, {0.7: 1, 1: 0}),
    )  # fmt: skip
    return Shot(name=flare.name, emitters=(flare,))


def _letters() -> Shot:
    word = Emitter(
        id="letters", name="Letters loosened", seed=33, shape=Letters(text="Skarvøy", height=Number(value=230)),
        rate=Number(value=1400), pre_roll_s=2, lifespan=Number(value=2.2, spread=0.8), spread=Number(value=360),
        speed=Number(value=4, spread=4), size=Number(value=4, spread=2), blend="add",
        opacity=Number(value=85, over_life=curve((0, 0), (0.1, 1), (0.6, 0.8), (1, 0))),
        colour=ramp({0: "#fff6e8", 0.5: "#ffc98a", 1: "#b35b3a"}, {}),
    )  # fmt: skip
    loose = Wind(
        id="wind", name="What loosens them", strength=Number(value=160, over_life=curve((0, 0), (0.55, 0.05), (1, 1))),
        direction=Number(value=12, spread=14), grip=Number(value=1.4),
    )  # fmt: skip
    return Shot(name=word.name, emitters=(word,), forces=(loose,), links=reach({"letters": ("wind",)}))


def _eddy() -> Shot:
    dust = Emitter(
        id="dust", name="Dust in an eddy", seed=34, shape=Disc(radius=Number(value=220), fill="edge"), rate=Number(value=380),
        pre_roll_s=5, lifespan=Number(value=4.5, spread=1), spread=Number(value=360), speed=Number(value=10, spread=10),
        size=Number(value=4, spread=2), opacity=Number(value=70, over_life=curve((0, 0), (0.15, 1), (1, 0))), blend="add",
        colour=ramp({0: "#6b5f8c", 0.5: "#ff9d7a", 1: "#ffe9c4"}, {}),
    )  # fmt: skip
    eddy = Vortex(id="eddy", name="Eddy", strength=Number(value=190), radius=Number(value=90), pull=Number(value=0.5))
    return Shot(name=dust.name, emitters=(dust,), forces=(eddy,), links=reach({"dust": ("eddy",)}))


def _curtain() -> Shot:
    threads = Emitter(
        id="threads", name="Curtain of threads", seed=35, shape=Line(length=Number(value=900)), spacing="even",
        up=Number(value=250),
        rate=Number(value=0), bursts=(Burst(at_s=-3, count=150),), lifespan=Number(value=0), speed=Number(value=0),
        direction=Number(value=270), spread=Number(value=0), size=Number(value=3.2, spread=1.4), colour_by="strand", blend="add",
        opacity=Number(value=70, spread=25), hue=Number(value=0, spread=10),
        colour=ramp({0: "#ffe7c4", 0.45: "#ff9a6b", 0.8: "#a0407a", 1: "#4a2a6b"}, {}),
        strand=Strand(
            joints=28, length=Number(value=500, spread=14), stiffness=Number(value=0.08), damping=Number(value=30), foot="hem",
            slack=Number(value=1.5), tip=Number(value=60), softness=Number(value=50),
        ),
    )  # fmt: skip
    forces = (
        Gravity(id="weight", name="Weight", strength=Number(value=5)),
        Wind(
            id="gust", name="Gust", zone="draught", direction=Number(value=8), grip=Number(value=2),
            strength=Number(value=170, flutter=Flutter(times_per_s=0.5, amount=240)),
        ),
        Drag(id="air", name="Air", strength=Number(value=1.2)),
    )  # fmt: skip
    zones = (
        Zone(
            id="hem", name="Hem", shape="box", up=Number(value=-240), width=Number(value=1000), height=Number(value=30)
        ),
        Zone(
            id="draught", name="Draught", across=Number(value=-120), radius=Number(value=330), falloff=Number(value=220)
        ),
    )
    return Shot(
        name=threads.name,
        emitters=(threads,),
        forces=forces,
        zones=zones,
        links=reach({"threads": ("weight", "gust", "air")}),
    )


def _pond() -> Shot:
    drops = Emitter(
        id="drops", name="Rain on a pond", seed=36, shape=Rectangle(width=Number(value=1000), height=Number(value=230)),
        up=Number(value=-60), rate=Number(value=26), cadence="random", pre_roll_s=3, lifespan=Number(value=0.1),
        speed=Number(value=0), size=Number(value=7, spread=5),
        ripples=Ripples(
            up=Number(value=-60), width=Number(value=1050), length=Number(value=700), tilt=Number(value=70), edge=Number(value=60),
            walls=False, speed=130, damping=1.1, height=Number(value=2.6), shade=Number(value=110), highlight=Number(value=170),
            gloss=Number(value=22), light_colour="#cfe4ff",
        ),
    )  # fmt: skip
    return Shot(name=drops.name, emitters=(drops,))


def _comets() -> Shot:
    heads = Emitter(
        id="comets", name="Comets", seed=37, shape=Line(length=Number(value=700)), up=Number(value=330), rate=Number(value=1.3),
        pre_roll_s=3, lifespan=Number(value=4, spread=0.6), direction=Number(value=262, spread=12), spread=Number(value=0),
        speed=Number(value=190, spread=50), size=Number(value=9, spread=2), brightness=Number(value=2.2), blend="add",
        colour=ramp({0: "#fff4dc", 1: "#ffb46b"}, {0.85: 1, 1: 0}),
    )  # fmt: skip
    crumbs = Emitter(
        id="crumbs", name="What they lose", seed=38, born_of="comets", rate=Number(value=130), shape=Disc(radius=Number(value=4)),
        inherit=Number(value=14), spread=Number(value=360), speed=Number(value=16, spread=12),
        lifespan=Number(value=1.6, spread=0.7), size=Number(value=4.2, spread=2.4, over_life=curve((0, 1), (1, 0.2))),
        blend="add", brightness=Number(value=1.4),
        opacity=Number(value=85, over_life=curve((0, 0), (0.05, 1), (1, 0))),
        colour=ramp({0: "#ffd08a", 0.5: "#e0603f", 1: "#4a2140"}, {}),
    )  # fmt: skip
    fall = Gravity(id="fall", name="Slow fall", strength=Number(value=0.25))
    return Shot(name=heads.name, emitters=(crumbs, heads), forces=(fall,), links=reach({"crumbs": ("fall",)}))


def _cut() -> Shot:
    """Lights along the edges of a stone, which catch from its point upward."""
    stone = ModelShape(
        form="gem", births="edges", sharp=Number(value=8), size=Number(value=560), turn_x=Number(value=14)
    )
    there = Source(measure="since caught", low=0, high=0.3, makes_low=0.04)
    fresh = Source(measure="since caught", low=0, high=1.2, makes_low=5, makes_high=1)
    lights = Emitter(
        id="cut", name="Lights along edges", seed=40, shape=stone, rate=Number(value=0), bursts=(Burst(at_s=0, count=9000),),
        spacing="even", lifespan=Number(value=0), speed=Number(value=0), size=Number(value=3.2, spread=1.4),
        opacity=Number(value=90, source=there), brightness=Number(value=1.2, spread=0.5, source=fresh), blend="add",
        colour=ramp({0: "#ffb066", 0.5: "#fff1d6", 1: "#8fd8ff"}, {}), colour_by="since caught", colour_to=3,
    )  # fmt: skip
    catch = Contagion(id="catch", name="From light to light", seeds="point", seed_first=0, radius=Number(value=24),
                      pace=Number(value=190, spread=80))  # fmt: skip
    point = Zone(id="point", name="Point", up=Number(value=-270), radius=Number(value=70), falloff=Number(value=0))
    return Shot(
        name=lights.name, camera=Camera(kind="perspective"), emitters=(lights,), forces=(catch,), zones=(point,),
        links=reach({"cut": ("catch",)}),
    )  # fmt: skip


@functools.cache
def shipped() -> tuple[tuple[list[str], Shot], ...]:
    """Tags and shots of the shipped emitters, each alone with all that it depends on, over dark ground."""
    taken = (
        (beacon("-"), "embers", ["fire", "sparks"]), (beacon("-"), "ash", ["fire", "dust"]),
        (beacon("-"), "glow", ["fire", "light"]), (bow_wave("-"), "spray", ["water", "per px", "moving"]),
        (breath("-"), "spout", ["water", "vapour", "burst"]), (plankton("-"), "points", ["water", "light", "source"]),
        (shoal("-"), "herring", ["water", "flock", "path"]), (buoys("-"), "buoys", ["bodies", "push", "crate"]),
        (kelp("-"), "right", ["water", "strands", "plant"]), (kelp("-"), "lamps", ["light", "strands", "hung"]),
        (ribbon("-"), "ribbon", ["light", "loop", "bent"]),
        (skarvoy("-"), "flakes", ["weather", "snow", "wind"]), (net_lights("-"), "lamps", ["light", "lines"]),
        (lanterns("-"), "lanterns", ["light", "models", "paper"]),
        (glass("-"), "melt", ["liquid", "skin", "fire"]),
        (fountain("-"), "jet", ["water", "jet"]), (fountain("-"), "rings", ["water", "rings", "born of"]),
        (fountain("-"), "clear", ["water", "models", "glass"]),
        (net_lights("-"), "fall", ["fire", "trail"]), (rime("-"), "crystals", ["ice", "still", "lit"]),
    )  # fmt: skip
    own = ((_snow(), ["weather", "snow"]), (_signal(), ["fire", "burst"]), (_letters(), ["letters", "title", "wind"]),
           (_eddy(), ["dust", "vortex"]), (_curtain(), ["strands", "light", "hung"]), (_pond(), ["water", "ripples", "rain"]),
           (_comets(), ["fire", "born of", "trail"]), (_cut(), ["light", "models", "contagion"]))  # fmt: skip
    found = [(tags, scene_edits.alone(shot, name)) for shot, name, tags in taken]
    found += [(tags, shot) for shot, tags in (*own, *titles())]
    return tuple((tags, shot.model_copy(update={"background": _GROUND})) for tags, shot in found)
