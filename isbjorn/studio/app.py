"""The FastAPI application: its parts, its errors, and which requests it accepts."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

from fastapi import FastAPI, Request, Response
from fastapi.exceptions import RequestValidationError
from fastapi.responses import FileResponse, JSONResponse
from fastapi.staticfiles import StaticFiles
from pydantic import BaseModel
from starlette.exceptions import HTTPException

from isbjorn import __version__
from isbjorn.core.caching import CacheReport, cache_reports
from isbjorn.core.errors import IsbjornError, Stale, missing_package
from isbjorn.core.runtime.memory import budget_bytes
from isbjorn.studio.api import (
    bodies,
    cast,
    controls,
    deliveries,
    lookout_api,
    points,
    sampling,
    sheets,
    shots,
    sounds,
    takes,
    tracks,
    versions,
)
from isbjorn.studio.context import Busy, Studio
from isbjorn.studio.opening import PAGE
from isbjorn.studio.pages import live, sheet
from isbjorn.studio.preview.scheduler import QueueReport
from isbjorn.studio.project_api import cuts, media, models, projects, setlist
from isbjorn.studio.request_guard import Gate, Problem, problem
from isbjorn.studio.setup import preparation
from isbjorn.studio.shows import stage
from isbjorn.studio.storage.backups import back_up
from isbjorn.studio.storage.store import Damaged, Missing


class Health(BaseModel):
    """Answers when the studio is ready. damage: what is wrong with the store, and what to do; empty if nothing is known. caches:
    those of the studio's own process; drawing: the tasks of its scheduler, by priority."""

    ready: bool
    version: str
    damage: str = ""
    caches: list[CacheReport] = []
    drawing: list[QueueReport] = []


_STATUS: tuple[tuple[type[IsbjornError], int], ...] = ((Missing, 404), (Busy, 503), (Damaged, 409))
_RESPONSES: dict[int | str, dict[str, Any]] = {
    400: {"model": Problem, "description": "The request cannot be read."},
    403: {"model": Problem, "description": "The request does not come from the studio's page."},
    404: {"model": Problem, "description": "It does not exist."},
    409: {"model": Problem, "description": "The store is damaged."},
    413: {"model": Problem, "description": "The request is too large."},
    422: {"model": Problem, "description": "The request cannot be carried out; `problem` gives the reason."},
    503: {"model": Problem, "description": "There are too many requests at once."},
}
_BACKED_UP_EVERY_S = 600.0


class _Keeper:
    """What runs beside the studio: the worker, started again whenever it ends, and backups of the store."""

    def __init__(self, studio: Studio, with_worker: bool) -> None:
        self.studio, self.ended = studio, threading.Event()
        self.threads = [threading.Thread(target=self._back_up, daemon=True)]
        if with_worker:
            self.threads.append(threading.Thread(target=self._supervise, daemon=True))
        for thread in self.threads:
            thread.start()

    def _supervise(self) -> None:
        pause, first = 0.2, ["first"]
        # First the page, then the queue: at the start both want the same cores.
        self.ended.wait(0.8)
        while not self.ended.is_set():
            begun = time.monotonic()
            folder = str(self.studio.store.folder)
            command = [sys.executable, "-m", "isbjorn.studio.worker", folder, str(os.getpid()), *first]
            # It looks at one shot at a time and at no frame twice: half of the caches do.
            half = {"ISBJORN_MEMORY_MB": str(budget_bytes() >> 21)}
            worker = subprocess.Popen(command, env=os.environ | half)
            while worker.poll() is None and not self.ended.wait(0.2):
                pass
            if self.ended.is_set():
                worker.terminate()
                try:
                    worker.wait(timeout=10)
                except subprocess.TimeoutExpired:
                    worker.kill()
                return
            first = []
            # One that falls at once is not started again without a pause.
            pause = 0.2 if time.monotonic() - begun > 30 else min(10.0, pause * 2)
            self.ended.wait(pause)

    def _back_up(self) -> None:
        wait = 5.0
        while not self.ended.wait(wait):
            wait = _BACKED_UP_EVERY_S
            try:
                wrong = back_up(self.studio.store.folder)
            except OSError:
                continue  # No room, or no right: the next time.
            remedy = "Copy the data folder, then start with --restore to return to the newest undamaged backup."
            self.studio.damage = f"The store is damaged ({wrong}). {remedy}" if wrong else None

    def end(self) -> None:
        self.ended.set()
        for thread in self.threads:
            thread.join(timeout=15)


