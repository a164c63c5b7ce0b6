"""Shots that combine kinds: pairs and triples of every source, force, zone, surface, interaction, strand, spawned emitter,
deformer, body, effect, use and pass, with no particle, one and many alive, flat and in depth, looped or not, at many rates.

For each: nothing raises, all values are finite, alpha is in [0, 1], jumps equal walks, one thread equals two, cover equals the
picture's alpha, and reported velocities equal the observed ones where motion is smooth. `python -m tests.cross --minutes 30`
explores further than the tests do.
"""

from __future__ import annotations

import argparse
import json
import sys
import time
from fractions import Fraction
from typing import Any

import numpy as np
from hypothesis import HealthCheck, given, seed, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from isbjorn.core.document import Shot
from isbjorn.core.document.fields.kinds import BODIES, DEFORMERS, FORCES, SHAPES, STEPS
from isbjorn.core.document.files import parse_shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.frame import Solver, compositor_of
from isbjorn.core.inspect.lookout import lookout
from isbjorn.core.render.composite.passes import measured
from tests.threads import threads

WIDTH, HEIGHT, FRAMES = 96, 54, 30
# Arrays of particles that have to be finite, and the same however they are asked for.
ARRAYS = ("position", "velocity", "size", "opacity", "colour", "angle", "age")
RATES = ("24", "25", "30000/1001", "50", "60", "120")
SURFACES = ("plane", "rectangle", "box", "sphere", "path", "model")
ZONES = ("sphere", "box", "half", "model")
# What takes a particle somewhere at once, or shows it elsewhere than it is moved: there velocity is not the way that is seen.
LEAPS = {"surface", "remove", "displacement", "push", "contagion"}


def _kinds(family: Any) -> list[str]:
    return [name for kind in family for name in kind.names]


@st.composite
def number(draw: st.DrawFn, low: float, high: float) -> dict[str, Any]:
    """A number with what may drive it."""
    value = draw(st.floats(low, high))
    found: dict[str, Any] = {"value": round(value, 3)}
    how = draw(st.sampled_from(("plain", "spread", "keys", "flutter")))
    if how == "spread":
        found["spread"] = round(2 * abs(value), 3)
    elif how == "keys":
        found["keys"] = [{"at_s": 0, "value": round(low, 3)}, {"at_s": 0.6, "value": round(value, 3)}]
    elif how == "flutter":
        found["flutter"] = {"amount": round(abs(value), 3)}
    return found


@st.composite
def force(draw: st.DrawFn, name: str) -> dict[str, Any]:
    """A force, surface or interaction of any kind."""
    kind = draw(st.sampled_from(_kinds(FORCES)))
    found: dict[str, Any] = {
        "kind": kind,
        "id": name,
        "across": draw(st.integers(-20, 20)),
        "up": draw(st.integers(-20, 20)),
    }
    fields = FORCES.named(kind).model.model_fields  # type: ignore[union-attr]
    if kind == "surface":
        found |= {"shape": draw(st.sampled_from(SURFACES)), "side": draw(st.sampled_from(("inside", "outside")))}
        found |= {"outcome": draw(st.sampled_from(("bounce", "stick", "slide", "die", "mark")))}
        found |= {
            "width": 80,
            "height": 50,
            "deep": 60,
            "radius": 35,
            "size": 80,
            "friction": draw(st.sampled_from((0, 0.3))),
        }
    elif "strength" in fields and draw(st.booleans()):
        found["strength"] = draw(number(0, 60))
    if "zone" in fields and draw(st.booleans()):
        found["zone"] = "zone"
    if "frame" in fields and draw(st.booleans()):
        found["frame"] = "emitter"
    return found


