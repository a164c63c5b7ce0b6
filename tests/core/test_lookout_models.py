"""Notes of the Lookout about models, and that their remedies work."""

import unittest
from typing import Any

from isbjorn.core.document import Shot
from isbjorn.core.document.patching import patched
from isbjorn.core.frame import Solver
from isbjorn.core.inspect.lookout import lookout


def shot(**more: Any) -> Shot:
    return Shot.model_validate({"emitters": [{"id": "e", "rate": 40, "size": 40} | more]})


class Notes(unittest.TestCase):
    def mended(self, given: Shot, kind: str) -> None:
        """A note of a kind is there, and gone when its remedy is applied."""
        note = next(n for n in lookout(Solver(given), 30) if n.kind == kind)
        assert note.mend is not None
        after = patched(given, note.mend.changes)
        self.assertNotIn(kind, {n.kind for n in lookout(Solver(after), 30)})

    def test_an_open_model_has_no_inside(self) -> None:
        self.mended(shot(shape={"kind": "model", "form": "card", "births": "inside"}), "open model")
        closed = shot(shape={"kind": "model", "form": "ball", "births": "inside"})
        self.assertNotIn("open model", {n.kind for n in lookout(Solver(closed), 30)})

    def test_an_open_surface_holds_nothing(self) -> None:
        surface = {"kind": "surface", "id": "s", "shape": "model", "side": "inside", "model": {"form": "card"}}
        reaching = {"forces": [surface], "links": [{"force": "s", "emitter": "e"}]}
        self.mended(Shot.model_validate(shot().model_dump() | reaching), "open container")

    def test_no_place_is_in_an_open_zone(self) -> None:
        zone = {"id": "z", "shape": "model", "model": {"form": "card"}}
        wind = {"kind": "wind", "id": "w", "zone": "z"}
        reaching = {"zones": [zone], "forces": [wind], "links": [{"force": "w", "emitter": "e"}]}
        self.mended(Shot.model_validate(shot().model_dump() | reaching), "open container")
        reaching["zones"] = [zone | {"model": {"form": "gem"}}]
        closed = Shot.model_validate(shot().model_dump() | reaching)
        self.assertNotIn("open container", {n.kind for n in lookout(Solver(closed), 30)})

    def test_a_model_without_any_light_is_black(self) -> None:
        dark = {"kind": "model", "material": "metal", "surroundings": "none"}
        self.mended(shot(body=dark), "black model")
        lit = shot(body=dark).model_dump() | {"lights": [{"id": "l"}]}
        self.assertNotIn("black model", {n.kind for n in lookout(Solver(Shot.model_validate(lit)), 30)})


if __name__ == "__main__":
    unittest.main()
