"""The store: SQLite through SQLModel. An edit is acknowledged only when it lies on the disk."""

from __future__ import annotations

import functools
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar

from alembic import command
from alembic.config import Config
from sqlalchemy import event
from sqlalchemy.exc import OperationalError
from sqlmodel import Session, col, create_engine, delete, func, select

from isbjorn.core.document import Shot
from isbjorn.core.document.files import shot_from_text
from isbjorn.core.errors import IsbjornError
from isbjorn.studio.tables import Folder, Media, PresetRow, Project, Revision, ShotRow, VersionRow, now

_REVISIONS_KEPT = 1000
T = TypeVar("T")


@functools.lru_cache(maxsize=32)
def _parsed(text: str, shot_id: int) -> Shot:
    """A document as it lies in the store. Documents are frozen, so those who ask may share one."""
    return shot_from_text(text, f"shot {shot_id}")


class Missing(IsbjornError):
    """What was asked for is not in the store."""


def _pragmas(connection: Any, _: Any) -> None:
    connection.execute("PRAGMA journal_mode=WAL")
    connection.execute("PRAGMA synchronous=FULL")
    connection.execute("PRAGMA foreign_keys=ON")
    connection.execute("PRAGMA busy_timeout=10000")


class Store:
    """Everything that is kept, in one folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder.absolute()
        self.media_folder = self.folder / "media"
        self.deliveries_folder = self.folder / "deliveries"
        try:
            for place in (self.folder, self.media_folder, self.deliveries_folder):
                place.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise IsbjornError(
                f"the data folder cannot be made ({error.strerror}).",
                str(folder),
                "Choose another with --data.",
            ) from None
        self.engine = create_engine(f"sqlite:///{self.folder / 'isbjorn.sqlite'}")
        event.listen(self.engine, "connect", _pragmas)
        self._editing = threading.RLock()
        self._migrate()

    def _migrate(self) -> None:
        settings = Config()
        settings.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
        try:
            with self.engine.begin() as connection:
                settings.attributes["connection"] = connection
                command.upgrade(settings, "head")
        except OperationalError as error:
            raise IsbjornError(
                f"the store cannot be opened ({error.orig}).",
                str(self.folder),
                "May you write there, and is there room on the disk?",
            ) from None

    @contextmanager
    def session(self) -> Iterator[Session]:
        """A session that commits at its end, or rolls all of it back."""
        with Session(self.engine, expire_on_commit=False) as session:
            try:
                yield session
                session.commit()
            except OperationalError as error:
                session.rollback()
                raise IsbjornError(
                    f"the store could not keep this ({error.orig}).",
                    "store",
                    "Nothing was changed. Is the disk full?",
                ) from None

    # Projects

    def projects(self) -> list[Project]:
        with self.session() as session:
            chosen = select(Project).where(col(Project.deleted).is_(None)).order_by(col(Project.created))
            return list(session.exec(chosen))

    def project(self, project_id: int) -> Project:
        with self.session() as session:
            return self._found(session.get(Project, project_id), "project", project_id)

    def create_project(self, name: str) -> Project:
        with self.session() as session:
            project = Project(name=name)
            session.add(project)
            session.flush()
            return project

    def rename_project(self, project_id: int, name: str) -> Project:
        with self.session() as session:
            project = self._found(session.get(Project, project_id), "project", project_id)
            project.name = name
            return project

    def put_away(self, kind: type[Project] | type[ShotRow], thing_id: int, away: bool) -> None:
        """Delete a project or a shot, so that it can be brought back; or bring it back."""
        with self.session() as session:
            thing = self._found(session.get(kind, thing_id), "thing", thing_id)
            thing.deleted = now() if away else None

    # Shots and their revisions

    def shots(self, project_id: int) -> list[ShotRow]:
        with self.session() as session:
            chosen = select(ShotRow).where(ShotRow.project_id == project_id, col(ShotRow.deleted).is_(None))
            return list(session.exec(chosen.order_by(col(ShotRow.position), col(ShotRow.id))))

    def create_shot(self, project_id: int, shot: Shot, label: str = "Made") -> ShotRow:
        with self._editing, self.session() as session:
            self._found(session.get(Project, project_id), "project", project_id)
            row = ShotRow(project_id=project_id, position=len(self.shots(project_id)), head=1)
            session.add(row)
            session.flush()
            session.add(Revision(shot_id=row.id or 0, number=1, document=shot.model_dump_json(), label=label))
            return row

    def shot_row(self, shot_id: int) -> ShotRow:
        with self.session() as session:
            return self._found(session.get(ShotRow, shot_id), "shot", shot_id)

    def document(self, shot_id: int) -> Shot:
        """The shot's document as it stands."""
        with self.session() as session:
            row = self._found(session.get(ShotRow, shot_id), "shot", shot_id)
            return _parsed(self._revision(session, row, row.head).document, shot_id)

    def _revision(self, session: Session, row: ShotRow, number: int) -> Revision:
        chosen = select(Revision).where(Revision.shot_id == row.id, Revision.number == number)
        return self._found(session.exec(chosen).first(), "revision", number)

    def history(self, shot_id: int) -> tuple[ShotRow, str | None, str | None]:
        """The shot, and the labels of what undo and redo would do (None where there is nothing)."""
        with self.session() as session:
            row = self._found(session.get(ShotRow, shot_id), "shot", shot_id)
            here = self._revision(session, row, row.head)
            first = session.exec(select(func.min(Revision.number)).where(Revision.shot_id == shot_id)).one()
            later = select(Revision).where(Revision.shot_id == shot_id, Revision.number == row.head + 1)
            ahead = session.exec(later).first()
            return row, here.label if row.head > (first or 1) else None, ahead.label if ahead else None

    @contextmanager
    def edit(self, shot_id: int, label: str, gesture: str | None = None) -> Iterator[list[Shot]]:
        """Change a shot: replace the one document in the list that is given. Edits of one gesture are one step of undo."""
        with self._editing, self.session() as session:
            row = self._found(session.get(ShotRow, shot_id), "shot", shot_id)
            here = self._revision(session, row, row.head)
            box = [_parsed(here.document, shot_id)]
            before = box[0]
            yield box
            if box[0] == before:
                return
            session.exec(delete(Revision).where(col(Revision.shot_id) == shot_id, col(Revision.number) > row.head))
            text = box[0].model_dump_json()
            if gesture is not None and here.gesture == gesture:
                here.document, here.label = text, label
                return
            row.head += 1
            session.add(Revision(shot_id=shot_id, number=row.head, document=text, label=label, gesture=gesture))
            old = row.head - _REVISIONS_KEPT
            session.exec(delete(Revision).where(col(Revision.shot_id) == shot_id, col(Revision.number) <= old))

    def step(self, shot_id: int, by: int) -> None:
        """Undo (-1) or redo (+1); does nothing at either end."""
        with self._editing, self.session() as session:
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
        return _parsed(row.document, row.shot_id)

    def keep_version(self, shot_id: int, name: str, shot: Shot) -> VersionRow:
        with self.session() as session:
            row = VersionRow(shot_id=shot_id, name=name, document=shot.model_dump_json())
            session.add(row)
            session.flush()
            return row

    def rename_version(self, version_id: int, name: str) -> VersionRow:
        with self.session() as session:
            row = self._found(session.get(VersionRow, version_id), "version", version_id)
            row.name = name
            return row

    def drop_version(self, version_id: int) -> None:
        with self.session() as session:
            session.delete(self._found(session.get(VersionRow, version_id), "version", version_id))

    # Media

    def media(self, project_id: int) -> list[Media]:
        with self.session() as session:
            return list(session.exec(select(Media).where(Media.project_id == project_id).order_by(col(Media.created))))

    def add_media(self, media: Media) -> Media:
        with self.session() as session:
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
        if not path.is_absolute() or not path.is_dir():
            raise IsbjornError("there is no such folder.", str(path), "Give its whole path.")
        with self.session() as session:
            found = session.exec(select(Folder).where(Folder.path == str(path.resolve()))).first()
            folder = found or Folder(path=str(path.resolve()))
            session.add(folder)
            session.flush()
            return folder

    def may_read(self, path: Path) -> bool:
        """Whether a file lies in the library or in a folder that the user named."""
        real = path.resolve()
        allowed = [self.media_folder.resolve(), *(Path(f.path) for f in self.folders())]
        return any(real.is_relative_to(folder) for folder in allowed)

    # The library of emitters

    def presets(self) -> list[PresetRow]:
        with self.session() as session:
            return list(session.exec(select(PresetRow).order_by(col(PresetRow.created))))

    def _preset(self, session: Session, preset_id: str) -> PresetRow:
        number = preset_id.removeprefix("kept-")
        row = session.get(PresetRow, int(number)) if number.isascii() and number.isdigit() else None
        if row is None:
            raise Missing(
                "there is no such emitter of your own in the library.", preset_id, "It may have been taken out."
            )
        return row

    def preset(self, preset_id: str) -> PresetRow:
        with self.session() as session:
            return self._preset(session, preset_id)

    def keep_preset(self, name: str, tags: list[str], shot: Shot) -> PresetRow:
        with self.session() as session:
            row = PresetRow(name=name, tags="\n".join(tags), document=shot.model_dump_json())
            session.add(row)
            session.flush()
            return row

    def rename_preset(self, preset_id: str, name: str, tags: list[str]) -> PresetRow:
        with self.session() as session:
            row = self._preset(session, preset_id)
            row.name, row.tags = name, "\n".join(tags)
            return row

    def drop_preset(self, preset_id: str) -> None:
        with self.session() as session:
            session.delete(self._preset(session, preset_id))

    @staticmethod
    def _found(thing: T | None, kind: str, number: int) -> T:
        if thing is None:
            raise Missing(f"there is no {kind} {number}.", kind, "It may have been deleted.")
        return thing