@st.composite
def emitter(draw: st.DrawFn, name: str) -> dict[str, Any]:
    """An emitter of any source, body and effect, with no particle, one or many alive."""
    # Sources and bodies of files and plates have tests of their own.
    shape = draw(st.sampled_from([kind for kind in _kinds(SHAPES) if kind not in ("plate", "artwork")]))
    body = draw(st.sampled_from([kind for kind in _kinds(BODIES) if kind not in ("picture", "movie")]))
    found: dict[str, Any] = {
        "id": name, "name": name, "shape": {"kind": shape}, "body": {"kind": body}, "size": draw(number(1, 12)),
        "speed": draw(number(0, 60)), "lifespan": draw(st.sampled_from((0, 0.4, {"value": 0.8, "spread": 0.3}))),
        "in_depth": draw(st.booleans()), "limit": 60, "opacity": draw(st.sampled_from((100, 40))),
        "blend": draw(st.sampled_from(("normal", "normal", "add"))),
        "facing": draw(st.sampled_from(("angle", "motion"))), "spin": draw(st.sampled_from((0, 300))),
    }  # fmt: skip
    alive = draw(st.sampled_from(("nobody", "one", "many")))
    found |= {"nobody": {"start_s": 9}, "one": {"rate": 0, "bursts": [{"count": 1}]}, "many": {"rate": 60}}[alive]
    if draw(st.booleans()):
        found["shape"] |= {"fill": draw(st.sampled_from(("inside", "edge", "shell")))}
        if "fill" not in SHAPES.named(shape).model.model_fields:  # type: ignore[union-attr]
            del found["shape"]["fill"]
    extra = draw(
        st.sampled_from(("", "strand", "trail", "lines", "heads", "skin", "deformer", "along", "limit", "pieces"))
    )
    if extra == "strand":
        found["strand"] = {"joints": 5, "length": 25}
    elif extra == "trail":
        found["trail"] = {"length": 4}
    elif extra == "lines":
        found["lines"] = {"distance": 30, "most": 3}
    elif extra == "heads":
        found["heads"] = {"count": 2, "gap_s": 0.05}
    elif extra == "skin":
        found["skin"] = {}
    elif extra == "deformer":
        found["deformers"] = [{"kind": draw(st.sampled_from(_kinds(DEFORMERS)))}]
    elif extra == "along":
        found |= {
            "stays": "along",
            "across": {"value": 0, "keys": [{"at_s": 0, "value": -20}, {"at_s": 1, "value": 20}]},
        }
    elif extra == "limit":
        found["speed_limit"] = 20
    elif extra == "pieces":
        found |= draw(in_pieces())
    if draw(st.booleans()):
        found["finish"] = [{"kind": draw(st.sampled_from(_kinds(STEPS)))} for _ in range(draw(st.integers(1, 2)))]
    return found


@st.composite
def in_pieces(draw: st.DrawFn) -> dict[str, Any]:
    """What makes an emitter one in pieces: of any cut and front, that leave, arrive, or both."""
    front = st.fixed_dictionaries({
        "by": st.sampled_from(("direction", "point", "path", "reading order", "noise", "chance", "neighbours", "onsets")),
        "at_s": st.sampled_from((-0.2, 0.1, 0.4)), "duration": st.sampled_from((0, 0.3, 0.9)), "softness": st.sampled_from((0, 60)),
        "backwards": st.booleans(),
    })  # fmt: skip
    arrival = {"arrives": st.sampled_from(("at rest", "moving")), "looks": st.sampled_from(("mirrored", "forwards"))}
    match = st.sampled_from(("nearest", "reading order", "along a path", "random"))
    shape = draw(st.sampled_from(({"kind": "disc", "radius": 25}, {"kind": "letters", "text": "Is", "height": 40})))
    cuts = ("squares", "hexagons", "shards", "strips", "points", *(("letters",) if shape["kind"] == "letters" else ()))
    release = draw(st.one_of(st.none(), front))
    assemble = draw(st.one_of(st.none(), front, front))
    if assemble is not None:
        assemble |= {name: draw(values) for name, values in arrival.items()} | {"match": draw(match)}
        if release is not None and release["at_s"] <= assemble["at_s"] and draw(st.booleans()):
            assemble["into"] = {"kind": "disc", "radius": 15}
    return {
        "shape": shape, "limit": 500,
        "pieces": {
            "cut": draw(st.sampled_from(cuts)), "size": draw(st.sampled_from((6, 15))), "variation": draw(st.sampled_from((0, 70))),
            "release": release, "assemble": assemble,
        },
    }  # fmt: skip


@st.composite
def documents(draw: st.DrawFn) -> dict[str, Any]:
    """A shot in which some kinds meet."""
    count = draw(st.integers(1, 2))
    emitters = [draw(emitter(name)) for name in "ab"[:count]]
    forces = [draw(force(name)) for name in ("f", "g", "h")[: draw(st.integers(0, 3))]]
    links = [
        {"force": f["id"], "emitter": e["id"]}
        for f in forces
        for e in emitters
        if draw(st.booleans()) or len(forces) == 1
    ]
    if count == 2:
        meet = draw(st.sampled_from(("", "born", "use", "group")))
        if meet == "born":
            emitters[1] |= {
                "born_of": "a",
                "born_when": draw(st.sampled_from(("in flight", "at death", "at touch"))),
                "rate": 9,
            }
            emitters[1] |= {"rate_per": draw(st.sampled_from(("second", "px")))}
            emitters[1].pop("strand", None)
        elif meet == "use":
            kind = draw(st.sampled_from(("glass", "matte", "cut", "displacement")))
            emitters[1]["use"] = {"kind": kind, "of": draw(st.sampled_from((None, "a")))}
        elif meet == "group":
            for one in emitters:
                one["group"] = "group"
    shot: dict[str, Any] = {
        "width": WIDTH, "height": HEIGHT, "last_frame": FRAMES - 1, "rate": draw(st.sampled_from(RATES)),
        "emitters": emitters, "forces": forces, "links": links, "limit": 120,
        "zones": [{"id": "zone", "shape": draw(st.sampled_from(ZONES)), "radius": 30, "falloff": 10, "size": 80}],
        "loop": draw(st.booleans()), "camera": {"kind": draw(st.sampled_from(("flat", "perspective")))},
    }  # fmt: skip
    if any("group" in one for one in emitters):
        shot["groups"] = [{"id": "group", "name": "group", "finish": draw(st.sampled_from(([], [{"kind": "blur"}])))}]
    if draw(st.booleans()):
        shot["camera"]["shutter"] = draw(st.sampled_from((90, 180, 360)))
    return shot


