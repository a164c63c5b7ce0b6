"""Compiles the engine's kernels for the first time: those of motion and those of drawing beside each other, then warms them all."""

from __future__ import annotations

import subprocess
import sys
import time

# What draws depends on nothing that moves.
_DRAWING = (
    "blends",
    "blur",
    "blurred_discs",
    "bodies",
    "discs",
    "effects",
    "lights",
    "neighbours",
    "shades",
    "sprites",
    "strokes",
)
_MOVING = "isbjorn.core.appearance.particles"


def ready() -> float:
    """Seconds until all kernels are there."""
    start = time.perf_counter()
    halves = [", ".join(f"isbjorn.core.render.{name}" for name in _DRAWING), _MOVING]
    load = "from isbjorn.core.jit import load_all; load_all()"
    beside = [subprocess.Popen([sys.executable, "-c", f"import {half}; {load}"]) for half in halves]
    for half in beside:
        half.wait()
    # Whatever went wrong in a half shows here.
    from isbjorn.core import loaded  # noqa: F401
    from isbjorn.core.warm import warm

    warm()
    return time.perf_counter() - start


if __name__ == "__main__":
    print(f"  ready in {ready():.0f} s")
