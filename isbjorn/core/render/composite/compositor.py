"""The layers of a moment composited: emitters, groups, what each is used for, and its effects.

An emitter without a finish, and in no group, is drawn directly onto the layers below it, each particle with the emitter's blend.
One with a finish, or hidden, or used, has a separate layer, which is blended as a whole.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import cv2
import numpy as np

from isbjorn.core.appearance.particles import Particles
from isbjorn.core.arrays import Bools, Codes, Floats
from isbjorn.core.document import Emitter, Group, Matte, Shot, Use
from isbjorn.core.imaging.blur import blur
from isbjorn.core.imaging.display_encoding import bounds
from isbjorn.core.render.composite.effects import EffectMoment, around, region, worked, working
from isbjorn.core.render.composite.layer_cache import Digests, Facts, LayerCache
from isbjorn.core.render.composite.mattes import matte_of
from isbjorn.core.render.draw.context import RenderContext
from isbjorn.core.render.draw.pieces import leaves_holes
from isbjorn.core.render.draw.skin import bends
from isbjorn.core.render.models.bodies import shows_ground
from isbjorn.core.render.models.covers import draw_covers, seen_mattes
from isbjorn.core.render.models.hold_out import COVERS, CUTS, SHOWS, HoldOut, hold_out
from isbjorn.core.render.raster.blends import MODES
from isbjorn.core.render.raster.pixel_pass import LayerPiece, cover_of, fade, hold, lay_piece, pixels_of, whole
from isbjorn.core.render.scene.atlas import is_plain
from isbjorn.core.render.scene.bending import bent
from isbjorn.core.render.scene.plate_depth import PlateDepth, plate_depth

# Models that hide an emitter in depth at most: each doubles how often it is drawn. Others hide all of it.
_MOST_WALLS = 4
# What is smoothed away of a surface that bends light, px.
_SURFACE = 1.5


def is_simple(e: Emitter) -> bool:
    """Whether an emitter's particles are discs with nothing done to them, drawn by the fastest way."""
    return (
        is_plain(e) and MODES[e.blend] == 0 and e.pieces is None
        and all(x is None for x in (e.trail, e.heads, e.lines, e.skin, e.strand, e.ripples))
        and e.group is None and e.use.kind == "picture" and not e.hidden_by and not working(e.finish)
        and e.lit.value == 0 and not e.lit.timed
    )  # fmt: skip


def all_simple(shot: Shot) -> bool:
    """Whether all of a shot may be drawn in one pass."""
    camera = shot.camera
    lens = any(n.value or n.timed for n in (camera.shutter, camera.aperture))
    crosses = shot.loop and shot.crossover_s > 0
    plain = not lens and not crosses and not working(shot.finish) and not seen_mattes(shot)
    return plain and all(is_simple(e) for e in shot.emitters if e.on)


def reads_ground(shot: Shot) -> bool:
    """Whether layers must be drawn onto the plate itself, because their effect on it cannot be computed from them alone."""
    if working(shot.finish):
        return any(u.use.kind != "picture" and u.use.of == "plate" for u in _units(shot))
    units = [u for u in _units(shot) if not (isinstance(u, Emitter) and u.group is not None)]
    uses = any(u.use.kind != "picture" and u.use.of in (None, "plate") for u in units)
    if any(u.on and u.skin is not None and bends(u.skin) for u in _units(shot)):
        return True
    if any(e.on and (e.ripples is not None or shows_ground(e) or leaves_holes(e)) for e in shot.emitters):
        return True
    if any(matte.visible and matte.look.material == "glass" for matte in seen_mattes(shot)):
        return True
    return uses or any(MODES[u.blend] != 0 for u in units)


def _units(shot: Shot) -> list[Emitter | Group]:
    every: list[Emitter | Group] = [*shot.emitters, *shot.groups]
    return [u for u in every if u.on]