def create_app(folder: Path, with_worker: bool = True) -> FastAPI:
    """The application over a data folder."""
    studio = Studio(folder)

    @asynccontextmanager
    async def living(_: FastAPI) -> AsyncIterator[None]:
        keeper = _Keeper(studio, with_worker)
        yield
        keeper.end()
        studio.close()

    app = FastAPI(
        title="Isbjorn",
        version=__version__,
        lifespan=living,
        docs_url=None,
        redoc_url=None,
        responses=_RESPONSES,
        generate_unique_id_function=lambda route: route.name,
    )
    app.state.studio = studio
    app.add_middleware(Gate)

    @app.exception_handler(IsbjornError)
    async def mendable(request: Request, error: IsbjornError) -> JSONResponse:  # noqa: ARG001
        status = next((code for kind, code in _STATUS if isinstance(error, kind)), 422)
        answer = problem(status, error.what, error.where, error.remedy)
        if status == 503:
            answer.headers["Retry-After"] = "2"
        return answer

    @app.exception_handler(RequestValidationError)
    async def malformed(request: Request, error: RequestValidationError) -> JSONResponse:  # noqa: ARG001
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"] if part not in ("body", "query", "path"))
        return problem(422, f"{first['msg']}.", where, "Nothing was changed.")

    @app.exception_handler(HTTPException)
    async def refused(request: Request, error: HTTPException) -> JSONResponse:
        return problem(error.status_code, f"{error.detail}.", request.url.path, "See the description of the API.")

    @app.exception_handler(Stale)
    async def given_up(request: Request, error: Stale) -> Response:  # noqa: ARG001
        return Response(status_code=204)

    @app.exception_handler(ModuleNotFoundError)
    async def optional(request: Request, error: ModuleNotFoundError) -> JSONResponse:
        if (missing := missing_package(error)) is None:
            raise error
        return await mendable(request, missing)

    @app.exception_handler(RecursionError)
    async def too_deep(request: Request, error: RecursionError) -> JSONResponse:  # noqa: ARG001
        return problem(422, "it is nested too deeply.", "body", "Nothing was changed.")

    @app.exception_handler(MemoryError)
    async def too_much(request: Request, error: MemoryError) -> JSONResponse:  # noqa: ARG001
        return problem(
            503, "there is not enough memory for this.", request.url.path, "Reduce the request, or close other shots."
        )

    @app.middleware("http")
    async def never_cached(request: Request, ask: Callable[[Request], Awaitable[Response]]) -> Response:
        answer = await ask(request)
        if not request.url.path.startswith("/assets/"):
            answer.headers.setdefault("Cache-Control", "no-cache")
        return answer

    @app.get("/api/health", tags=["health"])
    def health() -> Health:
        """Whether the studio is ready."""
        return Health(
            ready=True,
            version=__version__,
            damage=studio.damage or "",
            caches=cache_reports(),
            drawing=studio.scheduler.reports(),
        )

    for part in (
        preparation,
        projects,
        cuts,
        shots,
        cast,
        bodies,
        media,
        sampling,
        tracks,
        models,
        points,
        sounds,
        controls,
        takes,
        stage,
        setlist,
        versions,
        lookout_api,
        deliveries,
        sheets,
        live,
        sheet,
    ):
        app.include_router(part.router)

    if (PAGE / "assets").is_dir():
        app.mount("/assets", StaticFiles(directory=PAGE / "assets"), name="assets")

        @app.get("/{place:path}", include_in_schema=False)
        def page(place: str) -> Response:
            """The page, whatever place in it is asked for."""
            if place.startswith("api/"):
                return problem(404, "It does not exist.", place)
            return FileResponse(PAGE / "index.html")

    return app
