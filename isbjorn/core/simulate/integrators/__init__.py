"""Integrators, by what they integrate; which one moves an emitter depends on its document alone.

`constant`: constant gravity and drag, computed once per life. `batched`: the usual forces, many particles at
once. `world`: everything. `stepped` packs the world to rows of numbers, one for each step, and chooses between the latter two.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from isbjorn.core.arrays import Doubles, Floats, Longs

if TYPE_CHECKING:
    from isbjorn.core.simulate.state import State


class Integrator(Protocol):
    """Takes an emitter's particles from their births to any moment. Steps are on the lattice of the shot."""

    def begin(self, births: Longs, moments: Doubles, lives: Floats) -> State:
        """Births by their number, each as it is at its birth moment."""

    def advance(self, state: State, index: int, until: int) -> None:
        """Step in place from lattice step `index` to `until`."""

    def alive(self, state: State, t: float) -> Longs:
        """The columns of the particles that live beyond shot time t."""

    def between(self, state: State, newborn: State, index: int, t: float) -> State:
        """The living particles at a moment after lattice step `index`."""

    def seen(self, state: State, index: int) -> State:
        """A lattice state as it is looked at."""
