"""The births of an emitter and what reads them: at a rate and in bursts, from a recording, or of its pieces."""

from __future__ import annotations

from typing import Any

from isbjorn.core.document import Emitter, Shot
from isbjorn.core.emit.births import Births, births_of
from isbjorn.core.emit.newborn import BirthSource
from isbjorn.core.emit.pieces.flights import PieceBirths, PieceSource
from isbjorn.core.emit.recorded import RecordedBirths, RecordedSource
from isbjorn.core.evaluate.readings import Readings


def source_of(emitter: Emitter, key: int, readings: Readings, light: Any = None) -> BirthSource:
    """Readers of an emitter at the moments of its births."""
    if emitter.recording is not None:
        return RecordedSource(emitter, key, readings, light)
    return (BirthSource if emitter.pieces is None else PieceSource)(emitter, key, readings, light)


def own_births(shot: Shot, emitter: Emitter, key: int, readings: Readings) -> Births:
    """The births of an emitter that has no parent; its stream key is `key`."""
    if emitter.recording is not None:
        return RecordedBirths(emitter, key, readings, float(shot.frame_rate), float(shot.length_s))
    if emitter.pieces is not None:
        return PieceBirths(emitter, key, readings, float(shot.frame_rate), float(shot.length_s))
    return births_of(shot, emitter, key, readings)
