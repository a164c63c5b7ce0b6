"""Particles that interact: emitters that an interaction reaches are simulated together, from the first birth on.

A kind of interaction is one file here, which the registry names as its engine. It has `pack(force, setting)`, its parameters and
the strength that each particle feels, and one of: `velocity_pass(force, read, view, share)`, which returns changes of velocities;
`position_pass(force, read, view, share)`, which moves positions at the end of the step and returns which; `state_pass(force, read,
kin, share, kept)`, which changes what has happened to particles. Neighbours are found by a grid and read in a fixed order, so the
result depends neither on the number of threads nor on the order of visits.
"""

# It loads the engines of all kinds of forces, those here too: whichever is loaded first, they come in that order.
import isbjorn.core.simulate.forces  # noqa: F401
