"""The way behind each particle: tapering, fading, glowing, and what becomes of it when the particle has died."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from isbjorn.core.appearance.looks import Looks, dress
from isbjorn.core.appearance.particles import Particles, births_of
from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.render.raster.overdraw import STROKES, affordable
from isbjorn.core.render.raster.strokes import draw_strokes, polylines
from isbjorn.core.render.scene.trajectories import Ways, trail_moments, trail_seconds, ways
from isbjorn.core.simulate.state import State
from isbjorn.core.simulate.state_layout import ROWS

if TYPE_CHECKING:
    from isbjorn.core.render.draw.emitters import EmitterRasteriser

_GLOW_WIDTH, _GLOW_SHARE = 4.0, 0.25
# This many at a time: memory stays bounded.
_AT_ONCE = 16_384


def draw_trails(pen: EmitterRasteriser, onto: Floats) -> None:
    """Draw the way behind each particle of an emitter."""
    context, trail = pen.context, pen.emitter.trail
    assert trail is not None
    track, shot = context.solver.tracks[pen.number], context.shot
    speed = pen.emitter.speed.value
    if trail.by == "px":
        speeds = context.solver.place(pen.number, context.seconds)[2]
        speed = float(np.linalg.norm(speeds, axis=1).mean()) if len(speeds) else speed
    span = trail_seconds(trail.by, trail.length.value, shot.frame_rate, speed, track.source.longest_life)
    way = ways(context.solver, pen.number, trail_moments(context.seconds, span, shot.simulation_rate))
    if trail.after_death == "ends with it":
        way = _part(way, way.deaths > float(context.seconds))
    for first in range(0, len(way.ids), _AT_ONCE):
        _draw(pen, _part(way, slice(first, first + _AT_ONCE)), span, onto)


def _part(way: Ways, which: npt.NDArray[np.bool_] | slice) -> Ways:
    return Ways(way.ids[which], way.places[which], way.times[which], way.births[which], way.deaths[which])


def _draw(pen: EmitterRasteriser, way: Ways, span: float, onto: Floats) -> None:
    context, trail = pen.context, pen.emitter.trail
    assert trail is not None
    track, now, length = context.solver.tracks[pen.number], float(context.seconds), trail.length.value
    n, m = way.times.shape
    states = [_state(way, j) for j in range(m)] if trail.colours == "of each age" else [_state(way, m - 1)]
    dressed = []
    for state, at in zip(states, way.times.T if len(states) == m else [way.times[:, -1]], strict=True):
        age01 = np.clip((at - way.births) / state.lives, 0, 1 - 1e-6).astype(np.float32)
        dressed.append(dress(track.source, state, age01, now, float(context.shot.length_s)))
    size = np.stack([d.size for d in dressed], axis=1)
    opacity = np.minimum(1, np.stack([d.opacity for d in dressed], axis=1))
    colour = np.stack([d.colour for d in dressed], axis=1)
    if trail.head_waits:
        _waiting(pen, way, now, dressed[-1], onto)
    flat = way.places.reshape(-1, 3)
    pixels, grown = (a.reshape(n, m, -1) for a in pen.pixels(flat))
    lit, shown = pen.lit(
        flat,
        np.broadcast_to(colour, (n, m, 3)).reshape(-1, 3).copy(),
        np.broadcast_to(opacity, (n, m)).ravel().copy(),
    )
    if trail.by == "frames":
        s = (now - way.times) / span
    else:
        steps = np.linalg.norm(np.diff(way.places, axis=1), axis=2)
        s = np.concatenate([np.cumsum(steps[:, ::-1], axis=1)[:, ::-1], np.zeros((n, 1))], axis=1) / length
        pixels, s = _cut(pixels, s)
    s = np.clip(s, 0, 1)
    taper = 1 + s * (trail.tail.value / 100 - 1)
    fade = trail.opacity.value / 100 * (1 - s * trail.fade.value / 100)
    widths = 0.5 * size * trail.width.value / 100 * context.view.scale_x * grown[..., 0] * taper
    alpha = shown.reshape(n, m) * fade
    alpha = np.where(grown[..., 0] > 0, alpha, 0)
    tone = lit.reshape(n, m, 3)
    pieces = (s[:, 1:] < 1) & ((alpha[:, :-1] > 0) | (alpha[:, 1:] > 0))
    soft = trail.softness.value / 100
    view = context.view
    wide = (widths[:, 1:] + widths[:, :-1]) * (_GLOW_WIDTH if trail.glow.value > 0 else 1) + 2
    middle = 0.5 * (pixels[:, 1:] + pixels[:, :-1])
    near = (np.abs(middle - [view.width / 2, view.height / 2]) < [view.width, view.height]).all(axis=2)
    cost = (np.linalg.norm(np.diff(pixels, axis=1), axis=2) * wide * (pieces & near)).sum(axis=1) / (
        view.width * view.height
    )
    keep = affordable(way.ids, cost.astype(np.float64), STROKES)
    if keep is not None:
        context.counts.left_out += int((~keep).sum())
        pieces &= keep[:, None]
    if trail.glow.value > 0:
        light = tone * (alpha * trail.glow.value / 100 * _GLOW_SHARE)[..., None]
        glow = np.concatenate([light, np.zeros((n, m, 1))], axis=2)
        draw_strokes(polylines(pixels, widths * _GLOW_WIDTH, glow, pieces, 1.0), onto, 0)
    shade = np.concatenate([tone * alpha[..., None], (alpha * pen.covers)[..., None]], axis=2)
    draw_strokes(polylines(pixels, widths, shade, pieces, soft), onto, pen.mode)


def _waiting(pen: EmitterRasteriser, way: Ways, now: float, looks: Looks, onto: Floats) -> None:
    """Heads of dead particles with a trail that is still catching up."""
    dead = way.deaths <= now
    if not dead.any():
        return
    n = int(dead.sum())
    get = {name: np.asarray(getattr(looks, name))[dead] for name in ("size", "opacity", "colour", "angle")}
    life = (way.deaths - way.births)[dead].astype(np.float32)
    pen.bodies(
        Particles(
            id=way.ids[dead], emitter=np.full(n, pen.number, np.int32),
            position=way.places[dead, -1].astype(np.float32), velocity=np.zeros((n, 3), np.float32),
            age=(now - way.births[dead]).astype(np.float32), life=life, age01=np.ones(n, np.float32), refused={},
            touched=np.full(n, -1, np.float32), caught=np.full(n, -1, np.float32), **get,
        ),
        onto,
    )  # fmt: skip


def _state(way: Ways, column: int) -> State:
    """The particles of ways at one of their moments, as a state that can be dressed."""
    n = len(way.ids)
    values = np.zeros((ROWS, n), np.float32)
    values[0:3] = way.places[:, column].T
    if column > 0:
        step = np.maximum(way.times[:, column] - way.times[:, column - 1], 1e-6)
        values[3:6] = ((way.places[:, column] - way.places[:, column - 1]) / step[:, None]).T
    values[6] = way.deaths - way.births
    return State(births_of(way.ids), way.births.copy(), values)


def _cut(pixels: Floats, s: Doubles) -> tuple[Floats, Doubles]:
    """Lines that end where s is 1: the point beyond is brought to that place."""
    pixels, s = pixels.astype(np.float64), s.copy()
    rows, at = np.nonzero((s[:, :-1] > 1) & (s[:, 1:] < 1))
    share = (1 - s[rows, at + 1]) / (s[rows, at] - s[rows, at + 1])
    pixels[rows, at] = pixels[rows, at + 1] + (pixels[rows, at] - pixels[rows, at + 1]) * share[:, None]
    s[rows, at] = 1.0
    return pixels.astype(np.float32), s
