"""One of each sort of thing from a package elsewhere works in the engine without another file changed; and no file of the project
names a kind that is defined in another one."""

import ast
import json
import os
import re
import subprocess
import sys
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from isbjorn.core.document.fields.kinds import BODIES, FAMILIES, FORCES, Family
from isbjorn.core.errors import IsbjornError


def _answer_of(extensions: str, module: str = "tests.core.document.elsewhere") -> Any:
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

    def test_its_shape_gives_birth_by_the_plate_and_never_from_states_of_another_plate(self) -> None:
        dark, bright = self.reported["heights"]
        self.assertAlmostEqual(dark, 0, delta=1e-4)
        self.assertAlmostEqual(bright, 75, delta=1e-3)

    def test_its_deformer_leans_what_is_seen(self) -> None:
        self.assertAlmostEqual(self.reported["heeled"], 20, delta=1e-3)

    def test_its_interaction_gathers_those_that_it_reaches(self) -> None:
        apart, gathered = self.reported["widths"]
        self.assertGreater(apart, 250)
        self.assertLess(gathered, 0.9 * apart)

    def test_its_format_is_delivered(self) -> None:
        # One lozenge, 25 px above the middle; rows are counted from the top.
        self.assertAlmostEqual(float(self.reported["written"]), 25, delta=0.1)

    def test_its_check_is_among_the_notes_of_the_lookout(self) -> None:
        self.assertIn("ebb", self.reported["notes"])

    def test_its_force_is_priced_as_it_says(self) -> None:
        self.assertEqual(self.reported["weight"], 7.5)

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
        family.register("isbjorn.core.render.scene.bodies:star")(star)
        family.union()
        with self.assertRaisesRegex(IsbjornError, "registered too late"):
            family.register("tests.tidal.tide")(ring)


# Files that make documents of their own or describe common mistakes with a kind may name kinds.
_MAY_NAME = (
    "isbjorn/demo/", "isbjorn/bench/", "isbjorn/core/document/", "isbjorn/core/inspect/lookout/",
    "isbjorn/core/inspect/portrait.py", "isbjorn/core/warm_up.py",
)  # fmt: skip
# Engines of more than one file.
_SECOND_FILES = {"Contagion": ["isbjorn.core.simulate.interactions.static_contagion"]}


def _owners() -> tuple[dict[str, set[str]], dict[str, set[str]]]:
    """The modules that may name each model, and those that may name each kind by its word in the document."""
    models: dict[str, set[str]] = {}
    words: dict[str, set[str]] = {}
    for kind in (kind for family in FAMILIES.values() for kind in family):
        homes = {kind.engine.partition(":")[0], *_SECOND_FILES.get(kind.model.__name__, ())}
        models[kind.model.__name__] = homes
        for name in kind.names:
            words.setdefault(name, set()).update(homes)
    return models, words


def _compared(tree: ast.AST) -> Iterator[tuple[ast.Compare, str]]:
    """Comparisons of `….kind` of a thing that comes in registered kinds, with a word."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Compare) and isinstance(node.left, ast.Attribute) and node.left.attr == "kind":
            owner = ast.unparse(node.left.value).rpartition(".")[2]
            if owner in ("shape", "body", "force", "step", "deformer", "f", "e"):
                for word in (n.value for n in ast.walk(node) if isinstance(n, ast.Constant)):
                    yield node, str(word)


class OneFileEach(unittest.TestCase):
    def test_no_module_names_a_kind_of_another_one(self) -> None:
        models, words = _owners()
        found = []
        for path in sorted(Path("isbjorn").rglob("*.py")):
            if path.as_posix().startswith(_MAY_NAME):
                continue
            module, tree = ".".join(path.with_suffix("").parts), ast.parse(path.read_text())
            for node in ast.walk(tree):
                if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("isbjorn.core.document"):
                    named = [one.name for one in node.names if module not in models.get(one.name, {module})]
                    found += [f"{path}:{node.lineno} {name}" for name in named]
            found += [
                f"{path}:{n.lineno} {ast.unparse(n)}" for n, word in _compared(tree) if module not in words.get(word, {module})
            ]  # fmt: skip
        self.assertEqual(found, [], "ask for what the model says of itself instead")

    def test_no_part_of_the_page_names_a_kind(self) -> None:
        _, words = _owners()
        compared = re.compile(r"\b(?:shape|body|force|step|deformer|one)\.kind\s*[!=]==\s*'([^']+)'")
        found = [
            f"{path}: {match[0]}"
            for path in sorted(Path("web/src").rglob("*"))
            if path.suffix in (".svelte", ".ts") and path.name != "types.ts"
            for match in compared.finditer(path.read_text())
            if match[1] in words
        ]
        self.assertEqual(found, [], "ask for what the schema says of it instead")


if __name__ == "__main__":
    unittest.main()
