"""Particles of other programs, and our own, taken into a running studio."""

from __future__ import annotations

import shutil

import numpy as np

from isbjorn.core import Solver
from isbjorn.core.deliver import deliver
from isbjorn.studio.storage.packages import pack_project, unpack_project
from tests.shots import one_emitter
from tests.studio.in_studio import InStudio


class Points(InStudio):
    def setUp(self) -> None:
        super().setUp()
        self.studio = self.client.app.state.studio
        self.project = self.client.post("/api/projects", json={"name": "Points"}).json()["id"]
        self.given = one_emitter(name="Bow", last_frame=20, width=320, height=180)
        self.shot = self.studio.store.create_shot(self.project, self.given).id

    def send(self, files: list, thing: str = "", expect: int = 200) -> dict:
        batch = "abcdef0123"
        for path in files:
            answer = self.client.put(
                f"/api/shots/{self.shot}/points?batch={batch}&name={path.name}", content=path.read_bytes()
            )
            self.assertEqual(answer.status_code, 201, answer.text)
        answer = self.client.post(f"/api/shots/{self.shot}/points?batch={batch}&thing={thing}")
        self.assertEqual(answer.status_code, expect, answer.text)
        return answer.json()

    def test_a_delivery_stands_in_for_the_emitter_that_made_it(self) -> None:
        files = deliver(self.given, self.folder / "out", "p.{frame}", format="npz", existing="refuse", processes=1)
        name = self.given.emitters[0].id
        found = self.send(files, name)
        self.assertIn("particles of", found["taken"][0])
        document = self.studio.store.document(self.shot)
        self.assertEqual(len(document.emitters), 1)
        self.assertIsNotNone(document.emitters[0].recording)
        a = Solver(self.given).at(15)
        b = Solver(document).at(15)
        np.testing.assert_allclose(a.position, b.position, atol=1e-3)
        # A picture of it, an undo, and a redo.
        self.assertEqual(self.client.get(f"/api/shots/{self.shot}/thumb").status_code, 200)
        self.client.post(f"/api/shots/{self.shot}/undo")
        self.assertIsNone(self.studio.store.document(self.shot).emitters[0].recording)
        self.client.post(f"/api/shots/{self.shot}/redo")
        # It goes with the project.
        package = self.folder / "points.zip"
        pack_project(self.studio.store, self.project, package)
        home = document.emitters[0].recording.media.split("/")[0]
        shutil.rmtree(self.studio.store.media_folder / home)
        other = unpack_project(self.studio.store, package)
        moved = self.studio.store.document(self.studio.store.shots(other.id)[0].id)
        np.testing.assert_allclose(Solver(moved).at(15).position, a.position, atol=1e-3)

    def test_without_a_thing_they_are_new_emitters(self) -> None:
        files = deliver(self.given, self.folder / "out", "p", format="usd", existing="refuse", processes=1)
        found = self.send(files)
        self.assertIn(f"as {self.given.emitters[0].name}", found["taken"][0])
        self.assertEqual(len(self.studio.store.document(self.shot).emitters), 2)
        media = self.client.get(f"/api/projects/{self.project}/media").json()
        self.assertEqual([m["kind"] for m in media], ["recording"])

    def test_what_is_none_leaves_nothing(self) -> None:
        (self.folder / "a.usda").write_text("#usda 1.0\n(((")
        found = self.send([self.folder / "a.usda"], expect=422)
        self.assertIn("not an OpenUSD file", found["what"])
        self.send([], expect=422)
        self.assertEqual(list(self.studio.store.media_folder.iterdir()), [])
        answer = self.client.put(f"/api/shots/{self.shot}/points?batch=abcd&name=a.exe", content=b"x")
        self.assertEqual(answer.status_code, 422)
