"""Types of the tables that kernels of motion share."""

from __future__ import annotations

from numba import f4, types

from isbjorn.core.arrays import Doubles, Floats

# What surfaces are made of: mattes (k, rows, columns) as signed distances in cells, and the trees of models in a row.
Solids = tuple[Floats, Floats]
SOLIDS = "Tuple((f4[:,:,::1], f4[::1]))"
SOLIDS_TYPE = types.Tuple((f4[:, :, ::1], f4[::1]))  # type: ignore[no-untyped-call]
# Zones: rows (steps, zones, columns), and the trees of models in a row.
Zones = tuple[Doubles, Floats]
ZONES = "Tuple((f8[:,:,::1], f4[::1]))"
