"""The demonstration is made beside the running studio, shot by shot; one that was interrupted continues."""

import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import numpy.typing as npt

from isbjorn.demo.beacon import beacon
from isbjorn.demo.lights import net_lights, rime
from isbjorn.studio.setup import demonstration
from isbjorn.studio.setup.demo_note import DemoNote, demo_wanted, read_note, write_note
from isbjorn.studio.setup.demonstration import Painting, _Scene
from isbjorn.studio.setup.preparation import Preparation
from isbjorn.studio.storage.store import Store
from isbjorn.studio.storage.tables import ShotRow
from tests.painted import demonstration as painted
from tests.waiting import until


def _grey(_: int) -> npt.NDArray[np.uint8]:
    return np.full((720, 1280, 3), 90, np.uint8)


_SCENES = tuple(
    _Scene(shot, shot.__name__, f"{shot.__name__}.mp4", lambda: _grey, 2) for shot in (beacon, net_lights, rime)
)


class Folder(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.store = Store(self.folder)
        self.addCleanup(self.store.engine.dispose)


class Painted(Folder):
    def setUp(self) -> None:
        super().setUp()
        scenes = mock.patch.object(demonstration, "_SCENES", _SCENES)
        scenes.start()
        self.addCleanup(scenes.stop)

    def names(self) -> list[str]:
        return [self.store.document(row.id or 0).name for row in self.store.shots(1)]

    def test_shots_come_one_by_one_and_say_how_far_their_plates_are(self) -> None:
        seen: list[list[tuple[str, float]]] = []
        Painting(self.store, lambda p: seen.append([(s.name, s.share) for s in p.scenes])).paint()
        self.assertEqual(self.names(), ["Beacon", "Net lights", "Rime"])
        self.assertEqual(seen[0], [("Beacon", 0), ("Net lights", 0), ("Rime", 0)])
        self.assertIn([("Net lights", 0.5), ("Rime", 0)], seen)
        self.assertEqual(seen[-1], [])
        self.assertFalse(demo_wanted(self.store))

    def test_an_interrupted_one_continues(self) -> None:
        def torn(_: int) -> npt.NDArray[np.uint8]:
            raise OSError("the light went out")

        broken = (_SCENES[0], _Scene(net_lights, "The quay", "net_lights.mp4", lambda: torn, 2), _SCENES[2])
        with mock.patch.object(demonstration, "_SCENES", broken), self.assertRaises(OSError):
            Painting(self.store).paint()
        self.assertEqual(self.names(), ["Beacon"])
        self.assertTrue(demo_wanted(self.store))
        Painting(self.store).paint()
        self.assertEqual(self.names(), ["Beacon", "Net lights", "Rime"])
        self.assertEqual(len(self.store.media(1)), 4)

    def test_a_shot_that_was_deleted_meanwhile_stays_deleted(self) -> None:
        Painting(self.store).paint(1)
        self.assertEqual(self.names(), ["Beacon"])
        self.store.put_away(ShotRow, 1, True)
        Painting(self.store).paint()
        self.assertEqual(self.names(), ["Net lights", "Rime"])

    def test_nothing_is_made_where_a_project_is_or_the_demonstration_was_deleted(self) -> None:
        self.store.create_project("Mine")
        self.assertFalse(demo_wanted(self.store))
        write_note(self.store, DemoNote(99, ("Beacon",)))
        self.assertFalse(demo_wanted(self.store))

    def test_an_unreadable_note_is_none(self) -> None:
        for text in ("", "[]", '{"project": "x"}', '{"project": 1, "made": 3, "complete": true}'):
            (self.folder / "demo.json").write_text(text)
            self.assertIsNone(read_note(self.store))


class Beside(Folder):
    def test_processes_of_their_own_prepare_and_the_studio_hears_of_it(self) -> None:
        painted(self.folder)
        note = read_note(self.store)
        assert note is not None
        self.assertTrue(note.complete)
        last = next(row for row in self.store.shots(1) if self.store.document(row.id or 0).name == "Rime")
        self.store.put_away(ShotRow, last.id or 0, True)
        write_note(self.store, DemoNote(note.project, tuple(name for name in note.made if name != "Rime")))
        heard: list[dict[str, Any]] = []
        update = Preparation._update

        def listened(preparation: Preparation, **changed: Any) -> None:
            heard.append(changed)
            update(preparation, **changed)

        with mock.patch.object(Preparation, "_update", listened):
            preparation = Preparation(self.store, demo=True)
            self.addCleanup(preparation.close)
            until(lambda: preparation.state.ready, "the preparation did not end")
        self.assertEqual(preparation.state.problem, "")
        self.assertTrue(preparation.first_ready.is_set())
        self.assertEqual(preparation.state.engine, 1)
        self.assertIn(["Rime"], [[shot.name for shot in one["shots"]] for one in heard if "shots" in one])
        self.assertIn("Rime", [self.store.document(row.id or 0).name for row in self.store.shots(1)])
        said: list[str] = []
        preparation.report(said.append)
        self.assertEqual(said, ["everything is ready"])

    def test_one_that_fails_says_so_and_the_studio_works_on(self) -> None:
        with mock.patch("isbjorn.studio.setup.preparation._PAINTER", "isbjorn.studio.no_such_painter"):
            preparation = Preparation(self.store, demo=True)
            self.addCleanup(preparation.close)
            until(lambda: preparation.state.ready, "the preparation did not end")
        self.assertIn("It continues at the next start", preparation.state.problem)

    def test_an_end_of_the_studio_ends_them(self) -> None:
        preparation = Preparation(self.store, demo=True)
        until(lambda: preparation._processes, "nothing was started")
        running = next(iter(preparation._processes))
        preparation.close()
        self.assertIsNotNone(running.poll())

    def test_a_painter_ends_with_the_studio_that_was_killed(self) -> None:
        code = (
            "import subprocess, sys; child = subprocess.Popen([sys.executable, '-m', 'isbjorn.studio.setup.demonstration', "
            f"{str(self.folder)!r}], stdout=subprocess.PIPE, text=True); child.stdout.readline(); print(child.pid)"
        )
        pid = int(subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout)
        until(lambda: not Path(f"/proc/{pid}").exists(), "the painter outlived its studio")


if __name__ == "__main__":
    unittest.main()
