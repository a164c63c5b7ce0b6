"""Where Numba stores kernels, and when one has changed. Loaded by Numba itself; see `kernels`."""

from __future__ import annotations

import atexit
import functools
import hashlib
import json
import os
from contextlib import suppress
from importlib.metadata import version
from pathlib import Path
from typing import Any

from numba.core.caching import UserProvidedCacheLocator

from isbjorn.core.document.fields.kinds import load_extensions
from isbjorn.core.runtime.kernels import FOREIGN, HERE, fingerprint, reached

_STAMPS = Path(os.environ.get("NUMBA_CACHE_DIR", HERE)) / "stamps.json"


@functools.cache
def _stamps() -> dict[str, str]:
    """Stamps by file and name, as computed by an earlier start, if no file of the engine has changed since."""
    if load_extensions():
        return {}
    now = fingerprint()
    known: dict[str, str] = {}
    with suppress(OSError, ValueError):
        stored = json.loads(_STAMPS.read_text())
        known = stored["stamps"] if stored["of"] == now else {}
    count = len(known)

    def keep() -> None:
        if len(known) > count:
            with suppress(OSError):
                part = _STAMPS.with_suffix(f".{os.getpid()}")
                part.write_text(json.dumps({"of": now, "stamps": known}))
                part.replace(_STAMPS)

    atexit.register(keep)
    return known


class KernelLocator(UserProvidedCacheLocator):
    """Where a kernel of the engine is stored, and its stamp."""

    def __init__(self, function: Any, path: str) -> None:
        super().__init__(function, path)  # type: ignore[no-untyped-call]
        self._function = function.__qualname__

    def get_source_stamp(self) -> str:
        """The digest of all that the kernel depends on."""
        path = Path(self._py_file)
        if not path.is_relative_to(HERE):
            return str(super().get_source_stamp())  # type: ignore[no-untyped-call]
        name = f"{path.relative_to(HERE)} {self._function}"
        known = _stamps()
        if name not in known:
            known[name] = self._digest(reached(path, self._function))
        return known[name]

    @staticmethod
    def _digest(texts: dict[tuple[str, str], str]) -> str:
        joined = "\n".join(f"{at} {text}" for at, text in sorted(texts.items()))
        return hashlib.sha256(f"{version('numba')} {version('llvmlite')} {joined}".encode()).hexdigest()

    def get_disambiguator(self) -> str:
        """Nothing, as a rule: a name is there once in a file, and lines move. With kinds from elsewhere, one of theirs."""
        path = Path(self._py_file)
        if not load_extensions() or not path.is_relative_to(HERE):
            return ""
        texts = reached(path, self._function)
        foreign = any(file.startswith(FOREIGN) for file, _ in texts)
        return self._digest(texts)[:12] if foreign else ""
