"""A force, a body and a step of the finish from a package elsewhere work in the engine without another file changed."""

import json
import os
import subprocess
import sys
import unittest
from typing import Any

from isbjorn.core.document.kinds import BODIES, FAMILIES, FORCES, Family
from isbjorn.core.errors import IsbjornError


def _answer_of(extensions: str, module: str = "tests.core.elsewhere") -> Any:
    env = os.environ | {"ISBJORN_EXTENSIONS": extensions}
    return subprocess.run([sys.executable, "-m", module], env=env, capture_output=True, text=True, check=False)


class FromElsewhere(unittest.TestCase):
    reported: dict[str, Any]

    @classmethod
    def setUpClass(cls) -> None:
        answer = _answer_of("tests.tidal")
        assert answer.returncode == 0, answer.stderr
        cls.reported = json.loads(answer.stdout)

    def test_its_force_moves_particles_as_it_says(self) -> None:
        # 80 px/s² at 50 px, reached at 25 px for two seconds: x = a t² / 2.
        self.assertAlmostEqual(self.reported["x"], 0.5 * 40 * 2**2, delta=1e-3)
        self.assertEqual(self.reported["y"], 25)

    def test_its_force_is_seen_with_lines_arrows_and_a_grip(self) -> None:
        self.assertEqual(self.reported["lines"], 2)
        self.assertGreater(self.reported["arrows"], 20)
        self.assertEqual(self.reported["grips"], ["Place", "Ring"])
        self.assertEqual(self.reported["tide"]["menu"], "Of the sea")

    def test_its_body_is_drawn_and_its_step_dims_it(self) -> None:
        # A lozenge is half of its square.
        self.assertAlmostEqual(self.reported["light"] / (40**2 / 2), 1, delta=0.03)
        self.assertAlmostEqual(self.reported["dimmed"], 0.25, delta=1e-3)

    def test_a_shot_with_it_is_read_again(self) -> None:
        self.assertTrue(self.reported["again"])

    def test_one_that_is_not_there_is_named(self) -> None:
        answer = _answer_of("nowhere_to_be_found")
        self.assertNotEqual(answer.returncode, 0)
        self.assertIn("the extension 'nowhere_to_be_found' cannot be imported", answer.stderr)


class Registry(unittest.TestCase):
    def test_every_kind_has_an_engine_a_title_and_one_word(self) -> None:
        for family in FAMILIES.values():
            names = [name for kind in family for name in kind.names]
            self.assertEqual(len(names), len(set(names)))
            for kind in family:
                self.assertIsNotNone(kind.made)
                self.assertTrue(kind.model.model_json_schema()["title"])
                self.assertIs(family.named(kind.names[0]), kind)

    def test_one_that_comes_too_late_or_takes_a_word_is_refused(self) -> None:
        gravity = FORCES.named("gravity")
        assert gravity is not None
        with self.assertRaisesRegex(IsbjornError, "'gravity' already"):
            FORCES.register("tests.tidal.tide")(gravity.model)
        family = Family("body")
        ring, star = (next(kind.model for kind in BODIES if name in kind.names) for name in ("ring", "star"))
        family.register("isbjorn.core.render.bodies:star")(star)
        family.union()
        with self.assertRaisesRegex(IsbjornError, "registered too late"):
            family.register("tests.tidal.tide")(ring)


if __name__ == "__main__":
    unittest.main()
