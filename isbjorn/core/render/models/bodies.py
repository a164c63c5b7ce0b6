"""Bodies of particles that are models: their meshes, materials and poses."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from isbjorn.core.appearance.looks import number_now
from isbjorn.core.appearance.particles import Particles, births_of
from isbjorn.core.arrays import Bools, Doubles, Floats, Longs
from isbjorn.core.document import Emitter
from isbjorn.core.document.parts.bodies import STAND_IN
from isbjorn.core.document.parts.materials import Material
from isbjorn.core.document.parts.models import ModelBody
from isbjorn.core.evaluate.geometry.meshes import rotations
from isbjorn.core.evaluate.geometry.solids import mesh_of_solid
from isbjorn.core.evaluate.gradients import hex_to_linear
from isbjorn.core.records import Records
from isbjorn.core.render.models.faces import (
    ALPHA,
    FIRST,
    INSTANCE_COLUMNS,
    LAST,
    MATRIX,
    PLACE,
    POINT,
    POINTS,
    RADIUS,
    ROUGHER,
    TINT,
    joined,
)  # fmt: skip
from isbjorn.core.render.models.shading import KINDS, MATERIAL
from isbjorn.core.render.models.surroundings import Surroundings, all_of, around_plate, built_in, surroundings_of
from isbjorn.core.render.models.tiles import draw_models
from isbjorn.core.render.raster.pixel_pass import lay
from isbjorn.core.render.scene.atlas import Bodies, Drawn
from isbjorn.core.render.scene.camera import rank
from isbjorn.core.runtime.memory import Cache

if TYPE_CHECKING:
    from isbjorn.core.render.draw.context import RenderContext
    from isbjorn.core.render.draw.emitters import EmitterRasteriser

# A model is not drawn smaller than this radius in px of the picture: it becomes fainter instead, so that dust does not flicker.
_SMALLEST = 0.75
# More opaque ones let no light through.
_SOLID = 0.998
# Sizes at which the plate and pictures are read as surroundings, and samples of the plate, which is another in each frame.
_PLATE, _SKY, _PLATE_SAMPLES = (96, 54), (512, 256), 16

_skies: Cache[Surroundings] = Cache(
    "models", 0.2, what="Surroundings", depends_on="the picture's file and its date, or the plate's frame"
)
# Places on the lens from which bodies out of focus are seen, at most; and where they are drawn in several poses besides.
_LENS, _LENS_SHUT, _TURNS = 16, 4, 1618.03398


class ModelPages(Drawn):
    """A model among bodies that are drawn flat: a disc stands for it, and is not drawn."""

    def __init__(self, body: ModelBody, bodies: Bodies) -> None:
        self.body, self.bodies, self.tinted = body, bodies, True
        self.keys = [("mask", STAND_IN, 0, bodies.side)]


def has_models(emitter: Emitter) -> bool:
    """Whether some of an emitter's bodies are models."""
    return any(isinstance(body, ModelBody) for body in (emitter.body, *emitter.mixed))


def faces_of(emitter: Emitter) -> float:
    """How many faces a body of an emitter has, on the mean of its models."""
    counts = [len(mesh_of_solid(body).faces) for body in (emitter.body, *emitter.mixed) if isinstance(body, ModelBody)]
    return sum(counts) / max(1, len(counts))


def shows_ground(emitter: Emitter) -> bool:
    """Whether one of an emitter's bodies shows the picture behind it."""
    return any(isinstance(body, ModelBody) and body.material == "glass" for body in (emitter.body, *emitter.mixed))


def material_of(look: Material, context: RenderContext, sky: int, kind: str = "") -> Records:
    """A material at the moment, (1,) of `MATERIAL`. kind: what is measured of it instead of its light."""
    row = np.zeros(1, MATERIAL)
    row["kind"] = KINDS[kind or look.material]
    row["rough"], row["strength"] = context.read(look.roughness) / 100, context.read(look.ambient) / 100
    row["index"], row["behind"], row["sky"] = context.read(look.index), context.read(look.behind), sky
    row["rim"] = context.read(look.rim) / 100 * hex_to_linear(look.rim_colour)
    # The edge falls to a half at its width.
    row["fall"] = math.log(0.5) / math.log(max(1e-3, 1 - min(0.999, context.read(look.rim_width) / 100)))
    return row


