"""Copies of the store that are made while it is used, and going back to one."""

from __future__ import annotations

import os
import sqlite3
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path

from isbjorn.core.errors import IsbjornError

KEPT = 4
_FOLDER, _STORE = "backups", "isbjorn.sqlite"


def backups(folder: Path) -> list[Path]:
    """The backups of a data folder, the oldest first."""
    return sorted((folder / _FOLDER).glob("isbjorn-*.sqlite"))


def back_up(folder: Path) -> str | None:
    """Copy the store as it is now (SQLite's online backup); what is wrong with it, if the copy is not whole.

    A copy that is not whole never takes the place of one that is.
    """
    home = folder / _FOLDER
    home.mkdir(exist_ok=True)
    target = home / f"isbjorn-{datetime.now(UTC):%Y-%m-%d-%H%M%S}.sqlite"
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
    """Put the newest whole backup in the place of the store, which is kept beside it. Raises IsbjornError without one."""
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
    raise IsbjornError("there is no backup that is whole.", str(folder / _FOLDER), "Bring back a copy of the folder.")
