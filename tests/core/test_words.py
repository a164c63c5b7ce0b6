"""Everything that a user reads: plain English, and a help text for every number."""

import re
import unittest
from collections.abc import Iterator
from typing import Any

from isbjorn.core.document import Shot
from tests.texts import ROOT, texts

# What a stranger has to read twice.
_DIALECT = re.compile(
    r"\bhangs? on\b|(?<!nyone )(?<!person )\b[Ww]ho\b|\b[Ll]ately\b|\b[Ss]o many\b|\b[Aa]new\b|\bbears?\b|\bthing before\b"
    r"|^Frame before|\bmeant from\b|\bgiven up\b|\bworked out\b|\bgives? birth\b|\b[Tt]ells?\b|\btold\b|\bthere is no such\b"
    r"|\bthis is no\b|\bnot there any more\b|\bknow of each other\b|\bfind room\b|\bgoes on\b"
    r"|\bbeside each other\b|\bIs there room\b"
)
# Values of the document's fields that come from its first version; the page shows them under other labels.
_VALUES = {"as it suits", "performed, in rounds", "over and over"}


def _choices(part: Any) -> Iterator[str]:
    """Every value of an enumeration in a schema."""
    if isinstance(part, dict):
        yield from (value for value in part.get("enum", []) if isinstance(value, str))
        for value in part.values():
            yield from _choices(value)
    elif isinstance(part, list):
        for value in part:
            yield from _choices(value)


class Schema(unittest.TestCase):
    def test_every_number_says_what_it_does_in_one_sentence(self) -> None:
        found = 0
        for name, model in Shot.model_json_schema()["$defs"].items():
            for field, value in model.get("properties", {}).items():
                spec = value.get("isbjorn")
                if not isinstance(spec, dict) or "unit" not in spec:
                    continue
                found += 1
                with self.subTest(f"{name}.{field}"):
                    self.assertRegex(spec.get("help") or "", r"^[A-Z0-9]\S*( \S+){2,}\.$")
        self.assertGreater(found, 150)


class Texts(unittest.TestCase):
    def test_all_of_them_are_plain(self) -> None:
        values = _VALUES | set(_choices(Shot.model_json_schema()))
        read = [text for text in texts() if text.text not in values]
        for kind, least in (("schema", 500), ("engine", 400), ("studio", 200), ("command line", 80), ("page", 400)):
            self.assertGreater(sum(text.kind == kind for text in read), least, kind)
        self.assertEqual([text for text in read if _DIALECT.search(text.text)], [])

    def test_so_are_the_documents(self) -> None:
        pages = [ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md"))]
        self.assertGreater(len(pages), 35)
        lines = [(page.name, line) for page in pages for line in page.read_text(encoding="utf-8").splitlines()]
        self.assertEqual([line for line in lines if _DIALECT.search(line[1])], [])


if __name__ == "__main__":
    unittest.main()
