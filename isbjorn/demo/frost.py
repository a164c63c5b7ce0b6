"""Ferns of frost as outlines: stems that bend, and branches off both sides of them at the angle of ice."""

from __future__ import annotations

import math

import numpy as np

_ICE = math.radians(58)
_LEAST, _GAP = 9.0, 10.0


def _stem(
    rng: np.random.Generator, x: float, y: float, turn: float, length: float, bend: float, pane: tuple[float, float],
    found: list[str],
) -> None:  # fmt: skip
    """A stem and, ever shorter toward its tip, the branches off both its sides, as SVG path data (y down)."""
    steps = max(2, int(length / _GAP))
    step, line = length / steps, [(x, y)]
    for k in range(steps):
        turn += bend / steps + rng.normal(0, 0.012)
        x, y = x + step * math.cos(turn), y - step * math.sin(turn)
        if abs(x) > pane[0] or abs(y) > pane[1]:
            break
        line.append((x, y))
        left = length * (1 - (k + 0.6) / steps)
        for side in (-1, 1):
            reach = left * rng.uniform(0.26, 0.46) * min(1.0, 0.5 + k / 6)
            if reach > _LEAST and rng.random() < 0.93:
                _stem(rng, x, y, turn + side * _ICE, reach, -side * rng.uniform(0.1, 0.5), pane, found)
    if len(line) > 1:
        # There and back: outlines are closed, and no chord shall join a tip to its root.
        found.append("M" + "L".join(f"{px:.1f} {py:.1f}" for px, py in [*line, *line[-2:0:-1]]) + "Z")


def ferns(width: float, height: float, seed: int = 5) -> tuple[str, ...]:
    """Frost that grows into a pane of width × height px from its corners and its foot: one path a fern, and the frame."""
    rng = np.random.default_rng(seed)
    w, h = width / 2, height / 2
    found = [f"M{-w} {-h}H{w}V{h}H{-w}Z"]
    for x, y, turn, length, bend in (
        (-1, 1, 34, 0.36, 0.5), (-1, 0.45, 16, 0.24, 0.5), (-0.62, 1, 74, 0.22, -0.4), (-0.3, 1, 100, 0.13, -0.4),
        (0.05, 1, 80, 0.1, 0.3), (0.36, 1, 104, 0.16, 0.5), (0.68, 1, 98, 0.2, 0.5), (1, 1, 142, 0.32, 0.5),
        (1, 0.42, 168, 0.2, -0.5), (1, -0.2, 176, 0.14, 0.4), (-1, -0.22, 4, 0.16, -0.5), (-1, -1, -36, 0.26, 0.5),
        (-0.62, -1, -70, 0.12, 0.4), (1, -1, -146, 0.22, -0.5), (0.6, -1, -112, 0.12, -0.3),
    ):  # fmt: skip
        lines: list[str] = []
        _stem(rng, x * w, y * h, math.radians(turn), length * width, bend, (w, h), lines)
        found.append("".join(lines))
    return tuple(found)
