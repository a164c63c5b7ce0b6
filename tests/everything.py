"""Runs all checks and tests, part beside part, each to its end: one that fails keeps no other from running, and what failed is
printed together at the end. With `--load N`, N busy processes take the machine meanwhile; with `--times N`, all of it N times.

    python -m tests.everything [--load N] [--times N] [--only PART ...]
"""

from __future__ import annotations

import argparse
import os
import re
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).parents[1]
LOGS = ROOT / "build" / "test"
BIN = Path(sys.executable).parent
# Those of a stage run beside each other. The browser has the machine to itself: two of its classes run at once.
STAGES: tuple[tuple[str, ...], ...] = (
    ("check-python", "check-page"),
    ("core-odd", "core-even", "studio"),
    ("browser",),
)
# Some of the studio's tests go with a part of the engine's, so that three parts take about as long.
WITH_EVEN = ("fuzz", "kept", "worker", "store", "deliveries")
_CLOSING = re.compile(r"^(Ran \d+ tests? in .*|OK.*|FAILED.*|Tests .*passed.*)$", re.M)
_FAILED = re.compile(r"^(?:FAIL|ERROR): .*$", re.M)
_RAN = re.compile(r"^Ran (\d+) tests? in ", re.M)
_BUSY = "while True:\n    sum(range(10_000))"


def _modules(*folders: str) -> list[str]:
    return sorted(str(path.relative_to(ROOT)) for folder in folders for path in (ROOT / folder).glob("test_*.py"))


def _commands() -> dict[str, list[list[str]]]:
    """The commands of each part, by its name."""
    core, studio = _modules("tests/core"), _modules("tests/studio")
    moved = [one for one in core if one.endswith(("/test_farm.py", "/test_cast.py"))]
    odd = [one for one in core[0::2] if one not in moved]
    beside = [one for one in studio if Path(one).stem.removeprefix("test_") in WITH_EVEN]
    even = [*(one for one in core[1::2] if one not in moved), *moved, *beside]
    unittest, npm = [str(BIN / "python"), "-m", "unittest"], ["npm", "--prefix", "web", "run", "--silent"]
    parallel = [str(BIN / "unittest-parallel"), "-s", "tests/browser", "-t", ".", "-p", "test_*.py", "--level", "class"]
    return {
        "check-python": [
            [str(BIN / "ruff"), "check", "."],
            [str(BIN / "ruff"), "format", "--check", "."],
            [str(BIN / "mypy")],
            [str(BIN / "lint-imports"), "--no-cache"],
            [str(BIN / "python"), "-m", "tests.openapi_is_current"],
        ],
        "check-page": [[*npm, "check"], [*npm, "lint"], [*npm, "test"]],
        "core-odd": [[*unittest, *odd]],
        "core-even": [[*unittest, *even]],
        "studio": [[*unittest, *(one for one in studio if one not in beside)]],
        "browser": [parallel],
    }


def _run(name: str, commands: list[list[str]]) -> tuple[str, bool, float, str]:
    """Run the commands of a part, all of them; its name, whether all went well, seconds, and what they printed."""
    began, well, log = time.monotonic(), True, LOGS / f"{name}.log"
    with log.open("w") as out:
        for command in commands:
            done = subprocess.run(command, cwd=ROOT, stdout=out, stderr=subprocess.STDOUT, check=False)
            well = well and done.returncode == 0
    return name, well, time.monotonic() - began, log.read_text(errors="replace")


def _once(only: list[str]) -> list[tuple[str, str]]:
    """Everything once; what failed: the part, and what it printed."""
    commands, failed, ran, fell = _commands(), [], 0, 0
    for stage in STAGES:
        parts = [name for name in stage if not only or name in only]
        with ThreadPoolExecutor(max(1, len(parts))) as beside:
            for name, well, took_s, printed in beside.map(lambda one: _run(one, commands[one]), parts):
                closing = "; ".join(_CLOSING.findall(printed)) or ("done" if well else "failed")
                print(f"— {name}: {closing} ({took_s:.0f} s)", flush=True)
                ran += sum(map(int, _RAN.findall(printed)))
                fell += len(_FAILED.findall(printed))
                if not well:
                    failed.append((name, printed))
    print(f"{ran - fell} passed, {fell} failed", flush=True)
    return failed


def _told(failed: list[tuple[str, str]]) -> None:
    for name, printed in failed:
        print(f"\n=== {name} failed: build/test/{name}.log ===")
        print(printed[-12_000:])
    print("\nWhat failed:")
    for name, printed in failed:
        for line in _FAILED.findall(printed) or ["see above"]:
            print(f"  {name}: {line}")


def main() -> int:
    """Run what is asked for; 0 if all went well."""
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("--load", type=int, default=0, help="busy processes beside the tests")
    asked.add_argument("--times", type=int, default=1)
    asked.add_argument("--only", nargs="*", default=[], help="parts, as they are named")
    given = asked.parse_args()
    LOGS.mkdir(parents=True, exist_ok=True)
    busy = [subprocess.Popen([sys.executable, "-c", _BUSY]) for _ in range(given.load)]
    try:
        for number in range(given.times):
            if given.times > 1:
                print(f"— Run {number + 1} of {given.times}, beside {given.load} busy processes", flush=True)
            failed = _once(given.only)
            if failed:
                _told(failed)
                return 1
    finally:
        for one in busy:
            one.kill()
            one.wait()
    passed = "all parts" if not given.only else ", ".join(given.only)
    print(f"OK: {passed} passed{'' if os.cpu_count() is None else f' on {os.cpu_count()} cores'}.")
    return 0


if __name__ == "__main__":
    sys.exit(main())
