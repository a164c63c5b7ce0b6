"""Checks of particles that know of each other."""

from __future__ import annotations

import numpy as np

from isbjorn.core.document import Surface
from isbjorn.core.document.meetings import Cohesion, Flock, Meeting, Push
from isbjorn.core.inspect.lookout.notes import Checks, Mend, Note, Watch, put
from isbjorn.core.simulate.crowd.grid import MOST_LOOKED_AT, grid_of

# Discs that are thrown into a box at random come to rest at about this share of it.
_FULL, _ROOMY = 0.82, 0.7
_HEAPS = 0.25


def _forces(watch: Watch) -> list[tuple[str, Meeting, list[int]]]:
    """Meetings that are on, by their places in the document, and whom they reach, by places in the cast."""
    shot = watch.shot
    return [
        (f"/forces/{n}", force, [k for k, e in enumerate(shot.emitters) if e.on and force in shot.reaching(e)])
        for n, force in enumerate(shot.forces)
        if force.on and isinstance(force, Meeting)
    ]


def _places(watch: Watch, numbers: list[int]) -> tuple[np.ndarray, np.ndarray]:
    parts = [watch.solver.of(number, watch.seconds) for number in numbers]
    return (
        np.concatenate([p.position for p in parts] or [np.zeros((0, 3), np.float32)]),
        np.concatenate([p.size for p in parts] or [np.zeros(0, np.float32)]),
    )


def crowd_in_a_loop(watch: Watch) -> Checks:
    """A crowd does not come round by itself."""
    reaching = [force for _, force, numbers in _forces(watch) if numbers]
    if not watch.shot.loop or not reaching:
        return
    names = ", ".join(force.name for force in reaching)
    yield Note(
        kind="crowd in a loop", thing=reaching[0].id, level="trouble",
        what=f"{names}: particles that know of each other do not come round with the loop, and jump at its seam.",
        why="Where each is hangs on all that were before it, from the first birth on; nothing brings that back to its beginning.",
        mend=Mend(label="Do not loop the shot", changes=[put("/loop", False)]),
    )  # fmt: skip


def too_many_near(watch: Watch) -> Checks:
    """So many neighbours that some must stand for all."""
    for path, force, numbers in _forces(watch):
        if not isinstance(force, (Flock, Cohesion)) or not numbers:
            continue
        place, _ = _places(watch, numbers)
        radius = watch.solver.readings.now(force.radius, float(watch.seconds))
        if len(place) <= MOST_LOOKED_AT:
            continue
        grid = grid_of(np.ascontiguousarray(place.T), radius)
        near = np.diff(grid.starts)
        # In a cell and those around it: about three times three of it in the plane.
        crowded = float((near * near * 9).sum() / max(1, near.sum()))
        if crowded <= MOST_LOOKED_AT:
            continue
        smaller = round(radius * float(np.sqrt(0.25 * MOST_LOOKED_AT / crowded)), 1)
        yield Note(
            kind="too many near", thing=force.id, level="hint",
            what=f"{force.name}: about {crowded:,.0f} particles are near each; only some of them are looked at, evenly.",
            why=f"Each would have to look at all that lie within {radius:g} px of it, in every step.",
            mend=Mend(label=f"A radius of {smaller:g} px", changes=[put(f"{path}/radius/value", max(1.0, smaller))]),
        )  # fmt: skip


def collapsed(watch: Watch) -> Checks:
    """A flock that falls into one."""
    for path, force, numbers in _forces(watch):
        if not isinstance(force, Flock) or not numbers:
            continue
        place, size = _places(watch, numbers)
        if len(place) < 12:
            continue
        grid = grid_of(np.ascontiguousarray(place.T), max(1.0, float(np.median(size))))
        alone = len(np.flatnonzero(np.diff(grid.starts)))
        if alone > _HEAPS * len(place):
            continue
        apart = max(float(np.median(size)) * 1.6, 8.0)
        yield Note(
            kind="collapsed", thing=force.id, level="hint",
            what=f"{force.name}: {len(place):,} particles lie in {alone:,} heaps, on top of each other.",
            why="What draws them together is stronger than what keeps them apart.",
            mend=Mend(
                label=f"Keep them {apart:.0f} px apart",
                changes=[
                    put(f"{path}/apart/value", round(apart, 1)),
                    put(f"{path}/separation/value", round(max(force.separation.value, 3 * force.cohesion.value, 400), 1)),
                ],
            ),
        )  # fmt: skip


def too_full(watch: Watch) -> Checks:
    """A box in which nothing can move."""
    shot, readings, t = watch.shot, watch.solver.readings, float(watch.seconds)
    for _, force, numbers in _forces(watch):
        if not isinstance(force, Push) or not numbers:
            continue
        boxes = [
            f for e in (shot.emitters[n] for n in numbers) for f in shot.reaching(e)
            if isinstance(f, Surface) and f.side == "inside" and f.shape in ("box", "sphere")
        ]  # fmt: skip
        if not boxes:
            continue
        box = boxes[0]
        scale = float(readings.frames(box, np.array([t])).size[0])
        names = ("width", "height") if box.shape == "box" else ("radius", "radius")
        across, up = (readings.now(getattr(box, name), t) * scale for name in names)
        room = across * up * (1.0 if box.shape == "box" else np.pi)
        _, size = _places(watch, numbers)
        girth = readings.now(force.girth, t) / 100
        share = float((np.pi / 4 * (size * girth) ** 2).sum()) / max(room, 1e-9)
        if share <= _FULL:
            continue
        smaller = round(float(np.sqrt(_ROOMY / share)), 3)
        yield Note(
            kind="too full", thing=box.id, level="trouble",
            what=f"{box.name}: its bodies would cover {100 * share:.0f} % of it. They cannot move, and overlap.",
            why="Discs of mixed sizes lie close at about 85 %; beyond that there is no place for all.",
            mend=Mend(
                label=f"{100 * smaller:.0f} % of their size",
                changes=[
                    put(f"/emitters/{n}/size/value", round(shot.emitters[n].size.value * smaller, 2)) for n in numbers
                ] + [put(f"/emitters/{n}/size/spread", round(shot.emitters[n].size.spread * smaller, 2)) for n in numbers],
            ),
        )  # fmt: skip


CHECKS = (crowd_in_a_loop, too_many_near, collapsed, too_full)
