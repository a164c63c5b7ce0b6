"""Receiving files: streamed to the disk, limited in size."""

from __future__ import annotations

import os
import re
import secrets
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from fastapi import Request
from fastapi.concurrency import run_in_threadpool

from isbjorn.core.errors import IsbjornError

LARGEST_UPLOAD = int(os.environ.get("ISBJORN_LARGEST_UPLOAD", str(8 << 30)))


def _settle(out: IO[bytes]) -> None:
    out.flush()
    os.fsync(out.fileno())


def safe_name(name: str) -> str:
    """A file name with nothing in it that could lead out of its folder."""
    return re.sub(r"[^\w.\- ()]", "_", name.replace("\\", "/").rpartition("/")[2]).lstrip(".")[-100:] or "file"


def file_name(name: str) -> str:
    """A name made safe for a header and any file system."""
    plain = "".join(c if (c.isalnum() and c.isascii()) or c in " -_" else "_" for c in name)
    return plain.strip()[:100] or "Untitled"


async def receive(request: Request, folder: Path, name: str) -> Path:
    """Stream the body of a request to a new file; its path. Raises IsbjornError when it is too large or the disk is full."""
    path = folder / f".{secrets.token_hex(6)}-{safe_name(name)}"
    taken = 0
    try:
        with path.open("wb") as out:
            async for chunk in request.stream():
                # Slow disks hold up no other request.
                taken += len(chunk)
                if taken > LARGEST_UPLOAD:
                    raise IsbjornError(
                        f"the limit is {LARGEST_UPLOAD / 2**30:.1f} GiB.",
                        name,
                        "Add its folder instead of importing it.",
                    )
                await run_in_threadpool(out.write, chunk)
            await run_in_threadpool(_settle, out)
    except OSError as error:
        path.unlink(missing_ok=True)
        raise IsbjornError(
            f"the file could not be stored ({error.strerror}).", name, "Check the free disk space."
        ) from None
    except BaseException:
        path.unlink(missing_ok=True)
        raise
    return path


async def body_of(request: Request, largest: int, name: str) -> bytes:
    """The body of a request. Raises IsbjornError when it is larger than `largest` bytes."""
    body = bytearray()
    async for chunk in request.stream():
        body += chunk
        if len(body) > largest:
            raise IsbjornError(
                f"the limit for this file is {largest >> 20} MiB.", name, "Check that it is the right file."
            )
    return bytes(body)


@contextmanager
def homed(folder: Path, kind: str) -> Iterator[Path]:
    """Make a folder for something new, with the letter of its kind as a prefix; if the block fails, the folder is removed."""
    home = folder / f"{kind}{secrets.token_hex(4)}"
    home.mkdir()
    try:
        yield home
    except BaseException:
        shutil.rmtree(home, ignore_errors=True)
        raise


@contextmanager
def housed(folder: Path, kind: str, arrived: Path, name: str) -> Iterator[Path]:
    """Move an uploaded file into a new folder, with the letter of its kind as a prefix; yield its path. It is checked in the block;
    if that fails the folder is removed, and the error names the upload."""
    with homed(folder, kind) as home:
        target = home / safe_name(name)
        try:
            arrived.replace(target)
            yield target
        except IsbjornError as error:
            raise IsbjornError(error.what, name, error.remedy) from None
