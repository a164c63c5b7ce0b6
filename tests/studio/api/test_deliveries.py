"""Deliveries: the queue, its worker, and the command line."""

import contextlib
import io
import json
import os
import shutil
import subprocess
import sys
import unittest
from contextlib import redirect_stderr, redirect_stdout
from typing import Any
from unittest import mock

import PyOpenColorIO as ocio

from isbjorn.cli import main
from isbjorn.core.document import Plate
from isbjorn.core.document.files import shot_to_text
from isbjorn.core.errors import IsbjornError
from isbjorn.studio.storage.tables import DeliveryRow
from isbjorn.studio.worker import Worker
from tests.core.media.test_media import movie
from tests.shots import one_emitter
from tests.studio.in_studio import InStudio


class Queue(InStudio):
    def setUp(self) -> None:
        super().setUp()
        self.out = self.folder / "out"
        self.worker = Worker(self.folder / "data", parent=-1)
        self.addCleanup(self.worker.store.engine.dispose)
        mock.patch.object(Worker, "orphaned", return_value=False).start()
        self.addCleanup(mock.patch.stopall)

    def body(self, **more: object) -> dict[str, object]:
        return {"format": "png8", "first": 0, "last": 5, "folder": str(self.out), "name": "b", "scale": 0.25, **more}

    def order(self, **more: object) -> Any:
        return self.client.post(f"/api/shots/{self.shot}/deliveries", json=self.body(**more))

    def work(self) -> None:
        delivery = self.worker._take()
        self.assertIsNotNone(delivery)
        self.worker._carry_out(delivery or 0)

    def first(self) -> Any:
        return self.client.get("/api/deliveries").json()[0]

    def test_a_delivery_is_carried_out_with_the_shot_as_it_was_ordered(self) -> None:
        self.order()
        self.edit("/emitters/0/on", False)
        self.work()
        job = self.first()
        self.assertEqual((job["state"], job["done"], job["total"]), ("done", 6, 6))
        self.assertEqual(len(list(self.out.glob("b.*.png"))), 6)
        self.assertGreater((self.out / "b.0005.png").stat().st_size, 1000)
        self.assertEqual(self.client.get(f"/api/deliveries/{job['id']}/last").status_code, 200)

    def test_cancel_and_resume(self) -> None:
        job = self.order().json()["id"]
        self.client.post(f"/api/deliveries/{job}/cancel")
        self.assertIsNone(self.worker._take())
        self.client.post(f"/api/deliveries/{job}/resume")
        self.work()
        self.assertEqual(self.first()["state"], "done")

    def test_a_delivery_left_in_the_middle_goes_on_after_a_restart(self) -> None:
        job = self.order().json()["id"]
        self.worker._take()
        self.assertEqual(self.first()["state"], "working")
        again = Worker(self.folder / "data", parent=-1)
        self.addCleanup(again.store.engine.dispose)
        with mock.patch.object(again, "_take", side_effect=KeyboardInterrupt), contextlib.suppress(KeyboardInterrupt):
            again.run()
        self.assertEqual((self.first()["id"], self.first()["state"]), (job, "waiting"))

    def test_places_and_plates_that_fail_are_said_on_the_job(self) -> None:
        blocked = self.folder / "file"
        blocked.write_text("")
        self.problem(self.order(folder=str(blocked / "x")))
        self.problem(self.order(folder="relative/place"))
        self.problem(self.order(last=-1))
        self.problem(self.order(scale=0))
        self.edit("/plate", {"media": "gone.mp4"})
        self.order()
        self.work()
        self.assertEqual(self.first()["state"], "failed")
        self.assertIn("gone.mp4", self.first()["problem"])

    def test_a_folder_that_vanishes_fails_the_job_and_resumes_when_it_is_back(self) -> None:
        self.order()
        shutil.rmtree(self.out)
        self.out.write_text("in the way")
        self.work()
        job = self.first()
        self.assertEqual(job["state"], "failed")
        self.out.unlink()
        self.client.post(f"/api/deliveries/{job['id']}/resume")
        self.work()
        self.assertEqual(self.first()["state"], "done")

    def test_a_full_disk_says_how_much_is_needed(self) -> None:
        self.order()
        full = mock.patch("isbjorn.studio.worker.free_bytes", return_value=1000)
        with full, mock.patch("isbjorn.core.deliver.chunks.Maker.make", side_effect=IsbjornError("no room", "b.png")):
            self.work()
        job = self.first()
        self.assertEqual(job["state"], "failed")
        self.assertRegex(job["problem"], r"The rest needs about \d+ MB, and 0 MB are free")

    def test_the_form_says_what_becomes_of_alpha(self) -> None:
        body = {"first": 0, "last": 5, "folder": str(self.out), "name": "b"}
        note = lambda **q: self.client.post(f"/api/shots/{self.shot}/order-told", json={**body, **q}).json()["alpha"]  # noqa: E731
        self.assertIn("no alpha", note(format="mp4", over_plate=False))
        self.assertIn("exact over any", note(format="exr-half", over_plate=False))
        self.assertEqual(note(format="png8", over_plate=True), "")

    def test_files_are_not_written_over_and_two_orders_never_meet(self) -> None:
        self.assertEqual(self.order().status_code, 201)
        self.assertIn("already", self.problem(self.order()))
        self.assertIn(
            "already", self.client.post(f"/api/shots/{self.shot}/order-told", json=self.body()).json()["refused"]
        )
        self.work()
        self.assertIn("b.0000.png", self.problem(self.order()))
        named = {"name": "{project}_{shot}_{version}", "existing": "version"}
        names = [self.order(**named).json()["order"]["name"] for _ in range(2)]
        self.assertEqual([name.rpartition("_")[2] for name in names], ["001", "002"])
        self.assertNotIn("{", names[0])

    def test_an_order_is_previewed(self) -> None:
        reported = self.client.post(f"/api/shots/{self.shot}/order-told", json=self.body(retime={"speed": 50})).json()
        self.assertEqual((reported["count"], reported["first"], reported["last"]), (12, "b.0000.png", "b.0011.png"))
        self.assertGreater(reported["seconds"], 0)
        self.assertEqual(reported["moments"][-1], 5.5)
        for wrong in ({"colour": {"space": "Crimson"}}, {"passes": ["depth"]}, {"name": "{no}"}):
            reported = self.client.post(f"/api/shots/{self.shot}/order-told", json=self.body(**wrong)).json()
            self.assertTrue(reported["refused"], wrong)
        self.problem(self.client.post(f"/api/shots/{self.shot}/order-told", json=self.body(folder="here")))
        self.problem(self.client.post(f"/api/shots/{self.shot}/order-told", json=self.body(every=0)))

    def test_colours_of_a_place_that_was_not_named_are_not_read(self) -> None:
        found = self.client.get("/api/colours").json()
        self.assertIn("ACEScg", found["spaces"])
        self.assertIn(["sRGB - Display", "Un-tone-mapped"], found["views"])
        (self.folder / "config.ocio").write_text("secret")
        colour = {"space": "ACEScg", "config": str(self.folder / "config.ocio")}
        for answer in (
            self.client.get("/api/colours", params={"config": colour["config"]}),
            self.order(colour=colour),
            self.client.post(f"/api/shots/{self.shot}/order-told", json=self.body(colour=colour)),
        ):
            self.assertIn("outside the library", self.problem(answer))

    def test_a_project_remembers_its_own_colours(self) -> None:
        form = lambda: self.client.get(f"/api/shots/{self.shot}/delivery-form").json()["config"]  # noqa: E731
        own = self.folder / "config.ocio"
        own.write_text(ocio.Config.CreateFromBuiltinConfig("studio-config-latest").serialize())
        self.client.post("/api/folders", json={"path": str(self.folder)})
        self.assertEqual(form(), "")
        self.assertEqual(self.order(colour={"space": "ACEScg", "config": str(own)}).status_code, 201)
        self.assertEqual(form(), str(own))
        other = self.client.post("/api/projects", json={"name": "Other"}).json()["id"]
        body = {"name": "B", "width": 64, "height": 64, "frames": 2}
        shot = self.client.post(f"/api/projects/{other}/shots", json=body).json()["id"]
        self.assertEqual(self.client.get(f"/api/shots/{shot}/delivery-form").json()["config"], "")
        own.unlink()
        self.assertEqual(form(), "")

    def test_purposes_are_kept_shared_and_forgotten(self) -> None:
        form = lambda: self.client.get(f"/api/shots/{self.shot}/delivery-form").json()["purposes"]  # noqa: E731
        shipped = len(form())
        mine = {"name": "Wall", "order": {"format": "mov", "name": "{shot}", "scale": 2}}
        kept = self.client.post("/api/purposes", json=mine).json()
        again = self.client.post("/api/purposes", json=mine | {"about": "East"}).json()
        self.assertEqual((kept["id"], len(form()), form()[-1]["about"]), (again["id"], shipped + 1, "East"))
        file = self.client.get(f"/api/purposes/{kept['id']}/export")
        self.assertIn("Wall.purpose.json", file.headers["content-disposition"])
        self.assertEqual(self.client.delete(f"/api/purposes/{kept['id']}").status_code, 204)
        self.assertEqual(len(form()), shipped)
        back = self.client.post("/api/purposes/import", content=file.content).json()
        self.assertEqual((back["name"], back["order"]), ("Wall", mine["order"]))
        self.problem(self.client.post("/api/purposes/import", content=b"{"))
        self.problem(self.client.post("/api/purposes", json=mine | {"order": {"format": "mp3"}}))
        self.problem(self.client.get("/api/purposes/999/export"), 404)

    def test_an_order_of_an_older_studio_is_still_carried_out(self) -> None:
        job = self.order().json()["id"]
        with self.worker.store.session(write=True) as session:
            row = session.get(DeliveryRow, job)
            assert row is not None
            row.order = json.dumps(
                {
                    "format": "png8",
                    "first": 0,
                    "last": 2,
                    "folder": str(self.out),
                    "name": "old",
                    "scale": 0.25,
                    "over_plate": True,
                }
            )
            session.add(row)
        self.work()
        self.assertEqual((self.first()["state"], len(list(self.out.glob("old.*.png")))), ("done", 3))


