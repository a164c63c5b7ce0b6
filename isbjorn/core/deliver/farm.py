"""Deliveries made by other machines: parts go out to the workers of a Dask scheduler, and come back as whole files.

Media go out by their content: each is sent to a worker once, and kept there. A worker whose engine is another one says so, and is
given nothing. A worker that dies, hangs or loses its disk loses no frame: its parts are made by another.
"""

from __future__ import annotations

import contextlib
import functools
import hashlib
import importlib.metadata
import json
import os
import shutil
import statistics
import tempfile
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import cv2
from distributed import Client, KilledWorker, Security, get_worker

from isbjorn.core.deliver.order import Order
from isbjorn.core.deliver.parts import Job, Maker
from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError, Stale
from isbjorn.core.media.plates import PlateReader
from isbjorn.core.media.stills import is_pattern, sequence_files
from isbjorn.core.media.whole import replace_whole
from isbjorn.core.runtime.parallel import use_threads
from isbjorn.core.simulate.handing import Shelves

_CHUNK, _ATTEMPTS, _POLL_S, _LOOKED_EVERY_S, _WAIT_S, _SEND_S = 4 << 20, 4, 0.3, 0.02, 10, 60
_CACHE_BYTES = 16 << 30
# A worker that gives nothing back for so long, and for so many times the usual time of a part, hangs.
_PATIENCE_S, _PATIENCE_TIMES = 300.0, 20.0
_LOOPBACK = ("127.0.0.1", "localhost", "::1")
# A small picture of the last frame, beside the files of a part.
_LOOK = "look.jpg"
_LIBRARIES = ("numpy", "numba", "llvmlite", "opencv-python-headless", "av", "OpenImageIO", "opencolorio")


class OtherEngine(Exception):
    """The worker at an address has another engine."""


class MediaMissing(Exception):
    """The worker at an address lacks media, told by their digests."""


@functools.cache
def engine_digest() -> str:
    """A digest of all that pictures hang on beside the document: the engine's text, and the libraries it stands on."""
    root = Path(__file__).resolve().parents[1]
    found = hashlib.sha256()
    for path in sorted(root.rglob("*.py")):
        found.update(str(path.relative_to(root)).encode() + b"\0" + path.read_bytes() + b"\0")
    for name in _LIBRARIES:
        found.update(f"{name} {importlib.metadata.version(name)}\n".encode())
    return found.hexdigest()[:16]


def security(address: str, keys: str | Path | None) -> Security | None:
    """How workers and studio know each other: by one certificate that all share. Raises IsbjornError for an address beyond this
    machine without one."""
    if keys:
        path = str(keys)
        if not Path(path).is_file():
            raise IsbjornError(
                "there is no such key.", path, "Make one with `isbjorn farm-key FILE`, and copy it to all machines."
            )
        names = {f"tls_{who}_{what}": path for who in ("client", "worker", "scheduler") for what in ("cert", "key")}
        return Security(tls_ca_file=path, require_encryption=True, **names)
    host = urlsplit(address if "//" in address else f"//{address}").hostname
    if host not in _LOOPBACK:
        raise IsbjornError(
            f"{host} is not this machine, and there is no key.",
            "--key",
            "Whoever reaches an open farm can run anything on it. Make a key with `isbjorn farm-key FILE`.",
        )
    return None


def make_key(path: Path) -> None:
    """Write a certificate with its key, for all machines of a farm. Raises IsbjornError when it is there already."""
    import datetime

    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec

    if path.exists():
        raise IsbjornError("it is there already.", str(path), "Choose another place, or use this one.")
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "Isbjorn farm")])
    now = datetime.datetime.now(datetime.UTC)
    made = (
        x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
        .serial_number(x509.random_serial_number()).not_valid_before(now - datetime.timedelta(days=1))
        .not_valid_after(now + datetime.timedelta(days=3650))
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
        .sign(key, hashes.SHA256())
    )  # fmt: skip
    plain = serialization.NoEncryption()
    text = made.public_bytes(serialization.Encoding.PEM) + key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, plain
    )
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(handle, "wb") as file:
        file.write(text)


# On the studio's side


@dataclass(frozen=True)
class _File:
    """A file of a media: its name, where it lies here, its digest."""

    name: str
    path: Path
    digest: str


