"""Edits as JSON Patch: the same document as when all of it is written out, patched and checked; and what is untouched stays the
very object."""

import random
import unittest
from typing import Any

import jsonpatch
from jsonpointer import JsonPointerException

from isbjorn.core.document import Shot
from isbjorn.core.document.editing.patching import patched
from isbjorn.core.document.files import parse_shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.simulate.interactions.group import moves_differently
from isbjorn.demo.beacon import beacon

STEPS: list[dict[str, Any]] = [
    {"op": "replace", "path": "/emitters/1/size/value", "value": 7.5},
    {"op": "replace", "path": "/emitters/0/name", "value": "Smoke ~ / of it"},
    {"op": "add", "path": "/emitters/0/finish/-", "value": {"kind": "glow", "radius": 9}},
    {"op": "remove", "path": "/emitters/0/finish/0"},
    {"op": "add", "path": "/markers/-", "value": {"id": "new", "up": 40}},
    {"op": "replace", "path": "/markers/0", "value": {"id": "other", "across": 10}},
    {"op": "remove", "path": "/markers/0"},
    {"op": "replace", "path": "/camera/shutter", "value": {"value": 90}},
    {"op": "replace", "path": "/camera", "value": {"kind": "perspective"}},
    {"op": "replace", "path": "/name", "value": "Another"},
    {"op": "replace", "path": "/plate", "value": None},
    {"op": "add", "path": "/finish/0", "value": {"kind": "glow"}},
    {"op": "replace", "path": "/rate", "value": "30000/1001"},
    {"op": "add", "path": "/emitters/0", "value": {"id": "first"}},
    {"op": "replace", "path": "/emitters/0/rate", "value": {"value": 3, "keys": [{"at_s": 1, "value": 4}]}},
]  # fmt: skip


def in_full(shot: Shot, steps: list[dict[str, Any]]) -> Shot:
    """A patch of the document as data, all of which is checked."""
    return parse_shot(jsonpatch.JsonPatch(steps).apply(shot.model_dump(mode="json")))


class Patches(unittest.TestCase):
    def test_as_if_all_were_written_out(self) -> None:
        dice, shot = random.Random(4), beacon("plate.mp4")
        done = 0
        for _ in range(120):
            steps = dice.sample(STEPS, dice.randint(1, 4))
            try:
                wanted = in_full(shot, steps)
            except (jsonpatch.JsonPatchException, JsonPointerException, IsbjornError):
                with self.assertRaises(IsbjornError):
                    patched(shot, steps)
                continue
            got = patched(shot, steps)
            self.assertEqual(got, wanted, steps)
            self.assertEqual(got.model_dump_json(), wanted.model_dump_json())
            done += 1
        self.assertGreater(done, 60)

    def test_what_no_step_reaches_into_is_the_same_object(self) -> None:
        shot = beacon("plate.mp4")
        edited = patched(shot, [STEPS[0], STEPS[4]])
        self.assertIs(edited.emitters[0], shot.emitters[0])
        self.assertIsNot(edited.emitters[1], shot.emitters[1])
        self.assertIs(edited.camera, shot.camera)
        self.assertTrue(all(a is b for a, b in zip(edited.forces, shot.forces, strict=True)))
        self.assertEqual(shot, beacon("plate.mp4"))

    def test_errors_name_the_place(self) -> None:
        shot = beacon("plate.mp4")
        for path, value, where in (
            ("/emitters/0/size/value", -5, "emitters.0.size"),
            ("/emitters/0/nothing", 1, "/emitters/0/nothing"),
            ("/emitters/77/size/value", 1, "/emitters/77/size/value"),
            ("/links/0/emitter", "nobody", ""),
            ("nowhere", 1, "nowhere"),
            ("/markers/-/up", 1, "/markers/-/up"),
        ):
            with self.subTest(path), self.assertRaises(IsbjornError) as reported:
                patched(shot, [{"op": "replace", "path": path, "value": value}])
            self.assertIn(where, reported.exception.where)


class Restart(unittest.TestCase):
    def test_groups_that_must_be_stepped_from_the_first_birth_on(self) -> None:
        shot = parse_shot({
            "emitters": [{"id": "a", "rate": 20}, {"id": "b", "rate": 5}],
            "forces": [{"kind": "flock", "id": "f"}, {"kind": "gravity", "id": "g"}],
            "links": [{"force": "f", "emitter": "a"}, {"force": "g", "emitter": "b"}],
        })  # fmt: skip

        def after(path: str, value: Any) -> bool:
            return moves_differently(shot, patched(shot, [{"op": "replace", "path": path, "value": value}]))

        self.assertTrue(moves_differently(None, shot))
        self.assertFalse(moves_differently(shot, shot))
        self.assertFalse(after("/emitters/0/brightness/value", 50))
        self.assertFalse(after("/emitters/1/speed/value", 50))
        self.assertFalse(after("/forces/1/strength/value", 3))
        self.assertTrue(after("/emitters/0/speed/value", 50))
        self.assertTrue(after("/forces/0/radius/value", 50))
        self.assertTrue(after("/seed", 5))
        # Without an interaction none is.
        self.assertFalse(after("/links/0/force", "g"))
        self.assertFalse(after("/forces/0/on", False))


if __name__ == "__main__":
    unittest.main()
