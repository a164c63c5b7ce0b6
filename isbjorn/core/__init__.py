"""The engine. `Solver(shot).at(frame)` gives particles, `render_frame(shot, frame)` gives pixels."""

from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.motion.solver import Particles, Solver
from isbjorn.core.render import render_frame

__all__ = ["IsbjornError", "Particles", "Shot", "Solver", "render_frame"]
