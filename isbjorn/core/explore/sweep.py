"""Sweep: one or two numbers over a range each, and the states of the shot that come of it, on a sheet."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
from pydantic import BaseModel, Field

from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.explore.number_at import NumberAt, number_at

Spacing = Literal["even", "ratio"]
MOST, LEAST = 7, 2
# A proposal reaches from the value through this factor to it times the factor; of angles, so many degrees to both sides.
_FACTOR, _ANGLE = 4.0, 60.0
# From nothing, so many steps.
_STEPS = 20
# A narrower range is this part of the wider one.
_NARROW = 0.5


class Axis(BaseModel):
    """The values of a number on a sheet. Without a start and an end they are proposed."""

    path: str = Field(max_length=400, description="JSON pointer of the number.")
    start: float | None = Field(default=None, ge=-1e9, le=1e9)
    end: float | None = Field(default=None, ge=-1e9, le=1e9)
    spacing: Spacing | None = Field(default=None, description="even: by the same step; ratio: by the same factor.")


@dataclass(frozen=True)
class AxisValues:
    """A number, the range and spacing of its values, and those."""

    number: NumberAt
    start: float
    end: float
    spacing: Spacing
    values: tuple[float, ...]

    @property
    def shown(self) -> Axis:
        """The axis with this range."""
        return Axis(path=self.number.path, start=self.start, end=self.end, spacing=self.spacing)


def proposed(number: NumberAt) -> tuple[float, float, Spacing]:
    """A range about the present value of a number: start, end and spacing."""
    now, low, high = number.value, number.low, number.high
    if number.unit == "°":
        return max(low, now - _ANGLE), min(high, now + _ANGLE), "even"
    if number.unit == "%" and low == 0 and high == 100:
        return low, high, "even"
    if now == 0 or (number.whole and abs(now) < _FACTOR):
        far = _STEPS * number.step if not number.whole else 8
        return max(low, now - (0 if low >= 0 else far)), min(high, now + far), "even"
    if low >= 0 and now / _FACTOR >= low:
        return max(low, now / _FACTOR), min(high, now * _FACTOR), "ratio"
    return max(low, now - abs(now)), min(high, now + abs(now)), "even"


def _rounded(values: np.ndarray[Any, np.dtype[np.float64]], number: NumberAt) -> tuple[float, ...]:
    """Values as a person would type them, without repetitions: as few digits as tell neighbours apart."""
    if number.whole:
        return tuple(sorted({float(round(value)) for value in values.tolist()}))
    gap = float(np.min(np.abs(np.diff(values)))) if len(values) > 1 else abs(number.value)
    digits = max(0, 2 - math.floor(math.log10(gap))) if gap > 0 else 6
    near = np.abs(values - number.value) <= 1e-9 * max(1.0, abs(number.value))
    rounded = [round(value, min(digits, 9)) for value in values.tolist()]
    return tuple(dict.fromkeys(number.value if near[n] else value for n, value in enumerate(rounded)))


def axis_values(shot: Shot, axis: Axis, count: int, t: float) -> AxisValues:
    """The values (at most `count`) of an axis at shot time t in s. Raises IsbjornError where there is no such number."""
    number = number_at(shot, axis.path, t)
    start, end, spacing = proposed(number)
    if axis.start is not None and axis.end is not None:
        start, end, spacing = axis.start, axis.end, axis.spacing or "even"
    start, end = (min(number.high, max(number.low, edge)) for edge in (min(start, end), max(start, end)))
    if spacing == "ratio" and start <= 0:
        spacing = "even"
    made = np.geomspace(start, end, count) if spacing == "ratio" else np.linspace(start, end, count)
    return AxisValues(number, start, end, spacing, _rounded(made, number))


def narrowed(axis: AxisValues, value: float, by: float = _NARROW) -> Axis:
    """An axis over a range about a value: this part of the present one, within the number's; a part above 1 widens it."""
    low, high = axis.number.low, axis.number.high
    if axis.spacing == "ratio" and value > 0:
        factor = (axis.end / axis.start) ** (by / 2)
        start, end = value / factor, value * factor
    else:
        half = (axis.end - axis.start) * by / 2
        start, end = value - half, value + half
    return replace(axis, start=max(low, start), end=min(high, end)).shown


@dataclass(frozen=True)
class Cell:
    """A state of the shot on a sheet: its row and column, the values of the column's number and of the row's, if there is one, and
    the JSON Patch that leads to it."""

    row: int
    column: int
    values: tuple[float, ...]
    changes: tuple[dict[str, Any], ...]


@dataclass(frozen=True)
class Sweep:
    """A sheet of states. rows is None where one number alone is swept: its values are then read line by line."""

    columns: AxisValues
    rows: AxisValues | None
    cells: tuple[Cell, ...]

    @property
    def axes(self) -> tuple[AxisValues, ...]:
        """That of the columns, and that of the rows if there is one."""
        return (self.columns,) if self.rows is None else (self.columns, self.rows)

    @property
    def size(self) -> tuple[int, int]:
        """Rows and columns."""
        return max(cell.row for cell in self.cells) + 1, max(cell.column for cell in self.cells) + 1


def sweep(shot: Shot, columns: Axis, rows: Axis | None, count: int, t: float) -> Sweep:
    """A sheet of at most `count` × `count` states at shot time t in s, those in the middle first."""
    if not LEAST <= count <= MOST:
        raise IsbjornError(
            f"a sheet has {LEAST} to {MOST} rows and columns.", "count", "Select another number of them."
        )
    if rows is None:
        across = axis_values(shot, columns, count * count, t)
        cells = [
            Cell(n // count, n % count, (value,), tuple(across.number.changes(value)))
            for n, value in enumerate(across.values)
        ]
        return Sweep(across, None, _from_the_middle(cells))
    if rows.path == columns.path:
        raise IsbjornError("both axes sweep the same number.", rows.path, "Select another number for the rows.")
    across, down = axis_values(shot, columns, count, t), axis_values(shot, rows, count, t)
    cells = [
        Cell(r, c, (x, y), (*across.number.changes(x), *down.number.changes(y)))
        # What is more is higher.
        for r, y in enumerate(reversed(down.values)) for c, x in enumerate(across.values)
    ]  # fmt: skip
    return Sweep(across, down, _from_the_middle(cells))


def _from_the_middle(cells: list[Cell]) -> tuple[Cell, ...]:
    """Cells in the order of their distance from the middle of the sheet."""
    middle_row = max(cell.row for cell in cells) / 2
    middle_column = max(cell.column for cell in cells) / 2
    return tuple(
        sorted(
            cells,
            key=lambda one: ((one.row - middle_row) ** 2 + (one.column - middle_column) ** 2, one.row, one.column),
        )
    )
