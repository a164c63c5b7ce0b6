"""Documents that ask for too much are kept, and what fits is drawn: in time, within memory, and it is said."""

import multiprocessing
import unittest
from concurrent.futures import ProcessPoolExecutor

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
        # Each in a process of its own, forked from one that has loaded the engine.
        context = multiprocessing.get_context("forkserver")
        context.set_forkserver_preload(["tests.hostile"])
        with ProcessPoolExecutor(2, context, max_tasks_per_child=1) as pool:
            answers = {name: pool.submit(looked_at, name) for name in DOCUMENTS}
            for name, answer in answers.items():
                with self.subTest(name):
                    told = answer.result(timeout=HANG_S)
                    self.assertLess(told["all_s"], LIMITS_S, told)
                    self.assertLess(told["mb"], LIMIT_MB, told)
                    if name in SAID:
                        self.assertTrue({"too much", "starved"} & set(told["notes"]), told)


if __name__ == "__main__":
    unittest.main()
