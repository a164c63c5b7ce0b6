"""How the bodies of an emitter stand that are models, for files that other programs read."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from isbjorn.core.appearance.particles import Particles, births_of
from isbjorn.core.arrays import Doubles, Longs
from isbjorn.core.document.parts.solids import Solid
from isbjorn.core.evaluate.geometry.meshes import Mesh, mesh_of
from isbjorn.core.evaluate.geometry.solids import card, mesh_of_solid
from isbjorn.core.render.draw.context import RenderContext
from isbjorn.core.render.draw.emitters import EmitterRasteriser, happened
from isbjorn.core.render.models.bodies import turned_bodies
from isbjorn.core.render.scene.atlas import Bodies


@dataclass(frozen=True)
class Poses:
    """which (n,): the mesh of each; rotation (n, 3, 3): to the shot's axes; scale (n, 3): px along the axes of its mesh."""

    which: Longs
    rotation: Doubles
    scale: Doubles


def prototypes(emitter: Any) -> list[Mesh]:
    """The meshes of an emitter's bodies, in their order; a flat one is a card."""
    return [
        mesh_of_solid(body) if isinstance(body, Solid) else mesh_of(*card(1, 1), 0)
        for body in (emitter.body, *emitter.mixed)
    ]


def poses_of(context: RenderContext, number: int, p: Particles) -> Poses:
    """How the particles of an emitter stand, by its place in the cast. A body that is stretched is longer along its own x axis:
    as it is drawn where it faces its motion and has no turns of its own."""
    emitter = context.shot.emitters[number]
    pen = EmitterRasteriser(context, emitter, number, "normal")
    births = births_of(p.id)
    which = Bodies(context.shot, emitter, 1.0, context.pictures).which(pen.key, births, happened(emitter, p))
    scale = np.repeat(0.5 * p.size.astype(np.float64)[:, None], 3, axis=1)
    scale[:, 0] *= pen.stretch(p, births)
    return Poses(which, turned_bodies(pen, p), scale)
