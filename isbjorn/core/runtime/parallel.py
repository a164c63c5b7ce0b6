"""How the engine uses its cores.

Threads come from TBB, if its library is there: the thread that calls a kernel works in it too, so that a short one takes
microseconds. Otherwise they come from Numba's portable `workqueue` layer, which gives all work to other threads, and must not be
entered by two at once. So one lock guards every parallel kernel: any number of threads may call the engine, one is inside at a
time, and each call uses all cores.
"""

from __future__ import annotations

import ctypes
import functools
import os
import signal
import sys
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from multiprocessing.context import ForkServerContext, ForkServerProcess
from multiprocessing.popen_forkserver import Popen
from pathlib import Path
from types import ModuleType
from typing import Any, ParamSpec, TypeVar

import cv2
import numba

config: Any = vars(numba)["config"]
config.SLP_VECTORIZE = 1
config.THREADING_LAYER, config.THREADING_LAYER_PRIORITY = "default", ["tbb", "workqueue", "omp"]
# Where its wheel puts it; Numba asks for it by its name alone, and finds it when it is loaded.
_TBB = Path(sys.prefix) / "lib" / "libtbb.so.12"
if _TBB.exists():
    with suppress(OSError):
        ctypes.CDLL(str(_TBB), mode=ctypes.RTLD_GLOBAL)

_WATCHED_EVERY_S = 1.0
# What is imported first and last where processes are forked from.
LOADING, LOADED = "isbjorn.core.loading", "isbjorn.core.preload"

P = ParamSpec("P")
R = TypeVar("R")

_one_at_a_time = threading.RLock()


def kernel_lock(call: Callable[P, R]) -> Callable[P, R]:
    """Let one thread at a time into a function that runs parallel kernels."""

    @functools.wraps(call)
    def inside(*args: P.args, **kwargs: P.kwargs) -> R:
        with _one_at_a_time:
            return call(*args, **kwargs)

    return inside


def use_threads(count: int) -> None:
    """Limit the threads used by kernels (1 to the number of cores). Results do not depend on it."""
    with _one_at_a_time:
        numba.set_num_threads(max(1, min(count, config.NUMBA_NUM_THREADS)))


def one_thread() -> None:
    """Work with one thread, when other processes use the other cores."""
    use_threads(1)
    cv2.setNumThreads(1)


class _Helper(ForkServerProcess):
    """A process that never runs the main module again: a script that starts one needs no guard."""

    @staticmethod
    def _Popen(process_obj: Any) -> Any:  # noqa: N802
        main = sys.modules["__main__"]
        sys.modules["__main__"] = ModuleType("__main__")
        try:
            return Popen(process_obj)
        finally:
            sys.modules["__main__"] = main


class _Helpers(ForkServerContext):
    Process = _Helper


def worker_context(*preload: str) -> ForkServerContext:
    """The context of processes that work for this one: forked from one that has loaded some modules, so that they begin at once."""
    context = _Helpers()
    context.set_forkserver_preload([LOADING, *preload, LOADED])
    return context


def init_worker(parent: int, budget_mb: int) -> None:
    """Make this process a worker of another one: with one thread, its own share of memory, and an end when the other is gone, for
    whatever reason. Ctrl C is left to the other."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    os.environ["ISBJORN_MEMORY_MB"] = str(budget_mb)
    one_thread()
    end_with(parent)


def usual_priority() -> None:
    """Take real-time priority from all threads of this process. SVT-AV1 gives it to its own threads and to the caller, where it may
    (as root): everything else on the machine would wait while it encodes, and later child processes would inherit the priority."""
    if not hasattr(os, "sched_setscheduler"):
        return
    for task in Path("/proc/self/task").iterdir():
        # A thread may end meanwhile.
        with suppress(OSError):
            if os.sched_getscheduler(int(task.name)) != os.SCHED_OTHER:
                os.sched_setscheduler(int(task.name), os.SCHED_OTHER, os.sched_param(0))


def end_with(parent: int) -> None:
    """End this process when another has gone, however that went."""
    threading.Thread(target=_follow, args=(parent,), daemon=True).start()


def _follow(parent: int) -> None:
    while True:
        time.sleep(_WATCHED_EVERY_S)
        try:
            os.kill(parent, 0)
        except OSError:
            os._exit(1)
