"""A project as one zip: `project.json`, `shots/*.json` and `versions/*.json` by the published schema, `media/`.

The round trip is exact.
"""

from __future__ import annotations

import json
import secrets
import shutil
import zipfile
import zlib
from contextlib import suppress
from pathlib import Path, PurePosixPath
from typing import Any

from isbjorn.core.document import Shot
from isbjorn.core.document.fields.references import with_media
from isbjorn.core.document.files import parse_shot, shot_from_text, shot_to_text
from isbjorn.core.errors import IsbjornError
from isbjorn.core.media.read.stills import is_pattern, sequence_files
from isbjorn.core.runtime.disk import free_bytes
from isbjorn.studio.storage.store import Store
from isbjorn.studio.storage.tables import Media, Project

_LARGEST_UNPACKED = 64 << 30
_LARGEST_TEXT, _LARGEST_TEXTS, _MOST_ENTRIES, _MOST_ROWS = 16 << 20, 256 << 20, 200_000, 10_000
_LONGEST_SET = 1 << 16
# Pictures, movies and sounds hardly shrink in a zip: a file that unpacks to more than this multiple of its size is a trap.
_PLAINLY_SMALL, _MOST_PACKED = 16 << 20, 50
_LARGEST_NUMBER = 1 << 48
_VERSION = "versions/{:03d}-{:03d}.json"


def _files_of(store: Store, media: str) -> list[Path]:
    """The files of a medium of the library. Raises IsbjornError for one that leads out of it or is gone."""
    path = store.media_folder / media
    found = list(sequence_files(str(path)).values()) if is_pattern(media) else [path]
    for file in found:
        if not file.resolve().is_relative_to(store.media_folder.resolve()):
            raise IsbjornError("this file is not in the library.", media, "Import it again.")
        if not file.is_file():
            raise IsbjornError("this file is missing.", media, "Restore it, or import it again.")
    return found


def _in_library(media: str) -> bool:
    return not Path(media).is_absolute()


def pack_project(store: Store, project_id: int, target: Path) -> None:
    """Write a project and the media of its library to a zip. Media in named folders stay where they are."""
    library, rows = store.media(project_id), store.shots(project_id)
    kept = [store.versions(row.id or 0) for row in rows]
    facts = [m.model_dump(mode="json", exclude={"id", "project_id", "created"}) for m in library]
    head = {"format": "isbjorn-project", "version": 1, "name": store.project(project_id).name, "media": facts}
    head["versions"] = [[version.name for version in of_shot] for of_shot in kept]
    numbers = {row.id or 0: number for number, row in enumerate(rows, 1)}
    head["set_list"] = _renumbered(store.set_list(project_id), numbers)
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


def _renumbered(text: object, numbers: dict[int, int]) -> str:
    """A set list, as text, with new ids for its shots; shots without one are removed. Empty for an invalid list."""
    if not isinstance(text, str) or not 0 < len(text) <= _LONGEST_SET:
        return ""
    given = json.loads(text)
    kept = [entry for entry in given["entries"] if entry["shot"] in numbers]
    return json.dumps(given | {"entries": [entry | {"shot": numbers[entry["shot"]]} for entry in kept]})


def _read(zipped: zipfile.ZipFile, name: str) -> bytes:
    """An entry that is read as a whole; no more of it than may be."""
    with zipped.open(name) as entry:
        content = entry.read(_LARGEST_TEXT + 1)
    if len(content) > _LARGEST_TEXT:
        raise IsbjornError(f"it is larger than {_LARGEST_TEXT >> 20} MiB.", name, "Nothing was changed.")
    return content


def _head(zipped: zipfile.ZipFile) -> dict[str, Any]:
    try:
        head = json.loads(_read(zipped, "project.json"))
    except (KeyError, ValueError, RecursionError):
        head = None
    if not isinstance(head, dict) or head.get("format") != "isbjorn-project" or not isinstance(head.get("name"), str):
        raise IsbjornError("this zip is not a project of Isbjorn.", "project.json", "Choose an exported project.")
    return head


def _clean(name: str) -> PurePosixPath:
    """A name in a zip, or of a medium, that leads nowhere else. Raises IsbjornError for any other."""
    path = PurePosixPath(name)
    bad = not path.parts or path.is_absolute() or ".." in path.parts or "\\" in name or any(ord(c) < 32 for c in name)
    if bad or any(len(part.encode("utf-8", "replace")) > 200 for part in path.parts) or len(path.parts) > 8:
        raise IsbjornError("this name is invalid or points outside the project.", name[:200], "Nothing was changed.")
    return path


