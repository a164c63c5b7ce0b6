"""Puts the demonstration project into a store that has none."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from isbjorn.core.media.plates import probe
from isbjorn.demo.beacon import beacon
from isbjorn.demo.harbour import FRAMES, write_plate
from isbjorn.studio.store import Store
from isbjorn.studio.tables import Media

PROJECT = "Skarvøy Lights"
_PLATE = "skarvoy/pier-at-dusk.mp4"


def ensure_demo(folder: Path, progress: Callable[[int, int], None] | None = None) -> None:
    """Make the project Skarvøy Lights with its plate, unless the store holds any project."""
    store = Store(folder)
    try:
        if store.projects():
            return
        plate = store.media_folder / _PLATE
        plate.parent.mkdir(exist_ok=True)
        if not plate.is_file():
            write_plate(plate, (lambda n: progress(n + 1, FRAMES)) if progress else None)
        project = store.create_project(PROJECT)
        facts = probe(str(plate))
        store.add_media(
            Media(
                project_id=project.id or 0,
                name="Pier at dusk",
                media=_PLATE,
                bytes=plate.stat().st_size,
                **facts,
            )
        )
        store.create_shot(project.id or 0, beacon(_PLATE))
    finally:
        store.engine.dispose()
