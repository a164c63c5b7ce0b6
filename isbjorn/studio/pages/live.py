"""The live preview over one WebSocket: the page says what it shows; the newest request and the newest edit win, and outdated work
is dropped."""

from __future__ import annotations

import asyncio

from fastapi import APIRouter, WebSocket
from fastapi.concurrency import run_in_threadpool

from isbjorn.studio.context import Studio
from isbjorn.studio.pages.page_session import Looker
from isbjorn.studio.pages.playback import Playing
from isbjorn.studio.pages.still_view import Seeing
from isbjorn.studio.sockets import taken_in, until_gone

router = APIRouter()


async def _show(looker: Looker) -> None:
    """Draw and send what is wished for, for ever."""
    seeing, playing = Seeing(looker), Playing(looker)
    while True:
        await looker.wake.wait()
        looker.wake.clear()
        if looker.playing is not None:
            await playing.play(looker.playing)
        elif looker.wish is not None:
            await seeing.see(looker.wish)
            await playing.fill(looker.wish, looker.version)


@router.websocket("/api/shots/{shot_id}/live")
async def live(socket: WebSocket, shot_id: int) -> None:
    """Look at a shot."""
    studio: Studio = socket.app.state.studio
    if not await taken_in(socket, shot_id, studio.store.shot_row):
        return
    looker = Looker(studio, socket, shot_id)
    loop = asyncio.get_running_loop()
    stop_listening = studio.listen(shot_id, lambda: loop.call_soon_threadsafe(looker.changed))
    # Pictures do not wait for it.
    noting = asyncio.create_task(run_in_threadpool(studio.store.note_opened, shot_id))
    try:
        await until_gone(_show(looker), looker.hear())
    finally:
        noting.add_done_callback(lambda done: done.cancelled() or done.exception())
        stop_listening()
        looker.gone, looker.playing, looker.version = True, None, looker.version + 1
