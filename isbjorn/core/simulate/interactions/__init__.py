"""Particles that know of each other: emitters that a meeting reaches are stepped together, from the first birth on.

A kind of meeting is one file here, which the registry names as its engine. It has `pack(force, setting)`, its rows of numbers with
the strength that each feels; and one of: `sway(force, read, together, share)`, what it adds to velocities; `settle(force, read,
together, share)`, which moves places once the step is done, and says whose; `turn(force, read, kin, share, kept)`, which changes
what has happened to whom. Neighbours are found by a grid and gathered in a fixed order, so the result hangs neither on the number
of threads nor on the order of visits.
"""

# It loads the engines of all kinds of forces, those here too: whichever is loaded first, they come in that order.
import isbjorn.core.simulate.forces  # noqa: F401
