"""What a machine of a farm does: it keeps media, and makes parts."""

from __future__ import annotations

import contextlib
import functools
import hashlib
import importlib.metadata
import json
import os
import shutil
import tempfile
import threading
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from distributed import get_worker

from isbjorn.core.deliver.chunks import Job, Maker
from isbjorn.core.deliver.farm.keys import security
from isbjorn.core.deliver.order import Order
from isbjorn.core.document import Shot
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.runtime.parallel import one_thread
from isbjorn.core.simulate.shared_states import SharedCaches

# A media comes in pieces as large; the last is shorter.
CHUNK = 4 << 20
_CACHE_BYTES = 16 << 30
# A small picture of the last frame, beside the files of a part.
LOOK = "look.jpg"
# Attempts to find a scheduler that went away.
_AGAIN_S, _ROUND_S = 1.0, 5.0
_LIBRARIES = ("numpy", "numba", "llvmlite", "opencv-python-headless", "av", "OpenImageIO", "opencolorio")


class OtherEngine(Exception):
    """The worker at an address has another engine."""


class MediaMissing(Exception):
    """The worker at an address lacks media, named by their digests."""


@functools.cache
def engine_digest() -> str:
    """A digest of everything besides the document on which pictures depend: the engine's source, and the libraries that it uses."""
    root = Path(__file__).resolve().parents[2]
    found = hashlib.sha256()
    for path in sorted(root.rglob("*.py")):
        found.update(str(path.relative_to(root)).encode() + b"\0" + path.read_bytes() + b"\0")
    for name in _LIBRARIES:
        found.update(f"{name} {importlib.metadata.version(name)}\n".encode())
    return found.hexdigest()[:16]


def cache_folder() -> Path:
    """Where a worker keeps media and states (`ISBJORN_WORKER_CACHE`)."""
    return Path(os.environ.get("ISBJORN_WORKER_CACHE", "") or Path.home() / ".isbjorn-worker")


def lacking(digests: list[str]) -> list[str]:
    """Which of some media are not here."""
    return [digest for digest in digests if not (cache_folder() / "media" / digest).is_file()]


def put_piece(digest: str, at: int, piece: bytes) -> None:
    """Take a piece of a media; with the last, a short one, it is there if it is what its digest says."""
    folder = cache_folder() / "media"
    folder.mkdir(parents=True, exist_ok=True)
    if len(digest) != 64 or not digest.isalnum():
        raise ValueError("no digest")
    part = folder / f".{digest}.{os.getpid()}"
    with part.open("r+b" if at else "wb") as file:
        file.seek(at)
        file.write(piece)
    if len(piece) == CHUNK:
        return
    with part.open("rb") as file:
        whole = hashlib.file_digest(file, "sha256").hexdigest() == digest
    if not whole:
        part.unlink()
        raise ValueError("it arrived damaged")
    part.replace(folder / digest)
    _make_room(folder)


def _make_room(folder: Path) -> None:
    """Let go of what was not used for the longest time."""
    files = sorted((p.stat().st_atime, p.stat().st_size, p) for p in folder.iterdir() if not p.name.startswith("."))
    held = sum(size for _, size, _ in files)
    for _, size, path in files[:-1]:
        if held <= _CACHE_BYTES:
            return
        path.unlink(missing_ok=True)
        held -= size


class _FarmPlates(PlateReader):
    """Reads media that were sent, by the names that the document has for them."""

    def __init__(self, media: dict[str, list[tuple[str, str]]], folder: Path) -> None:
        super().__init__()
        self._places: dict[str, str] = {}
        for number, (name, files) in enumerate(sorted(media.items())):
            place = folder / str(number)
            place.mkdir(parents=True, exist_ok=True)
            for called, digest in files:
                link = place / Path(called).name
                if not link.exists():
                    link.symlink_to(cache_folder().resolve() / "media" / digest)
            self._places[name] = str(place / Path(name).name)

    def resolve(self, media: str) -> str:
        return self._places.get(media, media)


