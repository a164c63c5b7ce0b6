"""Checks of models: of bodies without light, and of sources without an inside."""

from __future__ import annotations

from typing import Any

from isbjorn.core.document import Number
from isbjorn.core.document.parts.models import ModelBody, ModelShape
from isbjorn.core.evaluate.geometry.placed_models import is_open
from isbjorn.core.evaluate.geometry.solids import mesh_of_solid
from isbjorn.core.inspect.lookout.notes import Case, Checks, Mend, Note, Watch, put
from isbjorn.core.render.models.bodies import faces_of, has_models
from isbjorn.core.render.models.covers import seen_mattes, shining
from isbjorn.core.render.models.hold_out import hold_out

# Faces of a frame above which it is said.
_MANY_FACES = 1_500_000


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
        if thing.modelled is None or not is_open(thing.modelled[0]):
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


def many_faces(case: Case) -> Checks:
    """Bodies with so many faces that a frame takes long."""
    faces = faces_of(case.emitter) if has_models(case.emitter) else 0.0
    count = len(case.particles)
    if faces * count < _MANY_FACES:
        return
    e, small = case.emitter, float(case.particles.size.mean())
    bodies = [(f"{case.path}/body", e.body), *((f"{case.path}/mixed/{n}", one) for n, one in enumerate(e.mixed))]
    balls = [
        (path, body) for path, body in bodies if isinstance(body, ModelBody) and body.form == "ball" and body.detail > 1
    ]
    changes = [put(f"{path}/detail", 1) for path, _ in balls]
    yield case.note(
        "many faces", f"{count:,} models have {faces * count / 1e6:.1f} million faces in a frame.",
        f"They are {small:.0f} px large on the mean: much fewer faces look the same.", "hint",
        Mend(label="Use balls of 80 faces", changes=changes) if changes else None,
    )  # fmt: skip


def beside_the_picture(watch: Watch) -> Checks:
    """Models that are to hide particles, and are nowhere in the picture."""
    used = {name for e in watch.shot.emitters if e.on for name in e.hidden_by}
    used |= {matte.id for matte in seen_mattes(watch.shot)}
    for n, matte in enumerate(watch.shot.mattes):
        if not matte.on or matte.kind != "model" or matte.inverted or matte.id not in used:
            continue
        if hold_out(matte, watch.context).cover.any():
            continue
        yield Note(
            kind="model outside", thing=matte.id, level="hint", what=f"{matte.name}: the model is not in the picture.",
            why="It is neither seen nor hides anything on this frame: it is outside, behind the camera, or too small.",
            mend=Mend(label="Put it at the centre", changes=[
                put(f"/mattes/{n}/{field}", Number(value=0).model_dump(mode="json")) for field in ("across", "up", "depth")
            ]),
        )  # fmt: skip


def nothing_to_catch(watch: Watch) -> Checks:
    """Models on which the light of particles is to fall, and no emitter shines on them."""
    for n, matte in enumerate(watch.shot.mattes):
        wanted = matte.catches.value > 0 or matte.catches.timed
        emitters = [k for k, e in enumerate(watch.shot.emitters) if e.on]
        if not matte.on or matte.kind != "model" or not wanted or not emitters or shining(matte, watch.shot):
            continue
        hidden = watch.shot.emitters[emitters[0]].hidden_by
        yield Note(
            kind="no light to catch", thing=matte.id, level="hint", what=f"{matte.name} catches no light.",
            why="It hides no emitter, and is lit by none.",
            mend=Mend(label=f"Let it hide {watch.shot.emitters[emitters[0]].name}", changes=[
                put(f"/emitters/{emitters[0]}/hidden_by", [*hidden, matte.id]), put(f"/mattes/{n}/lit_by", [])
            ]),
        )  # fmt: skip


def colourless_source(case: Case) -> Checks:
    """Particles that take the colours of their source, which has none."""
    shape = case.emitter.shape
    if case.emitter.colour_by != "source":
        return
    if isinstance(shape, ModelShape) and mesh_of_solid(shape).paint is not None:
        return
    why = (
        "Its model has none." if isinstance(shape, ModelShape) else "Only models from files have colours of their own."
    )
    yield case.note(
        "colourless source", "the source has no colours, so particles are white.", why, "hint",
        Mend(label="Colour by age", changes=[put(f"{case.path}/colour_by", "age")]),
    )  # fmt: skip


CHECKS = (open_source, open_container, unlit_body, many_faces, colourless_source)
OF_SHOT = (beside_the_picture, nothing_to_catch)