def parsed(document: dict[str, Any]) -> Shot | None:
    """A document as a shot; None for one that the model refuses with words."""
    try:
        return parse_shot(document)
    except (IsbjornError, ValidationError):
        return None


def _arrays(solver: Solver, at: int | Fraction) -> dict[str, Any]:
    p = solver.at(at) if isinstance(at, int) else solver.at_seconds(at)
    order = np.argsort(p.id, kind="stable")
    return {"id": p.id[order], **{name: np.asarray(p[name])[order] for name in ARRAYS}}


def _same(one: dict[str, Any], other: dict[str, Any], what: str) -> None:
    for name, values in one.items():
        assert np.array_equal(values, other[name]), f"{what}: {name}"


def look(document: dict[str, Any]) -> bool:
    """Look at a document; whether it is one. Raises AssertionError, or whatever the engine raises, for what is wrong with it."""
    shot = parsed(document)
    if shot is None:
        return False
    between = Fraction(37, 100)
    walk, jump = Solver(shot), Solver(shot)
    walked = {at: _arrays(walk, at) for at in (0, 3, 11, between, 17)}
    for at, arrays in walked.items():
        for name in ARRAYS:
            assert np.isfinite(arrays[name]).all() or name == "age", f"{name} at {at}"
        assert (arrays["size"] >= 0).all(), f"size at {at}"
        assert ((arrays["opacity"] >= 0) & np.isfinite(arrays["opacity"])).all(), f"opacity at {at}"
    _same(walked[17], _arrays(jump, 17), "jump and walk")
    for count in (1, 2):
        with threads(count):
            _same(walked[between], _arrays(Solver(shot), between), f"{count} threads")
    _velocities(shot, walk)
    compositor = compositor_of(walk, 11, 1.0)
    picture = compositor.laid(None)
    assert np.isfinite(picture).all(), "picture"
    assert float(picture[..., 3].min()) >= -1e-5, "alpha below 0"
    assert float(picture[..., 3].max()) <= 1 + 1e-4, "alpha above 1"
    found = measured(compositor_of(walk, 11, 1.0))
    if all(e.blend == "normal" for e in shot.emitters):
        assert np.abs(found.cover - picture[..., 3]).max() < 2e-3, "cover and alpha"
    assert np.abs(sum(found.seen.values(), np.zeros_like(found.cover)) - found.cover).max() < 2e-3, "mattes and cover"
    assert np.isfinite(found.motion).all(), "motion"
    lookout(walk, 11)
    return True


def _velocities(shot: Shot, solver: Solver) -> None:
    """Where motion is smooth, velocity is the way that is seen in a short while around a moment."""
    smooth = not any(f.kind in LEAPS for f in shot.forces) and not shot.loop
    if not smooth or any(
        e.deformers or e.strand is not None or e.stays == "along" or e.speed_limit.value for e in shot.emitters
    ):
        return
    # Within a step of the lattice, away from its ends.
    middle, step = Fraction(2 * 24 + 1, 2 * shot.simulation_rate), Fraction(1, 5 * shot.simulation_rate)
    before, now, after = (_arrays(solver, middle + k * step) for k in (-1, 0, 1))
    kept = [
        np.isin(one["id"], before["id"]) & np.isin(one["id"], after["id"]) & np.isin(one["id"], now["id"])
        for one in (before, now, after)
    ]
    if not kept[1].any():
        return
    seen = (after["position"][kept[2]] - before["position"][kept[0]]) / float(2 * step)
    reported = now["velocity"][kept[1]]
    off = np.linalg.norm(seen - reported, axis=1)
    bound = 0.05 * np.linalg.norm(seen, axis=1) + 3.0
    assert float(np.median(off - bound)) <= 0, f"velocity {reported[:2]} and what is seen {seen[:2]}"


def explore(minutes: float) -> int:
    """Look at as many documents as fit into some minutes; how many fell, each printed."""
    until, number, fell = time.monotonic() + 60 * minutes, 0, 0
    while time.monotonic() < until:
        number += 1

        @seed(number)
        @settings(max_examples=200, deadline=None, database=None, suppress_health_check=list(HealthCheck))
        @given(documents())
        def one(document: dict[str, Any]) -> None:
            if time.monotonic() < until:
                try:
                    look(document)
                except Exception:
                    print(json.dumps(document), flush=True)
                    raise

        try:
            one()
        except Exception as error:
            fell += 1
            print(f"seed {number}: {type(error).__name__}: {str(error)[:300]}", flush=True)
    return fell


if __name__ == "__main__":
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("--minutes", type=float, default=30)
    sys.exit(1 if explore(asked.parse_args().minutes) else 0)
