"""Checks of one emitter's births, looks and way."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from isbjorn.core.document import Attractor, Emitter, Number, Point, Surface
from isbjorn.core.document.parts.air import Noise
from isbjorn.core.evaluate import curves, gradients
from isbjorn.core.inspect.forecast import stepping_ms
from isbjorn.core.inspect.lookout.notes import Case, Checks, Mend, put
from isbjorn.core.render.scene.camera import SPECK_RADIUS, projection
from isbjorn.core.simulate.track import affordable_alive, demand_of

_POP_PX, _POP_SEEN = 6.0, 0.3
# A strand of fewer is no strand any more.
_FEWEST_JOINTS = 8


def standing(case: Case) -> Checks:
    """Births in step with the frames, so that a stream seems to stand still."""
    e, fps = case.emitter, float(case.watch.shot.frame_rate)
    if e.cadence != "even" or e.rate.timed or e.rate_per == "px" or e.rate.value <= 0:
        return
    each = e.rate.value if e.rate_per == "frame" else e.rate.value / fps
    # k births a frame, or one every k frames, leave the same picture every time if all fly alike.
    whole = each if each >= 1 else 1 / each
    if abs(whole - round(whole)) > 1e-6 or whole > 4:
        return
    if (
        e.speed.spread
        or e.direction.spread
        or e.spread.value > 5
        or e.toward == "anywhere"
        or not isinstance(e.shape, Point)
    ):
        return
    how = "one birth in every frame" if whole == 1 else f"births in step with the frames ({each:g} per frame)"
    yield case.note(
        "standing stream", f"with {how}, the stream seems to stand still.",
        "Each particle arrives where the previous one was one frame earlier, so no motion is visible.",
        mend=Mend(label="Make births uneven", changes=[put(f"{case.path}/cadence", "jittered")]),
    )  # fmt: skip


def specks(case: Case) -> Checks:
    """Particles too small to be seen, and what they cost."""
    p = case.particles
    if len(p) == 0:
        return
    view = projection(case.watch.shot, 1.0, float(case.watch.seconds))
    _, grown = view.place(p.position)
    radius = p.size / 2 * grown
    shown = (p.opacity > 0) & (radius > 0)
    small = int((shown & (radius < SPECK_RADIUS)).sum())
    if small < 20 or small < 0.3 * max(1, int(shown.sum())):
        return
    cost = small * 1e-4
    value = case.emitter.size.value
    wanted = round(value * 0.6 / max(float(np.median(radius[shown])), 1e-3), 2)
    yield case.note(
        "too small", f"{small:,} of {len(p):,} are too small to see, but cost about {max(0.1, cost):.1f} ms per frame.",
        "A body smaller than a third of a pixel is almost invisible.",
        mend=Mend(label=f"Set size to {wanted:g} px", changes=[put(f"{case.path}/size/value", min(10_000, wanted))]),
    )  # fmt: skip


def starved(case: Case) -> Checks:
    """A budget that starves it, and by how much."""
    e, watch = case.emitter, case.watch
    wanted = math.ceil(demand_of(watch.shot, e, watch.solver.readings))
    share = watch.shares[e.id]
    refused = case.particles.refused.get(e.id, 0)
    if wanted <= share + 2 or (refused == 0 and wanted < 1.05 * share) or _too_costly(case):
        return
    room = min(5_000_000, math.ceil(wanted * 1.05))
    changes = [put(f"{case.path}/limit", room)] if e.limit < wanted else []
    others = sum(s for name, s in watch.shares.items() if name != e.id)
    if others + room > watch.shot.limit:
        changes.append(put("/limit", min(5_000_000, others + room)))
    yield case.note(
        "starved", (
f"{wanted:,} would be alive, but the limit is {share:,}: {100 * (1 - share / wanted):.0f} % are not "
"born."
),
        "Its limit, or its share of the shot's limit, is smaller than birth rate × lifespan.", "trouble",
        Mend(label=f"Set the limit to {room:,}", changes=changes),
    )  # fmt: skip


def _at_age(e: Emitter, age: float) -> tuple[float, float]:
    """Size in px and opacity in [0, 1] at an age."""

    def read(number: Number) -> float:
        return number.value * (
            1.0 if number.over_life is None else max(0.0, float(curves.evaluate(number.over_life, [age])[0]))
        )

    ramp = gradients.table(e.colour)
    seen = min(100.0, read(e.opacity)) / 100 * float(ramp[round(age * (len(ramp) - 1)), 3])
    if e.fade_last.value > 0:
        seen *= min(1.0, (1 - age) / (e.fade_last.value / 100))
    return read(e.size), seen


def pops(case: Case) -> Checks:
    """Size or opacity that appears or vanishes at once."""
    e = case.emitter
    if e.pieces is not None or (e.ripples is not None and not e.ripples.bodies):
        return
    size, seen = _at_age(e, 0.0)
    # Particles that are there from the first frame on are never seen to appear.
    there = e.rate.value == 0 and not e.rate.timed and all(b.at_s + e.delay_s <= 0 and b.times == 1 for b in e.bursts)
    if not there and size >= _POP_PX and seen >= _POP_SEEN:
        points = [{"at": 0, "value": 0}, {"at": 0.08, "value": 1}]
        if e.opacity.over_life is None:
            points.append({"at": 1, "value": 1})
        else:
            kept = [p.model_dump(mode="json") for p in e.opacity.over_life.points if p.at > 0.08]
            points = [points[0], {"at": 0.08, "value": float(curves.evaluate(e.opacity.over_life, [0.08])[0])}, *kept]
        yield case.note(
            "pops in", f"each appears suddenly at {size:.0f} px and {100 * seen:.0f} % opacity.",
            "Neither size nor opacity starts at 0.",
            mend=Mend(label="Fade in at birth", changes=[put(f"{case.path}/opacity/over_life", {"points": points})]),
        )  # fmt: skip
    if e.lifespan.value == 0 and not e.lifespan.keys:
        return
    size, seen = _at_age(e, 1.0)
    if size >= _POP_PX and seen >= _POP_SEEN:
        yield case.note(
            "pops out", f"each vanishes suddenly at {size:.0f} px and {100 * seen:.0f} % opacity.",
            "Neither size nor opacity ends at 0.",
            mend=Mend(label="Fade over the last 15 %", changes=[put(f"{case.path}/fade_last/value", 15)]),
        )  # fmt: skip


def _goes_round(ways: np.ndarray) -> bool:
    """Whether most of some ways (samples, n, 3), seen from what they fly around, come round by half a turn or more."""
    to = ways / np.maximum(np.linalg.norm(ways, axis=2, keepdims=True), 1e-9)
    turns = np.arccos(np.clip((to[1:] * to[:-1]).sum(axis=2), -1, 1))
    return bool(np.nanmedian(np.nansum(turns, axis=0)) > np.pi)


def too_short(case: Case) -> Checks:
    """Lives that end before the target, or before the frame."""
    e, watch = case.emitter, case.watch
    if e.pieces is not None or e.lifespan.value == 0 or (e.rate.value == 0 and not e.rate.timed and not e.bursts):
        return
    at = np.array([float(watch.seconds)])
    places, ends = case.flights
    speed = (
        float(np.nanmean(np.linalg.norm(np.diff(places, axis=0), axis=2))) * len(places) / max(1e-6, float(ends.max()))
    )
    for force in watch.shot.reaching(e):
        if not isinstance(force, Attractor) or watch.read(force.strength) <= 0 or force.frame == "emitter":
            continue
        target = watch.solver.readings.frames(force, at).place[0]
        away = np.linalg.norm(places - target, axis=2)
        start, least = float(np.nanmedian(away[0])), float(np.nanmin(away))
        if least < max(0.35 * start, 30.0) or _goes_round(places - target):
            continue
        need = round(min(600.0, e.lifespan.value * start / max(start - least, 0.05 * start)), 1)
        yield case.note(
            "life too short", f"none comes closer than {least:.0f} px to {force.name}, which is {start:.0f} px away.",
            f"Lifespan {e.lifespan.value:g} s at about {speed:.0f} px/s.",
            mend=Mend(label=f"Set lifespan to {need:g} s", changes=[put(f"{case.path}/lifespan/value", need)]),
        )  # fmt: skip
    view = projection(watch.shot, 1.0, float(watch.seconds))
    pixels, grown = view.place(np.nan_to_num(places.reshape(-1, 3), nan=1e9))
    inside = (
        (pixels[:, 0] > 0)
        & (pixels[:, 0] < view.width)
        & (pixels[:, 1] > 0)
        & (pixels[:, 1] < view.height)
        & (grown > 0)
    )
    if inside.any():
        return
    first, last = (np.nan_to_num(p, nan=np.nan) for p in (places[0], places[1]))
    toward = np.nanmean(np.einsum("ij,ij->i", -first[:, :2], (last - first)[:, :2]))
    if toward > 0:
        beyond = np.maximum(np.abs(first[:, :2]) - np.array([view.width, view.height]) / 2, 0)
        need = round(
            min(600.0, 2 * float(np.linalg.norm(beyond, axis=1).mean()) / max(speed, 1e-3) + e.lifespan.value), 1
        )
        yield case.note(
            "life too short", "all die before they enter the picture.",
            f"They are born outside the picture. Lifespan {e.lifespan.value:g} s at about {speed:.0f} px/s.", "trouble",
            Mend(label=f"Set lifespan to {need:g} s", changes=[put(f"{case.path}/lifespan/value", need)]),
        )  # fmt: skip


def tunnels(case: Case) -> Checks:
    """Why a fast body gets through no surface."""
    e, watch = case.emitter, case.watch
    surfaces = [f for f in watch.shot.reaching(e) if f.solid]
    if not surfaces or len(case.particles) == 0:
        return
    fastest = float(np.linalg.norm(case.particles.velocity, axis=1).max())
    step, size = fastest / watch.shot.simulation_rate, float(case.particles.size.mean())
    if step > max(size, 0.5):
        yield case.note(
            "no tunnelling",
            f"up to {step:.0f} px per step at a size of {size:.1f} px, yet none passes through {surfaces[0].name}.",
            "Contacts are swept: the whole path of a body is tested, not only its positions.", "fine",
        )  # fmt: skip


def alike(case: Case) -> Checks:
    """All born in one place with one speed."""
    e = case.emitter
    placed = any(n.spread for n in (e.across, e.up, e.depth))
    fan = e.spread.value > 0 or e.toward == "anywhere" or e.direction.spread
    stirred = any(isinstance(f, Noise) for f in case.watch.shot.reaching(e))
    if not isinstance(e.shape, Point) or placed or fan or e.speed.spread or stirred or e.strand is not None:
        return
    burst = any(b.over_s == 0 for b in e.bursts)
    what = (
        "a burst in one place with one speed looks like one particle."
        if burst
        else "all leave one point in the same direction."
    )
    yield case.note(
        "all alike", what, "Position, direction and speed have no spread, so all lie on one line." if not burst else
        "All are at the same position at every moment.", "trouble" if burst else "hint",
        Mend(label="Spread direction and speed", changes=[
            put(f"{case.path}/spread/value", 30), put(f"{case.path}/speed/spread", round(max(5, 0.25 * e.speed.value), 2)),
        ]),
    )  # fmt: skip


def _too_costly(case: Case) -> bool:
    """Whether the limit comes from the budget of steps, and not from the emitter."""
    track, shot = case.track, case.watch.shot
    can = affordable_alive(shot, case.emitter, track.births, track.source, case.watch.solver.readings)
    return min(track.demand, case.emitter.limit) > can


def too_much(case: Case) -> Checks:
    """More births or steps than can be computed."""
    e, births, shot = case.emitter, case.track.births, case.watch.shot
    if births.each > 1:
        yield case.note(
            "too much", f"only one of every {births.each:,} births is simulated.",
            "The shot would have more than twenty million, and each depends on the earlier ones.", "trouble",
            Mend(label="Reduce births to a tenth", changes=_fewer(case, 10)),
        )  # fmt: skip
    if _too_costly(case):
        share, wanted = case.watch.shares[e.id], case.track.demand
        a_frame_s = stepping_ms(shot, e, case.track.readings, float(case.watch.seconds), wanted) / 1e3
        every = f"Each is simulated at {shot.simulation_rate} steps per second through its life"
        if e.strand is not None:
            every += f", with {e.strand.joints} joints"
        yield case.note(
            "too much", f"{share:,} of {math.ceil(wanted):,} fit into the budget.",
            (
f"{every}. All of them would take about {_lasting(a_frame_s)} per frame, "
f"{_lasting(a_frame_s * shot.frame_count)} for the shot."
), "trouble", _cheaper(case, wanted / max(1, share)),
        )  # fmt: skip


def _fewer(case: Case, times: float) -> list[dict[str, Any]]:
    """Divides births by this factor."""
    e = case.emitter
    return [
        put(f"{case.path}/rate/value", e.rate.value / times),
        *(
            put(f"{case.path}/bursts/{n}/fill", b.fill / times) if b.fill > 0
            else put(f"{case.path}/bursts/{n}/count", max(1, math.floor(b.count / times)))
            for n, b in enumerate(e.bursts)
        ),
    ]  # fmt: skip


def _cheaper(case: Case, times: float) -> Mend:
    """What makes stepping this many times cheaper, and changes the shot least."""
    shot, strand = case.watch.shot, case.emitter.strand
    if times <= 2 and shot.simulation_rate > 1:
        rate = max(1, min(60, shot.simulation_rate // 2))
        return Mend(label=f"{rate} steps per second", changes=[put("/simulation_rate", rate)])
    if strand is not None and (joints := math.floor(strand.joints / times)) >= _FEWEST_JOINTS:
        return Mend(label=f"{joints} joints", changes=[put(f"{case.path}/strand/joints", joints)])
    return Mend(label="Reduce the birth rate to fit", changes=_fewer(case, times))


def _lasting(seconds: float) -> str:
    if seconds < 1:
        return f"{max(1, round(seconds * 1e3)):,} ms"
    return f"{seconds:.0f} s" if seconds < 120 else f"{seconds / 60:,.0f} min"


def too_short_to_touch(case: Case) -> Checks:
    """Lives that end before a surface or a kill zone that the flight would meet."""
    e, watch = case.emitter, case.watch
    if e.lifespan.value == 0 or e.pieces is not None:
        return
    targets = [f for f in watch.shot.reaching(e) if f.takes_away or (isinstance(f, Surface) and f.outcome != "mark")]
    if not targets:
        return
    taken = case.met_at
    lives = np.minimum(case.lives, 30.0)
    for force in targets:
        if (taken <= lives + 1e-3).mean() > 0.02:
            return
        later = taken[np.isfinite(taken)]
        if len(later) < 0.5 * len(taken):
            return
        need = round(min(600.0, float(np.percentile(later, 90)) * 1.1), 1)
        if need <= e.lifespan.value:
            return
        yield case.note(
            "life too short", f"all die before they reach {force.name}, which takes {float(np.median(later)):.1f} s.",
            f"Lifespan {e.lifespan.value:g} s.", mend=Mend(
                label=f"Set lifespan to {need:g} s", changes=[put(f"{case.path}/lifespan/value", need)]
            ),
        )  # fmt: skip
        return
