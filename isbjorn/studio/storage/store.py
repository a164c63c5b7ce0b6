"""The store: SQLite through SQLModel. An edit is acknowledged only when it is on the disk."""

from __future__ import annotations

import shutil
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

from sqlalchemy import event
from sqlalchemy.exc import DatabaseError
from sqlmodel import Session, col, create_engine, delete, func, select

from isbjorn.core.caching import CacheName, RecentCache
from isbjorn.core.document import Shot
from isbjorn.core.document.files import salvaged
from isbjorn.core.errors import IsbjornError, reason_of
from isbjorn.studio.storage.backups import backups
from isbjorn.studio.storage.tables import Folder, Media, PresetRow, Project, Revision, ShotRow, VersionRow, now

_REVISIONS_KEPT = 1000
_LONGEST_PATH, _DEEPEST_PATH = 4096, 200
NAME = "isbjorn.sqlite"
_MIGRATIONS = Path(__file__).parent / "migrations"
T = TypeVar("T")


@dataclass(frozen=True)
class _Document:
    """A stored document, the problems found in it, and about how many bytes it takes."""

    shot: Shot
    problems: tuple[str, ...]
    nbytes: int


# A document takes about this many bytes for each of its text's.
_BYTES_PER_CHARACTER = 6
_KNOWN: RecentCache[str, _Document] = RecentCache(
    32, 96 << 20, name=CacheName("documents", "Documents of shots", "the text in the store")
)


def _known(text: str, shot: Shot, problems: Sequence[str]) -> _Document:
    found = _Document(shot, tuple(problems), _BYTES_PER_CHARACTER * len(text))
    _KNOWN.put(text, found)
    return found


def _parsed(text: str, shot_id: int) -> _Document:
    """A stored document. Documents are immutable, so callers may share one."""
    return _KNOWN.peek(text) or _known(text, *salvaged(text, f"shot {shot_id}"))


def _written(shot: Shot) -> str:
    """A document's text, as it is written: the next reader need not validate it again."""
    text = shot.model_dump_json()
    _known(text, shot, ())
    return text


class Standing(NamedTuple):
    """A shot in the store. undo, redo: the labels of the steps, None where there is none; damage: in words, the unreadable parts of
    the document."""

    row: ShotRow
    undo: str | None
    redo: str | None
    shot: Shot
    damage: tuple[str, ...]


class Missing(IsbjornError):
    """What was asked for is not in the store."""


class Damaged(IsbjornError):
    """The store's own file cannot be read."""


class Locked(IsbjornError):
    """Another studio works in the folder."""


def _pragmas(connection: Any, _: Any) -> None:
    # Transactions begin where `session` says so, not where the driver thinks that they should.
    connection.isolation_level = None
    connection.execute("PRAGMA journal_mode=WAL")
    connection.execute("PRAGMA synchronous=FULL")
    connection.execute("PRAGMA foreign_keys=ON")
    connection.execute("PRAGMA busy_timeout=10000")


def _begin(connection: Any) -> None:
    """Writers take the turn at once, so that two never work from the same state."""
    connection.exec_driver_sql("BEGIN IMMEDIATE" if connection.get_execution_options().get("write") else "BEGIN")


