"""A frame as one page sees it that looks at it: at rest in full, under a hand that moves something as quickly as it can be."""

from __future__ import annotations

import asyncio
import time
from concurrent.futures.process import BrokenProcessPool
from contextlib import suppress
from dataclasses import replace

from isbjorn.core.document import Shot
from isbjorn.core.document.editing.effective_shot import effective_shot
from isbjorn.core.errors import IsbjornError, Stale
from isbjorn.core.runtime.memory import resident_bytes
from isbjorn.core.simulate.interactions.group import interaction_groups, moves_differently
from isbjorn.studio.pages.page_session import FINISHED_S, Looker
from isbjorn.studio.preview.interaction_rate import PAUSE_S
from isbjorn.studio.preview.preview import ShownPicture, Wish
from isbjorn.studio.preview.scheduler import Priority


class Seeing:
    """Draws what a page wishes to see."""

    def __init__(self, looker: Looker) -> None:
        self.looker = looker
        # Digest of the motion that the frame worker of drags has cached.
        self._prepared = ""
        # The document as it was last seen in full, and its digest.
        self._rested: tuple[Shot, str] | None = None

    async def see(self, wish: Wish) -> None:
        """Draw and send a frame, a coarse one before it where that is wanted."""
        version = self.looker.version
        flowing = self.looker.pace.flowing()
        if flowing:
            self.looker.studio.scheduler.touch()
        restarted, held = await self._moves_differently()
        if self.looker.pace.wants_coarse() or held:
            coarse = replace(self._coarse(wish), held=held)
            first = await (
                self._aside(coarse)
                if flowing and (held or not restarted)
                else self.looker.draw(coarse, version, finish=True)
            )
            if first is not None and self.looker.playing is None:
                self.looker.pace.fit(first[1].figures.ms)
                await self.looker.send(wish, first, exact=False, held=bool(held))
            if await self._goes_on(version):
                return
        begun = time.monotonic()
        picture = await self.looker.draw(wish, version)
        if picture is None:
            # It took longer than it was waited for: at least so long.
            self.looker.pace.full_ms = max(self.looker.pace.full_ms, (time.monotonic() - begun) * 1e3)
            self.looker.pace.outrun()
            return
        self.looker.pace.full_ms = picture[1].figures.ms
        rested = self.looker.document
        self._rested = None if rested is None else rested[1:]
        if self.looker.version == version:
            await self.looker.send(wish, picture, exact=True)
        else:
            self.looker.pace.outrun()
        if rested is not None and self._prepared != rested[2] and self._is_new_to_follower(rested[1]):
            # The frame worker of drags gets this shot, and the states of its groups.
            self._prepared = rested[2]
            await self._aside(self._coarse(wish))

    def _is_new_to_follower(self, shot: Shot) -> bool:
        return bool(interaction_groups(effective_shot(shot))) or not (
            self._prepared or self.looker.pace.follows_in_full()
        )

    def _coarse(self, wish: Wish) -> Wish:
        width, rough = self.looker.pace.coarse(wish.width)
        return replace(wish, width=width, rough=rough)

    async def _moves_differently(self) -> tuple[bool, str]:
        """Whether interacting particles move differently from how they were seen at rest, so that a frame worker would have to step
        them from their first birth on. And the digest of the document at rest, whose positions may be shown meanwhile."""
        _, shot, _ = await self.looker.read()
        rested, digest = self._rested or (None, "")
        return (True, digest) if moves_differently(rested, shot) else (False, "")

    async def _aside(self, wish: Wish) -> tuple[int, ShownPicture, str] | None:
        """Draw in another process: this one is busy with edits."""
        head, shot, digest = await self.looker.read()
        wish = replace(wish, frame=shot.nearest_frame(wish.frame))
        shown = self.looker.studio.preview.known(digest, wish)
        if shown is None:
            ticket = self.looker.studio.frame_workers.ticket()
            try:
                drawing = asyncio.wrap_future(
                    self.looker.studio.frame_workers.draw(shot, digest, wish, ticket, Priority.DRAG, id(self.looker))
                )
                shown = await asyncio.wait_for(drawing, FINISHED_S)
            except (Stale, TimeoutError):
                # The follower's frame worker has lost the motion that it shows: this one has it.
                return await self.looker.draw(wish, self.looker.version, finish=True) if wish.held else None
            except IsbjornError as error:
                await self.looker.problem(error)
                return None
            except (BrokenProcessPool, MemoryError):
                return await self.looker.draw(wish, self.looker.version, finish=True)
            finally:
                ticket.drop()
            figures = shown.figures.model_copy(update={"memory_bytes": resident_bytes()})
            shown = replace(shown, figures=figures)
            self.looker.studio.preview.keep(digest, wish, shown)
        return head, shown, digest

    async def _goes_on(self, version: int) -> bool:
        """Whether something newer is to be seen, or will be at once."""
        if self.looker.version == version and self.looker.pace.flowing():
            with suppress(TimeoutError):
                await asyncio.wait_for(self.looker.wake.wait(), PAUSE_S)
        return self.looker.version != version
