"""Compiles the engine's kernels in several processes, those of the first picture first; cached ones are not compiled again.

python -m isbjorn.core.compile_kernels [--json] [--background]
"""

from __future__ import annotations

import argparse
import gc
import json
import multiprocessing
import os
import time
from collections.abc import Callable
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from dataclasses import asdict, dataclass
from types import ModuleType
from typing import Any

from numba.core.registry import CPUDispatcher

from isbjorn.core import frame, show
from isbjorn.core.inspect import guides
from isbjorn.core.jit import KERNELS, Kernel
from isbjorn.core.runtime.kernels import FIRST, mark_complete
from isbjorn.core.runtime.parallel import end_with

__all__ = ["Progress", "compile_kernels", "frame", "guides", "show"]

_MOST_PROCESSES = 4


@dataclass(frozen=True)
class Progress:
    """How far it is: kernels that are stored, of how many; share: of the work, 0 to 1; first: whether those of the first picture
    are there."""

    done: int
    total: int
    share: float
    first: bool


def called_by(function: Any) -> set[str]:
    """The kernels that a function calls, by their full names."""
    names, known = function.__code__.co_names, function.__globals__
    there = [known.get(name) for name in names]
    there += [getattr(module, name, None) for module in there if isinstance(module, ModuleType) for name in names]
    found = {one.full_name for one in there if isinstance(one, Kernel)}
    for one in there:
        if isinstance(one, CPUDispatcher) and not isinstance(one, Kernel):
            # One that is made at the start, and compiled into what calls it.
            found |= called_by(one.py_func)
    return found


def compiled_first() -> set[str]:
    """What the first picture needs: the kernels of `FIRST`, and all that they call, by their full names."""
    by_name = {kernel.full_name: kernel for kernel in KERNELS}
    early, found = set[str](), {f"isbjorn.core.{name}" for name in FIRST}
    while found:
        early |= found
        found = {called for name in found for called in called_by(by_name[name].py_func)} - early
    return early


def _begin(parent: int) -> None:
    """Prepare a process that compiles: what compiling makes is large, is seldom let go, and would be searched for cycles again
    and again."""
    end_with(parent)
    gc.freeze()
    gc.set_threshold(100_000, 50, 100)


def _load(number: int) -> None:
    KERNELS[number].load()


def compile_kernels(on_progress: Callable[[Progress], object] | None = None, processes: int | None = None) -> float:
    """Compile what is not stored yet; seconds of it. on_progress: called as each kernel is stored.

    A kernel waits for those that it calls, so that none is compiled twice; what another process needs at once it compiles itself.
    Raises RuntimeError that names a kernel that does not compile.
    """
    began = time.perf_counter()
    ahead: dict[str, Kernel] = {k.full_name: k for k in KERNELS if not k.is_stored()}
    numbers = {k.full_name: n for n, k in enumerate(KERNELS)}
    calls = {kernel.full_name: called_by(kernel.py_func) - {kernel.full_name} for kernel in KERNELS}
    size = {kernel.full_name: len(kernel.py_func.__code__.co_code) for kernel in KERNELS}
    early = compiled_first()
    work = sum(size.values())

    def progress() -> None:
        if on_progress:
            share = 1 - sum(size[name] for name in ahead) / work
            on_progress(Progress(len(KERNELS) - len(ahead), len(KERNELS), share, not early & ahead.keys()))

    progress()
    if ahead:
        waiting = sorted(ahead, key=lambda name: (name not in early, -size[name]))
        fork = multiprocessing.get_context("fork")
        beside = processes or min(_MOST_PROCESSES, os.cpu_count() or 1)
        with ProcessPoolExecutor(beside, fork, _begin, (os.getpid(),)) as pool:
            running: dict[Future[None], str] = {}
            while ahead:
                free = [name for name in waiting if not calls[name] & ahead.keys()]
                # What shares a name may seem to call each other: then one of them begins.
                free = free or waiting[: 0 if running else 1]
                for name in free[: beside - len(running)]:
                    waiting.remove(name)
                    running[pool.submit(_load, numbers[name])] = name
                for one in wait(running, return_when=FIRST_COMPLETED).done:
                    name = running.pop(one)
                    if (error := one.exception()) is not None:
                        raise RuntimeError(f"{name} does not compile: {error}") from error
                    del ahead[name]
                progress()
    mark_complete()
    return time.perf_counter() - began


def main() -> None:
    """Compile all, and say how far it is."""
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("--json", action="store_true", help="print a line of JSON for each compiled kernel")
    asked.add_argument("--background", action="store_true", help="run at low priority")
    given = asked.parse_args()
    if given.background:
        os.nice(10)
        end_with(os.getppid())
    at = 0

    def report(now: Progress) -> None:
        nonlocal at
        if given.json:
            print(json.dumps(asdict(now)), flush=True)
        elif now.done == now.total or int(now.share * 10) > at:
            at = int(now.share * 10)
            print(f"  kernels: {now.done} of {now.total}", flush=True)

    took_s = compile_kernels(report)
    if not given.json:
        print(f"  ready in {took_s:.0f} s", flush=True)


if __name__ == "__main__":
    main()
