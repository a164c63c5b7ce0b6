"""Outlines of letters and of SVG artwork as closed polylines."""

from __future__ import annotations

import io
import itertools
import re
from typing import Any

import freetype
import numpy as np
import svgelements

from isbjorn.core.arrays import Doubles
from isbjorn.core.errors import IsbjornError, reason_of
from isbjorn.core.evaluate.geometry.glyphs import font, shaped, with_fonts

_CURVE_STEPS = 10
_MOST_POINTS = 200_000
_MOST_PATHS = 2000


def _glyph(face: freetype.Face, number: int) -> list[Doubles]:
    """A glyph's contours in font units, closed polylines (n, 2)."""
    face.load_glyph(number, freetype.FT_LOAD_NO_SCALE | freetype.FT_LOAD_NO_HINTING)
    lines: list[list[tuple[float, float]]] = []

    def move(to: Any, _: object) -> None:
        lines.append([(to.x, to.y)])

    def line(to: Any, _: object) -> None:
        lines[-1].append((to.x, to.y))

    def conic(by: Any, to: Any, _: object) -> None:
        (x0, y0) = lines[-1][-1]
        for step in range(1, _CURVE_STEPS + 1):
            s = step / _CURVE_STEPS
            a, b, c = (1 - s) ** 2, 2 * s * (1 - s), s * s
            lines[-1].append((a * x0 + b * by.x + c * to.x, a * y0 + b * by.y + c * to.y))

    def cubic(by: Any, and_by: Any, to: Any, _: object) -> None:
        (x0, y0) = lines[-1][-1]
        for step in range(1, _CURVE_STEPS + 1):
            s = step / _CURVE_STEPS
            a, b, c, d = (1 - s) ** 3, 3 * s * (1 - s) ** 2, 3 * s * s * (1 - s), s**3
            x = a * x0 + b * by.x + c * and_by.x + d * to.x
            lines[-1].append((x, a * y0 + b * by.y + c * and_by.y + d * to.y))

    face.glyph.outline.decompose(None, move_to=move, line_to=line, conic_to=conic, cubic_to=cubic)
    return [_closed(np.array(points, np.float64)) for points in lines if len(points) > 2]


def _closed(line: Doubles) -> Doubles:
    first, last = line[0], line[-1]
    there = all(abs(a - b) <= 1e-8 + 1e-5 * abs(b) for a, b in zip(first.tolist(), last.tolist(), strict=True))
    return line if there else np.concatenate([line, line[:1]])


def _centred(lines: list[Doubles], size: float) -> list[Doubles]:
    """Polylines (n, 2) about their middle, divided by `size`, as (n, 3)."""
    every = np.concatenate(lines)
    middle = (every.min(axis=0) + every.max(axis=0)) / 2
    return [np.concatenate([(line - middle) / size, np.zeros((len(line), 1))], axis=1) for line in lines]


def letter_lines(text: str) -> list[Doubles]:
    """Contours of a line of text, shaped by HarfBuzz in the shipped font; (n, 3), one line high, about its middle.

    Raises IsbjornError if nothing of it can be drawn.
    """
    return _lettered(text)[0]


def letter_groups(text: str, words: bool) -> list[list[Doubles]]:
    """`letter_lines` in groups: those of each letter (with what is joined to it), or of each word, in reading order."""
    lines, letters = _lettered(text)
    # The word of each letter of the text: how many gaps are before it.
    starts = np.concatenate([[0], np.cumsum([a.isspace() and not b.isspace() for a, b in itertools.pairwise(text)])])
    groups: dict[int, list[Doubles]] = {}
    for line, letter in zip(lines, letters, strict=True):
        groups.setdefault(int(starts[letter]) if words else letter, []).append(line)
    return [groups[number] for number in sorted(groups)]


