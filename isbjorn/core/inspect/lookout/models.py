"""Checks of models: of bodies without light, and of sources without an inside."""

from __future__ import annotations

from typing import Any

from isbjorn.core.document.models import ModelBody, ModelShape
from isbjorn.core.evaluate.placed_models import is_open
from isbjorn.core.evaluate.solids import mesh_of_solid
from isbjorn.core.inspect.lookout.notes import Case, Checks, Mend, put


def open_source(case: Case) -> Checks:
    """Births inside a model that is not closed."""
    shape = case.emitter.shape
    if not isinstance(shape, ModelShape) or shape.births != "inside":
        return
    mesh = mesh_of_solid(shape)
    if mesh.has_inside:
        return
    yield case.note(
        "open model", "the model is not closed, so it has no inside.",
        "Some edges belong to one face only: births inside it are uneven, and some are outside.", "hint",
        Mend(label="Births from its faces", changes=[put(f"{case.path}/shape/births", "faces")]),
    )  # fmt: skip


def open_container(case: Case) -> Checks:
    """Surfaces and zones that need an inside, on models that are not closed."""
    shot = case.watch.shot
    reaching = shot.reaching(case.emitter)
    used = {f.zone for f in reaching}
    inside: list[tuple[str, Any]] = [
        (f"/forces/{n}", f) for n, f in enumerate(shot.forces) if f in reaching and getattr(f, "side", "") == "inside"
    ]
    inside += [(f"/zones/{n}", zone) for n, zone in enumerate(shot.zones) if zone.id in used]
    for path, thing in inside:
        if getattr(thing, "shape", "") != "model" or not is_open(thing.model):
            continue
        if path.startswith("/forces"):
            why = "Some edges belong to one face only, so it stops particles on both sides."
            mend = Mend(label="Free outside", changes=[put(f"{path}/side", "outside")])
        else:
            why = "Some edges belong to one face only, so no place is in the zone, and its forces act nowhere."
            mend = Mend(label="Make the zone a box", changes=[put(f"{path}/shape", "box")])
        yield case.note("open container", f"{thing.name} is not closed, so it has no inside.", why, "trouble", mend)


def unlit_body(case: Case) -> Checks:
    """A model whose material needs light, where there is none."""
    if any(lamp.on for lamp in case.watch.shot.lights):
        return
    e = case.emitter
    for n, body in enumerate((e.body, *e.mixed)):
        nothing = isinstance(body, ModelBody) and (
            body.surroundings == "none"
            or (body.surroundings == "picture" and not body.sky)
            or (body.surroundings == "plate" and case.watch.shot.plate is None)
        )
        if nothing and isinstance(body, ModelBody) and body.material not in ("glowing", "rim"):
            where = f"{case.path}/body" if n == 0 else f"{case.path}/mixed/{n - 1}"
            yield case.note(
                "black model", f"a model of {body.material} is black.",
                "Nothing lights it: it has no surroundings, and the shot has no light.", "hint",
                Mend(label="Surround it with a studio", changes=[put(f"{where}/surroundings", "studio")]),
            )  # fmt: skip
            return


CHECKS = (open_source, open_container, unlit_body)
