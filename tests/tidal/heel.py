"""The engine of a heel."""

from __future__ import annotations

import numpy as np


def heel(deformer, read, place):  # type: ignore[no-untyped-def]
    along = np.clip(place[:, 1] - read(deformer.from_y), 0, read(deformer.length))
    out = place.copy()
    out[:, 0] += along * read(deformer.by) / 100
    return out
