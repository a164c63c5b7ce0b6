"""Runs all checks and tests to their end; failures are printed together, first by name, then in full.

Test modules are given to parallel processes, the longest first by their previous durations (`tests/durations.json`), so that all
end at about the same time. With `--load N`, N busy processes use the machine meanwhile; with `--times N`, everything runs N times.

python -m tests.everything [--only checks core studio browser] [--load N] [--times N] [--measure]
"""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parents[1]
LOGS = ROOT / "build" / "test"
BIN = Path(sys.executable).parent
DURATIONS = ROOT / "tests" / "durations.json"
PARTS = ("checks", "core", "studio", "browser")
# One more than there are cores: tests wait for processes and pages now and then.
_BESIDE = (os.cpu_count() or 2) + 1
_USUAL_S, _REPORTED_EVERY_S = 5.0, 30.0
_BUSY = "while True:\n    sum(range(10_000))"


@dataclass
class Outcome:
    """What came of it. failed: names, and what was printed."""

    ran: int = 0
    skipped: int = 0
    failed: list[tuple[str, str]] = field(default_factory=list)
    took_s: dict[str, float] = field(default_factory=dict)


def _checks() -> dict[str, list[str]]:
    npm = ["npm", "--prefix", "web", "run", "--silent"]
    return {
        "ruff": [str(BIN / "ruff"), "check", "."],
        "format": [str(BIN / "ruff"), "format", "--check", "."],
        "types": [str(BIN / "mypy")],
        "imports": [str(BIN / "lint-imports"), "--no-cache"],
        "description of the API": [str(BIN / "python"), "-m", "tests.openapi_is_current"],
        "page: types": [*npm, "check"],
        "page: lint": [*npm, "lint"],
        "page: unit tests": [*npm, "test"],
    }


def _check(outcome: Outcome) -> None:
    """Run the checks, two at a time."""

    def run(item: tuple[str, list[str]]) -> None:
        name, command = item
        began = time.monotonic()
        done = subprocess.run(command, cwd=ROOT, capture_output=True, text=True, check=False)
        print(f"— {name}: {'OK' if done.returncode == 0 else 'FAILED'} ({time.monotonic() - began:.0f} s)", flush=True)
        if done.returncode:
            outcome.failed.append((name, done.stdout + done.stderr))

    with ThreadPoolExecutor(2) as beside:
        list(beside.map(run, _checks().items()))


def _modules(parts: list[str]) -> list[str]:
    """The names of test modules, the longest first."""
    took = json.loads(DURATIONS.read_text()) if DURATIONS.is_file() else {}
    found = [
        ".".join(path.relative_to(ROOT).with_suffix("").parts)
        for part in parts for path in sorted((ROOT / "tests" / part).rglob("test_*.py"))
    ]  # fmt: skip
    return sorted(found, key=lambda name: -took.get(name, _USUAL_S))


class _Line:
    """Says how far it is: all the time on a terminal, elsewhere now and then."""

    def __init__(self, total: int) -> None:
        self._total, self._began, self._said = total, time.monotonic(), 0.0

    def say(self, outcome: Outcome) -> None:
        now = time.monotonic() - self._began
        done, failed = len(outcome.took_s), len(outcome.failed)
        text = f"{done} of {self._total} modules, {outcome.ran:,} tests, {failed} failed, {now / 60:.1f} min"
        if sys.stdout.isatty():
            print(f"\r  {text} ", end="\n" if done == self._total else "", flush=True)
        elif done == self._total or now - self._said > _REPORTED_EVERY_S:
            self._said = now
            print(f"  {text}", flush=True)


def _test(parts: list[str], outcome: Outcome) -> None:
    """Run the test modules of some parts."""
    waiting, lock = _modules(parts), threading.Lock()
    line = _Line(len(waiting))

    def taken(answer: dict[str, Any]) -> None:
        with lock:
            outcome.ran += answer["ran"]
            outcome.skipped += answer["skipped"]
            outcome.failed += [tuple(one) for one in answer["failed"]]
            for name, _ in answer["failed"]:
                print(f"  FAILED {name}", flush=True)
            outcome.took_s[answer["module"]] = answer["took_s"]
            line.say(outcome)

    def work(number: int) -> None:
        command = [sys.executable, "-m", "tests.shard"]
        with (LOGS / f"tests-{number}.log").open("w") as log:
            shard: subprocess.Popen[str] | None = None
            while True:
                with lock:
                    module = waiting.pop(0) if waiting else None
                if module is None:
                    break
                if shard is None:
                    pipes = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE}
                    shard = subprocess.Popen(command, cwd=ROOT, stderr=log, text=True, **pipes)
                assert shard.stdin is not None
                assert shard.stdout is not None
                shard.stdin.write(f"{module}\n")
                shard.stdin.flush()
                line_of_json = shard.stdout.readline()
                if line_of_json:
                    taken(json.loads(line_of_json))
                else:
                    how = f"The process of {module} ended with {shard.wait()}: see build/test/tests-{number}.log."
                    taken({"module": module, "ran": 0, "skipped": 0, "failed": [(module, how)], "took_s": 0.0})
                    shard = None
            if shard is not None:
                shard.communicate()

    with ThreadPoolExecutor(_BESIDE) as beside:
        list(beside.map(work, range(_BESIDE)))


@contextmanager
def _loaded(count: int) -> Iterator[None]:
    busy = [subprocess.Popen([sys.executable, "-c", _BUSY]) for _ in range(count)]
    try:
        yield
    finally:
        for one in busy:
            one.kill()
            one.wait()


def _print_failures(outcome: Outcome) -> None:
    """Print what failed: the names first, then all of it."""
    if outcome.failed:
        print("\nFailed:")
        for name, _ in outcome.failed:
            print(f"  {name}")
        for name, printed in outcome.failed:
            print(f"\n=== {name}\n{printed[-8000:]}")
    skipped = f", {outcome.skipped} skipped" if outcome.skipped else ""
    # Checks are no tests: a failed one takes nothing off those that passed.
    passed = outcome.ran - sum(name.startswith("tests.") for name, _ in outcome.failed)
    print(f"{passed} passed, {len(outcome.failed)} failed{skipped}", flush=True)


def main() -> int:
    """Run what is asked for; 0 if all went well."""
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("--only", nargs="*", choices=PARTS, default=list(PARTS), help="parts")
    asked.add_argument("--load", type=int, default=0, help="busy processes beside the tests")
    asked.add_argument("--times", type=int, default=1)
    asked.add_argument("--measure", action="store_true", help="note how long each module took, for the next order")
    given = asked.parse_args()
    LOGS.mkdir(parents=True, exist_ok=True)
    with _loaded(given.load):
        for number in range(given.times):
            if given.times > 1:
                print(f"— Run {number + 1} of {given.times}, beside {given.load} busy processes", flush=True)
            outcome, began = Outcome(), time.monotonic()
            if "checks" in given.only:
                _check(outcome)
            if tested := [part for part in given.only if part != "checks"]:
                _test(tested, outcome)
            _print_failures(outcome)
            print(f"{(time.monotonic() - began) / 60:.1f} min on {os.cpu_count()} cores", flush=True)
            if given.measure:
                DURATIONS.write_text(json.dumps(dict(sorted(outcome.took_s.items())), indent=0) + "\n")
            if outcome.failed:
                return 1
    print("OK")
    return 0


if __name__ == "__main__":
    sys.exit(main())
