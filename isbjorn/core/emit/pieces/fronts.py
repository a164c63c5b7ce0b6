"""When each piece leaves or arrives: a front passes over the pieces.

A piece has a coordinate u in [0, 1], its place in the order of the front, and a draw r; with the softness s it is due when the
front has come to v = u (1 - s) + r s. The front has come to curve(τ) at τ = (t - begin - delay) / duration.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Emitter, Hearing, PathPoint
from isbjorn.core.document.model.pieces import Front
from isbjorn.core.emit.newborn import brightness, read_sheet
from isbjorn.core.emit.pieces.cut import PieceCut
from isbjorn.core.evaluate import curves
from isbjorn.core.evaluate.bezier import flat
from isbjorn.core.evaluate.curves import AGES
from isbjorn.core.evaluate.hearing import begins, struck
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.random import FRONT, FRONT_ORDER, draws01

# A front whose numbers are keyed is followed at this many moments per second.
_LOOKS_PER_S = 240
_MOST_LOOKS, _FEWEST_LOOKS, _MOST_LOOKED = 30_000, 600, 200_000_000


def _unit(values: Doubles) -> Doubles:
    """Values brought to [0, 1]."""
    low, high = float(values.min(initial=math.inf)), float(values.max(initial=-math.inf))
    return np.asarray((values - low) / (high - low)) if high - low > 1e-9 else np.zeros(len(values))


def _ranked(values: Doubles) -> Doubles:
    """The order of values as shares, so that as many come in any part of the time."""
    order = np.argsort(values, kind="stable")
    rank = np.empty(len(values))
    rank[order] = np.arange(len(values)) / max(1, len(values) - 1)
    return rank


def along_path(places: Doubles, points: tuple[PathPoint, ...]) -> Doubles:
    """How far along a path the nearest point of it is to each of some places (n, 2 or 3), px."""
    line = flat(points, False)[:, :2]
    way = np.diff(line, axis=0)
    length = np.linalg.norm(way, axis=1)
    run = np.concatenate([[0.0], np.cumsum(length)])
    nearest, at = np.full(len(places), np.inf), np.zeros(len(places))
    for n, (start, step) in enumerate(zip(line, way, strict=False)):
        to = places[:, :2] - start
        share = np.clip((to @ step) / max(length[n] ** 2, 1e-12), 0, 1)
        far = np.linalg.norm(to - share[:, None] * step, axis=1)
        at = np.where(far < nearest, run[n] + share * length[n], at)
        nearest = np.minimum(far, nearest)
    return at


def _patches(places: Doubles, width: float, key: int) -> Doubles:
    """Smooth noise at places: value noise with cubic joints, patches of a width in px."""
    at = places[:, :2] / width
    cell = np.floor(at).astype(np.int64)
    f = at - cell
    f = f * f * (3 - 2 * f)
    total = np.zeros(len(places))
    for dx in (0, 1):
        for dy in (0, 1):
            number = (cell[:, 0] + dx + (1 << 20)) * (1 << 21) + cell[:, 1] + dy + (1 << 20)
            weight = (f[:, 0] if dx else 1 - f[:, 0]) * (f[:, 1] if dy else 1 - f[:, 1])
            total += weight * draws01(key, number, FRONT_ORDER)
    return total


def _spreading(places: Doubles, start: Doubles, key: int) -> Doubles:
    """When something that begins at the piece nearest to a point reaches each piece, from neighbour to neighbour (of the Delaunay
    triangulation): each step takes its length times a draw of the piece that it reaches (shortest ways: Dijkstra 1959)."""
    from scipy.sparse import csr_array
    from scipy.sparse.csgraph import dijkstra
    from scipy.spatial import Delaunay

    n, at = len(places), places[:, :2]
    far = np.linalg.norm(at - start, axis=1)
    if n < 4:
        return np.asarray(far)
    ends, near = Delaunay(at, qhull_options="QJ Qbb Qc").vertex_neighbor_vertices
    begin = np.repeat(np.arange(n), np.diff(ends))
    draw = 0.25 + 1.5 * draws01(key, np.arange(n), FRONT_ORDER)
    takes = np.maximum(np.linalg.norm(at[near] - at[begin], axis=1), 1e-6) * draw[near]
    when = dijkstra(csr_array((takes, (begin, near)), shape=(n, n)), indices=int(np.argmin(far)))
    return np.minimum(when, when[np.isfinite(when)].max())


def _fixed_order(front: Front, emitter: Emitter, cut: PieceCut, key: int, readings: Readings) -> Doubles | None:
    """The coordinate of each piece, where it depends on no number that may be keyed."""
    light, n = readings.light, len(cut)
    match front.by:
        case "path":
            return _unit(along_path(cut.places, front.points))
        case "reading order":
            return cut.rank
        case "noise":
            return _ranked(_patches(cut.places, front.patches.value, key))
        case "chance" | "onsets":
            return draws01(key, np.arange(n), FRONT_ORDER)
        case "brightness" | "picture" | "matte":
            if light is None:
                return np.zeros(n)
            places = readings.frames(emitter, np.zeros(1)).of(*cut.places.T)
            if front.by == "brightness":
                return _ranked(-brightness(light, places, np.full(n, front.at_s)))
            if front.by == "picture":
                return _ranked(-read_sheet(light.grey(front.media), light, places)) if front.media else np.zeros(n)
            matte = readings.things.get(front.matte or "")
            if matte is None or not matte.on:
                return np.zeros(n)
            return 1 - read_sheet(light.matte(matte, front.at_s, readings), light, places)
    return None


def _order(front: Front, cut: PieceCut, readings: Readings, t: float, key: int) -> Doubles:
    """The coordinate of each piece at a moment, of fronts that may turn and move."""
    if front.by == "direction":
        turn = math.radians(readings.now(front.angle, t))
        return _unit(cut.places[:, 0] * math.cos(turn) + cut.places[:, 1] * math.sin(turn))
    # What spreads from piece to piece begins once.
    at = t if front.by == "point" else front.at_s
    start = np.array([readings.now(front.x, at), readings.now(front.y, at)])
    if front.by == "point":
        far = np.linalg.norm(cut.places[:, :2] - start, axis=1)
        return np.asarray(far / max(float(far.max(initial=0)), 1e-9))
    return _unit(_spreading(cut.places, start, key))


def _pace(front: Front) -> Doubles:
    """How far the front has come over its duration, at `AGES`: never back, and all the way at its end."""
    come = np.maximum.accumulate(np.clip(curves.evaluate(front.curve, AGES), 0, 1))
    come[-1] = 1.0
    return come


def moments_of(front: Front, emitter: Emitter, cut: PieceCut, key: int, readings: Readings) -> Doubles:
    """When the front reaches each piece of an emitter, seconds of shot time (n,)."""
    n = len(cut)
    if n == 0:
        return np.empty(0)
    draw = draws01(key, np.arange(n), FRONT)
    order = _fixed_order(front, emitter, cut, key, readings)
    if front.by == "onsets" and order is not None:
        heard = _at_onsets(front, readings, order)
        if heard is not None:
            return heard
    come = _pace(front)
    keyed = any(number.timed for number in (front.duration, front.delay, front.softness)) or (
        front.by in ("direction", "point") and any(number.timed for number in (front.angle, front.x, front.y))
    )
    if order is None and front.by == "neighbours":
        order = _order(front, cut, readings, front.at_s, key)

    def due(t: float) -> Doubles:
        u = _order(front, cut, readings, t, key) if order is None else order
        soft = readings.now(front.softness, t) / 100
        return (1 - u if front.backwards else u) * (1 - soft) + draw * soft

    if not keyed:
        lasts, delay = max(0.0, front.duration.value), front.delay.value
        return np.asarray(front.at_s + delay + lasts * np.interp(due(front.at_s), *_inverse(come)))
    return _followed(front, readings, come, due, n)


def _inverse(come: Doubles) -> tuple[Doubles, Doubles]:
    """The first share of its duration at which a front has come so far: abscissae and ordinates."""
    rises = np.concatenate([[True], np.diff(come) > 0])
    return come[rises], AGES[rises]


def _at_onsets(front: Front, readings: Readings, order: Doubles) -> Doubles | None:
    """The pieces dealt out to the onsets of a sound, as many to each, from the beginning of the front on."""
    sound = readings.things.get(front.sound or "")
    if sound is None or not sound.on:
        return None
    moments, _ = struck(sound, Hearing(what="onsets"))
    moments = moments + begins(sound, readings.plate_s)
    within = moments[(moments >= front.at_s) & (moments <= front.at_s + max(front.duration.value, 0.0))]
    if len(within) == 0:
        return None
    return np.asarray(within[np.minimum((_ranked(order) * len(within)).astype(np.int64), len(within) - 1)])


def _followed(front: Front, readings: Readings, come: Doubles, due: Callable[[float], Doubles], n: int) -> Doubles:
    """Moments at which a front whose numbers are keyed reaches the pieces: it is looked at often, and is straight in between."""
    until = max(float(readings.until_s), front.at_s + 1.0)
    most = min(_MOST_LOOKS, max(_FEWEST_LOOKS, _MOST_LOOKED // max(1, n)))
    looks = min(most, math.ceil((until - front.at_s) * _LOOKS_PER_S)) + 1
    found = np.full(n, np.inf)
    last = np.full(n, -1.0)
    times = np.linspace(front.at_s, until, looks)
    step = float(times[1] - times[0])
    delays, lasts = readings.number(front.delay, times), np.maximum(readings.number(front.duration, times), 1e-6)
    shares = np.clip((times - front.at_s - delays) / lasts, 0, 1)
    at = np.where(times >= front.at_s + delays, np.interp(shares, AGES, come), -1e-9)
    still = not any(x.timed for x in (front.softness, front.angle, front.x, front.y))
    fixed = due(front.at_s) if still else None
    for k, t in enumerate(times):
        if k and at[k] == at[k - 1] and still:
            continue
        over = at[k] - (fixed if fixed is not None else due(float(t)))
        now = (over >= 0) & np.isinf(found)
        if now.any():
            rise = over[now] - last[now]
            share = np.where(rise > 1e-12, np.clip(-last[now] / np.maximum(rise, 1e-12), 0, 1), 1.0)
            found[now] = t - (1 - share) * step * (k > 0)
            if np.isfinite(found).all():
                break
        last = over
    return found