def _rougher(body: ModelBody, context: RenderContext, age01: Floats) -> Doubles:
    """How much rougher bodies of some ages (n,) are than their material, by its curve over life."""
    now = number_now(body.roughness, context.solver.readings, age01, float(context.seconds))
    return (now - context.read(body.roughness)) / 100


def around(context: RenderContext, kind: str, media: str) -> Surroundings:
    """Surroundings of a kind at the moment; none where there is no plate or no picture."""
    if kind == "plate":
        plates: Any = context.pictures
        number = plates.number(context.shot, context.seconds)
        if number is None:
            return built_in("none")

        def seen() -> Surroundings:
            plate = plates.at(context.shot, context.seconds, *_PLATE)
            return surroundings_of(around_plate(plate), samples=_PLATE_SAMPLES)

        return _skies.get((context.shot.plate.media if context.shot.plate else "", number), seen)
    if kind == "picture":
        if not media:
            return built_in("none")
        key = media, context.pictures.stamp(media)
        return _skies.get(key, lambda: surroundings_of(context.pictures.filling(media, 0, *_SKY)[..., :3]))
    return built_in(kind)


def light_on(
    looks: Sequence[Material], context: RenderContext, kind: str = ""
) -> tuple[Records, Records, Surroundings]:
    """Materials at the moment, the lights in the camera's axes, and what surrounds them; kind: see `material_of`."""
    view, lamps = context.view, context.lamps.copy()
    lamps["place"] = (lamps["place"] - view.eye) @ view.axes.T
    skies = list(dict.fromkeys((look.surroundings, look.sky) for look in looks))
    materials = [material_of(look, context, skies.index((look.surroundings, look.sky)), kind) for look in looks]
    return np.concatenate(materials), lamps, all_of([around(context, *sky) for sky in skies])


def stretched(rotation: Doubles, velocity: Floats, longer: Doubles | float) -> Doubles:
    """Rotations (n, 3, 3) that also make bodies longer along their velocity (n, 3), by a factor."""
    factor = np.broadcast_to(np.asarray(longer, np.float64), (len(rotation),))
    if (factor == 1).all():
        return rotation
    speed = np.linalg.norm(velocity, axis=1, keepdims=True).astype(np.float64)
    d = np.where(speed > 1e-9, velocity / np.maximum(speed, 1e-9), 0.0)
    along = np.einsum("ni,nj->nij", d, d) * (factor - 1)[:, None, None] + np.eye(3)
    return along @ rotation


def tumbles_px(e: Emitter, p: Particles, lasts_s: float, scale: float) -> float:
    """How far the rim of a body moves by turning in some seconds, in px of the picture: the most of those that are usual."""
    spins = max(abs(n.value) + n.spread for n in (e.spin, e.spin_x, e.spin_y))
    radius = 0.5 * scale * float(np.median(p.size)) if len(p) else 0.0
    return math.radians(spins) * lasts_s * radius


def _lens(count: int) -> Doubles:
    """Even places on a disc of radius 1, (count, 2) (Vogel 1979, "A better way to construct the sunflower head")."""
    k = np.arange(count)
    r, turn = np.sqrt((k + 0.5) / count), k * math.pi * (3 - math.sqrt(5))
    return np.stack([r * np.cos(turn), r * np.sin(turn)], axis=1)


def focused(context: RenderContext, instances: Doubles) -> list[Doubles]:
    """The instances as each of some places on the lens sees them; all at once where everything is sharp.

    What is in focus stays where it is; what is nearer or farther shifts (Haeberli and Akeley 1990, "The accumulation buffer").
    """
    camera = context.shot.camera
    opening, view = context.read(camera.aperture), context.view
    if opening <= 0 or view.lens_px is None or context.orbit is not None or context.measured:
        return [instances]
    focus = max(1.0, float(view.eye[2]) - context.read(camera.focus))
    away = np.maximum(1.0, -instances[:, PLACE + 2])
    spread = float((0.5 * opening * np.abs(away - focus) / away * view.lens_px / focus * view.scale_x).max())
    count = min(_LENS_SHUT if context.shut else _LENS, math.ceil(spread * spread * 0.6) + 1)
    if count <= 1:
        return [instances]
    seen = []
    # Each moment of an open shutter sees other places.
    turn = 2 * math.pi * ((float(context.seconds) * _TURNS) % 1) if context.shut else 0.0
    spun = np.array([[math.cos(turn), math.sin(turn)], [-math.sin(turn), math.cos(turn)]])
    for dx, dy in 0.5 * opening * _lens(count) @ spun:
        one = instances.copy()
        for axis, by in ((0, dx), (1, dy)):
            one[:, MATRIX + 3 * axis : MATRIX + 3 * axis + 3] -= by / focus * instances[:, MATRIX + 6 : MATRIX + 9]
            one[:, PLACE + axis] -= by + by / focus * instances[:, PLACE + 2]
        seen.append(one)
    return seen


