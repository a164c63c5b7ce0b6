"""*Fountain on the square*: a jet that rises, spreads and falls; its drops die on the water, and leave rings and spray there."""

from __future__ import annotations

import numpy as np

from isbjorn.core.arrays import Floats
from isbjorn.core.document import (
    Blur,
    Camera,
    Drag,
    Emitter,
    Glow,
    Gravity,
    Lamp,
    Number,
    Plate,
    Puff,
    Round,
    Shot,
    Streak,
    Surface,
    Turbulence,
    Wind,
)
from isbjorn.core.document.emitter_parts.ripples import Ripples
from isbjorn.core.document.fields.values import Flutter
from isbjorn.core.document.parts.bodies import Ring
from isbjorn.core.document.parts.models import ModelBody
from isbjorn.core.document.parts.shapes import Disc, Rectangle
from isbjorn.demo.nights import skyline, stars
from isbjorn.demo.northern import led, night_music
from isbjorn.demo.paint import HEIGHT, WIDTH, Painter, graded, grid, mix, rgb, shade
from isbjorn.demo.pieces import curve, ramp, reach

SQUARE_FRAMES = 50
# The basin is level at this height, with this width; and the camera's lens, in px (50 mm on 36).
_WATER, _BASIN, _NOZZLE, _LENS = -226.0, 400.0, -150.0, 1280 / 36 * 50


def _on_ground(px: Floats, py: Floats, height: float) -> tuple[Floats, Floats, Floats]:
    """Where a level plane is seen at pixels from the centre: x and z in px of the shot, and whether there is any (0 or 1)."""
    below = py < -4
    grown = np.where(below, py / height, 1)
    z = _LENS * (1 - 1 / np.maximum(grown, 1e-3))
    return (px / np.maximum(grown, 1e-3)).astype(np.float32), z.astype(np.float32), below.astype(np.float32)


def square() -> Painter:
    """A square at night: houses with lit windows, wet cobbles, and a round basin of stone with its nozzle; comes round after two
    seconds."""
    x, y = grid()
    px, py = ((x - 0.5) * WIDTH).astype(np.float32), ((0.5 - y) * HEIGHT).astype(np.float32)
    line = 0.515
    base = graded(y, {0: "070c17", 0.3: "0e1a2c", line: "233245"})
    base += stars(71, 300, 0.34)[..., None] * rgb("dbe6ff") * 0.8
    roofs = skyline(x[0], line - 0.06, 23)
    house = np.clip((y - roofs[None]) * HEIGHT, 0, 1)
    base = mix(base, rgb("0b121b"), house)
    rng, windows = np.random.default_rng(19), np.zeros((HEIGHT, WIDTH), np.float32)
    for _ in range(95):
        column, row = (
            int(rng.integers(6, WIDTH - 12)),
            int(rng.integers(int(0.36 * HEIGHT), int((line - 0.02) * HEIGHT))),
        )
        if house[row, column] > 0 and house[row, column + 7] > 0:
            windows[row : row + 7, column : column + 5] = 0.12 + 0.5 * rng.random()
    base += windows[..., None] * rgb("ffbf78")
    # Cobbles, larger the nearer they are.
    gx, gz, _ = _on_ground(px, py, -250.0)
    lane = np.floor(gz / 34)
    stone = np.floor(gx / 46 + 0.5 * lane)
    rough = np.sin(lane * 127.1 + stone * 311.7) * 43758.5453
    rough = (rough - np.floor(rough)).astype(np.float32)
    edge = np.minimum(np.abs(gz / 34 - lane - 0.5), np.abs(gx / 46 + 0.5 * lane - stone - 0.5))
    joint = np.clip((0.5 - edge) * 9, 0.35, 1)
    near = np.clip(1 - np.hypot(gx, gz) / 1500, 0, 1) ** 2 + 0.22 * np.exp(-np.maximum(0, -gz) / 9000)
    wet = (0.10 + 0.10 * rough) * joint * (0.35 + 1.5 * near)
    paving = (wet[..., None] * rgb("8795a6") + (0.05 * near * joint)[..., None] * rgb("ffcf96")).astype(np.float32)
    base = np.where((y > line)[..., None], paving, base).astype(np.float32)
    # The basin: rim, wall to the viewer, water.
    wx, wz, _ = _on_ground(px, py, _WATER)
    away = np.hypot(wx, wz)
    below = py < -4
    rx, rz, _ = _on_ground(px, py, _WATER + 10)
    rim = (np.hypot(rx, rz) < _BASIN + 46) & below
    side = np.zeros_like(rim)
    for drop in range(0, 44, 2):
        side |= (np.hypot(*_on_ground(px, py, _WATER + 10 - drop)[:2]) < _BASIN + 46) & below
    light = np.clip(0.5 + 0.35 * np.sin(np.arctan2(rx, rz) * 2 + 1.0), 0, 1)
    base[side] = (rgb("3c444e") * 0.5 * (0.5 + 0.5 * light)[..., None])[side]
    base[rim] = (rgb("6d7680") * (0.34 + 0.4 * light)[..., None])[rim]
    pool = (away < _BASIN) & below
    pillar = (np.abs(px) < 9 + 5 * np.clip((_NOZZLE - 14 - py) / 80, 0, 1)) & (py < _NOZZLE) & (py > _WATER - 8)
    grain = np.random.default_rng(64).normal(0, 0.006, (4, HEIGHT, WIDTH, 1)).astype(np.float32)
    glow = np.exp(-((away / 190) ** 2)).astype(np.float32)

    def paint(number: int) -> np.ndarray:
        turn = np.float32(2 * np.pi * number / SQUARE_FRAMES)
        wave = np.sin(away / 9 - 2 * turn + np.sin(wx / 31 + turn)) * np.sin(wx / 23 + wz / 37 - turn)
        water = (
            rgb("0f2027") * (1 + 0.25 * wave)[..., None]
            + (glow * (0.30 + 0.06 * wave))[..., None] * rgb("ffc98a")
            + (0.05 * np.clip(wave, 0, 1) ** 4)[..., None] * rgb("cfe4ff")
        )
        picture = np.where(pool[..., None], water, base)
        picture = np.where(
            pillar[..., None], rgb("39414a") * (0.6 + 0.5 * np.clip(1 - np.abs(px + 4) / 12, 0, 1))[..., None], picture
        )
        return shade(picture.astype(np.float32) + grain[number % 4])

    return paint


