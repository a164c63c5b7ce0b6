"""Outlines of letters and of SVG artwork as closed polylines."""

from __future__ import annotations

import functools
from pathlib import Path
from typing import Any

import freetype
import numpy as np
import numpy.typing as npt
import svgelements
import uharfbuzz

from isbjorn.core.errors import IsbjornError

Doubles = npt.NDArray[np.float64]
FONT = Path(__file__).parents[1] / "fonts" / "schibsted-grotesk-bold.ttf"
_CURVE_STEPS = 10
_MOST_POINTS = 200_000


@functools.cache
def _font() -> tuple[freetype.Face, uharfbuzz.Font]:
    face = freetype.Face(str(FONT))
    face.set_char_size(0)
    font = uharfbuzz.Font(uharfbuzz.Face(uharfbuzz.Blob.from_file_path(str(FONT))))
    return face, font


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
    return line if np.allclose(line[0], line[-1]) else np.concatenate([line, line[:1]])


def _centred(lines: list[Doubles], size: float) -> list[Doubles]:
    """Polylines (n, 2) about their middle, divided by `size`, as (n, 3)."""
    every = np.concatenate(lines)
    middle = (every.min(axis=0) + every.max(axis=0)) / 2
    return [np.concatenate([(line - middle) / size, np.zeros((len(line), 1))], axis=1) for line in lines]


def letter_lines(text: str) -> list[Doubles]:
    """Contours of a line of text, shaped by HarfBuzz in the shipped font; (n, 3), one line high, about its middle.

    Raises IsbjornError if nothing of it can be drawn.
    """
    face, font = _font()
    buffer = uharfbuzz.Buffer()
    buffer.add_str(text)
    buffer.guess_segment_properties()
    uharfbuzz.shape(font, buffer)
    x, lines = 0.0, []
    for info, place in zip(buffer.glyph_infos, buffer.glyph_positions, strict=True):
        for line in _glyph(face, info.codepoint):
            lines.append(line + np.array([x + place.x_offset, place.y_offset]))
        x += place.x_advance
    if not lines:
        raise IsbjornError(f"nothing of '{text}' can be drawn.", "letters", "Give it at least one letter.")
    return _centred(lines, face.units_per_EM)


def path_lines(paths: tuple[str, ...]) -> list[Doubles]:
    """Contours of SVG path data (y down) as closed polylines (n, 3), one px wide, about their middle, y up.

    Raises IsbjornError if the data is damaged or has nothing drawable.
    """
    lines: list[Doubles] = []
    for number, data in enumerate(paths):
        try:
            for part in svgelements.Path(data).as_subpaths():
                points: list[tuple[float, float]] = []
                for segment in part:
                    if isinstance(segment, svgelements.Move):
                        continue
                    steps = 1 if isinstance(segment, (svgelements.Line, svgelements.Close)) else 2 * _CURVE_STEPS
                    if segment.start is None or segment.end is None:
                        continue
                    points = points or [(segment.start.x, segment.start.y)]
                    points += [(p.x, p.y) for p in (segment.point((i + 1) / steps) for i in range(steps))]
                if len(points) > 2:
                    lines.append(_closed(np.array(points, np.float64)))
        except (ValueError, TypeError, IndexError, AttributeError) as error:
            raise IsbjornError(f"path {number} is damaged ({error}).", "artwork", "Save the drawing again.") from None
    if not lines or not np.isfinite(np.concatenate(lines)).all():
        raise IsbjornError(
            "the drawing has no outline with an area.", "artwork", "Convert its strokes and text to paths."
        )
    if sum(map(len, lines)) > _MOST_POINTS:
        raise IsbjornError(f"the drawing has more than {_MOST_POINTS:,} points.", "artwork", "Simplify it.")
    every = np.concatenate(lines)
    extent = every.max(axis=0) - every.min(axis=0)
    if extent.max() < 1e-9:
        raise IsbjornError("the drawing has no extent.", "artwork", "Choose another drawing.")
    return [line * [1.0, -1.0, 1.0] for line in _centred(lines, float(extent[0] if extent[0] > 1e-9 else extent[1]))]


def paths_of_svg(content: bytes) -> tuple[str, ...]:
    """The outlines of an SVG file as path data, with every transform applied. Raises IsbjornError if there are none."""
    import io

    try:
        drawing = svgelements.SVG.parse(io.BytesIO(content), reify=True)
        found = []
        for element in drawing.elements():
            if isinstance(element, svgelements.Shape) and element.values.get("visibility") != "hidden":
                data = abs(svgelements.Path(element)).d(relative=False)
                if data:
                    found.append(data)
    except Exception as error:  # the parser raises whatever its XML reader does
        raise IsbjornError(f"this is not an SVG drawing ({error}).", "artwork", "Choose an .svg file.") from None
    if not found:
        raise IsbjornError("the drawing has nothing drawable.", "artwork", "Convert its strokes and text to paths.")
    path_lines(tuple(found))
    return tuple(found)
