"""What answers while the studio is still loaded: the page at once, everything else when the studio is there.

Loading the engine and its libraries takes most of a start. The address answers before that, so a browser need not be asked to try
again, and loads the page meanwhile.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from contextlib import AbstractAsyncContextManager
from pathlib import Path
from typing import Any

from starlette.responses import FileResponse, JSONResponse, Response
from starlette.types import ASGIApp, Receive, Scope, Send

from isbjorn import __version__

PAGE = Path(__file__).parent / "page"
_TYPES = {".js": "text/javascript", ".css": "text/css", ".woff2": "font/woff2", ".svg": "image/svg+xml"}


class Opening:
    """An ASGI application that becomes another one. load: makes it, in a thread; failed: called when that raises."""

    def __init__(self, load: Callable[[], Any], failed: Callable[[], object]) -> None:
        self._load, self._failed = load, failed
        self._app: ASGIApp | None = None
        self._lifespan: AbstractAsyncContextManager[Any] | None = None
        self._loaded = asyncio.Event()
        self.error: BaseException | None = None

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "lifespan":
            await self._live(receive, send)
            return
        if self._app is None:
            early = _early(scope)
            if early is not None:
                await early(scope, receive, send)
                return
            await self._loaded.wait()
        if self._app is not None:
            await self._app(scope, receive, send)

    async def _live(self, receive: Receive, send: Send) -> None:
        await receive()
        await send({"type": "lifespan.startup.complete"})
        opening = asyncio.create_task(self._open())
        await receive()
        await opening
        if self._lifespan is not None:
            await self._lifespan.__aexit__(None, None, None)
        await send({"type": "lifespan.shutdown.complete"})

    async def _open(self) -> None:
        try:
            app = await asyncio.to_thread(self._load)
            self._lifespan = app.router.lifespan_context(app)
            await self._lifespan.__aenter__()
            self._app = app
        except BaseException as error:
            self.error = error
            self._failed()
        finally:
            self._loaded.set()


def _early(scope: Scope) -> Response | None:
    """An answer that needs nothing of the studio: the page, its files, and that the studio is not ready yet."""
    if scope["type"] != "http" or scope["method"] not in ("GET", "HEAD"):
        return None
    path = str(scope["path"])
    if path == "/api/health":
        return JSONResponse({"ready": False, "version": __version__, "damage": ""})
    if path.startswith("/api/"):
        return None
    if path.startswith("/assets/"):
        file = PAGE / "assets" / path.removeprefix("/assets/").replace("/", "")
        return FileResponse(file, media_type=_TYPES.get(file.suffix)) if file.is_file() else None
    file = PAGE / "index.html"
    return FileResponse(file, headers={"Cache-Control": "no-cache"}) if file.is_file() else None
