"""Prefetch: the frames of a range are drawn before they are due, on all frame workers."""

from __future__ import annotations

import asyncio
import math
import time
from collections import deque
from collections.abc import Hashable
from concurrent.futures import CancelledError, Future
from concurrent.futures.process import BrokenProcessPool
from dataclasses import replace
from typing import NamedTuple

from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError, Stale
from isbjorn.core.frame import Rough
from isbjorn.core.runtime.memory import resident_bytes
from isbjorn.studio.preview.frame_workers import FrameWorkers
from isbjorn.studio.preview.preview import Preview, ShownPicture, Wish
from isbjorn.studio.preview.scheduler import Priority


class Level(NamedTuple):
    """How a frame is drawn that takes too long in full: its share of the width, and what is left out of it."""

    size: float = 1.0
    rough: Rough = 0


FULL = Level()
# With a shutter that smears, and without: the best first.
LEVELS = (FULL, Level(0.75), Level(0.5), Level(0.375), Level(0.5, 1), Level(0.375, 1), Level(0.3, 2))
SHUT_LEVELS = (FULL, Level(0.75), Level(0.5), Level(0.375), Level(0.3), Level(0.3, 2))
# Approximate share of a frame's time that remains at each level of detail.
_LEFT = (1.0, 0.6, 0.4)
_MEASURED_OVER, _LEAST_MEASURED, _LEAST_SLOW, _FAR_TOO_SLOW = 16, 6, 3, 2.0
_FARTHEST, _NEAR, _ROUND_S = 2000, 60, 2.5
# Share of the rate that is accepted in order to show all particles.
_MAY_DO = 0.6
_MOST_BROKEN = 3


class FrameCost(NamedTuple):
    """Estimated time of a frame. ms: in full, in one of the processes that draw ahead; 0 if unknown. fixed: the share of it that
    does not shrink with its size."""

    ms: float = 0.0
    fixed: float = 0.4

    def faster(self, level: Level, to: Level) -> float:
        """By how much a frame takes longer at another level."""
        now, then = (_LEFT[at.rough] * (self.fixed + (1 - self.fixed) * at.size * at.size) for at in (level, to))
        return then / now


_UNKNOWN = FrameCost()


def levels_of(shot: Shot, thins: bool = True) -> tuple[Level, ...]:
    """The levels at which a shot may be played. thins: whether any particles are left out where there are fewer."""
    shutter = shot.camera.shutter
    is_open = shutter.value > 0 or shutter.timed
    levels = LEVELS if is_open else SHUT_LEVELS
    if thins:
        return levels
    # As small as the last, with the shutter closed at most.
    return (*levels[:-1], Level(levels[-1].size, 1)) if is_open else levels[:-1]


