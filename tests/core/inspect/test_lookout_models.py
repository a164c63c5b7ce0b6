"""Notes of the Lookout about models, and that their remedies work."""

import unittest
from typing import Any

from isbjorn.core.document import Shot
from isbjorn.core.document.editing.patching import patched
from isbjorn.core.frame import Solver
from isbjorn.core.inspect.lookout import lookout


def shot(world: dict[str, Any] | None = None, **more: Any) -> Shot:
    return Shot.model_validate({"emitters": [{"id": "e", "rate": 40, "size": 40} | more], **(world or {})})


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
        self.mended(shot(reaching), "open container")

    def test_no_place_is_in_an_open_zone(self) -> None:
        zone = {"id": "z", "shape": "model", "model": {"form": "card"}}
        wind = {"kind": "wind", "id": "w", "zone": "z"}
        reaching = {"zones": [zone], "forces": [wind], "links": [{"force": "w", "emitter": "e"}]}
        self.mended(shot(reaching), "open container")
        reaching["zones"] = [zone | {"model": {"form": "gem"}}]
        closed = shot(reaching)
        self.assertNotIn("open container", {n.kind for n in lookout(Solver(closed), 30)})

    def test_many_faces_are_said(self) -> None:
        fine = {"kind": "model", "form": "ball", "detail": 5}
        self.mended(shot(body=fine, rate=400, lifespan=2), "many faces")

    def test_a_model_beside_the_picture_hides_nothing(self) -> None:
        matte = {"id": "m", "kind": "model", "across": 9000}
        self.mended(shot({"mattes": [matte]}, hidden_by=["m"]), "model outside")

    def test_particles_before_a_model_are_not_said_to_be_hidden(self) -> None:
        for depth, hidden in ((200, False), (-400, True)):
            matte = {"id": "m", "kind": "model", "size": 300, "feather": 0}
            world = {"mattes": [matte], "camera": {"kind": "perspective"}}
            given = shot(world, hidden_by=["m"], depth=depth, speed=5, spread=360)
            kinds = {n.kind for n in lookout(Solver(given), 30)}
            self.assertEqual("nothing visible" in kinds, hidden)

    def test_a_model_that_is_seen_is_looked_for_in_the_picture(self) -> None:
        self.mended(shot({"mattes": [{"id": "m", "kind": "model", "across": 9000, "visible": True}]}), "model outside")

    def test_a_model_that_nothing_shines_on_catches_no_light(self) -> None:
        matte = {"id": "m", "kind": "model", "catches": 100}
        self.mended(shot({"mattes": [matte]}), "no light to catch")
        for lit in (shot({"mattes": [matte]}, hidden_by=["m"]), shot({"mattes": [matte | {"lit_by": ["e"]}]})):
            self.assertNotIn("no light to catch", {n.kind for n in lookout(Solver(lit), 30)})

    def test_a_source_without_colours_gives_none(self) -> None:
        for shape in ({"kind": "point"}, {"kind": "model"}):
            self.mended(shot(shape=shape, colour_by="source"), "colourless source")

    def test_a_model_without_any_light_is_black(self) -> None:
        dark = {"kind": "model", "material": "metal", "surroundings": "none"}
        self.mended(shot(body=dark), "black model")
        lit = shot(body=dark).model_dump() | {"lights": [{"id": "l"}]}
        self.assertNotIn("black model", {n.kind for n in lookout(Solver(Shot.model_validate(lit)), 30)})


if __name__ == "__main__":
    unittest.main()