def _aim(unit: Emitter | Group) -> str | None:
    """The id of the one thing that a unit is used on; then it is not laid itself. None: it is laid."""
    return None if unit.use.kind == "picture" else unit.use.of


@dataclass
class Compositor:
    """Lays the layers of a moment. plate: the plate alone, for mattes that read it. known: what is known of the last picture.
    covering: what only adds light is laid as if it covered, so that it can be measured how much of a pixel it takes."""

    context: RenderContext
    frame: int
    plate: Floats | Codes | None = None
    particles: dict[int, Particles] = field(default_factory=dict)
    known: LayerCache | None = None
    covering: bool = False

    @property
    def shot(self) -> Shot:
        return self.context.shot

    @cached_property
    def moment(self) -> EffectMoment:
        return EffectMoment(self.context.read, self.context.view.scale_x, self.frame)

    def _nothing(self) -> Floats:
        return np.zeros((self.context.view.height, self.context.view.width, 4), np.float32)

    @cached_property
    def _aimed(self) -> dict[str, list[Emitter | Group]]:
        """Layers that are applied to one thing alone, by the thing's id."""
        users: dict[str, list[Emitter | Group]] = {}
        for unit in _units(self.shot):
            if (of := _aim(unit)) is not None:
                users.setdefault(of, []).append(unit)
        return users

    @cached_property
    def _mattes(self) -> dict[str, Floats]:
        wanted = {name for e in self.shot.emitters if e.on for name in e.hidden_by}
        return {m.id: matte_of(m, self.context, self.plate) for m in self.shot.mattes if m.on and m.id in wanted}

    def laid(self, ground: Floats | None) -> Floats:
        """All layers on the ground (changed in place), or on nothing."""
        picture = self._nothing() if ground is None else ground
        whole = working(self.shot.finish)
        if ground is not None:
            for user in self._aimed.get("plate", ()):
                use_on(user.use, self.layer(user), picture, self.context)
        target = self._nothing() if whole else picture
        self._lay_all(self.ordered_units(), target, ground is not None)
        if whole:
            piece = self._cropped(target, self.shot.finish)
            if piece is not None:
                lay_piece(worked(piece, self.shot.finish, self.moment), picture)
        return picture

    def ordered_units(self) -> list[Emitter | Group]:
        """The units in drawing order: emitters, and groups at the place of their first member."""
        units: dict[str, Emitter | Group] = {}
        groups = {g.id: g for g in self.shot.groups}
        for emitter in self._in_order():
            unit: Emitter | Group = groups[emitter.group] if emitter.group is not None else emitter
            if unit.on and (isinstance(unit, Group) or emitter.on) and _aim(unit) is None:
                units.setdefault(unit.id, unit)
        return list(units.values())

    def _lay_all(self, units: list[Emitter | Group], target: Floats, grounded: bool) -> None:
        known = self.known
        if known is None:
            draw_covers(self.context, target)
            for unit in units:
                self._put(unit, target)
            return
        self._digests = Digests(self.context, self._aimed, grounded)
        chain = [self._digests.of(unit) for unit in units]
        same, first = known.same(self._digests.at, chain), 0
        if known.below is not None:
            first = known.depth
            target[:] = known.below
        else:
            draw_covers(self.context, target)
        facts = known.facts[:first]
        for one in facts:
            self._recall(one)
        for number in range(first, len(units)):
            if number == same and number > known.depth and known.fits(target):
                # A thing that was edited once is likely edited again: the picture below it is cached.
                known.depth, known.below = number, target.copy()
            facts.append(self._noted(lambda unit=units[number]: self._put(unit, target)))  # type: ignore[misc]
        known.chain, known.facts = chain, facts
        known.pieces = {digest: known.pieces[digest] for digest in {*chain} & known.pieces.keys()}

    def _noted(self, drawing: Callable[[], None]) -> Facts:
        """Draw, and note which particles were drawn, and the counts."""
        before, had = replace(self.context.counts), set(self.particles)
        drawing()
        mine = {number: p for number, p in self.particles.items() if number not in had}
        return Facts(mine, self.context.counts.since(before))

    def _recall(self, facts: Facts) -> None:
        self.particles |= facts.particles
        self.context.counts.add(facts.counts)

    def _in_order(self) -> list[Emitter]:
        """Emitters in the order in which they are drawn: of the cast, or the farthest first by the middle of its particles; those
        of a group by the middle of all of them."""
        shot, view = self.shot, self.context.view
        if shot.camera.sorting != "by depth" or view.lens_px is None:
            return list(shot.emitters)
        near: dict[str, list[float]] = {}
        for number, emitter in enumerate(shot.emitters):
            if number in self.context.solver.tracks:
                places = self.context.solver.every(number, self.context.seconds, self.context.stale).position
                near.setdefault(emitter.group or emitter.id, []).extend((places @ view.axes[2]).tolist())
        middle = {name: float(np.mean(z)) if z else 0.0 for name, z in near.items()}
        return sorted(shot.emitters, key=lambda e: middle.get(e.group or e.id, 0.0))

    def seen_in_order(self) -> list[tuple[Emitter | Group, list[int]]]:
        """The units in drawing order, and their places in the cast: single emitters, and groups that are drawn under one skin."""
        found: list[tuple[Emitter | Group, list[int]]] = []
        for unit in self.ordered_units():
            if unit.use.kind != "picture":
                continue
            if isinstance(unit, Emitter):
                found.append((unit, [self.shot.place_of(unit)]))
                continue
            numbers = [
                n for n, e in enumerate(self.shot.emitters) if e.on and e.group == unit.id and e.use.kind == "picture"
            ]
            found += [(unit, numbers)] if unit.skin is not None else [(self.shot.emitters[n], [n]) for n in numbers]
        return found

    def hiding(self, emitter: Emitter) -> list[Floats]:
        """How far mattes hide an emitter, each (height, width); not those that hide only what is behind them."""
        in_depth = {*self._walls(emitter), *(m.id for m in self._depths(emitter))}
        return [self._mattes[name] for name in emitter.hidden_by if name in self._mattes and name not in in_depth]

    def _walls(self, emitter: Emitter) -> dict[str, HoldOut]:
        """The models that hide an emitter's particles only where those are behind them, by their ids. What is more than bodies
        (trails, lines, strands) is hidden as a whole."""
        return {m.id: hold_out(m, self.context) for m in self._in_depth(emitter, "model")[:_MOST_WALLS]}

    def _depths(self, emitter: Emitter) -> list[Matte]:
        """The depths of the plate that hide an emitter's particles where those are behind it."""
        return self._in_depth(emitter, "depth")[:1]

    def _in_depth(self, emitter: Emitter, kind: str) -> list[Matte]:
        if any(x is not None for x in (emitter.trail, emitter.lines, emitter.strand, emitter.skin, emitter.ripples)):
            return []
        return [m for m in self.shot.mattes if m.on and m.kind == kind and not m.inverted and m.id in emitter.hidden_by]

    def _slices(self, number: int, depth: PlateDepth | None, far: bool) -> list[int]:
        """The slices of an emitter's particles in the depth of the plate, the farthest first."""
        if depth is None:
            return [0]
        particles = self.context.solver.every(number, self.context.seconds, self.context.stale)
        found = depth.slices_of(particles, self.context.view, far)
        cut = found[found > 0]
        if len(cut) == 0:
            return [0]
        # While the shutter is open, some come to the next.
        first, last = max(1, int(cut.min()) - 1), min(len(depth.edges), int(cut.max()) + 1)
        return [*range(last, first - 1, -1), 0]

    def _reaches_far(self, emitter: Emitter) -> bool:
        """Whether bodies of an emitter are drawn beyond their radius: in motion, stretched, repeated or out of focus."""
        stretch = emitter.stretch
        if emitter.heads is not None or stretch.value > 0 or stretch.spread > 0 or stretch.timed:
            return True
        return (emitter.motion_blur and bool(self.context.open)) or self.context.read(self.shot.camera.aperture) > 0

    def draw_where_seen(self, emitter: Emitter, layer: Floats, context: RenderContext, blend: str) -> bool:
        """Draw an emitter whose particles are hidden one by one by what is before them, on an empty layer; whether anything
        hides them so. Those behind come first, as far as each thing before them leaves them."""
        walls, depths = self._walls(emitter), self._depths(emitter)
        if not walls and not depths:
            return False
        depth = plate_depth(depths[0], self.context) if depths else None
        number, names = self.shot.place_of(emitter), sorted(walls)
        part = self._nothing()
        far = self._reaches_far(emitter)
        for slice_, hidden in itertools.product(
            self._slices(number, depth, far), itertools.product((True, False), repeat=len(names))
        ):

            def chosen(
                p: Particles, at: RenderContext, slice_: int = slice_, hidden: tuple[bool, ...] = hidden
            ) -> Bools:
                # A body in motion, or stretched, reaches beyond its place: what it shows is found pixel by pixel.
                here = [
                    np.isin(found, (CUTS, COVERS) if far else (CUTS,)) if is_behind else found == SHOWS
                    for found, is_behind in ((walls[n].hides(p, at), b) for n, b in zip(names, hidden, strict=True))
                ]
                here += [depth.slices_of(p, at.view, far) == slice_] if depth is not None else []
                return np.all(here, axis=0)

            self.particles[number] = replace(context, chosen=chosen, counts=context.counts).draw(number, part, blend)
            lit = bounds(part)
            if lit is None:
                continue
            left, top, right, bottom = lit
            for name, is_behind in zip(names, hidden, strict=True):
                if is_behind:
                    fade(part, self._mattes[name], lit)
            if depth is not None and slice_ > 0:
                depth.cut(part, slice_, lit)
            lay_piece(LayerPiece(part, (top, left, bottom, right)), layer, "normal")
            part[top:bottom, left:right] = 0
        return True

    def _put(self, unit: Emitter | Group, onto: Floats) -> None:
        if unit.use.kind != "picture":
            if unit.use.of is None:
                use_on(unit.use, self.layer(unit), onto, self.context)
            return
        own = (
            (isinstance(unit, Group) and unit.skin is None) or working(unit.finish) 
            or (isinstance(unit, Emitter) and bool(set(unit.hidden_by) & set(self._mattes)))
            or unit.id in self._aimed
        )  # fmt: skip
        if isinstance(unit, Group) and not own:
            self._draw_members(unit, onto, unit.blend)
        elif not own:
            self._draw(unit, onto)
        else:
            # An emitter that only adds light has left no cover on its layer, so that is laid the plain way.
            piece = self._known_piece(unit)
            if piece is not None:
                lay_piece(piece, onto, "normal" if self.covering else unit.blend)

    def _draw(self, emitter: Any, onto: Floats, blend: str | None = None) -> None:
        number = self.shot.place_of(emitter)
        self.particles[number] = self.context.draw(number, onto, "normal" if self.covering else blend)

    def _draw_members(self, group: Group, onto: Floats, blend: str) -> None:
        """Draw the members of a group: one by one, or all under one skin."""
        members = [e for e in self.shot.emitters if e.on and e.group == group.id]
        if group.skin is None:
            for member in members:
                self._put(member, onto)
            return
        numbers = [self.shot.place_of(member) for member in members]
        self.particles |= self.context.draw_as_one(numbers, group.skin, onto, blend)

    def layer(self, unit: Emitter | Group) -> Floats:
        """A unit's own layer with its finish, and with what others do to it, as large as the picture."""
        piece = self._piece(unit)
        if piece is None:
            return self._nothing()
        piece = piece.done()
        if piece.layer.shape[:2] == (self.context.view.height, self.context.view.width):
            return piece.layer
        full = self._nothing()
        height, width = piece.layer.shape[:2]
        full[piece.top : piece.top + height, piece.left : piece.left + width] = piece.layer
        return full

    def _cropped(self, layer: Floats, steps: tuple[Any, ...]) -> LayerPiece | None:
        """The part of a layer that its steps can change; None if there is nothing on it."""
        lit = bounds(layer)
        if lit is None:
            return None
        left, top, right, bottom = region(lit, steps, self.moment, layer.shape[1], layer.shape[0])
        return LayerPiece(layer, (top, left, bottom, right))

    def _known_piece(self, unit: Emitter | Group) -> LayerPiece | None:
        if self.known is None or (isinstance(unit, Emitter) and unit.group is not None):
            return self._piece(unit)
        digest, piece = self._digests.of(unit), None
        if digest in self.known.pieces:
            piece, facts = self.known.pieces[digest]
            self._recall(facts)
            return piece

        def draw() -> None:
            nonlocal piece
            drawn = self._piece(unit)
            piece = None if drawn is None else drawn.done()

        facts = self._noted(draw)
        if piece is None or self.known.fits(piece.layer):
            self.known.pieces[digest] = piece, facts
        return piece

    def _piece(self, unit: Emitter | Group) -> LayerPiece | None:
        """The part of a unit's layer in which there is anything, with its finish; None if there is nothing."""
        layer = self._nothing()
        if isinstance(unit, Group):
            self._draw_members(unit, layer, "normal")
        else:
            blend = unit.blend if MODES[unit.blend] == 0 else "normal"
            if not self.draw_where_seen(unit, layer, self.context, "normal" if self.covering else blend):
                self._draw(unit, layer, blend)
        users = self._aimed.get(unit.id, ())
        # What others do to it may reach all of it.
        piece = whole(layer) if users else self._cropped(layer, unit.finish)
        if piece is None:
            return None
        if isinstance(unit, Emitter) and (hiding := self.hiding(unit)):
            kept = np.ascontiguousarray(math.prod(1 - hidden for hidden in hiding), np.float32)
            piece = replace(piece, pixels=pixels_of([], kept))
        piece = worked(piece, unit.finish, self.moment)
        if not users:
            return piece
        layer = piece.done().layer
        for user in users:
            use_on(user.use, self.layer(user), layer, self.context)
        return whole(layer)