@with_fonts
def _lettered(text: str) -> tuple[list[Doubles], list[int]]:
    """The contours of a line of text, and which letter of it each belongs to."""
    shipped = font()
    em = shipped.face.units_per_EM
    found = [
        (line + np.array([x, y]) * em, letter)
        for number, x, y, letter in shaped(text, shipped)
        for line in _glyph(shipped.face, number)
    ]
    if not found:
        raise IsbjornError(f"'{text}' has no character that can be drawn.", "letters", "Enter at least one letter.")
    return _centred([line for line, _ in found], em), [letter for _, letter in found]


def _points_at_most(data: str) -> int:
    """An upper bound of the points of path data, from its letters and numbers alone."""
    curves = len(re.findall(r"[CcSsQqTtAa]", data))
    numbers = len(re.findall(r"[0-9]+", data))
    # A letter may be followed by many curves, each with at least one number.
    return numbers + (2 * _CURVE_STEPS * min(numbers, max(curves, numbers // 2)) if curves else 0)


def _flat(part: Any) -> list[tuple[float, float]]:
    """A subpath as points."""
    points: list[tuple[float, float]] = []
    for segment in part:
        if isinstance(segment, svgelements.Move) or segment.start is None or segment.end is None:
            continue
        points = points or [(segment.start.x, segment.start.y)]
        if isinstance(segment, (svgelements.Line, svgelements.Close)):
            points.append((segment.end.x, segment.end.y))
        else:
            at = segment.npoint(np.arange(1, 2 * _CURVE_STEPS + 1) / (2 * _CURVE_STEPS))
            points += [(float(x), float(y)) for x, y in np.asarray(at, np.float64)]
    return points


def path_lines(paths: tuple[str, ...]) -> list[Doubles]:
    """Contours of SVG path data (y down) as closed polylines (n, 3), one px wide, about their middle, y up.

    Raises IsbjornError if the data is damaged, too much, or has nothing drawable.
    """
    if sum(_points_at_most(data) for data in paths) > _MOST_POINTS:
        raise IsbjornError(f"the drawing may have more than {_MOST_POINTS:,} points.", "artwork", "Simplify it.")
    lines: list[Doubles] = []
    for number, data in enumerate(paths):
        try:
            for part in svgelements.Path(data).as_subpaths():
                points = _flat(part)
                if len(points) > 2:
                    lines.append(_closed(np.array(points, np.float64)))
        except (ValueError, TypeError, IndexError, AttributeError, ZeroDivisionError, OverflowError) as error:
            raise IsbjornError(
                f"path {number} is damaged ({reason_of(error)}).", "artwork", "Save the drawing again."
            ) from None
    if not lines or not np.isfinite(np.concatenate(lines)).all():
        raise IsbjornError(
            "the drawing has no outline with an area.", "artwork", "Convert its strokes and text to paths."
        )
    every = np.concatenate(lines)
    extent = every.max(axis=0) - every.min(axis=0)
    if extent.max() < 1e-9:
        raise IsbjornError("the drawing has no extent.", "artwork", "Select another drawing.")
    return [line * [1.0, -1.0, 1.0] for line in _centred(lines, float(extent[0] if extent[0] > 1e-9 else extent[1]))]


def paths_of_svg(content: bytes) -> tuple[str, ...]:
    """The outlines of an SVG file as path data, with every transform applied. Raises IsbjornError if the file has none."""
    try:
        drawing = svgelements.SVG.parse(io.BytesIO(content), reify=True)
        found = []
        for element in drawing.elements():
            if isinstance(element, svgelements.Shape) and element.values.get("visibility") != "hidden":
                data = abs(svgelements.Path(element)).d(relative=False)
                if data:
                    found.append(data)
    except Exception as error:  # the parser raises whatever its XML reader does
        raise IsbjornError(
            f"this is not an SVG drawing ({reason_of(error)}).", "artwork", "Select an .svg file."
        ) from None
    if not found:
        raise IsbjornError("the drawing contains no shapes.", "artwork", "Convert its strokes and text to paths.")
    if len(found) > _MOST_PATHS:
        raise IsbjornError(
            f"the drawing has {len(found):,} shapes.", "artwork", f"Reduce them to at most {_MOST_PATHS:,}."
        )
    path_lines(tuple(found))
    return tuple(found)
