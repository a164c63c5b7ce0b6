"""The tables of the store. A change here needs a migration beside it."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlalchemy import Index
from sqlmodel import Field, SQLModel


def now() -> datetime:
    return datetime.now(UTC)


class Project(SQLModel, table=True):
    """A project holds shots and media."""

    id: int | None = Field(default=None, primary_key=True)
    name: str
    created: datetime = Field(default_factory=now)
    deleted: datetime | None = None
    # What comes onto the stage, as JSON; empty: all its shots.
    set_list: str = ""


class ShotRow(SQLModel, table=True):
    """A shot: a line of revisions and its current position on it."""

    __tablename__ = "shot"
    id: int | None = Field(default=None, primary_key=True)
    project_id: int = Field(foreign_key="project.id", index=True)
    position: int = 0
    head: int = 0
    created: datetime = Field(default_factory=now)
    deleted: datetime | None = None
    # When a page last looked at it.
    opened: datetime | None = None


class Revision(SQLModel, table=True):
    """A state of a shot's document. `number` counts from 1 within the shot."""

    id: int | None = Field(default=None, primary_key=True)
    __table_args__ = (Index("one_revision_of_a_number", "shot_id", "number", unique=True),)
    shot_id: int = Field(foreign_key="shot.id", index=True)
    number: int = Field(index=True)
    document: str
    label: str
    gesture: str | None = None
    created: datetime = Field(default_factory=now)


class Media(SQLModel, table=True):
    """A plate in a project's library, or in a folder that the user named."""

    id: int | None = Field(default=None, primary_key=True)
    project_id: int = Field(foreign_key="project.id", index=True)
    name: str
    media: str
    kind: str
    frames: int
    rate: str | None = None
    width: int
    height: int
    encoding: str
    bytes: int = 0
    created: datetime = Field(default_factory=now)


def unseen(project_id: int | None, name: str, media: str, kind: str, size: int) -> Media:
    """A medium that is no picture: a font, a sound, recorded particles."""
    return Media(
        project_id=project_id or 0,
        name=name,
        media=media,
        kind=kind,
        frames=0,
        width=0,
        height=0,
        encoding=kind,
        bytes=size,
    )


class Folder(SQLModel, table=True):
    """A folder that the user named, from which media may be read."""

    id: int | None = Field(default=None, primary_key=True)
    path: str = Field(unique=True)


class DeliveryRow(SQLModel, table=True):
    """A delivery in the queue, with the document as it was when it was ordered."""

    __tablename__ = "delivery"
    id: int | None = Field(default=None, primary_key=True)
    shot_id: int = Field(foreign_key="shot.id", index=True)
    shot_name: str
    document: str
    order: str
    state: str = Field(default="waiting", index=True)
    done: int = 0
    total: int
    ms_per_frame: float = 0
    problem: str | None = None
    attempts: int = 0
    priority: int = 0
    result: str = ""
    created: datetime = Field(default_factory=now)
    started: datetime | None = None
    ended: datetime | None = None


class PurposeRow(SQLModel, table=True):
    """What deliveries are for, as it was kept."""

    __tablename__ = "purpose"
    id: int | None = Field(default=None, primary_key=True)
    name: str
    document: str
    created: datetime = Field(default_factory=now)


class VersionRow(SQLModel, table=True):
    """A named state of a shot."""

    __tablename__ = "version"
    id: int | None = Field(default=None, primary_key=True)
    shot_id: int = Field(foreign_key="shot.id", index=True)
    name: str
    document: str
    created: datetime = Field(default_factory=now)


class PresetRow(SQLModel, table=True):
    """An emitter of the library: a shot with nothing else in it. tags: one on each line."""

    __tablename__ = "preset"
    id: int | None = Field(default=None, primary_key=True)
    name: str
    tags: str = ""
    document: str
    created: datetime = Field(default_factory=now)
