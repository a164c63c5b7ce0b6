"""A writer of heights of the light, and a check of the Lookout."""

from __future__ import annotations

import numpy as np

from isbjorn.core.inspect.lookout.notes import Note


def write_heights(path, picture, form, alpha, about, layers=()):  # type: ignore[no-untyped-def]
    rows = picture[..., :3].sum(axis=(1, 2))
    path.write_text(f"{len(rows) / 2 - float(np.average(np.arange(len(rows)) + 0.5, weights=rows + 1e-9)):.2f}\n")


def ebbing(watch):  # type: ignore[no-untyped-def]
    for force in watch.shot.forces:
        if type(force).__name__ == "Tide" and watch.read(force.strength) < 0:
            yield Note(kind="ebb", thing=force.id, level="hint", what=f"{force.name} ebbs.", why="It is below 0.")
