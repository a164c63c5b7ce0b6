"""The stream of an emitter's births: N(t), the integral of its rate, and when it passes a number.

A rate without drivers is integrated in closed form, any other in a table whose cells do not depend on the query.
"""

from __future__ import annotations

import math

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Emitter
from isbjorn.core.evaluate.readings import Readings

_CELLS_PER_S, _CELLS, _MOST_BLOCKS, _MOST_CELLS = 240.0, 2400, 64, 480_000
_JUST = 1e-9
_GAUSS = 0.5 / math.sqrt(3.0)
# What a hand leads goes no faster, as far as it must be known before; so long is a show in which births are looked at one by one.
_FASTEST_PX_S, _SHOWN_S = 4000.0, 600.0


class Steady:
    """The integral of a rate that never changes, from `begin` on."""

    def __init__(self, rate: float, begin: float) -> None:
        self.rate, self.begin = rate, begin

    def up_to(self, t: float) -> float:
        """N(t)."""
        return float(self.counts(np.asarray(t)))

    def counts(self, t: Doubles) -> Doubles:
        """N at moments t."""
        return self.rate * np.maximum(0.0, t - self.begin)

    def moments(self, slots: Doubles, until: float) -> Doubles:  # noqa: ARG002
        """When N passes each of `slots`."""
        return self.begin + slots / self.rate if self.rate > 0 else np.full(len(slots), np.inf)

    def most(self, until: float) -> float:
        """An upper bound of the births up to t."""
        return self.up_to(until)

    def most_in(self, window: float, last: float) -> float:
        """An upper bound of the births in any window of this many seconds that ends by `last`."""
        return self.rate * max(0.0, min(window, last - self.begin))


class Driven:
    """The integral of a rate that shot time or the source's way changes: a table, made as far as it is asked for."""

    def __init__(self, readings: Readings, emitter: Emitter, frame_rate: float, begin: float, end: float) -> None:
        self.readings, self.emitter, self.frame_rate = readings, emitter, frame_rate
        self.times, self.n = np.array([begin]), np.zeros(1)
        self.begin = begin
        # A day of births before the shot is read in coarser cells: the table stays within bounds, whatever is asked for.
        self.cells_per_s = min(_CELLS_PER_S, _MOST_CELLS / max(1e-9, end - begin))
        self.cuts = readings.cuts(emitter)
        if readings.loop_s is not None:
            self.cuts = np.concatenate([self.cuts, self.cuts + readings.loop_s])

    def _cells(self, t: Doubles) -> Doubles:
        """Births in each cell between the moments t, by Gauss and Legendre's rule with two points."""
        e, width = self.emitter, np.diff(t)
        total = np.zeros(len(width))
        for share in (0.5 - _GAUSS, 0.5 + _GAUSS):
            at = t[:-1] + share * width
            measured = {}
            if e.rate.source is not None and e.rate.source.measure == "emitter speed":
                measured["emitter speed"] = np.linalg.norm(self.readings.velocity(e, at), axis=1)
            total += 0.5 * np.maximum(0, self.readings.number(e.rate, at, measured))
        if e.rate_per == "px":
            middle, last = (t[:-1] + t[1:]) / 2, t[1:].copy()
            # Up to a cut, not beyond it: there are no births in it.
            last[np.isin(last, self.cuts)] -= _JUST
            first, halves, ends = (self.readings.frames(e, at).place for at in (t[:-1], middle, last))
            way = np.linalg.norm(halves - first, axis=1) + np.linalg.norm(ends - halves, axis=1)
            return total * way
        return total * width * (self.frame_rate if e.rate_per == "frame" else 1.0)

    def _extend(self, until: float) -> None:
        if self.times[-1] > until:
            return
        parts_t, parts_n, last_t, last_n = [self.times], [self.n], float(self.times[-1]), float(self.n[-1])
        while last_t <= until:
            done = round((last_t - self.begin) * self.cells_per_s)
            # As many blocks at once as are missing: what is joined is joined once.
            blocks = min(_MOST_BLOCKS, max(1, math.ceil((until - last_t) * self.cells_per_s / _CELLS)))
            grid = self.begin + (done + np.arange(blocks * _CELLS + 1)) / self.cells_per_s
            inner = [k.at_s for k in self.emitter.rate.keys if grid[0] < k.at_s < grid[-1]]
            inner += [at for at in self.cuts if grid[0] < at < grid[-1]]
            t = np.unique(np.concatenate([grid, inner]))
            n = last_n + np.cumsum(self._cells(t))
            parts_t.append(t[1:])
            parts_n.append(n)
            last_t, last_n = float(t[-1]), float(n[-1])
        self.times, self.n = np.concatenate(parts_t), np.concatenate(parts_n)

    def up_to(self, t: float) -> float:
        """N(t)."""
        return float(self.counts(np.asarray(t)))

    def counts(self, t: Doubles) -> Doubles:
        """N at moments t."""
        self._extend(float(np.max(t, initial=self.begin)))
        return np.asarray(np.interp(t, self.times, self.n))

    def moments(self, slots: Doubles, until: float) -> Doubles:
        """When N passes each of `slots`; infinite if it does not up to `until`."""
        self._extend(until)
        i = np.searchsorted(self.n, slots, side="right")
        inside = (i > 0) & (i < len(self.n))
        j = np.where(inside, i, 1)
        share = (slots - self.n[j - 1]) / np.maximum(self.n[j] - self.n[j - 1], 1e-300)
        return np.where(inside, self.times[j - 1] + share * (self.times[j] - self.times[j - 1]), np.inf)

    def most(self, until: float) -> float:
        """An upper bound of the births up to t."""
        return self.up_to(until)

    def most_in(self, window: float, last: float) -> float:
        """An upper bound of the births in any window of this many seconds that ends by `last`, from 2000 samples."""
        t = np.linspace(self.begin, last, 2000) if last > self.begin else np.array([last])
        n = self.counts(t)
        return float((n - np.interp(t - window - (t[-1] - t[0]) / 2000, t, n, left=0.0)).max())


