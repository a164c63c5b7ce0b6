"""Cutting a shape into pieces that cover it without a gap.

Each texel belongs to one piece: to the cell of a lattice, to the nearest seed (Voronoi), or to a letter. A cut is a function of
place, so it is the same at every resolution.
"""

from __future__ import annotations

import hashlib
import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
from numba import prange

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document import Emitter
from isbjorn.core.document.model.pieces import Pieces
from isbjorn.core.emit.shapes import engine_of, measure, outline, scatter
from isbjorn.core.emit.shapes.base import Lines, Painted, ShapeSetting
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.geometry.coverage import covered_texels
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.random import draw01
from isbjorn.core.runtime.memory import Cache
from isbjorn.core.runtime.parallel import kernel_lock

MOST_PIECES = 200_000
# Where the pieces are found: texels across a piece, per px and a side at most.
_ACROSS, _FINEST, _WIDEST = 6.0, 2.0, 2048
_SQUARES, _HEXAGONS, _SHARDS, _STRIPS = range(4)
_LATTICES = {"squares": _SQUARES, "hexagons": _HEXAGONS, "shards": _SHARDS, "strips": _STRIPS}
# A square is whole, or in four, of which each may be in four again.
_PARTS = {_SQUARES: 21, _HEXAGONS: 1, _SHARDS: 1, _STRIPS: 1}
_ROW = math.sqrt(3) / 2
# Attributes of the draws of cells.
_SPLIT, _SPLIT_AGAIN, _JITTER_X, _JITTER_Y, _EDGE = range(5)
Labels = npt.NDArray[np.int32]


@inline_kernel("i8(i8, i8)", cache=True, forceinline=True)
def _cell(i: int, j: int) -> int:
    return (j + 40_000) * 80_000 + i + 40_000


@inline_kernel("f8(u8, i8, f8, f8)", cache=True, error_model="numpy")
def _strip(key: np.uint64, j: int, v: float, variation: float) -> float:
    """The strip at a height v, in widths of a strip; j: that of an even lattice."""
    low = j + 0.9 * variation * (draw01(key, j + 40_000, _EDGE) - 0.5)
    high = j + 1 + 0.9 * variation * (draw01(key, j + 40_001, _EDGE) - 0.5)
    return j - 1.0 if v < low else j + 1.0 if v >= high else float(j)


@njit("void(i8, f8, u8, i8, i8, f8[:,:,::1])", parallel=True, cache=True)
def _sow(kind: int, variation: float, key: np.uint64, first_i: int, first_j: int, seeds: Doubles) -> None:
    """The seeds of a lattice, in widths of a piece, into (rows, columns, 2)."""
    pitch = _ROW if kind == _HEXAGONS else 1.0
    reach = 0.7 * variation if kind == _HEXAGONS else 0.55 + 0.45 * variation
    for row in prange(seeds.shape[0]):
        j = first_j + row
        shift = 0.5 * (j & 1) if kind == _HEXAGONS else 0.0
        for column in range(seeds.shape[1]):
            cell = _cell(first_i + column, j)
            seeds[row, column, 0] = first_i + column + 0.5 + shift + reach * (draw01(key, cell, _JITTER_X) - 0.5)
            seeds[row, column, 1] = (j + 0.5 + reach * (draw01(key, cell, _JITTER_Y) - 0.5)) * pitch


@njit(
    "void(f8, f8, f8, i8, f8[::1], u8, i8, i8, f8[:,:,::1], i4[:,::1])", parallel=True, cache=True, error_model="numpy"
)
def _label(
    left: float, top: float, density: float, kind: int, form: Doubles, key: np.uint64, first_i: int, first_j: int, seeds: Doubles,
    out: Labels,
) -> None:  # fmt: skip
    """The cell of each texel. form: width of a piece, cosine and sine of the angle, variation; first_i, first_j: the first column
    and row of the lattice; seeds: as `_sow` makes them."""
    width, c, s, variation = form[0], form[1], form[2], form[3]
    columns = seeds.shape[1]
    pitch = _ROW if kind == _HEXAGONS else 1.0
    for row in prange(out.shape[0]):
        y = top - (row + 0.5) / density
        for column in range(out.shape[1]):
            x = left + (column + 0.5) / density
            u, v = (x * c + y * s) / width, (y * c - x * s) / width
            i, j, part = math.floor(u), math.floor(v), 0
            if kind == _SQUARES:
                if variation > 0 and draw01(key, _cell(i, j), _SPLIT) < variation:
                    p, q = 2 * (u - i), 2 * (v - j)
                    part = 1 + min(1, int(p)) + 2 * min(1, int(q))
                    if draw01(key, _cell(i, j) * 8 + part, _SPLIT_AGAIN) < 0.5 * variation:
                        p, q = 2 * (p - math.floor(p)), 2 * (q - math.floor(q))
                        part = 5 + 4 * (part - 1) + min(1, int(p)) + 2 * min(1, int(q))
                out[row, column] = ((j - first_j) * columns + (i - first_i)) * 21 + part
                continue
            if kind == _STRIPS:
                out[row, column] = int(_strip(key, j, v, variation)) - first_j
                continue
            j = math.floor(v / pitch)
            nearest, best = 1e300, 0
            for b in range(j - 2 - first_j, j + 3 - first_j):
                for a in range(i - 2 - first_i, i + 3 - first_i):
                    du, dv = seeds[b, a, 0] - u, seeds[b, a, 1] - v
                    far = du * du + dv * dv
                    if far < nearest:
                        nearest, best = far, b * columns + a
            out[row, column] = best


