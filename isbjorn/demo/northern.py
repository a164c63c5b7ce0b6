"""*Northern lights, live*: curtains of light, driven by a piece of music: the bass lifts them, bells strike sparks, and the beat
throws lights up over the roofs."""

from __future__ import annotations

from isbjorn.core.document import (
    Blur,
    Burst,
    Camera,
    Control,
    Drag,
    Emitter,
    Glow,
    Hearing,
    Number,
    Plate,
    Rectangle,
    Round,
    Shot,
    Sound,
    Star,
    Streak,
    Trail,
    Turbulence,
)
from isbjorn.core.document.fields.placed import PathPoint
from isbjorn.core.document.fields.values import Source
from isbjorn.core.document.model.controls import Incoming
from isbjorn.core.document.parts.shapes import PathShape
from isbjorn.demo.pieces import curve, ramp, reach

_SOUND = "night-music"


def led(what: str, low: float, high: float, makes_low: float, makes_high: float, release_s: float = 0.25) -> Source:
    """Multiplied by what is heard: from low … high to makes_low … makes_high."""
    return Source(
        measure="sound", sound=_SOUND, hears=Hearing.model_validate({"what": what, "release_s": release_s}), low=low, high=high,
        makes_low=makes_low, makes_high=makes_high, combine="multiply",
    )  # fmt: skip


def moved(control: str, low: float, high: float, combine: str) -> Source:
    """Led by a control: from low to high."""
    return Source.model_validate(
        {"measure": "number", "thing": f"{control}.value", "makes_low": low, "makes_high": high, "combine": combine}
    )


def night_music(media: str, digest: str) -> Sound:
    """The piece as a sound of a shot."""
    return Sound(id=_SOUND, name="Night music", media=media, digest=digest)


def northern(plate: str, media: str, digest: str) -> Shot:
    """The lights and the music."""
    way = ((-700, 30, 0, 0), (-330, 150, 130, -40), (60, 60, 150, 20), (420, 190, 130, -30), (720, 90, 0, 0))
    points = tuple(PathPoint(x=x, y=y, arrive=(-u, -v), leave=(u, v)) for x, y, u, v in way)
    curtain = Emitter(
        id="curtain", name="Curtain", seed=91, shape=PathShape(points=points), rate=Number(
            value=420, source=led("level", 0.08, 0.38, 0.55, 1.5)
        ),
        pre_roll_s=4, lifespan=Number(value=2.6, spread=1.1), direction=Number(value=90), spread=Number(value=10),
        speed=Number(value=30, spread=20),
        size=Number(value=150, spread=80, over_life=curve((0, 0.5), (0.35, 1), (1, 1.25))),
        across=Number(value=0, source=moved("walker", -320, 320, "add")),
        body=Streak(width=Number(value=9)), angle=Number(value=90, spread=4),
        opacity=Number(value=9, spread=5, over_life=curve((0, 0), (0.25, 1), (0.6, 0.7), (1, 0))),
        brightness=Number(value=1.5, spread=0.6, source=led("bass", 0.06, 0.34, 0.6, 2.1), reads="life"),
        colour=ramp({0: "#5dffb4", 0.45: "#39d6c3", 0.75: "#6f8cff", 1: "#b46bff"}, {}), colour_by="random", blend="add",
        finish=(Blur(sigma=Number(value=2.2)), Glow(amount=Number(value=55), radius=Number(value=34), above=Number(value=8))),
    )  # fmt: skip
    sparks = Emitter(
        id="sparks", name="Bells", seed=92, shape=Rectangle(width=Number(value=1000), height=Number(value=220)),
        up=Number(value=190), rate=Number(value=0), bursts=(Burst(sound=_SOUND, count=9, over_s=0.05, threshold_db=-9),),
        lifespan=Number(value=1.3, spread=0.6), spread=Number(value=360), speed=Number(value=26, spread=20),
        size=Number(value=38, spread=20, over_life=curve((0, 0.2), (0.08, 1), (1, 0.25))), body=Star(
            points=4, inner=Number(value=14), softness=Number(value=70)
        ),
        spin=Number(value=0, spread=40), opacity=Number(value=90, over_life=curve((0, 1), (0.4, 0.6), (1, 0))),
        brightness=Number(value=2.4, spread=1), colour=ramp({0: "#ffffff", 0.5: "#c9f6ff", 1: "#ffd9f3"}, {}), colour_by="random",
        blend="add", finish=(Glow(amount=Number(value=85), radius=Number(value=14), above=Number(value=20)),),
    )  # fmt: skip
    roofs = Emitter(
        id="roofs", name="Beat over the roofs", seed=93, shape=Rectangle(width=Number(value=1240), height=Number(value=14)),
        up=Number(value=-286), rate=Number(value=0), bursts=(Burst(sound=_SOUND, on="beats", count=46, over_s=0.1),),
        lifespan=Number(value=1.5, spread=0.6), direction=Number(value=90), spread=Number(value=26),
        speed=Number(value=170, spread=110), size=Number(value=5, spread=3, over_life=curve((0, 1), (1, 0.4))),
        body=Round(softness=Number(value=70)), opacity=Number(value=85, over_life=curve((0, 1), (0.5, 0.8), (1, 0))),
        brightness=Number(value=1.8, spread=1), colour=ramp({0: "#ffd9a0", 0.5: "#ff9f7a", 1: "#ff6fae"}, {}),
        trail=Trail(length=Number(value=9)), blend="add",
        finish=(Glow(amount=Number(value=70), radius=Number(value=10), above=Number(value=20)),),
    )  # fmt: skip
    motes = Emitter(
        id="motes", name="Snow light", seed=94, shape=Rectangle(width=Number(value=1400), height=Number(value=720)),
        rate=Number(value=60), pre_roll_s=7, lifespan=Number(value=6, spread=2), direction=Number(value=-80),
        spread=Number(value=40),
        speed=Number(value=20, spread=12), size=Number(value=3, spread=1.8), body=Round(softness=Number(value=80)),
        opacity=Number(value=50, spread=30, over_life=curve((0, 0), (0.2, 1), (0.8, 1), (1, 0))),
        brightness=Number(value=1, spread=0.5, source=led("treble", 0.01, 0.08, 0.7, 3.2, 0.12), reads="life"), blend="add",
    )  # fmt: skip
    forces = (
        Turbulence(
            id="drift", name="Drift", strength=Number(value=60, source=moved("storm", 0.1, 1.9, "multiply")),
            size=Number(value=260), octaves=2, grip=Number(value=1.4), evolve=Number(value=0.25),
        ),
        Drag(id="air", name="Still air", strength=Number(value=0.6)),
    )  # fmt: skip
    # At rest in the middle, where they change nothing: faders, or a person in front of the screen, move them.
    controls = (
        Control(id="walker", name="Walker", comes_from=Incoming(address="/walker", smooth_s=0.15)),
        Control(id="storm", name="Storm", comes_from=Incoming(address="/desk/1", smooth_s=0.1)),
    )
    return Shot(
        name="Northern lights, live", seed=90, plate=Plate(name="Northern lights", media=plate, beyond="loop"),
        camera=Camera(), emitters=(motes, curtain, roofs, sparks), forces=forces, sounds=(night_music(media, digest),),
        controls=controls,
        links=reach({"curtain": ("drift",), "sparks": ("air",), "roofs": ("air",), "motes": ("drift",)}),
    )  # fmt: skip
