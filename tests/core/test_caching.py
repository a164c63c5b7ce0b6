"""Caches used by several threads at once."""

import sys
import threading
import unittest

from isbjorn.core.caching import thread_safe_cache
from isbjorn.core.document.identity_cache import IdentityCache


class RecentValues(unittest.TestCase):
    def setUp(self) -> None:
        before = sys.getswitchinterval()
        self.addCleanup(sys.setswitchinterval, before)
        # Threads take turns after every few steps.
        sys.setswitchinterval(1e-6)

    def threads(self, work) -> list[BaseException]:  # type: ignore[no-untyped-def]
        wrong: list[BaseException] = []

        def run(first: int) -> None:
            try:
                work(first)
            except BaseException as error:
                wrong.append(error)

        some = [threading.Thread(target=run, args=(n * 100_000,)) for n in range(4)]
        for one in some:
            one.start()
        for one in some:
            one.join()
        return wrong

    def test_those_that_came_last_stay(self) -> None:
        kept: dict[int, int] = {}
        for n in range(20):
            thread_safe_cache(kept, n, n * n, 5)
        self.assertEqual(kept, {n: n * n for n in range(15, 20)})

    def test_many_threads_share_what_is_kept(self) -> None:
        kept: dict[int, int] = {}

        def work(first: int) -> None:
            for n in range(first, first + 20_000):
                thread_safe_cache(kept, n, n, 8)

        self.assertEqual(self.threads(work), [])
        self.assertEqual(len(kept), 8)

    def test_what_is_worked_out_of_a_thing_is_shared_too(self) -> None:
        doubled: IdentityCache[list[int]] = IdentityCache(lambda thing: [2 * thing[0]], kept=8)

        def work(first: int) -> None:
            for n in range(first, first + 20_000):
                thing = [n]
                if doubled(thing) != [2 * n] or doubled(thing) is not doubled(thing):
                    # Others may have pushed it out meanwhile; it is never another's.
                    assert doubled(thing) == [2 * n]

        self.assertEqual(self.threads(work), [])
