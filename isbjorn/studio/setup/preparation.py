"""Preparation that continues while the studio runs: the engine's kernels, and the demonstration, each in a separate process."""

from __future__ import annotations

import json
import subprocess
import sys
import threading
from collections.abc import Callable
from typing import Annotated, Any

from fastapi import APIRouter, Depends
from pydantic import BaseModel, Field

from isbjorn.core.runtime.kernels import is_complete
from isbjorn.studio.context import Studio, studio_of
from isbjorn.studio.setup.demo_note import PROJECT, demo_wanted
from isbjorn.studio.storage.store import Store

router = APIRouter(tags=["health"])
_COMPILER, _PAINTER = "isbjorn.core.compile_kernels", "isbjorn.studio.setup.demonstration"
_REPORTED_EVERY_S, _ENDED_WITHIN_S = 10.0, 5.0


class ComingShot(BaseModel):
    """A shot of the demonstration that is not there yet."""

    name: str
    share: float = Field(description="Share of its plate that is painted, 0 to 1.")


class Preparing(BaseModel):
    """How far the preparation is."""

    ready: bool
    engine: float = Field(description="Share of the engine that is compiled, 0 to 1.")
    project: str = Field(default=PROJECT, description="Project of the shots.")
    shots: list[ComingShot] = Field(default=[], description="Shots that are still to come, in order.")
    problem: str = Field(default="", description="Error and remedy.")


class Preparation:
    """Processes that prepare, with what they say of it. demo: make the demonstration, too, as far as it is not there."""

    def __init__(self, store: Store, demo: bool = False) -> None:
        self._folder, self._lock = str(store.folder), threading.Lock()
        self.state = Preparing(ready=False, engine=1.0 if is_complete() else 0.0)
        # The kernels of a first picture are stored. The studio ends.
        self.first_ready, self._ended = threading.Event(), threading.Event()
        self._processes: set[subprocess.Popen[str]] = set()
        work: list[Callable[[], None]] = []
        if self.state.engine < 1:
            work.append(self._compile)
        else:
            self.first_ready.set()
        if demo and demo_wanted(store):
            work.append(self._paint)
        self._left = len(work)
        self._threads = [threading.Thread(target=self._carry_out, args=(one,), daemon=True) for one in work]
        for thread in self._threads:
            thread.start()
        if not work:
            self.state = Preparing(ready=True, engine=1.0)

    def _carry_out(self, work: Callable[[], None]) -> None:
        try:
            work()
        except RuntimeError as error:
            self._update(problem=str(error))
        with self._lock:
            self._left -= 1
            last = self._left == 0
        if last:
            self._update(ready=True, engine=1.0, shots=[])

    def _update(self, **changed: Any) -> None:
        with self._lock:
            self.state = self.state.model_copy(update=changed)

    def _compile(self) -> None:
        try:
            self._run(self._compiled, _COMPILER, "--json", "--background")
        finally:
            # Without it, what is needed is compiled when it is needed.
            self.first_ready.set()

    def _paint(self) -> None:
        # One shot can be opened early; then the engine that draws it goes first.
        self._run(self._painted, _PAINTER, self._folder, "1")
        self.first_ready.wait()
        self._run(self._painted, _PAINTER, self._folder)

    def _run(self, on_line: Callable[[Any], None], module: str, *args: str) -> None:
        """Run a module in a separate process to its end; `on_line` gets each line that it prints. Raises RuntimeError."""
        if self._ended.is_set():
            return
        with subprocess.Popen([sys.executable, "-m", module, *args], stdout=subprocess.PIPE, text=True) as process:
            self._processes.add(process)
            assert process.stdout is not None
            for line in process.stdout:
                on_line(json.loads(line))
        self._processes.discard(process)
        if process.returncode != 0 and not self._ended.is_set():
            raise RuntimeError(f"The preparation ended early ({module}). It continues at the next start.")

    def _compiled(self, progress: dict[str, Any]) -> None:
        self._update(engine=progress["share"])
        if progress["first"]:
            self.first_ready.set()

    def _painted(self, progress: list[dict[str, Any]]) -> None:
        self._update(shots=[ComingShot(**one) for one in progress])

    def report(self, say: Callable[[str], object]) -> None:
        """Say how far it is, now and then, until it is ready; a thread's work."""
        said = ""
        while not self.state.ready and not self._ended.is_set():
            now, parts = self.state, []
            if now.engine < 1:
                parts.append(f"engine {now.engine:.0%} compiled")
            if now.shots:
                parts.append(f"demonstration: {len(now.shots)} {'shot' if len(now.shots) == 1 else 'shots'} to come")
            line = ", ".join(parts)
            if line and line != said:
                say(line)
                said = line
            for thread in self._threads:
                thread.join(timeout=_REPORTED_EVERY_S / len(self._threads))
        if self.state.ready:
            say(self.state.problem or "everything is ready")

    def close(self) -> None:
        """End the processes; what they have made stays, and the next start continues."""
        self._ended.set()
        self.first_ready.set()
        for process in list(self._processes):
            process.terminate()
        for thread in self._threads:
            thread.join(timeout=_ENDED_WITHIN_S)


@router.get("/api/preparation")
def preparation(studio: Annotated[Studio, Depends(studio_of)]) -> Preparing:
    """What is still made ready."""
    return studio.preparation.state if studio.preparation is not None else Preparing(ready=True, engine=1.0)
