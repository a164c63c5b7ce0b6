"""Point, line, disc and rectangle."""

from __future__ import annotations

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Disc, Line, Point, Rectangle
from isbjorn.core.emit.shapes.base import (
    Lines,
    Scattered,
    ShapeEngine,
    ShapeSetting,
    by_area,
    half_of,
    halved,
    kept_half,
    shell,
    unit,
    vectors,
)
from isbjorn.core.evaluate.bezier import rotated

_ROUND = 96


def point(shape: Point, u: Doubles, setting: ShapeSetting) -> Scattered:  # noqa: ARG001
    """All at the centre."""
    n = u.shape[1]
    return Scattered(np.zeros((n, 3)), np.tile([1.0, 0.0, 0.0], (n, 1)), np.tile([1.0, 0.0, 0.0], (n, 1)))


def point_outline(shape: Point, setting: ShapeSetting) -> Lines:  # noqa: ARG001
    """One place."""
    return [np.zeros((1, 3))]


def _turned(found: Scattered, degrees: Doubles) -> Scattered:
    parts = []
    for part in (found.place, found.outward, found.along):
        x, y = rotated(part[:, 0], part[:, 1], degrees)
        parts.append(np.stack([x, y, part[:, 2]], axis=1))
    return Scattered(*parts)


def line(shape: Line, u: Doubles, setting: ShapeSetting) -> Scattered:
    """Even by length."""
    length, n = setting.read(shape.length), u.shape[1]
    flat = Scattered(
        vectors((u[0] - 0.5) * length, np.zeros(n)), np.tile([0.0, 1.0, 0.0], (n, 1)), np.tile([1.0, 0.0, 0.0], (n, 1))
    )
    return _turned(flat, setting.read(shape.angle))


def line_outline(shape: Line, setting: ShapeSetting) -> Lines:
    """From end to end."""
    ends = line(shape, np.array([[0.0, 1.0]] * 4), ShapeSetting(np.repeat(setting.t, 2), setting.readings))
    return [ends.place]


def disc(shape: Disc, u: Doubles, setting: ShapeSetting) -> Scattered:
    """Even by area, or by length on the edge."""
    near, far = shell(shape, setting.read(shape.radius), setting)
    radius, turn = np.sqrt(near**2 + u[1] * (far**2 - near**2)), 2 * np.pi * u[0]
    c, s = np.cos(turn), np.sin(turn)
    return halved(Scattered(vectors(radius * c, radius * s), vectors(c, s), vectors(-s, c)), shape.half)


def circle(radius: float, axes: tuple[int, int] = (0, 1)) -> Doubles:
    """A closed circle about the centre as (n, 3), in the plane of two axes."""
    turn = np.linspace(0, 2 * np.pi, _ROUND + 1)
    out = np.zeros((len(turn), 3))
    out[:, axes[0]], out[:, axes[1]] = radius * np.cos(turn), radius * np.sin(turn)
    return out


def disc_outline(shape: Disc, setting: ShapeSetting) -> Lines:
    """The edge; both edges of a shell."""
    near, far = shell(shape, setting.read(shape.radius), setting)
    radii = {float(far[0])} | ({float(near[0])} if near[0] > 0 else set())
    return kept_half([circle(radius) for radius in sorted(radii)], shape.half)


def _frame(shape: Rectangle, setting: ShapeSetting) -> tuple[Doubles, Doubles, Doubles, Doubles]:
    """Half sizes of the inner and of the outer rectangle."""
    a, b = setting.read(shape.width) / 2, setting.read(shape.height) / 2
    ia, oa = shell(shape, a, setting)
    ib, ob = shell(shape, b, setting)
    return ia, ib, oa, ob


def rectangle(shape: Rectangle, u: Doubles, setting: ShapeSetting) -> Scattered:
    """Even by area, or by length on the edge."""
    ia, ib, a, b = _frame(shape, setting)
    if shape.fill == "inside":
        x, y = (2 * u[0] - 1) * a, (2 * u[1] - 1) * b
        found = Scattered(vectors(x, y), unit(vectors(x, y)), np.tile([1.0, 0.0, 0.0], (len(x), 1)))
    else:
        # Four strips, the upper and lower ones with the corners. On the edge they have no height.
        edge = shape.fill == "edge"
        wide, tall = (a, b) if edge else (a * (b - ib), ib * (a - ia))
        total = np.maximum(2 * (wide + tall), 1e-12)
        at = u[0] * total
        level = at < 2 * wide
        side = np.where(level, at < wide, at - 2 * wide < tall)
        sign = np.where(side, 1.0, -1.0)
        rest = np.where(level, at - np.where(side, 0, wide), at - 2 * wide - np.where(side, 0, tall))
        share = np.where(level, rest / np.maximum(wide, 1e-12), rest / np.maximum(tall, 1e-12))
        x = np.where(level, (2 * share - 1) * a * sign, (ia + u[1] * (a - ia)) * sign)
        y = np.where(level, (ib + u[1] * (b - ib)) * sign, -(2 * share - 1) * (b if edge else ib) * sign)
        zero = np.zeros_like(x)
        outward = vectors(np.where(level, zero, sign), np.where(level, sign, zero))
        along = vectors(np.where(level, sign, zero), np.where(level, zero, -sign))
        found = Scattered(vectors(x, y), outward, along)
    return _turned(halved(found, shape.half), setting.read(shape.angle))


def rectangle_outline(shape: Rectangle, setting: ShapeSetting) -> Lines:
    """The edge; both edges of a shell."""
    ia, ib, a, b = (float(v[0]) for v in _frame(shape, setting))
    corners = [(-1, 1), (1, 1), (1, -1), (-1, -1), (-1, 1)]
    lines = [np.array([[x * a, y * b, 0.0] for x, y in corners])]
    if shape.fill == "shell" and ia > 0 and ib > 0:
        lines.append(np.array([[x * ia, y * ib, 0.0] for x, y in corners]))
    turn, out = float(setting.read(shape.angle)[0]), []
    for one in kept_half(lines, shape.half):
        x, y = rotated(one[:, 0], one[:, 1], turn)
        out.append(np.stack([x, y, one[:, 2]], axis=1))
    return out


def _length(shape: Line, setting: ShapeSetting) -> tuple[float, int]:
    return float(setting.read(shape.length)[0]), 1


def _disc_measure(shape: Disc, setting: ShapeSetting) -> tuple[float, int]:
    near, far = (float(r[0]) for r in shell(shape, setting.read(shape.radius), setting))
    if shape.fill == "edge":
        return 2 * np.pi * far * half_of(shape.half), 1
    return np.pi * (far**2 - near**2) * half_of(shape.half), 2


def _rectangle_measure(shape: Rectangle, setting: ShapeSetting) -> tuple[float, int]:
    ia, ib, a, b = (float(v[0]) for v in _frame(shape, setting))
    if shape.fill == "edge":
        return 4 * (a + b) * half_of(shape.half), 1
    return 4 * (a * b - ia * ib) * half_of(shape.half), 2


POINT = ShapeEngine(point, point_outline)
LINE = ShapeEngine(line, line_outline, measure=_length)
DISC = ShapeEngine(disc, disc_outline, by_area, _disc_measure, flat=True)
RECTANGLE = ShapeEngine(rectangle, rectangle_outline, by_area, _rectangle_measure, flat=True)
