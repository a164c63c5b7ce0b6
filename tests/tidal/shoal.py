"""The engine of a shoal."""

from __future__ import annotations

import numpy as np

from isbjorn.core.simulate.forces.force_layout import base


def pack(force, setting):  # type: ignore[no-untyped-def]
    return base(force, 0, setting, 1.0)


def velocity_pass(force, read, together, share):  # type: ignore[no-untyped-def]
    middle = together.place.mean(axis=1, keepdims=True)
    return ((middle - together.place) * share * together.h).astype(np.float32)
