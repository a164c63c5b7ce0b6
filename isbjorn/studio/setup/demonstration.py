"""Puts the demonstration project into a store that lacks it."""

from __future__ import annotations

import functools
import json
import os
import sys
from collections.abc import Callable
from dataclasses import asdict, dataclass, replace
from pathlib import Path

from isbjorn.core.document import Shot
from isbjorn.core.evaluate.external_files import digest_of
from isbjorn.core.media.read.plates import probe
from isbjorn.core.runtime.parallel import end_with
from isbjorn.demo import harbour, nights, seas
from isbjorn.demo.beacon import beacon
from isbjorn.demo.crowds import buoys, shoal
from isbjorn.demo.fountain import SQUARE_FRAMES, fountain, square
from isbjorn.demo.furnace import FURNACE_FRAMES, furnace, glass
from isbjorn.demo.geometry import Geometry, hull, town, write_geometry
from isbjorn.demo.kelp import REEF_FRAMES, kelp, reef
from isbjorn.demo.lanterns import lanterns
from isbjorn.demo.lights import net_lights, rime, skarvoy
from isbjorn.demo.music import write_music
from isbjorn.demo.northern import northern
from isbjorn.demo.paint import Painter, write_movie
from isbjorn.demo.ribbon import ribbon
from isbjorn.demo.rooftops import ROOFTOPS_FRAMES, rooftops, rooftops_plate
from isbjorn.demo.shots import bow_wave, breath, plankton
from isbjorn.studio.context import only_one
from isbjorn.studio.project_api.setlist import Entry, SetList
from isbjorn.studio.setup.demo_note import PROJECT, DemoNote, demo_wanted, read_note, write_note
from isbjorn.studio.storage.store import Store
from isbjorn.studio.storage.tables import Media, unseen

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
    """A shot and the plate under it. led: it is led by the piece of music; model: the model that it uses, with its name."""

    shot: Callable[..., Shot]
    name: str
    file: str
    paint: Callable[[], Painter]
    frames: int
    led: bool = False
    model: tuple[str, Callable[[], Geometry]] | None = None

    def made(self, media: str, used: tuple[str, str]) -> Shot:
        """The shot over its plate. used: the name in the store and the digest of the music or model that it uses."""
        return self.shot(media, *used) if self.led or self.model is not None else self.shot(media)

    @functools.cached_property
    def title(self) -> str:
        """The name of the shot."""
        return self.made(f"{_FOLDER}/{self.file}", ("file", "0" * 64)).name


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
    _Scene(lanterns, "Pier at dusk", "pier-at-dusk.mp4", harbour.frames, harbour.FRAMES, model=("Hull", hull)),
    _Scene(rooftops, "Town at night", "town-at-night.mp4", rooftops_plate, ROOFTOPS_FRAMES, model=("Town", town)),
)


@dataclass(frozen=True)
class DemoScene:
    """A shot of the demonstration on its way: share of its plate that is painted, 0 to 1."""

    name: str
    share: float


