"""Performances: values as they arrived, on the lattice, and as keys."""

from __future__ import annotations

import math

import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.document.fields.values import Key
from isbjorn.core.document.model.controls import Control, Incoming
from isbjorn.core.evaluate.keys import keys_through


def on_lattice(times: Doubles, values: Doubles, begin_s: float, end_s: float, hz: int) -> tuple[Doubles, Doubles]:
    """What a control was at each lattice step from begin to end: moments s (m,), and the last value that had arrived by then, (m,).

    times s (n,), which do not fall, values (n,); before the first arrival it is that one's value.
    """
    first, last = math.ceil(begin_s * hz - 1e-9), math.floor(end_s * hz + 1e-9)
    steps = np.arange(first, max(first, last) + 1) / hz
    at = np.clip(np.searchsorted(times, steps + 1e-9, "right") - 1, 0, len(times) - 1)
    return steps, values[at]


def eased(before: float, aim: float, smooth_s: float, hz: int) -> float:
    """Where a control is a lattice step after it was `before`, if it is led to `aim`."""
    return before + (aim - before) * (1 - math.exp(-1 / (smooth_s * hz))) if smooth_s > 0 else aim


def performed(
    times: Doubles, arrived: Doubles, incoming: Incoming, span: tuple[float, float], hz: int
) -> tuple[Doubles, Doubles]:
    """A performance on the lattice over a span of shot time: scaled to [0, 1], and smoothed."""
    steps, raw = on_lattice(times, arrived, *span, hz)
    values = np.array([incoming.scaled(value) for value in raw])
    for i in range(1, len(values)):
        values[i] = eased(values[i - 1], values[i], incoming.smooth_s, hz)
    return steps, values


def as_keys(steps: Doubles, values: Doubles, tolerance: float) -> tuple[Key, ...]:
    """A performance as few keys, within a tolerance of each of its steps."""
    if len(steps) < 2:
        return tuple(Key(at_s=float(t), value=float(v)) for t, v in zip(steps, values, strict=True))
    return keys_through(steps, values[:, None], tolerance)[0]


def with_keys(control: Control, made: tuple[Key, ...]) -> Control:
    """A control with keys made from a performance. They replace its keys within the same span, and it plays no take."""
    value = control.value.model_copy(update={"keys": spliced(control.value.keys, made)})
    return control.model_copy(update={"value": value, "take": None, "lane": ""})


def spliced(old: tuple[Key, ...], new: tuple[Key, ...]) -> tuple[Key, ...]:
    """Keys with those of a performance in place of what lay within its span."""
    if not new:
        return old
    begin, end = new[0].at_s, new[-1].at_s
    return (*(k for k in old if k.at_s < begin - 1e-6), *new, *(k for k in old if k.at_s > end + 1e-6))
