"""Variations: other looks of an emitter, spread over how different their pictures are, rather than over their numbers.

Many sets of changes are drawn at random, their pictures compared, and those are offered that are far from each other and from the
present look (Marks et al. 1997, Design galleries; the subset by farthest points, Gonzalez 1985).
"""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping, Sequence
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles, Longs
from isbjorn.core.document import Placed, Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.explore.number_at import NumberAt, number_at, number_names

# Values of numbers by their JSON pointers.
Values = dict[str, float]
# A set of changes has so many numbers; one that is nothing now is among them with this probability.
_FEWEST, _MOST, _FROM_NOTHING = 2, 6, 0.15
# The largest factor by which a number changes.
_FACTOR = 6.0
_SHEET = (24, 16)


def changeable(shot: Shot, thing: str) -> list[tuple[NumberAt, str]]:
    """The numbers that may vary of an emitter, or of all members of a group, with their labels: all but those of its place. Raises
    IsbjornError where there is none."""
    members = {e.id for e in shot.emitters if thing in (e.id, e.group)}
    placed = set(Placed.model_fields)
    found = [
        (number_at(shot, one.path), one.label)
        for one in number_names(shot)
        if one.thing in members and one.path.split("/")[3] not in placed
    ]
    if not found:
        raise IsbjornError("there is nothing to vary.", thing, "Select an emitter, or a group with emitters.")
    return found


def _varied(number: NumberAt, now: float, by: float) -> float:
    """A value at a distance from the present one that looks alike for all kinds of numbers; by: about -2 to 2."""
    if number.unit == "°":
        value = now + 60 * by
    elif number.unit == "%" and number.low == 0 and number.high == 100:
        value = now + 40 * by
    elif now == 0:
        value = 10 * number.step * (abs(by) if number.low >= 0 else by)
    elif number.low >= 0:
        value = now * min(_FACTOR, max(1 / _FACTOR, math.exp(by)))
    else:
        value = now + abs(now) * by
    value = min(number.high, max(number.low, value))
    return float(f"{value:.4g}")


def candidates(
    shot: Shot, thing: str, locked: Collection[str], strength: float, seed: int, count: int,
    parents: Sequence[Mapping[str, float]] = (),
) -> list[Values]:  # fmt: skip
    """Sets of values for an emitter or group, drawn by a seed. strength: 0 to 1. parents: the looks from which they come, each as
    values that differ from the shot; of two, each number is taken from either."""
    numbers = [number for number, _ in changeable(shot, thing) if number.path not in locked]
    if not numbers:
        raise IsbjornError("all numbers are locked.", thing, "Unlock those that may vary.")
    rng = np.random.default_rng(seed)
    of_parents = [dict(parent) for parent in parents] or [{}]
    found = []
    for _ in range(count):
        base: Values = {}
        for path in sorted({path for parent in of_parents for path in parent}):
            value = of_parents[int(rng.integers(len(of_parents)))].get(path)
            if value is not None:
                base[path] = value
        alive = [n for n in numbers if base.get(n.path, n.value) != 0 or rng.random() < _FROM_NOTHING]
        size = min(len(alive), int(rng.integers(_FEWEST, _MOST + 1)))
        chosen = rng.choice(len(alive), size, replace=False) if alive else np.empty(0, np.int64)
        for n in sorted(chosen.tolist()):
            now = base.get(alive[n].path, alive[n].value)
            base[alive[n].path] = _varied(alive[n], now, strength * float(np.clip(rng.normal(), -2, 2)))
        found.append(base)
    return found


def changes_to(shot: Shot, values: Mapping[str, float], t: float = 0.0) -> list[dict[str, Any]]:
    """The JSON Patch that gives numbers of a shot their values."""
    return [step for path, value in values.items() for step in number_at(shot, path, t).changes(value)]


def signature(pictures: Sequence[npt.NDArray[np.uint8]]) -> Doubles:
    """What is compared of a look: its pictures (h, w, 3), as a display shows them, coarse and blurred; float64 (n,)."""
    parts = []
    for picture in pictures:
        small = cv2.resize(picture, _SHEET, interpolation=cv2.INTER_AREA).astype(np.float64) / 255
        # Where and how bright, in what colour, and how much in all.
        parts += [cv2.GaussianBlur(small, (0, 0), 1.0).ravel(), 4 * small.mean(axis=(0, 1)), 2 * small.std(axis=(0, 1))]
    return np.concatenate([np.asarray(part, np.float64) for part in parts])


def diverse(now: Doubles, looks: Doubles, count: int) -> Longs:
    """Which of some looks (m, n) to offer beside the present one (n,): each is the farthest from all that were taken before it,
    (count,), or fewer."""
    nearest = np.linalg.norm(looks - now, axis=1)
    taken: list[int] = []
    for _ in range(min(count, len(looks))):
        n = int(np.argmax(nearest))
        if nearest[n] <= 0:
            break
        taken.append(n)
        nearest = np.minimum(nearest, np.linalg.norm(looks - looks[n], axis=1))
    return np.array(taken, np.int64)
