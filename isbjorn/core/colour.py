"""What colours are to the eye. Working colours are linear, with the primaries of Rec. 709."""

from __future__ import annotations

import numpy as np

from isbjorn.core.arrays import Floats

# Rec. 709: how bright each of red, green and blue is.
LUMA = np.array([0.2126, 0.7152, 0.0722], np.float32)
RED, GREEN, BLUE = (np.float32(share) for share in LUMA)
# Of what is worked on as it looks: a plain power, near the curves of screens.
GAMMA = 2.2


def luminance(colours: Floats) -> Floats:
    """How bright linear colours (..., 3 or more) are, float32 (...)."""
    return np.asarray(colours[..., :3] @ LUMA, np.float32)


def encoded(linear: Floats) -> Floats:
    """Linear light as it looks, of no less than nothing."""
    return np.asarray(np.maximum(linear, 0) ** np.float32(1 / GAMMA), np.float32)


def decoded(seen: Floats) -> Floats:
    """What looks so, as linear light."""
    return np.asarray(np.maximum(seen, 0) ** np.float32(GAMMA), np.float32)


def brightness(colours: Floats) -> Floats:
    """How bright linear colours look, float32 (...) in [0, 1]."""
    return encoded(np.clip(luminance(colours), 0, 1))
