"""Letters and SVG artwork."""

from __future__ import annotations

import hashlib

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Artwork, Letters
from isbjorn.core.document.parts.shapes import Area
from isbjorn.core.emit.shapes.base import Lines, Scattered, ShapeEngine, ShapeSetting, by_area
from isbjorn.core.emit.shapes.regions import Drawing, Trapezoids, scatter_region, trapezoids
from isbjorn.core.evaluate.geometry.outlines import letter_groups, letter_lines, path_lines
from isbjorn.core.runtime.memory import Cache
from isbjorn.core.runtime.shared_cache import load_arrays, store_arrays

_kept: Cache[Drawing] = Cache(
    "outlines", 0.8, what="Outlines of letters and artwork", depends_on="the text or the paths"
)


# What is laid down of drawings; another name when it is made in another way.
_GROUP = "drawings-1"


def _cut(lines: Lines) -> Drawing:
    return Drawing(lines, trapezoids(lines))


def _letters(text: str) -> Drawing:
    return _kept.get(text, lambda: _cut(letter_lines(text)))


def _artwork(paths: tuple[str, ...]) -> Drawing:
    return _kept.get(paths, lambda: _found(paths) or _made(paths))


def _digest(paths: tuple[str, ...]) -> str:
    return hashlib.sha256("\n".join(paths).encode()).hexdigest()


def _made(paths: tuple[str, ...]) -> Drawing:
    """Read a drawing, and lay it down: a large one takes seconds to read."""
    drawing = _cut(path_lines(paths))
    cut, ends = drawing.cut, np.cumsum([len(line) for line in drawing.lines])
    store_arrays(
        _GROUP, _digest(paths), points=np.concatenate(drawing.lines), ends=ends, bottom=cut.bottom, top=cut.top,
        sides=cut.ends, run=cut.run,
    )  # fmt: skip
    return drawing


def _found(paths: tuple[str, ...]) -> Drawing | None:
    """A drawing that was laid down."""
    there = load_arrays(_GROUP, _digest(paths), ("points", "ends", "bottom", "top", "sides", "run"))
    if there is None:
        return None
    lines = np.split(there["points"], there["ends"][:-1])
    return Drawing(lines, Trapezoids(there["bottom"], there["top"], there["sides"], there["run"]))


def _scattered(shape: Area, art: Drawing, size: Doubles, u: Doubles, setting: ShapeSetting) -> Scattered:
    """Scatter in the drawing of size 1, and bring it to its size."""
    thick = setting.read(shape.thickness) / np.maximum(size, 1e-9) if shape.fill == "shell" else None
    found = scatter_region(art, shape.fill, u, thick, shape.shell_side)
    return Scattered(found.place * size[:, None], found.outward, found.along)


def letters(shape: Letters, u: Doubles, setting: ShapeSetting) -> Scattered:
    """In letters or along their edge."""
    return _scattered(shape, _letters(shape.text), setting.read(shape.height), u, setting)


def letters_outline(shape: Letters, setting: ShapeSetting) -> Lines:
    """The letters' contours."""
    return [line * setting.read(shape.height)[0] for line in _letters(shape.text).lines]


def artwork(shape: Artwork, u: Doubles, setting: ShapeSetting) -> Scattered:
    """In the drawing or along its edge."""
    return _scattered(shape, _artwork(shape.paths), setting.read(shape.width), u, setting)


def artwork_outline(shape: Artwork, setting: ShapeSetting) -> Lines:
    """The drawing's contours."""
    return [line * setting.read(shape.width)[0] for line in _artwork(shape.paths).lines]


def _letters_apart(shape: Letters, words: bool, setting: ShapeSetting) -> list[Lines]:
    height = setting.read(shape.height)[0]
    return [[line * height for line in lines] for lines in letter_groups(shape.text, words)]


def _letters_measure(shape: Letters, setting: ShapeSetting) -> tuple[float, int]:
    return _letters(shape.text).measure(shape, float(setting.read(shape.height)[0]), setting)


def _artwork_measure(shape: Artwork, setting: ShapeSetting) -> tuple[float, int]:
    return _artwork(shape.paths).measure(shape, float(setting.read(shape.width)[0]), setting)


LETTERS = ShapeEngine(letters, letters_outline, by_area, _letters_measure, flat=True, letters=_letters_apart)
ARTWORK = ShapeEngine(artwork, artwork_outline, by_area, _artwork_measure, flat=True)
