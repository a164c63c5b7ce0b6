"""The studio's side of a farm: it sends chunks and collects files."""

from __future__ import annotations

import asyncio
import concurrent.futures
import contextlib
import json
import os
import statistics
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from distributed import Client, KilledWorker
from distributed.client import ClosedClientError

from isbjorn.core.deliver.chunks import Job
from isbjorn.core.deliver.farm.checkpoint_transfer import CheckpointTransfer
from isbjorn.core.deliver.farm.keys import security
from isbjorn.core.deliver.farm.worker import (
    CHUNK,
    LOOK,
    MediaMissing,
    OtherEngine,
    engine_digest,
    lacking,
    make_parts,
    put_piece,
)
from isbjorn.core.deliver.order import Order
from isbjorn.core.document import Shot
from isbjorn.core.document.fields.references import with_media
from isbjorn.core.errors import IsbjornError, Stale
from isbjorn.core.evaluate.external_files import digest_of
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.media.read.stills import is_pattern, sequence_files
from isbjorn.core.runtime.whole import replace_whole
from isbjorn.core.simulate.shared_states import SharedCaches

_ATTEMPTS, _POLL_S, _LOOKED_EVERY_S, _WAIT_S, _SEND_S = 4, 0.3, 0.02, 10, 60
# A worker that returns nothing for this long, and for this multiple of the usual time of a chunk, counts as hung.
_PATIENCE_S, _PATIENCE_TIMES = 300.0, 20.0
# A scheduler that went away may come back for so long; each look for it takes as long at most.
_GONE_S, _AGAIN_S = 60.0, 3


@dataclass(frozen=True)
class _File:
    """A file of a medium: its name, its path on this machine, its digest."""

    name: str
    path: Path
    digest: str


def media_of(shot: Shot, order: Order) -> list[str]:
    """The names of all files that a delivery reads."""
    found = set() if order.colour is None or not order.colour.config else {order.colour.config}

    def noted(name: str) -> str:
        found.add(name)
        return name

    with_media(shot.model_dump(mode="json"), noted)
    return sorted(found)


def _files(name: str, plates: PlateReader) -> list[_File]:
    path = plates.resolve(name)
    found = list(sequence_files(path).values()) if is_pattern(path) else [Path(path)]
    files = []
    for one in found:
        try:
            files.append(_File(one.name, one, digest_of(one)))
        except OSError as error:
            raise IsbjornError(
                f"it cannot be read ({error.strerror}).", name, "Restore it, or select another file."
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


def _client(address: str, safe: Any, wait_s: float) -> Any:
    return Client(address, security=safe, timeout=wait_s, set_as_default=False, name="isbjorn")


class Farm:
    """The workers of a scheduler. Raises IsbjornError when it does not answer."""

    def __init__(self, address: str, keys: str | Path | None = None) -> None:
        self.address = address
        self.refused: dict[str, str] = {}
        self._safe = security(address, keys)
        try:
            self.client: Any = _client(address, self._safe, _WAIT_S)
        except (OSError, TimeoutError, ValueError) as error:
            raise IsbjornError(
                f"the farm's scheduler does not answer ({str(error)[:200]}).",
                address,
                "Check that `isbjorn scheduler` is running there.",
            ) from None

    def close(self) -> None:
        """Leave the farm; unfinished chunks are cancelled."""
        with contextlib.suppress(Exception):
            self.client.close(timeout=3)

    @property
    def is_there(self) -> bool:
        """Whether its scheduler answers."""
        return bool(self.client.status == "running")

    def look_again(self) -> None:
        """Look for the scheduler again after the connection was lost."""
        if self.client.status == "closed":
            with contextlib.suppress(OSError, TimeoutError, ValueError):
                self.client = _client(self.address, self._safe, _AGAIN_S)

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
        on_made: Callable[[int], None],
        stale: Callable[[], bool] | None,
        seen: Callable[[list[WorkerCard]], None] | None = None,
        shared_caches: SharedCaches | None = None,
    ) -> None:
        """Make chunks of a job, as `Crew.run` does; seen: called with the workers; shared_caches: states that are cached here."""
        files = {name: _files(name, plates) for name in media_of(job.shot, job.order)}
        parcel = json.dumps({
            "engine": engine_digest(), "shot": job.shot.model_dump_json(), "order": job.order.model_dump_json(),
            "media": {name: [(f.name, f.digest) for f in some] for name, some in files.items()},
        })  # fmt: skip
        by_digest = {f.digest: f.path for some in files.values() for f in some}
        work = _Work(self, job, parcel.encode(), by_digest, CheckpointTransfer(job, plates, shared_caches))
        try:
            work.run(parts, on_made, stale, seen)
        finally:
            work.give_up()

    def ask(self, address: str, call: Callable[..., Any], *args: Any) -> Any:
        """What a call gives on a worker. One that stopped answering does not stop the others' work: TimeoutError."""
        run = self.client._run
        given = {"workers": [address], "on_error": "raise", "callback_timeout": _SEND_S}
        return self.client.sync(run, call, *args, **given)[address]

    def send(self, address: str, digest: str, path: Path) -> None:
        """Send a file to a worker, a piece at a time."""
        with path.open("rb") as file:
            while True:
                at, piece = file.tell(), file.read(CHUNK)
                self.ask(address, put_piece, digest, at, piece)
                if len(piece) < CHUNK:
                    return


