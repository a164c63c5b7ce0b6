"""The handbook: every label that it names is in the interface, and every recipe ends with its picture."""

import re
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

from isbjorn.core.media.read.stills import read_still
from tests.recipes import HANDBOOK, SCHEMA, draw, readable, recipes, steps
from tests.texts import texts

# Parts that every text of the handbook may name: things that the steps of a recipe have named themselves.
_NAMED = re.compile(r"rename it to `([^`]+)`|[Aa]dd (?:\*\*)?(?:an? )?\*\*([^*]+)\*\*")


def _labels() -> set[str]:
    """What the page shows on or beside a control."""
    found = {text.text for text in texts() if text.kind in ("page", "schema", "engine")}
    for model in SCHEMA.values():
        found.add(model.get("isbjorn", {}).get("title", ""))
        for name, field in model.get("properties", {}).items():
            found.add(field.get("title", name.capitalize()))
            kinds: list[Any] = [*field.get("enum", []), field.get("const", "")]
            found |= {readable(kind) for kind in kinds if isinstance(kind, str) and kind}
    return {one.strip() for one in found}


class Labels(unittest.TestCase):
    def test_every_label_that_is_named_is_in_the_interface(self) -> None:
        labels = _labels()
        missing = []
        for path in sorted(HANDBOOK.rglob("*.md")):
            text = path.read_text(encoding="utf-8")
            own = {name for pair in _NAMED.findall(text) for name in pair} | {"First emitter", "Shot"}
            for label in re.findall(r"\*\*([^*]+)\*\*", text):
                if label not in labels | own:
                    missing.append((path.name, label))
        self.assertEqual(missing, [])


class Recipes(unittest.TestCase):
    def test_there_is_one_for_each_kind_of_work(self) -> None:
        self.assertEqual([path.name[:2] for path in recipes()], [f"{n:02}" for n in range(1, 21)])
        for path in recipes():
            self.assertGreater(len(steps(path)), 8, path.name)
            self.assertIn("## Common mistakes", path.read_text(encoding="utf-8"))

    def test_following_one_ends_with_its_picture(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for path in recipes():
                with self.subTest(path.stem):
                    shown = np.asarray(read_still(HANDBOOK / "pictures" / f"{path.stem}.png")[0], np.float64)
                    drawn = np.asarray(read_still(draw(path, Path(folder)))[0], np.float64)
                    self.assertEqual(drawn.shape, shown.shape)
                    self.assertGreater(float(shown[..., :3].std()), 3, "it shows something")
                    self.assertLess(float(np.abs(drawn - shown).mean()), 0.5, "run python -m tests.recipes and look")


if __name__ == "__main__":
    unittest.main()
