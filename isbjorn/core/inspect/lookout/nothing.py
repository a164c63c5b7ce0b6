"""Why nothing of an emitter is seen."""

from __future__ import annotations

import math

import numpy as np

from isbjorn.core.inspect.lookout.notes import Case, Checks, Mend, put
from isbjorn.core.render.composite.mattes import matte_of
from isbjorn.core.render.models.hold_out import SHOWS, hold_out
from isbjorn.core.render.scene.camera import projection
from isbjorn.core.render.scene.plate_depth import HIDDEN, plate_depth
from isbjorn.core.simulate.track import demand_of


def nothing(case: Case) -> Checks:
    """Nothing of it is seen, and why."""
    e, watch, p = case.emitter, case.watch, case.particles
    if len(p) == 0:
        # Pieces that have not come yet, or have gone, are as they should be.
        if e.pieces is None:
            yield from _no_births(case)
        return
    view = projection(watch.shot, 1.0, float(watch.seconds))
    pixels, grown = view.place(p.position)
    radius = p.size / 2 * grown
    x, y = pixels.T
    inside = (x + radius > 0) & (x - radius < view.width) & (y + radius > 0) & (y - radius < view.height)
    if (grown <= 0).all():
        away = abs(float(np.median(p.position[:, 2]) - view.eye[2])) + 400
        yield case.note(
            "nothing visible", "all are behind the camera.", "They are closer to the viewer than the camera.", "trouble",
            Mend(label="Reset the camera", changes=[put(f"{case.path}/depth/value", round(e.depth.value - away, 1))]),
        )  # fmt: skip
    elif not (inside & (grown > 0)).any():
        yield case.note(
            "nothing visible", f"all {len(p):,} are outside the picture.", "They were born outside it or have left it.", "trouble",
            Mend(label="Move it to the centre", changes=[put(f"{case.path}/{f}/value", 0) for f in ("across", "up")]),
        )  # fmt: skip
    elif not (p.opacity > 0).any() or (not (p.colour.max(axis=1) > 0).any() and e.blend == "add"):
        changes = [put(f"{case.path}/opacity/value", 100), put(f"{case.path}/opacity/over_life", None)]
        if e.blend == "add":
            changes.append(put(f"{case.path}/brightness/value", 1))
        yield case.note(
            "nothing visible", "all are transparent.", "Opacity or brightness is 0 at every age.",
            "trouble", Mend(label="Make them opaque", changes=changes),
        )  # fmt: skip
    elif not (radius > 0).any():
        yield case.note(
            "nothing visible", "all have no size.", "Their size is 0 at every age.", "trouble",
            Mend(label="Set size to 8 px", changes=[put(f"{case.path}/size/value", 8), put(f"{case.path}/size/over_life", None)]),
        )  # fmt: skip
    elif watch.read(e.lit) >= 100 and not any(lamp.on for lamp in watch.shot.lights):
        yield case.note(
            "nothing visible", "it is lit by lights only, and no light is on.", "Only lit particles are visible.", "trouble",
            Mend(label="Make it self-luminous", changes=[put(f"{case.path}/lit/value", 0)]),
        )  # fmt: skip
    elif e.hidden_by:
        yield from _hidden(case, pixels, inside)