@functools.lru_cache(maxsize=4096)
def _digest(path: Path, changed: float, size: int) -> str:  # noqa: ARG001
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def media_of(shot: Shot, order: Order) -> list[str]:
    """The names of all files that a delivery reads."""
    found: set[str] = set()

    def walk(part: Any) -> None:
        if isinstance(part, dict):
            found.update(v for k, v in part.items() if k in ("media", "font", "config") and isinstance(v, str) and v)
            for value in part.values():
                walk(value)
        elif isinstance(part, list):
            for value in part:
                walk(value)

    walk(shot.model_dump(mode="json"))
    walk({"colour": None if order.colour is None else order.colour.model_dump()})
    return sorted(found)


def _files(name: str, plates: PlateReader) -> list[_File]:
    path = plates.resolve(name)
    found = list(sequence_files(path).values()) if is_pattern(path) else [Path(path)]
    files = []
    for one in found:
        try:
            facts = one.stat()
            files.append(_File(one.name, one, _digest(one, facts.st_mtime, facts.st_size)))
        except OSError as error:
            raise IsbjornError(
                f"it cannot be read ({error.strerror}).", name, "Put it back, or choose another."
            ) from None
    return files


@dataclass
class WorkerCard:
    """A worker as the queue shows it. doing: the frames that it is at; note: why it is given nothing."""

    address: str
    name: str
    threads: int
    doing: list[str] = field(default_factory=list)
    memory_bytes: int = 0
    note: str = ""


class Farm:
    """The workers of a scheduler. Raises IsbjornError when it does not answer."""

    def __init__(self, address: str, keys: str | Path | None = None) -> None:
        self.address = address
        self.refused: dict[str, str] = {}
        safe = security(address, keys)
        try:
            self.client: Any = Client(address, security=safe, timeout=_WAIT_S, set_as_default=False, name="isbjorn")
        except (OSError, TimeoutError, ValueError) as error:
            raise IsbjornError(
                f"the farm's scheduler does not answer ({str(error)[:200]}).",
                address,
                "Is `isbjorn scheduler` running there?",
            ) from None

    def close(self) -> None:
        """Leave it; what it works at is given up."""
        with contextlib.suppress(Exception):
            self.client.close(timeout=3)

    def workers(self) -> list[WorkerCard]:
        """All workers, and what each does."""
        with contextlib.suppress(Exception):
            known = self.client.scheduler_info(n_workers=-1)["workers"]
            doing = self.client.processing()
            return [
                WorkerCard(
                    address, str(facts["name"]), facts["nthreads"], [_frames_of(k) for k in doing.get(address, ())],
                    int(facts.get("metrics", {}).get("memory", 0)), self.refused.get(address, ""),
                )
                for address, facts in known.items()
            ]  # fmt: skip
        return []

    def run(
        self,
        job: Job,
        parts: list[range],
        plates: PlateReader,
        told: Callable[[int], None],
        stale: Callable[[], bool] | None,
        seen: Callable[[list[WorkerCard]], None] | None = None,
    ) -> None:
        """Make parts of a job, as `Crew.run` does; seen: told of the workers, now and then."""
        files = {name: _files(name, plates) for name in media_of(job.shot, job.order)}
        parcel = json.dumps({
            "engine": engine_digest(), "shot": job.shot.model_dump_json(), "order": job.order.model_dump_json(),
            "media": {name: [(f.name, f.digest) for f in some] for name, some in files.items()},
        })  # fmt: skip
        by_digest = {f.digest: f.path for some in files.values() for f in some}
        work = _Work(self, job, parcel.encode(), by_digest)
        try:
            work.run(parts, told, stale, seen)
        finally:
            work.give_up()

    def send(self, address: str, digest: str, path: Path) -> None:
        """Send a file to a worker, a piece at a time."""
        with path.open("rb") as file:
            while True:
                at, piece = file.tell(), file.read(_CHUNK)
                # One that stopped answering must not stop the others' work.
                self.client.sync(
                    self.client._run,
                    put_piece,
                    digest,
                    at,
                    piece,
                    workers=[address],
                    on_error="raise",
                    callback_timeout=_SEND_S,
                )
                if len(piece) < _CHUNK:
                    return


