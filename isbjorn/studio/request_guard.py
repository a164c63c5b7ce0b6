"""Checks of every request: its origin and size; and the headers of every answer."""

from __future__ import annotations

import contextlib
import re
import threading
from typing import Any

from fastapi.responses import JSONResponse
from pydantic import BaseModel

_LOCAL = re.compile(r"^(127\.0\.0\.1|localhost|\[::1\])(:\d+)?$")
LARGEST_BODY = 8 << 20
# Files are streamed to the disk and bounded where they are received.
_STREAMED = re.compile(
    r"^/api/(projects/import|projects/[^/]+/(media|fonts|sounds|shots/import)|shots/[^/]+/((artwork|track)/.*|scene|points|midi)|emitters/import)$"
)
_HEADERS = {
    b"x-content-type-options": b"nosniff",
    b"x-frame-options": b"DENY",
    b"referrer-policy": b"no-referrer",
    b"cross-origin-resource-policy": b"same-origin",
    b"content-security-policy": (
        b"default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; font-src 'self' data:; "
        b"img-src 'self' blob: data:; media-src 'self' blob:; connect-src 'self'; frame-ancestors 'none'; base-uri 'none'; "
        b"form-action 'none'"
    ),
}


class Problem(BaseModel):
    """What went wrong, where, and what to do."""

    what: str
    where: str
    remedy: str


def plain(text: str) -> str:
    """A text as it can be sent: lone surrogates, which no UTF-8 holds, are replaced; as long as a message may be."""
    return text[:2000].encode("utf-8", "replace").decode()


def problem(status: int, what: str, where: str = "", remedy: str = "") -> JSONResponse:
    """An error as the page understands it."""
    body = Problem(what=plain(what), where=plain(where), remedy=plain(remedy))
    return JSONResponse(body.model_dump(), status_code=status)


class _TooLarge(Exception):
    """More is sent than may be."""


class Gate:
    """Refuses requests that were not addressed to this machine or come from another site, and bodies that are too large; gives
    every answer its headers."""

    def __init__(self, app: Any) -> None:
        self.app = app

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] not in ("http", "websocket"):
            await self.app(scope, receive, send)
            return
        heads = {k.decode("latin-1").lower(): v.decode("latin-1") for k, v in scope["headers"]}
        if self._foreign(scope["path"], heads):
            if scope["type"] == "websocket":
                await send({"type": "websocket.close", "code": 1008})
            else:
                answer = problem(403, "This request does not come from the studio's own page.", "Host or Origin")
                await answer(scope, receive, self._signed(send))
            return
        if scope["type"] == "websocket":
            await self.app(scope, receive, send)
            return
        await self._http(scope, receive, send, heads)

    @staticmethod
    def _foreign(path: str, heads: dict[str, str]) -> bool:
        host, origin = heads.get("host", ""), heads.get("origin")
        if not _LOCAL.match(host) or (origin is not None and origin != f"http://{host}"):
            return True
        # A link on another site may lead to the page, but no picture or script there may ask the studio for anything.
        return heads.get("sec-fetch-site") in ("cross-site", "same-site") and path.startswith("/api/")

    async def _http(self, scope: Any, receive: Any, send: Any, heads: dict[str, str]) -> None:
        signed, begun, over = self._signed(send), False, threading.Event()

        async def sending(message: Any) -> None:
            nonlocal begun
            if over.is_set() and not begun:
                return  # What is made of half a body is not sent.
            begun = begun or message["type"] == "http.response.start"
            await signed(message)

        if scope["path"].startswith("/api/") and not _STREAMED.match(scope["path"]):
            length = heads.get("content-length", "0")
            if not length.isascii() or not length.isdigit() or len(length) > 12 or int(length) > LARGEST_BODY:
                await _too_large()(scope, receive, signed)
                return
            receive = self._counted(receive, over)
        with contextlib.suppress(_TooLarge):
            await self.app(scope, receive, sending)
        if over.is_set() and not begun:
            await _too_large()(scope, receive, signed)

    @staticmethod
    def _counted(receive: Any, over: threading.Event) -> Any:
        taken = 0

        async def counting() -> Any:
            nonlocal taken
            message = await receive()
            taken += len(message.get("body", b""))
            if taken > LARGEST_BODY:
                over.set()
                raise _TooLarge
            return message

        return counting

    @staticmethod
    def _signed(send: Any) -> Any:
        async def signing(message: Any) -> None:
            if message["type"] == "http.response.start":
                there = {k.lower() for k, _ in message.get("headers", [])}
                more = [(k, v) for k, v in _HEADERS.items() if k not in there]
                message = {**message, "headers": [*message.get("headers", []), *more]}
            await send(message)

        return signing


def _too_large() -> JSONResponse:
    return problem(413, f"this is larger than {LARGEST_BODY >> 20} MiB.", "body", "Send less at once.")
