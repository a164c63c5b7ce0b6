"""Caches: what is evicted, what threads may do at once, and that nothing else evicts."""

import ast
import sys
import threading
import unittest
from pathlib import Path

import numpy as np

from isbjorn.core.caching import CacheName, IdentityCache, RecentCache, cache_reports
from isbjorn.core.runtime.memory import Cache, cached, share_of

# Results of a fixed size, of arguments of which there are few.
_SMALL = {
    "isbjorn/core/emit/recorded.py", "isbjorn/core/evaluate/external_files.py", "isbjorn/core/evaluate/geometry/glyphs.py",
    "isbjorn/core/media/write/targets.py", "isbjorn/core/time.py",
}  # fmt: skip


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

    def test_those_that_were_used_last_stay(self) -> None:
        gone: list[int] = []
        cache: RecentCache[int, int] = RecentCache(5, evicted=lambda key, _: gone.append(key))
        for n in range(5):
            cache.put(n, n * n)
        self.assertEqual(cache.peek(0), 0)
        for n in range(5, 8):
            cache.put(n, n * n)
        self.assertEqual((list(cache), gone), ([4, 0, 5, 6, 7], [1, 2, 3]))
        self.assertIsNone(cache.peek(1))
        self.assertEqual((cache.hits, cache.misses), (1, 1))

    def test_bytes_are_counted_through_replacing_removing_and_evicting(self) -> None:
        cache: RecentCache[str, np.ndarray] = RecentCache(limit_bytes=1000, least=1)
        cache.put("a", np.zeros(400, np.uint8))
        cache.put("b", np.zeros(400, np.uint8))
        cache.put("a", np.zeros(100, np.uint8))
        self.assertEqual(cache.bytes, 500)
        cache.put("c", np.zeros(5000, np.uint8))
        self.assertEqual((list(cache), cache.bytes), (["c"], 5000), "one that is too large is alone")
        cache.pop("c")
        self.assertEqual((len(cache), cache.bytes), (0, 0))

    def test_many_threads_share_what_is_stored(self) -> None:
        cache: RecentCache[int, int] = RecentCache(8, limit_bytes=1 << 20)

        def work(first: int) -> None:
            for n in range(first, first + 20_000):
                assert cache.get(n, lambda n=n: 2 * n) == 2 * n  # type: ignore[misc]

        self.assertEqual(self.threads(work), [])
        self.assertEqual(len(cache), 8)
        self.assertEqual(cache.bytes, 8 * 64)

    def test_results_of_an_object_are_never_those_of_another(self) -> None:
        doubled: IdentityCache[list[int]] = IdentityCache(lambda thing: [2 * thing[0]], kept=8)

        def work(first: int) -> None:
            for n in range(first, first + 20_000):
                thing = [n]
                if doubled(thing) != [2 * n] or doubled(thing) is not doubled(thing):
                    # Others may have pushed it out meanwhile; it is never another's.
                    assert doubled(thing) == [2 * n]

        self.assertEqual(self.threads(work), [])


class Registry(unittest.TestCase):
    def test_a_cache_with_a_name_is_listed_with_what_it_holds_and_gone_with_it(self) -> None:
        made = []

        @cached("tables", "Rows of a test", "the length")
        def row(length: int) -> np.ndarray:
            made.append(length)
            return np.zeros(length, np.uint8)

        for length in (100, 200, 100):
            self.assertEqual(len(row(length)), length)
        self.assertEqual([len(row(length=300)), len(row(length=400))], [300, 400])
        self.assertEqual(made, [100, 200, 300, 400])
        (found,) = [one for one in cache_reports() if one.what == "Rows of a test"]
        self.assertEqual((found.entries, found.bytes, found.hits, found.misses), (4, 1000, 1, 4))
        self.assertEqual(
            (found.group, found.depends_on, found.limit_bytes), ("tables", "the length", share_of("tables"))
        )

    def test_caches_of_one_name_are_listed_together(self) -> None:
        name = CacheName("plates", "Pictures of a test", "the number")
        some: list[RecentCache[int, int]] = [RecentCache(4, 100, name=name) for _ in range(3)]
        for cache in some:
            cache.put(1, 1)
        (found,) = [one for one in cache_reports() if one.what == name.what]
        self.assertEqual((found.entries, found.limit_bytes), (3, 300))

    def test_there_are_few_groups_and_every_cache_says_what_its_keys_depend_on(self) -> None:
        import isbjorn.studio.app  # noqa: F401

        reports = cache_reports()
        self.assertGreater(len(reports), 20)
        self.assertLessEqual(len({one.group for one in reports}), 15)
        for one in reports:
            self.assertTrue(one.what and one.depends_on, one)

    def test_a_value_beyond_a_quarter_of_the_budget_is_not_stored(self) -> None:
        cache: Cache[np.ndarray] = Cache("tables")
        large = np.empty(200 << 20, np.uint8)
        self.assertIs(cache.get("large", lambda: large), large)
        self.assertEqual(cache.bytes, 0)


class OneClass(unittest.TestCase):
    def test_nothing_else_evicts_entries(self) -> None:
        found = [
            f"{path}:{number}"
            for path in sorted(Path("isbjorn").rglob("*.py"))
            if path.as_posix() != "isbjorn/core/caching.py"
            for number, line in enumerate(path.read_text().splitlines(), 1)
            if "popitem(" in line or "move_to_end(" in line
        ]
        self.assertEqual(found, [], "use RecentCache")

    def test_cached_functions_of_the_library_hold_only_what_cannot_grow(self) -> None:
        for path in sorted(Path("isbjorn").rglob("*.py")):
            for node in ast.walk(ast.parse(path.read_text())):
                for how in getattr(node, "decorator_list", []):
                    if "lru_cache" in ast.unparse(how):
                        self.assertIn(path.as_posix(), _SMALL, "use `cached`, which counts bytes")


if __name__ == "__main__":
    unittest.main()
