"""What all sockets do: take a page in if what it asks about is there, and work for it until it is gone."""

from __future__ import annotations

import asyncio
import json
import struct
from collections.abc import Awaitable, Callable, Coroutine
from typing import Any, TypeVar

from fastapi import WebSocket, WebSocketDisconnect
from fastapi.concurrency import run_in_threadpool
from pydantic import BaseModel, ValidationError

from isbjorn.core.errors import IsbjornError

M = TypeVar("M", bound=BaseModel)
# This many unreadable messages are answered.
_MOST_REFUSED = 16


def problem_message(error: IsbjornError) -> str:
    """A problem as a message."""
    return json.dumps({"kind": "problem", "what": error.what, "where": error.where, "remedy": error.remedy})


def packed(header: BaseModel, jpeg: bytes) -> bytes:
    """A picture as one binary message: the length of its header (4 bytes, little endian), the header as JSON, the JPEG."""
    head = header.model_dump_json().encode()
    return struct.pack("<I", len(head)) + head + jpeg


def unpacked(message: bytes) -> tuple[dict[str, Any], bytes]:
    """The header and the JPEG of a message that `packed` made."""
    (length,) = struct.unpack_from("<I", message)
    return json.loads(message[4 : 4 + length]), message[4 + length :]


async def taken_in(socket: WebSocket, number: int, known: Callable[[int], object]) -> bool:
    """Accept a page that asks about a thing by its number; whether it is there, by `known`, which raises IsbjornError if it is not:
    then the page gets a message, and is closed."""
    await socket.accept()
    try:
        if not 0 <= number < 2**63:
            raise IsbjornError("it does not exist.", "socket", "Open it from its project.")
        await run_in_threadpool(known, number)
    except IsbjornError as error:
        await socket.send_text(problem_message(error))
        await socket.close(4404)
        return False
    return True


async def asked(socket: WebSocket, model: type[M], place: str, wrong: Callable[[IsbjornError], Awaitable[None]]) -> M:
    """The next message of a page, as a model. An invalid one is reported by `wrong`, and ignored: after some of those the socket is
    closed. Raises WebSocketDisconnect when the page is gone."""
    while True:
        message = await socket.receive()
        if message["type"] == "websocket.disconnect":
            raise WebSocketDisconnect(message.get("code", 1000))
        text = message.get("text")
        try:
            if text is not None:
                return model.model_validate_json(text)
            what = "a message must be text."
        except ValidationError as error:
            what = str(error.errors()[0]["msg"])
        refused = getattr(socket.state, "refused", 0) + 1
        socket.state.refused = refused
        if refused > _MOST_REFUSED:
            await socket.close(1008, "Too many messages could not be read.")
            raise WebSocketDisconnect(1008)
        await wrong(IsbjornError(what, place, "The message was ignored."))


async def until_gone(*works: Coroutine[Any, Any, None]) -> None:
    """Do several things until one of them ends, as all do when the page is gone."""
    tasks = {asyncio.create_task(work) for work in works}
    try:
        done, _ = await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
        for task in done:
            fell = task.exception()
            if fell is not None and not isinstance(fell, (WebSocketDisconnect, RuntimeError)):
                raise fell
    finally:
        for task in tasks:
            task.cancel()
            # What it falls over when the page is gone is heard, and no matter.
            task.add_done_callback(lambda done: done.cancelled() or done.exception())
