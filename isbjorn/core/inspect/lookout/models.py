"""Checks of models: of bodies without light, and of sources without an inside."""

from __future__ import annotations

from isbjorn.core.document.models import ModelBody, ModelShape
from isbjorn.core.evaluate.solids import mesh_of_solid
from isbjorn.core.inspect.lookout.notes import Case, Checks, Mend, put


def open_source(case: Case) -> Checks:
    """Births inside a model that is not closed."""
    shape = case.emitter.shape
    if not isinstance(shape, ModelShape) or shape.births != "inside":
        return
    mesh = mesh_of_solid(shape)
    if mesh.is_closed and abs(mesh.volume) > 1e-6:
        return
    yield case.note(
        "open model", "the model is not closed, so it has no inside.",
        "Some edges belong to one face only: births inside it are uneven, and some are outside.", "hint",
        Mend(label="Births from its faces", changes=[put(f"{case.path}/shape/births", "faces")]),
    )  # fmt: skip


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


CHECKS = (open_source, unlit_body)
