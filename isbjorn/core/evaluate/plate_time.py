"""Which frame of the plate shows when."""

from __future__ import annotations

import math
from fractions import Fraction

from isbjorn.core.document import Plate


def plate_frame(plate: Plate, seconds: Fraction, rate: Fraction, frames: int) -> int | None:
    """The frame of a plate that shows at a moment of shot time; None where it is blank.

    It is the frame whose time span holds the moment, so that motion keeps its speed at any two rates.
    """
    number = math.floor((seconds - Fraction(plate.offset_s).limit_denominator(10**6)) * rate)
    if 0 <= number < frames:
        return number
    match plate.beyond:
        case "hold":
            return min(max(number, 0), frames - 1)
        case "loop":
            return number % frames
        case "blank":
            return None
