"""A contact sheet: the states of a sweep in full quality on one picture, with their values written beside them."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np

from isbjorn.core.arrays import Floats
from isbjorn.core.deliver.burn import caption
from isbjorn.core.document import Shot
from isbjorn.core.document.editing.patching import patched
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.gradients import hex_to_linear
from isbjorn.core.explore.sweep import AxisValues, Sweep
from isbjorn.core.frame import Solver, render_frame
from isbjorn.core.media.read.plates import PlateReader

_GROUND = hex_to_linear("#0b141f")
# px: about the sheet, between cells, of a line of text, and of the column in which the values of rows stand.
_EDGE, _GAP, _LINE, _LEFT = 16, 6, 24, 96
_MOST_PIXELS = 60_000_000


def value_text(axis: AxisValues, value: float) -> str:
    """A value as it is written beside its cells."""
    return f"{value:g}{'' if axis.number.unit in ('°', '') else ' '}{axis.number.unit}"


def contact_sheet(
    shot: Shot, made: Sweep, frames: list[int], width: int, plates: PlateReader | None = None,
    stale: Callable[[], bool] | None = None,
) -> Iterator[Floats]:  # fmt: skip
    """The sheet at each of some frames: linear, float32 (h, w, 4), opaque. width: of a cell, px. Cells that are no valid state of
    the shot stay empty. Raises IsbjornError when the sheet would be too large, Stale when it is no longer wanted."""
    height = max(1, round(width * shot.height / shot.width))
    rows, columns = made.size
    below = _LINE if made.rows is None else 0
    left = 0 if made.rows is None else _LEFT
    top = _EDGE + _LINE + (0 if made.rows is None else _LINE)
    whole = (
        top + rows * (height + below + _GAP) - _GAP + _EDGE,
        2 * _EDGE + left + columns * (width + _GAP) - _GAP,
    )
    if whole[0] * whole[1] > _MOST_PIXELS:
        raise IsbjornError(
            f"the sheet would have {whole[1]} × {whole[0]} px.", "width", "Use smaller cells, or fewer of them."
        )
    plates = plates or PlateReader()
    solvers: dict[int, Solver] = {}
    for n, cell in enumerate(made.cells):
        try:
            solvers[n] = Solver(patched(shot, cell.changes), plates=plates)
        except IsbjornError:
            continue
    empty = np.empty((*whole, 4), np.float32)
    empty[:] = [*_GROUND, 1.0]
    for frame in frames:
        out = empty.copy()
        caption(out, _title(shot, made, frame), _EDGE, _EDGE + 4, whole[1] - 2 * _EDGE)
        if made.rows is not None:
            # The highest value is in the upper row.
            for r, value in enumerate(reversed(made.rows.values)):
                y = top + r * (height + _GAP) + height // 2
                caption(out, value_text(made.rows, value), _EDGE, y, _LEFT - _GAP)
            for c, value in enumerate(made.columns.values):
                text = value_text(made.columns, value)
                caption(out, text, _EDGE + left + c * (width + _GAP), _EDGE + _LINE + 4, width)
        for n, cell in enumerate(made.cells):
            x = _EDGE + left + cell.column * (width + _GAP)
            y = top + cell.row * (height + below + _GAP)
            if n in solvers:
                scale = width / shot.width
                picture = render_frame(solvers[n].shot, frame, scale, solver=solvers[n], plates=plates, stale=stale)
                seen = picture[:height, :width]
                out[y : y + seen.shape[0], x : x + seen.shape[1], :3] = seen[..., :3]
            if made.rows is None:
                caption(out, value_text(made.columns, cell.values[0]), x, y + height + _LINE // 2, width)
        yield out


def _title(shot: Shot, made: Sweep, frame: int) -> str:
    words = [""] if made.rows is None else [" across", " up"]
    named = ", ".join(
        f"{axis.number.owner} – {axis.number.label}{word}" for axis, word in zip(made.axes, words, strict=True)
    )
    return f"{shot.name} · {named} · frame {frame}"