class Performed(Driven):
    """The integral of a rate that a performance leads: known as far as that is, a lattice step at a time.

    Its cells are quarters of a step, and each is added to those before it: the same to the bit, however far it was asked for.
    """

    def __init__(self, readings: Readings, emitter: Emitter, frame_rate: float, begin: float, hz: int) -> None:
        super().__init__(readings, emitter, frame_rate, begin, begin)
        self.hz = hz
        _, rate = readings.limits(emitter.rate)
        self.highest = rate * {"second": 1.0, "frame": frame_rate, "px": _FASTEST_PX_S}[emitter.rate_per]
        self._steps = math.floor(begin * hz + _JUST)

    def _extend(self, until: float) -> None:
        last = math.ceil(until * self.hz - _JUST) + 1
        if self.readings.live:
            last = min(last, math.floor(self.readings.known_s * self.hz + _JUST))
        while self._steps < last:
            to = min(last, self._steps + _CELLS // 4)
            grid = (self._steps + np.arange((to - self._steps) * 4 + 1) / 4) / self.hz
            inner = [k.at_s for k in self.emitter.rate.keys] + self.cuts.tolist()
            t = np.unique([*grid, *(at for at in inner if grid[0] < at < grid[-1])])
            t = t[t > self.times[-1]]
            self._steps = to
            if len(t):
                n = np.cumsum([self.n[-1], *self._cells(np.concatenate([self.times[-1:], t]))])
                self._add(t, n[1:])

    def _add(self, times: Doubles, n: Doubles) -> None:
        """Put cells at the end, into room that is doubled when it is full."""
        held, count = self.times.base, len(self.times)
        if held is None or count + len(times) > held.shape[1]:
            held = np.empty((2, 2 * (count + len(times))))
            held[:, :count] = self.times, self.n
        held[0, count : count + len(times)], held[1, count : count + len(times)] = times, n
        self.times, self.n = held[0, : count + len(times)], held[1, : count + len(times)]

    def moments(self, slots: Doubles, until: float) -> Doubles:
        """As for any table; a birth at the exact end of a cell belongs to the next one, once that is known."""
        self._extend(until)
        if len(self.n) < 2:
            return np.full(len(slots), np.inf)
        last = np.clip(np.searchsorted(self.n, slots, side="right"), 1, len(self.n)) - 1
        return np.maximum(super().moments(slots, self.begin), self.times[last] + _JUST)

    def most(self, until: float) -> float:  # noqa: ARG002
        """An upper bound of the births in ten minutes."""
        return self.highest * _SHOWN_S

    def most_in(self, window: float, last: float) -> float:  # noqa: ARG002
        """An upper bound of the births in any window of this many seconds, whatever the controls do."""
        return self.highest * window
