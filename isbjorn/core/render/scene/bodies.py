"""The masks of drawn bodies, on a square from -1 to 1, x to the right and y upward; bodies face right.

One function per kind, `mask(body, variant, x, y)`, which the registry names: cover in [0, 1] on a grid.
"""

from __future__ import annotations

import functools
import hashlib
import inspect
import math
import os
import threading
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt
from numba import prange

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Drop, Puff, Ring, Round, Shard, Spark, Square, Star, Streak
from isbjorn.core.document.fields.kinds import BODIES
from isbjorn.core.document.parts.bodies import Arrow, ArtworkBody
from isbjorn.core.evaluate.geometry.outlines import path_lines
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.runtime.kernels import reached
from isbjorn.core.runtime.parallel import kernel_lock

_OVER, _LARGE, _BLOCK = 3, 512, 32
# Masks of this side and more are cached between starts, next to the kernels: the latest ones, of at most 4 MB each.
_KEPT_FROM, _KEPT = 256, 32


@inline_kernel("f8(f8, f8, f8[:,::1], i8)", cache=True, error_model="numpy")
def _to_edge(x: float, y: float, corners: Doubles, k: int) -> float:
    ax, ay = corners[k, 0], corners[k, 1]
    m = k + 1 if k + 1 < len(corners) else 0
    dx, dy = corners[m, 0] - ax, corners[m, 1] - ay
    t = min(1.0, max(0.0, ((x - ax) * dx + (y - ay) * dy) / max(dx * dx + dy * dy, 1e-12)))
    return math.hypot(x - ax - t * dx, y - ay - t * dy)


def _edge(inside: Doubles, softness: Any, extent: float = 1.0) -> Doubles:
    """Cover from a distance to the edge (more than 0 inside): soft over a share of the extent, at least a hair."""
    q = np.clip(inside / max(softness.value / 100 * extent, 1e-3), 0, 1)
    return np.asarray(q * q * (3 - 2 * q))