_sown: Callable[..., None] = kernel_lock(_sow)
_labelled: Callable[..., None] = kernel_lock(_label)


@njit("void(f4[:,::1], i4[:,::1], f8[:,::1])", cache=True)
def _measured(cover: Floats, labels: Labels, sums: Doubles) -> None:
    """Of each cell: its cover, its first moments, and its extent in texels."""
    for n in range(len(sums)):
        sums[n, 3], sums[n, 4], sums[n, 5], sums[n, 6] = 1e9, 1e9, -1e9, -1e9
    for row in range(cover.shape[0]):
        for column in range(cover.shape[1]):
            a, n = cover[row, column], labels[row, column]
            if a <= 0 or n < 0:
                continue
            sums[n, 0] += a
            sums[n, 1] += a * (column + 0.5)
            sums[n, 2] += a * (row + 0.5)
            sums[n, 3], sums[n, 4] = min(sums[n, 3], column), min(sums[n, 4], row)
            sums[n, 5], sums[n, 6] = max(sums[n, 5], column + 1), max(sums[n, 6], row + 1)


@njit("void(f4[:,::1], i4[:,::1], i4[:,::1])", parallel=True, cache=True)
def _adopt(cover: Floats, labels: Labels, out: Labels) -> None:
    """Give what is covered but belongs to no piece to the nearest one: a hair at an edge that another resolution does not show."""
    height, width = cover.shape
    for row in prange(height):
        for column in range(width):
            if cover[row, column] <= 0 or labels[row, column] >= 0:
                continue
            for reach in range(1, max(height, width)):
                best, nearest = -1, 1 << 40
                for r in range(max(0, row - reach), min(height, row + reach + 1)):
                    for c in range(max(0, column - reach), min(width, column + reach + 1)):
                        far = (r - row) ** 2 + (c - column) ** 2
                        if labels[r, c] >= 0 and far < nearest:
                            best, nearest = labels[r, c], far
                if best >= 0:
                    out[row, column] = best
                    break


_adopted: Callable[..., None] = kernel_lock(_adopt)


@dataclass(frozen=True)
class Sheet:
    """What is cut, as texels: cover (h, w) in [0, 1]; the piece of each, -1: none; its left upper corner in px from the emitter;
    and texels per px."""

    cover: Floats
    labels: Labels
    left: float
    top: float
    density: float


@dataclass(frozen=True)
class PieceCut:
    """The n pieces of a shape, at the emitter's scale of 100 %: places (n, 3) px, in the emitter's coordinates; sizes (n,) px, the
    larger side of each (0: of points, which are as large as the emitter says); rank (n,) in [0, 1], the order in which they are
    read; outward (n, 3), unit vectors from the middle.

    sheet: makes the texels of the pieces, at a density in texels per px, on a lattice that is shifted by shares of a texel to the
    right and up; None: they are points, drawn as the emitter's body. extent: width and height
    of the whole, px; name: another one for every other cut; painted: the picture that it shows, None: one colour.
    """

    places: Doubles
    sizes: Doubles
    rank: Doubles
    outward: Doubles
    sheet: Callable[[float, tuple[float, float]], Sheet] | None
    extent: tuple[float, float] = (0.0, 0.0)
    name: str = ""
    painted: Painted | None = None

    def __len__(self) -> int:
        return len(self.places)


def _bounds(lines: Lines) -> tuple[float, float, float, float]:
    every = np.concatenate([line[:, :2] for line in lines])
    (x0, y0), (x1, y1) = every.min(axis=0), every.max(axis=0)
    return float(x0), float(y0), float(x1), float(y1)


