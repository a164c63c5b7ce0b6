"""Variations: what may change, by how much, and which looks are offered."""

import unittest

import numpy as np

from isbjorn.core import IsbjornError
from isbjorn.core.document.editing.patching import patched
from isbjorn.core.explore.number_at import number_at
from isbjorn.core.explore.variations import candidates, changeable, changes_to, diverse, signature
from tests.shots import one_emitter


class Candidates(unittest.TestCase):
    def setUp(self) -> None:
        self.shot = one_emitter(emitter={"size": {"value": 10, "spread": 2}, "spin": 40})

    def test_places_do_not_vary_and_locks_hold(self) -> None:
        paths = [number.path for number, _ in changeable(self.shot, "e")]
        self.assertIn("/emitters/0/rate", paths)
        self.assertNotIn("/emitters/0/across", paths)
        locked = {"/emitters/0/rate", "/emitters/0/size"}
        for values in candidates(self.shot, "e", locked, 1, 3, 50):
            self.assertFalse(locked & set(values))

    def test_a_seed_gives_the_same_and_another_seed_others(self) -> None:
        first = candidates(self.shot, "e", (), 0.5, 7, 12)
        self.assertEqual(first, candidates(self.shot, "e", (), 0.5, 7, 12))
        self.assertNotEqual(first, candidates(self.shot, "e", (), 0.5, 8, 12))

    def test_every_candidate_is_a_valid_shot(self) -> None:
        for values in candidates(self.shot, "e", (), 1, 1, 40):
            after = patched(self.shot, changes_to(self.shot, values))
            self.assertEqual({path: number_at(after, path).value for path in values}, values)

    def test_strength_is_how_far_they_go(self) -> None:
        def farthest(strength: float) -> float:
            rates = [
                v["/emitters/0/rate"]
                for v in candidates(self.shot, "e", (), strength, 2, 300)
                if "/emitters/0/rate" in v
            ]
            return float(np.abs(np.log(np.array(rates) / 100)).max())

        self.assertLess(farthest(0.2), 0.45)
        self.assertGreater(farthest(1), 1.2)

    def test_offspring_have_each_number_of_either_parent(self) -> None:
        parents = [{"/emitters/0/spread": 11.0, "/emitters/0/size": 20.0}, {"/emitters/0/spread": 77.0}]
        numbers = {number.path for number, _ in changeable(self.shot, "e")}
        kept = numbers - {"/emitters/0/spin"}
        found = candidates(self.shot, "e", kept, 1, 4, 60, parents)
        self.assertEqual({values.get("/emitters/0/spread") for values in found}, {11.0, 77.0})
        self.assertEqual({values.get("/emitters/0/size") for values in found}, {None, 20.0})

    def test_a_group_varies_all_its_members(self) -> None:
        shot = one_emitter(emitter={"group": "g"}, groups=[{"id": "g"}])
        self.assertTrue(changeable(shot, "g"))

    def test_nothing_to_vary_is_said(self) -> None:
        with self.assertRaises(IsbjornError):
            changeable(self.shot, "nobody")
        every = [number.path for number, _ in changeable(self.shot, "e")]
        with self.assertRaises(IsbjornError):
            candidates(self.shot, "e", every, 1, 1, 4)


class Diversity(unittest.TestCase):
    def test_the_farthest_are_taken_first_and_no_twins(self) -> None:
        looks = np.array([[1.0, 0], [1.0, 0], [5.0, 0], [0, 4.0], [0.2, 0]])
        self.assertEqual(diverse(np.zeros(2), looks, 3).tolist(), [2, 3, 0])
        self.assertEqual(len(diverse(np.zeros(2), np.array([[3.0, 0], [3.0, 0], [0, 0]]), 3)), 1)

    def test_pictures_differ_by_what_is_seen(self) -> None:
        dark = np.zeros((90, 160, 3), np.uint8)
        left, right, faint = dark.copy(), dark.copy(), dark.copy()
        left[30:60, 20:60], right[30:60, 100:140], faint[30:60, 20:60] = 255, 255, 40
        far = np.linalg.norm(signature([left]) - signature([right]))
        near = np.linalg.norm(signature([left]) - signature([np.roll(left, 2, axis=1)]))
        self.assertGreater(far, 4 * near)
        self.assertGreater(np.linalg.norm(signature([left]) - signature([faint])), near)


if __name__ == "__main__":
    unittest.main()
