"""Time: exact frame rates, timecode, and the lattice on which motion is stepped.

Shot time is in seconds and starts at 0 on the shot's first frame. Everything that must not drift
(frame to second, second to lattice step) is done in rational numbers.
"""

from __future__ import annotations

import math
import re
from fractions import Fraction
from functools import lru_cache

COMMON_RATES = ("24000/1001", "24", "25", "30000/1001", "30", "48", "50", "60000/1001", "60")
HIGHEST_RATE = 1000
LONGEST_RATE = 24
_RATE = re.compile(r"[0-9]{1,12}(/[0-9]{1,11}|\.[0-9]{1,12})?")


def frame_rate(text: str | int | float | Fraction) -> Fraction:
    """Read a frame rate in frames per second: `25`, `"30000/1001"`, or a decimal such as `"29.97"`.

    Decimals that name a rate of the 1000/1001 family are read as that exact rate. Raises ValueError for
    anything that is not a rate between 1/1000 and 1000 frames per second.
    """
    plain = str(text)[: LONGEST_RATE + 1].strip()
    # Its length is known before it is read: an exponent would ask for a number without end.
    if len(plain) > LONGEST_RATE or not _RATE.fullmatch(plain):
        raise ValueError(f"'{plain}' is not a frame rate; write 25, 29.97 or 30000/1001")
    try:
        rate = Fraction(plain)
    except (ValueError, ZeroDivisionError):
        raise ValueError(f"'{plain}' is not a frame rate; write 25, 29.97 or 30000/1001") from None
    if rate.denominator != 1:
        nearest = Fraction(math.ceil(rate) * 1000, 1001)
        if abs(rate - nearest) < Fraction(1, 200):
            rate = nearest
    if not Fraction(1, HIGHEST_RATE) <= rate <= HIGHEST_RATE:
        raise ValueError(f"a frame rate of {plain} is outside 0.001 to {HIGHEST_RATE} frames per second")
    return rate


def rate_text(rate: Fraction) -> str:
    """The exact spelling of a rate: `25` or `30000/1001`."""
    return str(rate.numerator) if rate.denominator == 1 else f"{rate.numerator}/{rate.denominator}"


@lru_cache(maxsize=256)
def known_rate(text: str) -> Fraction:
    """Frames per second of a rate that is known to be one, as text."""
    return Fraction(text)


@lru_cache(maxsize=256)
def lasting(frames: int, rate: str) -> Fraction:
    """Seconds that a number of frames takes, at a rate as text."""
    return frames / known_rate(rate)


def seconds_of_frame(frame: int | Fraction, first_frame: int, rate: Fraction) -> Fraction:
    """Shot time in seconds at which a frame is taken; sub-frames may be given as fractions."""
    return (Fraction(frame) - first_frame) / rate


def lattice_index(seconds: Fraction, steps_per_second: int) -> int:
    """Number of the last lattice step at or before a moment (may be negative)."""
    return math.floor(seconds * steps_per_second)


def is_drop_frame(rate: Fraction) -> bool:
    """Whether SMPTE ST 12-1 drop-frame counting applies: 30000/1001 and 60000/1001."""
    return rate.denominator == 1001 and round(rate) % 30 == 0


def timecode(frame: int, rate: Fraction) -> str:
    """SMPTE ST 12-1 timecode of a frame number; drop-frame (`;`) for 29.97 and 59.94.

    Frame 0 is 00:00:00:00; negative frames count back from 24 hours.
    """
    nominal = max(1, round(rate))
    drop = is_drop_frame(rate)
    dropped = nominal // 15 if drop else 0
    per_10_minutes = nominal * 600 - dropped * 9
    day = per_10_minutes * 144
    number = frame % day
    if drop:
        tens, rest = divmod(number, per_10_minutes)
        number += dropped * 9 * tens
        if rest >= nominal * 60:
            number += dropped * ((rest - nominal * 60) // (nominal * 60 - dropped) + 1)
    seconds, frames = divmod(number, nominal)
    minutes, seconds = divmod(seconds, 60)
    hours, minutes = divmod(minutes, 60)
    width = max(2, len(str(nominal - 1)))
    return f"{hours:02}:{minutes:02}:{seconds:02}{';' if drop else ':'}{frames:0{width}}"
