"""The Lookout: common mistakes, recognised in the shot, each with the observation, the reason, and one remedy.

A check is a function that yields notes about an emitter, or about the shot, and is listed in `_EMITTER` or `_SHOT`, or, if it comes
from an extension, in `kinds.CHECKS`. The numbers in notes are measured at the current frame, with the engine itself.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from isbjorn.core.deliver import Order
from isbjorn.core.document import Emitter, Group, Shot
from isbjorn.core.document.fields.kinds import CHECKS, loaded
from isbjorn.core.errors import IsbjornError
from isbjorn.core.frame import Solver
from isbjorn.core.inspect.lookout import emitters, interactions, models, nothing, pieces, shots, strands
from isbjorn.core.inspect.lookout.notes import Case, Checks, Mend, Note, Watch
from isbjorn.core.render.raster.blends import MODES

__all__ = ["Mend", "Note", "lookout", "order_notes"]

_EMITTER: tuple[Callable[[Case], Checks], ...] = (
    nothing.nothing, emitters.starved, emitters.standing, emitters.alike, emitters.specks, emitters.pops, emitters.too_short,
    emitters.tunnels, emitters.too_much, emitters.too_short_to_touch,
    *strands.CHECKS, *models.CHECKS, *pieces.CHECKS,
)  # fmt: skip
_SHOT: tuple[Callable[[Watch], Checks], ...] = (
    shots.left_out, shots.loop_ends, shots.plate_rate, shots.clipping, *models.OF_SHOT, *interactions.CHECKS,
)  # fmt: skip
_GRAVITY = {"trouble": 0, "hint": 1, "fine": 2}


def lookout(solver: Solver, frame: int) -> list[Note]:
    """What is recognised in a shot at a frame, the worst first. A check that cannot read the plate says nothing."""
    watch = Watch(solver, frame)
    found: list[Note] = []

    def take(check: Callable[[Any], Checks], about: Any) -> None:
        try:
            found.extend(check(about))
        except IsbjornError:
            return

    for number, emitter in enumerate(solver.shot.emitters):
        if emitter.on:
            case = Case(watch, number, emitter)
            for check in _EMITTER:
                take(check, case)
    for about_shot in (*_SHOT, *map(loaded, CHECKS)):
        take(about_shot, watch)
    return sorted(found, key=lambda note: _GRAVITY[note.level])


def order_notes(shot: Shot, order: Order) -> list[Note]:
    """What would go wrong with a delivery."""
    found: list[Note] = []
    if order.form.points:
        return found
    if not order.over_plate and not order.form.alpha:
        better = "mov" if order.form.movie else "png16"
        found.append(Note(
            kind="no alpha", level="trouble",
            what=f"{order.form.suffix[1:].upper()} has no alpha: the particles are delivered on black.",
            why="Without the plate, uncovered areas must stay transparent.",
            mend=Mend(label=f"Deliver as {better}", order={"format": better}),
        ))  # fmt: skip
    still = order.form.still
    if order.colour is not None and order.colour.linear and (still is None or still.encoding != "linear"):
        found.append(Note(
            kind="banding of light", level="trouble", what=f"{order.colour.title} adds light; this format has few tonal steps.",
            why="Dark gradients show bands; additive light needs a float format.",
            mend=Mend(label="Deliver as EXR", order={"format": "exr-half"}),
        ))  # fmt: skip
    if not order.over_plate:
        units: list[Emitter | Group] = [*shot.emitters, *shot.groups]
        names = [u.name for u in units if u.on and MODES[u.blend] != 0]
        if names and shot.plate is not None:
            found.append(Note(
                kind="blend over nothing", level="hint", what=f"{', '.join(names)}: its blend mode needs a picture below it.",
                why="Over transparency it is drawn as Normal; it will look different over a plate that is added later.",
                mend=Mend(label="Deliver over the plate", order={"over_plate": True}),
            ))  # fmt: skip
    return found
