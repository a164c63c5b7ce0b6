"""What is shown of the fronts over an emitter's pieces: the moment of each piece, where the front is, and its handles."""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
from pydantic import BaseModel, Field

from isbjorn.core.arrays import Doubles
from isbjorn.core.document.model.pieces import Front
from isbjorn.core.emit.pieces.cut import PieceCut
from isbjorn.core.emit.pieces.flights import PieceSource
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.inspect.handles import Grip, Path2, Sight, part_grips
from isbjorn.core.random import FRONT, draws01

_MOST_DOTS = 140


class PieceFront(BaseModel):
    """A front over the pieces of an emitter."""

    of: Literal["release", "assemble"]
    pieces: int = Field(description="Number of pieces.")
    first_s: float = Field(description="Shot time at which the first piece leaves or arrives.")
    last_s: float = Field(description="Shot time at which the last one does.")
    dots: list[tuple[float, float, float]] = Field(
        description="Some pieces: their places on the picture, and their moments from the first (0) to the last (1)."
    )


def _dots(cut: PieceCut, moments: Doubles, sight: Sight) -> tuple[float, float, list[tuple[float, float, float]]]:
    there = np.flatnonzero(np.isfinite(moments))
    if len(there) == 0:
        return 0.0, 0.0, []
    first, last = float(moments[there].min()), float(moments[there].max())
    # Some that stand for all: any others, but always the same.
    some = there[np.argsort(draws01(1, there, FRONT), kind="stable")[:_MOST_DOTS]]
    places = sight.points(cut.places[some])
    shares = ((moments[some] - first) / max(last - first, 1e-9)).round(3).tolist()
    return first, last, [(x, y, share) for (x, y), share in zip(places, shares, strict=True)]


def _now(front: Front, cut: PieceCut, readings: Readings, share: float, sight: Sight, t: float) -> list[Path2]:
    """Where a front is when it has come so far, as lines on the picture; none of fronts without a form."""
    if not 0 < share < 1 or front.by not in ("direction", "point"):
        return []
    if front.backwards:
        share = 1 - share
    if front.by == "point":
        start = np.array([readings.now(front.x, t), readings.now(front.y, t)])
        far = share * float(np.linalg.norm(cut.places[:, :2] - start, axis=1).max(initial=0))
        turn = np.linspace(0, 2 * np.pi, 65)
        ring = np.stack([start[0] + far * np.cos(turn), start[1] + far * np.sin(turn), np.zeros(65)], axis=1)
        return [sight.points(ring)]
    turn_at = math.radians(readings.now(front.angle, t))
    way = np.array([math.cos(turn_at), math.sin(turn_at)])
    along, across = cut.places[:, :2] @ way, cut.places[:, :2] @ np.array([-way[1], way[0]])
    at = along.min() + share * (along.max() - along.min())
    ends = [across.min() - 20, across.max() + 20]
    line = np.array([[at * way[0] - w * way[1], at * way[1] + w * way[0], 0.0] for w in ends])
    return [sight.points(line)]


def fronts_shown(
    source: PieceSource, readings: Readings, sight: Sight, t: float
) -> tuple[list[PieceFront], list[Path2], list[Grip]]:
    """The fronts of an emitter's release and assembly at shot time t, the lines where they are, and their grips."""
    pieces, f = source.emitter.pieces, source.flights
    assert pieces is not None
    found, lines, grips = [], [], []
    for name, front, cut, moments in (
        ("release", pieces.release, f.cut, f.released), ("assemble", pieces.assemble, f.arrived, f.due)
    ):  # fmt: skip
        if front is None:
            continue
        first, last, dots = _dots(cut, moments, sight)
        found.append(
            PieceFront(of=name, pieces=len(cut), first_s=round(first, 4), last_s=round(last, 4), dots=dots)  # type: ignore[arg-type]
        )
        lines += _now(front, cut, readings, (t - first) / max(last - first, 1e-9), sight, t)
        title = "Release" if name == "release" else "Assembly"
        own = part_grips(readings, sight, front, t, f"pieces/{name}/")
        if front.by in ("point", "neighbours"):
            at = (readings.now(front.x, t), readings.now(front.y, t))
            own.append(sight.grip("front", "move", at, [f"pieces/{name}/x", f"pieces/{name}/y"]))
        grips += [grip.model_copy(update={"name": f"{title}: {grip.name.lower()}"}) for grip in own]
    return found, lines, grips