class CommandLine(InStudio):
    def run_cli(self, *words: str) -> tuple[int, str]:
        """Run a command in this process; its exit code, and what it said."""
        said = io.StringIO()
        environment = {"ISBJORN_DATA": str(self.folder / "data"), "COLUMNS": "200"}
        with (
            mock.patch.object(sys, "argv", ["isbjorn", *words]), mock.patch.dict(os.environ, environment),
            redirect_stdout(said), redirect_stderr(said), self.assertRaises(SystemExit) as left,
        ):  # fmt: skip
            main()
        return int(left.exception.code or 0), said.getvalue()

    def test_it_is_a_program_of_its_own(self) -> None:
        command = [sys.executable, "-m", "isbjorn", "schema"]
        done = subprocess.run(command, capture_output=True, text=True, check=True)
        self.assertEqual(json.loads(done.stdout)["title"], "Isbjorn shot")

    def test_a_shot_file_or_a_shot_of_the_store_can_be_rendered(self) -> None:
        movie(self.folder / "pier.mp4", 10)
        shot = one_emitter(width=64, height=36).model_copy(update={"plate": Plate(media="pier.mp4")})
        (self.folder / "s.json").write_text(shot_to_text(shot))
        code, said = self.run_cli(
            "render", str(self.folder / "s.json"), "--frames", "3-4", "--out", str(self.folder / "o")
        )
        self.assertEqual(code, 0, said)
        self.assertTrue((self.folder / "o.0004.png").is_file())
        code, said = self.run_cli(
            "render",
            str(self.shot),
            "--frames",
            "0-3",
            "--scale",
            "0.5",
            "--format",
            "mp4",
            "--no-plate",
            "--out",
            str(self.folder / "m"),
        )
        self.assertEqual(code, 0, said)
        self.assertTrue((self.folder / "m.mp4").is_file())
        code, said = self.run_cli(
            "render", str(self.shot), "--purpose", "passes", "--frames", "0-1", "--scale", "0.2", "--speed", "50",
            "--colour", "ACEScg", "--handles", "1", "--compression", "piz", "--out", str(self.folder / "{shot}_{version}"),
        )  # fmt: skip
        self.assertEqual(code, 0, said)
        self.assertEqual(len(list(self.folder.glob("*_001.*.exr"))), 8)
        code, said = self.run_cli(
            "render", str(self.shot), "--out", str(self.folder / "z"), "--dry-run", "--format", "mp4"
        )
        self.assertEqual((code, (self.folder / "z.mp4").exists()), (0, False), said)
        self.assertIn("z.mp4", said)
        self.assertIn("MB", said)
        code, said = self.run_cli("points", str(self.shot), "--frame", "10", "--out", str(self.folder / "p.csv"))
        self.assertEqual(code, 0, said)

    def test_mistakes_are_one_line(self) -> None:
        shot = str(self.shot)
        for words in (
            ("render", "nothing.json", "--out", "x"),
            ("render", shot, "--frames", "a-b", "--out", "x"),
            ("render", shot, "--format", "mp3", "--out", "x"),
            ("render", shot, "--purpose", "nobody", "--out", "x"),
            ("render", shot, "--handles", "a", "--out", "x"),
            ("render", shot, "--passes", "smell", "--out", "x"),
            ("render", shot, "--colour", "Crimson", "--out", "x"),
            ("points", shot, "--frame", "1", "--out", "x.doc"),
        ):
            code, said = self.run_cli(*words)
            self.assertEqual(code, 2, said)
            self.assertNotIn("Traceback", said)
        self.assertIn("bench", self.run_cli("--help")[1])


if __name__ == "__main__":
    unittest.main()
