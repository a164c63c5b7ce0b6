"""Drawing one emitter of a moment onto a picture: its lines, trails, further heads and bodies."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from isbjorn.core.appearance.in_pieces import beginning, finite, turned_home
from isbjorn.core.appearance.looks import number_now
from isbjorn.core.appearance.particles import Particles, births_of
from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.document import Emitter
from isbjorn.core.document.emitter_parts.skin import Skin
from isbjorn.core.emit.pieces.flights import PieceSource
from isbjorn.core.random import SPIN_X, SPIN_Y, STRETCH, TURN_X, TURN_Y, draws_around
from isbjorn.core.render.draw.pieces import flying_pages
from isbjorn.core.render.draw.skin import draw_skin, reach_of
from isbjorn.core.render.models.bodies import draw_bodies, has_models
from isbjorn.core.render.raster.blends import MODES
from isbjorn.core.render.raster.blurred_discs import PIECES, draw_smears, smears_of
from isbjorn.core.render.raster.discs import draw_onto, records_alike
from isbjorn.core.render.raster.neighbours import pairs
from isbjorn.core.render.raster.overdraw import BLENDED, DISCS, SMEARED, SPRITES, STROKES, affordable, covered, within
from isbjorn.core.render.raster.profiles import HARD, SOFT, mean_cover, pack_body
from isbjorn.core.render.raster.sprites import draw_sprites, sprites_of
from isbjorn.core.render.raster.strokes import draw_strokes, strokes_of
from isbjorn.core.render.scene.atlas import Bodies, is_plain, turns_in_depth
from isbjorn.core.render.scene.camera import Projection, rank, tallied
from isbjorn.core.render.scene.exposure import ExposureChange, Growth
from isbjorn.core.render.scene.lights import lit
from isbjorn.core.render.scene.surface_alignment import lying
from isbjorn.core.render.scene.trajectories import Ways, on_the_picture

if TYPE_CHECKING:
    from isbjorn.core.render.draw.context import RenderContext


# Lines are searched among this number of neighbours in all.
_MOST_JOINED = 2_000_000


class EmitterRasteriser:
    """Draws one emitter with its blend."""

    def __init__(self, context: RenderContext, emitter: Emitter, number: int, blend: str, bare: bool = False) -> None:
        self.context, self.emitter, self.number, self.bare = context, emitter, number, bare
        self.blend, self.covers = blend, blend != "add" and not bare
        self.mode = 0 if bare else MODES[blend]
        self.key = context.solver.tracks[number].key

    def lit(
        self, position: npt.NDArray[np.floating], colour: Floats, opacity: Floats, velocity: Floats | None = None
    ) -> tuple[Floats, Floats]:
        """Colours and opacities where the lights fall; or what is measured in place of colours."""
        context = self.context
        if context.measure is not None:
            return context.measure(np.asarray(position, np.float32), velocity), opacity
        share = context.read(self.emitter.lit) / 100
        if share <= 0:
            return colour, opacity
        return lit(context.lamps, share, position, colour, opacity)

    def pixels(self, position: npt.NDArray[np.floating]) -> tuple[Floats, Floats]:
        return self.context.view.place(position)

    def _confusion(self, position: npt.NDArray[np.floating]) -> Doubles | None:
        """Radius in px of the picture of the circle of confusion of a thin lens; None if all is sharp."""
        context, camera = self.context, self.context.shot.camera
        opening = context.read(camera.aperture)
        view = context.view
        if opening <= 0 or view.lens_px is None or context.orbit is not None:
            return None
        away = -((position - view.eye) @ view.axes.T)[:, 2]
        focus = max(1.0, float(view.eye[2]) - context.read(camera.focus))
        away = np.maximum(away, 1.0)
        return np.asarray(0.5 * opening * np.abs(away - focus) / away * view.lens_px / focus * view.scale_x)

    def bodies(
        self, p: Particles, onto: Floats, size: float = 1.0, seen: float = 1.0, way: Ways | None = None, count: bool = False,
        change: ExposureChange | None = None,
    ) -> None:  # fmt: skip
        """Draw the bodies of particles; way: while the shutter is open."""
        context, e = self.context, self.emitter
        if context.chosen is not None:
            among = context.chosen(p, context)
            p, change = p.where(among), None if change is None else change.where(among)
        if len(p) == 0:
            return
        centre, grown = self.pixels(p.position)
        radius = p.size * np.float32(0.5 * size * context.view.scale_x) * grown
        keep = self._affordable(p, centre, radius, way is not None)
        if keep is not None:
            context.counts.left_out += int((~keep).sum())
            p, centre, grown, radius = p.where(keep), centre[keep], grown[keep], radius[keep]
            change = None if change is None else change.where(keep)
        # Of births in their order nothing need be moved.
        order = slice(None) if e.order == "oldest first" else rank(e, p, context.view)
        opacity = p.opacity if seen == 1 else np.minimum(1, p.opacity * np.float32(seen))
        colour, opacity = self.lit(p.position, p.colour, opacity, p.velocity)
        confusion = self._confusion(p.position)
        if self.bare:
            colour, opacity = np.ones_like(colour), (opacity > 0).astype(np.float32)
        if count:
            self.tally(centre, radius, opacity, grown)
        if context.view.lens_px is not None:
            opacity = np.where(grown > 0, opacity, 0).astype(np.float32)
        places, shares = self._smeared(p, way) if way is not None else (None, None)
        grows = self._growth(p, way, change) if way is not None and change is not None else None
        plain = is_plain(e)
        if plain and self.mode == 0:
            self._discs(order, centre, radius, colour, opacity, confusion, places, shares, onto, grows)
            return
        track = context.solver.tracks[self.number]
        t = float(context.seconds)
        births, moments = births_of(p.id), t - p.age.astype(np.float64)
        longer = self.stretch(p, births)
        turned = e.facing == "motion" or not isinstance(longer, float)
        ahead = _way(context.view, p) if turned else None
        held = Bodies(context.shot, e, context.view.scale_x, context.pictures, context.measure is not None)
        had = happened(e, p)
        if has_models(e):
            which = held.which(track.key, births, had)
            solid = draw_bodies(self, p, 0.5 * size * p.size, radius, colour, opacity, which, onto)
            if solid.all():
                return
            # Flat bodies of the same emitter are drawn over its models.
            opacity = np.where(solid, 0, opacity).astype(np.float32)
        cut = flying_pages(self, p, centre, grown)
        if cut is None:
            pages, page, tinted = held.shown(track.key, births, moments, p.age01, t, lambda: _reads_backward(p), had)
            shown = [(pages, page, centre, np.ones(len(p), np.float32))]
            colour = np.where(tinted[:, None], colour, 1).astype(np.float32)
        else:
            shown = cut
        turn = np.radians(p.angle.astype(np.float64))
        if e.facing == "motion" and cut is None and ahead is not None:
            turn = turn + ahead
        smear, bend, shift = None, None, np.zeros_like(centre)
        if places is not None and shares is not None:
            exposed = shares.sum(axis=1)
            ends = 0.5 * (places[:, 0] + places[:, -1])
            # Its position at half of the time; particles that live for a part of it move in a straight line.
            whole = (exposed > 1 - 1e-6)[:, None]
            shift = np.where(whole, places[:, PIECES // 2], ends) - centre
            smear, bend = places[:, -1] - places[:, 0], ends - (centre + shift)
            opacity = opacity * exposed
        deep = self.deep(p, births, moments)
        lie = None
        if e.facing == "surface":
            lie = lying(self, p, grown, None if deep is None else deep[:, 0])
        for pages, page, middle, part in shown:
            sprites = sprites_of(
                middle + shift, radius, turn, np.concatenate([colour, (opacity * part)[:, None]], axis=1).astype(np.float32), page,
                pages, self.covers, smear, ahead, longer, 0.0 if confusion is None else confusion, bend,
                None if change is None else np.radians(change.turned.astype(np.float64)),
                None if grows is None else grows.in_knots(), None if e.facing == "surface" else deep, lie,
                None if grows is None or deep is None or e.facing == "surface" else self._tumble(births, moments, grows),
            )  # fmt: skip
            draw_sprites(sprites.of(order), pages, onto, self.mode)

    def skin(self, p: Particles, onto: Floats, blend: str) -> None:
        """Draw one surface over all particles, in place of their bodies."""
        skin = self.emitter.skin
        if len(p) and skin is not None:
            draw_skin(self.context, skin, *self.balls(p, skin), onto, blend)

    def balls(self, p: Particles, skin: Skin) -> tuple[Floats, Floats, Floats, Floats, Floats]:
        """The balls of a skin: centres (n, 2) and radii (n,) in px of the picture, linear colours (n, 3), opacities (n,), nearness
        (n,) px."""
        context = self.context
        centre, grown = self.pixels(p.position)
        radius = p.size * np.float32(0.5 * context.view.scale_x) * grown
        # Each ball is drawn twice; its cost is estimated at the usual level at least.
        reach = context.read(skin.girth) / 100 * reach_of(context.read(skin.level) / 100)
        keep = self._affordable(p, centre, radius * np.float32(2 * max(reach, reach_of(0.35))), False)
        if keep is not None:
            context.counts.left_out += int((~keep).sum())
            p, centre, grown, radius = p.where(keep), centre[keep], grown[keep], radius[keep]
        colour, opacity = self.lit(p.position, p.colour, np.minimum(1, p.opacity), p.velocity)
        opacity = np.where(grown > 0, opacity, 0).astype(np.float32)
        self.tally(centre, radius, opacity, grown)
        near = (p.position @ context.view.axes[2].astype(np.float32)) * np.float32(context.view.scale_x) * grown
        return centre, radius, colour.astype(np.float32), opacity, near.astype(np.float32)

    def _affordable(self, p: Particles, centre: Floats, radius: Floats, smeared: bool) -> npt.NDArray[np.bool_] | None:
        """Which bodies are drawn, where all would cost too much."""
        view, e = self.context.view, self.emitter
        plain = is_plain(e) and self.mode == 0
        most = (SMEARED if smeared else DISCS) if plain else (SPRITES if self.mode == 0 else BLENDED)
        if plain and within(radius, most, view.width, view.height):
            return None
        across = radius * (1.0 if plain else 1.5 * float(np.max(self.stretch(p, births_of(p.id)))))
        cost = covered(centre[:, 0], centre[:, 1], across, radius if plain else across, view.width, view.height)
        shown = (p.opacity > 0) & (radius > 0)
        if smeared and not plain:
            # Each is drawn as often as its smear is long.
            gone = (
                np.linalg.norm(p.velocity, axis=1) * view.scale_x * float(self.context.open[-1] - self.context.open[0])
            )
            cost = cost * np.clip(gone / np.clip(0.15 * radius, 0.6, 3.0), 1, 128)
        return affordable(p.id, cost * shown, most)

    def stretch(self, p: Particles, births: npt.NDArray[np.int64]) -> Doubles | float:
        """How much longer each is along its way than it is wide, as a factor."""
        number = self.emitter.stretch
        if number.value == 0 and not number.timed and number.spread == 0:
            return 1.0
        drawn = number_now(number, self.context.solver.readings, p.age01, float(self.context.seconds))
        if number.spread:
            drawn = drawn + number.spread * draws_around(self.key, births, STRETCH, number.spread_shape == "bell")
        speed = np.linalg.norm(p.velocity, axis=1)
        return np.asarray(1 + np.maximum(0, drawn) / 100 * speed / 100)

    def deep(self, p: Particles, births: npt.NDArray[np.int64], moments: Doubles) -> Doubles | None:
        """How far each is turned about the level and the upright axis, radians (n, 2); None if none is."""
        e = self.emitter
        if not turns_in_depth(e):
            return None
        source, age = self.context.solver.tracks[self.number].source, p.age.astype(np.float64)
        turns = []
        for angle, drawn, spin, drawn_spin in (
            (e.turn_x, TURN_X, e.spin_x, SPIN_X), (e.turn_y, TURN_Y, e.spin_y, SPIN_Y)
        ):  # fmt: skip
            begin, pace = source.read(angle, births, moments, drawn), source.read(spin, births, moments, drawn_spin)
            if isinstance(source, PieceSource):
                begin = beginning(source, births, begin)
                turned = turned_home(source, births, begin + pace * age, begin + pace * finite(p.life), p.age01)
            else:
                turned = begin + pace * age
            turns.append(np.broadcast_to(turned, age.shape))
        return np.asarray(np.radians(np.stack(turns, axis=1)))

    def count(self, p: Particles) -> None:
        """Count particles as they are seen, without drawing them."""
        centre, grown = self.pixels(p.position)
        self.tally(
            centre, p.size * np.float32(0.5 * self.context.view.scale_x) * grown, np.minimum(1, p.opacity), grown
        )

    def tally(self, centre: Floats, radius: Floats, opacity: Floats, grown: Floats) -> None:
        """Count bodies as they are seen."""
        view, counts = self.context.view, self.context.counts
        counts.add(tallied(centre, radius, opacity, grown, view.width, view.height))

    def _growth(self, p: Particles, way: Ways, change: ExposureChange) -> Growth:
        """Sizes of particles while the shutter is open."""
        rows = np.minimum(np.searchsorted(way.ids, p.id), len(way.ids) - 1)
        born, deaths = way.births[rows], way.deaths[rows]
        opens, _, closes = change.moments
        lived = np.stack([np.clip(born, opens, closes), np.clip(deaths, opens, closes)], axis=1)
        return Growth(change, p.size, lived, self.emitter.size, self.key, births_of(p.id), born, deaths - born)

    def _tumble(self, births: npt.NDArray[np.int64], moments: Doubles, grows: Growth) -> Doubles | None:
        """By how much each turns about the level and the upright axis while the shutter is open, radians (n, 2)."""
        e = self.emitter
        read = self.context.solver.tracks[self.number].source.read
        lasts_s = grows.lived[:, 1] - grows.lived[:, 0]
        spins = [
            np.broadcast_to(read(spin, births, moments, drawn), lasts_s.shape)
            for spin, drawn in ((e.spin_x, SPIN_X), (e.spin_y, SPIN_Y))
        ]
        turned = np.radians(np.stack(spins, axis=1) * lasts_s[:, None])
        return turned if turned.any() else None

    def _smeared(self, p: Particles, way: Ways) -> tuple[Floats, Floats]:
        """Places on the picture (n, 5, 2) while the shutter is open, and the share of the time of each piece (n, 4)."""
        moments = self.context.open
        views = [self.context.at(moment) for moment in moments]
        return on_the_picture(way, p.id, views, float(moments[-1] - moments[0]))

    def _discs(
        self, order: Longs | slice, centre: Floats, radius: Floats, colour: Floats, opacity: Floats,
        confusion: Doubles | None, places: Floats | None, shares: Floats | None, onto: Floats, grows: Growth | None = None,
    ) -> None:  # fmt: skip
        profile, inner = pack_body(self.emitter.body)
        inners = np.array([inner])
        if confusion is not None:
            radius, inners, opacity = _defocused(radius, inner, profile, opacity, confusion)
            profile = SOFT
        if places is not None and shares is not None:
            shade = np.concatenate([colour, opacity[:, None]], axis=1)[order]
            wide, spread = radius, None
            if grows is not None and confusion is None:
                sizes, spreads = grows.in_pieces()
                wide, spread = radius[:, None] * sizes, spreads[order]
            inners = inners if len(inners) == 1 else inners[order]
            smears = smears_of(places[order], shares[order], wide[order], shade, inners, profile, self.covers, spread)
            draw_smears(smears, onto, 0)
            return
        few = np.empty(0, np.int64) if isinstance(order, slice) else order
        records = records_alike(few, centre, radius, opacity, colour, self.covers, profile, inners)
        draw_onto(records, onto)

    def lines(self, p: Particles, onto: Floats) -> None:
        """Draw lines between neighbours, in the colours of both."""
        lines, view, context = self.emitter.lines, self.context.view, self.context
        assert lines is not None
        opacity = np.minimum(1, p.opacity)
        seen = np.flatnonzero(opacity > 0)
        stride = math.ceil(len(seen) * lines.most / _MOST_JOINED)
        if stride > 1:
            # More lines than can be looked for in the time of a frame: some, evenly, are joined.
            context.counts.left_out += len(seen) - len(seen[::stride])
            seen = seen[::stride]
        joined, distance = pairs(np.ascontiguousarray(p.position[seen]), lines.distance.value, lines.most)
        if len(joined) == 0:
            return
        joined = seen[joined]
        colour, opacity = self.lit(p.position, p.colour, opacity, p.velocity)
        pixels, grown = self.pixels(p.position)
        ends = pixels[joined]
        fade = 1 - lines.fade.value / 100 * distance / max(lines.distance.value, 1e-6)
        alpha = opacity[joined] * (fade * lines.opacity.value / 100)[:, None]
        alpha = np.where(grown[joined] > 0, alpha, 0)
        shade = np.concatenate([colour[joined] * alpha[..., None], (alpha * self.covers)[..., None]], axis=2)
        widths = 0.5 * lines.width.value * view.scale_x * grown[joined]
        way = ends[:, 1] - ends[:, 0]
        cost = np.linalg.norm(way, axis=1) * (widths.sum(axis=1) + 2) / (view.width * view.height)
        keep = affordable(p.id[joined[:, 0]], cost.astype(np.float64), STROKES)
        if keep is not None:
            context.counts.left_out += int((~keep).sum())
            ends, widths, shade, way = ends[keep], widths[keep], shade[keep], way[keep]
        strokes = strokes_of(ends, widths, shade, way, way, lines.softness.value / 100)
        draw_strokes(strokes, onto, self.mode)


def _way(view: Projection, p: Particles) -> Doubles:
    """The direction of motion on the picture, radians counter-clockwise; 0 for those at rest."""
    here, _ = view.place(p.position)
    there, _ = view.place(p.position + p.velocity * np.float32(1e-2))
    d = (there - here).astype(np.float64)
    return np.asarray(np.arctan2(-d[:, 1], d[:, 0]))


def happened(e: Emitter, p: Particles) -> npt.NDArray[np.bool_] | None:
    """Which particles have had the event that selects an emitter's bodies; None where weights select them."""
    if e.mixed_by == "weight":
        return None
    return (p.touched if e.mixed_by == "since touch" else p.caught) >= 0


