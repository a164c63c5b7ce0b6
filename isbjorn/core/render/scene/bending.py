"""Refraction: each pixel of the layers below is taken from the place where its light comes from."""

from __future__ import annotations

import cv2
import numpy as np

from isbjorn.core.arrays import Doubles, Floats


def bent(below: Floats, dx: Floats | Doubles, dy: Floats | Doubles, left: int = 0, top: int = 0) -> Floats:
    """A part of a picture (height, width, 4) seen through bent light, float32 (h, w, 4): each pixel of it, from `left` and `top`
    on, is read dx and dy px (h, w) away, interpolated from the four there; beyond its edges the picture is mirrored."""
    height, width = dx.shape
    x = np.arange(left, left + width, dtype=np.float32)[None] - dx.astype(np.float32, copy=False)
    y = np.arange(top, top + height, dtype=np.float32)[:, None] - dy.astype(np.float32, copy=False)
    return np.asarray(cv2.remap(below, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT_101), np.float32)
