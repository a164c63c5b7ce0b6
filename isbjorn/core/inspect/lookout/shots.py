"""Checks of the whole shot."""

from __future__ import annotations

import math

import numpy as np

from isbjorn.core.document.fields.references import numbers_of
from isbjorn.core.frame import ground
from isbjorn.core.inspect.lookout.notes import Checks, Mend, Note, Watch, put

_MANY = 50
_WHITE = 1.001


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
                what=f"{thing.name}: {name.replace('.', ' ')} jumps from {last:g} to {first:g} at the loop's seam.",
                why="Its last key differs from its first.",
                mend=Mend(label="Copy the first key to the end", changes=[put(f"{path}/{name.replace('.', '/')}/keys", keys)]),
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
        what=(
f"The plate has {plain} fps and the shot {float(shot.frame_rate):g} fps: some plate frames are "
"repeated or skipped."
),
        why="The plate keeps its speed, so its frames do not coincide with the shot's.",
        mend=Mend(label=f"Set the shot to {plain} fps", changes=[put("/rate", str(rate))]),
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
    # White itself is no loss.
    burnt = (whole.min(axis=2) > _WHITE) & covered
    share = float(burnt.sum()) / float(covered.sum())
    if share < 0.08:
        return
    over = float(np.percentile(whole.max(axis=2)[burnt], 97))
    stops = -round(min(16.0, max(0.5, math.log2(max(over, 1.05)))), 1)
    step = {"kind": "grade", "exposure": stops}
    yield Note(
        kind="clipping", thing=None, level="hint",
        what=f"{100 * share:.0f} % of the area that particles cover is clipped to white.",
        why="All three channels exceed the display's range, so colour and shape are lost.",
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
        what=(
f"{counts.left_out:,} of about {every:,} are not drawn: together they cover the picture too many "
"times."
),
        why="The cost of a picture is limited in advance, so that no shot blocks another.",
        mend=Mend(label="Halve the size", changes=[
            put(f"/emitters/{n}/size/value", round(e.size.value / 2, 3)) for n, e in enumerate(watch.shot.emitters) if e.on
        ]),
    )  # fmt: skip
