"""Which emitters spawn particles of which others."""

from __future__ import annotations

from typing import TYPE_CHECKING

from pydantic_core import PydanticCustomError

if TYPE_CHECKING:
    from isbjorn.core.document.model.shot import Shot


def check_bearing(shot: Shot) -> None:
    """Raise a PydanticCustomError for emitters that would spawn each other, or cannot be simulated before those that they spawn.

    Emitters that an interaction reaches are simulated as one; each of these must come after its parents.
    """
    emitters = {e.id: e for e in shot.emitters}
    bears = {e.id: e.born_of for e in shot.emitters if e.born_of in emitters}
    if not bears:
        return
    # Emitters that are simulated as one have one name: that of the first.
    one = {name: name for name in emitters}
    for force in shot.forces:
        if not force.on or force.stage != "interaction":
            continue
        met = [e.id for e in shot.emitters if force in shot.reaching(e)]
        names = {one[name] for name in met}
        for name, mine in one.items():
            if mine in names:
                one[name] = min(names)
    before: dict[str, set[str]] = {}
    for child, parent in bears.items():
        before.setdefault(one[child], set()).add(one[parent or ""])
    for child, parent in bears.items():
        todo, seen = [one[parent or ""]], set()
        while todo:
            at = todo.pop()
            if at == one[child]:
                words = {"c": emitters[child].name, "p": emitters[parent or ""].name}
                if one[child] == one[parent or ""] and child != parent:
                    raise PydanticCustomError(
                        "born_together",
                        "{c} is born of {p}: what acts between particles cannot reach both; take one of them out of its reach",
                        words,
                    )
                raise PydanticCustomError(
                    "born_round", "{c} would spawn itself through {p}; select another parent", words
                )
            if at not in seen:
                seen.add(at)
                todo += before.get(at, ())
