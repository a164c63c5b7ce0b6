"""*Kelp*: strands that grow on rocks and sway in a current, and a line of lamps sunk between two of the rocks."""

from __future__ import annotations

from typing import Any

import numpy as np

from isbjorn.core.document import (
    Blur,
    Burst,
    Camera,
    Drag,
    Drop,
    Emitter,
    Glow,
    Gravity,
    Line,
    Number,
    Plate,
    Point,
    Rectangle,
    Shot,
    Turbulence,
    Wind,
    Zone,
)  # fmt: skip
from isbjorn.core.document.emitter_parts.strands import Strand
from isbjorn.core.document.fields.values import Flutter
from isbjorn.demo.paint import HEIGHT, WIDTH, Painter, graded, grid, mix, rgb, shade
from isbjorn.demo.pieces import curve, ramp, reach

REEF_FRAMES = 50
# Rocks of the plate: across, up of their tops, half widths, px from the picture's centre.
ROCKS = ((-430.0, -196.0, 210.0), (-60.0, -262.0, 190.0), (330.0, -214.0, 230.0), (590.0, -150.0, 150.0))


def _rock(px: np.ndarray, py: np.ndarray, at: float, top: float, wide: float, seed: int) -> np.ndarray:
    """How much of each pixel is rock."""
    rng = np.random.default_rng(seed)
    u = (px - at) / wide
    rough = np.sum([np.sin(px / s + rng.random() * 7) * s * 0.16 for s in (61.0, 27.0, 11.0, 5.0)], axis=0)
    height = top + 30 - 190 * np.abs(u) ** 2.3 + rough
    return np.asarray(np.clip(height - py, 0, 1), np.float32)


def reef() -> Painter:
    """A reef under water, by daylight from above that comes round after two seconds."""
    x, y = grid()
    px, py = (x - 0.5) * WIDTH, (0.5 - y) * HEIGHT
    base = graded(y, {0: "6fb7b0", 0.2: "3d8a92", 0.55: "1a5264", 0.85: "0c2e3d", 1: "07202b"})
    far = np.zeros_like(px)
    for at, top, wide, seed in ((-560.0, -90.0, 260.0, 3), (140.0, -150.0, 300.0, 5), (520.0, -60.0, 240.0, 9)):
        far = np.maximum(far, _rock(px, py, at, top, wide, seed))
    base = mix(base, rgb("154150") * (1.15 - 0.5 * y)[..., None], (0.75 * far).astype(np.float32))
    near = np.zeros_like(px)
    for n, (at, top, wide) in enumerate(ROCKS):
        near = np.maximum(near, _rock(px, py, at, top, wide, 20 + n))
    rng = np.random.default_rng(12)
    grain = rng.normal(0, 0.006, (4, HEIGHT, WIDTH, 1)).astype(np.float32)
    # Light on the rocks from above, broken by what grows there.
    waves = ((17.0, 23.0), (-9.0, 13.0), (5.3, -7.1), (3.1, 2.7))
    spots = np.sum([np.sin(px / a + py / b + rng.random() * 6) for a, b in waves], axis=0)
    above = np.clip((py + 330) / 190, 0, 1)
    stone = mix(
        np.broadcast_to(rgb("0a1a20"), base.shape), rgb("2c4a47"), (above * (0.62 + 0.13 * spots)).astype(np.float32)
    )
    rays = []
    for at, width, lean in (
        (0.1, 0.05, 0.2),
        (0.3, 0.08, 0.1),
        (0.52, 0.06, 0.02),
        (0.7, 0.1, -0.08),
        (0.92, 0.06, -0.2),
    ):
        ray = np.exp(-(((x - at - lean * y) / (width * (0.6 + y))) ** 2)) * np.exp(-2.1 * y)
        rays.append((0.17 * ray[..., None] * rgb("e4fff0")).astype(np.float32))

    def paint(number: int) -> np.ndarray:
        turn = np.float32(2 * np.pi * number / REEF_FRAMES)
        net = np.sin(px / 37 + 2.1 * np.sin(py / 61 + turn)) * np.sin(py / 23 + 1.7 * np.sin(px / 49 - turn))
        caustic = np.clip(1 - np.abs(net) * 7, 0, 1) * above
        picture = mix(base, stone + (0.09 * caustic)[..., None] * rgb("c8ffe6"), near)
        for n, ray in enumerate(rays):
            picture = picture + ray * np.float32(1 + 0.4 * np.sin(turn + n * 1.9))
        return shade(picture.astype(np.float32) + grain[number % 4])

    return paint


