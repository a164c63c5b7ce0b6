"""Title looks of the library: words and drawings of the festival that come apart into particles, or are assembled from them."""

from __future__ import annotations

from typing import Any

from isbjorn.core.document import (
    Artwork,
    Blur,
    Drag,
    Emitter,
    Force,
    Glow,
    Gravity,
    Letters,
    Line,
    Number,
    Rectangle,
    Ring,
    Shape,
    Shot,
    Star,
    Trail,
    Turbulence,
    Wind,
)
from isbjorn.core.document.model.pieces import Assemble, Cut, Pieces, Release
from isbjorn.demo.pieces import curve, ramp, reach

# A herring, as in the shoal.
_HERRING = "M50 0C30-22-10-22-30-4L-50-18V18L-30 4C-10 22 30 22 50 0Z"
_FADES = curve((0, 1), (0.55, 1), (1, 0))


def _word(text: str = "Skarvøy", height: float = 220, **more: Any) -> Letters:
    return Letters(text=text, height=Number(value=height), **more)


def _cut(cut: Cut, size: float, variation: float = 0, angle: float = 0) -> dict[str, Any]:
    return {
        "cut": cut, "size": Number(value=size), "variation": Number(value=variation), "angle": Number(value=angle),
        "release": None,
    }  # fmt: skip


def _leaves(by: str = "direction", angle: float = 0, lasts: float = 1.5, soft: float = 30, **more: Any) -> Release:
    return Release.model_validate({"by": by, "at_s": 0.3, "duration": lasts, "softness": soft, "angle": angle, **more})


def _comes(start: Shape, by: str = "direction", lasts: float = 1.1, **more: Any) -> Assemble:
    return Assemble.model_validate({"by": by, "at_s": 0.5, "duration": lasts, "softness": 35, "start": start, **more})


def _look(name: str, forces: tuple[Force, ...], **fields: Any) -> Shot:
    title = Emitter(name=name, id="title", **fields)
    return Shot(name=name, emitters=(title,), forces=forces, links=reach({"title": tuple(f.id for f in forces)}))


def _gusts(strength: float, size: float = 180, grip: float = 1.2) -> Turbulence:
    return Turbulence(
        id="gusts", name="Gusts", strength=Number(value=strength), size=Number(value=size), grip=Number(value=grip)
    )


def _wind(strength: float, direction: float, grip: float = 1.0) -> Wind:
    return Wind(
        id="wind", name="Wind", strength=Number(value=strength, spread=strength / 4),
        direction=Number(value=direction, spread=8), grip=Number(value=grip),
    )  # fmt: skip


def _sand() -> Shot:
    return _look(
        "Title of sand", (_wind(330, 8), _gusts(150), Gravity(id="fall", name="Weight", strength=Number(value=0.25))),
        shape=_word(), pieces=Pieces(**_cut("squares", 4, 50) | {"release": _leaves(soft=45)}),
        lifespan=Number(value=1.8, spread=0.8), speed=Number(value=25, spread=25), spread=Number(value=180), seed=51,
        opacity=Number(value=100, over_life=_FADES), mass=Number(value=1, spread=0.5),
        colour=ramp({0: "#e9c58f", 1: "#b98a55"}, {}), hue=Number(value=0, spread=8),
    )  # fmt: skip


def _sparks() -> Shot:
    return _look(
        "Sparks that write", (_gusts(240, 120),),
        shape=_word(fill="edge"), spacing="even",
        pieces=Pieces(**_cut("points", 6) | {"assemble": _comes(Rectangle(width=Number(value=1200), height=Number(value=20)),
                                                                 start_y=-330)}),
        lifespan=Number(value=1.0, spread=0.4), speed=Number(value=260, spread=120), spread=Number(value=80), seed=52,
        size=Number(value=4, spread=1.6), brightness=Number(value=2.2, spread=0.8), blend="add",
        colour=ramp({0: "#ffd9a0", 0.5: "#ff9050", 1: "#b03a2a"}, {}), trail=Trail(length=Number(value=7)),
        finish=(Glow(amount=Number(value=70), radius=Number(value=12), above=Number(value=20)),),
    )  # fmt: skip


