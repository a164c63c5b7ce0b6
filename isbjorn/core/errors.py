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
    """Raised inside long work whose result is no longer wanted."""


# Packages that some work needs, and the extra that brings them.
_EXTRAS = {
    "distributed": "farm", "dask": "farm", "cryptography": "farm", "pxr": "usd", "pyarrow": "arrow", "rtmidi": "midi",
}  # fmt: skip


def missing_package(error: ModuleNotFoundError) -> IsbjornError | None:
    """What to do when an optional package is not installed; None if another one is missing."""
    package = (error.name or "").split(".")[0]
    extra = _EXTRAS.get(package)
    if extra is None:
        return None
    return IsbjornError(
        f"this needs the package '{package}', which is not installed.",
        extra,
        f"Install it: pip install 'isbjorn[{extra}]'.",
    )
