"""What an installation without the optional packages says and does."""

import subprocess
import sys
import tempfile
import unittest

from isbjorn.core.errors import missing_package
from tests.waiting import HANG_S

# A finder without any of the packages, first in line.
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

    def test_a_start_loads_none_of_them(self) -> None:
        code = "import sys, isbjorn.studio.server; print(*sorted({name.split('.')[0] for name in sys.modules}))"
        loaded = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.split()
        heavy = {"distributed", "dask", "cryptography", "pxr", "pyarrow", "rtmidi", "mido", "opentimelineio", "scipy"}
        self.assertEqual(heavy & {*loaded}, set())

    def test_another_missing_module_is_a_fault_of_ours(self) -> None:
        self.assertIsNone(missing_package(ModuleNotFoundError(name="isbjorn.nothing")))
        missing = missing_package(ModuleNotFoundError(name="pyarrow.parquet"))
        assert missing is not None
        self.assertEqual(missing.where, "arrow")


if __name__ == "__main__":
    unittest.main()
