"""What is drawn next: one queue for everything that the studio draws, on its own threads and in the frame workers.

Tasks start by their priority; among those of one priority, the viewer that was served longest ago goes first. While a user plays or
drags, background tasks do not start. A viewer that has waited too long for a picture goes before all others. Shows have a process
each and deliveries are made by the worker, so neither waits here.
"""

from __future__ import annotations

import itertools
import math
import threading
import time
from collections.abc import Callable, Hashable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from enum import IntEnum
from typing import Any, Literal, TypeVar

from isbjorn.core.caching import RecentCache
from isbjorn.core.errors import Stale

T = TypeVar("T")
Place = Literal["studio", "workers", "follower"]


class Priority(IntEnum):
    """Who waits for a picture, the most urgent first."""

    DRAG = 0
    PLAY = 1
    REST = 2
    SHEET = 3  # small pictures of many states of a shot, side by side
    AHEAD = 4  # frames of a range that are drawn before they are played
    PORTRAIT = 5
    LOOKOUT = 6
    THUMBNAIL = 7


_BACKGROUND = Priority.SHEET
# Threads of the studio that draw; and how many of them background tasks take at most.
_THREADS, _MOST_BACKGROUND = 6, 2
# Of these, one at a time: they often draw the same.
_ALONE = (Priority.PORTRAIT, Priority.THUMBNAIL)
# Background tasks wait this long after the latest activity; and in total no longer than this. Sheets and drawing ahead have no such
# end.
_QUIET_S = 0.5
_LATEST_S = {Priority.PORTRAIT: 1.0, Priority.LOOKOUT: 10.0, Priority.THUMBNAIL: 60.0}
# A viewer that has waited this long for a picture goes first.
_PATIENT_S = 1.0
_VIEWERS_KNOWN = 256


@dataclass
class _Task:
    priority: Priority
    viewer: Hashable
    place: Place
    start: Callable[[], Future[Any]]
    serial: int
    since: float
    future: Future[Any] = field(default_factory=Future)


@dataclass(frozen=True)
class QueueReport:
    """Tasks of one priority: how many wait, are carried out, and were done; and the longest wait for a start so far, in s."""

    priority: str
    queued: int
    running: int
    done: int
    longest_wait_s: float


