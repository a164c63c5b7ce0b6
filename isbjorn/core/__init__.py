"""The engine. `Solver(shot).at(frame)` gives particles, `render_frame(shot, frame)` gives pixels."""

# Before any kernel is met.
from isbjorn.core.kernels import keep_kernels

keep_kernels()

from isbjorn.core.document import Shot  # noqa: E402
from isbjorn.core.errors import IsbjornError  # noqa: E402
from isbjorn.core.motion.solver import Particles  # noqa: E402
from isbjorn.core.render import Solver, render_frame  # noqa: E402

__all__ = ["IsbjornError", "Particles", "Shot", "Solver", "render_frame"]