def _stand(
    name: str,
    title: str,
    seed: int,
    rock: int,
    count: int,
    size: float,
    tall: float,
    colours: dict[float, str],
    **more: Any,
) -> Emitter:
    """Kelp on a rock."""
    at, top, wide = ROCKS[rock]
    return Emitter(
        id=name, name=title, seed=seed, shape=Line(length=Number(value=1.25 * wide)), across=Number(value=at),
        up=Number(value=top - 16, spread=14), rate=Number(value=0), bursts=(Burst(at_s=-6, count=count),), lifespan=Number(value=0),
        direction=Number(value=90, spread=12), spread=Number(value=0), speed=Number(value=0), spacing="even",
        size=Number(value=size, spread=0.35 * size), angle=Number(value=0, spread=62), body=Drop(slender=Number(value=68),
        softness=Number(value=16)),
        colour_by="strand", colour=ramp(colours, {}), hue=Number(value=0, spread=7), lightness=Number(value=100, spread=18),
        strand=Strand(
            joints=26, length=Number(value=tall, spread=0.38 * tall), stiffness=Number(value=0.16), damping=Number(value=40),
            upright=True, width=Number(value=11), tip=Number(value=40), bodies="at all joints",
        ),
        **more,
    )  # fmt: skip


def kelp(plate: str) -> Shot:
    """Kelp that grows on rocks in a gusty current; a sunk line of lamps that is held at both of its ends."""
    green = {0: "#1c2a1c", 0.35: "#3f5a26", 0.75: "#7f8f35", 1: "#c6b458"}
    dim = {0: "#15323a", 0.5: "#25555a", 1: "#4c8478"}
    emitters = (
        _stand("far", "Kelp behind", 101, 1, 20, 22, 340, dim, finish=(Blur(sigma=Number(value=1.4)),), opacity=Number(value=80)),
        _stand("left", "Kelp on the left", 102, 0, 20, 34, 400, green),
        _stand("right", "Kelp on the right", 103, 2, 22, 34, 380, green),
        Emitter(
            id="lamps", name="Sunk lamps", seed=104, shape=Point(), across=Number(value=-318), up=Number(value=-164),
            rate=Number(value=0),
            bursts=(Burst(at_s=-6, count=1),), lifespan=Number(value=0), direction=Number(value=-8), spread=Number(value=0),
            speed=Number(value=0), size=Number(value=9), colour_by="random", colour=ramp({0: "#ffb35c", 0.5: "#ffe2a6",
            1: "#ff7f57"}, {}),
            brightness=Number(value=2.6, flutter=Flutter(times_per_s=0.5, amount=0.4)), blend="add", 
            strand=Strand(
                joints=19, length=Number(value=640), stiffness=Number(value=0.02), damping=Number(value=60), foot="rock",
                slack=Number(value=6),
                width=Number(value=16), tip=Number(value=100), bodies="at all joints", softness=Number(value=40),
            ),
            finish=(Glow(amount=Number(value=150), radius=Number(value=20), above=Number(value=8), colour="#ffb46b"),),
        ),
        Emitter(
            id="motes", name="Motes", seed=105, shape=Rectangle(width=Number(value=1400), height=Number(value=700)),
            rate=Number(value=60),
            pre_roll_s=8, lifespan=Number(value=7, spread=2), spread=Number(value=360), speed=Number(value=6, spread=6),
            size=Number(value=2.4, spread=1.4), opacity=Number(value=34, over_life=curve((0, 0), (0.2, 1), (0.8, 1), (1, 0))),
            colour=ramp({0: "#e9fff4"}, {}), blend="add",
        ),
    )  # fmt: skip
    forces = (
        Gravity(id="rises", name="It floats", strength=Number(value=-1.5)),
        Gravity(id="weight", name="Weight of the lamps", strength=Number(value=1.2)),
        Wind(
            id="current", name="Current", direction=Number(value=4), grip=Number(value=1.5),
            strength=Number(value=34, flutter=Flutter(times_per_s=0.28, amount=46)),
        ),
        Wind(
            id="gust", name="Gust", direction=Number(value=-6), grip=Number(value=1.6), zone="swell",
            strength=Number(value=120, flutter=Flutter(times_per_s=0.35, amount=120)),
        ),
        Turbulence(id="eddies", name="Eddies", strength=Number(value=46), size=Number(value=190), octaves=2,
        grip=Number(value=1.3), evolve=Number(value=0.35)),
        Drag(id="water", name="Water", strength=Number(value=0.8)),
    )  # fmt: skip
    zones = (
        Zone(id="rock", name="The lamps' other rock", shape="box", across=Number(value=196), up=Number(value=-176),
        width=Number(value=40),
             height=Number(value=24)),
        Zone(id="swell", name="Swell", shape="sphere", across=Number(value=-120), up=Number(value=60),
        radius=Number(value=420), falloff=Number(value=260)),
    )  # fmt: skip
    sways = ("rises", "current", "gust", "eddies", "water")
    return Shot(
        name="Kelp", seed=80, last_frame=199, plate=Plate(name="Reef", media=plate, beyond="loop"),
        camera=Camera(shutter=Number(value=180)),
        zones=zones, emitters=emitters, forces=forces,
        links=reach({"far": sways, "left": sways, "right": sways, "lamps": ("weight", "current", "gust", "eddies", "water"),
                     "motes": ("current", "eddies")}),
    )  # fmt: skip
