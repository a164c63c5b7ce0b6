"""What the tests of the studio share: a studio over a folder that is thrown away, and a socket that looks at its shot."""

import contextlib
import faulthandler
import functools
import json
import shutil
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np
import simplejpeg
from fastapi.testclient import TestClient

from isbjorn.studio.app import create_app
from isbjorn.studio.sockets import unpacked
from isbjorn.studio.storage.store import NAME, Store
from tests.waiting import HANG_S


@functools.cache
def _empty_store() -> bytes:
    """The file of a store in which there is nothing yet: its tables are made once."""
    with tempfile.TemporaryDirectory() as folder:
        Store(Path(folder)).engine.dispose()
        return (Path(folder) / NAME).read_bytes()


class InStudio(unittest.TestCase):
    # Whether deliveries are carried out.
    with_worker = False

    def setUp(self) -> None:
        # A socket that never answers must fail the run, not hang it.
        faulthandler.dump_traceback_later(HANG_S, exit=True)
        self.addCleanup(faulthandler.cancel_dump_traceback_later)
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        (self.folder / "data").mkdir()
        (self.folder / "data" / NAME).write_bytes(_empty_store())
        self.app = create_app(self.folder / "data", with_worker=self.with_worker)
        client = TestClient(self.app, base_url="http://127.0.0.1", raise_server_exceptions=False)
        self.client = client.__enter__()
        self.addCleanup(client.__exit__, None, None, None)
        self.project = self.client.post("/api/projects", json={"name": "Skarvøy Lights"}).json()["id"]
        body = {"name": "Beacon", "width": 320, "height": 180, "frames": 50}
        self.shot = self.client.post(f"/api/projects/{self.project}/shots", json=body).json()["id"]

    def edit(self, path: str, value: object, **more: object) -> Any:
        changes = [{"op": "replace", "path": path, "value": value}]
        return self.client.patch(f"/api/shots/{self.shot}", json={"changes": changes, **more})

    def document(self) -> Any:
        return self.client.get(f"/api/shots/{self.shot}").json()["document"]

    def problem(self, answer: Any, status: int = 422) -> str:
        self.assertEqual(answer.status_code, status, answer.text)
        found = answer.json()
        self.assertEqual(set(found), {"what", "where", "remedy"})
        return f"{found['where']}: {found['what']} {found['remedy']}"


class Looking(InStudio):
    """Looks at the shot over the socket."""

    @contextlib.contextmanager
    def looking(self):  # type: ignore[no-untyped-def]
        with self.client.websocket_connect(f"/api/shots/{self.shot}/live", headers={"host": "127.0.0.1"}) as socket:
            yield socket

    def picture(self, socket: Any, confirm: bool = True) -> tuple[dict[str, Any], np.ndarray]:
        while "bytes" not in (message := socket.receive()):
            # How far a run is, on a slow machine.
            self.assertEqual(json.loads(message["text"])["kind"], "running")
        header, jpeg = unpacked(message["bytes"])
        if confirm:
            socket.send_json({"kind": "shown", "serial": header["serial"]})
        return header, simplejpeg.decode_jpeg(jpeg)

    def exact(self, socket: Any) -> np.ndarray:
        """The next picture in full: on a busy machine a coarse one may come before it."""
        while True:
            header, picture = self.picture(socket)
            if header["exact"]:
                return picture
