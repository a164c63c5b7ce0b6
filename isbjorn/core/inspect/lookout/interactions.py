"""Checks of interacting particles."""

from __future__ import annotations

import numpy as np

from isbjorn.core.document import Surface
from isbjorn.core.document.parts.interactions import Cohesion, Contagion, Flock, Interaction, Push
from isbjorn.core.emit.shapes import measure
from isbjorn.core.emit.shapes.base import ShapeSetting
from isbjorn.core.inspect.lookout.notes import Checks, Mend, Note, Watch, put
from isbjorn.core.simulate.interactions.grid import MOST_LOOKED_AT, grid_of

# Discs thrown into a box at random settle at about this share of its area.
_FULL, _ROOMY = 0.82, 0.7
# What bodies that do not overlap fill of a line, of a plane and of space at most, when they are thrown in; and for a mend.
_CLOSE, _LOOSE = {1: 0.75, 2: 0.84, 3: 0.6}, {1: 65, 2: 75, 3: 50}
_HEAPS = 0.25
_LOOKED_AT, _STALLED_S = 512, 1.0


def _forces(watch: Watch) -> list[tuple[str, Interaction, list[int]]]:
    """Interactions that are on, by their positions in the document, and the emitters they reach, by positions in the cast."""
    shot = watch.shot
    return [
        (f"/forces/{n}", force, [k for k, e in enumerate(shot.emitters) if e.on and force in shot.reaching(e)])
        for n, force in enumerate(shot.forces)
        if force.on and isinstance(force, Interaction)
    ]


def _places(watch: Watch, numbers: list[int]) -> tuple[np.ndarray, np.ndarray]:
    parts = [watch.solver.of(number, watch.seconds) for number in numbers]
    return (
        np.concatenate([p.position for p in parts] or [np.zeros((0, 3), np.float32)]),
        np.concatenate([p.size for p in parts] or [np.zeros(0, np.float32)]),
    )


def crowd_in_a_loop(watch: Watch) -> Checks:
    """Interacting particles do not loop by themselves."""
    reaching = [force for _, force, numbers in _forces(watch) if numbers]
    if not watch.shot.loop or not reaching or watch.shot.crossover_s > 0:
        return
    names = ", ".join(force.name for force in reaching)
    yield Note(
        kind="interaction in a loop", thing=reaching[0].id, level="trouble",
        what=f"{names}: interacting particles do not return to their start, so they jump at the loop's seam.",
        why=(
"The position of each depends on all earlier ones, so the end cannot match the start. A cross-fade "
"can hide the seam."
),
        mend=Mend(
            label="Cross-fade at the end", changes=[put("/crossover_s", round(min(1.5, 0.25 * float(watch.shot.length_s)), 2))]
        ),
    )  # fmt: skip


def too_many_near(watch: Watch) -> Checks:
    """Too many neighbours: a sample has to represent all of them."""
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
            kind="too many neighbours", thing=force.id, level="hint",
            what=(
f"{force.name}: each particle has about {crowded:,.0f} neighbours; only an even selection of them is "
"used."
),
            why=f"Every step would have to examine all particles within {radius:g} px of each other.",
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
            what=f"{force.name}: {len(place):,} particles have collapsed into {alone:,} heaps.",
            why="Cohesion is stronger than separation.",
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
            what=f"{box.name}: its bodies would cover {100 * share:.0f} % of it. They overlap and cannot move.",
            why="Discs of mixed sizes are packed at about 85 %; beyond that there is no space for all.",
            mend=Mend(
                label=f"{100 * smaller:.0f} % of their size",
                changes=[
                    put(f"/emitters/{n}/size/value", round(shot.emitters[n].size.value * smaller, 2)) for n in numbers
                ] + [put(f"/emitters/{n}/size/spread", round(shot.emitters[n].size.spread * smaller, 2)) for n in numbers],
            ),
        )  # fmt: skip


