"""Regions bounded by closed polylines: even by area inside, by length along the edge."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from isbjorn.core.arrays import Doubles, Longs
from isbjorn.core.document.parts.shapes import Area
from isbjorn.core.emit.shapes.base import Lines, Scattered, ShapeSetting, vectors
from isbjorn.core.errors import IsbjornError
from isbjorn.core.jit import inline_kernel, njit

_MOST_CROSSINGS, _MOST_TIMES = 3_000_000, 16


@dataclass(frozen=True)
class Edges:
    """The straight pieces of polylines in the picture plane: starts and ends (n, 2), and their running length (n + 1,)."""

    a: Doubles
    b: Doubles
    run: Doubles


def edges(lines: Lines) -> Edges:
    """The pieces of polylines (n, 3)."""
    a = np.concatenate([line[:-1, :2] for line in lines])
    b = np.concatenate([line[1:, :2] for line in lines])
    run = np.concatenate([[0.0], np.cumsum(np.linalg.norm(b - a, axis=1))])
    return Edges(a, b, run)


def on_edges(found: Edges, u: Doubles) -> tuple[Doubles, Doubles]:
    """Places (n, 2) even by length, and the directions there (n, 2)."""
    at = u * found.run[-1]
    i = np.clip(np.searchsorted(found.run, at, side="right") - 1, 0, len(found.a) - 1)
    length = np.maximum(found.run[i + 1] - found.run[i], 1e-12)[:, None]
    way = (found.b[i] - found.a[i]) / length
    return found.a[i] + way * (at - found.run[i])[:, None], way


@dataclass(frozen=True)
class Trapezoids:
    """A region cut into trapezoids with level sides: bottom and top, left and right ends on each, running area."""

    bottom: Doubles
    top: Doubles
    ends: Doubles
    run: Doubles


@njit("i8(f8[:,::1], f8[::1], i8[::1], i8[::1], f8[:,::1])", cache=True)
def _cut(e: Doubles, heights: Doubles, starts: Longs, members: Longs, rows: Doubles) -> int:
    """Trapezoids of each band between two heights, from left to right, into rows (m, 6); how many. members: the edges that cross
    each band, from starts[band] on. e (n, 4): ends of the edges."""
    count = 0
    for band in range(len(heights) - 1):
        here = members[starts[band] : starts[band + 1]]
        low, high = heights[band], heights[band + 1]
        middle = (low + high) / 2
        at = np.empty(len(here))
        for n in range(len(here)):
            ax, ay, bx, by = e[here[n]]
            at[n] = ax + (bx - ax) / (by - ay) * (middle - ay)
        order = np.argsort(at, kind="mergesort")
        winding = 0
        for n in range(len(order) - 1):
            ax, ay, bx, by = e[here[order[n]]]
            winding += 1 if by > ay else -1
            if winding == 0:
                continue
            cx, cy, dx, dy = e[here[order[n + 1]]]
            left, right = (bx - ax) / (by - ay), (dx - cx) / (dy - cy)
            rows[count, 0], rows[count, 1] = low, high
            rows[count, 2], rows[count, 3] = ax + left * (low - ay), cx + right * (low - cy)
            rows[count, 4], rows[count, 5] = ax + left * (high - ay), cx + right * (high - cy)
            count += 1
    return count


def trapezoids(lines: Lines) -> Trapezoids:
    """Cut the region inside closed polylines by the nonzero winding rule, at the height of every point.

    Raises IsbjornError where the edges cross more bands than can be kept: the cost is known before the work begins.
    """
    e = edges(lines)
    heights = np.unique(np.round(np.concatenate([e.a[:, 1], e.b[:, 1]]), 6))
    middles = (heights[:-1] + heights[1:]) / 2
    first = np.searchsorted(middles, np.minimum(e.a[:, 1], e.b[:, 1]), side="right")
    after = np.maximum(first, np.searchsorted(middles, np.maximum(e.a[:, 1], e.b[:, 1]), side="left"))
    spans = after - first
    if int(spans.sum()) > _MOST_CROSSINGS:
        raise IsbjornError(
            "the outline is too complex to be filled.", "outline", "Simplify it, or emit along its edge."
        )
    edge = np.repeat(np.arange(len(spans)), spans)
    band = np.arange(len(edge)) - np.repeat(np.cumsum(spans) - spans, spans) + np.repeat(first, spans)
    order = np.argsort(band, kind="stable")
    starts = np.concatenate([[0], np.cumsum(np.bincount(band, minlength=max(1, len(middles))))]).astype(np.int64)
    rows = np.zeros((max(1, len(edge)), 6))
    count = _cut(np.ascontiguousarray(np.concatenate([e.a, e.b], axis=1)), heights, starts, edge[order], rows)
    table = rows[: max(1, count)].copy()
    area = (table[:, 1] - table[:, 0]) * np.maximum(0, table[:, 3] - table[:, 2] + table[:, 5] - table[:, 4]) / 2
    return Trapezoids(table[:, 0], table[:, 1], table[:, 2:6], np.concatenate([[0.0], np.cumsum(area)]))


def inside(found: Trapezoids, u: Doubles, v: Doubles) -> Doubles:
    """Places (n, 2), even by area."""
    at = u * found.run[-1]
    i = np.clip(np.searchsorted(found.run, at, side="right") - 1, 0, len(found.top) - 1)
    share = np.clip((at - found.run[i]) / np.maximum(found.run[i + 1] - found.run[i], 1e-12), 0, 1)
    left0, right0, left1, right1 = found.ends[i].T
    # The width changes evenly with height: the height is drawn in proportion to it.
    w0, w1 = np.maximum(0, right0 - left0), np.maximum(0, right1 - left1)
    total = w0 + w1
    root = np.sqrt(w0**2 + share * (w1**2 - w0**2))
    h = np.where(np.abs(w1 - w0) < 1e-9 * np.maximum(total, 1e-12), share, (root - w0) / np.where(w1 == w0, 1, w1 - w0))
    left, right = left0 + h * (left1 - left0), right0 + h * (right1 - right0)
    return np.stack([left + v * (right - left), found.bottom[i] + h * (found.top[i] - found.bottom[i])], axis=1)


@dataclass(frozen=True)
class Drawing:
    """Closed polylines (n, 3), and what they enclose cut into trapezoids."""

    lines: Lines
    cut: Trapezoids

    @cached_property
    def edges(self) -> Edges:
        """Their straight pieces."""
        return edges(self.lines)

    def measure(self, shape: Area, size: float, setting: ShapeSetting) -> tuple[float, int]:
        """How much of it, at a size, there is to fill: its area, its length; of a shell, about its length times its thickness."""
        if shape.fill == "inside":
            return float(self.cut.run[-1]) * size**2, 2
        length = size * sum(float(np.linalg.norm(np.diff(line[:, :2], axis=0), axis=1).sum()) for line in self.lines)
        return (length, 1) if shape.fill == "edge" else (length * float(setting.read(shape.thickness)[0]), 2)

    @cached_property
    def middle(self) -> Doubles:
        """The mean of the means of their points, (2,)."""
        return np.asarray(np.array([line[:, :2].mean(axis=0) for line in self.lines]).mean(axis=0))

    @cached_property
    def sign(self) -> float:
        """1 if they run counter-clockwise on the whole: then away from the inside is to their right; else -1."""
        a, b = self.edges.a, self.edges.b
        return 1.0 if float(np.sum(a[:, 0] * b[:, 1] - b[:, 0] * a[:, 1])) >= 0 else -1.0


def scatter_region(drawn: Drawing, fill: str, u: Doubles, thick: Doubles | None, side: str) -> Scattered:
    """Places inside closed polylines, along them, or in a shell on their left or right."""
    if fill == "inside":
        xy = inside(drawn.cut, u[0], u[1])
        zero = np.zeros(len(xy))
        away = xy - drawn.middle
        length = np.maximum(np.linalg.norm(away, axis=1), 1e-12)
        return Scattered(
            vectors(xy[:, 0], xy[:, 1]), vectors(away[:, 0] / length, away[:, 1] / length), vectors(zero + 1, zero)
        )
    sign = drawn.sign
    if fill == "shell" and thick is not None:
        low, high = {"inward": (-1.0, 0.0), "outward": (0.0, 1.0), "both": (-0.5, 0.5)}[side]
        xy, way = in_shell(drawn.lines, [True] * len(drawn.lines), sign, u, thick, low, high)
    else:
        xy, way = on_edges(drawn.edges, u[0])
    normal = np.stack([way[:, 1], -way[:, 0]], axis=1) * sign
    return Scattered(vectors(xy[:, 0], xy[:, 1]), vectors(normal[:, 0], normal[:, 1]), vectors(way[:, 0], way[:, 1]))


def _mitres(line: Doubles, closed: bool, sign: float) -> tuple[Doubles, Doubles]:
    """Where the ends of each piece of a polyline (n, 3) go, by a px of offset to its right: (n - 1, 2) each. Joints halve their
    angle, so that pieces side by side neither overlap nor gape; sharp ones no farther than twice the offset."""
    way = np.diff(line[:, :2], axis=0)
    way = way / np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-12)
    normal = np.stack([way[:, 1], -way[:, 0]], axis=1) * sign
    before, after = np.roll(normal, 1, axis=0), np.roll(normal, -1, axis=0)
    if not closed:
        before[0], after[-1] = normal[0], normal[-1]

    def joint(other: Doubles) -> Doubles:
        half = normal + other
        return np.asarray(2 * half / np.maximum(1.0, (half**2).sum(axis=1, keepdims=True)))

    return joint(before), joint(after)


def in_shell(
    lines: Lines, closed: list[bool], sign: float, u: Doubles, thick: Doubles, low: float, high: float
) -> tuple[Doubles, Doubles]:
    """Places (n, 2) in a shell from low to high of its thickness (n,) to the right of polylines, even by area; and the directions
    along them."""
    e = edges(lines)
    parts = [_mitres(line, whole, sign) for line, whole in zip(lines, closed, strict=True)]
    m0, m1 = (np.concatenate([p[k] for p in parts]) for k in (0, 1))
    span = e.b - e.a
    length = np.linalg.norm(span, axis=1)
    way = span / np.maximum(length, 1e-12)[:, None]
    # Change of a piece's length per px of offset.
    slope = ((m1 - m0) * way).sum(axis=1)
    out_xy, out_way = np.empty((u.shape[1], 2)), np.empty((u.shape[1], 2))
    for size in np.unique(thick):
        here = thick == size
        near, far = low * size, high * size
        at = [np.maximum(0.0, length + slope * d) for d in (near, far)]
        area = 0.5 * (at[0] + at[1]) * (far - near)
        run = np.concatenate([[0.0], np.cumsum(np.maximum(area, 1e-300))])
        target = u[0][here] * run[-1]
        i = np.clip(np.searchsorted(run, target, side="right") - 1, 0, len(area) - 1)
        along = np.clip((target - run[i]) / np.maximum(run[i + 1] - run[i], 1e-300), 0, 1)
        # The offset is drawn in proportion to the length that the piece has there.
        w0, w1, v = at[0][i], at[1][i], u[1][here]
        root = np.sqrt(w0**2 + v * (w1**2 - w0**2))
        share = np.where(np.abs(w1 - w0) < 1e-9 * (w0 + w1 + 1e-12), v, (root - w0) / np.where(w1 == w0, 1.0, w1 - w0))
        offset = near + share * (far - near)
        start, end = e.a[i] + m0[i] * offset[:, None], e.b[i] + m1[i] * offset[:, None]
        on = e.a[i] + along[:, None] * span[i]
        out_xy[here] = _held_in(start + along[:, None] * (end - start), on, offset, e)
        out_way[here] = way[i]
    return out_xy, out_way


def _held_in(xy: Doubles, on: Doubles, offset: Doubles, e: Edges) -> Doubles:
    """Places (n, 2) px inside a shell. A place farther than its offset from every edge (beyond a sharp corner), or behind another
    edge (where the shape is thin), is moved back toward its point on the line, on (n, 2) px."""
    out, stray = xy.copy(), np.arange(len(xy))
    a, b = (np.ascontiguousarray(v) for v in (e.a, e.b))
    for _ in range(_MOST_TIMES):
        share = np.empty(len(stray))
        _nearer(out[stray], on[stray], offset[stray], a, b, share)
        stray, share = stray[share < 1], share[share < 1]
        if not len(stray):
            return out
        out[stray] = on[stray] + share[:, None] * (out[stray] - on[stray])
    out[stray] = on[stray]
    return out


@inline_kernel("void(f8[:,::1], f8[:,::1], f8[::1], f8[:,::1], f8[:,::1], f8[::1])", cache=True)
def _nearer(xy: Doubles, on: Doubles, offset: Doubles, a: Doubles, b: Doubles, out: Doubles) -> None:
    """The share of its offset from the line that each place may keep: 1 where it is within its offset (n,) of the edges; less where
    it is farther from all of them, or behind an edge other than the one where it starts."""
    for i in range(len(xy)):
        x, y, nearest, behind = xy[i, 0], xy[i, 1], 1e300, False
        ux, uy = x - on[i, 0], y - on[i, 1]
        for k in range(len(a)):
            px, py, wx, wy = x - a[k, 0], y - a[k, 1], b[k, 0] - a[k, 0], b[k, 1] - a[k, 1]
            whole = wx * wx + wy * wy
            t = min(1.0, max(0.0, (px * wx + py * wy) / whole)) if whole > 0.0 else 0.0
            dx, dy = px - t * wx, py - t * wy
            nearest = min(nearest, dx * dx + dy * dy)
            cross = ux * wy - uy * wx
            if abs(cross) > 1e-12:
                # Where the way from the line to the place meets the edge, as shares of both.
                qx, qy = a[k, 0] - on[i, 0], a[k, 1] - on[i, 1]
                share, along = (qx * wy - qy * wx) / cross, (qx * uy - qy * ux) / cross
                behind = behind or (1e-6 < share < 1.0 and 0.0 <= along <= 1.0)
        far, most = math.sqrt(nearest), abs(offset[i])
        out[i] = 0.5 if behind else most / far if far > most * (1.0 + 1e-6) + 1e-6 else 1.0


def turning(line: Doubles) -> float:
    """Twice the signed area of a closed polyline: above 0 if it runs counter-clockwise."""
    x, y = line[:, 0], line[:, 1]
    return float(np.sum(x[:-1] * y[1:] - x[1:] * y[:-1]))
