"""A wheel built from the tree is the whole product: page, migrations, engine."""

import os
import socket
import subprocess
import sys
import tempfile
import unittest
import urllib.request
import zipfile
from pathlib import Path

from tests.waiting import HANG_S, until

ROOT = Path(__file__).parents[3]


class Wheel(unittest.TestCase):
    def test_the_built_page_and_the_migrations_are_inside(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            command = [
                sys.executable,
                "-m",
                "pip",
                "wheel",
                "-q",
                "--no-deps",
                "--no-build-isolation",
                "-w",
                folder,
                str(ROOT),
            ]
            subprocess.run(command, check=True, capture_output=True)
            (wheel,) = Path(folder).glob("isbjorn-*.whl")
            with zipfile.ZipFile(wheel) as inside:
                names = set(inside.namelist())
                page = inside.read("isbjorn/studio/page/index.html").decode()
                inside.extractall(Path(folder) / "installed")
            self.assertIn('<script type="module"', self.served(Path(folder)))
        self.assertIn("isbjorn/studio/storage/migrations/versions/0001_first.py", names)
        self.assertIn("isbjorn/core/render/raster/discs.py", names)
        assets = [n for n in names if n.startswith("isbjorn/studio/page/assets/")]
        for suffix in (".js", ".css", ".woff2"):
            self.assertTrue(any(n.endswith(suffix) for n in assets), suffix)
        # Everything that the page asks for ships with it.
        self.assertNotIn("https://", page)
        self.assertFalse(any("node_modules" in n or n.startswith("tests/") for n in names))

    def served(self, folder: Path) -> str:
        """The page of the installed studio, on a path where no Node is found."""
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        env = {**os.environ, "PYTHONPATH": str(folder / "installed"), "PATH": str(folder), "ISBJORN_OSC": ""}
        command = [sys.executable, "-m", "isbjorn", "serve", "--port", str(port), "--data", str(folder / "data")]
        with subprocess.Popen(command, cwd=folder, env=env, stdout=subprocess.DEVNULL) as studio:
            try:

                def page() -> str:
                    try:
                        return urllib.request.urlopen(f"http://127.0.0.1:{port}/", timeout=10).read().decode()
                    except OSError:
                        return ""

                return until(page, "the installed studio did not answer")
            finally:
                studio.terminate()
                studio.wait(HANG_S)


if __name__ == "__main__":
    unittest.main()