@dataclass
class _Work:
    """Parts of one job on their way."""

    farm: Farm
    job: Job
    parcel: bytes
    paths: dict[str, Path]
    checkpoints: CheckpointTransfer
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
        on_made: Callable[[int], None],
        stale: Callable[[], bool] | None,
        seen: Callable[[list[WorkerCard]], None] | None,
    ) -> None:
        waiting = [(part, 0) for part in reversed(parts)]
        finished, last = 0, time.monotonic()
        while waiting or self.begun:
            self._wait_for_scheduler(waiting, stale)
            cards = self.farm.workers()
            if seen is not None:
                seen(cards)
            able = {c.address: c.threads for c in cards if c.address not in self.farm.refused}
            if cards and not able:
                notes = "; ".join(sorted({c.note for c in cards}))
                raise IsbjornError(
                    f"no worker can be used: {notes}.", self.farm.address, "Install the same version of Isbjorn there."
                )
            while waiting and len(self.begun) < 2 * sum(able.values()):
                part, tried = waiting[-1]
                # Only if some workers may not: restarted workers come back under another address.
                only = frozenset(able) if self.farm.refused else None
                try:
                    future = self._submit(part, tried, only)
                except ClosedClientError:
                    # The scheduler was lost since the last look: the next round waits for it.
                    break
                waiting.pop()
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
            on_made(finished)
            if stale is not None and stale():
                raise Stale

    def _submit(self, part: range, tried: int, only: frozenset[str] | None) -> Any:
        name = f"{self.job.plan[part[0]].number}–{self.job.plan[part[-1]].number}"
        return self.farm.client.submit(
            make_parts, self.parcel, part.start, part.stop, self.checkpoints.before(part), pure=False,
            workers=None if only is None else list(only),
            key=f"frames {name} of {self.job.identity}, {tried}.{time.monotonic_ns()}",
        )  # fmt: skip

    def _wait_for_scheduler(self, waiting: list[tuple[range, int]], stale: Callable[[], bool] | None) -> None:
        """Give a lost scheduler time to come back; chunks that were being made are queued again."""
        gone = time.monotonic()
        while not self.farm.is_there:
            waiting += [(part, tried) for part, tried, _ in self.begun.values()]
            self.begun.clear()
            if stale is not None and stale():
                raise Stale
            if time.monotonic() - gone > min(_GONE_S, self._patience()):
                raise IsbjornError(
                    "the connection to the farm's scheduler was lost.", self.farm.address,
                    "Restart it and resume the delivery: finished frames are kept.",
                )  # fmt: skip
            self.farm.look_again()
            time.sleep(_POLL_S)

    def _free_lost(self, able: frozenset[str], waiting: list[tuple[range, int]]) -> None:
        """Queue chunks again if none of the workers that may make them is connected any more."""
        for future in [f for f, (_, _, only) in self.begun.items() if only is not None and not only & able]:
            part, tried, _ = self.begun.pop(future)
            with contextlib.suppress(ClosedClientError):
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
        """Restart workers that return nothing; their chunks go to others, and to them again."""
        with contextlib.suppress(Exception):
            self.farm.client.restart_workers(
                [c.address for c in cards if c.doing], timeout=_WAIT_S, raise_for_error=False
            )

    def _take(self, future: Any, part: range, tried: int, waiting: list[tuple[range, int]]) -> bool:
        """Store the files of a finished chunk; whether it was finished. Chunks that failed because of a worker are queued again."""
        files: list[tuple[str, bytes]] | None = None
        try:
            error = future.exception() if future.status == "error" else None
            if future.status == "finished":
                files = future.result()
        except (asyncio.CancelledError, concurrent.futures.CancelledError):
            # The scheduler was lost between the question and the answer.
            waiting.append((part, tried))
            return False
        if files is not None:
            for name, content in files:
                if name == LOOK:
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
                        "Check the free disk space.",
                    ) from None
            return True
        if isinstance(error, IsbjornError):
            raise error
        if future.status in ("cancelled", "lost"):
            # The scheduler was lost, which is not the chunk's fault.
            waiting.append((part, tried))
            return False
        if isinstance(error, MediaMissing):
            address, *digests = error.args
            try:
                # Another chunk may have asked for them meanwhile.
                for digest in self.farm.ask(address, lacking, digests):
                    self.farm.send(address, digest, self.paths[digest])
            except (OSError, TimeoutError, ValueError, LookupError, ClosedClientError) as failed:
                error = failed
            else:
                waiting.append((part, tried))
                return False
        if isinstance(error, OtherEngine):
            self.farm.refused[error.args[0]] = "its engine is a different version"
            waiting.append((part, tried))
            return False
        if tried + 1 >= _ATTEMPTS:
            words = "its worker ended unexpectedly" if isinstance(error, KilledWorker) else f"{error!r:.200}"
            raise IsbjornError(
                f"frames {self.job.plan[part[0]].number} to {self.job.plan[part[-1]].number} failed {_ATTEMPTS} times ({words}).",
                self.farm.address,
                "Select a smaller scale, or read the workers' messages.",
            )
        waiting.append((part, tried + 1))
        return False


def _frames_of(key: str) -> str:
    return str(key).partition(" of ")[0]
