"""Regions bounded by closed polylines: even by area inside, by length along the edge."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from isbjorn.core.birth.shapes.base import Doubles, Lines, Scattered, vectors


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


def trapezoids(lines: Lines) -> Trapezoids:
    """Cut the region inside closed polylines by the nonzero winding rule, at the height of every point."""
    e = edges(lines)
    heights = np.unique(np.round(np.concatenate([e.a[:, 1], e.b[:, 1]]), 6))
    rows: list[tuple[float, ...]] = []
    for low, high in zip(heights, heights[1:], strict=False):
        middle = (low + high) / 2
        crosses = (np.minimum(e.a[:, 1], e.b[:, 1]) < middle) & (np.maximum(e.a[:, 1], e.b[:, 1]) > middle)
        a, b = e.a[crosses], e.b[crosses]
        slope = (b[:, 0] - a[:, 0]) / (b[:, 1] - a[:, 1])
        order = np.argsort(a[:, 0] + slope * (middle - a[:, 1]), kind="stable")
        way = np.where(b[:, 1] > a[:, 1], 1, -1)[order]
        x0 = (a[:, 0] + slope * (low - a[:, 1]))[order]
        x1 = (a[:, 0] + slope * (high - a[:, 1]))[order]
        inside = np.cumsum(way)
        for i in range(len(order) - 1):
            if inside[i] != 0:
                rows.append((low, high, x0[i], x0[i + 1], x1[i], x1[i + 1]))
    table = np.array(rows or [(0.0,) * 6])
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


def scatter_region(
    lines: Lines, cut: Trapezoids | None, fill: str, u: Doubles, thick: Doubles | None, side: str
) -> Scattered:
    """Places inside closed polylines, along them, or in a shell on their left or right."""
    if fill == "inside" and cut is not None:
        xy = inside(cut, u[0], u[1])
        zero = np.zeros(len(xy))
        middle = (np.array([line[:, :2].mean(axis=0) for line in lines])).mean(axis=0)
        away = xy - middle
        length = np.maximum(np.linalg.norm(away, axis=1), 1e-12)
        return Scattered(
            vectors(xy[:, 0], xy[:, 1]), vectors(away[:, 0] / length, away[:, 1] / length), vectors(zero + 1, zero)
        )
    xy, way = on_edges(edges(lines), u[0])
    # Away from the inside is to the right of contours that run counter-clockwise on the whole.
    sign = 1.0 if sum(turning(line) for line in lines) >= 0 else -1.0
    normal = np.stack([way[:, 1], -way[:, 0]], axis=1) * sign
    if fill == "shell" and thick is not None:
        low, high = {"inward": (-1.0, 0.0), "outward": (0.0, 1.0), "both": (-0.5, 0.5)}[side]
        xy = xy + normal * (thick * (low + u[1] * (high - low)))[:, None]
    return Scattered(vectors(xy[:, 0], xy[:, 1]), vectors(normal[:, 0], normal[:, 1]), vectors(way[:, 0], way[:, 1]))


def turning(line: Doubles) -> float:
    """Twice the signed area of a closed polyline: above 0 if it runs counter-clockwise."""
    x, y = line[:, 0], line[:, 1]
    return float(np.sum(x[:-1] * y[1:] - x[1:] * y[:-1]))
