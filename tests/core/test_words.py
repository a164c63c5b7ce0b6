"""The words of the schema and of the page: plain English, and a help text for every number."""

import re
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from isbjorn.core.document import Shot

PAGE = Path(__file__).parents[2] / "web" / "src"
# What a stranger has to read twice.
_DIALECT = re.compile(
    r"\bhangs? on\b|\bwho\b|\bWho\b|\blately\b|\bso many\b|\bSo many\b|\banew\b|\bbears?\b|\bthing before\b|\bframe before\b"
    r"|\bmeant from\b|\bas it suits\b|\bgiven up\b|\bworked out\b"
)


def _described(part: Any, path: str = "") -> Iterator[tuple[str, str]]:
    """Every field of a schema with its title or description: path and text."""
    if isinstance(part, dict):
        if isinstance(part.get("description"), str):
            yield path, part["description"]
        for name, value in part.items():
            yield from _described(value, f"{path}/{name}")
    elif isinstance(part, list):
        for at, value in enumerate(part):
            yield from _described(value, f"{path}/{at}")


class Schema(unittest.TestCase):
    def setUp(self) -> None:
        self.schema = Shot.model_json_schema()

    def fields(self) -> Iterator[tuple[str, dict[str, Any]]]:
        for name, model in self.schema["$defs"].items():
            for field, value in model.get("properties", {}).items():
                yield f"{name}.{field}", value

    def test_every_number_says_what_it_does_in_one_sentence(self) -> None:
        found = 0
        for name, field in self.fields():
            spec = field.get("isbjorn")
            if not isinstance(spec, dict) or "unit" not in spec:
                continue
            found += 1
            with self.subTest(name):
                self.assertRegex(spec.get("help") or "", r"^[A-Z0-9]\S*( \S+){2,}\.$")
        self.assertGreater(found, 150)

    def test_nothing_in_it_is_dialect(self) -> None:
        texts = [(path, text) for path, text in _described(self.schema) if "/properties/" in path]
        texts += [
            (name, str(field["isbjorn"].get("help")))
            for name, field in self.fields()
            if isinstance(field.get("isbjorn"), dict)
        ]
        self.assertGreater(len(texts), 300)
        self.assertEqual([(path, text) for path, text in texts if _DIALECT.search(text)], [])


class Page(unittest.TestCase):
    def test_what_is_read_on_it_is_plain(self) -> None:
        # Texts between tags, and what labels, titles and hints say.
        shown = re.compile(
            r">\s*([A-Z][^<>{}]{3,})<|(?:title|label|hint|about|placeholder|name|text)(?:=|: ?)[\"'`]([^\"'`]{4,})[\"'`]"
        )
        found = []
        for file in sorted(PAGE.rglob("*.svelte")) + sorted((PAGE / "keys").glob("*.ts")):
            for match in shown.finditer(file.read_text()):
                text = match[1] or match[2]
                if _DIALECT.search(text):
                    found.append((file.name, " ".join(text.split())))
        self.assertEqual(found, [])


if __name__ == "__main__":
    unittest.main()
