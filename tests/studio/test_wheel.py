"""A wheel built from the tree is the whole product: page, migrations, engine."""

import subprocess
import sys
import tempfile
import unittest
import zipfile
from pathlib import Path

ROOT = Path(__file__).parent.parent.parent


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
        self.assertIn("isbjorn/studio/migrations/versions/0001_first.py", names)
        self.assertIn("isbjorn/core/render/discs.py", names)
        assets = [n for n in names if n.startswith("isbjorn/studio/page/assets/")]
        for suffix in (".js", ".css", ".woff2"):
            self.assertTrue(any(n.endswith(suffix) for n in assets), suffix)
        # Everything that the page asks for ships with it.
        self.assertNotIn("https://", page)
        self.assertFalse(any("node_modules" in n or n.startswith("tests/") for n in names))


if __name__ == "__main__":
    unittest.main()
