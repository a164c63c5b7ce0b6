"""Errors that a person can act on: what happened, to what, and what to do."""

from __future__ import annotations

import re

# Folders before the name of a file.
_FOLDERS = re.compile(r"(?<![\w.])/(?:[^\s/'\":,]+/)+(?=[^\s/'\":,]+)")


class IsbjornError(Exception):
    """Something a user can mend. `what` happened, `where`, and `remedy`: what to do about it."""

    def __init__(self, what: str, where: str = "", remedy: str = "") -> None:
        self.what = what
        self.where = where
        self.remedy = remedy
        super().__init__(self.__str__())

    def __reduce__(self) -> tuple[type[IsbjornError], tuple[str, str, str]]:
        return type(self), (self.what, self.where, self.remedy)

    def __str__(self) -> str:
        head = f"{self.where}: {self.what}" if self.where else self.what
        return f"{head} {self.remedy}".strip()


def reason_of(error: BaseException) -> str:
    """Why something failed, in the words of the system or the library that says so: short, and without this machine's folders."""
    words = getattr(error, "strerror", None) or str(error) or type(error).__name__
    return _FOLDERS.sub("", str(words).splitlines()[0])[:200]


class Stale(Exception):
    """Raised inside long work whose result nobody waits for any more."""
