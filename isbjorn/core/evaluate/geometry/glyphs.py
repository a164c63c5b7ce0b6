"""Letters as pictures: text shaped by HarfBuzz, drawn by FreeType."""

from __future__ import annotations

import functools
import threading
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import ParamSpec, TypeVar

import freetype
import numpy as np
import uharfbuzz

from isbjorn.core.arrays import Floats
from isbjorn.core.errors import IsbjornError, reason_of

FONT = Path(__file__).parents[2] / "fonts" / "schibsted-grotesk-bold.ttf"
FONTS = (".ttf", ".otf", ".ttc", ".woff2")
_LARGEST_FONT = 64 << 20
# Letters share a baseline: their middle is half the height of a capital above it.
_MIDDLE_EM = 0.35


# A sheet of letters, in px, before it is brought to its page.
_WIDEST_SHEET = 4096
P = ParamSpec("P")
R = TypeVar("R")
_one_at_a_time = threading.RLock()


def with_fonts(call: Callable[P, R]) -> Callable[P, R]:
    """Let one thread at a time into a function that uses FreeType or HarfBuzz: a face must not be shared while it works.

    What they refuse comes as an IsbjornError.
    """

    @functools.wraps(call)
    def inside(*args: P.args, **kwargs: P.kwargs) -> R:
        with _one_at_a_time:
            try:
                return call(*args, **kwargs)
            except (freetype.FT_Exception, uharfbuzz.HarfBuzzError) as error:
                raise IsbjornError(
                    f"the font is damaged ({reason_of(error)}).", "font", "Select another font."
                ) from None

    return inside


@dataclass(frozen=True)
class Font:
    """A font for shaping and for drawing."""

    face: freetype.Face
    shaper: uharfbuzz.Font


@functools.lru_cache(maxsize=16)
def _opened(path: str, changed: float) -> Font:  # noqa: ARG001
    try:
        if Path(path).stat().st_size > _LARGEST_FONT:
            raise IsbjornError("this file is too large for a font.", path, "The limit is 64 MB.")
        face = freetype.Face(path)
        if not face.is_scalable:
            raise IsbjornError("this font has no outlines.", path, "Select a TrueType or OpenType font.")
        shaper = uharfbuzz.Font(uharfbuzz.Face(uharfbuzz.Blob.from_file_path(path)))
    except IsbjornError:
        raise
    except Exception as error:  # freetype and HarfBuzz raise what they like
        raise IsbjornError(
            f"this font cannot be read ({reason_of(error)}).", path, "Select a TrueType or OpenType font."
        ) from None
    return Font(face, shaper)


@with_fonts
def font(path: str | None = None) -> Font:
    """A font by its file; the one that ships without. Raises IsbjornError if it is missing or broken."""
    place = Path(path) if path else FONT
    try:
        there = place.is_file()
    except (OSError, ValueError):
        there = False
    if not there:
        raise IsbjornError("the font file is missing.", str(place), "Restore it, or select another.")
    return _opened(str(place), place.stat().st_mtime)


@with_fonts
def shaped(text: str, with_font: Font) -> list[tuple[int, float, float, int]]:
    """Glyphs of a line of text: number, place in em, and which letter of the text each begins at."""
    buffer = uharfbuzz.Buffer()
    buffer.add_str(text)
    buffer.guess_segment_properties()
    uharfbuzz.shape(with_font.shaper, buffer)
    em, x, found = with_font.face.units_per_EM, 0.0, []
    for info, place in zip(buffer.glyph_infos, buffer.glyph_positions, strict=True):
        found.append((info.codepoint, (x + place.x_offset) / em, place.y_offset / em, info.cluster))
        x += place.x_advance
    return found


def pieces(text: str, split: str) -> list[str]:
    """What single particles get of a text, in reading order: its letters as they are joined, or its words."""
    if split == "words":
        return text.split()
    found: list[str] = []
    for letter in text:
        # A mark that belongs to the letter before it stays with it.
        if found and not letter.isspace() and _joins(letter):
            found[-1] += letter
        elif not letter.isspace():
            found.append(letter)
    return found


def _joins(letter: str) -> bool:
    import unicodedata

    return unicodedata.combining(letter) != 0 or letter in "\u200d\ufe0f"


@with_fonts
def drawn(text: str, with_font: Font, em_px: int) -> tuple[Floats, float, float, int]:
    """A piece of text drawn at a size; cover in [0, 1] float32 (h, w), its middle in px from the corner, its em in px.

    A long piece is drawn on a sheet of at most 4096 px and scaled, so that memory is bounded.
    """
    glyphs = shaped(text, with_font)
    wide_em = max([1.0, *(abs(x) + 1 for _, x, _, _ in glyphs), *(abs(y) + 1 for _, _, y, _ in glyphs)])
    drawn_px = max(1, min(em_px, int(_WIDEST_SHEET / wide_em)))
    face = with_font.face
    face.set_pixel_sizes(0, drawn_px)
    bitmaps = []
    for number, x, y, _ in glyphs:
        face.load_glyph(number, freetype.FT_LOAD_RENDER | freetype.FT_LOAD_NO_HINTING)
        slot = face.glyph
        if slot.bitmap.rows == 0 or slot.bitmap.width == 0:
            continue  # A blank, or a letter that the font has no shape for.
        cover = np.array(slot.bitmap.buffer, np.uint8).reshape(slot.bitmap.rows, -1)[:, : slot.bitmap.width]
        bitmaps.append((round(x * drawn_px) + slot.bitmap_left, round(y * drawn_px) + slot.bitmap_top, cover))
    seen = [b for b in bitmaps if b[2].size]
    if not seen:
        return np.zeros((1, 1), np.float32), 0.5, 0.5, drawn_px
    left, right = min(b[0] for b in seen), max(b[0] + b[2].shape[1] for b in seen)
    top, bottom = max(b[1] for b in seen), min(b[1] - b[2].shape[0] for b in seen)
    if (right - left) * (top - bottom) > 4 * _WIDEST_SHEET * _WIDEST_SHEET:
        raise IsbjornError("the font's glyphs exceed the size that it declares.", "font", "Select another font.")
    sheet = np.zeros((top - bottom, right - left), np.float32)
    for x0, y0, cover in seen:
        at = sheet[top - y0 : top - y0 + cover.shape[0], x0 - left : x0 - left + cover.shape[1]]
        np.maximum(at, cover / np.float32(255), out=at)
    return sheet, (right - left) / 2, top - _MIDDLE_EM * drawn_px, drawn_px
