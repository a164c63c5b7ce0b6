"""What stands beside a picture for those who compose it: layers of emitters and groups, depth, motion, cover, ids.

Depth and motion are drawn as colours are, by the same bodies, and then divided by the cover: at each pixel they are the mean over
what covers it, as its colour is.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from isbjorn.core.appearance.particles import births_of
from isbjorn.core.arrays import Floats, Longs
from isbjorn.core.document import Group
from isbjorn.core.jit import leaf
from isbjorn.core.render.camera import Counts, rank
from isbjorn.core.render.compositor import Compositor
from isbjorn.core.render.context import RenderContext

# How far away nothing is.
NOWHERE = np.float32(1e10)
_LEAST_COVER = np.float32(1e-4)


@dataclass(frozen=True)
class Measured:
    """What is measured of a moment; all float32. depth (height, width): px from the camera, or into the picture of a flat one, 1e10
    where there is nothing. motion (height, width, 2): px per frame to the right and up, px of the picture. cover (height, width):
    of all particles. seen: by the id of each emitter, or group under one skin, how much of a pixel shows it (height, width)."""

    depth: Floats
    motion: Floats
    cover: Floats
    seen: dict[str, Floats]


def _meter(context: RenderContext) -> Callable[[Floats, Floats | None], Floats]:
    """Depth and motion of places, as (n, 3)."""
    frame_s = context.frame_s
    here, there = context.view, context.at(context.seconds + frame_s)
    upward = np.array([1, -1], np.float32)

    def measure(position: Floats, velocity: Floats | None) -> Floats:
        places = position.reshape(-1, 3).astype(np.float64)
        moved = places if velocity is None else places + velocity.astype(np.float64) * float(frame_s)
        out = np.empty((len(places), 3), np.float32)
        along = ((places - here.eye) @ here.axes.T)[:, 2]
        out[:, 0] = -places[:, 2] if here.lens_px is None else -along
        first, _ = here.place(places)
        last, _ = there.place(moved)
        out[:, 1:] = (last - first) * upward
        return out

    return measure


def measured(compositor: Compositor) -> Measured:
    """Draw depth, motion and cover of all that is seen."""
    context = replace(compositor.context, counts=Counts())
    context.measure = _meter(context)
    height, width = context.view.height, context.view.width
    whole = np.zeros((height, width, 4), np.float32)
    seen: dict[str, Floats] = {}
    for unit, members in compositor.seen_in_order():
        layer = np.zeros((height, width, 4), np.float32)
        if isinstance(unit, Group):
            assert unit.skin is not None
            context.draw_as_one(members, unit.skin, layer, "normal")
        else:
            context.draw(members[0], layer, "normal")
            for hidden in compositor.hiding(unit):
                layer *= (1 - hidden)[..., None]
        through = 1 - np.clip(layer[..., 3], 0, 1)
        for before in seen.values():
            before *= through
        seen[unit.id] = np.clip(layer[..., 3], 0, 1)
        whole *= through[..., None]
        whole += layer
    cover = np.clip(whole[..., 3], 0, 1)
    there = cover > _LEAST_COVER
    over = np.where(there, whole[..., 3], 1)
    depth = np.where(there, whole[..., 0] / over, NOWHERE).astype(np.float32)
    motion = np.where(there[..., None], whole[..., 1:3] / over[..., None], 0).astype(np.float32)
    return Measured(depth, motion, cover.astype(np.float32), seen)


@leaf("void(f4[:,::1], f4[::1], f4[:,::1], f4[:,:,::1])", cache=True)
def _stamp(centre: Floats, radius: Floats, names: Floats, out: Floats) -> None:
    """Who lies topmost at the middle of each pixel: discs in their order, the later over the earlier."""
    height, width = out.shape[0], out.shape[1]
    for n in range(len(radius)):
        x, y, r = centre[n, 0], centre[n, 1], radius[n]
        if not (r > 0 and x + r > 0 and y + r > 0 and x - r < width and y - r < height):
            continue
        for j in range(max(0, int(y - r)), min(height, int(y + r) + 1)):
            across = r * r - (j + np.float32(0.5) - y) ** 2
            if across < 0:
                continue
            half = np.sqrt(across)
            for i in range(max(0, int(np.ceil(x - half - 0.5))), min(width, int(np.floor(x + half - 0.5)) + 1)):
                out[j, i, 0], out[j, i, 1], out[j, i, 2] = names[n, 0], names[n, 1], names[n, 2]


def ids(compositor: Compositor) -> Floats:
    """Whose disc lies topmost at the middle of each pixel, float32 (height, width, 3): the emitter's place in the cast from 1, its
    birth's number below a million, and how many millions besides; all 0 where there is none. Whatever the bodies are, they are
    taken as discs of their sizes."""
    context = compositor.context
    view, solver = context.view, context.solver
    out = np.zeros((view.height, view.width, 3), np.float32)
    for _, members in compositor.seen_in_order():
        for number in members:
            if number not in solver.tracks:
                continue
            p = solver.of(number, context.seconds, context.stale)
            order = rank(compositor.shot.emitters[number], p, view)
            centre, grown = view.place(p.position)
            radius = np.where(p.opacity > 0, p.size * np.float32(0.5 * view.scale_x) * grown, 0).astype(np.float32)
            million, births = np.divmod(births_of(p.id), 1_000_000)
            names = np.stack([np.full(len(p), number + 1), births, million], axis=1).astype(np.float32)
            middles, radii, told = (np.ascontiguousarray(rows[order]) for rows in (centre, radius, names))
            _stamp(middles, radii, told, out)
    return out


def ranked(covers: list[Floats], most: int) -> tuple[Longs, Floats]:
    """What a pixel shows most of: which of the covers, (height, width, most), -1 for none; and their shares."""
    cover = np.stack(covers, axis=-1)
    order = np.argsort(-cover, axis=-1, kind="stable")[..., :most]
    shares = np.take_along_axis(cover, order, axis=-1).astype(np.float32)
    names = np.where(shares > 0, order, -1)
    missing = ((0, 0), (0, 0), (0, max(0, most - cover.shape[-1])))
    return np.pad(names, missing, constant_values=-1), np.pad(shares, missing)
