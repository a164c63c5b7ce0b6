"""Waiting in tests: for an event, however slow or busy the machine is. A bound only ends a hang."""

from __future__ import annotations

import resource
import time
from collections.abc import Callable
from typing import TypeVar

T = TypeVar("T")
# No test takes this long on any machine unless it hangs.
HANG_S = 240.0


def until(true: Callable[[], T], what: str, pause_s: float = 0.02) -> T:
    """Wait for a condition; return its value. Raises AssertionError that says what did not happen, once it surely hangs."""
    deadline = time.monotonic() + HANG_S
    while not (found := true()):
        if time.monotonic() > deadline:
            raise AssertionError(what)
        time.sleep(pause_s)
    return found


def processor_s() -> float:
    """Seconds of processor time that this process and those that it has waited for have taken: what work costs, whatever else the
    machine does."""
    used = [resource.getrusage(kind) for kind in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN)]
    return sum(one.ru_utime + one.ru_stime for one in used)
