"""A range as it is played to one page, and filled while nothing is asked for."""

from __future__ import annotations

import asyncio
import json
import os
import statistics
import time
from contextlib import suppress
from dataclasses import replace

from fastapi.concurrency import run_in_threadpool

from isbjorn.core.document import Shot
from isbjorn.core.frame import FEW
from isbjorn.core.settings import setting
from isbjorn.studio.pages.page_session import REPORTED_EVERY_S, Ask, Looker
from isbjorn.studio.pages.prefetch import FULL, FrameCost, Prefetch
from isbjorn.studio.preview.preview import Wish

_IDLE_S = 1.5
# This many frames are ready before it plays, unless that takes too long.
_READY, _READY_S = 4, 1.5
# A frame that all threads of this process rendered takes one thread about this multiple of the time.
_ALONE = 1.7
# Share of a frame's time that does not shrink with its size, without a measurement.
_LEAST_FIXED, _MOST_FIXED = 0.3, 0.9
# After this many seconds without a picture, playback continues from where it was, once that frame is there, instead of skipping
# what still has to be simulated. A frame that is being drawn no farther than this many frames ahead is awaited.
_STALLED_S, _NEAR_BY = 1.0, 12


class Playing:
    """Draws ahead what a page plays, or will."""

    def __init__(self, looker: Looker) -> None:
        self.looker = looker
        # Time of a recent frame in full quality in one frame worker; 0 until there is one.
        self._full_ms = 0.0

    async def play(self, ask: Ask) -> None:
        """Play until the page says otherwise."""
        version, begun_with = self.looker.version, self.looker.version
        head, shot, digest = await self.looker.read()
        wish = Wish(ask.frame, ask.width, ask.view, moving=True, orbit=ask.orbit)
        ahead = await self._ahead(shot, digest, wish, (ask.first, ask.last), float(shot.frame_rate))
        first, span = ahead.first, ahead.last - ahead.first + 1
        offset, begun, before = min(max(ask.frame, first), ahead.last) - first, 0.0, -1
        self.looker.sent.clear()
        self.looker.dropped = 0
        asked = time.perf_counter()
        try:
            while self.looker.playing is ask:
                if self.looker.version != version:
                    # Edited meanwhile: frames drawn ahead are outdated.
                    version = self.looker.version
                    head, shot, digest = await self.looker.read()
                    ahead = await self._ahead_again(ahead, shot, digest, ask)
                    first, span = ahead.first, ahead.last - ahead.first + 1
                # Filling, thumbnails, portraits and the Lookout wait meanwhile.
                self.looker.studio.scheduler.touch()
                now, period = time.perf_counter(), float(1 / shot.frame_rate)
                ticks = int((now - begun) / period) if begun else 0
                if begun and ticks - max(before, 0) > _STALLED_S / period:
                    offset = (offset + before + 1) % span
                    begun, before, ticks, asked = 0.0, -1, 0, now
                    if not ahead.is_near(first + offset, _NEAR_BY):
                        ahead = await self._ahead_again(ahead, shot, digest, ask)
                frame = first + (offset + ticks) % span
                ahead.pump(frame, running=begun > 0)
                if ahead.error is not None:
                    await self.looker.problem(ahead.error)
                    return
                if not begun:
                    # A little ahead before it begins, so that it does not stumble over its first steps.
                    ready = all(ahead.known(first + (offset + n) % span) for n in range(min(span, _READY)))
                    late = now - asked > _READY_S and ahead.known(frame) is not None
                    if not ready and not late:
                        await self._next(ahead, 0.05)
                        continue
                    begun = now
                if ticks != before:
                    found = ahead.known(frame)
                    if found is not None:
                        self.looker.dropped += max(0, ticks - before - 1)
                        before = ticks
                        self.looker.sent.append(now)
                        self.looker.wish = replace(wish, frame=frame, moving=False)
                        await self.looker.send(
                            self.looker.wish, (head, found[0], digest), exact=found[1] == FULL, level=found[1]
                        )
                        continue
                due = begun + (ticks + 1) * period - time.perf_counter()
                if ticks != before:
                    await self._next(ahead, max(0.0005, due))
                else:
                    await asyncio.sleep(max(0.0005, due))
        finally:
            self._over(ahead)
        if begun_with != self.looker.version:
            self.looker.wake.set()

    async def fill(self, wish: Wish, version: int) -> None:
        """While nothing is asked for, compute what is missing of the played range, so that it then plays in real time."""
        try:
            await asyncio.wait_for(self.looker.wake.wait(), None if setting("ISBJORN_FILL") == "0" else _IDLE_S)
            return
        except TimeoutError:
            pass
        _, shot, digest = await self.looker.read()
        ahead, reported_at = await self._ahead(shot, digest, wish, self.looker.range), time.perf_counter()
        frame = min(max(wish.frame, ahead.first), ahead.last)
        try:
            busy = True
            while busy and self.looker.version == version and ahead.error is None:
                # A page that plays elsewhere, perhaps in front of this one, has the processes for itself.
                held = self.looker.studio.scheduler.is_lively()
                if held:
                    ahead.pause()
                busy = not self.looker.studio.preview.full() and (held or ahead.pump(frame))
                if time.perf_counter() - reported_at > REPORTED_EVERY_S or not busy:
                    reported_at = time.perf_counter()
                    ranges = self.looker.studio.preview.computed(digest, wish)
                    await self.looker.socket.send_text(json.dumps({"kind": "computed", "ranges": ranges}))
                if busy:
                    await self._next(ahead, 0.2)
        finally:
            self._over(ahead)

    async def _ahead(self, shot: Shot, digest: str, wish: Wish, ends: tuple[int, int], rate: float = 0.0) -> Prefetch:
        first = max(shot.first_frame, min(ends))
        span = min(first, shot.last_frame), max(first, min(shot.last_frame, max(ends)))
        # Filling renders in full quality, whatever that takes.
        studio = self.looker.studio
        # Off the event loop: a forecast looks at the whole range.
        about = await run_in_threadpool(self._about, shot, wish.width, span) if rate else FrameCost()
        return Prefetch(
            studio.frame_workers, studio.preview, shot, digest, wish, span, rate, about, self._thins(), id(self.looker)
        )

    def _thins(self) -> bool:
        """Whether any particles are left out where a shot is played with fewer."""
        before = self.looker.studio.guided(self.looker.shot_id).before
        return before is None or any(g.forecast.alive_at_most > FEW for g in before.scene.emitters)

    def _about(self, shot: Shot, width: int, span: tuple[int, int]) -> FrameCost:
        """Time of a full frame in one of the processes that draw ahead, where the range takes longest: measured recently; otherwise
        as forecast, or less where the picture at rest took less; and the share of it that is the same at any size."""
        before = self.looker.studio.guided(self.looker.shot_id).before
        cost = before.most(shot, *span, width) if before is not None else None
        if before is None or cost is None or before.scene.cost is None:
            return FrameCost(self._full_ms)
        height = width * shot.height // shot.width
        cost_ms, here = max(1e-3, cost.ms(width, height)), max(1e-3, before.scene.cost.ms(width, height))
        alone = cost_ms * min(1.0, self.looker.pace.full_ms / here) * (_ALONE if os.cpu_count() != 1 else 1.0)
        return FrameCost(self._full_ms or alone, min(_MOST_FIXED, max(_LEAST_FIXED, cost.fixed_ms / cost_ms)))

    def _over(self, ahead: Prefetch) -> None:
        """Stop drawing ahead; its measurements stay."""
        ahead.drop()
        if ahead.full_ms:
            self._full_ms = statistics.median(ahead.full_ms)

    async def _ahead_again(self, before: Prefetch, shot: Shot, digest: str, ask: Ask) -> Prefetch:
        """Restart playback at the level that was found; what is on its way is dropped."""
        self._over(before)
        ahead = await self._ahead(shot, digest, before.wish, (ask.first, ask.last), float(shot.frame_rate))
        ahead.level = before.level if before.level in ahead.levels else FULL
        return ahead

    @staticmethod
    async def _next(ahead: Prefetch, most_s: float) -> None:
        """Wait until another frame has come, and no longer than some seconds."""
        ahead.came.clear()
        with suppress(TimeoutError):
            await asyncio.wait_for(ahead.came.wait(), most_s)