def _reads_backward(p: Particles) -> npt.NDArray[np.bool_]:
    """Whether those born first fly ahead to the right, or downward: then the text is dealt from its end."""
    x, y = p.velocity[:, 0], p.velocity[:, 1]
    if len(p) == 0:
        return np.zeros(0, bool)
    mean_x, mean_y = float(x.mean()), float(y.mean())
    return np.full(len(p), mean_x > 0 if abs(mean_x) >= 0.5 * abs(mean_y) else mean_y < 0)


def _defocused(
    radius: Floats, inner: float, profile: int, opacity: Floats, confusion: Doubles
) -> tuple[Floats, Doubles, Floats]:
    """Discs spread over their circles of confusion: their light stays, their edge is that of the wider of the two."""
    r, c = np.maximum(radius.astype(np.float64), 1e-6), confusion
    wide = r + c
    own = 1.0 if profile == HARD else inner
    bokeh = np.where(c > r, (c - r) / wide, 0)
    inners = np.where(
        c > 0.02 * r, (own * r * r * np.maximum(0, (r - c) / wide) + bokeh * c * c) / (r * r + c * c), own
    )
    before = r * r * mean_cover(profile, inner)
    after = wide * wide * (inners * inners + 0.5 * (1 - inners * inners))
    return wide.astype(np.float32), inners, (opacity * before / after).astype(np.float32)
