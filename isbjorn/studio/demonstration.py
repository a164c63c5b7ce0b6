"""Puts the demonstration project into a store that has none."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from isbjorn.core.document import Shot
from isbjorn.core.evaluate.outside import digest_of
from isbjorn.core.media.plates import probe
from isbjorn.demo import harbour, nights, seas
from isbjorn.demo.beacon import beacon
from isbjorn.demo.crowds import buoys, shoal
from isbjorn.demo.fountain import SQUARE_FRAMES, fountain, square
from isbjorn.demo.furnace import FURNACE_FRAMES, furnace, glass
from isbjorn.demo.kelp import REEF_FRAMES, kelp, reef
from isbjorn.demo.lights import net_lights, rime, skarvoy
from isbjorn.demo.music import write_music
from isbjorn.demo.northern import northern
from isbjorn.demo.paint import Painter, write_movie
from isbjorn.demo.ribbon import ribbon
from isbjorn.demo.shots import bow_wave, breath, plankton
from isbjorn.studio.context import only_one
from isbjorn.studio.setlist import Entry, SetList
from isbjorn.studio.store import Store
from isbjorn.studio.tables import Media, unseen

PROJECT = "Skarvøy Lights"
_FOLDER = "skarvoy"
# What comes onto the stage, over how many seconds; the pads of the desk of faders bring them.
_EVENING = (
    ("Northern lights, live", 2.0),
    ("Fountain on the square", 2.0),
    ("Plankton", 1.5),
    ("Net lights", 1.0),
    ("Beacon", 3.0),
)


@dataclass(frozen=True)
class _Scene:
    """A shot and the plate under it. led: it is led by the piece of music."""

    shot: Callable[..., Shot]
    name: str
    file: str
    paint: Callable[[], Painter]
    frames: int
    led: bool = False


_SCENES = (
    _Scene(beacon, "Pier at dusk", "pier-at-dusk.mp4", harbour.frames, harbour.FRAMES),
    _Scene(bow_wave, "Ferry at night", "ferry-at-night.mp4", seas.ferry, seas.FERRY_FRAMES),
    _Scene(breath, "Whale at dawn", "whale-at-dawn.mp4", seas.whale, seas.STILL_FRAMES),
    _Scene(plankton, "Oar", "oar.mp4", seas.oar, seas.OAR_FRAMES),
    _Scene(shoal, "Depths", "depths.mp4", seas.depths, seas.DEPTHS_FRAMES),
    _Scene(skarvoy, "Northern lights", "northern-lights.mp4", nights.aurora, nights.AURORA_FRAMES),
    _Scene(net_lights, "The quay", "quay.mp4", nights.quay, nights.QUAY_FRAMES),
    _Scene(buoys, "Crate", "crate.mp4", seas.crate, seas.STILL_FRAMES),
    _Scene(ribbon, "Breakwater", "breakwater.mp4", nights.breakwater, nights.QUAY_FRAMES),
    _Scene(rime, "A pane", "pane.mp4", nights.pane, nights.PANE_FRAMES),
    _Scene(fountain, "The square", "square.mp4", square, SQUARE_FRAMES, led=True),
    _Scene(glass, "The furnace", "furnace.mp4", furnace, FURNACE_FRAMES),
    _Scene(kelp, "Reef", "reef.mp4", reef, REEF_FRAMES),
    _Scene(northern, "Northern lights", "northern-lights.mp4", nights.aurora, nights.AURORA_FRAMES, led=True),
)


def ensure_demo(folder: Path, progress: Callable[[int, int], None] | None = None) -> None:
    """Make the project Skarvøy Lights with its plates, unless the store holds any project. Raises Locked when a studio, or another
    that paints, works in the folder."""
    store = Store(folder)
    try:
        if store.projects():
            return
        holding = only_one(folder)
        try:
            # Another may just have painted it.
            if not store.projects():
                _paint(store, progress)
        finally:
            os.close(holding)
    finally:
        store.engine.dispose()


def _paint(store: Store, progress: Callable[[int, int], None] | None) -> None:
    (store.media_folder / _FOLDER).mkdir(exist_ok=True)
    total, done = sum({scene.file: scene.frames for scene in _SCENES}.values()), 0

    def painted() -> None:
        nonlocal done
        done += 1
        if progress:
            progress(done, total)

    for scene in _SCENES:
        path = store.media_folder / _FOLDER / scene.file
        if not path.is_file():
            write_movie(path, scene.paint(), scene.frames, painted)
    music = f"{_FOLDER}/night-music.wav"
    write_music(store.media_folder / music)
    heard = music, digest_of(store.media_folder / music)
    project = store.create_project(PROJECT)
    taken: set[str] = set()
    shots: dict[str, int] = {}
    for scene in _SCENES:
        media = f"{_FOLDER}/{scene.file}"
        if media not in taken:
            path = store.media_folder / media
            facts = probe(str(path)) | {"bytes": path.stat().st_size}
            store.add_media(Media(project_id=project.id or 0, name=scene.name, media=media, **facts))
            taken.add(media)
        shot = scene.shot(media, *heard) if scene.led else scene.shot(media)
        shots[shot.name] = store.create_shot(project.id or 0, shot).id or 0
    size = (store.media_folder / music).stat().st_size
    store.add_media(unseen(project.id, "Night music", music, "sound", size))
    entries = [
        Entry(shot=shots[name], fade_s=fade_s, address=f"/desk/pad/{pad}")
        for pad, (name, fade_s) in enumerate(_EVENING, 1)
    ]
    store.keep_set_list(project.id or 0, SetList(entries=entries).model_dump_json())
