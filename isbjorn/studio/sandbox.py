"""Work on untrusted files, in a separate process with limits of time and memory."""

from __future__ import annotations

import os
import resource
import signal
import sys
from importlib import import_module
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from isbjorn.core.errors import IsbjornError, missing_package
from isbjorn.core.runtime.parallel import end_with, one_thread, worker_context
from isbjorn.studio.preview.frame_workers import PRELOADED

# It is its processor time that ends one that takes too long; this ends one that hangs.
_HANG_S = 120


def apart(call: str, *args: Any, where: str, seconds: int = 20, megabytes: int = 512) -> Any:
    """The result of `module:function` with some arguments, within this processor time, and this memory besides the engine's. Raises
    IsbjornError, its own or when a limit is exceeded.

    The process is forked from one that has loaded the engine, so that it begins at once.
    """
    context = worker_context(*PRELOADED)
    answers, theirs = context.Pipe(duplex=False)
    process = context.Process(target=_work, args=(theirs, call, args, seconds, megabytes, os.getpid()), daemon=True)
    process.start()
    theirs.close()
    kind: str = ""
    result: Any = None
    try:
        if answers.poll(_HANG_S):
            kind, result = answers.recv()
    except (EOFError, OSError):
        pass
    finally:
        process.kill()
        process.join()
        answers.close()
    if kind == "":
        raise IsbjornError("importing this file exceeds the limit of time or memory.", where, "Simplify it.")
    if kind == "error":
        raise IsbjornError(*result)
    return result


def _work(answers: Connection, call: str, args: tuple[Any, ...], seconds: int, megabytes: int, parent: int) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    end_with(parent)
    one_thread()
    used = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    most = used + (megabytes << 20)
    resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds + 1))
    resource.setrlimit(resource.RLIMIT_AS, (most, most))
    module, name = call.split(":")
    try:
        answer: Any = ("result", getattr(import_module(module), name)(*args))
    except IsbjornError as error:
        answer = ("error", (error.what, error.where, error.remedy))
    except ModuleNotFoundError as error:
        if (missing := missing_package(error)) is None:
            raise
        answer = ("error", (missing.what, missing.where, missing.remedy))
    except (MemoryError, RecursionError):
        sys.exit(3)
    answers.send(answer)
