"""A cached kernel is used as long as nothing that it depends on has changed."""

import os
import pickle
import subprocess
import sys
import tempfile
import threading
import types
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any
from unittest import mock

import numba
import numpy as np

from isbjorn.core.compile_kernels import called_by, compiled_first
from isbjorn.core.jit import KERNELS, LateLibrary, LockedCache, inline_kernel, njit
from isbjorn.core.runtime.kernels import HERE, lend, reached
from tests.waiting import HANG_S


class Reached(unittest.TestCase):
    def test_functions_and_constants_of_other_files(self) -> None:
        found = reached(HERE / "render" / "raster" / "discs.py", "_draw")
        self.assertIn(("render/raster/tiles.py", "TILE_W"), found)
        self.assertIn(("render/raster/simd.py", "composite"), found)
        self.assertIn("GROUPS = TILE_W // LANES", found["render/raster/discs.py", "GROUPS"])

    def test_nothing_else_of_the_same_file(self) -> None:
        found = reached(HERE / "render" / "raster" / "discs.py", "_draw")
        self.assertNotIn(("render/raster/discs.py", "draw_records"), found)
        self.assertNotIn(("render/raster/discs.py", "write_record"), found)

    def test_what_decorates_it_and_what_that_names(self) -> None:
        self.assertIn(
            ("render/raster/discs.py", "_FAST"), reached(HERE / "render" / "raster" / "discs.py", "_draw_planes")
        )

    def test_a_module_that_is_used_by_its_name_and_all_that_it_depends_on(self) -> None:
        found = set(reached(HERE / "simulate" / "integrators" / "world.py", "_roam"))
        self.assertIn(("simulate/contact.py", "sweep"), found)
        self.assertIn(("simulate/forces/surface.py", "distance"), found)
        self.assertIn(("random.py", "draw01"), found)
        self.assertNotIn(("simulate/forces/attractor.py", "pack"), found)


