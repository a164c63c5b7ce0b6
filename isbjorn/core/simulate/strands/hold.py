"""Strands: the joints of each are adjacent in a state, root first, and share its birth number; whole strands are born and die.

A step: the joints fly as the world lets them. In parts of it, the gained velocity is then applied piece by piece, and each time
bending is computed implicitly (the energy is that of the second differences of places, so it conserves momentum and is stable at
any stiffness), lengths are restored exactly (projection along the previous directions, as SHAKE does, by Newton's method with a
tridiagonal matrix; where that fails, by turning pieces as little as possible), and velocities lose the part that would stretch them
(RATTLE; Andersen 1983): a strand keeps its energy except for what bending and the world take.
"""

from __future__ import annotations

import math

import numpy as np
from numba import b1, f4, f8, i8, prange, void

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.records import Records, record, records
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate import contact
from isbjorn.core.simulate.state_layout import GONE_AT, HOW, SIZE, TOUCHED
from isbjorn.core.simulate.strands.bending import bending, bent, factored
from isbjorn.core.simulate.strands.lengths import ENOUGH, brought_back, nearest, reached, stretch, unstretched, ways
from isbjorn.core.simulate.table_types import SOLIDS, SOLIDS_TYPE, Solids

# A strand may be so near to all of its length between what holds it, and no nearer.
TAUT = 0.999
_PARTS, _PARTS_BY_SURFACES, _MOST_PARTS = 2, 4, 16
# The least stiffness of a strand that is held at both ends and has a direction to bend aside: a share of its masses.
_SMOOTH = 0.25
# And how often in a second it sways at least.
_LIMP = 0.015
_ROUNDS, _SLIDES = 24, 3
# The square of what an elastic rod that is held at one end sways by in a unit of time: the first root of cos x cosh x = -1,
# squared.
_CANTILEVER = 3.5160152685
# What holds a strand over a step: its root before it and after, the way out of it, whether its foot is held, and where, before
# and after.
HELD = record(root=3, root_to=3, out=3, footed=1, foot=3, foot_to=3)


@inline_kernel(
    f"b1(f4[:,::1], i8, i8, f8[:,::1], f8[:,::1], f8[:,::1], f8[::1], f8[:,:,::1], i8, f8[:,::1], {SOLIDS}, f8)",
    cache=True,
    error_model="numpy",
)
def _off_surfaces(
    values: Floats, first: int, n: int, before: Doubles, x: Doubles, v: Doubles, light: Doubles, rows: Doubles, s: int,
    paths: Doubles, solids: Solids, age: float,
) -> bool:  # fmt: skip
    """Let each joint go from where it was to x as surfaces let it, along them where they are in the way; whether any was."""
    any_met = False
    for i in range(n):
        if light[i] == 0.0:
            continue
        r = max(0.05, 0.5 * float(values[SIZE, first + i]))
        at_x, at_y, at_z = before[0, i], before[1, i], before[2, i]
        dx, dy, dz = x[0, i] - at_x, x[1, i] - at_y, x[2, i] - at_z
        met, past = False, -1
        for _ in range(_SLIDES):
            share, which, nx, ny, nz = contact.trace(
                rows, s, paths, solids, False, at_x, at_y, at_z, dx, dy, dz, r, past
            )
            at_x, at_y, at_z = at_x + dx * share, at_y + dy * share, at_z + dz * share
            if which < 0:
                break
            met, past = True, which if contact.hollow(rows, s, which, r) > 0 else past
            outcome = int(rows[s, which, contact.OUTCOME])
            if values[TOUCHED, first + i] < 0:
                values[TOUCHED, first + i] = age
            if outcome == contact.DIE:
                values[HOW, first + i], values[GONE_AT, first + i] = contact.GONE, age
                return True
            if outcome == contact.STICK:
                values[HOW, first + i] = contact.STUCK
                light[i] = 0.0
                v[0, i], v[1, i], v[2, i] = 0.0, 0.0, 0.0
                break
            into = v[0, i] * nx + v[1, i] * ny + v[2, i] * nz
            if into < 0:
                v[0, i], v[1, i], v[2, i] = v[0, i] - into * nx, v[1, i] - into * ny, v[2, i] - into * nz
                slide = math.sqrt(v[0, i] ** 2 + v[1, i] ** 2 + v[2, i] ** 2)
                kept = max(0.0, 1.0 + rows[s, which, contact.FRICTION] * into / slide) if slide > 1e-12 else 0.0
                v[0, i], v[1, i], v[2, i] = v[0, i] * kept, v[1, i] * kept, v[2, i] * kept
            left = 1.0 - share
            along = min(0.0, dx * nx + dy * ny + dz * nz)
            dx, dy, dz = left * (dx - along * nx), left * (dy - along * ny), left * (dz - along * nz)
        pushed, at_x, at_y, at_z = contact.pushed_out(rows, s, paths, solids, at_x, at_y, at_z, r)
        met = met or pushed
        x[0, i], x[1, i], x[2, i] = at_x, at_y, at_z
        any_met = any_met or met
    return any_met


