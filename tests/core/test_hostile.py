"""Documents that ask for too much are stored, and drawn within limits: in time, within memory, and with a note."""

import unittest
from concurrent.futures import ProcessPoolExecutor

from isbjorn.core.runtime.parallel import worker_context
from tests.hostile import DOCUMENTS, looked_at
from tests.waiting import HANG_S

# Seconds of processor time, and MB: what is guarded against took minutes or gigabytes.
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
        # Each in a separate process, forked from one that has loaded the engine.
        context = worker_context("tests.hostile")
        with ProcessPoolExecutor(2, context, max_tasks_per_child=1) as pool:
            answers = {name: pool.submit(looked_at, name) for name in DOCUMENTS}
            for name, answer in answers.items():
                with self.subTest(name):
                    reported = answer.result(timeout=HANG_S)
                    self.assertLess(reported["all_s"], LIMITS_S, reported)
                    self.assertLess(reported["mb"], LIMIT_MB, reported)
                    if name in SAID:
                        self.assertTrue({"too much", "starved"} & set(reported["notes"]), reported)


if __name__ == "__main__":
    unittest.main()
