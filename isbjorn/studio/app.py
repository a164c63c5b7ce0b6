"""The FastAPI application: its parts, its errors, and who may talk to it."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

from fastapi import FastAPI, Request, Response
from fastapi.exceptions import RequestValidationError
from fastapi.responses import FileResponse, JSONResponse
from fastapi.staticfiles import StaticFiles
from pydantic import BaseModel

from isbjorn import __version__
from isbjorn.core.errors import IsbjornError
from isbjorn.studio import (
    bodies,
    cast,
    deliveries,
    live,
    media,
    projects,
    sampling,
    shots,
    tracks,
    versions,
    watching,
)
from isbjorn.studio.context import Studio
from isbjorn.studio.store import Missing

PAGE = Path(__file__).parent / "page"
_LOCAL = re.compile(r"^(127\.0\.0\.1|localhost|\[::1\])(:\d+)?$")


class Health(BaseModel):
    """Answers when the studio is ready."""

    ready: bool
    version: str


class Problem(BaseModel):
    """What went wrong, where, and what to do."""

    what: str
    where: str
    remedy: str


class LocalOnly:
    """Refuses requests that were not meant for this machine: a foreign Host, or an Origin other than the page's own."""

    def __init__(self, app: Any) -> None:
        self.app = app

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] in ("http", "websocket"):
            heads = {k.decode().lower(): v.decode("latin-1") for k, v in scope["headers"]}
            host, origin = heads.get("host", ""), heads.get("origin")
            if not _LOCAL.match(host) or (origin is not None and origin != f"http://{host}"):
                if scope["type"] == "websocket":
                    await send({"type": "websocket.close", "code": 1008})
                else:
                    answer = _problem(
                        403,
                        Problem(
                            what="This request does not come from the studio's own page.",
                            where="Host or Origin",
                            remedy="",
                        ),
                    )
                    await answer(scope, receive, send)
                return
        await self.app(scope, receive, send)


def _problem(status: int, problem: Problem) -> JSONResponse:
    return JSONResponse(problem.model_dump(), status_code=status)


def _start_worker(folder: Path) -> subprocess.Popen[bytes]:
    return subprocess.Popen([sys.executable, "-m", "isbjorn.studio.worker", str(folder), str(os.getpid())])


def create_app(folder: Path, with_worker: bool = True) -> FastAPI:
    """The application over a data folder."""
    studio = Studio(folder)

    @asynccontextmanager
    async def living(_: FastAPI) -> AsyncIterator[None]:
        worker = _start_worker(studio.store.folder) if with_worker else None
        yield
        if worker is not None:
            worker.terminate()
            worker.wait(timeout=10)
        studio.close()

    app = FastAPI(
        title="Isbjorn",
        version=__version__,
        lifespan=living,
        docs_url=None,
        redoc_url=None,
        responses={422: {"model": Problem}},
        generate_unique_id_function=lambda route: route.name,
    )
    app.state.studio = studio
    app.add_middleware(LocalOnly)

    @app.exception_handler(IsbjornError)
    async def mendable(request: Request, error: IsbjornError) -> JSONResponse:  # noqa: ARG001
        status = 404 if isinstance(error, Missing) else 422
        return _problem(status, Problem(what=error.what, where=error.where, remedy=error.remedy))

    @app.exception_handler(RequestValidationError)
    async def malformed(request: Request, error: RequestValidationError) -> JSONResponse:  # noqa: ARG001
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"] if part not in ("body", "query", "path"))
        return _problem(422, Problem(what=f"{first['msg']}.", where=where, remedy="Nothing was changed."))

    @app.middleware("http")
    async def never_cached(request: Request, ask: Callable[[Request], Awaitable[Response]]) -> Response:
        answer = await ask(request)
        if not request.url.path.startswith("/assets/"):
            answer.headers.setdefault("Cache-Control", "no-cache")
        return answer

    @app.get("/api/health", tags=["health"])
    def health() -> Health:
        """Whether the studio is ready."""
        return Health(ready=True, version=__version__)

    for part in (projects, shots, cast, bodies, media, sampling, tracks, versions, watching, deliveries, live):
        app.include_router(part.router)

    if (PAGE / "assets").is_dir():
        app.mount("/assets", StaticFiles(directory=PAGE / "assets"), name="assets")

        @app.get("/{place:path}", include_in_schema=False)
        def page(place: str) -> Response:
            """The page, whatever place in it is asked for."""
            if place.startswith("api/"):
                return _problem(404, Problem(what="There is no such thing.", where=place, remedy=""))
            return FileResponse(PAGE / "index.html")

    return app