class Prefetch:
    """Draws the frames of a range, those that are due next first. All calls on the event loop.

    rate: frames per second that are wanted, where it is played; then the level follows what is reached. thins: whether any
    are left out where there are fewer particles. viewer: for whom.
    """

    def __init__(
        self, frame_workers: FrameWorkers, preview: Preview, shot: Shot, digest: str, wish: Wish, span: tuple[int, int],
        rate: float = 0.0, about: FrameCost = _UNKNOWN, thins: bool = True, viewer: Hashable = None,
    ) -> None:  # fmt: skip
        self.frame_workers, self.preview, self.shot, self.digest = frame_workers, preview, shot, digest
        self.priority, self.viewer = Priority.PLAY if rate else Priority.AHEAD, viewer
        self.wish, (self.first, self.last), self.rate = replace(wish, moving=True), span, rate
        self.levels, self.level, self._about = levels_of(shot, thins), FULL, about
        self.error: IsbjornError | None = None
        self.came = asyncio.Event()
        self._ticket = frame_workers.ticket()
        self._flying: dict[Wish, Future[ShownPicture]] = {}
        self._times: deque[float] = deque(maxlen=_MEASURED_OVER)
        self._too_slow: dict[Level, int] = {}
        # The first frame of each process brings it the shot's tables: it says nothing of those that follow.
        self._cold, self._guessed = frame_workers.count, False
        self._broken = 0
        # From the wish for a frame until it is there.
        self._takes_s = 0.0
        # What frames in full took the processes that drew them, once those knew the shot.
        self.full_ms: deque[float] = deque(maxlen=_MEASURED_OVER)
        if about.ms and frame_workers.count * 1e3 / about.ms < rate:
            self.level, self._guessed = self._first_level(frame_workers.count * 1e3 / about.ms), True
        self._loop = asyncio.get_running_loop()

    def at(self, frame: int, level: Level) -> Wish:
        """The wish for a frame at a level."""
        return replace(self.wish, frame=frame, width=max(16, round(self.wish.width * level.size)), rough=level.rough)

    def known(self, frame: int) -> tuple[ShownPicture, Level] | None:
        """A frame that is there, and its level: the best."""
        for level in self.levels:
            found = self.preview.known(self.digest, self.at(frame, level))
            if found is not None:
                return found, level
        return None

    def is_near(self, frame: int, most: int) -> bool:
        """Whether all that is on its way is due within some frames from one on."""
        span = self.last - self.first + 1
        return all((wish.frame - frame) % span < most for wish in self._flying)

    def pump(self, frame: int, running: bool = False) -> bool:
        """Keep every hand busy with what is due from a frame on; whether there was anything to do.

        running: it plays, so that what cannot come in time is left out.
        """
        room = 2 * self.frame_workers.count - len(self._flying)
        span = self.last - self.first + 1
        reach = min(span, _NEAR if self.preview.full() else _FARTHEST)
        full = self.preview.frames(self.digest, self.at(frame, FULL))
        # In a short range something is always begun: it comes in time for the next round.
        late = min(math.ceil(self._takes_s * self.rate), reach - 1) if running else 0
        for level in dict.fromkeys((self.level, FULL)):
            there = full | self.preview.frames(self.digest, self.at(frame, level))
            due = (self.first + (frame - self.first + n) % span for n in range(late, reach))
            # Where it comes round much has to be stepped: that is begun in time.
            round_ = [self.first] if running and 0 < self.last - frame < _ROUND_S * self.rate else []
            for number in (*round_, *due):
                if number in there or room <= 0:
                    continue
                wish = self.at(number, level)
                if wish not in self._flying:
                    self._begin(wish)
                    room -= 1
            if room <= 0:
                return True
        if not self._flying:
            self._times.clear()
        return bool(self._flying)

    def _begin(self, wish: Wish) -> None:
        future = self.frame_workers.draw(self.shot, self.digest, wish, self._ticket, self.priority, self.viewer)
        self._flying[wish] = future
        begun = time.perf_counter()

        def on_done(done: Future[ShownPicture]) -> None:
            # The page may have left, and the studio with it, while the picture was drawn.
            if not self._loop.is_closed():
                self._loop.call_soon_threadsafe(self._done, wish, done, begun)

        future.add_done_callback(on_done)

    def _done(self, wish: Wish, done: Future[ShownPicture], begun: float) -> None:
        self._flying.pop(wish, None)
        self.came.set()
        try:
            shown = done.result()
        except (Stale, CancelledError):
            return
        except IsbjornError as error:
            self.error = error
        except (BrokenProcessPool, MemoryError):
            self._broken += 1
            if self._broken > _MOST_BROKEN * self.frame_workers.count:
                self.error = IsbjornError(
                    "there is not enough memory to play this.",
                    "live",
                    "Simplify the shot, or play it at a smaller size.",
                )
        else:
            # The memory that is reported is the studio's, not that of the process that rendered it.
            figures = shown.figures.model_copy(update={"memory_bytes": resident_bytes()})
            self.preview.keep(self.digest, wish, replace(shown, figures=figures))
            if self._cold <= 0 and wish == self.at(wish.frame, self.level):
                self._takes_s += (0.3 if self._takes_s else 1.0) * (time.perf_counter() - begun - self._takes_s)
                if self.level == FULL:
                    self.full_ms.append(shown.figures.ms)
            self._measure(wish, shown.figures.ms)

    def _measure(self, wish: Wish, ms: float) -> None:
        """Choose the level by what is reached; at first by what one frame took the process that drew it."""
        if wish != self.at(wish.frame, self.level):
            return
        if self._cold > 0:
            self._cold -= 1
            return
        if not self.rate:
            return
        if not self._guessed:
            self._guessed = True
            alone = self.frame_workers.count * 1e3 / max(ms, 1e-3)
            if alone * _FAR_TOO_SLOW < self.rate:
                self._change(self._enough(alone))
                return
        self._times.append(time.perf_counter())
        reached = (len(self._times) - 1) / max(1e-6, self._times[-1] - self._times[0])
        # What is far too slow is known sooner.
        if len(self._times) < (_LEAST_MEASURED if reached * _FAR_TOO_SLOW > self.rate else _LEAST_SLOW):
            return
        at = self.levels.index(self.level)
        if reached < self.rate:
            self._too_slow[self.level] = self._too_slow.get(self.level, 0) + 1
            self._change(self._enough(reached))
        # What is new to a process takes longer once: it may have looked worse than it is. But not back to all particles: those that
        # were left out are not stepped, and all at once they would hold up what is seen.
        elif (
            at > 0
            and not self.level.rough == 2 > self.levels[at - 1].rough
            and self._too_slow.get(self.levels[at - 1], 0) < 2
            and reached / self._about.faster(self.level, self.levels[at - 1]) > 1.25 * self.rate
        ):
            self._change(self.levels[at - 1])

    def _first_level(self, reached: float) -> Level:
        """The first level to try, where about this many full frames per second are possible. Playback never returns from fewer
        particles to more, so it starts without dropping any where that may work."""
        level = self._enough(reached)
        if level.rough < 2:
            return level
        whole = self.levels[-2]
        return whole if reached / self._about.faster(FULL, whole) >= _MAY_DO * self.rate else level

    def _enough(self, reached: float) -> Level:
        """The best lower level that is fast enough, when this many frames per second are reached now."""
        below = self.levels[self.levels.index(self.level) + 1 :]
        return next(
            (one for one in below if reached / self._about.faster(self.level, one) >= 1.1 * self.rate), self.levels[-1]
        )

    def _change(self, level: Level) -> None:
        if level != self.level:
            self._takes_s *= self._about.faster(self.level, level)
            self.level = level
            self._times.clear()

    def drop(self) -> None:
        """Cancel all that is on its way."""
        self._ticket.drop()
        for future in self._flying.values():
            future.cancel()

    def pause(self) -> None:
        """Cancel all that is on its way; `pump` begins it again."""
        if self._flying:
            self.drop()
            self._ticket = self.frame_workers.ticket()