def _grid(
    bounds: tuple[float, float, float, float], density: float, shift: tuple[float, float]
) -> tuple[float, float, int, int]:
    """A lattice of texels, shifted from the emitter's place by shares of a texel, that holds bounds: its corner in px, and texels
    across and down."""
    (x0, y0, x1, y1), (right, up) = bounds, shift
    first, last = math.floor(x0 * density - right), math.ceil(x1 * density - right)
    top, bottom = math.ceil(y1 * density - up), math.floor(y0 * density - up)
    return (first + right) / density, (top + up) / density, max(1, last - first), max(1, top - bottom)


def _cells(
    pieces: Pieces, size: float, key: int, bounds: tuple[float, float, float, float]
) -> tuple[Callable[..., Labels], int]:
    """What labels the texels of a grid with the cells of a lattice, and how many cells there are."""
    kind = _LATTICES[pieces.cut]
    turn = math.radians(pieces.angle.value) if pieces.cut != "shards" else 0.0
    x0, y0, x1, y1 = bounds
    corners = np.array([[x0, y0], [x1, y0], [x0, y1], [x1, y1]])
    u = (corners[:, 0] * math.cos(turn) + corners[:, 1] * math.sin(turn)) / size
    v = (corners[:, 1] * math.cos(turn) - corners[:, 0] * math.sin(turn)) / size / (_ROW if kind == _HEXAGONS else 1.0)
    first_i, first_j = math.floor(u.min()) - 3, math.floor(v.min()) - 3
    columns, rows = math.ceil(u.max()) + 4 - first_i, math.ceil(v.max()) + 4 - first_j
    form = np.array([size, math.cos(turn), math.sin(turn), pieces.variation.value / 100])
    seeded = kind in (_HEXAGONS, _SHARDS)
    seeds = np.zeros((rows if seeded else 1, columns, 2))
    if seeded:
        _sown(kind, form[3], np.uint64(key), first_i, first_j, seeds)

    def label(left: float, top: float, density: float, width: int, height: int) -> Labels:
        out = np.empty((height, width), np.int32)
        _labelled(left, top, density, kind, form, np.uint64(key), first_i, first_j, seeds, out)
        return out

    return label, rows * (1 if kind == _STRIPS else columns * _PARTS[kind])


def _glyphs(groups: list[Lines]) -> tuple[Callable[..., Labels], int]:
    """What labels the texels of a grid with the letters, or the words, that cover them most."""

    def label(left: float, top: float, density: float, width: int, height: int) -> Labels:
        most, out = np.zeros((height, width), np.float32), np.full((height, width), -1, np.int32)
        for number, lines in enumerate(groups):
            x0, y0, x1, y1 = _bounds(lines)
            first, last = math.floor((x0 - left) * density), math.ceil((x1 - left) * density)
            begin, end = math.floor((top - y1) * density), math.ceil((top - y0) * density)
            columns, rows = slice(max(0, first), max(0, last)), slice(max(0, begin), max(0, end))
            own = most[rows, columns]
            cover = covered_texels(
                lines, left + columns.start / density, top - rows.start / density, density, own.shape[1], own.shape[0]
            )
            out[rows, columns][cover > own] = number
            np.maximum(own, cover, out=own)
        return out

    return label, len(groups)


def _ranks(places: Doubles, size: float, lines: int) -> Doubles:
    """The order in which places are read: by rows of a piece's width, or of as many lines of text; in [0, 1]."""
    y, tall = -places[:, 1], size
    if lines:
        tall = max(1e-6, (float(np.ptp(y)) + 1e-3) / lines)
    row = np.floor((y - y.min(initial=0)) / tall + (0 if lines else 0.5))
    order = np.lexsort((places[:, 0], row))
    rank = np.empty(len(places))
    rank[order] = np.arange(len(places)) / max(1, len(places) - 1)
    return rank


def _outward(places: Doubles) -> Doubles:
    away = places - places.mean(axis=0)
    length = np.linalg.norm(away, axis=1, keepdims=True)
    return np.asarray(np.where(length > 1e-9, away / np.maximum(length, 1e-9), [0.0, 1.0, 0.0]))


def _points(emitter: Emitter, pieces: Pieces, key: int, setting: ShapeSetting) -> PieceCut:
    """Single places on a shape: as far apart as the size says, in the shape's own manner."""
    amount = measure(emitter.shape, setting)
    count = 1 if amount is None else round(amount[0] / max(pieces.size.value, 0.1) ** amount[1])
    count = min(MOST_PIECES, max(1, count))
    everywhere = ShapeSetting(np.full(count, setting.t[0]), setting.readings, setting.light)
    on = scatter(emitter, key, np.arange(count), everywhere)
    lines = 0 if engine_of(emitter.shape).letters is None else 1
    ranks = _ranks(on.place, pieces.size.value, lines)
    painted = engine_of(emitter.shape).painted(emitter.shape)
    extent = np.ptp(np.concatenate(outline(emitter.shape, setting)), axis=0) if painted is not None else (0.0, 0.0)
    return PieceCut(
        on.place, np.zeros(count), ranks, on.outward, None, (float(extent[0]), float(extent[1])), painted=painted
    )


