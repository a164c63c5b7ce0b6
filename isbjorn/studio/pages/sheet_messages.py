"""What a page and the studio say to each other of a sheet: requests, the cells of a sweep or of variations, headers of pictures."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any, Literal

from pydantic import BaseModel, Field

from isbjorn.core.document import Shot
from isbjorn.core.document.fields.base import LARGEST_SEED
from isbjorn.core.errors import IsbjornError
from isbjorn.core.explore.contact_sheet import value_text
from isbjorn.core.explore.number_at import NumberName, number_names
from isbjorn.core.explore.sweep import LEAST, MOST, Axis, AxisValues, Spacing, Sweep, narrowed, sweep
from isbjorn.core.explore.variations import Values, changeable, changes_to
from isbjorn.studio.pages.page_session import FrameNumber

# A loop lasts about this long, and has so many pictures at most.
_LOOP_S, _LONGEST_LOOP = 1.5, 48
_MOST_NUMBERS = 2000
# The width of a cell, px.
LARGEST_PX = 640

# Values of numbers by their JSON pointers.
Look = Annotated[dict[str, Annotated[float, Field(ge=-1e9, le=1e9)]], Field(max_length=_MOST_NUMBERS)]


class Around(BaseModel):
    """The range of each axis is narrowed about a value, to a share of itself; a share above 1 widens it."""

    column: float
    row: float | None = None
    by: float = Field(default=0.5, ge=0.01, le=100)


class SheetAsk(BaseModel):
    """A message of the page. `sweep`: show a sheet of one or two numbers over their ranges; `vary`: of other looks of an emitter or
    group; `stop`: draw nothing more."""

    kind: Literal["sweep", "vary", "stop"]
    columns: Axis | None = None
    rows: Axis | None = None
    count: int = Field(default=3, ge=LEAST, le=MOST)
    frame: FrameNumber = 0
    width: int = Field(default=240, ge=16, le=LARGEST_PX, description="Width of a cell, px.")
    loop: int = Field(default=0, ge=0, le=_LONGEST_LOOP, description="Pictures of a loop; 0: a still.")
    around: Around | None = None
    thing: str = Field(default="", max_length=60, description="Id of the emitter or group that varies.")
    locked: list[str] = Field(default=[], max_length=_MOST_NUMBERS, description="Pointers of numbers that stay.")
    strength: float = Field(default=0.5, ge=0.01, le=1, description="How far numbers change.")
    seed: int = Field(default=1, ge=0, le=LARGEST_SEED)
    parents: list[Look] = Field(
        default=[], max_length=2,
        description="Looks that variations come from, as values by the pointers of their numbers; the first is in the middle.",
    )  # fmt: skip


class AxisState(BaseModel):
    """One axis of a sheet: its number, which range of it is shown, and the values."""

    path: str
    owner: str
    label: str
    unit: str
    low: float
    high: float
    step: float
    now: float
    start: float
    end: float
    spacing: Spacing
    values: list[float]


class SheetCell(BaseModel):
    """A cell in drawing order: its place on the sheet, and the changes that lead to it. current: the shot is already so."""

    row: int
    column: int
    label: str = Field(description="What it is, in words.")
    values: list[float] = Field(default=[], description="Of a sweep: value of the column's number, and of the row's.")
    look: dict[str, float] = Field(default={}, description="Of a variation: values by the pointers of their numbers.")
    changes: list[dict[str, Any]]
    current: bool


class SheetState(BaseModel):
    """A sheet that is being drawn."""

    kind: Literal["sheet"] = "sheet"
    serial: int
    columns: AxisState | None = None
    rows: AxisState | None = None
    size: tuple[int, int] = Field(description="Rows and columns.")
    cells: list[SheetCell]
    frames: list[int] = Field(description="Frames of the loop, or the only one.")
    interval_s: float = Field(description="Seconds between two pictures of the loop.")
    numbers: list[NumberName] = Field(description="The numbers that may be swept, or may vary.")


class SheetHeader(BaseModel):
    """What comes with a picture of a sheet. cell: its place in the list of cells; picture: in the list of frames."""

    serial: int
    cell: int
    picture: int
    exact: bool


def _axis_state(axis: AxisValues) -> AxisState:
    n = axis.number
    return AxisState(
        path=n.path, owner=n.owner, label=n.label, unit=n.unit, low=n.low, high=n.high, step=n.step, now=n.value,
        start=axis.start, end=axis.end, spacing=axis.spacing, values=list(axis.values),
    )  # fmt: skip


def sweep_of(shot: Shot, ask: SheetAsk) -> Sweep:
    """The sheet that is asked for. Raises IsbjornError when it cannot be made of this shot."""
    if ask.columns is None:
        raise IsbjornError("a sheet needs a number.", "columns", "Select the number to be swept.")
    t, columns, rows, about = moment_of(shot, ask), ask.columns, ask.rows, ask.around
    if about is not None:
        made = sweep(shot, columns, rows, ask.count, t)
        columns = narrowed(made.columns, about.column, about.by)
        if made.rows is not None and about.row is not None:
            rows = narrowed(made.rows, about.row, about.by)
    return sweep(shot, columns, rows, ask.count, t)


def moment_of(shot: Shot, ask: SheetAsk) -> float:
    """Shot time at which a sheet is asked for, s."""
    return float(shot.seconds(shot.nearest_frame(ask.frame)))


def loop_frames(shot: Shot, frame: int, count: int) -> list[int]:
    """The frames of a loop of `count` pictures from a frame on, within the shot."""
    frame = shot.nearest_frame(frame)
    if count < LEAST:
        return [frame]
    step = max(1, round(_LOOP_S * float(shot.frame_rate) / count))
    count = min(count, (shot.last_frame - shot.first_frame) // step + 1)
    first = max(shot.first_frame, min(frame, shot.last_frame - (count - 1) * step))
    return [first + n * step for n in range(count)]


def _interval_s(shot: Shot, frames: list[int]) -> float:
    step = frames[1] - frames[0] if len(frames) > 1 else 1
    return float(step / shot.frame_rate)


def sweep_state(serial: int, shot: Shot, made: Sweep, frames: list[int]) -> SheetState:
    """A sweep, as the page gets it."""
    now = tuple(axis.number.value for axis in made.axes)
    cells = [
        SheetCell(
            row=cell.row,
            column=cell.column,
            label=", ".join(
                f"{axis.number.label} {value_text(axis, value)}"
                for axis, value in zip(made.axes, cell.values, strict=True)
            ),
            values=list(cell.values),
            changes=list(cell.changes),
            current=cell.values == now,
        )
        for cell in made.cells
    ]
    return SheetState(
        serial=serial,
        columns=_axis_state(made.columns),
        rows=None if made.rows is None else _axis_state(made.rows),
        size=made.size,
        cells=cells,
        frames=frames,
        interval_s=_interval_s(shot, frames),
        numbers=number_names(shot)[:_MOST_NUMBERS],
    )


def variations_state(serial: int, shot: Shot, ask: SheetAsk, looks: Sequence[Values], frames: list[int]) -> SheetState:
    """A sheet of looks, the first in the middle, the others around it in the order of their difference."""
    numbers = changeable(shot, ask.thing)
    labels = {number.path: (label, number.value) for number, label in numbers}
    t = moment_of(shot, ask)

    def words(look: Values) -> str:
        known = [(*labels[path], value) for path, value in look.items() if path in labels]
        parts = [f"{label} {now:.4g} → {value:.4g}" for label, now, value in known if now != value]
        return ", ".join(parts) or "As the shot is"

    places = sorted(((r, c) for r in range(3) for c in range(3)), key=lambda at: (at != (1, 1), at))
    cells = [
        SheetCell(row=r, column=c, label=words(look), look=look, changes=changes_to(shot, look, t), current=not look)
        for (r, c), look in zip(places, looks, strict=False)
    ]
    choices = [NumberName(path=n.path, thing=ask.thing, owner=n.owner, label=label) for n, label in numbers]
    return SheetState(
        serial=serial, size=(3, 3), cells=cells, frames=frames, interval_s=_interval_s(shot, frames), numbers=choices
    )
