"""*Rooftops*: lights that spread along the edges of the town's houses at night; houses hide the lights behind them."""

from __future__ import annotations

from typing import Any

import numpy as np

from isbjorn.core.arrays import Floats
from isbjorn.core.document import (
    Burst,
    Camera,
    Emitter,
    Glow,
    Marker,
    Matte,
    Number,
    Plate,
    Shot,
    Star,
    Zone,
)
from isbjorn.core.document.fields.values import Source
from isbjorn.core.document.parts.interactions import Contagion
from isbjorn.core.document.parts.models import ModelShape
from isbjorn.core.document.parts.solids import Solid
from isbjorn.core.evaluate.geometry.meshes import Mesh, face_normals, fitted, rotations
from isbjorn.core.evaluate.geometry.paint import Paint
from isbjorn.core.records import make_record
from isbjorn.core.render.models.faces import ALPHA, RADIUS, TINT, instance_of, joined
from isbjorn.core.render.models.shading import KINDS, MATERIAL
from isbjorn.core.render.models.surroundings import built_in
from isbjorn.core.render.models.tiles import draw_models
from isbjorn.core.render.scene.camera import projection
from isbjorn.core.render.scene.lights import LAMP
from isbjorn.demo.geometry import town
from isbjorn.demo.nights import stars
from isbjorn.demo.paint import HEIGHT, WIDTH, Painter, graded, grid, mix, rgb, shade
from isbjorn.demo.pieces import ramp, reach

ROOFTOPS_FRAMES = 50
# Where the town stands: px to the right, up and toward the viewer; its largest measure, and its turns in degrees.
_ACROSS, _UP, _DEPTH, _SIZE, _TURN_X, _TURN_Y = 10.0, -96.0, -300.0, 1290.0, 10.0, -6.0
_CAMERA = Camera(kind="perspective", focal_mm=Number(value=50))
_PLASTER = ("7c4a3c", "8a8578", "6f7f86", "8c6f4a", "59666f", "8d5b4f")


