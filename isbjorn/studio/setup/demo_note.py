"""What of the demonstration is made: the note that it leaves in the data folder, so that a shot that the user deletes stays
deleted, and a preparation that was interrupted continues."""

from __future__ import annotations

import json
from contextlib import suppress
from dataclasses import asdict, dataclass
from pathlib import Path

from isbjorn.core.runtime.whole import replace_whole
from isbjorn.studio.storage.store import Store

PROJECT = "Skarvøy Lights"


@dataclass(frozen=True)
class DemoNote:
    """The project's id, the names of the shots that are made, and whether all are."""

    project: int
    made: tuple[str, ...] = ()
    complete: bool = False


def _path(store: Store) -> Path:
    return store.folder / "demo.json"


def read_note(store: Store) -> DemoNote | None:
    """What is made; None if nothing is."""
    with suppress(OSError, ValueError, KeyError, TypeError):
        noted = json.loads(_path(store).read_text())
        return DemoNote(int(noted["project"]), tuple(map(str, noted["made"])), bool(noted["complete"]))
    return None


def write_note(store: Store, note: DemoNote) -> None:
    """Note what is made."""
    replace_whole(_path(store), json.dumps(asdict(note)).encode())


def demo_wanted(store: Store) -> bool:
    """Whether anything is to be made: the store holds no project yet, or the demonstration in part."""
    there, note = {project.id for project in store.projects()}, read_note(store)
    return note.project in there and not note.complete if note is not None else not there
