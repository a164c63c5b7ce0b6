"""Particles that spawn others: their states at both ends of each lattice step, their events in it, and where they were then."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.caching import RecentCache
from isbjorn.core.jit import inline_kernel
from isbjorn.core.simulate import contact, state_layout
from isbjorn.core.simulate.state import State
from isbjorn.core.simulate.steps import cubic
from isbjorn.core.simulate.strands.joints import feet, joints_of

if TYPE_CHECKING:
    from isbjorn.core.simulate.track import Track

_LOOKED_AT_KEPT, _LOOKED_AT_BYTES = 48, 24 << 20
# Birth numbers, moments of birth and lifespans in s, (n,); and the columns of each in two states, -1: in none.
Living = tuple[Longs, Doubles, Doubles, tuple[Longs, Longs]]


@dataclass(frozen=True)
class Step:
    """The state of a parent at both ends of a lattice step, the parents alive in it, and, by the word for the event at which they
    spawn, when it happens to each and when each was removed, (n,) s, as far as requested."""

    state: State
    after: State
    living: Living
    happened: dict[str, tuple[Doubles, Doubles]] = field(default_factory=dict)


def steps_read() -> RecentCache[tuple[int, bool], Step]:
    """A cache of steps that were read for births in them: several spawned emitters read the same few steps in a row."""
    return RecentCache(_LOOKED_AT_KEPT, _LOOKED_AT_BYTES, least=2, size=lambda step: step.after.nbytes)


def step_of(parent: Track, index: int, begun: bool) -> Step:
    """The state of a parent at both ends of a lattice step, and the parents alive in it: computed once for all spawned emitters."""
    found = parent.looked_at.peek((index, begun))
    if found is None:
        # Strands spawn at their feet.
        joints = joints_of(parent.emitter)
        state = feet(parent.state(index), joints) if begun else parent.empty_state()
        after = feet(parent.state(index + 1), joints)
        found = parent.looked_at.add((index, begun), Step(state, after, _alive(state, after)))
    return found


def _alive(state: State, after: State) -> Living:
    """The particles alive in a step: birth numbers, moments of birth and lifespans in s, and the column of each in the two states,
    -1: in none."""
    orders = [np.argsort(some.births, kind="stable") for some in (state, after)]
    most = state.count + after.count
    parents, columns = np.empty(most, np.int64), np.empty((2, most), np.int64)
    count = _beside(state.births, orders[0], after.births, orders[1], parents, columns)
    parents, columns = parents[:count], columns[:, :count]
    born_at, lives = np.empty(count), np.empty(count)
    for some, own in zip((state, after), columns, strict=True):
        here = own >= 0
        born_at[here], lives[here] = some.moments[own[here]], some.lives[own[here]]
    return parents, born_at, lives, (columns[0], columns[1])


@inline_kernel("i8(i8[::1], i8[::1], i8[::1], i8[::1], i8[::1], i8[:,::1])", cache=True)
def _beside(a: Longs, in_a: Longs, b: Longs, in_b: Longs, parents: Longs, columns: Longs) -> int:
    """Numbers that are in either of two lists, each sorted through its order, and the index of each in both, -1: missing; their
    count."""
    i, j, n = 0, 0, 0
    while i < len(a) or j < len(b):
        first = i < len(a) and (j >= len(b) or a[in_a[i]] <= b[in_b[j]])
        number = a[in_a[i]] if first else b[in_b[j]]
        parents[n], columns[0, n], columns[1, n] = number, -1, -1
        if first:
            columns[0, n] = in_a[i]
            i += 1
        if j < len(b) and b[in_b[j]] == number:
            columns[1, n] = in_b[j]
            j += 1
        n += 1
    return n


def happened(step: Step, born_when: str, stepped: bool) -> tuple[Doubles, Doubles]:
    """The moment at which each parent spawns, and the moment at which each was removed, in s; infinite where unknown. stepped:
    whether they are in a world whose surfaces and zones may touch and remove them."""
    if born_when in step.happened:
        return step.happened[born_when]
    parents, born_at, lives, columns = step.living
    moments = born_at + lives if born_when == "at death" else np.full(len(parents), np.inf)
    gone = np.full(len(parents), np.inf)
    for some, column in ((step.state, columns[0]), (step.after, columns[1])):
        if not stepped:
            break
        here = np.flatnonzero(column >= 0)
        own = column[here]
        birth = some.moments[own]
        taken = some.values[state_layout.HOW, own] == contact.GONE
        gone[here[taken]] = (birth + some.values[state_layout.GONE_AT, own])[taken]
        row = {"at touch": state_layout.TOUCHED, "at catching": state_layout.CAUGHT}.get(born_when)
        if row is not None and len(some.values) > row:
            age = some.values[row, own]
            moments[here[age >= 0]] = (birth + age)[age >= 0]
    if born_when == "at death":
        moments = np.minimum(moments, gone)
    step.happened[born_when] = moments, gone
    return moments, gone


def where(
    parent: Track, step: Step, born_when: str, which: Longs, moments: Doubles, left: float, right: float
) -> tuple[Doubles, Doubles]:  # fmt: skip
    """Places and velocities of parents at the moments: between two states; straight on from a single one, and up to what it
    touches."""
    state, after, columns = step.state, step.after, step.living[3]
    n = len(which)
    p, v = np.zeros((2, n, 3)), np.zeros((2, n, 3))
    for k, (some, t) in enumerate(((state, left), (after, right))):
        column = columns[k][which]
        here = column >= 0
        origin = origin_of(parent, t)
        p[k][here] = some.place[:, column[here]].T + origin
        v[k][here] = some.velocity[:, column[here]].T
    both = (columns[0][which] >= 0) & (columns[1][which] >= 0)
    if born_when == "at touch":
        both[:] = False
    elif born_when == "at death" and not parent.moved_alone and after.count:
        # A particle that was removed stays where that happened, for the rest of the step.
        both &= after.values[state_layout.HOW, np.maximum(columns[1][which], 0)] != contact.GONE
    place, velocity = np.empty((n, 3)), np.empty((n, 3))
    _along(p[0], v[0], p[1], v[1], left, right, moments, place, velocity)
    # A particle that existed at the start moves straight on from there; a newborn came straight to where it is at the end.
    early = (columns[0][which] >= 0) & ~both
    late = ~both & ~early
    place[early] = p[0][early] + v[0][early] * (moments[early] - left)[:, None]
    velocity[early] = v[0][early]
    place[late] = p[1][late] - v[1][late] * (right - moments[late])[:, None]
    velocity[late] = v[1][late]
    return place, velocity


def origin_of(parent: Track, t: float) -> Floats | float:
    """The origin of the positions of parents, px (3,): for those in local space, their emitter."""
    if parent.emitter.stays != "along":
        return 0.0
    return np.asarray(parent.readings.frames(parent.emitter, np.array([t])).place[0], np.float32)


@inline_kernel("void(f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1], f8, f8, f8[::1], f8[:,::1], f8[:,::1])", cache=True)
def _along(
    p0: Doubles, v0: Doubles, p1: Doubles, v1: Doubles, left: float, right: float, at: Doubles, place: Doubles, velocity: Doubles
) -> None:  # fmt: skip
    """Places and velocities (n, 3) at moments between two states, by cubic Hermite."""
    h = right - left
    for i in range(len(at)):
        s = (at[i] - left) / h
        for c in range(3):
            place[i, c], velocity[i, c] = cubic(p0[i, c], v0[i, c], p1[i, c], v1[i, c], h, s)
