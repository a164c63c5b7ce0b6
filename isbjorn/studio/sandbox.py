"""Work on untrusted files, in a separate process with limits of time and memory."""

from __future__ import annotations

import pickle
import resource
import subprocess
import sys
from importlib import import_module
from typing import Any

from isbjorn.core.errors import IsbjornError, missing_package


def apart(call: str, *args: Any, where: str, seconds: int = 20, megabytes: int = 1024) -> Any:
    """The result of `module:function` with some arguments. Raises IsbjornError, its own or when a limit is exceeded."""
    command = [sys.executable, "-m", "isbjorn.studio.sandbox", call, str(seconds), str(megabytes)]
    try:
        done = subprocess.run(command, input=pickle.dumps(args), capture_output=True, timeout=seconds + 10, check=False)
    except subprocess.TimeoutExpired:
        done = None
    if done is None or done.returncode != 0 or not done.stdout:
        raise IsbjornError("importing this file exceeds the limit of time or memory.", where, "Simplify it.")
    # What comes back was written by our own process.
    kind, result = pickle.loads(done.stdout)
    if kind == "error":
        raise IsbjornError(*result)
    return result


def _main(call: str, seconds: int, megabytes: int) -> None:
    resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds + 1))
    resource.setrlimit(resource.RLIMIT_AS, (megabytes << 20, megabytes << 20))
    args = pickle.loads(sys.stdin.buffer.read())
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
    sys.stdout.buffer.write(pickle.dumps(answer))


if __name__ == "__main__":
    _main(sys.argv[1], int(sys.argv[2]), int(sys.argv[3]))
