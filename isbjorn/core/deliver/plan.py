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

# Samples a second at which a keyed speed is summed up, by Simpson's rule.
_SAMPLES = 960


@dataclass(frozen=True)
class Picture:
    """One picture of a delivery: its number, which frame of the shot it shows (sub-frames as fractions), and how many seconds of
    the shot go by in it. slate: it says what is delivered."""

    number: int
    frame: Fraction
    lasts_s: Fraction
    slate: bool = False


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
    def _elapsed(self) -> Doubles:
        """Seconds of the shot gone by at each sample of a keyed speed, as far as the shot's end."""
        retime = self.order.retime
        assert retime is not None
        wanted = float((self._last + 1 - self._first) / self.shot.frame_rate)
        keyed = retime.keys[-1].at_s
        ends = along(retime.keys, np.array([keyed]))[0] / 100
        most = MOST_FRAMES / float(self.rate)
        # After its last key it is even: there is no need to sum that up.
        until = min(max(keyed, 0.0), most)
        steps = max(1, math.ceil(until * _SAMPLES))
        if steps > 50_000_000:
            raise IsbjornError("the keys of the speed lie too far apart.", "retime", "Keep them within a day.")
        t = np.linspace(0, until, 2 * steps + 1)
        speed = np.maximum(0, along(retime.keys, t)) / 100
        pieces = (speed[:-2:2] + 4 * speed[1::2] + speed[2::2]) * (until / steps / 6)
        gone = np.concatenate([[0.0], np.cumsum(pieces)])
        self._until, self._even = until, float(ends)
        if until >= most and gone[-1] < wanted:
            raise IsbjornError(
                f"at this speed it would take more than {MOST_FRAMES:,} frames.", "retime", "Let it run faster."
            )
        return gone

    def _gone(self, seconds: Fraction) -> tuple[Fraction, Fraction]:
        """Seconds of the shot gone by, and its speed as a factor, at a moment of what is delivered."""
        retime = self.order.retime
        if retime is None:
            return seconds, Fraction(1)
        if not retime.keys:
            speed = Fraction(retime.speed).limit_denominator(10**6) / 100
            return seconds * speed, speed
        gone, t = self._elapsed, float(seconds)
        if t >= self._until:
            at, now = gone[-1] + (t - self._until) * self._even, self._even
        else:
            place = t / self._until * (len(gone) - 1)
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
            gone = self._elapsed
            if gone[-1] >= wanted:
                place = int(np.searchsorted(gone, float(wanted)))
                seconds = place * self._until / max(1, len(gone) - 1)
            else:
                seconds = self._until + (float(wanted) - gone[-1]) / self._even
            count = math.ceil(min(seconds, 2 * MOST_FRAMES / float(self.rate)) * float(self.rate) - 1e-6)
        if count > MOST_FRAMES:
            raise IsbjornError(
                f"at this speed it would take more than {MOST_FRAMES:,} frames.", "retime", "Let it run faster."
            )
        return max(1, count)

    def __getitem__(self, place: int) -> Picture:
        order, rate = self.order, self.shot.frame_rate
        k = place - self._slates
        if order.retime is None:
            number = self._first + max(k, 0) * order.every
            picture = Picture(number, Fraction(number), 1 / rate)
            step = order.every
        else:
            gone, speed = self._gone(Fraction(max(k, 0)) / self.rate)
            picture = Picture(self._first + max(k, 0), self._first + gone * rate, speed / self.rate)
            step = 1
        return picture if k >= 0 else Picture(picture.number - step, picture.frame, picture.lasts_s, slate=True)

    def later(self, picture: Picture) -> Picture:
        """The second moment of an interlaced picture: half of it later. Each field is exposed for half of it."""
        half = picture.lasts_s / 2
        return Picture(picture.number, picture.frame + half * self.shot.frame_rate, half)

    def timecode(self, picture: Picture) -> str:
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
