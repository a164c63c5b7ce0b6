"""Bodies aligned with a surface: foreshortened with it, for any camera."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numba import prange

from isbjorn.core.appearance.particles import Particles
from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.jit import njit
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate import contact
from isbjorn.core.simulate.integrators.stepped import pack_world
from isbjorn.core.simulate.table_types import SOLIDS, Solids

if TYPE_CHECKING:
    from isbjorn.core.render.draw.emitters import EmitterRasteriser

# Seen edge-on, a body keeps this share of its width.
_HAIR = 0.02
_STEP_PX = 0.5


@njit(f"void(f8[:,:,::1], f8[:,::1], {SOLIDS}, f8[:,::1], f8[::1], f8[:,::1])", parallel=True, cache=True)
def _nearest(rows: Doubles, paths: Doubles, solids: Solids, place: Doubles, far: Doubles, out: Doubles) -> None:
    """The unit vector away from the nearest surface at each place (n, 3), where that is nearer than `far` (n,)."""
    for i in prange(len(far)):
        d, which, x, y, z = contact.closest(rows, 0, paths, solids, place[i, 0], place[i, 1], place[i, 2], far[i])
        if which >= 0 and abs(d) < far[i]:
            far[i] = abs(d)
            out[i, 0], out[i, 1], out[i, 2] = x, y, z


_find_nearest = kernel_lock(_nearest)


def normals(pen: EmitterRasteriser, place: Floats) -> Doubles:
    """The normal of the surface at each of some places (n, 3), of the surfaces that reach the emitter or its parent; toward the
    viewer where there is none."""
    solver, t = pen.context.solver, float(pen.context.seconds)
    track = solver.tracks[pen.number]
    out, far = np.tile(np.array([0.0, 0.0, 1.0]), (len(place), 1)), np.full(len(place), np.inf)
    at = np.ascontiguousarray(place, np.float64)
    for one in (track, track.parent):
        if one is not None:
            tables = pack_world(pen.context.shot, one.source, solver.readings, "motion", np.array([t]), 0.0)
            _find_nearest(tables.rows, tables.paths, tables.solids, at, far, out)
    return out


def lying(pen: EmitterRasteriser, p: Particles, grown: Floats, raised: Doubles | None) -> Doubles:
    """The projection of each body's plane, (n, 2, 2): px of the picture, y down, for a px to the right and downward in the plane.

    raised: by how much each is raised toward the viewer, radians (n,).
    """
    view, place = pen.context.view, p.position.astype(np.float64)
    away = normals(pen, p.position)
    if raised is not None:
        toward = np.array([0.0, 0.0, 1.0])
        away = np.cos(raised)[:, None] * away + np.sin(raised)[:, None] * toward
        away /= np.maximum(np.linalg.norm(away, axis=1, keepdims=True), 1e-9)
    # To the right, projected into the plane; and up in it.
    right = np.array([1.0, 0.0, 0.0]) - away[:, :1] * away
    steep = np.linalg.norm(right, axis=1) < 1e-3
    right[steep] = [0.0, 0.0, -1.0]
    right -= (right * away).sum(axis=1, keepdims=True) * away
    right /= np.maximum(np.linalg.norm(right, axis=1, keepdims=True), 1e-9)
    up = np.cross(away, right)
    here = view.place(place)[0].astype(np.float64)
    sides = [
        (view.place(place + _STEP_PX * side)[0].astype(np.float64) - here) / _STEP_PX / (view.scale_x * grown[:, None])
        for side in (right, -up)
    ]
    seen = np.nan_to_num(np.stack(sides, axis=2))
    # Those seen so flat that they would vanish are a hair thick.
    square = (seen**2).sum(axis=(1, 2))
    area = np.abs(seen[:, 0, 0] * seen[:, 1, 1] - seen[:, 0, 1] * seen[:, 1, 0])
    least = 2 * area / (np.sqrt(square + 2 * area) + np.sqrt(np.maximum(0, square - 2 * area)) + 1e-30)
    flat = np.flatnonzero(least < _HAIR)
    u, s, v = np.linalg.svd(seen[flat])
    seen[flat] = (u * np.maximum(s, _HAIR)[:, None, :]) @ v
    return seen
