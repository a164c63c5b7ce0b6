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


_MODEL_VERTEX = """
#version 330
in vec3 corner; in vec3 normal; in vec3 row_x; in vec3 row_y; in vec3 row_z; in vec3 place; in vec3 tint;
uniform vec2 size; uniform float lens;
out vec3 shade_normal; flat out vec3 shade;
void main() {
    vec3 at = vec3(dot(row_x, corner), dot(row_y, corner), dot(row_z, corner)) + place;
    shade_normal = vec3(dot(row_x, normal), dot(row_y, normal), dot(row_z, normal)); shade = tint;
    gl_Position = vec4(2.0 * lens * at.xy / size, (-at.z - 1000.0) / 2000.0 * -at.z, -at.z);
}
"""
_MODEL_FRAGMENT = """
#version 330
in vec3 shade_normal; flat in vec3 shade; out vec4 colour;
void main() { colour = vec4(shade * (0.3 + 0.7 * max(0.0, normalize(shade_normal).z)), 1.0); }
"""


class Models:
    """Instances of a mesh, depth-tested with 4 samples a pixel, shaded by one light, into a float32 target."""

    def __init__(self, width: int, height: int, lens: float) -> None:
        import moderngl

        self.context = moderngl.create_context(standalone=True, backend="egl")  # type: ignore[arg-type]
        self.program = self.context.program(vertex_shader=_MODEL_VERTEX, fragment_shader=_MODEL_FRAGMENT)
        self.program["size"], self.program["lens"] = (width, height), lens
        colour = self.context.renderbuffer((width, height), 4, samples=4, dtype="f4")
        depth = self.context.depth_renderbuffer((width, height), samples=4)
        self.samples = self.context.framebuffer([colour], depth)
        self.target = self.context.framebuffer([self.context.texture((width, height), 4, dtype="f4")])
        self.context.enable(moderngl.DEPTH_TEST | moderngl.CULL_FACE)

    def load(self, corners: Floats, normals: Floats, instances: Floats) -> None:
        """corners and normals (3 t, 3): of triangles; instances (n, 15): matrix row by row, place, colour."""
        rows = np.concatenate([corners, normals], axis=1).astype(np.float32)
        self.count = len(instances)
        each = self.context.buffer(np.ascontiguousarray(instances, np.float32).tobytes())
        content = [
            (self.context.buffer(rows.tobytes()), "3f 3f", "corner", "normal"),
            (each, "3f 3f 3f 3f 3f/i", "row_x", "row_y", "row_z", "place", "tint"),
        ]
        self.vertices = self.context.vertex_array(self.program, content)

    def draw(self) -> float:
        """Draw all once, and join the samples; seconds."""
        start = time.perf_counter()
        self.samples.use()
        self.samples.clear()
        self.vertices.render(instances=self.count)
        self.context.copy_framebuffer(self.target, self.samples)
        self.context.finish()
        return time.perf_counter() - start
