"""What the integrators share whose particles are placed at any moment, and never stepped."""

from __future__ import annotations

from abc import ABC, abstractmethod

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.emit.newborn import BirthSource
from isbjorn.core.simulate.state import State, merged
from isbjorn.core.simulate.state_layout import LIFE, ROWS


class PlacedIntegrator(ABC):
    """Particles whose places are known in themselves at any moment."""

    state_rows = ROWS

    def __init__(self, source: BirthSource, hz: int) -> None:
        self.source, self.hz = source, hz

    def begin(self, births: Longs, moments: Doubles, lives: Floats) -> State:
        """Births by their number, each as it is at its birth moment."""
        values = np.zeros((self.state_rows, len(births)), np.float32)
        values[0:3], values[3:6], _ = self.source.leave(births, moments)
        values[LIFE] = lives
        return State(births, moments, values)

    @abstractmethod
    def place(self, state: State, t: float) -> None:
        """Set particles, in place, to where they are at a moment of shot time."""

    def advance(self, state: State, index: int, until: int) -> None:  # noqa: ARG002
        """Bring a state, in place, from lattice step `index` to `until`."""
        self.place(state, until / self.hz)

    def alive(self, state: State, t: float) -> npt.NDArray[np.int64]:
        """The columns of the particles that live beyond shot time t."""
        return np.flatnonzero(state.moments + state.lives > t)

    def between(self, state: State, newborn: State, index: int, t: float) -> State:  # noqa: ARG002
        """The living particles at a moment after lattice step `index`."""
        there = merged(state, self.alive(state, t), newborn)
        self.place(there, t)
        return there

    def seen(self, state: State, index: int) -> State:  # noqa: ARG002
        """A lattice state as it is looked at."""
        return state