def _no_births(case: Case) -> Checks:
    e, watch = case.emitter, case.watch
    now = float(watch.seconds)
    begins = [b.at_s + e.delay_s for b in e.bursts]
    if e.rate.value or e.rate.keys:
        begins.append(e.start_s + e.delay_s - e.pre_roll_s)
    first = min(begins, default=math.inf)
    wanted = demand_of(watch.shot, e, watch.solver.readings)
    if watch.shares.get(e.id, 0) == 0 and wanted > 0:
        yield case.note(
            "nothing visible", "the limit allows none.", "Its limit or the shot's limit is 0.", "trouble",
            Mend(label="Set the limit to 10,000", changes=[
                put(f"{case.path}/limit", 10_000), put("/limit", max(10_000, watch.shot.limit)),
            ]),
        )  # fmt: skip
    elif e.born_of is not None:
        yield from _unborn(case)
    elif math.isinf(first):
        yield case.note(
            "nothing visible", "none is ever born.", "Its birth rate is 0 and it has no burst.", "trouble",
            Mend(label="100 births per second", changes=[put(f"{case.path}/rate/value", 100)]),
        )  # fmt: skip
    elif now <= first:
        roll = round(min(600.0, e.pre_roll_s + first - now + min(5.0, case.track.source.longest_life)), 2)
        changes = [put(f"{case.path}/pre_roll_s", roll)] if e.rate.value else [put(f"{case.path}/delay_s", 0)]
        yield case.note(
            "nothing visible", f"none is born yet: the first birth is at {first:g} s.", "Births start after this frame.", "hint",
            Mend(label="Start before the shot" if e.rate.value else "No delay", changes=changes),
        )  # fmt: skip
    elif any(f.takes_away for f in watch.shot.reaching(e)):
        taker = next(f for f in watch.shot.reaching(e) if f.takes_away)
        at = watch.shot.forces.index(taker)
        yield case.note(
            "nothing visible", f"all have died: {taker.name} may have killed them.", "They are born where it acts.",
            "hint", Mend(label=f"Switch {taker.name} off", changes=[put(f"/forces/{at}/on", False)]),
        )  # fmt: skip
    elif e.end_s is not None and now > e.end_s:
        yield case.note(
            "nothing visible", f"the last birth was at {e.end_s:g} s, and all have died.", "Births end before this frame.", "hint",
            Mend(label="Emit without end", changes=[put(f"{case.path}/end_s", None)]),
        )  # fmt: skip


def _unborn(case: Case) -> Checks:
    """Why an emitter that is spawned by another one's particles has no births."""
    e, shot = case.emitter, case.watch.shot
    number, parent = next((n, b) for n, b in enumerate(shot.emitters) if b.id == e.born_of)
    reaching = shot.reaching(parent)
    bear = f"/emitters/{number}"
    if not parent.on:
        why, mend = (
            f"{parent.name}, its parent emitter, is switched off.",
            Mend(label=f"Switch {parent.name} on", changes=[put(f"{bear}/on", True)]),
        )
    elif e.born_when == "at touch" and not any(f.solid for f in reaching):
        why = f"No surface reaches {parent.name}, so it touches nothing."
        mend = Mend(label="Spawn at death", changes=[put(f"{case.path}/born_when", "at death")])
    elif e.born_when == "at catching" and not any(f.catching for f in reaching):
        why = f"No contagion reaches {parent.name}, so it catches nothing."
        mend = Mend(label="Spawn at death", changes=[put(f"{case.path}/born_when", "at death")])
    elif e.born_when == "in flight" and e.rate.value == 0 and not e.rate.timed:
        why, mend = (
            "Its birth rate is 0.",
            Mend(label="20 births per second for each parent", changes=[put(f"{case.path}/rate/value", 20)]),
        )
    else:
        why, mend = f"No particle of {parent.name} has spawned any by this frame.", None
    yield case.note("nothing visible", f"{parent.name} spawns no particles.", why, "hint", mend)


def _hidden(case: Case, pixels: np.ndarray, inside: np.ndarray) -> Checks:
    watch, e = case.watch, case.emitter
    context = watch.context
    plate = (
        watch.solver.plates.at(watch.shot, watch.seconds, context.view.width, context.view.height)
        if watch.shot.plate
        else None
    )
    at = (pixels[inside] * context.view.scale_x).astype(int)
    x, y = np.clip(at[:, 0], 0, context.view.width - 1), np.clip(at[:, 1], 0, context.view.height - 1)
    seen = np.ones(len(at))
    for matte in watch.shot.mattes:
        if matte.on and matte.id in e.hidden_by:
            left = 1 - matte_of(matte, context, plate)[y, x]
            if matte.kind == "model" and not matte.inverted:
                left = np.where(hold_out(matte, context).hides(case.particles.where(inside), context) == SHOWS, 1, left)
            elif matte.kind == "depth" and not matte.inverted:
                left = (
                    plate_depth(matte, context).slices_of(case.particles.where(inside), context.view, False) != HIDDEN
                )
            seen = seen * left
    if len(seen) and float(seen.max()) < 0.02:
        names = ", ".join(m.name for m in watch.shot.mattes if m.id in e.hidden_by)
        yield case.note(
            "nothing visible", f"all are behind {names}.", "A matte covers every one of them.", "trouble",
            Mend(label="Remove the matte", changes=[put(f"{case.path}/hidden_by", [])]),
        )  # fmt: skip
