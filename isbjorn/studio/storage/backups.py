"""Backups of the store, made while it is in use, and the return to one."""

from __future__ import annotations

import os
import sqlite3
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path

from isbjorn.core.errors import IsbjornError

KEPT = 4
_FOLDER, _STORE = "backups", "isbjorn.sqlite"
_NAME = "isbjorn-%Y-%m-%d-%H%M%S"


def backups(folder: Path) -> list[Path]:
    """The backups of a data folder, the oldest first."""
    return sorted((folder / _FOLDER).glob("isbjorn-????-??-??-??????.sqlite"))


def _next_name(folder: Path) -> str:
    """A name that comes after those of all backups, also when the clock has been put back."""
    moment = datetime.now(UTC).replace(tzinfo=None)
    if made := backups(folder):
        moment = max(moment, datetime.strptime(made[-1].stem, _NAME) + timedelta(seconds=1))
    return moment.strftime(_NAME)


def back_up(folder: Path) -> str | None:
    """Copy the store as it is now (SQLite's online backup); returns what is wrong with the copy, if anything is.

    A damaged copy never replaces a sound one.
    """
    home = folder / _FOLDER
    home.mkdir(exist_ok=True)
    target = home / f"{_next_name(folder)}.sqlite"
    partial = target.with_suffix(".part")
    try:
        with closing(sqlite3.connect(folder / _STORE, timeout=10)) as store, closing(sqlite3.connect(partial)) as copy:
            store.backup(copy, pages=2048, sleep=0.01)
            found = copy.execute("PRAGMA quick_check(1)").fetchone()[0]
        if found != "ok":
            return str(found)
        os.replace(partial, target)
    except sqlite3.DatabaseError as error:
        return str(error)
    finally:
        partial.unlink(missing_ok=True)
    for old in backups(folder)[:-KEPT]:
        old.unlink(missing_ok=True)
    return None


def restore(folder: Path) -> Path:
    """Replace the store by the newest sound backup; the old store stays beside it. Raises IsbjornError without a backup."""
    for backup in reversed(backups(folder)):
        with closing(sqlite3.connect(backup)) as copy:
            try:
                whole = copy.execute("PRAGMA quick_check(1)").fetchone()[0] == "ok"
            except sqlite3.DatabaseError:
                whole = False
        if not whole:
            continue
        stamp = f"{datetime.now(UTC):%Y-%m-%d-%H%M%S}"
        for ending in ("", "-wal", "-shm"):
            old = folder / f"{_STORE}{ending}"
            if old.exists():
                old.replace(folder / f"damaged-{stamp}.sqlite{ending}")
        partial = folder / f"{_STORE}.part"
        partial.write_bytes(backup.read_bytes())
        os.replace(partial, folder / _STORE)
        return backup
    raise IsbjornError("No backup is undamaged.", str(folder / _FOLDER), "Restore a copy of the folder.")
