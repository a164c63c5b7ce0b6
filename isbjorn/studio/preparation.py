"""What is still made ready while the studio runs: the engine's kernels, and the demonstration. Each has a process of its own."""

from __future__ import annotations

import json
import subprocess
import sys
import threading
from collections.abc import Callable
from dataclasses import asdict
from typing import Annotated, Any

from fastapi import APIRouter, Depends
from pydantic import BaseModel, Field

from isbjorn.core.runtime.kernels import is_complete
from isbjorn.studio.context import Studio, studio_of
from isbjorn.studio.demonstration import PROJECT, Painting
from isbjorn.studio.store import Store

router = APIRouter(tags=["health"])
_TOLD_EVERY_S, _ENDED_WITHIN_S = 10.0, 5.0


class ComingShot(BaseModel):
    """A shot of the demonstration that is not there yet."""

    name: str
    share: float = Field(description="Of its plate that is painted, 0 to 1.")


class Preparing(BaseModel):
    """How far the preparation is."""

    ready: bool
    engine: float = Field(description="Share of the engine that is compiled, 0 to 1.")
    project: str = Field(default=PROJECT, description="The project that the shots belong to.")
    shots: list[ComingShot] = Field(default=[], description="Shots that are still to come, in their order.")
    problem: str = Field(default="", description="What went wrong, and what to do.")


class Preparation:
    """Processes that prepare, with what they say of it. demo: make the demonstration, too, as far as it is not there."""

    def __init__(self, store: Store, demo: bool = False) -> None:
        self._lock = threading.Lock()
        self.state = Preparing(ready=False, engine=1.0 if is_complete() else 0.0)
        # The kernels of a first picture are there; all of them are.
        self.first_ready, self.engine_ready = threading.Event(), threading.Event()
        self._running: list[subprocess.Popen[str]] = []
        self._threads: list[threading.Thread] = []
        if self.state.engine < 1:
            self._run(self._compiled, "isbjorn.core.ready", "--json", "--background")
        else:
            self.first_ready.set()
            self.engine_ready.set()
        if demo and (painting := Painting(store)).wanted():
            self._painted([asdict(scene) for scene in painting.scenes])
            self._run(self._painted, "isbjorn.studio.demonstration", str(store.folder))
        self._settle()

    def _run(self, heard: Callable[[Any], None], module: str, *args: str) -> None:
        process = subprocess.Popen([sys.executable, "-m", module, *args], stdout=subprocess.PIPE, text=True)
        self._running.append(process)
        thread = threading.Thread(target=self._follow, args=(process, heard, module), daemon=True)
        self._threads.append(thread)
        thread.start()

    def _follow(self, process: subprocess.Popen[str], heard: Callable[[Any], None], module: str) -> None:
        assert process.stdout is not None
        for line in process.stdout:
            with self._lock:
                heard(json.loads(line))
        if process.wait() != 0:
            with self._lock:
                self.state = self.state.model_copy(
                    update={"problem": f"The preparation ended early ({module}). It goes on at the next start."}
                )
        if module.endswith("ready"):
            # Without it, what is needed is compiled when it is needed.
            self.first_ready.set()
            self.engine_ready.set()
        self._running.remove(process)
        self._settle()

    def _settle(self) -> None:
        if not self._running:
            with self._lock:
                self.state = self.state.model_copy(update={"ready": True, "engine": 1.0, "shots": []})

    def _compiled(self, told: dict[str, Any]) -> None:
        self.state = self.state.model_copy(update={"engine": told["share"]})
        if told["first"]:
            self.first_ready.set()

    def _painted(self, told: list[dict[str, Any]]) -> None:
        self.state = self.state.model_copy(update={"shots": [ComingShot(**one) for one in told]})

    def report(self, say: Callable[[str], object]) -> None:
        """Say how far it is, now and then, until it is ready; a thread's work."""
        said = ""
        while not self.state.ready:
            now, parts = self.state, []
            if now.engine < 1:
                parts.append(f"engine {now.engine:.0%} compiled")
            if now.shots:
                parts.append(
                    f"{len(now.shots)} {'shot' if len(now.shots) == 1 else 'shots'} of the demonstration to come"
                )
            line = ", ".join(parts)
            if line and line != said:
                say(line)
                said = line
            self._wait(_TOLD_EVERY_S)
        say(self.state.problem or "everything is ready")

    def _wait(self, s: float) -> None:
        for thread in self._threads:
            thread.join(timeout=s / len(self._threads))

    def close(self) -> None:
        """End the processes; what they have made stays, and the next start goes on."""
        for process in list(self._running):
            process.terminate()
        for thread in self._threads:
            thread.join(timeout=_ENDED_WITHIN_S)


@router.get("/api/preparation")
def preparation(studio: Annotated[Studio, Depends(studio_of)]) -> Preparing:
    """What is still made ready."""
    return studio.preparation.state if studio.preparation is not None else Preparing(ready=True, engine=1.0)