def _within_bounds(zipped: zipfile.ZipFile, store: Store) -> None:
    """Raise IsbjornError for a zip that unpacks to more than may be, or than there is room for, before any of it is read."""
    entries = zipped.infolist()
    if sum(e.file_size for e in entries) > free_bytes(store.media_folder):
        raise IsbjornError("there is not enough disk space for it.", "project", "Free some space, and try again.")
    text = [e for e in entries if not e.filename.startswith("media/")]
    if len(entries) > _MOST_ENTRIES:
        raise IsbjornError(f"it has more than {_MOST_ENTRIES:,} files.", "project", "Nothing was changed.")
    if sum(e.file_size for e in entries) > _LARGEST_UNPACKED:
        raise IsbjornError("it would unpack to more than 64 GiB.", "project", "Nothing was changed.")
    for entry in entries:
        if entry.file_size > _PLAINLY_SMALL and entry.file_size > _MOST_PACKED * max(1, entry.compress_size):
            raise IsbjornError(
                "this file's compression ratio is implausibly high.", entry.filename[:200], "Export it again."
            )
    if any(e.file_size > _LARGEST_TEXT for e in text) or sum(e.file_size for e in text) > _LARGEST_TEXTS:
        raise IsbjornError("its shots are larger than the limit.", "project", "Nothing was changed.")


def _unpacked_media(zipped: zipfile.ZipFile, store: Store, home: str) -> None:
    made: set[Path] = set()
    for entry in zipped.infolist():
        if not entry.filename.startswith("media/") or entry.is_dir():
            continue
        name = _clean(entry.filename)
        target = store.media_folder / home / Path(*name.parts[1:])
        if target.parent not in made:
            target.parent.mkdir(parents=True, exist_ok=True)
            made.add(target.parent)
        left = entry.file_size
        with zipped.open(entry) as source, target.open("wb") as out:
            # No more than it said of itself, whatever it unpacks to.
            while left > 0 and (chunk := source.read(min(left, 1 << 20))):
                out.write(chunk)
                left -= len(chunk)


def _moved(shot: Shot, home: str, names: set[str]) -> Shot:
    """The shot with its files where they now are: the plate, pictures and fonts of bodies, mattes."""

    given = with_media(shot.model_dump(mode="json"), lambda name: f"{home}/{name}" if name in names else name)
    return parse_shot(given)


def _library(head: dict[str, Any], store: Store) -> list[Media]:
    rows = head.get("media", [])
    if not isinstance(rows, list) or len(rows) > _MOST_ROWS:
        raise IsbjornError("its list of media is invalid or too long.", "project.json", "Nothing was changed.")
    found = []
    for row in rows:
        medium = Media.model_validate({**row, "id": None, "project_id": 0})
        if not 0 < len(medium.name) <= 255:
            raise IsbjornError(
                "a media file has no name, or its name is too long.", "project.json", "Nothing was changed."
            )
        for name in ("frames", "width", "height", "bytes"):
            number = getattr(medium, name)
            if not isinstance(number, int) or not 0 <= number <= _LARGEST_NUMBER:
                raise IsbjornError(f"the {name} of {medium.name} is invalid.", "project.json", "Nothing was changed.")
        if _in_library(medium.media):
            _clean(medium.media)
        elif not store.may_read(Path(medium.media)):
            raise IsbjornError(
                "this media file is outside the library and the project's folders.",
                medium.media[:200],
                "Add its folder first.",
            )
        found.append(medium)
    return found


def _shots_of(zipped: zipfile.ZipFile, head: dict[str, Any]) -> list[tuple[Shot, list[tuple[str, Shot]]]]:
    names = sorted(n for n in zipped.namelist() if n.startswith("shots/") and n.endswith(".json"))
    versions = head.get("versions", [])
    found = []
    for number, name in enumerate(names, 1):
        of_shot = versions[number - 1] if number <= len(versions) else []
        kept = [
            (str(called)[:80], shot_from_text(_read(zipped, _VERSION.format(number, n)), f"version {str(called)[:80]}"))
            for n, called in enumerate(of_shot, 1)
        ]
        found.append((shot_from_text(_read(zipped, name), name), kept))
    return found


def unpack_project(store: Store, path: Path) -> Project:
    """Import a project. Raises IsbjornError that names the problem; then nothing of it stays."""
    home = f"p{secrets.token_hex(4)}"
    try:
        with zipfile.ZipFile(path) as zipped:
            _within_bounds(zipped, store)
            head = _head(zipped)
            library, shots = _library(head, store), _shots_of(zipped, head)
            _unpacked_media(zipped, store, home)
        local = {m.media for m in library if _in_library(m.media)}
        moved = [(_moved(s, home, local), [(n, _moved(v, home, local)) for n, v in of]) for s, of in shots]
        for medium in library:
            medium.media = f"{home}/{medium.media}" if medium.media in local else medium.media
        project = store.take_in(head["name"][:120] or "Project", library, moved)
        ids = dict(enumerate(store.shot_ids(project.id or 0), 1))
        # An invalid list becomes all shots.
        with suppress(ValueError, TypeError, KeyError, AttributeError):
            store.keep_set_list(project.id or 0, _renumbered(head.get("set_list"), ids))
        return project
    except (
        zipfile.BadZipFile,
        zlib.error,
        ValueError,
        TypeError,
        KeyError,
        EOFError,
        OSError,
        NotImplementedError,
        RuntimeError,
    ) as error:
        shutil.rmtree(store.media_folder / home, ignore_errors=True)
        raise IsbjornError(f"the file is damaged ({str(error)[:200]}).", "project", "Export it again.") from None
    except BaseException:
        shutil.rmtree(store.media_folder / home, ignore_errors=True)
        raise
