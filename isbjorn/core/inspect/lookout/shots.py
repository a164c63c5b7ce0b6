"""Checks of the whole shot."""

from __future__ import annotations

import math

import numpy as np

from isbjorn.core.document.references import numbers_of
from isbjorn.core.frame import ground
from isbjorn.core.inspect.lookout.notes import Checks, Mend, Note, Watch, put

_MANY = 50


def loop_ends(watch: Watch) -> Checks:
    """Keys whose ends do not meet in a loop."""
    shot = watch.shot
    if not shot.loop:
        return
    length = float(shot.length_s)
    owners = [(f"/{field}/{n}", thing) for field in ("emitters", "forces", "zones", "markers", "lights", "mattes")
              for n, thing in enumerate(getattr(shot, field))]  # fmt: skip
    for path, thing in owners:
        for name, number in numbers_of(thing):
            if len(number.keys) < 2 or name.endswith("along"):
                continue
            first, last = (watch.solver.readings.now(number, t) for t in (0.0, length * (1 - 1e-7)))
            low, high = min(k.value for k in number.keys), max(k.value for k in number.keys)
            if abs(first - last) <= 0.02 * max(high - low, 1e-9):
                continue
            keys = [k.model_dump(mode="json") for k in number.keys if k.at_s < length - 1e-6]
            keys.append({**keys[0], "at_s": length, "value": first})
            yield Note(
                kind="loop ends", thing=thing.id, level="trouble",
                what=f"{thing.name}: {name.replace('.', ' ')} jumps from {last:g} to {first:g} where the loop comes round.",
                why="Its last key is not what its first one is.",
                mend=Mend(label="Paste the first key at the end", changes=[put(f"{path}/{name.replace('.', '/')}/keys", keys)]),
            )  # fmt: skip


def plate_rate(watch: Watch) -> Checks:
    """The plate's rate against the shot's."""
    shot = watch.shot
    if shot.plate is None or not shot.plate.on:
        return
    rate = watch.solver.plates.rate(shot)
    if rate == shot.frame_rate:
        return
    plain = f"{float(rate):g}"
    yield Note(
        kind="plate rate", thing=None, level="hint",
        what=f"The plate has {plain} frames a second, the shot {float(shot.frame_rate):g}: some of its frames come twice or never.",
        why="The plate keeps its speed; its frames and the shot's do not fall together.",
        mend=Mend(label=f"Give the shot {plain} fps", changes=[put("/rate", str(rate))]),
    )  # fmt: skip


def clipping(watch: Watch) -> Checks:
    """Highlights that burn out."""
    shot = watch.shot
    scale, plates = watch.context.scale, watch.solver.plates
    whole = watch.picture[..., :3]
    below = ground(shot, watch.frame, scale, plates)
    added = whole if below is None else whole - below[..., :3]
    covered = np.abs(added).max(axis=2) > 0.02
    if covered.sum() < _MANY:
        return
    burnt = (whole.min(axis=2) >= 1.0) & covered
    share = float(burnt.sum()) / float(covered.sum())
    if share < 0.08:
        return
    over = float(np.percentile(whole.max(axis=2)[burnt], 97))
    stops = -round(min(16.0, max(0.5, math.log2(max(over, 1.05)))), 1)
    step = {"kind": "grade", "exposure": stops}
    yield Note(
        kind="clipping", thing=None, level="hint",
        what=f"{100 * share:.0f} % of what the particles cover is burnt out to white.",
        why="All three channels are above what a screen shows, so colour and shape are lost there.",
        mend=Mend(label=f"{stops:g} stops on all particles", changes=[put("/finish/-", step, "add")]),
    )  # fmt: skip


def left_out(watch: Watch) -> Checks:
    """Bodies that are not drawn, because together they would take too long."""
    counts = watch.layers.drawn
    if counts.left_out == 0:
        return
    every = counts.left_out + counts.seen
    yield Note(
        kind="too much", thing=None, level="trouble",
        what=f"{counts.left_out:,} of about {every:,} are left out of the picture: together they cover it too many times over.",
        why="A picture is bounded before it is begun, so that no shot holds up another.",
        mend=Mend(label="Half as large", changes=[
            put(f"/emitters/{n}/size/value", round(e.size.value / 2, 3)) for n, e in enumerate(watch.shot.emitters) if e.on
        ]),
    )  # fmt: skip
