"""A project as one zip: `project.json`, `shots/*.json` and `versions/*.json` by the published schema, `media/`.

The round trip is exact.
"""

from __future__ import annotations

import json
import secrets
import shutil
import zipfile
from pathlib import Path, PurePosixPath
from typing import Any

from isbjorn.core.document import Shot
from isbjorn.core.document.files import parse_shot, shot_from_text, shot_to_text
from isbjorn.core.errors import IsbjornError
from isbjorn.core.media.stills import is_pattern, sequence_files
from isbjorn.studio.store import Store
from isbjorn.studio.tables import Media, Project

_LARGEST_UNPACKED = 64 << 30
_VERSION = "versions/{:03d}-{:03d}.json"


def _files_of(store: Store, media: str) -> list[Path]:
    path = store.media_folder / media
    if is_pattern(media):
        return list(sequence_files(str(path)).values())
    return [path]


def _in_library(media: str) -> bool:
    return not Path(media).is_absolute()


def pack_project(store: Store, project_id: int, target: Path) -> None:
    """Write a project and the media of its library to a zip. Media in named folders stay where they are."""
    library, rows = store.media(project_id), store.shots(project_id)
    kept = [store.versions(row.id or 0) for row in rows]
    facts = [m.model_dump(mode="json", exclude={"id", "project_id", "created"}) for m in library]
    head = {"format": "isbjorn-project", "version": 1, "name": store.project(project_id).name, "media": facts}
    head["versions"] = [[version.name for version in of_shot] for of_shot in kept]
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as out:
        out.writestr("project.json", json.dumps(head, indent=1, ensure_ascii=False))
        for number, (row, of_shot) in enumerate(zip(rows, kept, strict=True), 1):
            out.writestr(f"shots/{number:03d}.json", shot_to_text(store.document(row.id or 0)))
            for n, version in enumerate(of_shot, 1):
                out.writestr(_VERSION.format(number, n), shot_to_text(store.version_document(version)))
        for medium in library:
            if _in_library(medium.media):
                for path in _files_of(store, medium.media):
                    name = path.relative_to(store.media_folder)
                    out.write(path, f"media/{name.as_posix()}", zipfile.ZIP_STORED)


def _head(zipped: zipfile.ZipFile) -> dict[str, Any]:
    try:
        head = json.loads(zipped.read("project.json"))
    except (KeyError, json.JSONDecodeError):
        head = None
    if not isinstance(head, dict) or head.get("format") != "isbjorn-project" or not isinstance(head.get("name"), str):
        raise IsbjornError("this zip is not a project of Isbjorn.", "project.json", "Choose an exported project.")
    return head


def _unpacked_media(zipped: zipfile.ZipFile, store: Store, home: str) -> None:
    if sum(entry.file_size for entry in zipped.infolist()) > _LARGEST_UNPACKED:
        raise IsbjornError("the project would unpack to more than 64 GiB.", "media", "Nothing was changed.")
    for entry in zipped.infolist():
        name = PurePosixPath(entry.filename)
        if name.parts[:1] != ("media",) or entry.is_dir():
            continue
        target = (store.media_folder / home / Path(*name.parts[1:])).resolve()
        if not target.is_relative_to((store.media_folder / home).resolve()):
            raise IsbjornError("the zip names a file outside its own folder.", entry.filename, "Nothing was changed.")
        target.parent.mkdir(parents=True, exist_ok=True)
        with zipped.open(entry) as source, target.open("wb") as out:
            shutil.copyfileobj(source, out)


def _moved(shot: Shot, home: str, names: set[str]) -> Shot:
    """The shot with its files where they now are: the plate, pictures and fonts of bodies, mattes."""

    def moved(part: Any) -> Any:
        if isinstance(part, list):
            return [moved(one) for one in part]
        if not isinstance(part, dict):
            return part
        here = {k: f"{home}/{v}" for k, v in part.items() if k in ("media", "font") and v in names}
        return {k: moved(v) for k, v in part.items()} | here

    return parse_shot(moved(shot.model_dump(mode="json")))


def unpack_project(store: Store, path: Path) -> Project:
    """Take a project in. Raises IsbjornError that names what is wrong; then nothing is kept of it."""
    home = f"p{secrets.token_hex(4)}"
    try:
        with zipfile.ZipFile(path) as zipped:
            head = _head(zipped)
            names = sorted(n for n in zipped.namelist() if n.startswith("shots/") and n.endswith(".json"))
            shots = [shot_from_text(zipped.read(name), name) for name in names]
            versions = [
                [
                    (str(name), shot_from_text(zipped.read(_VERSION.format(number, n)), f"version {name}"))
                    for n, name in enumerate(of_shot, 1)
                ]
                for number, of_shot in enumerate(head.get("versions", []), 1)
            ]
            library = [Media.model_validate({**m, "project_id": 0}) for m in head.get("media", [])]
            _unpacked_media(zipped, store, home)
    except (zipfile.BadZipFile, ValueError, TypeError, KeyError, EOFError, OSError) as error:
        shutil.rmtree(store.media_folder / home, ignore_errors=True)
        raise IsbjornError(f"the file is damaged ({error}).", "project", "Export it again.") from None
    except IsbjornError:
        shutil.rmtree(store.media_folder / home, ignore_errors=True)
        raise
    project = store.create_project(head["name"])
    local = {m.media for m in library if _in_library(m.media)}
    for medium in library:
        medium.project_id = project.id or 0
        medium.media = f"{home}/{medium.media}" if medium.media in local else medium.media
        store.add_media(medium)
    for number, shot in enumerate(shots):
        row = store.create_shot(project.id or 0, _moved(shot, home, local), "Imported")
        for name, version in versions[number] if number < len(versions) else []:
            store.keep_version(row.id or 0, name, _moved(version, home, local))
    return project