def _frost() -> Shot:
    return _look(
        "Frost into letters", (),
        shape=_word(), pieces=Pieces(**_cut("hexagons", 9, 55) | {
            "assemble": _comes(_word(), "neighbours", 1.4, x=-330, y=-60, match="nearest"),
        }),
        lifespan=Number(value=0.5, spread=0.2), speed=Number(value=0), spin=Number(value=0, spread=160), seed=53,
        size=Number(value=8, over_life=curve((0, 1), (1, 0))), opacity=Number(value=100, over_life=curve((0, 1), (1, 0))),
        brightness=Number(value=1.05, spread=0.25), colour=ramp({0: "#d5efff", 1: "#7cc0ea"}, {}),
    )  # fmt: skip


def _autumn() -> Shot:
    return _look(
        "Leaves off a word", (
            Gravity(id="fall", name="Fall", strength=Number(value=0.35)), _gusts(220, 260), Drag(id="air", name="Air"),
            _wind(120, 200, 0.6),
        ),
        shape=_word(), pieces=Pieces(**_cut("shards", 20, 40) | {"release": _leaves("noise", patches=120, tremble=1.5)}),
        lifespan=Number(value=2.4, spread=0.8), speed=Number(value=20, spread=20), spread=Number(value=360), seed=54,
        spin=Number(value=0, spread=120), spin_x=Number(value=0, spread=260), spin_y=Number(value=0, spread=200),
        opacity=Number(value=100, over_life=_FADES), colour_by="random",
        colour=ramp({0: "#f2b24c", 0.35: "#e07f3a", 0.7: "#c4502f", 1: "#8e8a3c"}, {}),
    )  # fmt: skip


def _ink() -> Shot:
    return _look(
        "Ink in water", (_gusts(70, 140, 2.0), Drag(id="water", name="Water", strength=Number(value=2))),
        shape=_word(), pieces=Pieces(**_cut("shards", 6, 60) | {"release": _leaves("noise", lasts=1.6, patches=90)}),
        lifespan=Number(value=2.6, spread=0.7), speed=Number(value=26, spread=20), spread=Number(value=360), seed=55,
        size=Number(value=8, over_life=curve((0, 1), (1, 2.6))),
        opacity=Number(value=100, over_life=curve((0, 1), (0.15, 0.6), (1, 0))),
        colour=ramp({0: "#e8f0ff", 0.4: "#8aa6e8", 1: "#4a4fa8"}, {}), finish=(Blur(sigma=Number(value=1.6)),),
    )  # fmt: skip


def _paper() -> Shot:
    return _look(
        "Paper strips", (Gravity(id="fall", name="Fall", strength=Number(value=0.3)), _gusts(120, 320), Drag(id="air", name="Air")),
        shape=_word(), pieces=Pieces(**_cut("strips", 15, 30, 6) | {"release": _leaves("reading order", lasts=1.3)}),
        lifespan=Number(value=2.2, spread=0.6), direction=Number(value=20, spread=150), speed=Number(value=120, spread=70),
        spread=Number(value=20), spin=Number(value=0, spread=50), spin_x=Number(value=0, spread=220), seed=56,
        opacity=Number(value=100, over_life=curve((0, 1), (0.8, 1), (1, 0))), colour=ramp({0: "#f6efe2", 1: "#d9cdb8"}, {}),
    )  # fmt: skip


def _bubbles() -> Shot:
    return _look(
        "Bubbles that spell", (_gusts(110, 130),),
        shape=_word("Plankton", 200), spacing="even",
        pieces=Pieces(**_cut("points", 7) | {
            "assemble": _comes(Rectangle(width=Number(value=1100), height=Number(value=60)), "chance", 1.3, start_y=-380),
        }),
        lifespan=Number(value=1.5, spread=0.5), speed=Number(value=90, spread=50), spread=Number(value=50), seed=57,
        body=Ring(width=Number(value=18)), size=Number(value=9, spread=4), opacity=Number(value=90, spread=10),
        brightness=Number(value=1.3),
        colour=ramp({0: "#b9f3ff", 1: "#6fc7e8"}, {}), hue=Number(value=0, spread=14), blend="add",
    )  # fmt: skip


