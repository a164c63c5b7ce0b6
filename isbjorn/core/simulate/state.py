"""The state of one emitter's particles at one moment."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Floats
from isbjorn.core.jit import inline_kernel
from isbjorn.core.simulate.steps import gather

# Births of this many lattice steps are computed together.
BORN_STEPS = 16


@inline_kernel("void(f8[::1], f4[::1], f8, f4[::1])", cache=True)
def _since(moments: npt.NDArray[np.float64], happened: Floats, t: float, out: Floats) -> None:
    for i in range(len(out)):
        gone = np.float32(t - moments[i]) - happened[i]
        out[i] = gone if happened[i] >= 0 and gone >= 0 else np.float32(-1)


@dataclass(frozen=True)
class State:
    """Particles of one emitter at one moment, in order of birth: structure of arrays, 76 bytes a particle.

    births (n,) int64, moments (n,) float64 s; values (15, n) float32: place px (3), velocity px/s (3), lifespan s, and eight rows
    of its mover. A state between lattice steps may lack those: it is only looked at. touched, caught (n,) s of age, -1: never.
    """

    births: npt.NDArray[np.int64]
    moments: npt.NDArray[np.float64]
    values: Floats
    touched: Floats | None = None
    caught: Floats | None = None

    @property
    def count(self) -> int:
        return len(self.births)

    @property
    def place(self) -> Floats:
        return self.values[0:3]

    @property
    def velocity(self) -> Floats:
        return self.values[3:6]

    @property
    def lives(self) -> Floats:
        return self.values[6]

    def since(self, happened: Floats | None, t: float) -> Floats:
        """Seconds from an age at which something happened to shot time t, float32 (n,); -1 where it has not."""
        if happened is None:
            return np.full(self.count, -1, np.float32)
        out = np.empty(self.count, np.float32)
        _since(self.moments, happened, t, out)
        return out

    def measured(self, measure: str, t: float) -> Floats:
        """`since touch` or `since caught`, in seconds, -1: not yet."""
        return self.since(self.touched if measure == "since touch" else self.caught, t)

    def only(self, columns: npt.NDArray[np.int64]) -> State:
        """Some of them, by their columns."""
        touched, caught = (None if a is None else a[columns] for a in (self.touched, self.caught))
        return State(
            self.births[columns], self.moments[columns], np.take(self.values, columns, axis=1), touched, caught
        )

    @property
    def nbytes(self) -> int:
        return self.births.nbytes + self.moments.nbytes + self.values.nbytes


def joined(states: list[State]) -> State:
    """The particles of several states, one behind the other."""
    return State(
        np.concatenate([s.births for s in states]),
        np.concatenate([s.moments for s in states]),
        np.concatenate([s.values for s in states], axis=1),
    )


def empty_state(rows: int) -> State:
    """A state without particles, of an integrator with this number of rows of values."""
    return State(np.empty(0, np.int64), np.empty(0), np.empty((rows, 0), np.float32))


def merged(state: State, kept: npt.NDArray[np.int64], newborn: State) -> State:
    """The columns `kept` of a state, which rise, and behind them the newborn."""
    rows, count = newborn.values.shape[0], len(kept)
    values = np.empty((rows, count + newborn.count), np.float32)
    some: npt.NDArray[np.int64] | slice = kept
    if count and kept[-1] - kept[0] == count - 1:
        # The removed ones were the oldest: the rest keep their order.
        some = slice(int(kept[0]), int(kept[0]) + count)
        values[:, :count] = state.values[:rows, some]
    else:
        gather(state.values[:rows], kept, values)
    if newborn.count:
        values[:, count:] = newborn.values
    births = np.concatenate([state.births[some], newborn.births])
    return State(births, np.concatenate([state.moments[some], newborn.moments]), values)
