"""How long something takes."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable


def seconds(work: Callable[[], object], times: int = 7) -> float:
    """The median of several runs, after one that is not counted."""
    work()
    found = []
    for _ in range(times):
        start = time.perf_counter()
        work()
        found.append(time.perf_counter() - start)
    return statistics.median(found)


def median_ms(call: Callable[[int], object], times: int) -> float:
    """The median of some calls, each with its number from 1 on, after one that is not counted; in ms."""
    call(0)
    found = []
    for n in range(1, times + 1):
        start = time.perf_counter()
        call(n)
        found.append(time.perf_counter() - start)
    return round(statistics.median(found) * 1e3, 2)


def ratio(ours: Callable[[], object], theirs: Callable[[], object], times: int = 5) -> tuple[float, float]:
    """Seconds of ours, and how many times as long theirs takes: medians of runs that go in pairs, after one that is not counted."""
    ours(), theirs()
    mine: list[float] = []
    other: list[float] = []
    for _ in range(times):
        for work, kept in ((ours, mine), (theirs, other)):
            start = time.perf_counter()
            work()
            kept.append(time.perf_counter() - start)
    return statistics.median(mine), statistics.median(b / a for a, b in zip(mine, other, strict=True))
