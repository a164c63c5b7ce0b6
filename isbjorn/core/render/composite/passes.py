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
from isbjorn.core.arrays import Floats
from isbjorn.core.document import Emitter, Group
from isbjorn.core.jit import inline_kernel
from isbjorn.core.render.composite.compositor import Compositor, use_on
from isbjorn.core.render.composite.effects import EffectMoment, carrying, worked, working
from isbjorn.core.render.draw.context import RenderContext
from isbjorn.core.render.models.covers import cover_shares, draw_covers
from isbjorn.core.render.raster.pixel_pass import lay, whole
from isbjorn.core.render.scene.camera import Counts, rank

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
        layer = np.zeros_like(picture) if isinstance(unit, Group) else picture
        for one, members in compositor.seen_in_order():
            if one is unit or (isinstance(one, Emitter) and one.group == unit.id):
                _draw_measured(compositor, one, members, context, layer)
        if layer is not picture:
            lay(_carried(layer, unit.finish, compositor.moment), picture)
    picture = _carried(picture, compositor.shot.finish, compositor.moment)
    share = np.maximum(picture[..., 3], _LEAST_COVER)
    return np.asarray(picture[..., :3] / share[..., None], np.float32), np.ascontiguousarray(picture[..., 3])


def _draw_measured(
    compositor: Compositor, one: Emitter | Group, members: list[int], context: RenderContext, onto: Floats
) -> None:
    """Draw an emitter, or a group under one skin, over a picture of the same measure."""
    if isinstance(one, Group):
        assert one.skin is not None
        context.draw_as_one(members, one.skin, onto, "normal")
        return
    hiding = compositor.hiding(one)
    own = np.zeros_like(onto) if hiding or carrying(one.finish) else onto
    if not compositor.draw_where_seen(one, own, context, "normal"):
        context.draw(members[0], own, "normal")
    if own is not onto:
        for hidden in hiding:
            own *= (1 - hidden)[..., None]
        lay(_carried(own, one.finish, compositor.moment), onto)


class _Shares:
    """How much of each pixel shows each of some units, (height, width), and how much all of them cover."""

    def __init__(self, cover: Floats, of: dict[str, Floats]) -> None:
        self.cover, self.of = cover, of

    def over(self, other: _Shares) -> _Shares:
        """These laid over others."""
        through = 1 - self.cover
        return _Shares(
            self.cover + other.cover * through, {name: a * through for name, a in other.of.items()} | self.of
        )

    def done_by(self, change: Callable[[Floats], Floats], cover: Floats) -> _Shares:
        """After a change to layers, of which is known how much all of them cover then."""
        of = {name: np.maximum(0, change(_layer(share))[..., 3]) for name, share in self.of.items()}
        total = sum(of.values(), np.zeros_like(cover))
        scale = np.where(total > 0, cover / np.maximum(total, 1e-12), 0).astype(np.float32)
        return _Shares(cover, {name: share * scale for name, share in of.items()})


def _layer(share: Floats) -> Floats:
    """A layer (height, width, 4) without light that covers this much."""
    layer = np.zeros((*share.shape, 4), np.float32)
    layer[..., 3] = share
    return layer


def _covers(compositor: Compositor) -> tuple[Floats, dict[str, Floats]]:
    """How much of each pixel all particles cover, (height, width), and how much of it shows each unit: together as much."""
    covering = replace(compositor, context=replace(compositor.context, counts=Counts()), known=None, covering=True)
    moment, context = compositor.moment, covering.context
    empty = np.zeros((context.view.height, context.view.width), np.float32)

    def alpha_of(unit: Emitter | Group) -> Floats:
        return np.clip(covering.layer(unit)[..., 3], 0, 1)

    def alone(unit: Emitter | Group) -> _Shares:
        cover = alpha_of(unit)
        return _Shares(cover, {unit.id: cover})

    def finished(shares: _Shares, steps: tuple[Any, ...], cover: Floats) -> _Shares:
        return shares.done_by(lambda layer: worked(whole(layer), steps, moment).done().layer, cover)

    models = cover_shares(context)
    found = _Shares(sum(models.values(), empty), models)
    for unit in compositor.ordered_units():
        if unit.use.kind != "picture":
            if unit.use.of is None:
                layer = covering.layer(unit)

                def used(below: Floats, unit: Emitter | Group = unit, layer: Floats = layer) -> Floats:
                    use_on(unit.use, layer, below, context)
                    return below

                found = found.done_by(used, np.clip(used(_layer(found.cover))[..., 3], 0, 1))
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
    return found.cover.astype(np.float32), found.of


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
            p = solver.every(number, context.seconds, context.stale)
            order = rank(compositor.shot.emitters[number], p, view)
            centre, grown = view.place(p.position)
            radius = np.where(p.opacity > 0, p.size * np.float32(0.5 * view.scale_x) * grown, 0).astype(np.float32)
            million, births = np.divmod(births_of(p.id), 1_000_000)
            names = np.stack([np.full(len(p), number + 1), births, million], axis=1).astype(np.float32)
            middles, radii, sorted_names = (np.ascontiguousarray(rows[order]) for rows in (centre, radius, names))
            _stamp(middles, radii, sorted_names, out)
    return out


@inline_kernel("void(f4[:,:,::1], f4[::1], i8, f4[:,:,:,::1])", cache=True)
def _rank(covers: Floats, codes: Floats, most: int, out: Floats) -> None:
    """Of each pixel, the largest covers first, those of the same size in their order: pairs of code and share, two to a layer."""
    for y in range(covers.shape[1]):
        for x in range(covers.shape[2]):
            count = 0
            for n in range(len(covers)):
                share = covers[n, y, x]
                if share <= 0:
                    continue
                at = min(count, most - 1)
                if count == most and share <= out[at // 2, y, x, at % 2 * 2 + 1]:
                    continue
                while at > 0 and out[(at - 1) // 2, y, x, (at - 1) % 2 * 2 + 1] < share:
                    for k in range(2):
                        out[at // 2, y, x, at % 2 * 2 + k] = out[(at - 1) // 2, y, x, (at - 1) % 2 * 2 + k]
                    at -= 1
                out[at // 2, y, x, at % 2 * 2] = codes[n]
                out[at // 2, y, x, at % 2 * 2 + 1] = share
                count = min(count + 1, most)


def ranked(covers: list[Floats], codes: Floats, layers: int) -> Floats:
    """What a pixel shows most of, float32 (layers, height, width, 4): two pairs to a layer, of the code (n,) of one of the covers
    and of its share, the largest share first; 0 where nothing more is seen. covers: n times (height, width)."""
    found = np.zeros((layers, *covers[0].shape, 4), np.float32)
    _rank(np.stack(covers, dtype=np.float32), codes, 2 * layers, found)
    return found