@dataclass
class _Work:
    """Parts of one job on their way."""

    farm: Farm
    job: Job
    parcel: bytes
    paths: dict[str, Path]
    # Part, how often it was tried, and which workers alone may make it; None: any.
    begun: dict[Any, tuple[range, int, frozenset[str] | None]] = field(default_factory=dict)
    took_s: list[float] = field(default_factory=list)

    def give_up(self) -> None:
        if self.begun:
            with contextlib.suppress(Exception):
                self.farm.client.cancel(list(self.begun), force=True)
        self.begun.clear()

    def run(
        self,
        parts: list[range],
        told: Callable[[int], None],
        stale: Callable[[], bool] | None,
        seen: Callable[[list[WorkerCard]], None] | None,
    ) -> None:
        waiting = [(part, 0) for part in reversed(parts)]
        finished, last = 0, time.monotonic()
        while waiting or self.begun:
            cards = self.farm.workers()
            if seen is not None:
                seen(cards)
            able = {c.address: c.threads for c in cards if c.address not in self.farm.refused}
            if cards and not able:
                notes = "; ".join(sorted({c.note for c in cards}))
                raise IsbjornError(
                    f"no worker can be used: {notes}.", self.farm.address, "Install the same Isbjorn there."
                )
            while waiting and len(self.begun) < 2 * sum(able.values()):
                part, tried = waiting.pop()
                name = f"{self.job.plan[part[0]].number}–{self.job.plan[part[-1]].number}"
                # Only where there is one that may not: workers that are begun anew come back under another address.
                only = frozenset(able) if self.farm.refused else None
                future = self.farm.client.submit(
                    make_parts, self.parcel, part.start, part.stop, pure=False, workers=None if only is None else list(only),
                    key=f"frames {name} of {self.job.identity}, {tried}.{time.monotonic_ns()}",
                )  # fmt: skip
                self.begun[future] = part, tried, only
            self._free_lost(frozenset(able), waiting)
            done = self._done()
            for future in done:
                part, tried, _ = self.begun.pop(future)
                if self._take(future, part, tried, waiting):
                    finished += len(part)
                    self.took_s.append(time.monotonic() - last)
            if done or not self.begun:
                last = time.monotonic()
            elif time.monotonic() - last > self._patience():
                self._restart(cards)
                last = time.monotonic()
            told(finished)
            if stale is not None and stale():
                raise Stale

    def _free_lost(self, able: frozenset[str], waiting: list[tuple[range, int]]) -> None:
        """Let parts wait anew of which none of those that may make them is there any more."""
        for future in [f for f, (_, _, only) in self.begun.items() if only is not None and not only & able]:
            part, tried, _ = self.begun.pop(future)
            self.farm.client.cancel([future], force=True)
            waiting.append((part, tried))

    def _done(self) -> list[Any]:
        until = time.monotonic() + _POLL_S
        while time.monotonic() < until:
            if found := [future for future in self.begun if future.done()]:
                return found
            time.sleep(_LOOKED_EVERY_S)
        return []

    def _patience(self) -> float:
        least = float(os.environ.get("ISBJORN_FARM_PATIENCE_S", "") or _PATIENCE_S)
        return max(least, _PATIENCE_TIMES * statistics.median(self.took_s)) if self.took_s else least

    def _restart(self, cards: list[WorkerCard]) -> None:
        """Begin workers anew that give nothing back; what they were at goes to others, and to them again."""
        with contextlib.suppress(Exception):
            self.farm.client.restart_workers(
                [c.address for c in cards if c.doing], timeout=_WAIT_S, raise_for_error=False
            )

    def _take(self, future: Any, part: range, tried: int, waiting: list[tuple[range, int]]) -> bool:
        """Take what came of a part; whether its files lie here. What went wrong for a reason of the worker is tried again."""
        error = future.exception() if future.status == "error" else None
        if error is None and future.status == "finished":
            for name, content in future.result():
                if name == _LOOK:
                    if self.job.thumb is not None:
                        with contextlib.suppress(OSError):
                            self.job.thumb.parent.mkdir(exist_ok=True)
                            replace_whole(self.job.thumb, content)
                    continue
                try:
                    replace_whole(self.job.folder / Path(name).name, content)
                except OSError as full:
                    raise IsbjornError(
                        f"the file could not be written ({full.strerror}).",
                        str(self.job.folder / name),
                        "Is there room on the disk?",
                    ) from None
            return True
        if isinstance(error, IsbjornError):
            raise error
        if isinstance(error, MediaMissing):
            address, *digests = error.args
            try:
                for digest in digests:
                    self.farm.send(address, digest, self.paths[digest])
            except (OSError, TimeoutError, ValueError) as failed:
                error = failed
            else:
                waiting.append((part, tried))
                return False
        if isinstance(error, OtherEngine):
            self.farm.refused[error.args[0]] = "it has another engine"
            waiting.append((part, tried))
            return False
        if tried + 1 >= _ATTEMPTS:
            words = "its worker died" if isinstance(error, KilledWorker) else f"{error!r:.200}"
            raise IsbjornError(
                f"frames {self.job.plan[part[0]].number} to {self.job.plan[part[-1]].number} failed {_ATTEMPTS} times ({words}).",
                self.farm.address,
                "Choose a smaller scale, or look at the workers' own words.",
            )
        waiting.append((part, tried + 1))
        return False


