"""The address answers while the studio is still loaded."""

import asyncio
import os
import shutil
import socket
import subprocess
import sys
import tempfile
import threading
import unittest
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

import httpx
from fastapi import FastAPI

from isbjorn.studio.context import only_one
from isbjorn.studio.opening import PAGE, Opening
from tests.waiting import HANG_S


def _free_port() -> int:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return int(free.getsockname()[1])


class Opened(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        self.may_load, self.states = threading.Event(), [""]

        @asynccontextmanager
        async def living(_: FastAPI) -> Any:
            self.states.append("lives")
            yield
            self.states.append("ended")

        def load() -> FastAPI:
            self.may_load.wait(HANG_S)
            app = FastAPI(lifespan=living)
            app.get("/api/projects")(lambda: ["of the studio"])
            app.get("/api/health")(lambda: {"ready": True})
            return app

        self.opening = Opening(load, lambda: self.states.append("failed"))
        self.inbox: asyncio.Queue[dict[str, str]] = asyncio.Queue()
        self.outbox: asyncio.Queue[dict[str, str]] = asyncio.Queue()
        self.life = asyncio.create_task(self.opening({"type": "lifespan"}, self.inbox.get, self.outbox.put))
        await self.inbox.put({"type": "lifespan.startup"})
        self.assertEqual((await self.outbox.get())["type"], "lifespan.startup.complete")
        self.page = httpx.AsyncClient(transport=httpx.ASGITransport(self.opening), base_url="http://127.0.0.1")

    async def asyncTearDown(self) -> None:
        self.may_load.set()
        await self.inbox.put({"type": "lifespan.shutdown"})
        self.assertEqual((await self.outbox.get())["type"], "lifespan.shutdown.complete")
        await self.life
        self.assertEqual(self.states[-1], "ended")

    async def test_the_page_comes_at_once_and_the_rest_when_the_studio_is_there(self) -> None:
        asked = asyncio.create_task(self.page.get("/api/projects"))
        self.assertEqual((await self.page.get("/api/health")).json()["ready"], False)
        for path in ("/", "/shots/3"):
            self.assertIn('<script type="module"', (await self.page.get(path)).text)
        script = next(file for file in (PAGE / "assets").iterdir() if file.suffix == ".js")
        self.assertEqual(
            (await self.page.get(f"/assets/{script.name}")).headers["content-type"][:15], "text/javascript"
        )
        self.assertFalse(asked.done())
        self.may_load.set()
        self.assertEqual((await asked).json(), ["of the studio"])
        self.assertEqual((await self.page.get("/api/health")).json()["ready"], True)

    async def test_nothing_beside_the_page_is_given_out(self) -> None:
        asked = asyncio.create_task(self.page.get("/assets/..%2f..%2fapp.py"))
        await self.page.get("/")
        self.assertFalse(asked.done())
        self.may_load.set()
        self.assertEqual((await asked).status_code, 404)


class Refused(unittest.TestCase):
    def test_a_studio_that_cannot_be_loaded_ends_with_the_reason(self) -> None:
        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        self.addCleanup(os.close, only_one(folder))
        command = [sys.executable, "-m", "isbjorn", "serve", "--port", str(_free_port()), "--data", str(folder)]
        done = subprocess.run(command, capture_output=True, text=True, timeout=HANG_S, check=False)
        self.assertEqual(done.returncode, 2, done.stderr)
        self.assertIn("another studio", done.stderr)


if __name__ == "__main__":
    unittest.main()