class Loaded(unittest.TestCase):
    """A kernel is loaded when it is first called."""

    def test_a_start_loads_none(self) -> None:
        names = "import isbjorn.core.frame; from isbjorn.core.jit import KERNELS"
        code = f"{names}; print(len(KERNELS), sum(k._loaded for k in KERNELS))"
        reported = subprocess.run(
            [sys.executable, "-c", code], check=True, capture_output=True, text=True
        ).stdout.split()
        self.assertGreater(int(reported[0]), 150)
        self.assertEqual(int(reported[1]), 0)

    def test_a_read_only_installation_compiles_nothing_again(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            lend(HERE / "__pycache__" / "kernels", folder)
            draw = "import numpy as np; from isbjorn.core import random; random.draws01(7, np.arange(9), 2)"
            env = {**os.environ, "NUMBA_CACHE_DIR": name}
            subprocess.run([sys.executable, "-c", draw], check=True, env=env)
            kernels = list(folder.rglob("*.nbc"))
            self.assertGreater(len(kernels), 100)
            self.assertEqual([one.name for one in kernels if not one.is_symlink()], [])

    def test_an_inline_kernel_may_not_allocate(self) -> None:
        with self.assertRaisesRegex(TypeError, "zeros"):

            @inline_kernel("f8(i8)")
            def taken(count):  # type: ignore[no-untyped-def]
                return np.zeros(count).sum()

    def test_an_inline_kernel_does_not_count_references(self) -> None:
        @inline_kernel("f8(f8[:,::1], i8)")
        def row(values, i):  # type: ignore[no-untyped-def]
            found = values[i]
            return found[0] if i > 0 else found[-1]

        values = np.arange(6.0).reshape(3, 2)
        self.assertEqual([row(values, i) for i in range(3)], [1, 2, 4])
        self.assertNotIn("NRT_incref", next(iter(row.inspect_llvm().values())))

    def test_one_compiled_for_another_keeps_its_own_flags(self) -> None:
        @njit("f8(f8, f8, f8)")
        def summed(a, b, c):  # type: ignore[no-untyped-def]
            values = np.zeros(3)
            values[0], values[1], values[2] = a, b, c
            return (values[0] + values[1]) + values[2]

        @inline_kernel("f8(f8)", fastmath=True)
        def caller(big):  # type: ignore[no-untyped-def]
            return summed(big, 1.0, -big)

        self.assertEqual(caller(1e17), 0.0)
        self.assertNotIn("fadd fast", next(iter(summed.inspect_llvm().values())))
        for kernel in (summed, caller):
            KERNELS.remove(kernel)

    def test_the_body_of_a_parallel_loop_is_optimized_once(self) -> None:
        optimized: list[str] = []
        optimize: Any = LateLibrary._optimize_final_module

        def noted(library: Any) -> None:
            optimized.append(library.name)
            optimize(library)

        @njit("void(f8[::1])", parallel=True)
        def doubled(values):  # type: ignore[no-untyped-def]
            for i in numba.prange(len(values)):
                values[i] *= 2

        values = np.arange(1000.0)
        with mock.patch.object(LateLibrary, "_optimize_final_module", noted):
            doubled(values)
        KERNELS.remove(doubled)
        self.assertEqual([name.rpartition(".")[2] for name in optimized], ["doubled"])
        np.testing.assert_array_equal(values, 2 * np.arange(1000.0))

    def test_an_assignment_of_a_wrong_shape_is_refused(self) -> None:
        @njit("void(f8[:,::1], f8[:,::1])")
        def put(target, source):  # type: ignore[no-untyped-def]
            target[1:] = source

        target = np.zeros((3, 2))
        put(target, np.ones((2, 2)))
        self.assertEqual(target.sum(), 4)
        with self.assertRaisesRegex(ValueError, "different shape"):
            put(target, np.ones((3, 2)))
        KERNELS.remove(put)
        # Numba's message would be put together in each such kernel.
        self.assertNotIn("unicode", next(iter(put.inspect_llvm().values())))

    def test_an_index_of_an_older_version_is_emptied(self) -> None:
        kernel: Any = next(k for k in KERNELS if k.full_name.endswith("random.stream_key"))
        with tempfile.TemporaryDirectory() as name:
            cache: Any = LockedCache(kernel.py_func)  # type: ignore[no-untyped-call]
            file = cache._cache_file
            file._index_path = str(Path(name) / "kernel.nbi")
            # It names a type that is no longer there.
            gone = types.ModuleType("nowhere_to_be_found")
            kind = type("Scene", (), {"__module__": gone.__name__})
            gone.__dict__["Scene"] = kind
            with mock.patch.dict(sys.modules, {gone.__name__: gone}):
                index = pickle.dumps((file._source_stamp, kind))
            Path(file._index_path).write_bytes(pickle.dumps(file._version) + index)
            with self.assertRaises(ImportError):
                file._load_index()
            self.assertFalse(cache.is_stored(kernel._signatures, kernel.targetctx.codegen()))
            self.assertEqual(file._load_index(), {})

    def test_it_keeps_to_its_signatures(self) -> None:
        @njit(["f8(f8[::1])", "i8(i8[::1])"])
        def last(values):  # type: ignore[no-untyped-def]
            return values[-1]

        @njit("f8(f8[::1], f8)")
        def added(values, more):  # type: ignore[no-untyped-def]
            return last(values) + more

        self.assertIn(last, KERNELS)
        self.assertEqual((last.signatures, added.signatures), ([], []))
        self.assertIsInstance(last(np.arange(3)), int)
        self.assertEqual(added(np.arange(3.0), 2), 4.0)
        self.assertEqual(len(last.signatures), 2)
        for wrong in (np.arange(6.0)[::2], np.zeros(3, np.float32)):
            with self.assertRaises(TypeError):
                added(wrong, 1.0)
        with self.assertRaises(TypeError):
            last(np.zeros((2, 2)))
        self.assertEqual(len(last.signatures), 2)
        for kernel in (last, added):
            KERNELS.remove(kernel)

    def test_the_first_call_refuses_what_is_of_another_kind(self) -> None:
        @njit("f8(f8[::1])")
        def first(values):  # type: ignore[no-untyped-def]
            return values[0]

        KERNELS.remove(first)
        for wrong in (np.zeros(3, np.float32), np.zeros(6)[::2], np.zeros((2, 2)), 3):
            with self.assertRaises(TypeError):
                first(wrong)
        self.assertEqual(first(np.ones(3)), 1.0)

    def test_two_threads_that_call_it_first(self) -> None:
        @njit("i8(i8)")
        def inner(n):  # type: ignore[no-untyped-def]
            return n + 1

        @njit("i8(i8)")
        def outer(n):  # type: ignore[no-untyped-def]
            return inner(n) * 2

        found: list[int] = []
        calls = [threading.Thread(target=lambda f=f: found.append(f(3))) for f in (outer, inner, outer, inner)]
        for call in calls:
            call.start()
        for call in calls:
            call.join(60)
        self.assertEqual(sorted(found), [4, 4, 8, 8])
        for kernel in (inner, outer):
            KERNELS.remove(kernel)


class Compiled(unittest.TestCase):
    """Set-up compiles what is needed first, and no process what another one compiles."""

    def run_in(self, folder: str, code: str) -> str:
        env = {**os.environ, "NUMBA_CACHE_DIR": folder}
        return subprocess.run(
            [sys.executable, "-c", code], check=True, capture_output=True, text=True, env=env, timeout=HANG_S
        ).stdout

    def test_two_processes_that_need_a_kernel_compile_it_once(self) -> None:
        code = """
from numba.core import event
from isbjorn.core import random
class Count(event.Listener):
    def on_start(self, e): print(e.data["dispatcher"].py_func.__name__)
    def on_end(self, e): pass
with event.install_listener("numba:compile", Count()):
    random.stream_key.load()
"""
        with tempfile.TemporaryDirectory() as folder, ThreadPoolExecutor(2) as beside:
            compiled = " ".join(beside.map(self.run_in, [folder] * 2, [code] * 2)).split()
        self.assertEqual(sorted(compiled), sorted(set(compiled)))
        self.assertIn("stream_key", compiled)

    def test_what_the_first_picture_calls_is_compiled_first(self) -> None:
        code = """
from isbjorn.core.frame import render_frame
from isbjorn.core.inspect.guides import guides
from isbjorn.core.jit import KERNELS
from isbjorn.demo.beacon import beacon
shot = beacon("none.mp4")
render_frame(shot.model_copy(update={"plate": None}), 40)
guides(shot)
print(*(kernel.full_name for kernel in KERNELS if kernel._loaded))
"""
        with tempfile.TemporaryDirectory() as folder:
            lend(HERE / "__pycache__" / "kernels", Path(folder))
            loaded = set(self.run_in(folder, code).split())
        self.assertGreater(len(loaded), 20)
        self.assertEqual(loaded - compiled_first(), set())

    def test_kernels_wait_for_those_that_they_call(self) -> None:
        calls = {kernel.full_name: called_by(kernel.py_func) for kernel in KERNELS}
        self.assertIn("isbjorn.core.simulate.contact.sweep", calls["isbjorn.core.simulate.integrators.world._one"])
        self.assertIn("isbjorn.core.simulate.contact.trace", calls["isbjorn.core.simulate.contact.sweep"])

    def test_a_changed_engine_is_not_complete(self) -> None:
        code = """
from isbjorn.core.runtime import kernels
print(kernels.is_complete())
kernels.mark_complete()
print(kernels.is_complete())
kernels.fingerprint = lambda: "that of another engine"
print(kernels.is_complete())
"""
        with tempfile.TemporaryDirectory() as folder:
            self.assertEqual(self.run_in(folder, code).split(), ["False", "True", "False"])


if __name__ == "__main__":
    unittest.main()
