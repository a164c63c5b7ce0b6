"""A contact sheet: all frames of a delivery, small, on one picture."""

from __future__ import annotations

import math

import cv2
import numpy as np

from isbjorn.core.arrays import Floats
from isbjorn.core.deliver.burn import caption
from isbjorn.core.deliver.plan import Plan
from isbjorn.core.document import Shot
from isbjorn.core.evaluate.gradients import hex_to_linear

_TILE_PX, _GAP_PX, _CAPTION_PX = 320, 10, 22
_GROUND = hex_to_linear("#0b141f")


def tile(picture: Floats) -> Floats:
    """A frame as the sheet shows it, float32 (h, 320, 4), over its ground."""
    size = (_TILE_PX, max(1, round(_TILE_PX * picture.shape[0] / picture.shape[1])))
    how = cv2.INTER_AREA if size[0] < picture.shape[1] else cv2.INTER_LINEAR
    small = np.asarray(cv2.resize(picture, size, interpolation=how), np.float32)
    ground = np.array([*_GROUND, 1.0], np.float32)
    return small + ground * (1 - np.clip(small[..., 3:], 0, 1))


def sheet(tiles: list[Floats], shot: Shot, plan: Plan) -> Floats:
    """All tiles in rows, each with its frame's number and timecode; linear, float32 (height, width, 4)."""
    columns = max(1, math.ceil(math.sqrt(len(tiles) * shot.height / shot.width * 16 / 9)))
    rows = math.ceil(len(tiles) / columns)
    tall = tiles[0].shape[0] + _CAPTION_PX
    out = np.empty(
        (rows * (tall + _GAP_PX) + _GAP_PX, min(columns, len(tiles)) * (_TILE_PX + _GAP_PX) + _GAP_PX, 4), np.float32
    )
    out[:] = [*_GROUND, 1.0]
    for place, one in enumerate(tiles):
        left = _GAP_PX + place % columns * (_TILE_PX + _GAP_PX)
        top = _GAP_PX + place // columns * (tall + _GAP_PX)
        out[top : top + one.shape[0], left : left + _TILE_PX] = one
        picture = plan[place]
        caption(
            out, f"{picture.number}   {plan.timecode(picture)}", left, top + one.shape[0] + _CAPTION_PX // 2, _TILE_PX
        )
    return out