@njit("void(f8[::1], f8[::1], f8[:,::1], f8[:,::1])", parallel=True, cache=True, error_model="numpy")
def _distances(xs: Doubles, ys: Doubles, corners: Doubles, out: Doubles) -> None:
    """Distance to the edge of a polygon (n, 2) on the grid of xs and ys, more than 0 inside (even and odd).

    In blocks: only the edges that can be nearest somewhere in a block are asked there.
    """
    n = len(corners)
    for block in prange((len(ys) + _BLOCK - 1) // _BLOCK):
        top, low = block * _BLOCK, min(len(ys), (block + 1) * _BLOCK)
        far, near, crossings = np.empty(n), np.empty(n, np.int64), np.empty(n)
        for left in range(0, len(xs), _BLOCK):
            right = min(len(xs), left + _BLOCK)
            cx, cy = 0.5 * (xs[left] + xs[right - 1]), 0.5 * (ys[top] + ys[low - 1])
            reach = math.hypot(xs[right - 1] - xs[left], ys[top] - ys[low - 1])
            best = np.inf
            for k in range(n):
                far[k] = _to_edge(cx, cy, corners, k)
                best = min(best, far[k])
            count = 0
            for k in range(n):
                # Both the place and its nearest edge are within half of the block's diagonal of the middle's.
                if far[k] <= best + reach:
                    near[count] = k
                    count += 1
            for j in range(top, low):
                for i in range(left, right):
                    d = np.inf
                    for k in range(count):
                        d = min(d, _to_edge(xs[i], ys[j], corners, near[k]))
                    out[j, i] = -d
        for j in range(top, low):
            y, count = ys[j], 0
            for k in range(n):
                ax, ay = corners[k, 0], corners[k, 1]
                bx, by = corners[(k + 1) % n, 0], corners[(k + 1) % n, 1]
                if (ay > y) != (by > y):
                    crossings[count] = (bx - ax) * (y - ay) / (by - ay) + ax
                    count += 1
            for i in range(len(xs)):
                inside = False
                for k in range(count):
                    if xs[i] < crossings[k]:
                        inside = not inside
                if inside:
                    out[j, i] = -out[j, i]


_measure: Callable[..., None] = kernel_lock(_distances)


def _polygon(x: Doubles, y: Doubles, corners: Doubles) -> Doubles:
    """Distance to the edge of a polygon (n, 2) at the places of a grid, more than 0 inside."""
    found = np.empty(x.shape)
    _measure(
        np.ascontiguousarray(x[0]), np.ascontiguousarray(y[:, 0]), np.ascontiguousarray(corners, np.float64), found
    )
    return found


def round_mask(body: Round, _: int, x: Doubles, y: Doubles) -> Doubles:
    r = np.hypot(x, y)
    inner = 1.0 if body.kind == "hard disc" else 1 - body.softness.value / 100
    q = np.clip((1 - r * r) / max(1 - inner * inner, 1e-3), 0, 1)
    return np.asarray(q * q * (3 - 2 * q))


def ring(body: Ring, _: int, x: Doubles, y: Doubles) -> Doubles:
    wide = body.width.value / 100
    return _edge(wide / 2 - np.abs(np.hypot(x, y) - (1 - wide / 2)), body.softness, wide / 2)


def star(body: Star, _: int, x: Doubles, y: Doubles) -> Doubles:
    turns = math.pi / 2 + math.pi * np.arange(2 * body.points) / body.points
    reach = np.where(np.arange(2 * body.points) % 2, body.inner.value / 100, 1.0)
    corners = np.stack([np.cos(turns) * reach, np.sin(turns) * reach], axis=1)
    return _edge(_polygon(x, y, corners), body.softness, 0.5)


def spark(body: Spark, _: int, x: Doubles, y: Doubles) -> Doubles:
    r, turn = np.hypot(x, y), np.arctan2(y, x) - math.pi / 2
    core = body.core.value / 100
    off = (turn * body.rays / (2 * math.pi) + 0.5) % 1 - 0.5
    across = np.abs(np.sin(off * 2 * math.pi / body.rays)) * r
    along = np.clip(1 - r, 0, 1)
    wide = 0.005 + 0.22 * (1 - body.thin.value / 100) + 0.03 * along
    rays = np.exp(-((across / (wide * np.maximum(along, 1e-3))) ** 2)) * along**1.5
    return np.asarray(np.clip(np.exp(-((r / core) ** 2)) + rays, 0, 1) * (r < 1))


def _clouds(side: int, octaves: int, seed: int) -> Doubles:
    """Fractal value noise in about [-1, 1], (side, side)."""
    rng, total, weight = np.random.default_rng(seed), np.zeros((side, side)), 0.0
    for octave in range(octaves):
        cells = 4 * 2**octave
        if cells >= side:
            break
        grid = rng.random((cells + 3, cells + 3)) * 2 - 1
        fine = cv2.resize(grid, (side, side), interpolation=cv2.INTER_CUBIC)
        total, weight = total + fine * 0.6**octave, weight + 0.6**octave
    return np.asarray(total / max(weight, 1e-9) * 1.6)


def puff(body: Puff, variant: int, x: Doubles, y: Doubles) -> Doubles:
    eaten = body.rough.value / 100
    noise = _clouds(len(x), body.detail, body.seed * 31 + variant)
    reach = 1 - 0.45 * eaten
    inside = reach - np.hypot(x, y) + 0.42 * eaten * noise
    shape = _edge(inside, body.softness, reach * 0.95)
    # Thinner where the cloud has its hollows, and nothing at the page's edge.
    hollow = 1 - 0.35 * eaten * np.clip(-noise, 0, 1)
    return np.asarray(shape * hollow * np.clip((1 - np.hypot(x, y)) * 8, 0, 1))


def drop(body: Drop, _: int, x: Doubles, y: Doubles) -> Doubles:
    t = np.linspace(0, 2 * math.pi, 90, endpoint=False)
    wide = 1 - body.slender.value / 100
    corners = np.stack([-np.cos(t), wide * np.sin(t) * np.sin(t / 2) ** 1.6], axis=1)
    return _edge(_polygon(x, y, corners), body.softness, 0.6 * wide)


def square(body: Square, _: int, x: Doubles, y: Doubles) -> Doubles:
    tall = body.aspect.value / 100
    a = 1 / math.hypot(1, tall)
    w, h = a, a * tall
    r = body.rounded.value / 100 * min(w, h)
    qx, qy = np.abs(x) - (w - r), np.abs(y) - (h - r)
    outside = np.hypot(np.maximum(qx, 0), np.maximum(qy, 0)) + np.minimum(np.maximum(qx, qy), 0) - r
    return _edge(-outside, body.softness, min(w, h))


def arrow(body: Arrow, _: int, x: Doubles, y: Doubles) -> Doubles:
    shaft, wide, neck = body.shaft.value / 100, body.wide.value / 100, 1 - 2 * body.head.value / 100
    shaft = min(shaft, wide)
    corners = np.array(
        [[1, 0], [neck, wide], [neck, shaft], [-1, shaft], [-1, -shaft], [neck, -shaft], [neck, -wide]], np.float64
    )
    corners /= np.hypot(*corners.T).max()
    return _edge(_polygon(x, y, corners), body.softness, 0.5 * shaft)


@njit("void(f8[::1], f8[::1], f8[:,::1], f8[:,::1], f8[:,::1])", parallel=True, cache=True)
def _fill(xs: Doubles, ys: Doubles, a: Doubles, b: Doubles, out: Doubles) -> None:
    """1 inside closed polylines, by the rule of even and odd, on the grid of xs and ys; a, b (n, 2): ends of their pieces."""
    for j in prange(len(ys)):
        y, count = ys[j], 0
        crossings = np.empty(len(a))
        for k in range(len(a)):
            if (a[k, 1] > y) != (b[k, 1] > y):
                crossings[count] = a[k, 0] + (b[k, 0] - a[k, 0]) * (y - a[k, 1]) / (b[k, 1] - a[k, 1])
                count += 1
        some = np.sort(crossings[:count])
        at = 0
        for i in range(len(xs)):
            while at < count and some[at] <= xs[i]:
                at += 1
            out[j, i] = at % 2


_filled: Callable[..., None] = kernel_lock(_fill)


def artwork(body: ArtworkBody, _: int, x: Doubles, y: Doubles) -> Doubles:
    lines = path_lines(body.paths)
    farthest = max(float(np.hypot(line[:, 0], line[:, 1]).max()) for line in lines)
    found, ends = (
        np.empty(x.shape),
        [np.concatenate([line[k : len(line) - 1 + k, :2] for line in lines]) for k in (0, 1)],
    )
    a, b = (np.ascontiguousarray(end / farthest) for end in ends)
    _filled(np.ascontiguousarray(x[0]), np.ascontiguousarray(y[:, 0]), a, b, found)
    return found


def shard(body: Shard, variant: int, x: Doubles, y: Doubles) -> Doubles:
    rng = np.random.default_rng(body.seed * 131 + variant)
    n = body.corners
    turns = (np.arange(n) + rng.random(n) * 0.75) * 2 * math.pi / n
    reach = 0.62 + 0.38 * rng.random(n)
    corners = np.stack([np.cos(turns) * reach, np.sin(turns) * reach * (1 - body.slender.value / 100)], axis=1)
    return _edge(_polygon(x, y, corners / np.abs(corners).max()), body.softness, 0.4)


def streak(body: Streak, _: int, x: Doubles, y: Doubles) -> Doubles:
    head = body.head.value / 50 - 1
    before = np.clip((x + 1) / max(1 + head, 1e-3), 0, 1) if head > -1 else np.ones_like(x)
    after = np.clip((1 - x) / max(1 - head, 1e-3), 0, 1) if head < 1 else np.ones_like(x)
    along = np.where(x < head, before, after)
    wide = body.width.value / 100 * np.sqrt(np.maximum(along, 0))
    return np.asarray(_edge((wide - np.abs(y)) / np.maximum(wide, 1e-6), body.softness) * along**1.5 * (np.abs(x) <= 1))


def variants(body: Any) -> int:
    """How many different ones there are of a drawn body."""
    return int(getattr(body, "variants", 1))


def mask(body: Any, variant: int, side: int) -> npt.NDArray[np.float32]:
    """A drawn body as float32 (side, side) in [0, 1], top row first, each texel the mean of 3 × 3 places (of 2 × 2 where large)."""
    over = _OVER if side <= _LARGE else _OVER - 1
    at = (np.arange(side * over) + 0.5) / (side * over) * 2 - 1
    x, y = np.meshgrid(at, -at)
    fine = BODIES.of(body).made(body, variant, x, y)
    return np.asarray(fine.reshape(side, over, side, over).mean(axis=(1, 3)), np.float32)


@functools.cache
def _drawn_by(drawing: Callable[..., Doubles]) -> str:
    """The text of all that draws a mask: another engine draws others."""
    texts = reached(Path(__file__), "mask") | reached(Path(inspect.getfile(drawing)), drawing.__name__)
    return "\n".join(f"{at} {text}" for at, text in sorted(texts.items()))


def kept_mask(body: Any, variant: int, side: int) -> npt.NDArray[np.float32]:
    """As `mask`; one that takes long is found again after a start."""
    home = os.environ.get("NUMBA_CACHE_DIR", "")
    if side < _KEPT_FROM or not home:
        return mask(body, variant, side)
    key = f"{body.model_dump_json()} {variant} {side} {_drawn_by(BODIES.of(body).made)}"
    path = Path(home) / "masks" / f"{hashlib.sha256(key.encode()).hexdigest()[:32]}.npy"
    with suppress(OSError, ValueError, EOFError):
        known = np.load(path, allow_pickle=False)
        if known.shape == (side, side) and known.dtype == np.float32:
            return np.asarray(known)
    made = mask(body, variant, side)
    # Without room, or the right, it is only not kept.
    with suppress(OSError):
        path.parent.mkdir(parents=True, exist_ok=True)
        part = path.with_suffix(f".{os.getpid()}-{threading.get_ident()}")
        with part.open("wb") as file:
            np.save(file, made)
        part.replace(path)
        for old in sorted(path.parent.iterdir(), key=lambda p: p.stat().st_mtime)[:-_KEPT]:
            old.unlink(missing_ok=True)
    return made
