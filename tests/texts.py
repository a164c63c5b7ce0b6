"""Every text that a user can read, as one table: `.venv/bin/python -m tests.texts > texts.tsv`.

Columns: where (file:line), kind (schema, engine, studio, command line, page), text. From Python: the strings of three words and
more that are not docstrings, with `{…}` for values, and the titles, labels and help texts of the schema. From the page: the text
between tags, and quoted strings that begin with a capital letter or have three words.
"""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

ROOT = Path(__file__).parents[1]
_LABELS = {"title", "label", "help", "description", "about", "unit_label"}
# Signatures of kernels, SQL and patterns are for machines.
_MACHINE = re.compile(
    r"\w+\(.*\b[fiub][1248]\b|::1\]|^(SELECT|UPDATE|INSERT|DELETE|CREATE|PRAGMA|ALTER)\b|\(\?[:P<]|^\s*def "
)
_BETWEEN_TAGS = re.compile(r">([^<>{}=;]*[A-Za-z]{2}[^<>{}=;]*)<")
_QUOTED = re.compile(r"\"([^\"\n\\]+)\"|'([^'\n\\]+)'|`([^`\\]+)`")
_LABELLED = re.compile(r"(?:label|title|text|name|word)(?:=|: ?)$|', $")
_CODE = re.compile(r"^[,)\]]|^[a-z0-9_./:#@\-\[\]\s]*$|[{};]\s*$|^\s*(import|from) |^var\(|^M[\d ]|=>|\$\{?\w+\(")


class Text(NamedTuple):
    where: str
    kind: str
    text: str


def _kind(path: Path) -> str:
    parts = path.relative_to(ROOT).parts
    if parts[0] == "web":
        return "page"
    if "document" in parts:
        return "schema"
    return {"core": "engine", "studio": "studio", "bench": "command line"}.get(parts[1], "command line")


def _words(node: ast.expr) -> str | None:
    """A string or f-string as displayed, with `{…}` for a value."""
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        return node.value
    if isinstance(node, ast.JoinedStr):
        return "".join(str(v.value) if isinstance(v, ast.Constant) else "{…}" for v in node.values)
    return None


def python_texts(path: Path) -> Iterator[Text]:
    """The texts of a Python file."""
    tree = ast.parse(path.read_text(encoding="utf-8"))
    docstrings = {id(n.value) for n in ast.walk(tree) if isinstance(n, ast.Expr)}
    inside = {id(v) for n in ast.walk(tree) if isinstance(n, ast.JoinedStr) for v in n.values}
    labels = {id(k.value) for n in ast.walk(tree) if isinstance(n, ast.Call) for k in n.keywords if k.arg in _LABELS}
    for node in ast.walk(tree):
        if not isinstance(node, (ast.Constant, ast.JoinedStr)) or id(node) in docstrings | inside:
            continue
        text = _words(node)
        if text and not _MACHINE.search(text) and (id(node) in labels or text.strip().count(" ") >= 2):
            yield Text(f"{path.relative_to(ROOT)}:{node.lineno}", _kind(path), " ".join(text.split()))


def page_texts(path: Path) -> Iterator[Text]:
    """The texts of a file of the page."""
    content = re.sub(
        r"<!--.*?-->|/\*.*?\*/|(?m:^\s*//[^\n]*$)",
        lambda m: "\n" * m[0].count("\n"),
        path.read_text(encoding="utf-8"),
        flags=re.S,
    )
    markup = re.sub(r"<(script|style)\b.*?</\1>", lambda m: "\n" * m[0].count("\n"), content, flags=re.S)
    matches = [*_QUOTED.finditer(content), *(_BETWEEN_TAGS.finditer(markup) if path.suffix == ".svelte" else ())]
    for match in matches:
        text = " ".join(re.sub(r"\$\{[^}]*\}", "{…}", next(g for g in match.groups() if g)).split())
        source = content if match.re is _QUOTED else markup
        # A single word in quotes may be anything; it is a label where it says so.
        single = " " not in text and match.re is _QUOTED and not _LABELLED.search(source[: match.start()][-12:])
        if text and not single and not _CODE.search(text) and (text[0].isupper() or text.count(" ") >= 2):
            yield Text(f"{path.relative_to(ROOT)}:{source.count(chr(10), 0, match.start()) + 1}", "page", text)


def texts() -> list[Text]:
    """Every text that a user can read."""
    python = [t for path in sorted((ROOT / "isbjorn").rglob("*.py")) for t in python_texts(path)]
    sources = sorted(
        p for p in (ROOT / "web" / "src").rglob("*") if p.suffix in (".svelte", ".ts") and p.name != "types.ts"
    )
    return python + [t for path in sources for t in page_texts(path)]


if __name__ == "__main__":
    print("\n".join("\t".join(text) for text in texts()))