def _in_order(pen: EmitterRasteriser, p: Particles, rows: Doubles, number: Longs) -> tuple[Doubles, Longs, Longs]:
    """Instances in the order in which they are drawn, and their groups. In a flat picture, each is drawn over the previous one, in
    the emitter's order; under a lens, solid ones by depth, then those that let light through, the farthest first."""
    if pen.context.view.lens_px is None:
        order = np.arange(len(p)) if pen.emitter.order == "oldest first" else rank(pen.emitter, p, pen.context.view)
        return rows[order], number[order], np.arange(1, len(p) + 1)
    solid = rows[:, ALPHA] > _SOLID
    order = np.lexsort((rows[:, PLACE + 2], ~solid))
    groups = np.concatenate([np.zeros(solid.sum(), np.int64), np.arange(1, (~solid).sum() + 1)])
    return rows[order], number[order], groups


def turned_bodies(pen: EmitterRasteriser, p: Particles) -> Doubles:
    """How bodies that are models are turned: rotation matrices (n, 3, 3) to the shot's axes."""
    births, moments = births_of(p.id), float(pen.context.seconds) - p.age.astype(np.float64)
    heading = p.velocity if pen.emitter.facing == "motion" else None
    return rotations(np.radians(p.angle.astype(np.float64)), pen.deep(p, births, moments), heading)


def draw_bodies(
    pen: EmitterRasteriser,
    p: Particles,
    half: Floats,
    radius: Floats,
    colour: Floats,
    opacity: Floats,
    which: Longs,
    onto: Floats,
) -> Bools:
    """Draw the particles that are models; which of all those are (n,). half (n,): half their size, in px of the shot; radius (n,):
    in px of the picture; which (n,): the body of each."""
    context, e = pen.context, pen.emitter
    bodies = (e.body, *e.mixed)
    models = {k: body for k, body in enumerate(bodies) if isinstance(body, ModelBody)}
    solid = np.isin(which, list(models))
    mine = solid & (radius > 0) & (opacity > 0)
    if not mine.any():
        return solid
    view, sub, measured = context.view, p.where(mine), "glowing" if pen.bare else context.measured
    turned = turned_bodies(pen, sub)
    # Those that would be smaller than a pixel are fainter instead.
    grown = np.maximum(radius[mine], _SMALLEST) / radius[mine]
    reach = half[mine].astype(np.float64) * grown
    matrix = view.axes @ stretched(turned, sub.velocity, pen.stretch(sub, births_of(sub.id))) * reach[:, None, None]
    geometry = joined([mesh_of_solid(body) for body in models.values()])
    if measured:
        geometry = geometry.bare
    number = np.searchsorted(list(models), which[mine]).astype(np.int64)
    rows = np.zeros((len(reach), INSTANCE_COLUMNS))
    rows[:, MATRIX : MATRIX + 9] = matrix.reshape(-1, 9)
    rows[:, PLACE : PLACE + 3] = (sub.position.astype(np.float64) - view.eye) @ view.axes.T
    rows[:, TINT : TINT + 3], rows[:, ALPHA] = colour[mine], np.minimum(1, opacity[mine]) / grown**2
    rows[:, [FIRST, LAST, POINT, POINTS]] = geometry.ranges[number]
    rows[:, RADIUS] = reach
    for k, body in enumerate(models.values()):
        if body.roughness.over_life is not None:
            rows[number == k, ROUGHER] = _rougher(body, context, sub.age01[number == k])
    rows, number, groups = _in_order(pen, sub, rows, number)
    lit = light_on(list(models.values()), context, measured)
    direct = pen.mode == 0 and pen.covers
    seen, below = focused(context, rows), onto.copy() if shows_ground(e) and not measured else None
    whole = direct and len(seen) == 1
    layer, weight = onto if whole else np.zeros_like(onto), 0.0 if whole else 1 / len(seen)
    for one in seen:
        draw_models(view.packed, one, groups, geometry, number, *lit, layer, below, weight)
    if not whole:
        lay(layer, onto, pen.blend)
    return solid