class Scheduler:
    """Starts tasks in the order described above. Safe for threads. clock: seconds, growing."""

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self._threads = ThreadPoolExecutor(max_workers=_THREADS, thread_name_prefix="drawing")
        self._room: dict[Place, int] = {"studio": _THREADS, "workers": 1, "follower": 1}
        self._queue: list[_Task] = []
        self._running: dict[int, _Task] = {}
        self._serials = itertools.count()
        # When each viewer was last served, as a serial number and in s; and the viewer that asked last.
        self._served: RecentCache[Hashable, tuple[int, float]] = RecentCache(_VIEWERS_KNOWN)
        self._front: Hashable = None
        self._done, self._waited = dict.fromkeys(Priority, 0), dict.fromkeys(Priority, 0.0)
        self._quiet_at = -1e9
        self._timer: threading.Timer | None = None
        self._lock, self._closed = threading.RLock(), False

    def give_room(self, place: Place, tasks: int) -> None:
        """Set how many tasks a place carries out at once."""
        with self._lock:
            self._room[place] = tasks
        self.dispatch()

    def touch(self) -> None:
        """A user plays or drags now: background tasks do not start for a moment."""
        self._quiet_at = self._clock() + _QUIET_S

    def is_lively(self) -> bool:
        """Whether a user plays or drags."""
        return self._clock() < self._quiet_at

    def draw(self, priority: Priority, viewer: Hashable, work: Callable[[], T]) -> Future[T]:
        """The result of work on one of the studio's threads."""
        return self.submit(priority, viewer, lambda: self._threads.submit(work))

    def submit(
        self, priority: Priority, viewer: Hashable, start: Callable[[], Future[Any]], place: Place = "studio"
    ) -> Future[Any]:
        """The result of a task, whose turn it is when `start` is called; it may be cancelled until then."""
        task = _Task(priority, viewer, place, start, next(self._serials), self._clock())
        if priority <= Priority.PLAY:
            self.touch()
        with self._lock:
            if self._closed:
                task.future.cancel()
                return task.future
            if priority < _BACKGROUND:
                self._front = viewer
            self._queue.append(task)
        self.dispatch()
        return task.future

    def dispatch(self) -> None:
        """Start whatever may start now."""
        while (task := self._take()) is not None:
            if not task.future.set_running_or_notify_cancel():
                self._end(task)
                continue
            try:
                begun = task.start()
            except BaseException as error:
                self._end(task)
                task.future.set_exception(error)
                continue
            begun.add_done_callback(lambda done, task=task: self._finish(task, done))  # type: ignore[misc]

    def _take(self) -> _Task | None:
        """The task that is started next, which counts as running from now on; None if none may."""
        with self._lock:
            now = self._clock()
            self._queue = [task for task in self._queue if not task.future.cancelled()]
            due = [task for task in self._queue if self._may_start(task, now)]
            if not due:
                self._wake_later(now)
                return None
            task = min(due, key=lambda one: self._rank(one, now))
            self._queue.remove(task)
            self._running[task.serial] = task
            self._served.put(task.viewer, (next(self._serials), now))
            self._waited[task.priority] = max(self._waited[task.priority], now - task.since)
            return task

    def _may_start(self, task: _Task, now: float) -> bool:
        there = [one for one in self._running.values() if one.place == task.place]
        if len(there) >= self._room[task.place]:
            return False
        if task.priority < _BACKGROUND:
            return True
        if task.place == "studio" and sum(one.priority >= _BACKGROUND for one in there) >= _MOST_BACKGROUND:
            return False
        if task.priority in _ALONE and any(one.priority == task.priority for one in there):
            return False
        return now >= self._quiet_at or now - task.since >= _LATEST_S.get(task.priority, math.inf)

    def _rank(self, task: _Task, now: float) -> tuple[bool, int, bool, int, int]:
        served, at = self._served.peek(task.viewer) or (-1, -math.inf)
        behind = task.priority >= _BACKGROUND
        patient = behind or now - max(at, task.since) < _PATIENT_S
        return patient, task.priority, behind and task.viewer != self._front, served, task.serial

    def _wake_later(self, now: float) -> None:
        """Look again when background tasks may start."""
        if self._timer is None and self._quiet_at > now and any(t.priority >= _BACKGROUND for t in self._queue):
            self._timer = threading.Timer(self._quiet_at - now + 1e-3, self._woken)
            self._timer.daemon = True
            self._timer.start()

    def _woken(self) -> None:
        with self._lock:
            self._timer = None
        self.dispatch()

    def _end(self, task: _Task) -> None:
        with self._lock:
            del self._running[task.serial]
            self._done[task.priority] += 1

    def _finish(self, task: _Task, done: Future[Any]) -> None:
        self._end(task)
        # The next one starts first: whoever waits for this one may take a while.
        self.dispatch()
        if done.cancelled():
            task.future.set_exception(Stale())
        elif (error := done.exception()) is not None:
            task.future.set_exception(error)
        else:
            task.future.set_result(done.result())

    def reports(self) -> list[QueueReport]:
        """The state of the queue, by priority."""
        with self._lock:
            return [
                QueueReport(
                    one.name.lower(), sum(t.priority == one for t in self._queue),
                    sum(t.priority == one for t in self._running.values()), self._done[one], round(self._waited[one], 3),
                )
                for one in Priority
            ]  # fmt: skip

    def close(self) -> None:
        """Cancel what waits; what is carried out ends by itself."""
        with self._lock:
            self._closed = True
            queue, self._queue = self._queue, []
            if self._timer is not None:
                self._timer.cancel()
        for task in queue:
            task.future.cancel()
        self._threads.shutdown(wait=False, cancel_futures=True)