def _in_colours() -> Mesh:
    """The town with snow on its roofs, each house in its own colour."""
    points, faces = town()
    points = fitted(points)[0]
    flat = face_normals(points, faces)
    # A house has nine faces; the church's tower, which comes last, has as many.
    plaster = np.array([rgb(_PLASTER[n // 9 % len(_PLASTER)]) for n in range(len(faces))])
    roof = (flat[:, 1] > 0.3)[:, None]
    colours = np.where(roof, rgb("a8c6ee"), 0.62 * plaster).astype(np.float32) ** 2.2
    normals, values = (np.repeat(of[:, None], 4, axis=1).astype(np.float32) for of in (flat, colours))
    return Mesh(points, faces, normals, Paint(values, np.full(len(faces), -1, np.int32)))


def _houses() -> Floats:
    """The town as the shot's camera sees it, linear light with cover, (height, width, 4)."""
    view = projection(Shot(camera=_CAMERA), 1.0, 0.0)
    geometry = joined([_in_colours()])
    turn = rotations(np.zeros(1), np.radians([[_TURN_X, _TURN_Y]]), None)[0]
    rows = instance_of(view, geometry, np.array([_ACROSS, _UP, _DEPTH]), turn, _SIZE / 2)
    rows[0, TINT : TINT + 3], rows[0, ALPHA], rows[0, RADIUS] = 1, 1, _SIZE / 2
    look = make_record(
        MATERIAL, kind=KINDS["matte"], rough=1, strength=2.6, index=1.5, rim=np.zeros(3), fall=1, behind=0, sky=0
    )
    out, one = np.zeros((HEIGHT, WIDTH, 4), np.float32), np.zeros(1, np.int64)
    draw_models(view.packed, rows, one, geometry, one, look, np.zeros(0, LAMP), built_in("night"), out)
    return out


def rooftops_plate() -> Painter:
    """The town on its slope on a winter's night: snow on roofs and ground, smoke from a few chimneys; comes round after two
    seconds."""
    x, y = grid()
    base = graded(y, {0: "060b18", 0.35: "0d1a2e", 0.5: "1a2b3f"})
    base += stars(29, 380, 0.42)[..., None] * rgb("d9e6ff") * 0.8
    for line, colour, seed in ((0.20, "0e1b2c", 1.7), (0.27, "0b1626", 4.2)):
        ridge = line - 0.05 * np.sin(x[0] * 5.3 + seed) - 0.018 * np.sin(x[0] * 17 + 2 * seed)
        base = mix(base, rgb(colour), np.clip((y - ridge[None]) * HEIGHT, 0, 1))
    # Snow on the slope, lighter toward the viewer.
    crest = 0.34 + 0.09 * (x[0] - 0.52) ** 2 * 4 - 0.012 * np.sin(x[0] * 19)
    slope = np.clip((y - crest[None]) * HEIGHT / 2, 0, 1)
    base = mix(base, rgb("16222f"), slope * 0.95)
    base += (slope * np.clip((y - 0.36) * 0.26, 0, 1))[..., None] * rgb("9fb6cf")
    town_light = _houses()
    encoded = np.clip(town_light[..., :3], 0, None) ** (1 / 2.2)
    base = base * (1 - town_light[..., 3:]) + encoded
    grain = np.random.default_rng(71).normal(0, 0.006, (4, HEIGHT, WIDTH, 1)).astype(np.float32)

    def paint(number: int) -> np.ndarray:
        turn = np.float32(2 * np.pi * number / ROOFTOPS_FRAMES)
        picture = base.copy()
        for k, (at, foot) in enumerate(((0.29, 0.40), (0.62, 0.37), (0.79, 0.47))):
            rise = np.clip((foot - y) / 0.24, 0, 1)
            middle = at + 0.05 * rise + 0.006 * np.sin(rise * 22 + turn + k)
            smoke = np.exp(-(((x - middle) / (0.004 + 0.018 * rise)) ** 2)) * (y < foot) * (1 - rise) ** 1.5
            smoke *= 0.75 + 0.25 * np.sin(rise * 46 + 2 * turn + 2 * k)
            picture += (0.12 * smoke)[..., None] * rgb("a9b8c8")
        return shade(picture + grain[number % 4])

    return paint


def rooftops(plate: str, media: str = "", digest: str = "") -> Shot:
    """Lights wait along every sharp edge of the town; out of the church they catch from one to the next. media, digest: the town;
    without it, one house."""
    form = (
        {"form": "file", "media": media, "digest": digest, "name": "Town"}
        if media
        else {"form": "box", "bevel": Number(value=0)}
    )
    place: dict[str, Any] = {"across": Number(value=_ACROSS), "up": Number(value=_UP), "depth": Number(value=_DEPTH)}
    size, turn_x, turn_y = Number(value=_SIZE), Number(value=_TURN_X), Number(value=_TURN_Y)
    edges = ModelShape.model_validate(
        {**form, "births": "edges", "sharp": Number(value=24), "size": size, "turn_x": turn_x, "turn_y": turn_y}
    )
    flares = Source(measure="since caught", low=0, high=1.1, makes_low=5, makes_high=1)
    there = Source(measure="since caught", low=0, high=0.25, makes_low=0.05)
    strings = Emitter(
        id="strings", name="Strings of lights", seed=91, shape=edges, **place, rate=Number(value=0),
        bursts=(Burst(at_s=0, count=64_000),), spacing="even", lifespan=Number(value=0), speed=Number(value=0),
        size=Number(value=2.2, spread=0.9), opacity=Number(value=88, source=there),
        brightness=Number(value=1.15, spread=0.6, source=flares),
        colour=ramp({0: "#ff8f4a", 0.3: "#ffd08a", 0.62: "#fff1d6", 1: "#8fd8ff"}, {}),
        colour_by="distance", colour_of="deep", colour_from=9640, colour_to=10190, hue=Number(value=0, spread=10), blend="add",
        hidden_by=("houses",),
        finish=(Glow(amount=Number(value=34), radius=Number(value=11), above=Number(value=30), colour="#ffd9a6"),),
    )  # fmt: skip
    bulbs = Emitter(
        id="bulbs", name="Bulbs", seed=92, shape=edges, **place, rate=Number(value=0), bursts=(Burst(at_s=0, count=1500),),
        spacing="even", lifespan=Number(value=0), speed=Number(value=0), size=Number(value=11, spread=6, spread_shape="bell"),
        body=Star(points=4, inner=Number(value=16), softness=Number(value=60)),
        opacity=Number(value=95, source=there), brightness=Number(value=1.3, spread=0.7, source=flares),
        colour=ramp({0: "#ffb066", 0.4: "#fff0d0", 1: "#bfe8ff"}, {}), colour_by="random", blend="add", hidden_by=("houses",),
    )  # fmt: skip
    spreads = Contagion(
        id="spreads", name="From bulb to bulb", radius=Number(value=26), pace=Number(value=230, spread=130),
        wait=Number(value=0.02, spread=0.02), seeds="church", seed_first=0,
    )  # fmt: skip
    church = Zone(
        id="church", name="Church tower", across=Number(value=120), up=Number(value=190), depth=Number(value=-400),
        radius=Number(value=70), falloff=Number(value=0),
    )  # fmt: skip
    houses = Matte(
        id="houses", name="Houses", kind="model", model=Solid.model_validate(form), size=size, turn_x=turn_x, turn_y=turn_y,
        margin=Number(value=7), feather=Number(value=0), tint="#a39182", catches=Number(value=120),
        lit_by=("bulbs",), **place,
    )  # fmt: skip
    return Shot(
        name="Rooftops", seed=80, last_frame=199, plate=Plate(name="Town at night", media=plate, beyond="loop"), camera=_CAMERA,
        markers=(Marker(id="deep", name="Far below", up=Number(value=-10_000)),), zones=(church,), mattes=(houses,),
        emitters=(strings, bulbs), forces=(spreads,),
        links=reach({"strings": ("spreads",), "bulbs": ("spreads",)}),
    )  # fmt: skip