@inline_kernel("void(f4[:,::1], i8, i8, f8[:,::1], f8[::1], f8[::1], f8)", cache=True, error_model="numpy")
def _let_go(values: Floats, first: int, n: int, x: Doubles, light: Doubles, mass: Doubles, seg: float) -> None:
    """Joints that stick where the strand does not reach let go."""
    held = -1
    for i in range(n):
        if light[i] > 0.0:
            continue
        if held >= 0:
            far = math.sqrt((x[0, i] - x[0, held]) ** 2 + (x[1, i] - x[1, held]) ** 2 + (x[2, i] - x[2, held]) ** 2)
            if far > TAUT * seg * (i - held):
                j = i if values[HOW, first + i] == contact.STUCK else held
                if values[HOW, first + j] == contact.STUCK:
                    values[HOW, first + j] = contact.FREE
                    light[j] = 1.0 / mass[j]
                if j == i:
                    continue
        held = i


@njit(
    void(
        f4[:, ::1], f4[:, ::1], f8[::1], i8, f8[::1], records(HELD), b1, b1, f8, f8, f8, f8, f8, b1, f8[:, :, ::1], i8, f8[:, ::1],
        SOLIDS_TYPE,
    ),
    parallel=True, cache=True, error_model="numpy",
)  # fmt: skip
def _hold(
    values: Floats, before: Floats, moments: Doubles, n: int, lengths: Doubles, held: Records, rooted: bool, upright: bool,
    pace: float, damping: float, weight: float, begin: float, until: float, solid: bool, rows: Doubles, s: int, paths: Doubles,
    solids: Solids,
) -> None:  # fmt: skip
    for strand in prange(len(lengths)):
        first = strand * n
        h = until - max(begin, moments[strand])
        if h <= 0.0 or values[HOW, first] == contact.GONE:
            continue
        seg, age = lengths[strand] / (n - 1), until - moments[strand]
        x, v, gain, drift = np.empty((3, n)), np.empty((3, n)), np.empty((3, n)), np.empty((3, n))
        was, begun, way, room = np.empty((3, n)), np.empty((3, n)), np.empty((3, n)), np.empty((6, n))
        band, parts, light, mass = np.empty((3, n)), np.empty((4, n)), np.empty(n), np.empty(n)
        both = 4 * n if held[strand].footed > 0 else 1
        joint, right, smooth = np.empty((both, 9)), np.empty(both), np.empty((3, n))
        far = 0.0
        for i in range(n):
            mass[i] = 0.5 if i == 0 or i == n - 1 else 1.0
        mass[n - 1] += weight
        for i in range(n):
            light[i] = 1.0 / mass[i] if values[HOW, first + i] == contact.FREE else 0.0
            moved = 0.0
            for c in range(3):
                x[c, i], v[c, i] = before[c, first + i], before[3 + c, first + i]
                gain[c, i] = values[3 + c, first + i] - v[c, i]
                drift[c, i] = values[c, first + i] - x[c, i] - h * (v[c, i] + 0.5 * gain[c, i])
                moved += (values[c, first + i] - x[c, i]) ** 2
            far = max(far, moved)
        footed = held[strand].footed > 0
        if rooted:
            light[0] = 0.0
        if footed:
            light[n - 1] = 0.0
        count = min(max(_PARTS_BY_SURFACES if solid else _PARTS, math.ceil(2.0 * math.sqrt(far) / seg)), _MOST_PARTS)
        hs = h / count
        # Stiffness for which the strand, held at its root, sways at its rate. A limp one whose foot is held would fold up like a
        # rule.
        sways = max(pace, _LIMP) if footed else pace
        k = (2.0 * math.pi * sways / _CANTILEVER) ** 2 * float(n - 1) ** 4
        tau = 2.0 * damping / (2.0 * math.pi * pace) if pace > 0 else 0.0
        rate = k * hs * (hs + tau)
        clamp = 2.0 * rate if rooted and upright else 0.0
        bends = k > 0 and n > 2
        for part in range(count):
            share = (part + 1) / count
            if part == 0 or solid:
                # Surfaces hold joints, and let them go.
                if bends:
                    bending(band, light, mass, rate, clamp, n)
                    factored(band, parts, n)
                if footed and n > 2:
                    bending(smooth, light, mass, max(rate, _SMOOTH), clamp, n)
            for i in range(n):
                for c in range(3):
                    was[c, i] = x[c, i]
                    if light[i] > 0:
                        v[c, i] += gain[c, i] / count
                        x[c, i] += hs * (v[c, i] - 0.5 * gain[c, i] / count) + drift[c, i] / count
            ends = held[strand]
            for c in range(3):
                if rooted:
                    way_to = ends.root_to[c] - ends.root[c]
                    x[c, 0], v[c, 0] = ends.root[c] + share * way_to, way_to / h
                if footed:
                    way_to = ends.foot_to[c] - ends.foot[c]
                    x[c, n - 1], v[c, n - 1] = ends.foot[c] + share * way_to, way_to / h
            if bends:
                for c in range(3):
                    out = ends.out[c] * seg if clamp > 0 else 0.0
                    bent(x[c], was[c], v[c], light, mass, parts, rate, k * hs * tau, clamp, out, hs, n, room[0])
            if solid:
                _let_go(values, first, n, x, light, mass, seg)
            for _ in range(_ROUNDS):
                for i in range(n):
                    for c in range(3):
                        begun[c, i] = x[c, i]
                fits = False
                if footed and n > 2:
                    # Start from its previous shape, whose lengths are right.
                    for i in range(n):
                        for c in range(3):
                            x[c, i] = was[c, i] if light[i] > 0 else begun[c, i]
                    fits = nearest(x, begun, smooth, light, seg, n, joint, right)
                if not fits:
                    for i in range(n):
                        for c in range(3):
                            x[c, i] = begun[c, i]
                    ways(x, was, way, n)
                    fits = brought_back(x, way, light, seg, n, room)
                if not fits:
                    for i in range(n):
                        for c in range(3):
                            x[c, i] = begun[c, i]
                    reached(x, light, seg, n)
                for i in range(n):
                    if light[i] > 0:
                        for c in range(3):
                            v[c, i] += (x[c, i] - begun[c, i]) / hs
                if not solid or not _off_surfaces(values, first, n, was, x, v, light, rows, s, paths, solids, age):
                    break
                if stretch(x, seg, n) < ENOUGH:
                    break
            unstretched(x, v, light, n, room)
        gone = False
        for i in range(n):
            gone = gone or values[HOW, first + i] == contact.GONE
            for c in range(3):
                values[c, first + i] = x[c, i]
                values[3 + c, first + i] = v[c, i]
        if gone:
            # All of it goes with the first joint of it that does.
            for i in range(n):
                if values[HOW, first + i] != contact.GONE:
                    values[GONE_AT, first + i] = age
                values[HOW, first + i] = contact.GONE


@kernel_lock
def hold(
    values: Floats, before: Floats, moments: Doubles, joints: int, lengths: Doubles, held: Records, rooted: bool, upright: bool,
    pace: float, damping: float, weight: float, begin: float, until: float, solid: bool, rows: Doubles, s: int, paths: Doubles,
    solids: Solids,
) -> None:  # fmt: skip
    """Hold strands together over a step, in place.

    values (k, n): the joints as the world has moved them, of strands of `joints` each; before (6, n): their places and velocities
    when the step began, at shot time `begin`; it ends at `until`. moments of birth s and lengths px of the strands, (m,); held
    (m,) of `HELD`. pace: how often a strand sways in a second; damping: of critical; weight: at the foot. rows, s, paths,
    mattes: surfaces, if `solid`.
    """
    _hold(
        values, before, moments, joints, lengths, held, rooted, upright, pace, damping, weight, begin, until, solid, rows, s,
        paths, solids,
    )  # fmt: skip
