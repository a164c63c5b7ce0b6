"""Many samples of a way as few keys."""

from __future__ import annotations

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document.fields.values import Key
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.curves import along

MOST_KEYS = 4096


def _keys(times: Doubles, values: Doubles, kept: list[int]) -> tuple[Key, ...]:
    ends = (kept[0], kept[-1])
    return tuple(
        Key(
            at_s=round(float(times[i]), 6), value=round(float(values[i]), 3), joint="straight" if i in ends else "smooth"
        )
        for i in kept
    )  # fmt: skip


def keys_through(times: Doubles, values: Doubles, tolerance: float) -> list[tuple[Key, ...]]:
    """Keys for each column of values (n, m) at times (n,), which rise: all at the same moments, and as few as keep the curve
    through them, as it will be read, within the tolerance of every sample.

    As Ramer 1972 and Douglas and Peucker 1973 thin a line: where it is off the most, a sample is taken in.
    """
    kept = sorted({0, len(times) - 1})
    while True:
        if len(kept) > MOST_KEYS:
            raise IsbjornError(
                f"the path needs more than {MOST_KEYS:,} keys.", "keys", "Record a shorter path, or smooth it."
            )
        found = [_keys(times, column, kept) for column in values.T]
        off = np.max(
            [np.abs(along(keys, times) - column) for keys, column in zip(found, values.T, strict=True)], axis=0
        )
        off[kept] = 0
        more = [
            a + int(np.argmax(off[a:b])) for a, b in zip(kept, kept[1:], strict=False) if off[a:b].max() > tolerance
        ]
        if not more:
            return found
        kept = sorted({*kept, *more})
