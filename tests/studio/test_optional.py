"""What an installation without the optional packages says, and a wheel that needs no Node."""

import os
import socket
import subprocess
import sys
import tempfile
import unittest
import urllib.error
import urllib.request
import zipfile
from pathlib import Path

from isbjorn.core.errors import missing_package
from tests.waiting import HANG_S, until

ROOT = Path(__file__).parents[2]
# A finder that has none of the packages, first in line.
_WITHOUT = """
import sys
class Without:
    def find_spec(self, name, path=None, target=None):
        if name.split(".")[0] in {names}:
            raise ModuleNotFoundError(f"No module named {{name!r}}", name=name)
sys.meta_path.insert(0, Without())
"""


class Without(unittest.TestCase):
    def run_without(self, names: set[str], *args: str) -> subprocess.CompletedProcess[str]:
        code = _WITHOUT.format(names=names) + f"sys.argv = ['isbjorn', *{args!r}]\nfrom isbjorn.cli import main\nmain()"
        return subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=HANG_S, check=False)

    def test_a_command_says_which_extra_brings_what_is_missing(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            done = self.run_without({"distributed", "cryptography"}, "farm-key", f"{folder}/key")
        self.assertEqual(done.returncode, 2, done.stderr)
        self.assertIn("pip install 'isbjorn[farm]'", done.stderr.replace("\n", " "))

    def test_the_studio_starts_without_any(self) -> None:
        code = _WITHOUT.format(names={"distributed", "dask", "cryptography", "pxr", "pyarrow", "rtmidi"})
        code += "from pathlib import Path\nfrom isbjorn.studio.app import create_app\n"
        with tempfile.TemporaryDirectory() as folder:
            code += f"create_app(Path({folder!r}), with_worker=False).state.studio.close()\nprint('fine')"
            done = subprocess.run(
                [sys.executable, "-c", code], capture_output=True, text=True, timeout=HANG_S, check=False
            )
        self.assertEqual(done.stdout.strip(), "fine", done.stderr)

    def test_another_missing_module_is_a_fault_of_ours(self) -> None:
        self.assertIsNone(missing_package(ModuleNotFoundError(name="isbjorn.nothing")))
        missing = missing_package(ModuleNotFoundError(name="pyarrow.parquet"))
        assert missing is not None
        self.assertEqual(missing.where, "arrow")


class Wheel(unittest.TestCase):
    def test_it_holds_the_page_and_serves_it_without_node(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            build = [sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", name]
            subprocess.run(build, cwd=ROOT, check=True, capture_output=True, timeout=HANG_S)
            wheel = next(folder.glob("isbjorn-*.whl"))
            zipfile.ZipFile(wheel).extractall(folder / "installed")
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
                        except (urllib.error.URLError, OSError):
                            return ""

                    served = until(page, "the installed studio did not answer")
                finally:
                    studio.terminate()
                    studio.wait(HANG_S)
        self.assertIn('<script type="module"', served)


if __name__ == "__main__":
    unittest.main()