def use_on(use: Use, layer: Floats, below: Floats, context: RenderContext) -> None:
    """Change the picture below a layer as the layer's use says; both float32 (height, width, 4)."""
    if use.kind in ("matte", "cut"):
        hold(layer, below, use.kind == "cut")
        return
    lit = bounds(layer)
    if lit is None:
        return
    push, scale = context.read(use.amount) * context.view.scale_x, context.view.scale_x
    height, width = layer.shape[:2]
    left, top, right, bottom = around(lit, 4 * _SURFACE * scale, width, height)
    if use.kind == "glass":
        # Light is bent by the slope of the surface: thick where the layer is full. One amount at a slope of one in eight px.
        thick = blur(cover_of(layer, left, top, right, bottom), _SURFACE * scale)
        dx, dy = (
            np.asarray(cv2.Sobel(thick, cv2.CV_32F, *way, scale=push * scale), np.float32) for way in ((1, 0), (0, 1))
        )
    else:
        part = layer[top:bottom, left:right]
        dx = (part[..., 0] - 0.5 * part[..., 3]) * np.float32(2 * push)
        dy = -(part[..., 1] - 0.5 * part[..., 3]) * np.float32(2 * push)
    below[top:bottom, left:right] = bent(below, dx, dy, left, top)


def depth_of(context: RenderContext) -> Floats:
    """Number of bodies that overlap at each pixel, float32 (height, width)."""
    picture = np.zeros((context.view.height, context.view.width, 4), np.float32)
    for number, emitter in enumerate(context.shot.emitters):
        if emitter.on:
            context.draw(number, picture, bare=True)
    return np.ascontiguousarray(picture[..., 0])
