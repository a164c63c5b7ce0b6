"""Names of delivered files, with tokens; and what is there already."""

from __future__ import annotations

import os
import re
from pathlib import Path

from isbjorn.core.errors import IsbjornError

TOKENS = ("project", "shot", "version", "pass", "frame")
_TOKEN = re.compile(r"\{([^{}]*)\}")
_UNFIT = re.compile(r'[/\\:*?"<>|\x00-\x1f]+')
MOST_VERSIONS = 9999


def check(name: str) -> None:
    """Raise IsbjornError for a token that there is not."""
    for token in _TOKEN.findall(name):
        if token not in TOKENS:
            raise IsbjornError(
                f"the token {{{token[:40]}}} does not exist.", "name", "Use one of {" + "}, {".join(TOKENS) + "}."
            )


def fit(text: str) -> str:
    """A name as a part of a file's name."""
    return _UNFIT.sub("-", text).strip(". ") or "untitled"


def filled(name: str, **given: str) -> str:
    """A name with some of its tokens filled in; the others stay."""
    return _TOKEN.sub(lambda hit: given.get(hit[1], hit[0]), name)


def number_text(frame: int, padding: int) -> str:
    return f"{frame:0{padding}d}" if frame >= 0 else f"-{-frame:0{padding}d}"


def numbered(name: str, frame: int | None, padding: int, layer: str = "") -> str:
    """The name of a file, without its ending: of a movie where there is no frame."""
    name = filled(name, **{"pass": layer or "beauty"})
    if frame is None:
        return re.sub(r"[._-]?\{frame\}", "", name) or "untitled"
    text = number_text(frame, padding)
    return filled(name, frame=text) if "{frame}" in name else f"{name}.{text}"


def names_in(folder: Path) -> frozenset[str]:
    """The names of the files in a folder; none if it is not there."""
    try:
        return frozenset(entry.name for entry in os.scandir(folder))
    except OSError:
        return frozenset()


def version_text(number: int) -> str:
    return f"{number:03d}"