def overfilled(watch: Watch) -> Checks:
    """A shape that is filled with more bodies than fit without overlap."""
    readings = watch.solver.readings
    for _, force, numbers in _forces(watch):
        if not isinstance(force, Push):
            continue
        girth = watch.read(force.girth) / 100
        for n in numbers:
            emitter = watch.shot.emitters[n]
            for k, burst in enumerate(emitter.bursts):
                there = measure(emitter.shape, ShapeSetting(np.array([burst.at_s + emitter.delay_s]), readings))
                if there is None or (share := burst.fill / 100 * girth ** (power := there[1])) <= _CLOSE[power]:
                    continue
                fits = round(_LOOSE[power] / girth**power, 1)
                yield Note(
                    kind="no room", thing=emitter.id, level="hint",
                    what=f"{emitter.name}: pushing bodies cannot fill {100 * share:.0f} % of its shape. They spread beyond it.",
                    why=f"Bodies of mixed sizes that are poured in are packed at about {100 * _CLOSE[power]:.0f} %.",
                    mend=Mend(label=f"Fill {fits:g} % of the shape", changes=[put(f"/emitters/{n}/bursts/{k}/fill", fits)]),
                )  # fmt: skip


def cannot_spread(watch: Watch) -> Checks:
    """A contagion that stays where it is, and why."""
    readings, t = watch.solver.readings, float(watch.seconds)
    for path, force, numbers in _forces(watch):
        if not isinstance(force, Contagion) or not numbers:
            continue
        parts = [watch.solver.of(number, watch.seconds) for number in numbers]
        place, caught = np.concatenate([p.position for p in parts]), np.concatenate([p.caught for p in parts]) >= 0
        since = np.concatenate([p.age - p.caught for p in parts])[caught]
        # As long as particles catch it now and then, it continues.
        goes_on = len(since) > 1 and t - force.begin_s > _STALLED_S and float(since.min()) < _STALLED_S
        if len(place) < 2 or caught.all() or t < force.begin_s or goes_on:
            continue
        share = readings.now(force.seed_share, t)
        why, mend = "", None
        if not caught.any():
            if force.seeds is None and force.seed_first == 0 and share == 0:
                why = "No particle is infected at the start."
                mend = Mend(label="Infect the first birth", changes=[put(f"{path}/seed_first", 1)])
            elif force.seeds is not None and force.seed_first == 0 and share == 0:
                why = "No particle is in its seed zone."
                mend = Mend(label="Infect the first birth", changes=[put(f"{path}/seed_first", 1)])
        elif readings.now(force.strength, t) == 0 or (readings.now(force.pace, t) == 0 and force.pace.spread == 0):
            why = "Its speed is 0."
            mend = Mend(label="160 px/s", changes=[put(f"{path}/pace/value", 160), put(f"{path}/strength/value", 100)])
        elif caught.mean() < 0.5:
            radius = readings.now(force.radius, t)
            gap = _gap(place, caught)
            if gap > radius:
                wider = float(np.ceil(1.05 * max(gap, _longest_step(place))))
                why = f"The nearest particle is {gap:.0f} px away, but the contagion reaches only {radius:g} px."
                mend = Mend(label=f"A radius of {wider:g} px", changes=[put(f"{path}/radius/value", wider)])
        if why:
            yield Note(
                kind="cannot spread",
                thing=force.id,
                level="hint",
                what=f"{force.name} does not spread.",
                why=why,
                mend=mend,
            )


def _gap(place: np.ndarray, caught: np.ndarray) -> float:
    """The smallest distance in px from an infected to a healthy particle; of many particles, a sample."""
    have, others = place[caught], place[~caught]
    have = have[:: 1 + len(have) // _LOOKED_AT]
    others = others[:: 1 + len(others) // _LOOKED_AT] if len(have) > 64 else others
    least = np.inf
    for one in have[:_LOOKED_AT]:
        least = min(least, float(((others - one) ** 2).sum(axis=1).min()))
    return float(np.sqrt(least))


def _longest_step(place: np.ndarray) -> float:
    """The longest step that is needed to come from one place to all others (of the least spanning tree; Prim 1957), of some."""
    some = place[:: 1 + len(place) // _LOOKED_AT].astype(np.float64)
    left, near, longest = np.ones(len(some), bool), np.full(len(some), np.inf), 0.0
    at = 0
    for _ in range(len(some) - 1):
        left[at] = False
        near = np.minimum(near, np.where(left, np.linalg.norm(some - some[at], axis=1), np.inf))
        at = int(np.argmin(np.where(left, near, np.inf)))
        longest = max(longest, float(near[at]))
    # Of many only some are looked at, which are farther apart.
    return longest * float(np.sqrt(len(some) / len(place)))


CHECKS = (crowd_in_a_loop, too_many_near, collapsed, too_full, overfilled, cannot_spread)