def _frames_of(key: str) -> str:
    return str(key).partition(" of ")[0]


# On the workers' side


def cache_folder() -> Path:
    """Where a worker keeps media and states (`ISBJORN_WORKER_CACHE`)."""
    return Path(os.environ.get("ISBJORN_WORKER_CACHE", "") or Path.home() / ".isbjorn-worker")


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
    if len(piece) == _CHUNK:
        return
    with part.open("rb") as file:
        whole = hashlib.file_digest(file, "sha256").hexdigest() == digest
    if not whole:
        part.unlink()
        raise ValueError("it came broken")
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
        use_threads(1)
        cv2.setNumThreads(1)

    def maker_of(self, parcel: bytes) -> Maker:
        if self.maker is None or self.parcel != parcel:
            told = json.loads(parcel)
            self._check(told)
            shutil.rmtree(self.folder, ignore_errors=True) if self.maker is not None else None
            cache = cache_folder()
            cache.mkdir(parents=True, exist_ok=True)
            self.folder = Path(tempfile.mkdtemp(prefix="job-", dir=cache))
            plates = _FarmPlates(told["media"], self.folder / "media")
            order = Order.model_validate_json(told["order"])
            if order.colour is not None and order.colour.config:
                here = order.colour.model_copy(update={"config": plates.resolve(order.colour.config)})
                order = order.model_copy(update={"colour": here})
            job = Job(Shot.model_validate_json(told["shot"]), order, self.folder, self.folder / _LOOK)
            self.maker = Maker(job, plates, Shelves.within(cache / "states"))
            self.parcel = parcel
        return self.maker

    @staticmethod
    def _check(told: dict[str, Any]) -> None:
        address = get_worker().address
        if told["engine"] != engine_digest():
            raise OtherEngine(address)
        there = cache_folder() / "media"
        missing = {d for files in told["media"].values() for _, d in files if not (there / d).is_file()}
        if missing:
            raise MediaMissing(address, *sorted(missing))


_bench: list[_Bench] = []


def make_parts(parcel: bytes, start: int, stop: int) -> list[tuple[str, bytes]]:
    """Make a part on a worker: its files, by their names, and a small picture of its last frame."""
    if not _bench:
        _bench.append(_Bench())
    bench = _bench[0]
    with bench.lock:
        maker = bench.maker_of(parcel)
        part = range(start, stop)
        maker.make(part)
        job = maker.job
        places = [job.segment(part)] if job.order.form.single else [job.file(job.plan[at]) for at in part]
        made = [(path.name, path.read_bytes()) for path in places]
        if job.thumb is not None and job.thumb.is_file():
            made.append((_LOOK, job.thumb.read_bytes()))
        for path in places:
            path.unlink(missing_ok=True)
        return made


async def serve_worker(address: str, name: str, processes: int, keys: str | None) -> None:
    """Work for a scheduler until ended, in so many processes of one thread, each begun anew when it dies."""
    import asyncio

    from distributed import Nanny

    safe = security(address, keys)
    cache = cache_folder()
    cache.mkdir(parents=True, exist_ok=True)
    host = "127.0.0.1" if safe is None else None
    nannies = [
        Nanny(
            address, nthreads=1, name=name if processes == 1 else f"{name} {k + 1}", security=safe, host=host,
            local_directory=str(cache), dashboard=False, dashboard_address="127.0.0.1:0", death_timeout=60, memory_limit=0,
            preload=["isbjorn.core.deliver.farm"],
        )
        for k in range(processes)
    ]  # fmt: skip
    await asyncio.gather(*nannies)
    await asyncio.gather(*(nanny.finished() for nanny in nannies))


async def serve_scheduler(address: str, keys: str | None) -> None:
    """Bring studios and workers together at an address until ended."""
    from distributed import Scheduler

    safe = security(address, keys)
    parts = urlsplit(address if "//" in address else f"//{address}")
    async with Scheduler(
        host=parts.hostname, port=parts.port or 8786, security=safe, dashboard=False, dashboard_address="127.0.0.1:0"
    ) as scheduler:
        print(f"The farm is ready at {scheduler.address}", flush=True)
        await scheduler.finished()
