"""Runs test modules in this process, one after the other, as their names come on stdin; a line of JSON for each on stdout. One of
several such processes: see `everything`."""

from __future__ import annotations

import gc
import io
import json
import os
import sys
import time
import unittest

from isbjorn.core.runtime.parallel import one_thread


def run(module: str) -> dict[str, object]:
    """Run a module: how many tests ran, what failed (name and traceback), and seconds."""
    began, printed = time.monotonic(), io.StringIO()
    suite = unittest.defaultTestLoader.loadTestsFromName(module)
    result = unittest.TextTestRunner(stream=printed, warnings="default").run(suite)
    failed = [(test.id(), text) for test, text in (*result.errors, *result.failures)]
    failed += [(test.id(), "It was expected to fail, and passed.") for test in result.unexpectedSuccesses]
    return {
        "module": module,
        "ran": result.testsRun,
        "skipped": len(result.skipped),
        "failed": failed,
        "took_s": round(time.monotonic() - began, 2),
    }


def main() -> None:
    # What tests print goes to the log, which is stderr.
    out = os.fdopen(os.dup(1), "w")
    os.dup2(2, 1)
    # Other shards use the other cores. A test about threads says how many it uses.
    one_thread()
    for line in sys.stdin:
        module = line.strip()
        print(f"— {module}", file=sys.stderr, flush=True)
        out.write(json.dumps(run(module)) + "\n")
        out.flush()
        gc.collect()


if __name__ == "__main__":
    main()
