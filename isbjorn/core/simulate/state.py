"""The state of one emitter's particles at one moment."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Floats
from isbjorn.core.simulate.integrators.steps import gather

ROWS = 15


@dataclass(frozen=True)
class State:
    """Particles of one emitter at one moment, in order of birth: structure of arrays, 76 bytes a particle.

    births (n,) int64, moments (n,) float64 s; values (15, n) float32: place px (3), velocity px/s (3), lifespan s, and eight rows
    of its mover. A state between lattice steps may lack those: it is only looked at. touched (n,) s of age, -1: never.
    """

    births: npt.NDArray[np.int64]
    moments: npt.NDArray[np.float64]
    values: Floats
    touched: Floats | None = None

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

    def only(self, columns: npt.NDArray[np.int64]) -> State:
        """Some of them, by their columns."""
        return State(self.births[columns], self.moments[columns], np.take(self.values, columns, axis=1))

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


def nobody() -> State:
    """No particles."""
    return State(np.empty(0, np.int64), np.empty(0), np.empty((ROWS, 0), np.float32))


def merged(state: State, kept: npt.NDArray[np.int64], newborn: State) -> State:
    """The columns `kept` of a state, and behind them the newborn."""
    values = np.empty((ROWS, len(kept) + newborn.count), np.float32)
    gather(state.values, kept, values)
    values[:, len(kept) :] = newborn.values
    births = np.concatenate([state.births[kept], newborn.births])
    return State(births, np.concatenate([state.moments[kept], newborn.moments]), values)
