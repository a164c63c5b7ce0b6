"""Which particle takes which place: one for one."""

from __future__ import annotations

import math

import numpy as np

from isbjorn.core.arrays import Doubles, Longs
from isbjorn.core.document.model.pieces import Assemble
from isbjorn.core.emit.pieces.fronts import along_path
from isbjorn.core.random import MATCH, draws01

# So many are matched exactly; more are divided into as many groups, which are matched, and then within them.
_EXACT, _GROUPS = 300, 256


def _exactly(begins: Doubles, ends: Doubles) -> Longs:
    """The end of each beginning, so that the sum of the squared distances is the least (Crouse 2016, in SciPy)."""
    from scipy.optimize import linear_sum_assignment

    cost = ((begins[:, None] - ends[None]) ** 2).sum(axis=2)
    return np.asarray(linear_sum_assignment(cost)[1], np.int64)


def _divided(places: Doubles, count: int) -> list[Longs]:
    """Places in `count` groups of nearly equal size: halved across their longer side, again and again. The groups of two sets of as
    many places have the same sizes, one by one."""
    groups = [np.arange(len(places))]
    while len(groups) < count:
        halves = []
        for group in groups:
            at = places[group]
            axis = int(np.argmax(np.ptp(at, axis=0)))
            order = group[np.argsort(at[:, axis], kind="stable")]
            halves += [order[: len(order) // 2], order[len(order) // 2 :]]
        groups = halves
    return groups


def nearest(begins: Doubles, ends: Doubles) -> Longs:
    """The end (n,) that each of n beginnings (n, 2) goes to, so that the ways are short on the whole.

    Up to 300 the sum of the squared distances is the least that there is. More are divided into 256 groups by halving; the groups
    are matched by their middles, group sizes that differ by one are kept apart, and then each pair of groups is matched exactly.
    """
    n = len(begins)
    if n <= _EXACT:
        return _exactly(begins, ends)
    count = min(_GROUPS, 1 << math.floor(math.log2(n / 2)))
    these, those = _divided(begins, count), _divided(ends, count)
    out = np.empty(n, np.int64)
    for size in sorted({len(group) for group in these}):
        some, others = [g for g in these if len(g) == size], [g for g in those if len(g) == size]
        middles = [np.array([places[g].mean(axis=0) for g in gs]) for places, gs in ((begins, some), (ends, others))]
        for group, other in zip(some, _exactly(*middles), strict=True):
            to = others[other]
            out[group] = to[_exactly(begins[group], ends[to])]
    return out


def _reading(places: Doubles) -> Longs:
    """The order of places from left to right, and from top to bottom where they are as far to the right."""
    return np.lexsort((-places[:, 1], np.round(places[:, 0], 1)))


def matched(assemble: Assemble, begins: Doubles, ends: Doubles, rank: Doubles, key: int) -> Longs:
    """The beginning that the particle of each of n ends (n, 2) comes from, (n,). rank (n,): the order in which ends are read."""
    n, how, way = len(ends), assemble.match, assemble.way
    if n == 0:
        return np.empty(0, np.int64)
    if how == "random":
        return np.argsort(draws01(key, np.arange(n), MATCH), kind="stable")
    if how == "along a path":
        out = np.empty(n, np.int64)
        out[np.argsort(along_path(ends, way), kind="stable")] = np.argsort(along_path(begins, way), kind="stable")
        return out
    if how == "reading order":
        out = np.empty(n, np.int64)
        out[np.argsort(rank, kind="stable")] = _reading(begins)
        return out
    return nearest(ends, begins)
