"""The engine. `Solver(shot).at(frame)` gives particles, `render_frame(shot, frame)` gives pixels."""

from importlib import import_module
from typing import TYPE_CHECKING, Any

# Before any kernel is met.
from isbjorn.core.runtime.kernels import keep_kernels
from isbjorn.core.runtime.loading import quietly

keep_kernels()

if TYPE_CHECKING:
    from isbjorn.core.appearance.particles import Particles
    from isbjorn.core.document import Shot
    from isbjorn.core.errors import IsbjornError
    from isbjorn.core.frame import Solver, render_frame

__all__ = ["IsbjornError", "Particles", "Shot", "Solver", "render_frame"]
# Loaded on first use: a caller that needs only a part of the engine does not wait for its kernels.
_HOMES = {
    "Shot": "document", "IsbjornError": "errors", "Particles": "appearance.particles", "Solver": "frame",
    "render_frame": "frame",
}  # fmt: skip


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    with quietly():
        return getattr(import_module(f"isbjorn.core.{_HOMES[name]}"), name)
