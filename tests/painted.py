"""The demonstration in a folder, with short plates. They are painted once, for all processes that run tests, as long as the
painters stay."""

from __future__ import annotations

import fcntl
import hashlib
import shutil
import sys
from dataclasses import replace
from pathlib import Path
from unittest import mock

import isbjorn.demo
from isbjorn.studio.setup import demonstration as made

# Frames of a plate that tests look at, at most: all that come later repeat them, or hold the last.
FRAMES = 12


def _kept(frames: int) -> Path:
    painters = sorted(Path(isbjorn.demo.__file__).parent.glob("*.py"))
    reported = hashlib.sha256(b"".join(path.read_bytes() for path in painters) + b"%d" % frames).hexdigest()[:16]
    return Path(sys.prefix) / "plates" / reported


def demonstration(folder: Path, frames: int = FRAMES) -> None:
    """As `ensure_demo`, with so many frames of each plate at most."""
    scenes = tuple(replace(scene, frames=min(scene.frames, frames)) for scene in made._SCENES)
    plates, kept = folder / "media" / "skarvoy", _kept(frames)
    plates.mkdir(parents=True, exist_ok=True)
    kept.mkdir(parents=True, exist_ok=True)
    with (kept.parent / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        for plate in kept.glob("*.mp4"):
            shutil.copyfile(plate, plates / plate.name)
        with mock.patch.object(made, "_SCENES", scenes):
            made.ensure_demo(folder)
        for plate in plates.glob("*.mp4"):
            if not (kept / plate.name).is_file():
                part = kept / f".{plate.name}"
                shutil.copyfile(plate, part)
                part.replace(kept / plate.name)
