"""What a force does over the picture: the engine's own feeling of it, asked on a grid."""

from __future__ import annotations

from typing import Any

import numpy as np

from isbjorn.core.document import Emitter, Link, Shot
from isbjorn.core.emit.newborn import BirthSource
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.render.scene.camera import Projection
from isbjorn.core.simulate.forces import accumulators
from isbjorn.core.simulate.forces.displacement import displace
from isbjorn.core.simulate.forces.force_layout import OWN, SPREAD, TILT_SPREAD, WAY_SPREAD
from isbjorn.core.simulate.integrators import world
from isbjorn.core.simulate.integrators.stepped import pack_world
from isbjorn.core.simulate.track import key_of

_ACROSS = 20
_AGE01 = 0.5
_LONGEST = 0.8
Arrow = tuple[float, float, float, float]


def arrows_of(
    shot: Shot, readings: Readings, view: Projection, force: Any, emitter: Emitter | None, t: float
) -> list[Arrow]:
    """Arrows of a force on a grid over the picture plane, at half of life, in px of the picture; none for what has no field."""
    if not force.has_field:
        return []
    probe = emitter or Emitter(id="nobody")
    update: dict[str, Any] = {
        "forces": (force.model_copy(update={"on": True}),), "links": (Link(force=force.id, emitter=probe.id),),
        "emitters": shot.emitters if emitter is not None else (probe,),
    }  # fmt: skip
    alone = shot.model_copy(update=update)
    source = BirthSource(probe, key_of(shot, probe), readings)
    tables = pack_world(alone, source, readings, force.stage, np.array([t]), 0.0)
    tables.rows[..., [SPREAD, WAY_SPREAD, TILT_SPREAD]] = 0.0
    down = max(1, round(_ACROSS * shot.height / shot.width))
    cell = shot.width / _ACROSS
    x, y = np.meshgrid(
        (np.arange(_ACROSS) + 0.5) * cell - shot.width / 2, (np.arange(down) + 0.5) * cell - down * cell / 2
    )
    places = np.stack([x.ravel(), y.ravel(), np.zeros(x.size)], axis=1)
    ways = _ways(tables, source.key, force, places)
    length = np.linalg.norm(ways, axis=1)
    longest = float(length.max())
    if longest <= 1e-9:
        return []
    here = length > 0.02 * longest
    ends = places[here] + ways[here] / longest * cell * _LONGEST
    a, _ = view.place(places[here])
    b, _ = view.place(ends)
    return [tuple(row) for row in np.concatenate([a, b - a], axis=1).astype(np.float64).round(1).tolist()]


def _ways(tables: Any, key: int, force: Any, places: Any) -> Any:
    """What happens at places (n, 3): the air's velocity, the acceleration, or the shift."""
    count, k = len(places), np.uint64(key)
    if force.stage == "look":
        values, never = np.zeros((6, count), np.float32), np.full(count, -1, np.float32)
        values[:3] = places.T
        ages = np.full(count, _AGE01, np.float32)
        displace(tables.rows, tables.zoned, tables.curves, key, np.arange(count), ages, never, never, values)
        return values[:3].T - places
    out = np.zeros((count, 3))
    acts, at = np.zeros(accumulators.SIZE), np.zeros(8)
    # Nothing has happened yet.
    at[6:] = -1.0
    for n, place in enumerate(places):
        if force.carries:
            step = 1e-3
            x, y, z = place.tolist()
            end = world.swirled(
                tables.rows, tables.zoned, tables.curves, 0, k, 0, _AGE01, 1.0, 0.0, 0.0, 0.0, -1.0, -1.0, x, y, z, step
            )
            out[n] = (np.array(end) - place) / step
            continue
        at[:3] = place
        world.feel(tables.rows, tables.zoned, tables.curves, tables.paths, 0, k, 0, _AGE01, 1.0, at, acts)
        # The zone weakens the grip: it is shown as a weaker wind.
        grip = float(tables.rows[0, 0, OWN]) if acts[accumulators.GRIP] > 0 else 0.0
        out[n] = acts[accumulators.AIR : accumulators.AIR + 3] / grip if grip > 0 else acts[:3]
    return out