def _snowed() -> Shot:
    return _look(
        "Snow lettering", (_gusts(90, 200), _wind(60, 250, 0.5)),
        shape=_word(), spacing="even",
        pieces=Pieces(**_cut("points", 5.2) | {"assemble": _comes(Line(length=Number(value=1300)), "chance", 1.4, start_y=420)}),
        lifespan=Number(value=2.2, spread=0.8), direction=Number(value=270), speed=Number(value=110, spread=50),
        spread=Number(value=50), body=Star(points=6, inner=Number(value=40), softness=Number(value=25)), seed=58,
        size=Number(value=8, spread=3), brightness=Number(value=1.2), spin=Number(value=0, spread=90),
        colour=ramp({0: "#ffffff", 1: "#cfe4f5"}, {}),
    )  # fmt: skip


def _lantern_points() -> Shot:
    return _look(
        "Lanterns along the letters", (_gusts(60, 240),),
        shape=_word("Lights", 230, fill="edge"), spacing="even",
        pieces=Pieces(**_cut("points", 17) | {
            "assemble": _comes(Rectangle(width=Number(value=1100), height=Number(value=30)), "reading order", 1.3, start_y=-330),
        }),
        lifespan=Number(value=1.8, spread=0.5), speed=Number(value=70, spread=30), spread=Number(value=40), seed=59,
        size=Number(value=13, spread=3), brightness=Number(value=1.8, spread=0.6), blend="add", colour_by="random",
        colour=ramp({0: "#ffd9a0", 0.5: "#ff9d6e", 1: "#ffb6c6"}, {}),
        finish=(Glow(amount=Number(value=90), radius=Number(value=18), above=Number(value=15)),),
    )  # fmt: skip


def _blown() -> Shot:
    return _look(
        "Letters in the wind", (_wind(420, 14, 1.3), _gusts(180, 220)),
        shape=_word("Skarvøy Lights", 120),
        pieces=Pieces(cut="letters", release=_leaves("reading order", lasts=1.3, backwards=True, tremble=2)),
        lifespan=Number(value=1.8, spread=0.4), speed=Number(value=40, spread=30), spread=Number(value=90), seed=60,
        spin=Number(value=0, spread=200), opacity=Number(value=100, over_life=_FADES),
        colour=ramp({0: "#fff1d8", 1: "#bfeaff"}, {}),
    )  # fmt: skip


def _becoming() -> Shot:
    return _look(
        "One word becomes another", (_gusts(200, 160),),
        shape=_word("Skarvøy"),
        pieces=Pieces(**_cut("squares", 8, 30) | {
            "release": _leaves(lasts=0.7), "assemble": Assemble(at_s=1.1, duration=Number(value=0.8), into=_word("Lights")),
        }),
        speed=Number(value=90, spread=60), spread=Number(value=360), spin=Number(value=0, spread=120), seed=61,
        colour=ramp({0: "#ffcf9a", 1: "#8fe0ff"}, {}),
    )  # fmt: skip


def _herring() -> Shot:
    return _look(
        "A herring in shards", (_gusts(160, 200), Drag(id="water", name="Water")),
        shape=Artwork(paths=(_HERRING,), name="herring", width=Number(value=620)),
        pieces=Pieces(**_cut("shards", 18, 30) | {"release": _leaves("point", lasts=0.9), "assemble": Assemble(
            by="direction", at_s=1.2, duration=Number(value=0.7), angle=Number(value=180),
        )}),
        toward="outward", spread=Number(value=40), speed=Number(value=220, spread=80), spin=Number(value=0, spread=160), seed=62,
        spin_y=Number(value=0, spread=180), colour=ramp({0: "#cfe6ee", 1: "#5fb8d8"}, {}), brightness=Number(value=1, spread=0.25),
    )  # fmt: skip


def titles() -> tuple[tuple[Shot, list[str]], ...]:
    """The title looks, each with its tags."""
    return (
        (_sand(), ["title", "pieces", "wind"]), (_sparks(), ["title", "points", "fire"]), (_frost(), ["title", "pieces", "ice"]),
        (_autumn(), ["title", "pieces", "fall"]), (_ink(), ["title", "pieces", "water"]), (_paper(), ["title", "strips", "paper"]),
        (_bubbles(), ["title", "points", "water"]), (_snowed(), ["title", "points", "snow"]),
        (_lantern_points(), ["title", "points", "light"]), (_blown(), ["title", "letters", "wind"]),
        (_becoming(), ["title", "pieces", "morph"]), (_herring(), ["artwork", "pieces", "water"]),
    )  # fmt: skip
