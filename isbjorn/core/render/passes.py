"""Passes for compositing: layers of emitters and groups, depth, motion, normals, coverage, ids.

Depth, motion and normals are drawn as colours are, by the same bodies, and then divided by the cover: at each pixel they are the
mean over what covers it, as its colour is.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from isbjorn.core.appearance.particles import births_of
from isbjorn.core.arrays import Floats, Longs
from isbjorn.core.document import Emitter, Group
from isbjorn.core.jit import inline_kernel
from isbjorn.core.render.camera import Counts, rank
from isbjorn.core.render.compositor import Compositor, use_on
from isbjorn.core.render.context import RenderContext
from isbjorn.core.render.effects import EffectMoment, carrying, worked, working
from isbjorn.core.render.models.covers import cover_shares, draw_covers
from isbjorn.core.render.pixel_pass import whole

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
    """Draw depth, motion and cover of all that is seen, through the same effects as the picture."""
    depth, motion = _depth_and_motion(compositor)
    cover, seen = _covers(compositor)
    there = cover > _LEAST_COVER
    return Measured(
        np.where(there, depth, NOWHERE).astype(np.float32), np.where(there[..., None], motion, 0).astype(np.float32), cover, seen
    )  # fmt: skip


def _carried(layer: Floats, steps: tuple[Any, ...], moment: EffectMoment) -> Floats:
    """A layer after the steps that carry what covers a pixel to others."""
    steps = carrying(steps)
    return worked(whole(layer), steps, moment).done().layer if steps else layer


def _depth_and_motion(compositor: Compositor) -> tuple[Floats, Floats]:
    """The mean depth (height, width) and motion (height, width, 2) of what covers each pixel."""
    depth, motion = np.split(_mean(compositor, _meter(compositor.context), "depth")[0], [1], axis=-1)
    return depth[..., 0], motion


def normals(compositor: Compositor) -> Floats:
    """Where what covers each pixel faces, float32 (height, width, 3): unit vectors to the right, up and toward the viewer; 0 where
    nothing is. What is flat faces the viewer."""

    def facing(position: Floats, _: Floats | None) -> Floats:
        return np.tile(np.array([0, 0, 1], np.float32), (position.size // 3, 1))

    mean, cover = _mean(compositor, facing, "facing")
    length = np.linalg.norm(mean, axis=2, keepdims=True)
    return np.where(cover[..., None] > _LEAST_COVER, mean / np.maximum(length, 1e-12), 0).astype(np.float32)


def _mean(
    compositor: Compositor, measure: Callable[[Floats, Floats | None], Floats], measured_of: str
) -> tuple[Floats, Floats]:
    """The mean of a measure over what covers each pixel, (height, width, 3), and how much covers it, (height, width).
    measured_of: what models show instead (see `RenderContext.measured`)."""
    context = replace(compositor.context, counts=Counts(), measure=measure, measured=measured_of)
    height, width = context.view.height, context.view.width
    picture = np.zeros((height, width, 4), np.float32)
    draw_covers(context, picture)
    for unit in compositor.ordered_units():
        if unit.use.kind != "picture":
            continue
        layer = np.zeros((height, width, 4), np.float32)
        for one, members in compositor.seen_in_order():
            if one is not unit and not (isinstance(one, Emitter) and one.group == unit.id):
                continue
            part = np.zeros((height, width, 4), np.float32)
            if isinstance(one, Group):
                assert one.skin is not None
                context.draw_as_one(members, one.skin, part, "normal")
            else:
                if not compositor.draw_where_seen(one, part, context, "normal"):
                    context.draw(members[0], part, "normal")
                for hidden in compositor.hiding(one):
                    part *= (1 - hidden)[..., None]
                part = _carried(part, one.finish, compositor.moment)
            _over(part, layer)
        if isinstance(unit, Group):
            layer = _carried(layer, unit.finish, compositor.moment)
        _over(layer, picture)
    picture = _carried(picture, compositor.shot.finish, compositor.moment)
    share = np.maximum(picture[..., 3], _LEAST_COVER)
    return np.asarray(picture[..., :3] / share[..., None], np.float32), np.ascontiguousarray(picture[..., 3])


def _over(layer: Floats, below: Floats) -> None:
    """Lay a premultiplied layer over another, in place."""
    below *= (1 - np.clip(layer[..., 3], 0, 1))[..., None]
    below += layer


class _Shares:
    """How much of each pixel shows each of some units, as layers (height, width, 4) of which the last channel counts, and how much
    all of them cover."""

    def __init__(self, cover: Floats, of: dict[str, Floats]) -> None:
        self.cover, self.of = cover, of

    def over(self, other: _Shares) -> _Shares:
        """These laid over others."""
        through = (1 - self.cover)[..., None]
        return _Shares(
            self.cover + other.cover * (1 - self.cover), {name: a * through for name, a in other.of.items()} | self.of
        )

    def done_by(self, change: Callable[[Floats], Floats], cover: Floats) -> _Shares:
        """After a change to each, of which is known how much all of them cover then."""
        of = {name: np.maximum(0, change(layer)) for name, layer in self.of.items()}
        total = sum((layer[..., 3] for layer in of.values()), np.zeros_like(cover))
        scale = np.where(total > 0, cover / np.maximum(total, 1e-12), 0).astype(np.float32)
        return _Shares(cover, {name: layer * scale[..., None] for name, layer in of.items()})


def _covers(compositor: Compositor) -> tuple[Floats, dict[str, Floats]]:
    """How much of each pixel all particles cover, (height, width), and how much of it shows each unit: together as much."""
    covering = replace(compositor, context=replace(compositor.context, counts=Counts()), known=None, covering=True)
    moment, context = compositor.moment, covering.context
    empty = np.zeros((context.view.height, context.view.width), np.float32)

    def alpha_of(unit: Emitter | Group) -> Floats:
        return np.clip(covering.layer(unit)[..., 3], 0, 1)

    def alone(unit: Emitter | Group) -> _Shares:
        cover = alpha_of(unit)
        return _Shares(cover, {unit.id: np.stack([empty, empty, empty, cover], axis=-1)})

    def finished(shares: _Shares, steps: tuple[Any, ...], cover: Floats) -> _Shares:
        return shares.done_by(lambda layer: worked(whole(layer), steps, moment).done().layer, cover)

    models = cover_shares(context)
    layers = {name: np.stack([empty, empty, empty, cover], axis=-1) for name, cover in models.items()}
    found = _Shares(sum(models.values(), empty), layers)
    for unit in compositor.ordered_units():
        if unit.use.kind != "picture":
            if unit.use.of is None:
                layer = covering.layer(unit)

                def used(below: Floats, unit: Emitter | Group = unit, layer: Floats = layer) -> Floats:
                    changed = below.copy()
                    use_on(unit.use, layer, changed, context)
                    return changed

                whole_cover = np.stack([empty, empty, empty, found.cover], axis=-1)
                found = found.done_by(used, np.clip(used(whole_cover)[..., 3], 0, 1))
            continue
        if isinstance(unit, Emitter) or unit.skin is not None:
            found = alone(unit).over(found)
            continue
        members = _Shares(empty, {})
        for one, _ in compositor.seen_in_order():
            if isinstance(one, Emitter) and one.group == unit.id:
                members = alone(one).over(members)
        found = finished(members, unit.finish, alpha_of(unit)).over(found)
    if working(compositor.shot.finish):
        found = finished(found, compositor.shot.finish, np.clip(covering.laid(None)[..., 3], 0, 1))
    return found.cover.astype(np.float32), {name: np.ascontiguousarray(a[..., 3]) for name, a in found.of.items()}


@inline_kernel("void(f4[:,::1], f4[::1], f4[:,::1], f4[:,:,::1])", cache=True)
def _stamp(centre: Floats, radius: Floats, names: Floats, out: Floats) -> None:
    """The topmost disc at the middle of each pixel: discs in their order, later over earlier."""
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
    """The particle whose disc is topmost at the middle of each pixel, float32 (height, width, 3): the emitter's place in the cast
    from 1, its birth number below a million, and the millions; all 0 where there is none. Bodies of any kind count as discs of
    their sizes."""
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
            middles, radii, sorted_names = (np.ascontiguousarray(rows[order]) for rows in (centre, radius, names))
            _stamp(middles, radii, sorted_names, out)
    return out


def ranked(covers: list[Floats], most: int) -> tuple[Longs, Floats]:
    """What a pixel shows most of: which of the covers, (height, width, most), -1 for none; and their shares."""
    cover = np.stack(covers, axis=-1)
    order = np.argsort(-cover, axis=-1, kind="stable")[..., :most]
    shares = np.take_along_axis(cover, order, axis=-1).astype(np.float32)
    names = np.where(shares > 0, order, -1)
    missing = ((0, 0), (0, 0), (0, max(0, most - cover.shape[-1])))
    return np.pad(names, missing, constant_values=-1), np.pad(shares, missing)