class Store:
    """All stored data, in one folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder.absolute()
        self.media_folder = self.folder / "media"
        self.deliveries_folder = self.folder / "deliveries"
        # Results that the processes of a studio share: states, and frames of plates. It had another name in the first version.
        shutil.rmtree(self.folder / "shelf", ignore_errors=True)
        self.cache_folder = self.folder / "cache"
        # Results computed from sounds and drawings, for all processes and later starts.
        self.lasting_folder = self.folder / "heard"
        # Where the worker of the queue lays down what the farm does.
        self.farm_file = self.folder / "farm.json"
        try:
            for place in (self.folder, self.media_folder, self.deliveries_folder):
                place.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise IsbjornError(
                f"the data folder cannot be created ({error.strerror}).",
                str(folder),
                "Use another folder with --data.",
            ) from None
        self.engine = create_engine(f"sqlite:///{self.folder / NAME}")
        event.listen(self.engine, "connect", _pragmas)
        event.listen(self.engine, "begin", _begin)
        self._editing = threading.RLock()
        self._migrate()

    def _migrate(self) -> None:
        try:
            if self._version() == max(path.stem[:4] for path in (_MIGRATIONS / "versions").glob("[0-9]*.py")):
                return
        except DatabaseError as error:
            raise self._explained(error) from None
        # Loaded only where there is something to do.
        from alembic import command
        from alembic.config import Config
        from alembic.util import CommandError

        settings = Config()
        settings.set_main_option("script_location", str(_MIGRATIONS))
        try:
            with self.engine.connect().execution_options(write=True) as connection, connection.begin():
                settings.attributes["connection"] = connection
                command.upgrade(settings, "head")
        except CommandError:
            raise IsbjornError(
                "the store was made by a newer Isbjorn.",
                str(self.folder),
                "Use that version, or another folder with --data.",
            ) from None
        except DatabaseError as error:
            raise self._explained(error) from None

    def _version(self) -> str:
        """The newest migration that was made; empty where none was."""
        with self.engine.connect() as connection:
            if not connection.exec_driver_sql("SELECT 1 FROM sqlite_master WHERE name = 'alembic_version'").first():
                return ""
            found = connection.exec_driver_sql("SELECT version_num FROM alembic_version").scalar()
            return str(found or "")

    def _explained(self, error: DatabaseError) -> IsbjornError:
        """What the database says, in words."""
        said = str(error.orig)
        if any(word in said for word in ("malformed", "not a database", "disk image", "encrypted")):
            kept = backups(self.folder)
            remedy = (
                (
                    f"Start with --restore to return to the backup of {kept[-1].stem.removeprefix('isbjorn-')}; the "
                    "damaged file is renamed."
                )
                if kept
                else "Restore a copy of it, or use another folder with --data."
            )
            return Damaged(f"the store is damaged ({said}).", str(self.folder / NAME), remedy)
        return IsbjornError(
            f"the store cannot be used ({said}).",
            str(self.folder / NAME),
            "Check the folder's permissions and the free disk space.",
        )

    @contextmanager
    def session(self, write: bool = False) -> Iterator[Session]:
        """A session that commits at its end, or rolls all of it back. write: it changes something, and takes its turn at once."""
        with Session(self.engine, expire_on_commit=False) as session:
            try:
                session.connection(execution_options={"write": write})
                yield session
                session.commit()
            except DatabaseError as error:
                session.rollback()
                raise self._explained(error) from None

    # Projects

    def projects(self) -> list[Project]:
        with self.session() as session:
            chosen = select(Project).where(col(Project.deleted).is_(None)).order_by(col(Project.created))
            return list(session.exec(chosen))

    def project(self, project_id: int) -> Project:
        with self.session() as session:
            return self._found(session.get(Project, project_id), "project", project_id)

    def shot_ids(self, project_id: int) -> list[int]:
        """The ids of a project's shots, in their order."""
        self.project(project_id)
        return [row.id or 0 for row in self.shots(project_id)]

    def set_list(self, project_id: int) -> str:
        """What comes onto the stage of a project, as it was kept; empty if nothing was."""
        return self.project(project_id).set_list

    def keep_set_list(self, project_id: int, text: str) -> None:
        """Keep what comes onto the stage of a project."""
        with self._editing, self.session(write=True) as session:
            row = self._found(session.get(Project, project_id), "project", project_id)
            row.set_list = text
            session.add(row)

    def create_project(self, name: str) -> Project:
        with self.session(write=True) as session:
            project = Project(name=name)
            session.add(project)
            session.flush()
            return project

    def rename_project(self, project_id: int, name: str) -> Project:
        with self.session(write=True) as session:
            project = self._found(session.get(Project, project_id), "project", project_id)
            project.name = name
            return project

    def put_away(self, kind: type[Project] | type[ShotRow], thing_id: int, away: bool) -> None:
        """Delete a project or a shot, so that it can be brought back; or bring it back."""
        with self.session(write=True) as session:
            thing = self._found(session.get(kind, thing_id), "thing", thing_id)
            thing.deleted = now() if away else None

    # Shots and their revisions

    def shots(self, project_id: int) -> list[ShotRow]:
        with self.session() as session:
            chosen = select(ShotRow).where(ShotRow.project_id == project_id, col(ShotRow.deleted).is_(None))
            return list(session.exec(chosen.order_by(col(ShotRow.position), col(ShotRow.id))))

    def create_shot(self, project_id: int, shot: Shot, label: str = "Made") -> ShotRow:
        with self._editing, self.session(write=True) as session:
            self._found(session.get(Project, project_id), "project", project_id)
            return self._new_shot(session, project_id, shot, label)

    @staticmethod
    def _new_shot(session: Session, project_id: int, shot: Shot, label: str) -> ShotRow:
        count = session.exec(select(func.count()).where(col(ShotRow.project_id) == project_id)).one()
        row = ShotRow(project_id=project_id, position=count, head=1)
        session.add(row)
        session.flush()
        session.add(Revision(shot_id=row.id or 0, number=1, document=shot.model_dump_json(), label=label))
        return row

    def take_in(self, name: str, media: list[Media], shots: list[tuple[Shot, list[tuple[str, Shot]]]]) -> Project:
        """Put a whole project in at once, or nothing of it: its media, and its shots with their versions."""
        with self._editing, self.session(write=True) as session:
            project = Project(name=name)
            session.add(project)
            session.flush()
            for medium in media:
                medium.project_id = project.id or 0
                session.add(medium)
            for shot, versions in shots:
                row = self._new_shot(session, project.id or 0, shot, "Imported")
                for called, version in versions:
                    session.add(VersionRow(shot_id=row.id or 0, name=called, document=version.model_dump_json()))
            return project

    def shot_row(self, shot_id: int) -> ShotRow:
        with self.session() as session:
            return self._found(session.get(ShotRow, shot_id), "shot", shot_id)

    def note_opened(self, shot_id: int) -> None:
        """Note that a page looks at a shot now."""
        with self.session(write=True) as session:
            self._found(session.get(ShotRow, shot_id), "shot", shot_id).opened = now()

    def project_of(self, shot_id: int) -> Project:
        """The project that a shot belongs to."""
        return self.project(self.shot_row(shot_id).project_id)

    def document(self, shot_id: int) -> Shot:
        """The shot's current document; of a damaged one, the readable parts."""
        return self.read(shot_id)[0]

    def read(self, shot_id: int) -> tuple[Shot, tuple[str, ...]]:
        """The shot's current document, and in words its unreadable parts.

        Where all of it is unreadable, the newest earlier revision that is not. Raises IsbjornError where there is none.
        """
        with self.session() as session:
            row = self._found(session.get(ShotRow, shot_id), "shot", shot_id)
            return self._read(session, row)

    def _read(self, session: Session, row: ShotRow, here: Revision | None = None) -> tuple[Shot, tuple[str, ...]]:
        shot_id = row.id or 0
        try:
            found = _parsed((here or self._revision(session, row, row.head)).document, shot_id)
            return found.shot, found.problems
        except IsbjornError as error:
            earlier = select(Revision).where(Revision.shot_id == shot_id, Revision.number < row.head)
            for old in session.exec(earlier.order_by(col(Revision.number).desc()).limit(20)):
                try:
                    found = _parsed(old.document, shot_id)
                except IsbjornError:
                    continue
                return found.shot, (
                    f"revision {row.head} cannot be read; this is revision {old.number}.",
                    *found.problems,
                )
            raise IsbjornError(
                f"the shot's document is damaged ({error.what})",
                f"shot {shot_id}",
                "Use undo, or restore a backup.",
            ) from None

    def _revision(self, session: Session, row: ShotRow, number: int) -> Revision:
        chosen = select(Revision).where(Revision.shot_id == row.id, Revision.number == number)
        return self._found(session.exec(chosen).first(), "revision", number)

    def standing(self, shot_id: int) -> Standing:
        """The shot."""
        with self.session() as session:
            row = self._found(session.get(ShotRow, shot_id), "shot", shot_id)
            near = col(Revision.number).between(row.head - 1, row.head + 1)
            labels = dict(
                session.exec(select(Revision.number, Revision.label).where(Revision.shot_id == shot_id, near)).all()
            )
            shot, damage = self._read(session, row)
            return Standing(
                row, labels.get(row.head) if row.head - 1 in labels else None, labels.get(row.head + 1), shot, damage
            )

    @contextmanager
    def edit(
        self, shot_id: int, label: str, gesture: str | None = None, once: bool = False
    ) -> Iterator[list[Shot]]:  # fmt: skip
        """Change a shot: replace the one document in the list that is given. Edits of one gesture are one step of undo.

        once: an edit that was sent before, and may have been made: the list is empty if the last edit is of this gesture."""
        with self._editing, self.session(write=True) as session:
            row = self._found(session.get(ShotRow, shot_id), "shot", shot_id)
            here = self._revision(session, row, row.head)
            if once and gesture is not None and here.gesture == gesture:
                yield []
                return
            box = [self._read(session, row, here)[0]]
            before = box[0]
            yield box
            if box[0] == before:
                return
            session.exec(delete(Revision).where(col(Revision.shot_id) == shot_id, col(Revision.number) > row.head))
            text = _written(box[0])
            if gesture is not None and here.gesture == gesture:
                here.document, here.label = text, label
                return
            row.head += 1
            session.add(Revision(shot_id=shot_id, number=row.head, document=text, label=label, gesture=gesture))
            old = row.head - _REVISIONS_KEPT
            session.exec(delete(Revision).where(col(Revision.shot_id) == shot_id, col(Revision.number) <= old))

    def step(self, shot_id: int, by: int) -> None:
        """Undo (-1) or redo (+1); does nothing at either end."""
        with self._editing, self.session(write=True) as session:
            row = self._found(session.get(ShotRow, shot_id), "shot", shot_id)
            chosen = select(Revision).where(Revision.shot_id == shot_id, Revision.number == row.head + by)
            if session.exec(chosen).first() is not None:
                row.head += by

    # Versions

    def versions(self, shot_id: int) -> list[VersionRow]:
        with self.session() as session:
            self._found(session.get(ShotRow, shot_id), "shot", shot_id)
            return list(
                session.exec(select(VersionRow).where(VersionRow.shot_id == shot_id).order_by(col(VersionRow.id)))
            )

    def version(self, version_id: int) -> VersionRow:
        with self.session() as session:
            return self._found(session.get(VersionRow, version_id), "version", version_id)

    def version_document(self, row: VersionRow) -> Shot:
        """The document that a version keeps."""
        return _parsed(row.document, row.shot_id).shot

    def keep_version(self, shot_id: int, name: str, shot: Shot) -> VersionRow:
        with self.session(write=True) as session:
            row = VersionRow(shot_id=shot_id, name=name, document=shot.model_dump_json())
            session.add(row)
            session.flush()
            return row

    def rename_version(self, version_id: int, name: str) -> VersionRow:
        with self.session(write=True) as session:
            row = self._found(session.get(VersionRow, version_id), "version", version_id)
            row.name = name
            return row

    def drop_version(self, version_id: int) -> None:
        with self.session(write=True) as session:
            session.delete(self._found(session.get(VersionRow, version_id), "version", version_id))

    # Media

    def media(self, project_id: int) -> list[Media]:
        with self.session() as session:
            return list(session.exec(select(Media).where(Media.project_id == project_id).order_by(col(Media.created))))

    def add_media(self, media: Media) -> Media:
        with self.session(write=True) as session:
            session.add(media)
            session.flush()
            return media

    def medium(self, media_id: int) -> Media:
        with self.session() as session:
            return self._found(session.get(Media, media_id), "plate", media_id)

    def folders(self) -> list[Folder]:
        with self.session() as session:
            return list(session.exec(select(Folder)))

    def name_folder(self, path: Path) -> Folder:
        try:
            there = path.is_absolute() and path.is_dir()
        except OSError as error:
            raise IsbjornError(
                f"this path cannot be opened ({reason_of(error)}).", str(path)[:200], "Give another."
            ) from None
        if len(str(path)) > _LONGEST_PATH or len(path.parts) > _DEEPEST_PATH:
            raise IsbjornError(
                f"this path is longer than {_LONGEST_PATH:,} characters or deeper than {_DEEPEST_PATH} folders.",
                str(path)[:200], "Give another.",
            )  # fmt: skip
        if not there:
            raise IsbjornError("this folder does not exist.", str(path), "Give its absolute path.")
        with self.session(write=True) as session:
            found = session.exec(select(Folder).where(Folder.path == str(path.resolve()))).first()
            folder = found or Folder(path=str(path.resolve()))
            session.add(folder)
            session.flush()
            return folder

    def withdraw_folder(self, folder_id: int) -> None:
        with self.session(write=True) as session:
            session.delete(self._found(session.get(Folder, folder_id), "named folder", folder_id))

    def may_read(self, path: Path) -> bool:
        """Whether a file, links followed, is in the library or in a folder that the user registered."""
        try:
            real = path.resolve()
        except (OSError, ValueError, RuntimeError):
            return False
        allowed = [self.media_folder.resolve(), *(Path(f.path) for f in self.folders())]
        return any(real.is_relative_to(folder) for folder in allowed)

    # The library of emitters

    def presets(self) -> list[PresetRow]:
        with self.session() as session:
            return list(session.exec(select(PresetRow).order_by(col(PresetRow.created))))

    def _preset(self, session: Session, preset_id: str) -> PresetRow:
        number = preset_id.removeprefix("kept-")
        known = number.isascii() and number.isdigit() and len(number) < 19
        row = session.get(PresetRow, int(number)) if known else None
        if row is None:
            raise Missing("this emitter is not in your library.", preset_id, "It may have been removed.")
        return row

    def preset(self, preset_id: str) -> PresetRow:
        with self.session() as session:
            return self._preset(session, preset_id)

    def keep_preset(self, name: str, tags: list[str], shot: Shot) -> PresetRow:
        with self.session(write=True) as session:
            row = PresetRow(name=name, tags="\n".join(tags), document=shot.model_dump_json())
            session.add(row)
            session.flush()
            return row

    def rename_preset(self, preset_id: str, name: str, tags: list[str]) -> PresetRow:
        with self.session(write=True) as session:
            row = self._preset(session, preset_id)
            row.name, row.tags = name, "\n".join(tags)
            return row

    def drop_preset(self, preset_id: str) -> None:
        with self.session(write=True) as session:
            session.delete(self._preset(session, preset_id))

    @staticmethod
    def _found(thing: T | None, kind: str, number: int) -> T:
        if thing is None:
            raise Missing(f"{kind} {number} does not exist.", kind, "It may have been deleted.")
        return thing
