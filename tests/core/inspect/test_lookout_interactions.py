"""Notes of the Lookout about interacting particles, and that their remedies work."""

import unittest
from typing import Any

import jsonpatch

from isbjorn.core.document.files import parse_shot
from isbjorn.core.frame import Solver
from isbjorn.core.inspect.lookout import Note, lookout


def given(force: dict[str, Any], emitter: dict[str, Any], **more: Any) -> dict[str, Any]:
    forces = [force, *more.pop("forces", [])]
    links = [{"force": f["id"], "emitter": "e"} for f in forces]
    return {"emitters": [{"id": "e", **emitter}], "forces": forces, "links": links, **more}


class Crowds(unittest.TestCase):
    def notes(self, shot: dict[str, Any], frame: int = 20) -> dict[str, Note]:
        return {note.kind: note for note in lookout(Solver(parse_shot(shot)), frame)}

    def mended(self, shot: dict[str, Any], kind: str, frame: int = 20) -> Note:
        found = self.notes(shot, frame)
        self.assertIn(kind, found)
        note = found[kind]
        assert note.mend is not None
        whole = parse_shot(shot).model_dump(mode="json")
        self.assertNotIn(kind, self.notes(jsonpatch.JsonPatch(note.mend.changes).apply(whole), frame))
        return note

    def test_a_crowd_does_not_come_round(self) -> None:
        flock = {"kind": "flock", "id": "f"}
        self.mended(given(flock, {"rate": 40, "lifespan": 2}, loop=True), "interaction in a loop")
        self.assertNotIn("interaction in a loop", self.notes(given(flock, {"rate": 40, "lifespan": 2})))

    def test_a_box_that_is_too_full(self) -> None:
        box = {
            "kind": "surface",
            "id": "box",
            "shape": "box",
            "side": "inside",
            "width": 200,
            "height": 150,
            "deep": 4000,
        }
        body = {"rate": 0, "bursts": [{"count": 120}], "lifespan": 0, "size": {"value": 24, "spread": 0}, "speed": 0,
                "shape": {"kind": "rectangle", "width": 150, "height": 100}}  # fmt: skip
        note = self.mended(given({"kind": "push", "id": "p"}, body, forces=[box]), "too full", 6)
        self.assertIn("181 %", note.what)

    def test_a_fill_that_has_no_room(self) -> None:
        for shape, fill, enough in (
            ({"kind": "rectangle", "width": 200, "height": 90}, 95, 80), ({"kind": "disc", "radius": 60, "fill": "edge"}, 90, 70),
            ({"kind": "sphere", "radius": 40}, 70, 50),
        ):  # fmt: skip
            body = {"rate": 0, "bursts": [{"fill": fill}], "lifespan": 0, "size": 12, "speed": 0, "shape": shape}
            with self.subTest(shape=shape):
                self.assertIn(f"{fill} %", self.mended(given({"kind": "push", "id": "p"}, body), "no room").what)
                fits = given({"kind": "push", "id": "p"}, {**body, "bursts": [{"fill": enough}]})
                self.assertNotIn("no room", self.notes(fits))
                self.assertNotIn("no room", self.notes(given({"kind": "flock", "id": "p"}, body)))

    def test_a_contagion_that_cannot_spread_and_why(self) -> None:
        field = {
            "rate": 0, "bursts": [{"count": 60}], "lifespan": 0, "speed": 0, "spacing": "even",
            "shape": {"kind": "rectangle", "width": 400, "height": 300},
        }  # fmt: skip
        for reported, word in (
            ({"seed_first": 0}, "No particle is infected"), ({"radius": 3}, "reaches only 3 px"), ({"pace": 0}, "speed is 0"),
            ({"seed_first": 0, "seeds": "z"}, "seed zone"),
        ):  # fmt: skip
            with self.subTest(word):
                zones = [{"id": "z", "across": 5000, "radius": 10}]
                shot = given({"kind": "contagion", "id": "c", "radius": 90, **reported}, field, zones=zones)
                self.assertIn(word, self.mended(shot, "cannot spread").why)
        fine = given({"kind": "contagion", "id": "c", "radius": 90}, field)
        self.assertNotIn("cannot spread", self.notes(fine))

    def test_more_neighbours_than_are_looked_at(self) -> None:
        body = {
            "rate": 0,
            "bursts": [{"count": 4000}],
            "lifespan": 0,
            "shape": {"kind": "disc", "radius": 60},
            "speed": 0,
        }
        wide = given({"kind": "cohesion", "id": "f", "radius": 50, "strength": 0, "viscosity": 0}, body)
        self.mended(wide, "too many neighbours", 3)

    def test_a_flock_that_falls_into_one(self) -> None:
        body = {"rate": 0, "bursts": [{"count": 200}], "lifespan": 0, "shape": {"kind": "disc", "radius": 40}, "speed": 0,
                "size": 20}  # fmt: skip
        heap = {"kind": "flock", "id": "f", "separation": 0, "cohesion": 4000, "least_speed": 0, "alignment": 20}
        self.mended(given(heap, body), "collapsed", 60)


if __name__ == "__main__":
    unittest.main()
