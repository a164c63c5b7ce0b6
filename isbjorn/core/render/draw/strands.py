"""Strands as they are drawn: a smooth line through the joints of each, tapering from root to foot."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from isbjorn.core.appearance.particles import Particles
from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.render.raster.overdraw import STROKES, affordable
from isbjorn.core.render.raster.strokes import draw_strokes, polylines
from isbjorn.core.render.scene.camera import rank
from isbjorn.core.simulate.strands.joints import along_strands, joints_of

if TYPE_CHECKING:
    from isbjorn.core.render.draw.emitters import EmitterRasteriser

# Length in px of a piece of a line; number of lines drawn at a time; largest number of pieces between two joints.
_PIECE_PX, _AT_ONCE, _MOST_PIECES = 5.0, 200_000, 8


def _between(rows: Floats, pieces: int) -> Floats:
    """Rows (m, n, k) of n joints each, with `pieces` places from each to the next: on the curve through them (Catmull and
    Rom 1974)."""
    if pieces == 1:
        return rows
    padded = np.concatenate([2 * rows[:, :1] - rows[:, 1:2], rows, 2 * rows[:, -1:] - rows[:, -2:-1]], axis=1)
    a, b, c, d = padded[:, :-3, None], padded[:, 1:-2, None], padded[:, 2:-1, None], padded[:, 3:, None]
    t = (np.arange(pieces, dtype=np.float32) / np.float32(pieces))[None, None, :, None]
    found = b + 0.5 * t * ((c - a) + t * ((2 * a - 5 * b + 4 * c - d) + t * (3 * (b - c) + d - a)))
    m, n, k = rows.shape
    return np.concatenate([found.reshape(m, (n - 1) * pieces, k), rows[:, -1:]], axis=1).astype(np.float32)


def draw_strands(pen: EmitterRasteriser, p: Particles, onto: Floats) -> None:
    """Draw the lines of an emitter's strands; p: their joints, whole strands one behind the other."""
    context, strand, joints = pen.context, pen.emitter.strand, joints_of(pen.emitter)
    if strand is None or len(p) == 0 or not strand.line:
        return
    view = context.view
    pixels, grown = pen.pixels(p.position)
    along = along_strands(pen.emitter, len(p))
    taper = context.read(strand.width) / 100 * (1 + along * (context.read(strand.tip) / 100 - 1))
    widths = (0.5 * view.scale_x * p.size * grown * taper).astype(np.float32)
    colour, opacity = pen.lit(p.position, p.colour, np.minimum(1, p.opacity), p.velocity)
    if pen.bare:
        colour, opacity = np.ones_like(colour), (opacity > 0).astype(np.float32)
    alpha = np.where(grown > 0, opacity, 0)
    shade = np.concatenate([colour * alpha[:, None], (alpha * pen.covers)[:, None]], axis=1)
    rows = np.concatenate([pixels, widths[:, None], shade], axis=1).reshape(-1, joints, 7).astype(np.float32)
    lengths = np.linalg.norm(np.diff(rows[:, :, :2], axis=1), axis=2)
    cost = (lengths.sum(axis=1) * (2 * rows[:, :, 2].mean(axis=1) + 2)) / (view.width * view.height)
    keep = affordable(p.id[::joints], cost.astype(np.float64), STROKES)
    if keep is not None:
        context.counts.left_out += int((~keep).sum())
        lengths = lengths[keep]
    order = rank(pen.emitter, p.where(along == 0), view)
    rows = rows[order if keep is None else order[keep[order]]]
    # As fine as the longest strand on the picture needs.
    pieces = (
        min(_MOST_PIECES, max(1, int(np.ceil(float(np.quantile(lengths, 0.99, method="higher")) / _PIECE_PX))))
        if lengths.size
        else 1
    )
    soft = context.read(strand.softness) / 100
    some = max(1, _AT_ONCE // (joints * pieces))
    for first in range(0, len(rows), some):
        line = _between(rows[first : first + some], pieces)
        seen = np.asarray((line[..., 3:] > 0).any(axis=2))
        shown = seen[:, 1:] | seen[:, :-1]
        draw_strokes(
            polylines(line[..., :2], np.maximum(line[..., 2], 0), np.maximum(line[..., 3:], 0), shown, soft),
            onto,
            pen.mode,
        )


def tangents(p: Particles, pen: EmitterRasteriser) -> Doubles:
    """Which way the strand goes at each joint on the picture, radians counter-clockwise, (n,)."""
    joints = joints_of(pen.emitter)
    pixels = pen.pixels(p.position)[0].reshape(-1, joints, 2).astype(np.float64)
    way = np.empty_like(pixels)
    way[:, 1:-1] = pixels[:, 2:] - pixels[:, :-2]
    way[:, 0], way[:, -1] = pixels[:, 1] - pixels[:, 0], pixels[:, -1] - pixels[:, -2]
    return np.asarray(np.arctan2(-way[..., 1], way[..., 0]).ravel())
