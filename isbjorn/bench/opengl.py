"""The same discs drawn by software OpenGL through moderngl (EGL, Mesa's llvmpipe), for comparison."""

from __future__ import annotations

import time

import numpy as np

from isbjorn.core.arrays import Floats

_VERTEX = """
#version 330
in vec2 corner; in vec2 centre; in float radius; in vec4 colour;
uniform vec2 size;
out vec2 place; flat out vec4 shade;
void main() {
    place = corner; shade = colour;
    vec2 at = (centre + corner * radius) / size * 2.0 - 1.0;
    gl_Position = vec4(at, 0.0, 1.0);
}
"""
_FRAGMENT = """
#version 330
in vec2 place; flat in vec4 shade; out vec4 colour;
void main() {
    float q = clamp(1.0 - dot(place, place), 0.0, 1.0);
    colour = shade * (q * q * (3.0 - 2.0 * q));
}
"""


class Discs:
    """Soft discs, blended `normal` (premultiplied) into a float32 target, as the engine draws them."""

    def __init__(self, width: int, height: int) -> None:
        import moderngl

        self.context = moderngl.create_context(standalone=True, backend="egl")  # type: ignore[arg-type]
        self.program = self.context.program(vertex_shader=_VERTEX, fragment_shader=_FRAGMENT)
        self.program["size"] = (width, height)
        self.target = self.context.framebuffer([self.context.texture((width, height), 4, dtype="f4")])
        self.context.enable(moderngl.BLEND)
        self.context.blend_func = moderngl.ONE, moderngl.ONE_MINUS_SRC_ALPHA
        corners = np.array([[-1, -1], [1, -1], [-1, 1], [1, 1]], np.float32)
        self.corners = self.context.buffer(corners.tobytes())
        self.strip = moderngl.TRIANGLE_STRIP

    @property
    def renderer(self) -> str:
        """The name of the OpenGL implementation."""
        return str(self.context.info["GL_RENDERER"])

    def load(self, centre: Floats, radius: Floats, colour: Floats) -> None:
        """centre (n, 2) px, radius (n,) px, colour (n, 4) premultiplied."""
        rows = np.concatenate([centre, radius[:, None], colour], axis=1).astype(np.float32)
        self.count = len(rows)
        content = [
            (self.corners, "2f", "corner"),
            (self.context.buffer(rows.tobytes()), "2f 1f 4f/i", "centre", "radius", "colour"),
        ]
        self.vertices = self.context.vertex_array(self.program, content)

    def draw(self) -> float:
        """Draw all once; seconds."""
        start = time.perf_counter()
        self.target.use()
        self.target.clear()
        self.vertices.render(self.strip, instances=self.count)
        self.context.finish()
        return time.perf_counter() - start

    def picture(self) -> Floats:
        """What was drawn last: float32 (height, width, 4), first row at the top of the y axis given."""
        width, height = self.target.size
        return np.frombuffer(self.target.read(components=4, dtype="f4"), np.float32).reshape(height, width, 4)
