"""A start: while modules are loaded, nothing of theirs becomes garbage, so it is not looked for; and what they leave is there for
good, so it is not looked at again, and stays shared by processes that are forked."""

from __future__ import annotations

import atexit
import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def quietly() -> Iterator[None]:
    """While some modules are loaded."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


def begin() -> None:
    """Modules are about to be loaded."""
    gc.disable()


def end() -> None:
    """They are loaded."""
    gc.freeze()
    gc.enable()
    # When all ends they are looked at after all: libraries complain of what is left.
    atexit.register(gc.unfreeze)