def _made(emitter: Emitter, pieces: Pieces, lines: Lines, key: int, setting: ShapeSetting, name: str) -> PieceCut:
    bounds = _bounds(lines)
    x0, y0, x1, y1 = bounds
    # No finer than as many as can be drawn.
    size = max(pieces.size.value, math.sqrt((x1 - x0) * (y1 - y0) / MOST_PIECES), 0.1)
    lettered = engine_of(emitter.shape).letters
    if lettered is not None and pieces.cut in ("letters", "words"):
        label, count = _glyphs(lettered(emitter.shape, pieces.cut == "words", setting))
    else:
        label, count = _cells(pieces, size, key, bounds)

    def texels(density: float, shift: tuple[float, float]) -> tuple[Floats, Labels, float, float]:
        left, top, width, height = _grid(bounds, density, shift)
        cover = covered_texels(lines, left, top, density, width, height)
        return cover, label(left, top, density, width, height), left, top

    finest = min(_FINEST, max(1.0, _ACROSS / size), _WIDEST / max(x1 - x0, y1 - y0, 1.0))
    cover, labels, left, top = texels(finest, (0.0, 0.0))
    which = np.flatnonzero(np.bincount(labels[(cover > 0) & (labels >= 0)], minlength=count))
    number = np.full(count, -1, np.int32)
    number[which] = np.arange(len(which))
    some = np.zeros((len(which), 7))
    _measured(cover, np.where(labels >= 0, number[labels], -1).astype(np.int32), some)
    places = np.zeros((len(which), 3))
    places[:, 0] = left + some[:, 1] / some[:, 0] / finest
    places[:, 1] = top - some[:, 2] / some[:, 0] / finest
    sizes = np.maximum(some[:, 5] - some[:, 3], some[:, 6] - some[:, 4]) / finest

    def sheet(density: float, shift: tuple[float, float]) -> Sheet:
        cover, labels, left, top = texels(density, shift)
        known = np.where(labels >= 0, number[labels], -1).astype(np.int32)
        whole = known.copy()
        _adopted(cover, known, whole)
        return Sheet(cover, whole, left, top, density)

    text = 0 if lettered is None else 1
    painted = engine_of(emitter.shape).painted(emitter.shape)
    return PieceCut(
        places, sizes, _ranks(places, size, text), _outward(places), sheet, (x1 - x0, y1 - y0), name, painted
    )


_kept: Cache[PieceCut] = Cache(
    "outlines", 0.3, what="Pieces of shapes", depends_on="the shape's outline, and how it is cut"
)


def cut_of(emitter: Emitter, key: int, readings: Readings, shape: Any = None) -> PieceCut:
    """The pieces of an emitter's shape, or of another shape that it becomes.

    Raises IsbjornError for a shape without an area that is to be cut otherwise than into points.
    """
    pieces = emitter.pieces
    assert pieces is not None
    if shape is not None:
        emitter = emitter.model_copy(update={"shape": shape})
    setting = ShapeSetting(np.zeros(1), readings, readings.light)
    form = pieces.model_dump_json(include={"cut", "size", "variation", "angle"})
    if pieces.cut == "points":
        drawn = [line.tobytes() for line in outline(emitter.shape, setting)]
        parts = (form, emitter.shape.model_dump_json(), emitter.spacing, key, *drawn)
        return _kept.get(parts, lambda: _points(emitter, pieces, key, setting))
    flat = engine_of(emitter.shape).flat
    lines = [line for line in outline(emitter.shape, setting) if len(line) > 3] if flat else []
    if not lines or max(np.ptp(np.concatenate(lines)[:, :2], axis=0)) < 0.5:
        raise IsbjornError(
            f"{emitter.name}: this shape has no area that can be cut into {pieces.cut}.", "pieces",
            "Cut it into points, or choose letters, artwork, a disc, a rectangle or a closed path.",
        )  # fmt: skip
    digest = hashlib.sha256(
        f"{form} {emitter.shape.kind} {engine_of(emitter.shape).painted(emitter.shape)} {key}".encode()
    )
    for line in lines:
        digest.update(np.ascontiguousarray(line).tobytes())
    name = digest.hexdigest()
    return _kept.get(name, lambda: _made(emitter, pieces, lines, key, setting, name))