class Painting:
    """Puts the demonstration into a store that lacks it, shot by shot in the order of the home page; an interrupted one continues
    (see `demo_note`)."""

    def __init__(self, store: Store, on_change: Callable[[Painting], object] | None = None) -> None:
        self.store, self._on_change = store, on_change
        self.note = read_note(store)
        self._painted: dict[str, int] = {}

    @property
    def scenes(self) -> list[DemoScene]:
        """The shots that are still to come."""
        return [DemoScene(scene.title, self._painted.get(scene.file, 0) / scene.frames) for scene in self._missing()]

    def _missing(self) -> list[_Scene]:
        made = self.note.made if self.note is not None else ()
        return [scene for scene in _SCENES if scene.title not in made]

    def paint(self, most: int | None = None) -> None:
        """Make what is missing, at most this many shots."""
        if not demo_wanted(self.store):
            return
        folder = self.store.media_folder / _FOLDER
        folder.mkdir(exist_ok=True)
        if self.note is None:
            self._keep_note(DemoNote(self.store.create_project(PROJECT).id or 0))
        self._changed()
        heard = self._heard()
        for scene in self._missing()[:most]:
            self._make(scene, heard if scene.model is None else self._model(*scene.model))
        if not self._missing() and self.note is not None:
            self._keep_set_list()
            self._keep_note(replace(self.note, complete=True))

    @property
    def project(self) -> int:
        """The id of the project."""
        assert self.note is not None
        return self.note.project

    def _used(self, name: str, file: str, kind: str, write: Callable[[Path], None]) -> tuple[str, str]:
        """What shots use besides their plates: its name in the store, and its digest. An interrupted one is written again."""
        media = f"{_FOLDER}/{file}"
        path = self.store.media_folder / media
        if not path.is_file():
            partial = path.with_name(f".{path.name}")
            write(partial)
            partial.replace(path)
        if not self._has(media):
            self.store.add_media(unseen(self.project, name, media, kind, path.stat().st_size))
        return media, digest_of(path)

    def _heard(self) -> tuple[str, str]:
        return self._used("Night music", "night-music.wav", "sound", write_music)

    def _model(self, name: str, made: Callable[[], Geometry]) -> tuple[str, str]:
        return self._used(name, f"{name.lower()}.npz", "model", lambda path: write_geometry(path, made()))

    def _make(self, scene: _Scene, used: tuple[str, str]) -> None:
        media = f"{_FOLDER}/{scene.file}"
        path = self.store.media_folder / media

        def painted() -> None:
            self._painted[scene.file] = self._painted.get(scene.file, 0) + 1
            self._changed()

        if not path.is_file():
            write_movie(path, scene.paint(), scene.frames, painted)
        self._painted[scene.file] = scene.frames
        if not self._has(media):
            facts = probe(str(path)) | {"bytes": path.stat().st_size}
            self.store.add_media(Media(project_id=self.project, name=scene.name, media=media, **facts))
        # Interrupted between the shot and the note, it would be made twice.
        if scene.title not in {self.store.document(row.id or 0).name for row in self.store.shots(self.project)}:
            self.store.create_shot(self.project, scene.made(media, used))
        assert self.note is not None
        self._keep_note(replace(self.note, made=(*self.note.made, scene.title)))
        self._changed()

    def _has(self, media: str) -> bool:
        return any(one.media == media for one in self.store.media(self.project))

    def _keep_set_list(self) -> None:
        by_name = {self.store.document(row.id or 0).name: row.id or 0 for row in self.store.shots(self.project)}
        entries = [
            Entry(shot=by_name[name], fade_s=fade_s, address=f"/desk/pad/{pad}")
            for pad, (name, fade_s) in enumerate(_EVENING, 1)
            if name in by_name
        ]
        self.store.keep_set_list(self.project, SetList(entries=entries).model_dump_json())

    def _keep_note(self, note: DemoNote) -> None:
        self.note = note
        write_note(self.store, note)

    def _changed(self) -> None:
        if self._on_change:
            self._on_change(self)


def ensure_demo(folder: Path) -> None:
    """Make the demonstration in a folder of no other studio. Raises Locked when one, or another that paints, works there."""
    store = Store(folder)
    try:
        if demo_wanted(store):
            holding = only_one(folder)
            try:
                # Another may just have painted it.
                Painting(store).paint()
            finally:
                os.close(holding)
    finally:
        store.engine.dispose()


def main() -> None:
    """Paint for a studio that runs in a folder, beside it: FOLDER [MOST]. A line of JSON for each change. It ends with the
    studio."""
    end_with(os.getppid())
    os.nice(10)

    def report(painting: Painting) -> None:
        print(json.dumps([asdict(scene) for scene in painting.scenes]), flush=True)

    folder, *most = sys.argv[1:]
    Painting(Store(Path(folder)), report).paint(*map(int, most))


if __name__ == "__main__":
    main()
