"""The measurements of `isbjorn bench`, one after the other; each comparison happens within one run."""

from __future__ import annotations

import os
import platform
import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from isbjorn.bench.crowds import contagion_ms, crowd_ns_per_particle_step
from isbjorn.bench.demonstration import (
    cores,
    demo_deliver_fps,
    drag,
    estimate_ratio,
    forecast_ratio,
    opened,
    play,
    shot_ms,
)
from isbjorn.bench.end_to_end import (
    deliver_fps,
    edit_to_picture_ms,
    farm_efficiency,
    preview_fps,
    usd_points_per_s,
)
from isbjorn.bench.explore import sweep_ms
from isbjorn.bench.finish import blur_ms, drawn_ms, glow_ms
from isbjorn.bench.models import models
from isbjorn.bench.opengl import Discs
from isbjorn.bench.pieces import pieces_ms
from isbjorn.bench.shots import fountain
from isbjorn.bench.stage import live_latency_ms, live_soak
from isbjorn.bench.strands import ripples_ms, skin_ms, strands_ms
from isbjorn.bench.timing import seconds
from isbjorn.bench.world import mesh_contact_ns, world_ns_per_particle_step
from isbjorn.core import Solver
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.render.raster.discs import draw
from isbjorn.core.simulate.checkpoints import StateCache
from isbjorn.core.simulate.state import State
from isbjorn.core.simulate.track import Track
from isbjorn.core.warm_up import warm

_W, _H = 1280, 720
_RADII = ((1.5, 400_000), (4.0, 120_000), (8.0, 40_000), (30.0, 6_000))
_STEPS = 30


def machine() -> dict[str, Any]:
    """The machine that the figures belong to."""
    model = next(
        (line.split(":")[1].strip() for line in Path("/proc/cpuinfo").read_text().splitlines() if "model name" in line),
        platform.processor(),
    )
    return {"cpu": model, "cores": os.cpu_count(), "python": platform.python_version()}


def sim_ns_per_particle_step() -> dict[str, Any]:
    """Stepping particles under two gravities and drag: `together` does 30 steps in one call, `one_by_one` a call each."""
    shot = fountain(10_000, 3.0)
    track = Track(shot, shot.emitters[0], 10**7, StateCache(), Readings(shot))
    together: dict[str, float] = {}
    alone: dict[str, float] = {}
    for name, count in (("1e4", 10_000), ("1e5", 100_000), ("1e6", 1_000_000)):
        births = np.arange(count, dtype=np.int64)
        state = track.integrator.begin(births, np.zeros(count), np.ones(count, np.float32))

        def step(stride: int, state: State = state) -> None:
            for at in range(0, _STEPS, stride):
                track.integrator.advance(state, at, at + stride)

        unit = 1e9 / (count * _STEPS)
        together[name] = round(seconds(lambda: step(_STEPS)) * unit, 3)
        alone[name] = round(seconds(lambda: step(1), 5) * unit, 3)
    return {
        **together,
        "growth": round(together["1e6"] / together["1e4"], 3),
        "one_by_one": alone,
        "one_by_one_growth": round(alone["1e6"] / alone["1e4"], 3),
    }


def drawing() -> dict[str, Any]:
    """Covered Mpx/s of soft discs at 1280 × 720, float32, and how many times as fast as software OpenGL, pair by pair."""
    rng = np.random.default_rng(1)
    rates: dict[str, float] = {}
    ratios: dict[str, float] = {}
    try:
        gl: Discs | None = Discs(_W, _H)
    except Exception as error:
        gl = None
        ratios["missing"] = str(error)  # type: ignore[assignment]
    for radius, count in _RADII:
        centre = (rng.random((count, 2)) * [_W, _H]).astype(np.float32)
        size, opacity = np.full(count, radius, np.float32), np.full(count, 0.5, np.float32)
        shade = rng.random((count, 3))
        ones, zeros = np.ones((count, 1)), np.zeros((count, 1))
        colour = np.concatenate([shade, ones, ones, zeros], axis=1).astype(np.float32)
        if gl is not None:
            gl.load(centre, size, np.concatenate([shade * 0.5, ones * 0.5], axis=1).astype(np.float32))
            gl.draw()
        draw(centre, size, opacity, colour, _W, _H)
        ours, theirs = [], []
        for _ in range(9):
            start = time.perf_counter()
            draw(centre, size, opacity, colour, _W, _H)
            ours.append(time.perf_counter() - start)
            if gl is not None:
                theirs.append(gl.draw())
        name = f"{radius:g}"
        rates[name] = round(count * np.pi * radius**2 / statistics.median(ours) / 1e6, 1)
        if theirs:
            ratios[name] = round(statistics.median(b / a for a, b in zip(ours, theirs, strict=True)), 2)
    found: dict[str, Any] = {"draw_mpx_s": rates, "draw_vs_gl": ratios}
    if gl is not None:
        found["gl"] = gl.renderer
    return found