class _Bench:
    """What a worker's process holds: the job that it is at."""

    def __init__(self) -> None:
        self.parcel, self.folder = b"", Path()
        self.maker: Maker | None = None
        self.lock = threading.Lock()
        one_thread()

    def maker_of(self, parcel: bytes) -> Maker:
        if self.maker is None or self.parcel != parcel:
            given = json.loads(parcel)
            self._check(given)
            shutil.rmtree(self.folder, ignore_errors=True) if self.maker is not None else None
            cache = cache_folder()
            cache.mkdir(parents=True, exist_ok=True)
            self.folder = Path(tempfile.mkdtemp(prefix="job-", dir=cache))
            plates = _FarmPlates(given["media"], self.folder / "media")
            order = Order.model_validate_json(given["order"])
            if order.colour is not None and order.colour.config:
                here = order.colour.model_copy(update={"config": plates.resolve(order.colour.config)})
                order = order.model_copy(update={"colour": here})
            job = Job(Shot.model_validate_json(given["shot"]), order, self.folder, self.folder / LOOK)
            self.maker = Maker(job, plates, SharedCaches.within(cache / "states"))
            self.parcel = parcel
        return self.maker

    @staticmethod
    def _check(given: dict[str, Any]) -> None:
        address = get_worker().address
        if given["engine"] != engine_digest():
            raise OtherEngine(address)
        missing = lacking(sorted({d for files in given["media"].values() for _, d in files}))
        if missing:
            raise MediaMissing(address, *missing)


_bench: list[_Bench] = []


def make_parts(
    parcel: bytes, start: int, stop: int, checkpoints: Sequence[tuple[str, str, bytes]] = ()
) -> list[tuple[str, bytes]]:
    """Render a chunk on a worker; return its files by name, and a small picture of its last frame. checkpoints: states of
    interacting emitters before it, by groups and names of the shared cache."""
    if not _bench:
        _bench.append(_Bench())
    bench = _bench[0]
    with bench.lock:
        maker = bench.maker_of(parcel)
        part = range(start, stop)
        for group, name, content in checkpoints:
            _store_checkpoint(cache_folder(), group, name, content)
        maker.make(part)
        job = maker.job
        places = [job.segment(part)] if job.order.form.single else [job.file(job.plan[at]) for at in part]
        made = [(path.name, path.read_bytes()) for path in places]
        if job.thumb is not None and job.thumb.is_file():
            made.append((LOOK, job.thumb.read_bytes()))
        for path in places:
            path.unlink(missing_ok=True)
        return made


def _store_checkpoint(cache: Path, group: str, name: str, content: bytes) -> None:
    """Lay a state where the engine looks for it; it depends on its name alone whether it fits."""
    checkpoints = SharedCaches.within(cache / "states").checkpoints
    if name not in checkpoints.names(group):
        checkpoints.put(Path(group).name, Path(name).name, [np.frombuffer(content, np.uint8)])


async def serve_worker(address: str, name: str, processes: int, keys: str | None) -> None:
    """Work for a scheduler until ended, in this many processes of one thread, each restarted when it dies. Reconnects to a
    scheduler that goes away."""
    import asyncio

    safe = security(address, keys)
    cache = cache_folder()
    cache.mkdir(parents=True, exist_ok=True)
    while True:
        began = time.monotonic()
        with contextlib.suppress(OSError, TimeoutError, RuntimeError):
            await _serve(address, name, processes, safe, cache)
        print(f"No scheduler at {address}; trying again", flush=True)
        await asyncio.sleep(max(_AGAIN_S, _ROUND_S - (time.monotonic() - began)))


async def _serve(address: str, name: str, processes: int, safe: Any, cache: Path) -> None:
    import asyncio

    from distributed import Nanny

    host = "127.0.0.1" if safe is None else None
    nannies = [
        Nanny(
            address, nthreads=1, name=name if processes == 1 else f"{name} {k + 1}", security=safe, host=host,
            local_directory=str(cache), dashboard=False, dashboard_address="127.0.0.1:0", death_timeout=60, memory_limit=0,
            preload=["isbjorn.core.deliver.farm.worker"],
        )
        for k in range(processes)
    ]  # fmt: skip
    try:
        await asyncio.gather(*nannies)
        await asyncio.gather(*(nanny.finished() for nanny in nannies))
    finally:
        await asyncio.gather(*(nanny.close(timeout=5) for nanny in nannies), return_exceptions=True)
