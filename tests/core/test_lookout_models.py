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

    def test_a_model_without_any_light_is_black(self) -> None:
        dark = {"kind": "model", "material": "metal", "surroundings": "none"}
        self.mended(shot(body=dark), "black model")
        lit = shot(body=dark).model_dump() | {"lights": [{"id": "l"}]}
        self.assertNotIn("black model", {n.kind for n in lookout(Solver(Shot.model_validate(lit)), 30)})


if __name__ == "__main__":
    unittest.main()