def fountain(plate: str, media: str = "", digest: str = "") -> Shot:
    """The fountain, which rises with the music: drops stretched along their motion live long enough for the flight; rings spread
    where they land."""
    drops = Emitter(
        id="jet", name="Jet", seed=81, shape=Disc(radius=Number(value=4)), up=Number(value=_NOZZLE), rate=Number(
            value=760, flutter=Flutter(times_per_s=0.7, amount=120)
        ),
        pre_roll_s=3, lifespan=Number(value=4), spread=Number(value=31), in_depth=True,
        speed=Number(
            value=610, spread=60, flutter=Flutter(times_per_s=0.45, amount=45),
            source=led("level", 0.08, 0.38, 0.9, 1.12, 0.5) if media else None,
        ),
        size=Number(value=3.4, spread=1.8),
        mass=Number(value=1, spread=0.3), body=Streak(width=Number(value=34)), facing="motion", stretch=Number(value=26),
        opacity=Number(value=66, spread=20), brightness=Number(value=1.25, spread=0.5),
        colour=ramp({0: "#ffffff", 0.4: "#dcecf8", 1: "#b9d3e6"}, {}), lit=Number(value=55),
        finish=(Glow(amount=Number(value=22), radius=Number(value=12), above=Number(value=40), colour="#ffd9a6"),),
    )  # fmt: skip
    clear = Emitter(
        id="clear", name="Clear drops", seed=87, shape=Disc(radius=Number(value=6)), up=Number(value=_NOZZLE),
        rate=Number(value=34),
        pre_roll_s=3, lifespan=Number(value=4), spread=Number(value=37), in_depth=True, speed=Number(
            value=600, spread=80, source=led("level", 0.08, 0.38, 0.9, 1.12, 0.5) if media else None,
        ),
        size=Number(value=17, spread=7), mass=Number(value=1.4, spread=0.3), facing="motion", stretch=Number(value=12),
        body=ModelBody(
            form="drop", slender=Number(value=16), material="glass", index=Number(value=1.33), roughness=Number(value=2),
            surroundings="night", ambient=Number(value=420),
        ),
        opacity=Number(value=92, over_life=curve((0, 0), (0.04, 1), (1, 1))), colour=ramp({0: "#f4faff"}, {}), lit=Number(value=70),
        order="farthest first",
    )  # fmt: skip
    core = Emitter(
        id="core", name="Column", seed=82, shape=Disc(radius=Number(value=5)), up=Number(value=_NOZZLE), rate=Number(value=420),
        pre_roll_s=2, lifespan=Number(value=0.8, spread=0.3), spread=Number(value=6), in_depth=True,
        speed=Number(value=600, spread=40), size=Number(value=15, spread=6, over_life=curve((0, 0.5), (1, 1.6))),
        body=Round(softness=Number(value=100)), opacity=Number(value=15, over_life=curve((0, 1), (0.45, 0.6), (0.8, 0.16), (1, 0))),
        colour=ramp({0: "#fff1dc", 1: "#cfe0ee"}, {}), lit=Number(value=60), finish=(Blur(sigma=Number(value=1.4)),),
    )  # fmt: skip
    rings = Emitter(
        id="rings", name="Rings", seed=83, born_of="jet", born_when="at touch", rate=Number(value=0),
        shape=Disc(radius=Number(value=1)),
        lifespan=Number(value=1.3, spread=0.4), speed=Number(value=0),
        size=Number(value=58, spread=26, over_life=curve((0, 0.06), (0.3, 0.5), (1, 1))),
        body=Ring(width=Number(value=13), softness=Number(value=60)), facing="surface",
        opacity=Number(value=12, spread=8, over_life=curve((0, 1), (0.3, 0.55), (1, 0))),
        colour=ramp({0: "#f2f8ff", 1: "#a9c4d8"}, {}), lit=Number(value=45), blend="screen",
    )  # fmt: skip
    waves = Emitter(
        id="waves", name="Waves", seed=86, born_of="jet", born_when="at touch", rate=Number(value=0),
        shape=Disc(radius=Number(value=1)),
        lifespan=Number(value=0.1), speed=Number(value=0), size=Number(value=8, spread=5),
        ripples=Ripples(
            up=Number(value=_WATER), shape="ellipse", width=Number(value=2 * _BASIN), length=Number(value=2 * _BASIN),
            tilt=Number(value=90), edge=Number(value=6), speed=105, drop=8, damping=1.5, smooth=60, height=Number(value=1.3),
            refraction=Number(value=40), shade=Number(value=90), highlight=Number(value=55), gloss=Number(value=26),
            light_colour="#ffdcb0", light_from=Number(value=96), light_height=Number(value=24),
        ),
    )  # fmt: skip
    spray = Emitter(
        id="spray", name="Spray", seed=84, born_of="jet", born_when="at touch", born_count=3, rate=Number(value=0),
        shape=Disc(radius=Number(value=2)), lifespan=Number(value=0.42, spread=0.16), spread=Number(value=110), in_depth=True,
        speed=Number(value=120, spread=60), size=Number(value=1.9, spread=0.9),
        opacity=Number(value=70, over_life=curve((0, 1), (0.6, 0.8), (1, 0))),
        colour=ramp({0: "#f6fbff"}, {}), lit=Number(value=50),
    )  # fmt: skip
    mist = Emitter(
        id="mist", name="Mist", seed=85, shape=Rectangle(width=Number(value=430), height=Number(value=8)),
        up=Number(value=_WATER + 6), rate=Number(value=60),
        pre_roll_s=4, lifespan=Number(value=3.2, spread=1), spread=Number(value=120), speed=Number(value=24, spread=14),
        size=Number(value=84, spread=30, over_life=curve((0, 0.5), (1, 1.5))),
        body=Puff(rough=Number(value=45), softness=Number(value=100)),
        angle=Number(value=0, spread=180), spin=Number(value=0, spread=14),
        opacity=Number(value=3.6, over_life=curve((0, 0), (0.3, 1), (1, 0))), colour=ramp({0: "#e9eef2", 1: "#9fb0bd"}, {}),
        lit=Number(value=70), finish=(Blur(sigma=Number(value=9)),),
    )  # fmt: skip
    forces = (
        Gravity(id="weight", name="Weight", strength=Number(value=9.81)),
        Drag(id="air", name="Air", strength=Number(value=0.12)),
        Wind(
            id="breeze", name="Breeze", direction=Number(value=8), grip=Number(value=0.35),
            strength=Number(value=26, flutter=Flutter(times_per_s=0.3, amount=34)),
        ),
        Turbulence(id="swirl", name="Swirl", strength=Number(value=34), size=Number(value=120), grip=Number(value=0.8)),
        Surface(id="water", name="Water", up=Number(value=_WATER), outcome="die"),
    )  # fmt: skip
    lamps = (
        Lamp(
            id="basin", name="Lamp in the basin", up=Number(value=_WATER + 30), radius=Number(value=90), falloff=Number(value=430),
            strength=Number(value=150), colour="#ffc68a", power=Number(value=1.3),
        ),
        Lamp(
            id="moon", name="Moon", across=Number(value=-160), up=Number(value=330), radius=Number(value=160),
            falloff=Number(value=620), strength=Number(value=80), colour="#c3dcff", power=Number(value=1.2),
        ),
    )  # fmt: skip
    return Shot(
        sounds=(night_music(media, digest),) if media else (),
        name="Fountain on the square", seed=78, last_frame=149, px_per_metre=58,
        plate=Plate(name="The square", media=plate, beyond="loop"),
        camera=Camera(kind="perspective", focal_mm=Number(value=50), shutter=Number(value=180)),
        emitters=(waves, mist, core, drops, clear, rings, spray),
        forces=forces, lights=lamps,
        links=reach({
            "jet": ("weight", "air", "breeze", "water"),
            "clear": ("weight", "air", "breeze", "water"), "core": ("weight", "air", "breeze"), "spray": ("weight",),
            "mist": ("breeze", "swirl"),
        }),
    )  # fmt: skip
