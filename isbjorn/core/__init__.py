"""The engine. `Solver(shot).at(frame)` gives particles, `render_frame(shot, frame)` gives pixels."""

from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.motion.solver import Particles
from isbjorn.core.render import Solver, render_frame

__all__ = ["IsbjornError", "Particles", "Shot", "Solver", "render_frame"]
