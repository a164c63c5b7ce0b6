"""*Glass furnace*: a wheel of molten glass, born along a ring, which holds together and wears one smooth skin."""

from __future__ import annotations

import numpy as np

from isbjorn.core.document import Attractor, Camera, Drag, Emitter, Glow, Number, Plate, Shot, Streak, Turbulence
from isbjorn.core.document.emitter_parts.skin import Skin
from isbjorn.core.document.fields.values import Flutter
from isbjorn.core.document.parts.interactions import Cohesion
from isbjorn.core.document.parts.shapes import Disc
from isbjorn.demo.paint import HEIGHT, WIDTH, Painter, grid, rgb, shade
from isbjorn.demo.pieces import curve, ramp, reach

FURNACE_FRAMES = 50
_MOUTH = 232.0


def furnace() -> Painter:
    """The furnace of the glass hut: its round mouth full of heat, bricks around it that catch the light; comes round after two
    seconds."""
    x, y = grid()
    px, py = ((x - 0.5) * WIDTH).astype(np.float32), ((0.5 - y) * HEIGHT).astype(np.float32)
    away, turn_of = np.hypot(px, py), np.arctan2(py, px)
    # A wall of courses; around the mouth the bricks are radial.
    course = np.floor(py / 26)
    side = np.minimum(np.abs(py / 26 - course - 0.5), np.abs((px / 62 + 0.5 * (course % 2)) % 1 - 0.5))
    joint = np.clip((0.5 - side) * 14, 0.25, 1)
    tone = np.sin(np.floor(px / 62 + 0.5 * (course % 2)) * 12.9898 + course * 78.233) * 43758.5453
    tone = (tone - np.floor(tone)).astype(np.float32)
    rays = np.floor(turn_of / (2 * np.pi) * 46)
    arch = (away > _MOUTH) & (away < _MOUTH + 54)
    ray_tone = np.sin(rays * 91.7) * 1371.7
    ray_tone = (ray_tone - np.floor(ray_tone)).astype(np.float32)
    ray_joint = np.clip((0.5 - np.abs(turn_of / (2 * np.pi) * 46 - rays - 0.5)) * 12, 0.25, 1)
    face = np.where(arch, (0.45 + 0.4 * ray_tone) * ray_joint, (0.4 + 0.35 * tone) * joint)
    reached = np.exp(-np.maximum(0, away - _MOUTH) / 190)
    wall = face[..., None] * (rgb("231a17") * 0.55 + (0.75 * reached)[..., None] * rgb("8a3a16"))
    inside = np.clip((_MOUTH - away) / 2 + 0.5, 0, 1)[..., None]
    grain = np.random.default_rng(65).normal(0, 0.006, (4, HEIGHT, WIDTH, 1)).astype(np.float32)

    def paint(number: int) -> np.ndarray:
        turn = np.float32(2 * np.pi * number / FURNACE_FRAMES)
        swirl = np.sin(turn_of * 3 + away / 34 - turn) * np.sin(turn_of * 5 - away / 51 + turn)
        heat = np.clip(1.05 - away / _MOUTH, 0, 1) ** 0.8 * (1 + 0.12 * swirl)
        fire = (
            rgb("3a0d04") * 0.8
            + (0.55 * heat)[..., None] * rgb("ff5a12")
            + (0.30 * np.clip(heat, 0, 2) ** 3)[..., None] * rgb("ffc46a")
        )
        breath = 1 + 0.05 * np.sin(turn) * reached
        picture = wall * breath[..., None] * (1 - inside) + fire * inside
        return shade(picture.astype(np.float32) + grain[number % 4])

    return paint


def glass(plate: str) -> Shot:
    """Molten glass: born along a ring with its way along it, held by cohesion and a pull to the middle, stirred, under one skin."""
    melt = Emitter(
        id="melt", name="Melt", seed=91, shape=Disc(radius=Number(value=146), fill="edge"), rate=Number(value=150),
        pre_roll_s=3.2,
        lifespan=Number(value=2.3, spread=0.5), toward="along", direction=Number(value=0, spread=6), spread=Number(value=6),
        speed=Number(value=262, spread=34), size=Number(value=34, spread=15, over_life=curve((0, 0), (0.18, 0.9), (0.6,
        1), (1, 0))),
        brightness=Number(value=1.15), colour=ramp({0: "#ffd38a", 0.35: "#ff9a3d", 0.7: "#f2641c", 1: "#b5340c"}, {}),
        skin=Skin(
            material="glass", level=Number(value=38), smoothing=Number(value=4), clarity=Number(value=46),
            refraction=Number(value=30),
            highlight=Number(value=130), gloss=Number(value=70), light_from=Number(value=118), light_colour="#fff0d0",
            shade=Number(value=55), shade_colour="#5a1606", bulge=Number(value=120),
        ),
        finish=(Glow(amount=Number(value=36), radius=Number(value=26), above=Number(value=45), colour="#ffb066"),),
    )  # fmt: skip
    sparks = Emitter(
        id="sparks", name="Sparks", seed=92, shape=Disc(radius=Number(value=158), fill="edge"), rate=Number(
            value=26, flutter=Flutter(times_per_s=1.3, amount=22)
        ),
        pre_roll_s=1, lifespan=Number(value=0.8, spread=0.4), toward="along", direction=Number(value=-24, spread=20),
        spread=Number(value=30),
        speed=Number(value=260, spread=120), size=Number(value=2.6, spread=1.2), body=Streak(width=Number(value=30)),
        facing="motion",
        stretch=Number(value=60), opacity=Number(value=100, over_life=curve((0, 1), (0.7, 0.8), (1, 0))),
        brightness=Number(value=4),
        colour=ramp({0: "#fff3d0", 0.4: "#ffb347", 1: "#ff5a1f"}, {}), blend="add",
        finish=(Glow(amount=Number(value=80), radius=Number(value=8), above=Number(value=20), colour="#ff9a4a"),),
    )  # fmt: skip
    forces = (
        Attractor(
            id="hold", name="To the middle", strength=Number(value=330), radius=Number(value=146), power=Number(value=0),
            softness=Number(value=10),
        ),
        Cohesion(id="melt-holds", name="Glass holds", strength=Number(value=420), radius=Number(value=34),
        viscosity=Number(value=2)),
        Turbulence(
            id="heat", name="Heat", strength=Number(value=150), size=Number(value=130), octaves=2, grip=Number(value=0.34),
            evolve=Number(value=0.4),
        ),
        Drag(id="air", name="Air", strength=Number(value=0.6)),
    )  # fmt: skip
    return Shot(
        name="Glass furnace", seed=79, last_frame=149, plate=Plate(name="The furnace", media=plate, beyond="loop"),
        camera=Camera(shutter=Number(value=180)), emitters=(melt, sparks), forces=forces,
        links=reach({"melt": ("hold", "melt-holds", "heat"), "sparks": ("heat", "air")}),
    )  # fmt: skip
