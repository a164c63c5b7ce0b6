"""Documents that ask for too much are kept, and what fits is drawn: in time, within memory, and it is said."""

import json
import subprocess
import sys
import unittest
from concurrent.futures import ThreadPoolExecutor

from tests.hostile import DOCUMENTS

# Seconds and MB. A machine that is shared takes its time; what is guarded against took minutes or gigabytes.
LIMITS_S, LIMIT_MB = 60, 1900
SAID = {
    "bursts",
    "random for a day",
    "large and many",
    "steps without end",
    "a long pre-roll",
    "a shutter over large discs",
}


class Hostile(unittest.TestCase):
    def test_each_is_looked_at_in_time(self) -> None:
        def look(name: str) -> subprocess.CompletedProcess[str]:
            command = [sys.executable, "-m", "tests.hostile", name]
            return subprocess.run(command, capture_output=True, text=True, timeout=3 * LIMITS_S, check=False)

        with ThreadPoolExecutor(2) as pool:
            answers = dict(zip(DOCUMENTS, pool.map(look, DOCUMENTS), strict=True))
        for name, done in answers.items():
            with self.subTest(name):
                self.assertEqual(done.returncode, 0, done.stderr[-2000:])
                told = json.loads(done.stdout)
                self.assertLess(told["all_s"], LIMITS_S, told)
                self.assertLess(told["mb"], LIMIT_MB, told)
                if name in SAID:
                    self.assertTrue({"too much", "starved"} & set(told["notes"]), told)


if __name__ == "__main__":
    unittest.main()
