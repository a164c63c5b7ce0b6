"""Which moments of a shot are delivered, and under which number each."""

from __future__ import annotations

import math
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.deliver.order import MOST_FRAMES, Order
from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.curves import along
from isbjorn.core.time import timecode

# Samples a second at which a keyed speed is summed up, by Simpson's rule; of a long one fewer.
_SAMPLES, _MOST_SAMPLES = 960, 2_000_000


@dataclass(frozen=True)
class PlannedPicture:
    """One picture of a delivery: its number, which frame of the shot it shows (sub-frames as fractions), and how many seconds of
    the shot go by in it. slate: it says what is delivered."""

    number: int
    frame: Fraction
    lasts_s: Fraction
    slate: bool = False


@dataclass(frozen=True)
class _Keyed:
    """A keyed speed: seconds of the shot gone by at even moments (n,) until its last key, when that is, and its factor after it."""

    gone: Doubles
    until: float
    after: float


def _endless() -> IsbjornError:
    return IsbjornError(
        f"at this speed it would take more than {MOST_FRAMES:,} frames.", "retime", "Use a higher speed."
    )


class Plan:
    """The pictures of an order, by their place from 0. Raises IsbjornError for one without end."""

    def __init__(self, shot: Shot, order: Order) -> None:
        self.shot, self.order = shot, order
        self.rate = order.rate(shot)
        self._first, self._last = order.first - order.before, order.last + order.after
        self._slates = int(order.slate)
        self._count = self._counted()

    def __len__(self) -> int:
        return self._count + self._slates

    @cached_property
    def _keyed(self) -> _Keyed:
        """A keyed speed, summed up."""
        retime = self.order.retime
        assert retime is not None
        wanted = float((self._last + 1 - self._first) / self.shot.frame_rate)
        most = MOST_FRAMES / float(self.rate)
        # After its last key it is even: there is no need to sum that up.
        until = min(max(retime.keys[-1].at_s, 0.0), most)
        steps = min(max(1, math.ceil(until * _SAMPLES)), _MOST_SAMPLES)
        speed = np.maximum(0, along(retime.keys, np.linspace(0, until, 2 * steps + 1))) / 100
        pieces = (speed[:-2:2] + 4 * speed[1::2] + speed[2::2]) * (until / steps / 6)
        gone = np.concatenate([[0.0], np.cumsum(pieces)])
        if until >= most and gone[-1] < wanted:
            raise _endless()
        return _Keyed(gone, until, max(0.0, retime.keys[-1].value / 100))

    def _gone(self, seconds: Fraction) -> tuple[Fraction, Fraction]:
        """Seconds of the shot gone by, and its speed as a factor, at a moment of what is delivered."""
        retime = self.order.retime
        if retime is None:
            return seconds, Fraction(1)
        if not retime.keys:
            speed = Fraction(retime.speed).limit_denominator(10**6) / 100
            return seconds * speed, speed
        keyed, t = self._keyed, float(seconds)
        gone = keyed.gone
        if t >= keyed.until:
            at, now = gone[-1] + (t - keyed.until) * keyed.after, keyed.after
        else:
            place = t / keyed.until * (len(gone) - 1)
            low = min(int(place), len(gone) - 2)
            at = gone[low] + (place - low) * (gone[low + 1] - gone[low])
            now = max(0.0, float(along(retime.keys, np.array([t]))[0]) / 100)
        return Fraction(round(at * 10**9), 10**9), Fraction(now).limit_denominator(10**6)

    def _counted(self) -> int:
        order, length = self.order, self._last + 1 - self._first
        if order.retime is None:
            return -(-length // order.every)
        wanted = length / self.shot.frame_rate
        if not order.retime.keys:
            speed = Fraction(order.retime.speed).limit_denominator(10**6) / 100
            count = math.ceil(wanted / speed * self.rate)
        else:
            keyed = self._keyed
            gone = keyed.gone
            if gone[-1] >= wanted:
                place = int(np.searchsorted(gone, float(wanted)))
                seconds = place * keyed.until / max(1, len(gone) - 1)
            else:
                seconds = keyed.until + (float(wanted) - gone[-1]) / keyed.after
            count = math.ceil(min(seconds, 2 * MOST_FRAMES / float(self.rate)) * float(self.rate) - 1e-6)
        if count > MOST_FRAMES:
            raise _endless()
        return max(1, count)

    def __getitem__(self, place: int) -> PlannedPicture:
        order, rate = self.order, self.shot.frame_rate
        k = place - self._slates
        if order.retime is None:
            number = self._first + max(k, 0) * order.every
            picture = PlannedPicture(number, Fraction(number), 1 / rate)
            step = order.every
        else:
            gone, speed = self._gone(Fraction(max(k, 0)) / self.rate)
            picture = PlannedPicture(self._first + max(k, 0), self._first + gone * rate, speed / self.rate)
            step = 1
        return picture if k >= 0 else PlannedPicture(picture.number - step, picture.frame, picture.lasts_s, slate=True)

    def later(self, picture: PlannedPicture) -> PlannedPicture:
        """The second moment of an interlaced picture: half of it later. Each field is exposed for half of it."""
        half = picture.lasts_s / 2
        return PlannedPicture(picture.number, picture.frame + half * self.shot.frame_rate, half)

    def timecode(self, picture: PlannedPicture) -> str:
        """The timecode of a picture, at the rate of what is delivered."""
        if self.order.retime is not None:
            return timecode(picture.number, self.rate)
        if self.order.every > 1 and self.order.form.movie:
            return timecode(
                (picture.number - self._first) // self.order.every + self._first // self.order.every, self.rate
            )
        return timecode(picture.number, self.shot.frame_rate)

    @property
    def numbers(self) -> range:
        """Frame numbers under which the pictures are filed."""
        step = self.order.every if self.order.retime is None else 1
        start = self._first - step * self._slates
        return range(start, start + step * len(self), step)
