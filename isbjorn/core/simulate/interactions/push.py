"""Push: bodies that do not overlap, by position-based contacts (Macklin, Müller, Chentanez and Kim 2014, "Unified particle
physics for real-time applications") in small steps (Macklin et al. 2019, "Small steps in physics simulation").

A step has as many parts as there are rounds; the forces of the step act evenly in all of them. In each part, bodies first move on
their own (`sweeps`); then overlaps are undone pair by pair, each by the inverse masses, with friction (`overlaps`), and velocities
change by what that moved. Overlaps from earlier steps are undone first, so that they drive nothing apart (2014, 4.4). All moves
are swept, so that no body is pushed through a surface.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from isbjorn.core.arrays import Bools, Doubles, Floats
from isbjorn.core.document.parts.interactions import Push
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate.forces.force_layout import ForceSetting, base
from isbjorn.core.simulate.interactions.interaction_view import EmitterPart, InteractionView, Read
from isbjorn.core.simulate.interactions.overlaps import Overlaps, farthest
from isbjorn.core.simulate.interactions.sweeps import advance, displace

CODE = 32
# Overlaps above a slight share of the radius are undone when a step begins and ends; those of the newborn to a smaller share.
_FIRST_ROUNDS, _SLIGHT, _HARDLY = 40, 0.05, 0.005
# An older overlap drives a pair apart no faster than this, in px/s, and not at all a body younger than this, in s.
_FASTEST_APART, _SETTLING_S = 80.0, 0.25
# Friction holds a body that moves in a step by less than this share of the way that it would fall.
_RESTING = 0.25


def pack(force: Push, setting: ForceSetting) -> Doubles:
    """The parameters of a push, as the kernels read them."""
    return base(force, CODE, setting, 0.01)


def _surfaces(part: EmitterPart) -> tuple[Any, ...]:
    return part.rows, part.paths, part.solids, part.solid, part.first, part.last


class _Bodies:
    """Bodies in a step: places px and velocities px/s (3, n), radii px (n,), and the pairs of them that may touch."""

    def __init__(self, together: InteractionView, radius: Floats, overlaps: Overlaps) -> None:
        self.place, self.velocity = together.before.copy(), together.started.copy()
        self._together, self._radius, self._overlaps = together, radius, overlaps
        self._none = np.zeros_like(self.place)

    def advance(self, gain: Floats, drift: Floats, h: float) -> None:
        """Move each body alone for h seconds; gain px/s and drift px (3, n)."""
        moving = self.place, self.velocity, self._radius, gain, drift, self._together.fixed, h
        for part in self._together.parts:
            advance(*moving, self._overlaps.bodies, self._overlaps.rows, *_surfaces(part))

    def displace(self, h: float) -> None:
        """Move each to where its overlaps have pushed it, in h seconds (0: velocities stay)."""
        for part in self._together.parts:
            displace(
                self.place, self.velocity, self._radius, h, self._overlaps.bodies, self._overlaps.rows, *_surfaces(part)
            )

    def separate(self, most_px: Floats) -> None:
        """Undo overlaps until none moves a body by more than this many px (n,); velocities stay."""
        for _ in range(_FIRST_ROUNDS):
            self.advance(self._none, self._none, 0.0)
            self._overlaps.undo(0.0, 0.0)
            if not self._overlaps.exceed(self.place, most_px):
                break
            self.displace(0.0)


@kernel_lock
def position_pass(force: Push, read: Read, together: InteractionView, share: Floats) -> Bools:
    """Move places and velocities in `together`, so that bodies do not overlap; returns which of them it has moved, (n,) bool.

    share (n,) float32: how much each feels the force, 0 to 1.
    """
    radius = together.radius * np.float32(read(force.girth) / 100)
    share = np.where(radius > 0, share, 0).astype(np.float32)
    if not share.any():
        return np.zeros(len(share), np.bool_)
    place, fixed = together.place, together.fixed
    inverse_mass = np.where((fixed > 0) | (share == 0), 0, 1 / together.mass).astype(np.float32)
    young = together.age < _SETTLING_S
    friction, part_s = read(force.friction), together.h / force.rounds
    # What forces and flows do in the whole step: to velocities, and to places besides.
    given = (together.velocity - together.started).astype(np.float32)
    carried = place - together.before - 0.5 * together.h * (together.started + together.velocity)
    gain, drift = (given / force.rounds).astype(np.float32), (carried / force.rounds).astype(np.float32)
    overlaps = Overlaps(radius, inverse_mass, share, (~young).astype(np.float32), farthest(place, together.before))
    bodies = _Bodies(together, radius, overlaps)
    overlaps.find(bodies.place)
    most_px = (np.where(young, _HARDLY, _SLIGHT) * radius).astype(np.float32)
    bodies.separate(most_px)
    overlaps.weigh(bodies.place, bodies.velocity, given)
    for _ in range(force.rounds):
        if overlaps.is_outdated(bodies.place):
            overlaps.find(bodies.place)
            overlaps.weigh(bodies.place, bodies.velocity, given)
        bodies.advance(gain, drift, part_s)
        overlaps.undo(_FASTEST_APART * part_s, friction)
        bodies.displace(part_s)
    if overlaps.is_outdated(bodies.place):
        overlaps.find(bodies.place)
    bodies.separate(most_px)
    # Friction holds bodies that moved by less than their weight alone would have moved them.
    still_px = min(_RESTING, friction) * np.linalg.norm(given, axis=0) * together.h
    rests = (np.linalg.norm(bodies.place - together.before, axis=0) < still_px) & ~young
    bodies.place[:, rests], bodies.velocity[:, rests] = together.before[:, rests], 0
    moves = np.asarray((fixed == 0) & (share > 0), np.bool_)
    place[:, moves], together.velocity[:, moves] = bodies.place[:, moves], bodies.velocity[:, moves]
    return moves