def jump_ms() -> float:
    """The state of frame 250 of a shot with 20,000 particles, from nothing kept."""
    shot = fountain(20_000, 3.0)
    return round(seconds(lambda: Solver(shot).at(250)) * 1e3, 1)


def bytes_per_particle() -> float:
    """Memory of a cached state, per living particle."""
    solver = Solver(fountain(20_000, 3.0))
    found = solver.at(250)
    return round(solver.cache.bytes / len(found), 1)


def first_picture_s() -> float:
    """A new process, from nothing to its first picture, with the kernels compiled before."""
    import subprocess
    import sys

    code = "from isbjorn.core import render_frame; from isbjorn.demo.beacon import first_shot; render_frame(first_shot('x'), 100)"
    return round(seconds(lambda: subprocess.run([sys.executable, "-c", code], check=True), 3), 2)


# Comparisons within one run, and what a start takes: two minutes on two cores.
QUICK = (
    "machine",
    "sim_ns_per_particle_step",
    "draw_mpx_s draw_vs_gl",
    "deliver_estimate_ratio",
    "forecast_ratio",
    "first_picture_s",
)
# Half an hour: only by its name.
_LONG = "live_soak"


def measure(
    only: str = "", quick: bool = False, on_progress: Callable[[str, int, int, Any], object] | None = None
) -> dict[str, Any]:
    """Measurements by their key: those with `only` in it, or the quick ones. on_progress: called as each begins and ends, with its
    key, number, how many there are, and its value (None as it begins). Raises IsbjornError when no key fits."""
    warm()
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        parts: dict[str, Callable[[], Any]] = {
            "machine": machine,
            "sim_ns_per_particle_step": sim_ns_per_particle_step,
            "world_ns_per_particle_step": world_ns_per_particle_step,
            "mesh_contact_ns": mesh_contact_ns,
            "crowd_ns_per_particle_step": crowd_ns_per_particle_step,
            "contagion_ms": contagion_ms,
            "strands_ms": strands_ms,
            "pieces_ms": pieces_ms,
            "skin_ms": skin_ms,
            "ripples_ms": ripples_ms,
            "draw_mpx_s draw_vs_gl": drawing,
            "models_ms models_vs_gl": models,
            "frame_ms": drawn_ms,
            "blur": blur_ms,
            "glow_ms": glow_ms,
            "preview_fps_50k_720p": lambda: preview_fps(place / "a"),
            "edit_to_picture_ms": lambda: edit_to_picture_ms(place / "b"),
            "jump_ms": jump_ms,
            "bytes_per_particle": bytes_per_particle,
            "deliver_fps": lambda: deliver_fps(place / "c"),
            "demo_deliver_fps": lambda: demo_deliver_fps(place / "demo"),
            "deliver_estimate_ratio": lambda: estimate_ratio(place / "demo"),
            "farm_efficiency": lambda: farm_efficiency(place / "f"),
            "usd_points_per_s": lambda: usd_points_per_s(place / "u"),
            "forecast_ratio": lambda: forecast_ratio(place / "demo"),
            "shot_ms": lambda: shot_ms(place / "demo"),
            "play": lambda: play(place / "demo"),
            "drag": lambda: drag(place / "demo"),
            "sweep_ms": lambda: sweep_ms(place / "demo"),
            "open_ms": lambda: opened(place / "demo"),
            "cores": lambda: cores(place / "demo"),
            "live_latency_ms": lambda: live_latency_ms(place / "l"),
            "first_picture_s": first_picture_s,
        }
        if only == _LONG:
            parts[_LONG] = lambda: live_soak(place / "s")
        wanted = [name for name in parts if (name in QUICK if quick else only in name)]
        if not wanted:
            raise IsbjornError(f"no measurement name contains '{only}'.", "--only", f"Use one of: {', '.join(parts)}.")
        found: dict[str, Any] = {}
        for number, name in enumerate(wanted, 1):
            if on_progress:
                on_progress(name, number, len(wanted), None)
            value = parts[name]()
            found |= value if " " in name else {name: value}
            if on_progress:
                on_progress(name, number, len(wanted), value)
    return found
