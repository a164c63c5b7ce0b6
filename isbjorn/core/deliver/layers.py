"""The passes of a delivery, as layers of its files."""

from __future__ import annotations

import json
from collections.abc import Callable

import mmh3
import numpy as np

from isbjorn.core.arrays import Floats
from isbjorn.core.deliver.order import Order
from isbjorn.core.deliver.plan import PlannedPicture
from isbjorn.core.document import Emitter, Group, Matte
from isbjorn.core.frame import Solver, compositor_of, plate_between
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.media.write.formats import Layer
from isbjorn.core.render.composite.compositor import Compositor
from isbjorn.core.render.composite.passes import ids, measured, normals, ranked

# Of names and shares that Cryptomatte keeps of a pixel: two pairs a layer.
_LAYERS = 3
_OBJECTS = "Objects"


def layers_of(
    solver: Solver, plates: PlateReader, order: Order, picture: PlannedPicture, stale: Callable[[], bool] | None = None
) -> tuple[Layer, ...]:
    """The layers that an order asks for of one of its pictures."""
    shot = solver.shot
    compositor = compositor_of(solver, picture.frame, order.scale, stale, lasts_s=picture.lasts_s)
    found: list[Layer] = []
    taken: set[str] = set()
    for name, units in (("emitters", shot.emitters), ("groups", shot.groups)):
        if name in order.passes:
            for unit in units:
                if unit.on:
                    found.append(_coloured(_named(unit.name, taken), compositor.layer(unit)))
    if {"alpha", "depth", "motion", "objects"} & set(order.passes):
        found += _measured(compositor, order)
    if "normals" in order.passes:
        found.append(Layer(("N.X", "N.Y", "N.Z"), normals(compositor), data=True))
    if "ids" in order.passes:
        found.append(Layer(("ids.emitter", "ids.birth", "ids.million"), ids(compositor), data=True))
    if "plate" in order.passes and shot.plate is not None:
        view = compositor.context.view
        plate = plate_between(shot, shot.seconds(picture.frame), plates, view.width, view.height, order.between)
        if plate is None:
            plate = np.zeros((view.height, view.width, 4), np.float32)
        found.append(_coloured("plate", plate))
    return tuple(found)


def _named(name: str, taken: set[str]) -> str:
    """A name for a layer: a point would part it in two, and no two may have the same."""
    plain = name.replace(".", "_").strip() or "unnamed"
    number, found = 1, plain
    while found in taken:
        number += 1
        found = f"{plain} {number}"
    taken.add(found)
    return found


def _coloured(name: str, values: Floats) -> Layer:
    return Layer(tuple(f"{name}.{c}" for c in "RGBA"), values)


def _measured(compositor: Compositor, order: Order) -> list[Layer]:
    known = measured(compositor)
    found = [Layer(("cover.A",), known.cover[..., None], data=True)]
    if "depth" in order.passes:
        found.append(Layer(("Z",), known.depth[..., None], data=True))
    if "motion" in order.passes:
        found.append(Layer(("motion.X", "motion.Y"), known.motion, data=True))
    if "objects" in order.passes and known.seen:
        units: list[Emitter | Group | Matte] = [
            *compositor.shot.emitters, *compositor.shot.groups, *compositor.shot.mattes
        ]  # fmt: skip
        names = {unit.id: unit.name for unit in units}
        taken: set[str] = set()
        found += cryptomatte([_named(names[i], taken) for i in known.seen], list(known.seen.values()))
    return found


def hashed(name: str) -> int:
    """The 32 bits by which Cryptomatte knows a name: MurmurHash3, mended where as a float it would be no plain number."""
    bits = mmh3.hash(name, 0, signed=False)
    exponent = bits >> 23 & 255
    return bits ^ (1 << 23) if exponent in (0, 255) else bits


def cryptomatte(names: list[str], covers: list[Floats]) -> list[Layer]:
    """Which object is seen in each pixel and how much, by the Cryptomatte specification 1.2: hashes of names as floats, and
    shares, two pairs a layer, the largest share first."""
    codes = np.array([hashed(name) for name in names], np.uint32).view(np.float32)
    key = f"{mmh3.hash(_OBJECTS, 0, signed=False):08x}"[:7]
    manifest = {name: f"{hashed(name):08x}" for name in names}
    head = f"cryptomatte/{key}/"
    attributes = {
        f"{head}name": _OBJECTS,
        f"{head}hash": "MurmurHash3_32",
        f"{head}conversion": "uint32_to_float32",
        f"{head}manifest": json.dumps(manifest, ensure_ascii=False),
    }
    found = []
    for number, values in enumerate(ranked(covers, codes, _LAYERS)):
        channels = tuple(f"{_OBJECTS}{number:02d}.{c}" for c in "RGBA")
        found.append(Layer(channels, values, data=True, attributes=attributes if number == 0 else {}))
    return found
