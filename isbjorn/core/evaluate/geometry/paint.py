"""Colours that a model's file brings: at the corners of its faces, or in pictures that lie on them."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import cv2
import numpy as np

from isbjorn.core.arrays import Bytes, Doubles, Floats, Ints, Longs
from isbjorn.core.evaluate.gradients import linear_to_srgb, srgb_to_linear

# Sizes in which a picture is stored, each half of the previous one, down to one pixel.
LEVELS = 12
# The longest side of a picture, and the most pixels that all pictures of a model have together.
LONGEST_SIDE, MOST_TEXELS = 1 << (LEVELS - 1), 1 << 24
# Encoded values (sRGB, 8 bits) as linear light.
DECODED = srgb_to_linear(np.arange(256) / 255).astype(np.float32)


@dataclass(frozen=True, eq=False)
class Paint:
    """values (f, 4, 3) float32: linear colours at the corners of each face; or, on a face with a picture, places on it, to the
    right and up in its sides, and 0. pages (f,) int32: the picture of each face, -1 for none. pictures: each (h, w, 3) uint8,
    sRGB, the upper row first."""

    values: Floats
    pages: Ints
    pictures: tuple[Bytes, ...] = ()

    def at(self, faces: Longs, corners: Longs, shares: Doubles) -> Floats:
        """Linear colours (n, 3) of places on faces (n,): shares (n, 3) of three of their corners (n, 3)."""
        values = np.einsum("nk,nkc->nc", shares, self.values[faces[:, None], corners].astype(np.float64))
        out = values.astype(np.float32)
        pages = self.pages[faces]
        for page, picture in enumerate(self.pictures):
            here = np.flatnonzero(pages == page)
            height, width = picture.shape[:2]
            x, y = values[here, 0] * width - 0.5, (1 - values[here, 1]) * height - 0.5
            column, row = np.floor(x).astype(np.int64), np.floor(y).astype(np.int64)
            total = np.zeros((len(here), 3))
            for i, j in ((0, 0), (0, 1), (1, 0), (1, 1)):
                share = np.abs(1 - i - (x - column)) * np.abs(1 - j - (y - row))
                total += share[:, None] * DECODED[picture[(row + j) % height, (column + i) % width]]
            out[here] = total
        return out

    @cached_property
    def texels(self) -> tuple[Bytes, Longs]:
        """All pictures in all sizes: uint8 (n, 3), and for each size of each picture (`LEVELS` rows a picture) where it begins,
        its width and its height, int64 (m, 3)."""
        parts, rows, start = [np.zeros((1, 3), np.uint8)], [], 1
        for picture in self.pictures:
            level = picture
            for _ in range(LEVELS):
                height, width = level.shape[:2]
                rows.append((start, width, height))
                parts.append(level.reshape(-1, 3))
                start += width * height
                if width > 1 or height > 1:
                    level = resized(level, max(1, width // 2), max(1, height // 2))
        return np.concatenate(parts), np.array(rows, np.int64).reshape(-1, 3)


def resized(picture: Bytes, width: int, height: int) -> Bytes:
    """A picture (h, w, 3) in a smaller size; the mean is that of the light."""
    mean = cv2.resize(DECODED[picture], (width, height), interpolation=cv2.INTER_AREA)
    return np.asarray(np.rint(linear_to_srgb(mean) * 255), np.uint8).reshape(height, width, 3)
